package format

import (
	"bufio"
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"runtime/debug"
	"strconv"
	"sync"
	"time"

	"golang.org/x/sys/unix"

	"varnet/core/sheet"
)

// What reading one file may take that is not plain text. Readers of foreign formats are many
// people's work, and a small file can be made to unpack into a large one: each is read in a
// process of its own, which the system stops.
const (
	apartMemory = 256 << 20        // bytes
	apartTime   = 60 * time.Second // of processor
	apartFile   = 2 << 30          // bytes of each temporary file
	// apartAim is the memory within which the process tries to stay by itself.
	apartAim = apartMemory * 3 / 4
	// apartNice has others go first: somebody at the keyboard is waiting for them.
	apartNice = 15
)

// outOfMemory is what the runtime says when the system gives it no more.
var outOfMemory = regexp.MustCompile("out of memory|cannot allocate memory|pthread_create failed|failed to create new OS thread")

// apartName is what the process is called that reads a file. It is our own program again.
const apartName = "varnet-read-file"

// Exit codes of the process: refused is told with the error on its standard error.
const (
	apartDone    = 0
	apartFailed  = 1
	apartRefused = 3
)

// The program that imports this package may be a test of it: whichever it is, it reads the
// file when it is called so, and does nothing else.
func init() {
	if os.Args[0] == apartName {
		os.Exit(readApart(os.Args[1:], os.Stdin, os.Stdout, os.Stderr))
	}
}

// found is what the process tells of a file before the text: the first line, in JSON.
type found struct {
	Kind   Kind     `json:"kind"`
	Sheets []string `json:"sheets,omitempty"`
	Sheet  string   `json:"sheet,omitempty"`
	Packed string   `json:"packed,omitempty"`
}

// readApart reads a file within the limits, and writes what was found and the text.
func readApart(args []string, in *os.File, out, errOut io.Writer) int {
	err := limited()
	if err == nil {
		err = readTo(out, in, Options{Sheet: args[0]})
	}
	var told *sheet.Error
	switch {
	case err == nil:
		return apartDone
	case errors.As(err, &told):
		_ = json.NewEncoder(errOut).Encode(told)
		return apartRefused
	}
	fmt.Fprintln(errOut, err)
	return apartFailed
}

func readTo(w io.Writer, in *os.File, o Options) (err error) {
	defer func() {
		if fault := recover(); fault != nil {
			err = wrong("The file is damaged and cannot be read to its end. Open it where it was made, save it again, and import that.")
		}
	}()
	t := &Table{Kind: Text}
	defer t.Close()
	if err := t.open(in, o, 0); err != nil {
		return err
	}
	out := &limit{w, MaxUnpacked}
	if err := json.NewEncoder(out).Encode(found{t.Kind, t.Sheets, t.Sheet, t.Packed}); err != nil {
		return err
	}
	_, err = io.Copy(out, t)
	return err
}

// limited limits this process.
func limited() error {
	begun, err := privateMemory()
	if err != nil {
		return err
	}
	debug.SetMemoryLimit(apartAim)
	letOthersGoFirst()
	for _, l := range []struct {
		what int
		most uint64
	}{
		{unix.RLIMIT_DATA, begun + apartMemory}, {unix.RLIMIT_CPU, uint64(apartTime / time.Second)},
		{unix.RLIMIT_FSIZE, apartFile}, {unix.RLIMIT_CORE, 0},
	} {
		if err := unix.Setrlimit(l.what, &unix.Rlimit{Cur: l.most, Max: l.most}); err != nil {
			return fmt.Errorf("a file is read within limits, which cannot be set: %w", err)
		}
	}
	return nil
}

// letOthersGoFirst lowers the priority of all threads there are, of which later ones inherit it:
// on Linux each has its own. Where it cannot be, the process is only less polite.
func letOthersGoFirst() {
	threads, _ := os.ReadDir("/proc/self/task")
	for _, t := range threads {
		if id, err := strconv.Atoi(t.Name()); err == nil {
			_ = unix.Setpriority(unix.PRIO_PROCESS, id, apartNice)
		}
	}
}

// privateMemory is the memory that the process has had from the system so far, in bytes, as
// RLIMIT_DATA counts it.
func privateMemory() (uint64, error) {
	status, err := os.ReadFile("/proc/self/status")
	if err != nil {
		return 0, err
	}
	_, after, _ := bytes.Cut(status, []byte("VmData:"))
	var kb uint64
	if _, err := fmt.Fscan(bytes.NewReader(after), &kb); err != nil {
		return 0, fmt.Errorf("/proc/self/status names no VmData: %w", err)
	}
	return kb << 10, nil
}

