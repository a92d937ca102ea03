package httpd

import (
	"fmt"
	"lantern/internal/api"
	"lantern/internal/lab"
	"lantern/internal/practice"
	"lantern/internal/service/problem"
	"net/http"

	"github.com/labstack/echo/v5"
)

func (s labCalls) pace() api.Lab {
	return api.Lab{Now: s.Now(), Speed: s.Lab.Speed(), Hurry: s.Lab.Hurry()}
}

// GetLab gives the pace of the lab's time.
func (s labCalls) GetLab(c *echo.Context) error {
	if s.Lab == nil {
		return noLab
	}
	return c.JSON(http.StatusOK, s.pace())
}

// SetLabSpeed sets the pace of the lab's time.
func (s labCalls) SetLabSpeed(c *echo.Context) error {
	return inLab(s.Server, c, func(req api.LabSpeed) (any, error) {
		if req.Speed < 0 || req.Speed > 10000 {
			return nil, &problem.Problem{
				Status: 422,
				Type:   "bad-speed",
				Title:  "The lab runs between 0 and 10,000 times as fast as real time.",
				Do:     "Try 60.",
			}
		}
		set, says := s.Lab.SetSpeed, fmt.Sprintf("the lab runs %g times as fast as real time", req.Speed)
		if req.Hurry {
			set, says = s.Lab.SetHurry, says+" while nothing but waiting is left"
		}
		if err := set(req.Speed); err != nil {
			return nil, err
		}
		s.Service.Announce(api.EventKindLab, "speed", says)
		return s.pace(), nil
	})
}

// LabPull pulls a drive in the lab.
func (s labCalls) LabPull(c *echo.Context) error {
	return inLab(s.Server, c, func(req api.LabPull) (any, error) {
		m, err := s.Lab.Pull(req.Bay)
		return api.LabMoved{Tail: m.Tail, Serial: m.Serial, Bay: m.Bay}, err
	})
}

// LabJoin does by hand in a watched pool what an order would do in another one.
func (s labCalls) LabJoin(c *echo.Context) error {
	return inLab(s.Server, c, func(req api.LabJoin) (any, error) {
		m, err := s.Lab.JoinByHand(req.Pool, req.Slot, req.Drive)
		return api.LabMoved{Tail: m.Tail, Serial: m.Serial, Bay: m.Bay}, err
	})
}

// neededIn describes the drive that a swap waits for in a bay, or on a host: the tail of a drive of the same model, and
// the size if it differs.
func (s labCalls) neededIn(bay string) (like string, bytes int64) {
	for _, w := range s.Service.Swaps.Swaps(true) {
		if w.Into == bay || w.Old.Bay == bay || w.Host == bay {
			if w.NeedsBytes > w.Old.CapacityBytes {
				bytes = w.NeedsBytes
			}
			return w.Old.Tail, bytes
		}
	}
	return "", 0
}

// LabInsert inserts a drive in the lab.
func (s labCalls) LabInsert(c *echo.Context) error {
	return inLab(s.Server, c, func(req api.LabInsert) (any, error) {
		if req.Drive == "" && req.Like == "" && req.CapacityBytes == 0 {
			req.Like, req.CapacityBytes = s.neededIn(req.Bay)
		}
		m, err := s.Lab.Insert(
			req.Bay,
			lab.NewDrive{
				Tail:     req.Drive,
				Capacity: bytesOf(req.CapacityBytes),
				Holds:    req.Holds,
				Damaged:  req.Damaged,
				Like:     req.Like,
				Weak:     req.Weak,
				Hours:    req.UsedHours,
			},
		)
		return api.LabMoved{Tail: m.Tail, Serial: m.Serial, Bay: m.Bay}, err
	})
}

// LabSilence stops the reports of the lab's enclosures.
func (s labCalls) LabSilence(c *echo.Context) error {
	return inLab(s.Server, c, func(req api.LabSilence) (any, error) { return nil, s.Lab.Silence(req.Host, !req.Over) })
}

// LabEyes lists the bays that blink.
func (s labCalls) LabEyes(c *echo.Context) error {
	if s.Lab == nil {
		return noLab
	}
	return c.JSON(http.StatusOK, s.Lab.Blinks())
}

// LabPart makes a part of a shelf fail, or repairs it.
func (s labCalls) LabPart(c *echo.Context) error {
	return inLab(
		s.Server,
		c,
		func(req api.LabPart) (any, error) { return nil, s.Lab.Break(req.Host, req.Part, req.Well) },
	)
}

// LabPower turns a lab host off or on.
func (s labCalls) LabPower(c *echo.Context) error {
	return inLab(s.Server, c, func(req api.LabPower) (any, error) { return nil, s.Lab.Power(req.Host, req.On) })
}

// LabRead reads a drive's label, or all data of a pool.
func (s labCalls) LabRead(c *echo.Context) error {
	return inLab(s.Server, c, func(req api.LabRead) (any, error) {
		var out api.LabSeen
		if req.Bay != "" {
			out.Tail = s.Lab.At(req.Bay)
		}
		if req.Pool != "" {
			if err := s.Lab.ReadBack(req.Pool); err != nil {
				out.Lost = err.Error()
			}
		}
		return out, nil
	})
}

// LabStuck stops the recoveries of a lab pool until it is called again.
func (s labCalls) LabStuck(c *echo.Context) error {
	return inLab(s.Server, c, func(req api.LabStuck) (any, error) { return nil, s.Lab.Stick(req.Pool, req.Stuck) })
}

// LabMishap schedules a mishap in a pool.
func (s labCalls) LabMishap(c *echo.Context) error {
	return inLab(
		s.Server,
		c,
		func(req api.LabMishap) (any, error) { return nil, s.Lab.Throw(req.Pool, practice.Mishap(req.Mishap)) },
	)
}
