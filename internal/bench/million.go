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
	"slices"
	"strings"
	"sync"
	"text/tabwriter"
	"time"

	"varnet/internal/contract"
	"varnet/internal/practice"
)

// million brings a million rows in, runs them on a practice internet whose
// hosts answer at once, and takes the kept rows out; each phase beside the bare
// floor under it, measured in the same call before and after them: the machine is
// not equally fast all the time.
func million() error {
	in, err := installPlain(2705)
	if err != nil {
		return err
	}
	defer in.stop()
	file, err := writeRows(in.net.World, intakeRows)
	if err != nil {
		return err
	}
	defer os.Remove(file)
	before, err := bareFloors(in.net, file)
	if err != nil {
		return err
	}
	serverPeak, err := watchServer(context.Background())
	if err != nil {
		return err
	}
	p, err := in.phases(file)
	if err != nil {
		return err
	}
	server := serverPeak()
	after, err := bareFloors(in.net, file)
	if err != nil {
		return err
	}
	asPolite, err := bareDialogues(in.net, file, p.net.recipients/p.net.sessions)
	if err != nil {
		return err
	}
	times := p.tell(before, after)
	p.tellSessions(asPolite)
	fmt.Printf("peak memory of PostgreSQL: %.0f MB, of which 256 MB are its shared buffers\n", server)
	if p.run.Open != 0 || p.run.Done != p.run.Addresses {
		return fmt.Errorf("%d of %d addresses have a result", p.run.Done, p.run.Addresses)
	}
	bars, err := in.pages(p.run)
	if err != nil {
		return err
	}
	peak, err := peakMB(in.pid)
	if err != nil {
		return err
	}
	return judge(append(bars, bar{what: "all, times the floors together", figure: times, bar: 4, atMost: true},
		bar{what: "peak memory of the service", figure: peak, bar: 300, atMost: true, unit: " MB"}))
}

// phases is what the way of a list took: in, run, and its kept rows out.
type phases struct {
	list contract.List
	run  contract.Run
	took [3]time.Duration
	used [3]usage
	net  traffic
}

// phases takes a list all the way.
func (in *installation) phases(file string) (p phases, err error) {
	ctx := context.Background()
	before := in.traffic()
	for i, do := range []func() error{
		func() (err error) { p.list, err = importFile(ctx, in.api, file); return err },
		func() (err error) {
			if p.run, err = in.api.StartRun(ctx, p.list.ID, contract.NewRun{Depth: "mailbox", Policy: "careful"}); err == nil {
				p.run, err = in.api.Wait(ctx, p.run.ID, func(contract.Run) {})
			}
			return err
		},
		func() error { return in.api.ExportFile(ctx, p.run.ID, contract.ExportChoice{}, io.Discard) },
	} {
		if p.took[i], p.used[i], err = in.measured(do); err != nil {
			return p, err
		}
	}
	p.net = in.traffic().since(before)
	return p, nil
}

// tellSessions prints in how many sessions the run asked, and what it takes beside a floor that has as many: Varnet
// ends a session before a host would mind, and the bare floor only when all is asked.
func (p phases) tellSessions(asPolite time.Duration) {
	fmt.Printf("the run asked %d questions in %d sessions, of which the hosts refused %d; bare dialogues in sessions as long take %.1f s, and the run %.2f times that\n",
		p.net.recipients, p.net.sessions, p.net.refused, asPolite.Seconds(), p.took[1].Seconds()/asPolite.Seconds())
}

// installPlain starts an installation in the plain world.
func installPlain(port int) (*installation, error) {
	w, err := plainWorld()
	if err != nil {
		return nil, err
	}
	return install(w, port, "VARNET_ROUNDS=1s")
}

// plainWorld is a world whose hosts all answer at once and know their mailboxes.
func plainWorld() (*practice.World, error) {
	w, err := practice.Load("fernhollow")
	if err != nil {
		return nil, err
	}
	return w.Everywhere("plain")
}