// folderName is how the folder of a process begins.
const folderName = "varnet-read-"

// Sweep removes the folders of processes whose service was killed.
func Sweep() {
	left, _ := filepath.Glob(filepath.Join(os.TempDir(), folderName+"*"))
	for _, folder := range left {
		if info, err := os.Stat(folder); err == nil && time.Since(info.ModTime()) > time.Hour {
			_ = os.RemoveAll(folder)
		}
	}
}

// limit writes so many bytes at most.
type limit struct {
	w    io.Writer
	left int64
}

func (l *limit) Write(b []byte) (int, error) {
	if l.left -= int64(len(b)); l.left < 0 {
		return 0, wrong("The file holds more than %d GB. Split it into smaller ones.", MaxUnpacked>>30)
	}
	return l.w.Write(b)
}

// apart reads a file in a process of its own, which ends with ctx or when the table is closed.
func (t *Table) apart(ctx context.Context, file *os.File, o Options) error {
	own, err := os.MkdirTemp("", folderName+"*")
	if err != nil {
		return err
	}
	t.closers = append(t.closers, func() { _ = os.RemoveAll(own) })
	reading, stop := context.WithCancel(ctx)
	p := &process{ctx: ctx, Cmd: exec.CommandContext(reading, "/proc/self/exe", o.Sheet)}
	p.Args[0] = apartName
	// Nothing of our environment, where there are secrets. Under the race detector the end of a
	// process waits for a second otherwise.
	p.Env = []string{"TMPDIR=" + own, "GOMAXPROCS=2", "GORACE=atexit_sleep_ms=0"}
	p.Stdin, p.Stderr = file, &p.said
	out, err := p.StdoutPipe()
	if err == nil {
		err = p.Start()
	}
	if err != nil {
		stop()
		return fmt.Errorf("the process that reads the file could not be started: %w", err)
	}
	p.end = sync.OnceValue(func() error { return p.verdict(p.Wait()) })
	t.closers = append(t.closers, func() { stop(); _ = p.end() })
	p.out = bufio.NewReaderSize(out, sheet.SampleSize)
	head, err := p.out.ReadBytes('\n')
	if err != nil {
		return cmp.Or(p.end(), err)
	}
	var f found
	if err := json.Unmarshal(head, &f); err != nil {
		return fmt.Errorf("the process that reads the file wrote %.40q first: %w", head, err)
	}
	t.Kind, t.Sheets, t.Sheet, t.Packed, t.Reader = f.Kind, f.Sheets, f.Sheet, f.Packed, p
	return nil
}

// process is one that reads a file; as a reader, the text that it makes of it.
type process struct {
	*exec.Cmd
	ctx  context.Context // of whoever wants the file read
	out  *bufio.Reader
	said tail
	// end waits for the end of the process, and says what was wrong.
	end func() error
}

func (p *process) Read(b []byte) (int, error) {
	n, err := p.out.Read(b)
	if err != nil { // also once it has ended
		err = cmp.Or(p.end(), io.EOF)
	}
	return n, err
}

// verdict is what was wrong with a file, from how its process ended.
func (p *process) verdict(err error) error {
	var exit *exec.ExitError
	if !errors.As(err, &exit) {
		return err
	}
	told := &sheet.Error{}
	switch said := p.said.String(); {
	case p.ctx.Err() != nil:
		return p.ctx.Err()
	case exit.ExitCode() == apartRefused && json.Unmarshal([]byte(said), told) == nil:
		return told
	case exit.UserTime()+exit.SystemTime() >= apartTime-time.Second:
		return wrong("Reading the file takes more than %d seconds of processor time, and no file may take more. Save it as CSV, or split it into smaller ones.", apartTime/time.Second)
	case outOfMemory.MatchString(said):
		return wrong("Reading the file takes more than %d MB of memory, and no file may take more. Save it as CSV, or split it into smaller ones.", apartMemory>>20)
	default:
		return fmt.Errorf("the process that reads the file ended (%v): %.400s", exit, said)
	}
}

// tail keeps the first few kilobytes of what is written to it.
type tail struct{ bytes.Buffer }

func (t *tail) Write(b []byte) (int, error) {
	t.Buffer.Write(b[:min(len(b), max(0, 4<<10-t.Len()))])
	return len(b), nil
}
