package main

import (
	"archive/zip"
	"bytes"
	"compress/gzip"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/url"
	"os"
	"os/exec"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"text/tabwriter"
	"time"

	"varnet/internal/client"
	"varnet/internal/contract"
	"varnet/internal/practice"
)

// The bars: what a well-behaved workspace's requests take while another is attacked by, and the
// memory of the service.
const (
	abuseTimes  = 2
	abuseMemory = 512 // MB
	// abuseNoise is what the p95 of a quiet service differs by from time to time.
	abuseNoise = 15 * time.Millisecond
	// attackFor is how long an attack goes on, abuseLook how long it is looked on before and
	// after it.
	attackFor = 12 * time.Second
	abuseLook = 4 * time.Second
)

// attack is what somebody with a key, or without one, does to the service until ctx ends. It
// counts what it was given, and what it was refused.
type attack struct {
	name string
	do   func(ctx context.Context, a *attacker)
}

// attacker is who attacks: a process of its own, which has of the processor what the others
// leave, since it stands for a machine of its own.
type attacker struct {
	Attack, URL, Key string
	Run              int64
	host             string
	done, turned     atomic.Int64
	each             sync.WaitGroup
}

// many has so many do the same at once.
func (a *attacker) many(n int, do func()) {
	for range n {
		a.each.Go(do)
	}
	a.each.Wait()
}

// until repeats something until ctx ends.
func until(ctx context.Context, do func()) func() {
	return func() {
		for ctx.Err() == nil {
			do()
		}
	}
}

// raw sends a request as it is written, reads the status, and hands the connection on.
func (a *attacker) raw(ctx context.Context, request string, then func(net.Conn)) {
	conn, err := net.Dial("tcp", a.host)
	if err != nil {
		a.turned.Add(1)
		return
	}
	defer conn.Close()
	stop := context.AfterFunc(ctx, func() { _ = conn.Close() })
	defer stop()
	if _, err := io.WriteString(conn, request); err != nil {
		a.turned.Add(1)
		return
	}
	then(conn)
}

// answer reads the status of an answer.
func (a *attacker) answer(conn net.Conn) {
	b := make([]byte, len("HTTP/1.1 200"))
	if _, err := io.ReadFull(conn, b); err == nil && b[9] == '2' {
		a.done.Add(1)
		return
	}
	a.turned.Add(1)
}

func (a *attacker) counted(err error) {
	if err != nil {
		a.turned.Add(1)
		return
	}
	a.done.Add(1)
}

var attacks = []attack{
	{"26 files sent a byte a second", func(ctx context.Context, a *attacker) {
		a.many(26, func() {
			a.raw(ctx, "POST /api/v1/lists HTTP/1.1\r\nHost: localhost\r\nAuthorization: Bearer "+a.Key+"\r\nContent-Type: application/octet-stream\r\nContent-Length: 9000000\r\n\r\ne-mail\r\n", func(conn net.Conn) {
				for ctx.Err() == nil {
					if _, err := conn.Write([]byte("a")); err != nil {
						break
					}
					time.Sleep(time.Second)
				}
			})
			a.turned.Add(1)
		})
	}},
	{"26 exports that nobody reads", func(ctx context.Context, a *attacker) {
		a.many(26, func() {
			a.raw(ctx, fmt.Sprintf("GET /api/v1/runs/%d/export/file?decision=all HTTP/1.1\r\nHost: localhost\r\nAuthorization: Bearer %s\r\n\r\n", a.Run, a.Key), func(conn net.Conn) {
				a.answer(conn)
				<-ctx.Done()
			})
		})
	}},
	{"400 event streams", func(ctx context.Context, a *attacker) {
		a.many(400, func() {
			a.raw(ctx, "GET /api/v1/events HTTP/1.1\r\nHost: localhost\r\nAuthorization: Bearer "+a.Key+"\r\n\r\n", func(conn net.Conn) {
				a.answer(conn)
				<-ctx.Done()
			})
		})
	}},
	{"requests as fast as they go", func(ctx context.Context, a *attacker) {
		api := client.New(a.URL, a.Key)
		a.many(16, until(ctx, func() { _, err := api.Runs(ctx, contract.PageQuery{}); a.counted(err) }))
	}},
	{"checks as fast as they go", func(ctx context.Context, a *attacker) {
		api := client.New(a.URL, a.Key)
		a.many(16, until(ctx, func() {
			_, err := api.Check(ctx, []string{"nobody@postbarn.example", "ada@fernhollow.example"})
			a.counted(err)
		}))
	}},
	{"methods made up, without a key", func(ctx context.Context, a *attacker) {
		var n atomic.Int64
		a.many(8, until(ctx, func() {
			a.raw(ctx, fmt.Sprintf("SEED%d / HTTP/1.1\r\nHost: localhost\r\nConnection: close\r\n\r\n", n.Add(1)), a.answer)
		}))
	}},
	{"passwords guessed", func(ctx context.Context, a *attacker) {
		const body = `{"address":"ada.moss@fernhollow.example","password":"a guess of mine"}`
		a.many(8, until(ctx, func() {
			a.raw(ctx, fmt.Sprintf("POST /api/v1/sign-in/password HTTP/1.1\r\nHost: localhost\r\nConnection: close\r\nContent-Type: application/json\r\nContent-Length: %d\r\n\r\n%s", len(body), body), a.answer)
		}))
	}},
	{"texts of 4,000 addresses a line", func(ctx context.Context, a *attacker) {
		var line strings.Builder
		line.WriteString("Dear all, To: ")
		for n := range 4000 {
			fmt.Fprintf(&line, "member%d@fernhollow.example, ", n)
		}
		api := client.New(a.URL, a.Key)
		a.many(8, until(ctx, func() {
			_, err := api.Import(ctx, client.File{Name: "text.txt", Body: strings.NewReader(line.String())})
			a.counted(err)
		}))
	}},
	{"workbooks that unpack to 600 MB", func(ctx context.Context, a *attacker) { a.files(ctx, 4, paddedWorkbook()) }},
	{"packed JSON of 1,900 columns", func(ctx context.Context, a *attacker) { a.files(ctx, 4, wideJSON()) }},
	{"previews of such workbooks", func(ctx context.Context, a *attacker) {
		file, api := paddedWorkbook(), client.New(a.URL, a.Key)
		a.many(4, until(ctx, func() {
			_, err := api.Preview(ctx, client.File{Name: "members.xlsx", Body: bytes.NewReader(file)})
			a.counted(err)
		}))
	}},
	{"headers that never end", func(ctx context.Context, a *attacker) {
		a.many(200, func() {
			a.raw(ctx, "GET /api/v1/lists HTTP/1.1\r\nHost: localhost\r\n", func(conn net.Conn) {
				for n := 0; ctx.Err() == nil; n++ {
					if _, err := fmt.Fprintf(conn, "X-%d: seeds\r\n", n); err != nil {
						break
					}
					time.Sleep(500 * time.Millisecond)
				}
			})
			a.turned.Add(1)
		})
	}},
}

