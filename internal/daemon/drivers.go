package daemon

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"log/slog"
	"time"

	"lantern/internal/agent/pools/conform"
	"lantern/internal/agent/pools/outside"
)

// DriverCheck tests a pool program with the conformance kit.
type DriverCheck struct {
	Command           []string
	Break, Slot, With string
	Mend              string
	Patience          time.Duration
	JSON              bool
	Out               io.Writer
	Log               *slog.Logger
}

// Run prints the result of each part, and returns the number of failed ones.
func (c DriverCheck) Run(ctx context.Context) (failed int, err error) {
	k := outside.Kit{
		Command:  c.Command,
		Host:     "here",
		Log:      c.Log,
		Break:    c.Break,
		Slot:     c.Slot,
		With:     c.With,
		Mend:     c.Mend,
		Patience: c.Patience,
	}
	if !c.JSON {
		k.Tell = func(r conform.Result) {
			word := map[bool]string{true: "passes", false: "FAILS "}[r.OK]
			if r.Left {
				word = "left  "
			}
			fmt.Fprintf(c.Out, "%s  %s", word, r.Title)
			if r.Says != "" {
				fmt.Fprintf(c.Out, ": %s", r.Says)
			}
			fmt.Fprintln(c.Out)
		}
	}
	all := k.Run(ctx)
	for _, r := range all {
		if !r.OK {
			failed++
		}
	}
	if c.JSON {
		e := json.NewEncoder(c.Out)
		e.SetIndent("", "  ")
		err = e.Encode(all)
	}
	return failed, err
}
