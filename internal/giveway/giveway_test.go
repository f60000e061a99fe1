package giveway

import (
	"context"
	"sync"
	"sync/atomic"
	"testing"
	"time"
)

// TestGiveWay: work rests while somebody is attended to, but not for ever, and what is done for somebody does not.
func TestGiveWay(t *testing.T) {
	g := New()
	passed := func(ctx context.Context) time.Duration {
		start := time.Now()
		g.GiveWay(ctx)
		return time.Since(start)
	}
	if took := passed(t.Context()); took > 20*time.Millisecond {
		t.Errorf("with nobody there it took %v", took)
	}
	ctx, done := g.Attend(t.Context())
	if !Attended(ctx) || Attended(t.Context()) {
		t.Error("it is not known who is attended to")
	}
	if took := passed(ctx); took > 20*time.Millisecond {
		t.Errorf("what somebody waits for gave way for %v", took)
	}
	began := make(chan time.Duration)
	go func() { began <- passed(t.Context()) }()
	time.Sleep(20 * time.Millisecond)
	done()
	done()
	if took := <-began; took < 15*time.Millisecond || took > 150*time.Millisecond {
		t.Errorf("work rested for %v, of 20 ms", took)
	}
	// One who takes long holds nobody up for long.
	_, done = g.Attend(t.Context())
	defer done()
	if took := passed(t.Context()); took < attended/2 || took > most {
		t.Errorf("beside a long request it rested for %v", took)
	}
	// Many after each other hold it up for a while.
	until, stop := context.WithTimeout(t.Context(), 600*time.Millisecond)
	defer stop()
	for range 3 {
		go func() {
			for until.Err() == nil {
				_, done := g.Attend(until)
				time.Sleep(5 * time.Millisecond)
				done()
			}
		}()
	}
	time.Sleep(10 * time.Millisecond)
	if took := passed(t.Context()); took > 2*most {
		t.Errorf("beside many it rested for %v", took)
	}
}

// TestAFewAtATime: after somebody was attended to, work goes on a few pieces at a time.
func TestAFewAtATime(t *testing.T) {
	g := New()
	_, done := g.Attend(t.Context())
	var on atomic.Int32
	var all sync.WaitGroup
	for range 200 {
		all.Go(func() { g.GiveWay(t.Context()); on.Add(1) })
	}
	time.Sleep(20 * time.Millisecond)
	if n := on.Load(); n > 0 {
		t.Errorf("%d pieces went on while somebody was attended to", n)
	}
	done()
	time.Sleep(5 * time.Millisecond)
	if n := on.Load(); n == 0 || n > 150 {
		t.Errorf("%d of 200 pieces went on within 5 ms", n)
	}
	all.Wait()
}

// TestClassesTakeTurns: of what waits at once each class goes on as often as the other, however many of one there are.
func TestClassesTakeTurns(t *testing.T) {
	g := New()
	_, done := g.Attend(t.Context())
	passed := make(chan Class, 1000)
	for c, n := range map[Class]int{Runs: 500, Files: 50} {
		for range n {
			go func() { g.GiveWay(Of(t.Context(), c)); passed <- c }()
		}
	}
	time.Sleep(20 * time.Millisecond)
	done()
	files := 0
	for range 40 {
		if <-passed == Files {
			files++
		}
	}
	if files < 10 || files > 30 {
		t.Errorf("of the first 40 pieces %d were of files", files)
	}
}

func BenchmarkNobodyThere(b *testing.B) {
	g, ctx := New(), b.Context()
	for b.Loop() {
		g.GiveWay(ctx)
	}
}

// TestWait: while what somebody waits for waits itself, work goes on.
func TestWait(t *testing.T) {
	g := New()
	ctx, done := g.Attend(t.Context())
	ended := g.Wait(ctx)
	start := time.Now()
	g.GiveWay(t.Context())
	if took := time.Since(start); took > 20*time.Millisecond {
		t.Errorf("work rested for %v while it was waited for", took)
	}
	ended()
	start = time.Now()
	g.GiveWay(t.Context())
	if took := time.Since(start); took < attended/2 {
		t.Errorf("after that it rested for %v", took)
	}
	done()
	g.Wait(t.Context())()
}