// files has so many import a file again and again.
func (a *attacker) files(ctx context.Context, n int, file []byte) {
	api := client.New(a.URL, a.Key)
	a.many(n, until(ctx, func() {
		_, err := api.Import(ctx, client.File{Name: "members", Body: bytes.NewReader(file)})
		a.counted(err)
	}))
}

// paddedWorkbook is a workbook whose sheet is 600 MB of spaces.
var paddedWorkbook = sync.OnceValue(func() []byte {
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	const ns = `xmlns="http://schemas.openxmlformats.org/spreadsheetml/2006/main"`
	for _, m := range [][2]string{
		{"xl/workbook.xml", `<workbook ` + ns + ` xmlns:r="http://schemas.openxmlformats.org/officeDocument/2006/relationships"><sheets><sheet name="Members" sheetId="1" r:id="rId1"/></sheets></workbook>`},
		{"xl/_rels/workbook.xml.rels", `<Relationships xmlns="http://schemas.openxmlformats.org/package/2006/relationships"><Relationship Id="rId1" Type="http://schemas.openxmlformats.org/officeDocument/2006/relationships/worksheet" Target="worksheets/sheet1.xml"/></Relationships>`},
		{"xl/worksheets/sheet1.xml", `<worksheet ` + ns + `><sheetData><row r="1"><c r="A1" t="inlineStr"><is><t>ada@fernhollow.example</t></is></c></row>`},
	} {
		w, _ := z.Create(m[0])
		_, _ = io.WriteString(w, m[1]) // to memory, which takes it
		if strings.HasPrefix(m[0], "xl/worksheets") {
			spaces := bytes.Repeat([]byte(" "), 1<<20)
			for range 600 {
				_, _ = w.Write(spaces)
			}
			_, _ = io.WriteString(w, "</sheetData></worksheet>")
		}
	}
	_ = z.Close()
	return b.Bytes()
})

// wideJSON is a packed file of few names in many rows, and many in one.
var wideJSON = sync.OnceValue(func() []byte {
	var b bytes.Buffer
	z := gzip.NewWriter(&b)
	_, _ = io.WriteString(z, `[{"e-mail":"ada@fernhollow.example"`)
	for n := range 1900 {
		fmt.Fprintf(z, `,"k%d":1`, n)
	}
	_, _ = io.WriteString(z, "}"+strings.Repeat(`,{"e-mail":"birk@fernhollow.example"}`, 4_000_000)+"]")
	_ = z.Close()
	return b.Bytes()
})

// attackName is the bench that is an attack alone, told by standard input.
const attackName = "attack"

// came is what an attacker was given, and how often refused.
type came struct{ Given, Refused int64 }

