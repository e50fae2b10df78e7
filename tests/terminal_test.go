//go:build unix

package tests

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"
)

// A terminal runs command lines as a user types them, with havvel in its PATH.
type terminal struct {
	t       *testing.T
	folder  string
	env     []string
	staying []*staying
}

// staying is a command that runs until Ctrl-C.
type staying struct {
	line string
	c    *exec.Cmd
	said *transcript
}

// transcript is what a running command has said until now.
type transcript struct {
	mu   sync.Mutex
	text bytes.Buffer
}

func (s *transcript) Write(p []byte) (int, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.text.Write(p)
}

func (s *transcript) String() string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.text.String()
}

func newTerminal(t *testing.T, folder string, env ...string) *terminal {
	r := &terminal{
		t:      t,
		folder: folder,
		env:    append(env, "PATH="+filepath.Dir(program)+":"+os.Getenv("PATH"), "HAVVEL_KEYS="+filepath.Join(t.TempDir(), "keys.json")),
	}
	t.Cleanup(func() {
		for _, s := range r.staying {
			s.c.Process.Kill()
			s.c.Wait()
		}
	})
	return r
}

var stays = regexp.MustCompile(`^havvel (play|standin|host --|host$|demo.* --stay)`)

// types runs a line, which must end within some time. A command that stays is left running as soon as it says how it ends.
func (r *terminal) types(line string, input ...string) ending {
	r.t.Helper()
	ctx, stop := context.WithTimeout(context.Background(), patience)
	command := func(ctx context.Context) *exec.Cmd {
		c := exec.CommandContext(ctx, "sh", "-c", line)
		c.Dir, c.Env = r.folder, append(os.Environ(), r.env...)
		return c
	}
	if stays.MatchString(line) {
		stop()
		return r.stay(line, command(context.Background()))
	}
	defer stop()
	c := command(ctx)
	c.Stdin = strings.NewReader(strings.Join(input, "\n"))
	var out, errOut bytes.Buffer
	c.Stdout, c.Stderr = &out, &errOut
	err := c.Run()
	var ended *exec.ExitError
	if ctx.Err() != nil || err != nil && !errors.As(err, &ended) {
		r.t.Fatalf("%s: %v\n%s%s", line, errors.Join(ctx.Err(), err), &out, &errOut)
	}
	return ending{c.ProcessState.ExitCode(), out.String(), errOut.String()}
}

func (r *terminal) stay(line string, c *exec.Cmd) ending {
	r.t.Helper()
	s := &staying{line, c, &transcript{}}
	c.Args[2] = "exec " + line // so that Ctrl-C reaches havvel itself
	c.Stdout, c.Stderr = s.said, s.said
	if err := c.Start(); err != nil {
		r.t.Fatal(err)
	}
	r.staying = append(r.staying, s)
	for until := time.Now().Add(patience); time.Now().Before(until); time.Sleep(20 * time.Millisecond) {
		if strings.Contains(s.said.String(), "Ctrl-C") {
			return ending{0, s.said.String(), ""}
		}
		if c.Process.Signal(syscall.Signal(0)) != nil {
			break
		}
	}
	return ending{-1, fmt.Sprintf("%s did not come up:\n%s", line, s.said), ""}
}

// ends presses Ctrl-C in all commands that stay.
func (r *terminal) ends() {
	r.t.Helper()
	for _, s := range r.staying {
		s.c.Process.Signal(os.Interrupt)
		if err := s.c.Wait(); err != nil {
			r.t.Errorf("%s: after Ctrl-C: %v\n%s", s.line, err, s.said)
		}
	}
	r.staying = nil
}
