package main

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"os"
	"slices"
	"sync"
	"text/tabwriter"
	"time"

	"varnet/internal/contract"
)

const (
	formsPort     = 2738
	formsVisitors = 50 // a second
	formsTime     = 60 * time.Second
	formsAlone    = 100 // questions of one visitor at a time, before
	formsOrigin   = "https://www.fernhollow.example"
)

// visit is what a visitor felt.
type visit struct {
	took   time.Duration
	answer string
}

// forms has many visitors type addresses into a form, each another one, at hosts 20 ms away, and
// measures within how long they are answered, beside visitors who come one after the other. A fifth
// of them type what somebody typed before.
func forms() error {
	w, err := farWorld([]int{40, 30, 20, 10}, 50)
	if err != nil {
		return err
	}
	in, err := install(w, formsPort)
	if err != nil {
		return err
	}
	defer in.stop()
	k, err := in.api.MakeKey(context.Background(), contract.NewKey{Name: "form", Scopes: []string{"form"}, Origins: []string{formsOrigin}})
	if err != nil {
		return err
	}
	all := addressesOf(w, formsAlone+formsVisitors*int(formsTime/time.Second))
	rand.New(rand.NewPCG(1, 1)).Shuffle(len(all), func(i, j int) { all[i], all[j] = all[j], all[i] })
	var alone []visit
	for n := range formsAlone {
		v, err := asForm(in, k.Key, n, all[n])
		if err != nil {
			return err
		}
		alone = append(alone, v)
	}
	many, err := manyVisitors(in, k.Key, all[formsAlone:])
	if err != nil {
		return err
	}
	t := tabwriter.NewWriter(os.Stdout, 0, 8, 2, ' ', tabwriter.AlignRight)
	fmt.Fprintf(t, "visitors\tquestions\tp50\tp95\tp99\tlongest\tanswered in time\t\n")
	row := func(what string, visits []visit) (p95 time.Duration) {
		var took []time.Duration
		known := 0
		for _, v := range visits {
			took = append(took, v.took)
			if v.answer != "not-known" {
				known++
			}
		}
		slices.Sort(took)
		p95 = quantile(took, 0.95)
		fmt.Fprintf(t, "%s\t%d\t%.0f ms\t%.0f ms\t%.0f ms\t%.0f ms\t%d\t\n", what, len(visits), ms(quantile(took, 0.5)), ms(p95), ms(quantile(took, 0.99)), ms(took[len(took)-1]), known)
		return p95
	}
	one := row("one at a time", alone)
	p95 := row(fmt.Sprintf("%d a second", formsVisitors), many)
	_ = t.Flush()
	return judge([]bar{
		{what: "p95 of the answer beside 50 visitors a second", figure: ms(p95), bar: 1600, atMost: true, unit: " ms"},
		{what: "the same, by that of one visitor at a time", figure: float64(p95) / float64(one), bar: 3, atMost: true, unit: " times"},
	})
}

// manyVisitors come at an even pace, whether or not those before are answered.
func manyVisitors(in *installation, key string, all []string) (visits []visit, err error) {
	var mu sync.Mutex
	var wg sync.WaitGroup
	tick := time.NewTicker(time.Second / formsVisitors)
	defer tick.Stop()
	for n := range all {
		<-tick.C
		typed := all[n]
		if n%5 == 4 {
			typed = all[n-4]
		}
		wg.Go(func() {
			v, failed := asForm(in, key, 1000+n, typed)
			mu.Lock()
			defer mu.Unlock()
			if failed != nil {
				err = failed
			}
			visits = append(visits, v)
		})
	}
	wg.Wait()
	return visits, err
}

// asForm asks as the script in the page of the nth visitor does.
func asForm(in *installation, key string, n int, address string) (visit, error) {
	body, _ := json.Marshal(contract.OneAddress{Address: address})
	req, err := http.NewRequestWithContext(context.Background(), http.MethodPost, in.url+"/api/v1/forms/check", bytes.NewReader(body))
	if err != nil {
		return visit{}, err
	}
	for name, value := range map[string]string{"Authorization": "Bearer " + key, "Content-Type": "application/json", "Origin": formsOrigin, "X-Forwarded-For": fmt.Sprintf("10.%d.%d.%d", n>>16, n>>8&255, n&255)} {
		req.Header.Set(name, value)
	}
	begun := time.Now()
	resp, err := http.DefaultClient.Do(req)
	if err != nil {
		return visit{}, err
	}
	defer resp.Body.Close()
	text, err := io.ReadAll(resp.Body)
	took := time.Since(begun)
	if err != nil || resp.StatusCode != http.StatusOK {
		return visit{}, fmt.Errorf("%s: %s, %w", resp.Status, text, err)
	}
	var told contract.FormAnswer
	return visit{took, told.Answer}, json.Unmarshal(text, &told)
}
