package account

import (
	"fmt"
	"net/http"
	"net/http/httptest"
	"sync"
	"sync/atomic"
	"testing"
	"time"
)

// TestProviderIsAskedTogether: whoever signs in while a provider is asked what it is waits for the one answer, also where
// it is none; what it says is kept, of one provider, and nothing of a failure.
func TestProviderIsAskedTogether(t *testing.T) {
	const people = 8
	var asked, fails atomic.Int32
	answer := make(chan bool)
	var provider *httptest.Server
	provider = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		asked.Add(1)
		<-answer
		if fails.Load() > 0 {
			w.WriteHeader(http.StatusServiceUnavailable)
			return
		}
		fmt.Fprintf(w, `{"issuer": %q, "authorization_endpoint": "%[1]s/authorize", "token_endpoint": "%[1]s/token", "jwks_uri": "%[1]s/keys"}`, provider.URL)
	}))
	defer provider.Close()
	var c providerCache
	// together returns how many of those who ask at once are told of a failure.
	together := func() int32 {
		var failed atomic.Int32
		var all, begun sync.WaitGroup
		begun.Add(people)
		for range people {
			all.Go(func() {
				begun.Done()
				if p, err := c.get(provider.URL); err != nil || p.Endpoint().TokenURL != provider.URL+"/token" {
					failed.Add(1)
				}
			})
		}
		begun.Wait()
		time.Sleep(50 * time.Millisecond) // until they wait
		done := make(chan bool)
		go func() { all.Wait(); close(done) }()
		for {
			select {
			case answer <- true:
			case <-done:
				return failed.Load()
			}
		}
	}
	fails.Store(1)
	if failed := together(); failed != people || asked.Load() >= people {
		t.Errorf("asked %d times, and %d of %d were told of a failure", asked.Load(), failed, people)
	}
	fails.Store(0)
	asked.Store(0)
	if failed := together() + together(); failed != 0 || asked.Load() != 1 {
		t.Errorf("asked %d times, and %d were told of a failure", asked.Load(), failed)
	}
	close(answer)
	if _, err := c.get(provider.URL + "/other"); err == nil {
		t.Error("another provider is taken for the one that is kept")
	}
}
