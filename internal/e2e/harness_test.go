// Package e2e drives the real binary: service, agent and client as processes on loopback.
package e2e

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// binary builds the program once.
var binary = sync.OnceValues(func() (string, error) {
	if path := os.Getenv("LANTERN_TEST_BINARY"); path != "" {
		return path, nil
	}
	dir, err := os.MkdirTemp("", "lantern-e2e-")
	if err != nil {
		return "", err
	}
	path := filepath.Join(dir, "lantern")
	out, err := exec.Command("go", "build", "-o", path, "lantern/cmd/lantern").CombinedOutput()
	if err != nil {
		return "", fmt.Errorf("build: %w\n%s", err, out)
	}
	return path, nil
})

func TestMain(m *testing.M) {
	if os.Getenv(insideVariable) != "" {
		runtime.LockOSThread()
	}
	code := m.Run()
	if path, err := binary(); err == nil && os.Getenv("LANTERN_TEST_BINARY") == "" &&
		strings.Contains(path, "lantern-e2e-") {
		os.RemoveAll(filepath.Dir(path))
	}
	os.Exit(code)
}

// process is one that this test started, and ends.
type process struct {
	t    testing.TB
	cmd  *exec.Cmd
	mu   sync.Mutex
	out  bytes.Buffer
	done chan struct{}
}

// start runs the binary in the background. It is ended with the test.
func start(t testing.TB, env []string, args ...string) *process {
	t.Helper()
	path, err := binary()
	require.NoError(t, err)
	p := &process{t: t, cmd: exec.Command(path, args...), done: make(chan struct{})}
	p.cmd.Env = append(os.Environ(), env...)
	pipe, err := p.cmd.StdoutPipe()
	require.NoError(t, err)
	p.cmd.Stderr = p.cmd.Stdout
	require.NoError(t, p.cmd.Start())
	go func() {
		for s := bufio.NewScanner(pipe); s.Scan(); {
			p.mu.Lock()
			fmt.Fprintln(&p.out, s.Text())
			p.mu.Unlock()
		}
		_ = p.cmd.Wait()
		close(p.done)
	}()
	t.Cleanup(func() {
		p.kill()
		if t.Failed() {
			t.Logf("%v said:\n%s", args, last(p.said(), 4000))
		}
	})
	return p
}

func last(s string, n int) string { return s[max(0, len(s)-n):] }

func (p *process) said() string {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.out.String()
}

// stop ends it as Ctrl-C does and requires that it ends cleanly.
func (p *process) stop() {
	p.t.Helper()
	require.NoError(p.t, p.cmd.Process.Signal(os.Interrupt))
	select {
	case <-p.done:
	case <-time.After(20 * time.Second):
		p.kill()
		require.Fail(p.t, "did not stop", last(p.said(), 2000))
	}
	require.Equal(p.t, 0, p.cmd.ProcessState.ExitCode(), "exit code after Ctrl-C:\n%s", last(p.said(), 2000))
}

func (p *process) kill() {
	_ = p.cmd.Process.Signal(syscall.SIGKILL)
	<-p.done
}

// freePort is an address on loopback that nothing listens on.
func freePort(t testing.TB) string {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	return l.Addr().String()
}

// shell runs client commands against one service.
type shell struct {
	t   testing.TB
	env []string
}

// answer is what a command printed, and how it ended.
type answer struct {
	code     int
	out, err string
}

func (s shell) try(args ...string) answer {
	s.t.Helper()
	path, err := binary()
	require.NoError(s.t, err)
	ctx, cancel := context.WithTimeout(s.t.Context(), 3*time.Minute)
	defer cancel()
	cmd := exec.CommandContext(ctx, path, args...)
	cmd.Env = append(append(os.Environ(), "COLUMNS=400"), s.env...) // texts are compared, not their folding
	var out, errOut bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &errOut
	err = cmd.Run()
	var exit *exec.ExitError
	if err != nil && !errors.As(err, &exit) {
		require.NoError(s.t, err)
	}
	return answer{cmd.ProcessState.ExitCode(), out.String(), errOut.String()}
}

// run requires that a command succeeds, and gives back what it printed.
func (s shell) run(args ...string) string {
	s.t.Helper()
	a := s.try(args...)
	require.Equal(s.t, 0, a.code, "lantern %s\n%s%s", strings.Join(args, " "), a.out, a.err)
	return a.out
}

// refused requires that a check refuses a command, in words that hold the given ones.
func (s shell) refused(words string, args ...string) {
	s.t.Helper()
	a := s.try(args...)
	require.Equal(s.t, 3, a.code, "lantern %s\n%s%s", strings.Join(args, " "), a.out, a.err)
	require.Contains(s.t, a.err, words)
}

// get runs a command with --output json and reads what it printed.
func get[T any](s shell, args ...string) T {
	s.t.Helper()
	out := s.run(append([]string{"--output", "json"}, args...)...)
	var v T
	require.NoError(s.t, json.Unmarshal([]byte(out), &v), out)
	return v
}

// patience is how long a test waits for something: on a busy machine everything takes longer.
const patience = 2 * time.Minute

// await waits until a condition is true, or fails with the last state that it saw.
func await[T any](t testing.TB, what string, look func() T, is func(T) bool) T {
	t.Helper()
	deadline := time.Now().Add(patience)
	for {
		v := look()
		if is(v) {
			return v
		}
		if time.Now().After(deadline) {
			b, _ := json.MarshalIndent(v, "", " ")
			require.Fail(t, "waited in vain until "+what, "%s", last(string(b), 20000))
		}
		time.Sleep(50 * time.Millisecond)
	}
}
