package main

import (
	"bufio"
	"context"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"strings"
	"sync"
	"text/tabwriter"
	"time"

	"varnet/internal/contract"
	"varnet/internal/practice"
)

// million brings a million rows in, runs them on a practice internet whose
// hosts answer at once, and takes the kept rows out; each phase beside the bare
// floor under it, measured in the same call.
func million() error {
	w, err := practice.Load("fernhollow")
	if err == nil {
		w, err = w.Everywhere("plain")
	}
	if err != nil {
		return err
	}
	in, err := install(w, 2705, "VARNET_ROUNDS=1s")
	if err != nil {
		return err
	}
	defer in.stop()
	file, err := writeRows(w)
	if err != nil {
		return err
	}
	defer os.Remove(file)
	copied, _, err := bareCopy(file)
	if err != nil {
		return err
	}
	asked, err := bareDialogues(in.net, file)
	if err != nil {
		return err
	}
	written, err := bareWrite(file)
	if err != nil {
		return err
	}
	ctx := context.Background()
	serverPeak, err := watchServer(ctx)
	if err != nil {
		return err
	}
	start := time.Now()
	l, err := bringIn(ctx, in.api, file)
	if err != nil {
		return err
	}
	took := []time.Duration{time.Since(start)}
	start = time.Now()
	run, err := in.api.StartRun(ctx, l.ID, contract.NewRun{Depth: "mailbox", Policy: "careful"})
	if err == nil {
		run, err = in.api.Wait(ctx, run.ID, func(contract.Run) {})
	}
	if err != nil {
		return err
	}
	took = append(took, time.Since(start))
	start = time.Now()
	if err := in.api.TakeOutFile(ctx, run.ID, contract.TakingOut{}, io.Discard); err != nil {
		return err
	}
	took = append(took, time.Since(start))
	t := tabwriter.NewWriter(os.Stdout, 0, 8, 2, ' ', tabwriter.AlignRight)
	fmt.Fprintf(t, "%d rows, %d addresses\tVarnet\tbare floor\ttimes\t\n", l.Rows, run.Addresses)
	var sum, floor time.Duration
	for i, f := range []struct {
		what  string
		floor time.Duration
	}{{"in (COPY)", copied}, {"run (pipelined RCPT)", asked}, {"kept rows out (CSV)", written}} {
		fmt.Fprintf(t, "%s\t%.1f s\t%.1f s\t%.2f\t\n", f.what, took[i].Seconds(), f.floor.Seconds(), took[i].Seconds()/f.floor.Seconds())
		sum, floor = sum+took[i], floor+f.floor
	}
	_ = t.Flush()
	fmt.Printf("peak memory of PostgreSQL: %.0f MB, of which 256 MB are its shared buffers\n", serverPeak())
	if run.Open != 0 || run.Done != run.Addresses {
		return fmt.Errorf("%d of %d addresses have a result", run.Done, run.Addresses)
	}
	pages, err := in.pages(run)
	if err != nil {
		return err
	}
	peak, err := peakMB(in.pid)
	if err != nil {
		return err
	}
	return judge(append(pages, []bar{{what: "all, times the floors together", figure: sum.Seconds() / floor.Seconds(), bar: 4, atMost: true},
		{what: "peak memory of the service", figure: peak, bar: 300, atMost: true, unit: " MB"}}...))
}

// askers is how many sessions a host is asked on.
const askers = 4

// bareDialogues asks the hosts about every different address of the file, a
// hundred to a transaction, and does nothing with the answers.
func bareDialogues(i *practice.Internet, file string) (time.Duration, error) {
	byHost, err := addressesByHost(i, file)
	if err != nil {
		return 0, err
	}
	var jobs []func() error
	for addr, mailboxes := range byHost {
		for n := range askers {
			part := mailboxes[n*len(mailboxes)/askers : (n+1)*len(mailboxes)/askers]
			if len(part) > 0 {
				jobs = append(jobs, func() error { return dialogue(addr, part) })
			}
		}
	}
	return atOnce(jobs)
}

// atOnce does all jobs at once, and tells how long they took together.
func atOnce(jobs []func() error) (took time.Duration, err error) {
	var wg sync.WaitGroup
	failed := make(chan error, len(jobs))
	start := time.Now()
	for _, do := range jobs {
		wg.Go(func() { failed <- do() })
	}
	wg.Wait()
	took = time.Since(start)
	close(failed)
	for e := range failed {
		err = errors.Join(err, e)
	}
	return took, err
}

func addressesByHost(i *practice.Internet, file string) (map[string][]string, error) {
	hosts := map[string]string{}
	for _, h := range i.Hosts() {
		for _, o := range i.World.Operators {
			if h.Name == "mx1."+o.Name {
				for _, d := range o.Domains {
					hosts[d] = net.JoinHostPort(h.Addr.String(), fmt.Sprint(i.Port))
				}
			}
		}
	}
	f, err := os.Open(file)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	rows, byHost, seen := csv.NewReader(bufio.NewReaderSize(f, 1<<20)), map[string][]string{}, map[string]bool{}
	for {
		row, err := rows.Read()
		if errors.Is(err, io.EOF) {
			return byHost, nil
		}
		if err != nil {
			return nil, err
		}
		mailbox := practice.Canonical(row[2])
		_, domain, _ := strings.Cut(mailbox, "@")
		if addr := hosts[domain]; addr != "" && !seen[mailbox] {
			seen[mailbox] = true
			byHost[addr] = append(byHost[addr], mailbox)
		}
	}
}

// dialogue asks about mailboxes on one connection, pipelined (RFC 2920).
func dialogue(addr string, mailboxes []string) error {
	conn, err := net.Dial("tcp", addr)
	if err != nil {
		return err
	}
	defer conn.Close()
	in, out := bufio.NewReader(conn), bufio.NewWriter(conn)
	read := func(replies int) error {
		for replies > 0 {
			line, err := in.ReadSlice('\n')
			if err != nil {
				return fmt.Errorf("%s: %w", addr, err)
			}
			if len(line) > 3 && line[3] == ' ' {
				replies--
			}
		}
		return nil
	}
	if err := read(1); err != nil {
		return err
	}
	_, _ = out.WriteString("EHLO floor.fernhollow.example\r\n")
	if err := errors.Join(out.Flush(), read(1)); err != nil {
		return err
	}
	for len(mailboxes) > 0 {
		some := mailboxes[:min(100, len(mailboxes))]
		mailboxes = mailboxes[len(some):]
		_, _ = out.WriteString("MAIL FROM:<check@fernhollow.example>\r\n")
		for _, m := range some {
			_, _ = out.WriteString("RCPT TO:<" + m + ">\r\n")
		}
		_, _ = out.WriteString("RSET\r\n")
		if err := errors.Join(out.Flush(), read(len(some)+2)); err != nil {
			return err
		}
	}
	// The host counts the session until it has closed it.
	_, _ = out.WriteString("QUIT\r\n")
	err = out.Flush()
	_, _ = io.Copy(io.Discard, in)
	return err
}

// bareWrite writes the file's rows anew as CSV.
func bareWrite(file string) (time.Duration, error) {
	f, err := os.Open(file)
	if err != nil {
		return 0, err
	}
	defer f.Close()
	rows, err := csv.NewReader(bufio.NewReaderSize(f, 1<<20)).ReadAll()
	if err != nil {
		return 0, err
	}
	start := time.Now()
	w := csv.NewWriter(io.Discard)
	err = w.WriteAll(rows)
	return time.Since(start), err
}
