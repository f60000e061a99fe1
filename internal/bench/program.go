package main

import (
	"encoding/json"
	"errors"
	"io"
	"os"
	"os/exec"
	"sync"
	"time"
)

// bareName is the bench that is a client of mail hosts and nothing else, told by standard input.
const bareName = "bare-client"

// bareClient is a process that asks mail hosts as barely as can be, one after the other. Inside the bench it would share
// a process with the practice hosts, and not wait for a processor at each reply as every real client does.
type bareClient struct {
	mu  sync.Mutex
	cmd *exec.Cmd
	in  io.WriteCloser
	out *json.Decoder
}

// bareQuestion is what it is told, and bareAnswer what it says to that.
type (
	bareQuestion struct {
		Host      string
		Mailboxes []string
	}
	bareAnswer struct {
		Took  time.Duration
		Error string
	}
)

func startBare() (b *bareClient, err error) {
	self, err := os.Executable()
	if err != nil {
		return nil, err
	}
	b = &bareClient{cmd: exec.Command(self, bareName)}
	b.cmd.Stderr = os.Stderr
	if b.in, err = b.cmd.StdinPipe(); err != nil {
		return nil, err
	}
	out, err := b.cmd.StdoutPipe()
	if err != nil {
		return nil, err
	}
	b.out = json.NewDecoder(out)
	return b, b.cmd.Start()
}

func (b *bareClient) stop() {
	_ = b.in.Close()
	_ = b.cmd.Wait()
}

// ask asks a host about some mailboxes, and returns how long that took.
func (b *bareClient) ask(host string, mailboxes []string) (time.Duration, error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if err := json.NewEncoder(b.in).Encode(bareQuestion{host, mailboxes}); err != nil {
		return 0, err
	}
	var a bareAnswer
	if err := b.out.Decode(&a); err != nil {
		return 0, err
	}
	if a.Error != "" {
		return 0, errors.New(a.Error)
	}
	return a.Took, nil
}

// bareAlone is that process.
func bareAlone() error {
	in, out := json.NewDecoder(os.Stdin), json.NewEncoder(os.Stdout)
	for {
		var q bareQuestion
		if err := in.Decode(&q); errors.Is(err, io.EOF) {
			return nil
		} else if err != nil {
			return err
		}
		var a bareAnswer
		begun := time.Now()
		if err := dialogue(q.Host, q.Mailboxes); err != nil {
			a.Error = err.Error()
		}
		a.Took = time.Since(begun)
		if err := out.Encode(a); err != nil {
			return err
		}
	}
}