// tell prints what each phase took beside its bare floor, the middle of the one
// before all phases and the one after, and what a thousand addresses cost; and returns how many
// times the floors all took.
func (p phases) tell(before, after [3]time.Duration) float64 {
	fmt.Printf("%d rows, %d addresses\n", p.list.Rows, p.run.Addresses)
	t := tabwriter.NewWriter(os.Stdout, 0, 8, 2, ' ', tabwriter.AlignRight)
	fmt.Fprintf(t, "\tVarnet\tbare floor\t(before, after)\ttimes\tprocessors: service\tPostgreSQL\tpractice hosts\t\n")
	var sum, floors time.Duration
	for i, what := range []string{"in (COPY)", "run (pipelined RCPT)", "kept rows out (COPY, CSV)"} {
		took, used, floor := p.took[i], p.used[i], (before[i]+after[i])/2
		fmt.Fprintf(t, "%s\t%.1f s\t%.1f s\t%.1f, %.1f s\t%.2f\t%.1f s\t%.1f s\t%.1f s\t\n", what, took.Seconds(), floor.Seconds(), before[i].Seconds(), after[i].Seconds(),
			took.Seconds()/floor.Seconds(), used.service.Seconds(), used.server.Seconds(), used.internet.Seconds())
		sum, floors = sum+took, floors+floor
	}
	_ = t.Flush()
	p.tellCost()
	return sum.Seconds() / floors.Seconds()
}

// traffic is what went to mail hosts and came from them, in bytes, and what they saw.
type traffic struct {
	to, from                      int64
	sessions, recipients, refused int
}

func (in *installation) traffic() (t traffic) {
	for _, h := range in.net.Hosts() {
		s := h.Stats()
		t.to, t.from = t.to+s.Heard, t.from+s.Said
		t.sessions, t.recipients, t.refused = t.sessions+s.Sessions, t.recipients+s.Recipients, t.refused+s.Refused
	}
	return t
}

func (t traffic) since(before traffic) traffic {
	return traffic{t.to - before.to, t.from - before.from, t.sessions - before.sessions, t.recipients - before.recipients, t.refused - before.refused}
}

// tellCost prints what a thousand addresses cost, by phase.
func (p phases) tellCost() {
	thousands := float64(p.run.Addresses) / 1000
	t := tabwriter.NewWriter(os.Stdout, 0, 8, 2, ' ', tabwriter.AlignRight)
	fmt.Fprint(t, "a thousand addresses cost\tprocessor: service\tPostgreSQL\tto mail hosts\tfrom mail hosts\t\n")
	for i, what := range []string{"in", "run", "kept rows out"} {
		to, from := "", ""
		if what == "run" {
			to, from = fmt.Sprintf("%.1f KB", float64(p.net.to)/thousands/1000), fmt.Sprintf("%.1f KB", float64(p.net.from)/thousands/1000)
		}
		fmt.Fprintf(t, "%s\t%.2f ms\t%.2f ms\t%s\t%s\t\n", what, ms(p.used[i].service)/thousands, ms(p.used[i].server)/thousands, to, from)
	}
	_ = t.Flush()
}

// measured does something, and tells how long it took and what it used.
func (in *installation) measured(do func() error) (took time.Duration, used usage, err error) {
	before, err := in.used()
	if err != nil {
		return 0, usage{}, err
	}
	start := time.Now()
	if err := do(); err != nil {
		return 0, usage{}, err
	}
	took = time.Since(start)
	used, err = in.used()
	return took, used.since(before), err
}

// bareFloors is what the phases take with nothing around their barest part: rows
// in by COPY, every address asked about, and rows out by COPY and as CSV.
func bareFloors(i *practice.Internet, file string) (floors [3]time.Duration, err error) {
	in, out, err := bareCopy(file)
	if err != nil {
		return floors, err
	}
	asked, err := bareDialogues(i, file, intakeRows)
	if err != nil {
		return floors, err
	}
	written, err := bareWrite(file)
	return [3]time.Duration{in, asked, out + written}, err
}

// askers is how many sessions a host is asked on.
const askers = 4

// bareDialogues asks the hosts about every different address of the file, in sessions of so many, a
// hundred to a transaction, and does nothing with the answers.
func bareDialogues(i *practice.Internet, file string, aSession int) (time.Duration, error) {
	byHost, err := addressesByHost(i, file)
	if err != nil {
		return 0, err
	}
	var jobs []func() error
	for addr, mailboxes := range byHost {
		for n := range askers {
			part := mailboxes[n*len(mailboxes)/askers : (n+1)*len(mailboxes)/askers]
			jobs = append(jobs, func() error {
				for some := range slices.Chunk(part, aSession) {
					if err := dialogue(addr, some); err != nil {
						return err
					}
				}
				return nil
			})
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

// hostsByDomain returns where each domain's first host listens.
func hostsByDomain(i *practice.Internet) map[string]string {
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
	return hosts
}

func addressesByHost(i *practice.Internet, file string) (map[string][]string, error) {
	hosts := hostsByDomain(i)
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