// begin begins the attack; over waits for its end.
func (a *attacker) begin() (over func() (came, error), err error) {
	self, err := os.Executable()
	if err != nil {
		return nil, err
	}
	told, err := json.Marshal(a)
	if err != nil {
		return nil, err
	}
	cmd, out := exec.Command("nice", "-n", "19", self, attackName), &bytes.Buffer{}
	cmd.Stdin, cmd.Stdout, cmd.Stderr = bytes.NewReader(told), out, os.Stderr
	if err := cmd.Start(); err != nil {
		return nil, err
	}
	return func() (c came, err error) {
		if err = cmd.Wait(); err == nil {
			err = json.Unmarshal(out.Bytes(), &c)
		}
		return c, err
	}, nil
}

// attackAlone attacks as it is told.
func attackAlone() error {
	a := &attacker{}
	if err := json.NewDecoder(os.Stdin).Decode(a); err != nil {
		return err
	}
	at, err := url.Parse(a.URL)
	if err != nil {
		return err
	}
	a.host = at.Host
	ctx, cancel := context.WithTimeout(context.Background(), attackFor)
	defer cancel()
	for _, kind := range attacks {
		if kind.name == a.Attack {
			kind.do(ctx, a)
		}
	}
	return json.NewEncoder(os.Stdout).Encode(came{a.done.Load(), a.turned.Load()})
}

// neighbour is a workspace that asks for its lists, ten times a second.
type neighbour struct{ api *client.Client }

// look asks for some time and returns how long 95 of 100 answers took at most.
func (n neighbour) look(for_ time.Duration) (p95 time.Duration, failed int) {
	var took []time.Duration
	for end := time.Now().Add(for_); time.Now().Before(end); time.Sleep(100 * time.Millisecond) {
		begun := time.Now()
		ctx, cancel := context.WithTimeout(context.Background(), 20*time.Second)
		if _, err := n.api.Lists(ctx, contract.ListQuery{}); err != nil {
			failed++
		}
		cancel()
		took = append(took, time.Since(begun))
	}
	slices.Sort(took)
	return took[len(took)*95/100], failed
}

// abuse has one workspace, or nobody, attack the service while another works, and tells what
// that feels of it.
func abuse() error {
	w, err := practice.Load("fernhollow")
	if err != nil {
		return err
	}
	in, err := install(w, 2711, "VARNET_ROUNDS=1s")
	if err != nil {
		return err
	}
	defer in.stop()
	a := &attacker{URL: in.url, Key: in.key}
	if a.Run, err = in.large(w, 200_000); err != nil {
		return err
	}
	key, err := in.command("key", "new", "-workspace", "the neighbours").Output()
	if err != nil {
		return err
	}
	n := neighbour{client.New(in.url, strings.TrimSpace(string(key)))}
	t := tabwriter.NewWriter(os.Stdout, 0, 8, 2, ' ', 0)
	fmt.Fprintln(t, "attack\tp95 before\tduring\tafter\tfailed\tgiven\trefused\tmemory MB\t")
	missed := 0
	for _, kind := range attacks {
		if !strings.Contains(kind.name, os.Getenv("VARNET_ATTACK")) {
			continue
		}
		before, _ := n.look(abuseLook)
		a.Attack = kind.name
		over, err := a.begin()
		if err != nil {
			return err
		}
		during, failed := n.look(attackFor - time.Second)
		came, err := over()
		if err != nil {
			return err
		}
		after, late := n.look(abuseLook)
		kb, err := memoryLine(fmt.Sprintf("/proc/%d/status", in.pid), "VmRSS:")
		if err != nil {
			return fmt.Errorf("the service is gone: %w", err)
		}
		memory, verdict := kb/1024, ""
		if during > abuseTimes*before+abuseNoise || failed+late > 0 || memory > abuseMemory {
			verdict = "missed"
			missed++
		}
		fmt.Fprintf(t, "%s\t%v\t%v\t%v\t%d\t%d\t%d\t%.0f\t%s\n", kind.name, short(before), short(during), short(after), failed+late, came.Given, came.Refused, memory, verdict)
	}
	if err := t.Flush(); err != nil {
		return err
	}
	if missed > 0 {
		return fmt.Errorf("%d attacks are felt: p95 under %d times what it was (and %v), nothing failed, under %d MB", missed, abuseTimes, abuseNoise, abuseMemory)
	}
	return nil
}

func short(d time.Duration) time.Duration { return d.Round(100 * time.Microsecond) }

// large imports a list and verifies its form.
func (in *installation) large(w *practice.World, rows int) (run int64, err error) {
	r, out := io.Pipe()
	go func() { _ = out.CloseWithError(w.WriteList(out, rows)) }()
	ctx := context.Background()
	l, err := in.api.Import(ctx, client.File{Name: "members.csv", Body: r})
	if err != nil {
		return 0, err
	}
	started, err := in.api.StartRun(ctx, l.ID, contract.NewRun{Depth: "syntax", Policy: "careful"})
	if err != nil {
		return 0, err
	}
	_, err = in.api.Wait(ctx, started.ID, func(contract.Run) {})
	return started.ID, err
}
