package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"
	"sync"
	"text/tabwriter"
	"time"

	"varnet/internal/client"
	"varnet/internal/contract"
	"varnet/internal/steal"
)

// The crowd: people who click, and programs that check single addresses, alone and while a large run, imports
// and exports go on.
const (
	crowdFor      = 40 * time.Second
	crowdRows     = 1_000_000 // of the list that runs, is looked at and is exported
	crowdImport   = 100_000   // of the lists that are imported meanwhile
	crowdCheckers = 4
	crowdEvery    = 200 * time.Millisecond // a program checks an address
	crowdCheck    = 20                     // ms: the bar of our own share of a check
	crowdPage     = 150                    // ms: that of a page
)

// crowd measures what a person at the keyboard waits, with hosts that answer at once. They do so on the same
// processors, which the run keeps busy: what they take of a check is measured beside it.
func crowd() error {
	in, err := installPlain(2719)
	if err != nil {
		return err
	}
	defer in.stop()
	if err := in.roomy(); err != nil {
		return err
	}
	run, err := in.large(in.net.World, crowdRows)
	if err != nil {
		return err
	}
	taken := steal.Since()
	alone, calmAlone, err := in.clicks(run)
	if err != nil {
		return err
	}
	takenAlone := taken()
	rest, did, err := in.busily(run)
	if err != nil {
		return err
	}
	taken = steal.Since()
	beside, calmBeside, err := in.clicks(run)
	takenBeside := taken()
	if err := errors.Join(err, rest()); err != nil {
		return err
	}
	tellCrowd(fmt.Sprintf("%d people and %d programs, %v each", loadReaders, crowdCheckers, crowdFor), alone, beside)
	fmt.Printf("meanwhile: %s; the host gave others %.0f %% of the processors' time, and %.0f %% while they were alone\n\n", did(), takenBeside, takenAlone)
	tellCrowd("of these, in moments in which it gave nothing", calmAlone, calmBeside)
	peak, err := peakMB(in.pid)
	if err != nil {
		return err
	}
	var bars []bar
	for _, k := range crowdKinds {
		what, at := k, float64(crowdPage)
		switch k {
		case aCheck, bareCheck:
			continue
		case ownShare:
			what, at = "our share of "+aCheck, crowdCheck
		}
		bars = append(bars, bar{"p95 of " + what + ", beside all that", ms(beside[k].share(0.95)), at, true, " ms"})
	}
	bars = append(bars, calmBar(calmBeside[ownShare], "p95 of our share of "+aCheck+", beside all that", crowdCheck)...)
	return judge(append(bars, bar{"peak memory of the service", peak, 300, true, " MB"}))
}

const (
	aCheck = "a single check"
	// bareCheck is what the mail hosts take of it: the same questions, asked right after it by a process that does
	// nothing else.
	bareCheck = "of which the hosts"
	// ownShare is the rest: each check less the bare questions after it.
	ownShare = "of which our share"
)

var crowdKinds = []string{aCheck, bareCheck, ownShare, "lists", "a run", "a page of results", "a page by finding", "counts of a filter", "a preview of a file"}

// triedBy counts each kind by itself.
func triedBy() map[string]*tried {
	by := map[string]*tried{}
	for _, k := range crowdKinds {
		by[k] = &tried{errors: map[string]int{}}
	}
	return by
}

// calmBar holds the p95 of what began in calm moments against a bar, too, where there are enough of them to tell.
func calmBar(of *tried, what string, at float64) []bar {
	if len(of.done) < 100 {
		fmt.Printf("too few of these to hold them against the bar: %d\n", len(of.done))
		return nil
	}
	return []bar{{what + ", in calm moments", ms(of.share(0.95)), at, true, " ms"}}
}

