package daemon

import (
	"context"
	"fmt"
	"path/filepath"

	"lantern/internal/clock"
	"lantern/internal/lab"
)

// Demo is a service with a lab fleet.
type Demo struct {
	Serve
	Fresh  bool
	Speed  float64 // of a new lab's clock
	Drives int     // least number of drives
	Tour   bool    // the console begins with the walk-through
}

// stationDrives is the number of drives of the station without others.
const stationDrives = 82

// Run serves the demo until ctx ends.
func (c Demo) Run(ctx context.Context) error {
	if c.Fresh {
		if err := forgetLab(c.Data); err != nil {
			return err
		}
	}
	if err := private(c.Data); err != nil {
		return err
	}
	fleet, err := lab.Open(
		filepath.Join(c.Data, "lab.json"),
		clock.Real{}.Now(),
		c.Speed,
		lab.HeronPoint(max(0, c.Drives-stationDrives)),
	)
	if err != nil {
		return err
	}
	return stage{
		Serve:  c.Serve,
		fleet:  fleet,
		person: "engineer",
		opened: func(_ context.Context, r *running, link string) error {
			c.greet(r, link)
			return nil
		},
	}.run(
		ctx,
	)
}

func (c Demo) greet(r *running, link string) {
	config := filepath.Join(c.Data, "client.yaml")
	if whole, err := filepath.Abs(config); err == nil {
		config = whole // it must work in any folder
	}
	fmt.Fprintf(c.Out, `
Heron Point Marine Station, a lab fleet. Nothing here is real.

  console   %s/sign-in/once?code=%s%s
            (this link signs in once; later: the token in %s)
  terminal  export LANTERN_CONFIG=%s

Worth trying:
  ./lantern round
  ./lantern bays skerry
  ./lantern lab speed 300      time runs faster, so that a recovery takes half a minute

Stop with Ctrl-C. What happened is kept; make demo FRESH=1 begins again.
`, c.reached(r), link, map[bool]string{true: "&tour=on"}[c.Tour], config, config)
}
