package outside

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"os"
	"os/exec"
	"slices"
	"strings"
	"time"

	"lantern/internal/agent/pools"
	"lantern/internal/agent/pools/conform"
)

// Kit tries a program: all that is tried of a driver, and what only a program can do wrong.
type Kit struct {
	Command []string
	Host    string
	Log     *slog.Logger
	// Break is a command that makes a member fail, Slot is its place and With the path of what takes its place. Mend
	// is a command that does by hand what cannot be ordered. See conform.Kit.
	Break, Slot, With string
	Mend              string
	Patience          time.Duration
	Tell              func(conform.Result)
}

// Run tries all of it.
func (k Kit) Run(ctx context.Context) []conform.Result {
	d := New(k.Command, k.Host, k.Log)
	defer d.Close()
	c := conform.Kit{
		Driver: d,
		Fresh: func() pools.Driver {
			d.Close()
			return d
		},
		Keys: func(path string) string { // here everything that is there is a drive
			if _, err := os.Stat(path); err != nil {
				return ""
			}
			return path
		},
		Break: command(k.Break), Slot: k.Slot, With: pools.Target{Path: k.With}, Mend: command(k.Mend),
		Patience: k.Patience,
		Tell:     k.Tell,
	}
	c.Middle = []conform.Part{
		d.refusal("It refuses what it does not know", "no-such-method", nil, codeNoMethod),
		d.refusal("It refuses a pool that does not exist with the right code", "stop", map[string]any{"pool": "no such pool"},
			CodeNoPool, codeNoMethod),
		d.refusal("It refuses a recovery that does not exist with the right "+
			"code", "begin", map[string]any{"kind": "nonsense"},
			CodeNotOffered, codeBadParams, codeNoMethod),
		{
			Title: "A line that is not JSON",
			Try:   func(ctx context.Context) (string, error) { return d.afterNonsense(ctx, c.Keys) },
		},
	}
	c.Last = []conform.Part{{Title: "It ends when its input ends", Try: d.endsWithInput}}
	return c.Run(ctx)
}

// command runs a shell command; it is nil without one.
func command(text string) func(context.Context) (string, error) {
	if text == "" {
		return nil
	}
	return func(ctx context.Context) (string, error) {
		out, err := exec.CommandContext(ctx, "sh", "-c", text).CombinedOutput()
		if err != nil {
			return "", fmt.Errorf("%s: %w: %s", text, err, out)
		}
		return strings.TrimSpace(string(out)), nil
	}
}

// Codes of JSON-RPC 2.0, clause 5.1.
const (
	codeNoMethod  = -32601
	codeBadParams = -32602
)

// refusal asks for something, past what the driver looks at before, and compares the code of the refusal. Without a
// pool among the parameters it is asked of the program's first pool. A pool that offers nothing is only watched: its
// program need not know the methods.
func (d *Driver) refusal(title, method string, params map[string]any, codes ...int) conform.Part {
	return conform.Part{Title: title, Try: func(ctx context.Context) (string, error) {
		d.mu.Lock()
		known := d.known
		d.mu.Unlock()
		if len(known) == 0 {
			return "", errors.New("it reports no pool")
		}
		asked := maps.Clone(params)
		if asked != nil && asked["pool"] == nil {
			_, asked["pool"], _ = strings.Cut(known[0].Pool.ID, ":")
		}
		if method != "no-such-method" && len(known[0].Offers) > 0 {
			codes = slices.DeleteFunc(slices.Clone(codes), func(c int) bool { return c == codeNoMethod })
		}
		err := d.ask(ctx, lookIn, method, asked, nil)
		var r *Refusal
		switch {
		case err == nil:
			return "", errors.New("it does not refuse")
		case !errors.As(err, &r):
			return "", err
		case !slices.Contains(codes, r.Code):
			return "", fmt.Errorf("it refuses with the code %d, not with %v", r.Code, codes)
		}
		return r.Message, nil
	}}
}

// nonsense sends a line that is no JSON.
func (d *Driver) nonsense() error {
	d.one.Lock()
	defer d.one.Unlock()
	if d.p == nil {
		return nil
	}
	_, err := d.p.in.Write([]byte("}{ no JSON\n"))
	return err
}

// afterNonsense sends a line that is no JSON, which no agent does, and looks whether the program answers afterwards.
// One that ends is no worse for that if it can be started anew.
func (d *Driver) afterNonsense(ctx context.Context, keys func(string) string) (string, error) {
	if err := d.nonsense(); err != nil {
		return "", err
	}
	if _, err := d.Pools(ctx, keys); err == nil {
		return "it goes on", nil
	}
	d.one.Lock()
	d.rest = 0
	d.one.Unlock()
	if _, err := d.Pools(ctx, keys); err != nil {
		return "", fmt.Errorf("it ended, and cannot be started anew: %w", err)
	}
	return "it ends at one, and was started anew; no agent sends one", nil
}

// endsWithInput closes the program's input, and waits for its end.
func (d *Driver) endsWithInput(context.Context) (string, error) {
	d.one.Lock()
	p := d.p
	d.p = nil
	d.one.Unlock()
	if p == nil {
		return "", nil
	}
	_ = p.in.Close()
	select {
	case <-p.gone:
		return "", nil
	case <-time.After(5 * time.Second):
		p.kill()
		return "", errors.New("it runs on five seconds later: an agent that ends leaves it behind")
	}
}