// clicks has people click and programs check for a while, and returns how long each kind took: all of them, and those
// that began in moments in which the host gave nothing to others.
func (in *installation) clicks(run int64) (by, inCalm map[string]*tried, err error) {
	by = triedBy()
	watch := steal.Begin()
	defer watch.End()
	ctx, cancel := context.WithTimeout(context.Background(), crowdFor)
	defer cancel()
	var all sync.WaitGroup
	for n := range loadReaders {
		all.Go(func() { in.reader(ctx, n, run, by) })
	}
	addresses, hosts := addressesOf(in.net.World, 50_000), hostsByDomain(in.net)
	for n := range crowdCheckers {
		p, err := in.program()
		if err != nil {
			return nil, nil, err
		}
		defer p.stop()
		all.Go(func() {
			tick := time.NewTicker(crowdEvery)
			defer tick.Stop()
			for i := n; ctx.Err() == nil; i += crowdCheckers {
				p.checkInto(by, addresses[i*7%len(addresses)], hosts)
				select {
				case <-tick.C:
				case <-ctx.Done():
				}
			}
		})
	}
	var file strings.Builder
	if err := in.net.World.WriteList(&file, 2_000); err != nil {
		return nil, nil, err
	}
	all.Go(func() {
		for api := client.New(in.url, in.key); ctx.Err() == nil; time.Sleep(loadThinks) {
			by["a preview of a file"].do(ctx, func() error {
				_, err := api.Preview(ctx, client.File{Name: "guests.csv", Body: strings.NewReader(file.String())})
				return err
			})
		}
	})
	all.Wait()
	inCalm, err = settle(by, watch)
	return by, inCalm, err
}

// settle sorts what was done, of which nothing may have failed, and returns those that began in calm moments.
func settle(by map[string]*tried, watch *steal.Watch) (inCalm map[string]*tried, err error) {
	inCalm = map[string]*tried{}
	for k, one := range by {
		for why, n := range one.errors {
			return nil, fmt.Errorf("%s: %d times: %s", k, n, why)
		}
		one.sort()
		inCalm[k] = one.begunIn(watch.Calm)
	}
	return inCalm, nil
}

// checkInto checks an address, and then has its host asked the same as barely as can be.
func (p *program) checkInto(by map[string]*tried, address string, hosts map[string]string) {
	_, domain, _ := strings.Cut(address, "@")
	c, err := p.check(order{address, hosts[domain], domain})
	if err != nil {
		by[aCheck].failed(err)
		return
	}
	by[aCheck].add(c.Begun, c.Check)
	by[bareCheck].add(c.Begun, c.Bare)
	by[ownShare].add(c.Begun, max(0, c.Check-c.Bare))
}

// busily begins runs, imports and exports of large lists, one after the other of each, until rest is called; did
// says how much was done.
func (in *installation) busily(looked int64) (rest func() error, did func() string, err error) {
	of, err := in.api.Run(context.Background(), looked)
	if err != nil {
		return nil, nil, err
	}
	ctx, stop := context.WithCancel(context.Background())
	var all sync.WaitGroup
	var mu sync.Mutex
	var failed error
	imports, exports := 0, 0
	over := func(count *int, do func() error) {
		all.Go(func() {
			for ctx.Err() == nil {
				err := do()
				mu.Lock()
				if err == nil {
					*count++
				} else if ctx.Err() == nil {
					failed = errors.Join(failed, err)
					mu.Unlock()
					return
				}
				mu.Unlock()
			}
		})
	}
	under := make(chan struct{}, 1)
	all.Go(func() {
		if err := runOver(ctx, in, of.ListID, func() { under <- struct{}{} }); err != nil {
			mu.Lock()
			failed = errors.Join(failed, err)
			mu.Unlock()
		}
	})
	<-under
	over(&imports, func() error {
		reader, writer := io.Pipe()
		go func() { writer.CloseWithError(in.net.World.WriteList(writer, crowdImport)) }()
		_, err := client.New(in.url, in.key).Import(ctx, client.File{Name: "guests.csv", Body: reader})
		return err
	})
	over(&exports, func() error {
		return client.New(in.url, in.key).ExportFile(ctx, looked, contract.ExportChoice{Decision: "all"}, io.Discard)
	})
	var asked int64
	for _, h := range in.net.Hosts() {
		asked -= int64(h.Stats().Recipients)
	}
	return func() error { stop(); all.Wait(); return failed }, func() string {
		for _, h := range in.net.Hosts() {
			asked += int64(h.Stats().Recipients)
		}
		return fmt.Sprintf("hosts were asked about %d mailboxes in %v, %d lists of %d rows imported, %d files of %d rows exported", asked, crowdFor, imports, crowdImport, exports, crowdRows)
	}, nil
}

func tellCrowd(what string, alone, beside map[string]*tried) {
	t := tabwriter.NewWriter(os.Stdout, 0, 8, 2, ' ', tabwriter.AlignRight)
	fmt.Fprintf(t, "%s\talone\tp50\tp95\tp99\tbeside run, import, export\tp50\tp95\tp99\t\n", what)
	for _, k := range crowdKinds {
		fmt.Fprintf(t, "%s\t%s%s\n", k, alone[k].figures(), beside[k].figures())
	}
	_ = t.Flush()
}
