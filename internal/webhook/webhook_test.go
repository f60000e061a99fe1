package webhook_test

import (
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"varnet/internal/webhook"
)

// A receiver takes what is signed by its secret, and each event once.
func ExampleVerify() {
	const secret = "whsec_MfKQ9r8GKYqrTwjUPD8ILPZIo2LaLaSw2YjCPHBzfUk="
	seen := map[string]bool{}
	receiver := http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		body, err := io.ReadAll(http.MaxBytesReader(w, r.Body, 1<<20))
		if err != nil {
			http.Error(w, "too long", http.StatusRequestEntityTooLarge)
			return
		}
		id, err := webhook.Verify(secret, r.Header, body, time.Now())
		if err != nil {
			http.Error(w, err.Error(), http.StatusUnauthorized)
			return
		}
		if !seen[id] { // a repeat is answered like the first
			seen[id] = true
			fmt.Printf("%s: %s\n", id, body)
		}
		w.WriteHeader(http.StatusNoContent)
	})

	body := `{"code":"run.finished"}`
	for range 2 {
		call := httptest.NewRequest(http.MethodPost, "/varnet", strings.NewReader(body))
		_ = webhook.Sign(call.Header, "5f0c1f0e", time.Now(), []byte(body), secret)
		answer := httptest.NewRecorder()
		receiver.ServeHTTP(answer, call)
		fmt.Println(answer.Code)
	}
	// Output:
	// 5f0c1f0e: {"code":"run.finished"}
	// 204
	// 204
}

// TestSignature holds a signature against one that was computed apart, with
// printf '%s' 'msg_1.1760000000.{"a":1}' | openssl dgst -sha256 -mac HMAC -macopt hexkey:… -binary | base64.
func TestSignature(t *testing.T) {
	const secret = "whsec_AAECAwQFBgcICQoLDA0ODxAREhMUFRYXGBkaGxwdHh8="
	h := http.Header{}
	if err := webhook.Sign(h, "msg_1", time.Unix(1760000000, 0), []byte(`{"a":1}`), secret); err != nil {
		t.Fatal(err)
	}
	if got := h.Get(webhook.Signature); got != "v1,K4eVaQBOKkuMMhStppuykvSfbOHSgmxSjuclEt0HaUM=" {
		t.Errorf("the signature is %s", got)
	}
}

func TestVerify(t *testing.T) {
	now, body := time.Now(), []byte(`{"code":"run.finished"}`)
	one, other := webhook.NewSecret(), webhook.NewSecret()
	signed := func(at time.Time, secrets ...string) http.Header {
		h := http.Header{}
		if err := webhook.Sign(h, "id-1", at, body, secrets...); err != nil {
			t.Fatal(err)
		}
		return h
	}
	without := signed(now, one)
	without.Del(webhook.Timestamp)
	moved := signed(now, one)
	moved.Set(webhook.ID, "id-2")
	for name, x := range map[string]struct {
		h      http.Header
		secret string
		body   string
		want   error
	}{
		"as signed":              {signed(now, one), one, string(body), nil},
		"by the secret before":   {signed(now, other, one), one, string(body), nil},
		"by another secret":      {signed(now, other), one, string(body), webhook.ErrForged},
		"another body":           {signed(now, one), one, string(body) + " ", webhook.ErrForged},
		"another id":             {moved, one, string(body), webhook.ErrForged},
		"not signed":             {without, one, string(body), webhook.ErrUnsigned},
		"sent again later":       {signed(now.Add(-6*time.Minute), one), one, string(body), webhook.ErrOld},
		"from the future":        {signed(now.Add(6*time.Minute), one), one, string(body), webhook.ErrOld},
		"with a text, no secret": {signed(now, one), "swordfish", string(body), webhook.ErrSecret},
	} {
		id, err := webhook.Verify(x.secret, x.h, []byte(x.body), now)
		if !errors.Is(err, x.want) || err == nil && id != "id-1" {
			t.Errorf("%s: %q, %v", name, id, err)
		}
	}
}
