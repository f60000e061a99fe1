package main

import (
	"context"
	"encoding/json"
	"errors"
	"io"
	"os"
	"os/exec"
	"time"

	"varnet/internal/client"
)

// programName is the bench that checks single addresses and does nothing else, told by standard input.
const programName = "checking-program"

// program is a process that checks single addresses. Inside the bench it would share a process with the practice
// hosts and all other clients, and wait for them, too, which no program that is somebody's own does.
type program struct {
	cmd *exec.Cmd
	in  io.WriteCloser
	out *json.Decoder
}

// order is what it is told, and checkTimes what came of it: how long the check took, and how long the same questions
// to the host take, which are asked right after it, as barely as can be.
type (
	order      struct{ Address, Host, Domain string }
	checkTimes struct {
		Begun       time.Time
		Check, Bare time.Duration
		Error       string
	}
)

// program begins one.
func (in *installation) program() (p *program, err error) {
	self, err := os.Executable()
	if err != nil {
		return nil, err
	}
	p = &program{cmd: exec.Command(self, programName)}
	p.cmd.Env = append(os.Environ(), "VARNET_SERVER="+in.url, "VARNET_KEY="+in.key)
	p.cmd.Stderr = os.Stderr
	if p.in, err = p.cmd.StdinPipe(); err != nil {
		return nil, err
	}
	out, err := p.cmd.StdoutPipe()
	if err != nil {
		return nil, err
	}
	p.out = json.NewDecoder(out)
	return p, p.cmd.Start()
}

func (p *program) stop() {
	_ = p.in.Close()
	_ = p.cmd.Wait()
}

// check has it check an address.
func (p *program) check(o order) (c checkTimes, err error) {
	if err = json.NewEncoder(p.in).Encode(o); err == nil {
		err = p.out.Decode(&c)
	}
	if err == nil && c.Error != "" {
		err = errors.New(c.Error)
	}
	return c, err
}

// programAlone is that process.
func programAlone() error {
	in, out := json.NewDecoder(os.Stdin), json.NewEncoder(os.Stdout)
	api := client.New(os.Getenv("VARNET_SERVER"), os.Getenv("VARNET_KEY"))
	for {
		var o order
		if err := in.Decode(&o); errors.Is(err, io.EOF) {
			return nil
		} else if err != nil {
			return err
		}
		c := checkTimes{Begun: time.Now()}
		_, err := api.Check(context.Background(), []string{o.Address})
		c.Check = time.Since(c.Begun)
		if err == nil {
			begun := time.Now()
			err = dialogue(o.Host, []string{o.Address, "made-up-1@" + o.Domain, "made-up-2@" + o.Domain})
			c.Bare = time.Since(begun)
		}
		if err != nil {
			c.Error = err.Error()
		}
		if err := out.Encode(c); err != nil {
			return err
		}
	}
}
