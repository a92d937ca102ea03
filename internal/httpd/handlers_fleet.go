package httpd

import (
	"bufio"
	"bytes"
	"cmp"
	"encoding/json"
	"fmt"
	"lantern/internal/api"
	"lantern/internal/service/readings"
	"lantern/internal/wire"
	"net/http"
	"strconv"
	"time"

	"github.com/labstack/echo/v5"
)

// GetRound gives what needs a person now.
func (s fleetCalls) GetRound(c *echo.Context) error {
	if s.Headquarters != nil {
		return c.JSON(http.StatusOK, s.Headquarters.Round())
	}
	return c.JSON(http.StatusOK, s.Service.Views.Round())
}

// ListPools lists pools.
func (s fleetCalls) ListPools(c *echo.Context, p api.ListPoolsParams) error {
	all, next, err := s.Service.Views.Pools(p)
	if next != "" {
		u := *c.Request().URL
		q := u.Query()
		q.Set("cursor", next)
		u.RawQuery = q.Encode()
		c.Response().Header().Set("Link", "<?"+u.RawQuery+">; rel=\"next\"")
	}
	return answer(c, http.StatusOK, all, err)
}

// GetHorizon summarizes all pools in a few blocks.
func (s fleetCalls) GetHorizon(c *echo.Context, p api.GetHorizonParams) error {
	blocks := min(max(cmp.Or(p.Blocks, 20), 2), 200)
	if s.Headquarters != nil {
		return c.JSON(http.StatusOK, s.Headquarters.Horizon(blocks))
	}
	return c.JSON(http.StatusOK, s.Service.Views.Horizon(blocks))
}

// GetPool gives one pool.
func (s fleetCalls) GetPool(c *echo.Context, name api.PoolParam) error {
	p, err := s.Service.Views.Pool(name)
	return answer(c, http.StatusOK, p, err)
}

// ActOnPool orders something for a pool.
func (s fleetCalls) ActOnPool(c *echo.Context, name api.PoolParam, _ api.ActOnPoolParams) error {
	req, err := take[api.PoolAction](c, maxBody)
	if err != nil {
		return err
	}
	o, err := s.Service.Views.ActOnPool(person(c), name, req)
	return answer(c, http.StatusAccepted, o, err)
}

// ListRecoveries lists recoveries.
func (s fleetCalls) ListRecoveries(c *echo.Context, p api.ListRecoveriesParams) error {
	out, err := s.Service.Progress.Recoveries(p.Pool, p.Limit)
	return answer(c, http.StatusOK, out, err)
}

// GetRecovery gives one recovery with its course.
func (s fleetCalls) GetRecovery(c *echo.Context, id api.IdParam) error {
	r, err := s.Service.Progress.Recovery(id)
	return answer(c, http.StatusOK, r, err)
}

// ListDrives lists drives.
func (s fleetCalls) ListDrives(c *echo.Context, p api.ListDrivesParams) error {
	out, err := s.Service.Views.Drives(p)
	return answer(c, http.StatusOK, out, err)
}

// GetDrive gives one drive.
func (s fleetCalls) GetDrive(c *echo.Context, name api.DriveParam) error {
	d, err := s.Service.Views.Drive(name)
	return answer(c, http.StatusOK, d, err)
}

// GetTrend gives one metric over time.
func (s fleetCalls) GetTrend(c *echo.Context, name api.DriveParam, p api.GetTrendParams) error {
	t, err := s.Service.Views.Trend(name, p.Metric, p.Hours)
	return answer(c, http.StatusOK, t, err)
}

// GetReadings gives all readings of a drive, one a line.
func (s fleetCalls) GetReadings(c *echo.Context, name api.DriveParam, p api.GetReadingsParams) error {
	key, all, err := s.Service.Readings.Readings(name, p.Hours)
	if err != nil {
		return err
	}
	each := func(give func(readings.Line) bool) {
		for _, r := range all {
			if !give(readings.Line{Drive: key, At: r.At, Metrics: wire.Metrics(r.Metrics)}) {
				return
			}
		}
	}
	return lines(c, each)
}

// GetLatestReadings gives the newest values of all drives, a drive a line.
func (s fleetCalls) GetLatestReadings(c *echo.Context) error {
	return lines(c, func(give func(readings.Line) bool) {
		for _, n := range s.Service.Readings.Latest() {
			if !give(n.Line()) {
				return
			}
		}
	})
}

// ImportReadings stores readings from the past.
func (s fleetCalls) ImportReadings(c *echo.Context) error {
	lines := bufio.NewScanner(http.MaxBytesReader(c.Response(), c.Request().Body, maxImport))
	lines.Buffer(nil, maxBody)
	out, err := s.Service.Readings.Import(func() (l readings.Line, err error, more bool) {
		for lines.Scan() {
			if len(bytes.TrimSpace(lines.Bytes())) > 0 {
				return l, json.Unmarshal(lines.Bytes(), &l), true
			}
		}
		return l, nil, false
	})
	if err == nil && lines.Err() != nil {
		err = tooLarge(lines.Err())
	}
	return answer(c, http.StatusOK, out, err)
}

// GetOrder gives one order.
func (s fleetCalls) GetOrder(c *echo.Context, id api.IdParam) error {
	o, err := s.Service.Orders.Order(id)
	return answer(c, http.StatusOK, o, err)
}

// Search finds things by any part of their names.
func (s fleetCalls) Search(c *echo.Context, p api.SearchParams) error {
	if s.Headquarters != nil {
		return c.JSON(http.StatusOK, s.Headquarters.Search(p.Q))
	}
	return c.JSON(http.StatusOK, s.Service.Views.Search(p.Q))
}

// StreamEvents sends events as they occur.
func (s fleetCalls) StreamEvents(c *echo.Context, p api.StreamEventsParams) error {
	after, _ := strconv.ParseInt(p.LastEventID, 10, 64)
	past, live, stop, err := s.Service.Listen(after)
	if err != nil {
		return err
	}
	defer stop()
	w := c.Response()
	w.Header().Set("Content-Type", "text/event-stream")
	w.Header().Set("X-Accel-Buffering", "no") // a proxy must not buffer this answer
	w.WriteHeader(http.StatusOK)
	rc := http.NewResponseController(w)
	send := func(e api.Event) error {
		b, err := json.Marshal(e)
		if err != nil {
			return err
		}
		if e.Id > 0 {
			if _, err := fmt.Fprintf(w, "id: %d\n", e.Id); err != nil {
				return err
			}
		}
		_, err = fmt.Fprintf(w, "event: %s\ndata: %s\n\n", e.Kind, b)
		return err
	}
	if _, err := fmt.Fprint(w, "retry: 1000\n: connected\n\n"); err != nil {
		return nil
	}
	for _, e := range past {
		if send(e) != nil {
			return nil
		}
	}
	if rc.Flush() != nil {
		return nil
	}
	tick, look := time.NewTicker(beat), time.NewTicker(stillEach)
	defer tick.Stop()
	defer look.Stop()
	still, _ := c.Get(whoStill).(func() bool)
	for {
		select {
		case e, open := <-live:
			if !open || send(e) != nil {
				return nil // the listener was too slow or is gone; it connects again by itself
			}
		case <-tick.C:
			if _, err := fmt.Fprint(w, ": alive\n\n"); err != nil {
				return nil
			}
		case <-look.C:
			if still == nil || !still() {
				return nil // the session or the token has ended, so the stream ends
			}
			continue
		case <-c.Request().Context().Done():
			return nil
		}
		if rc.Flush() != nil {
			return nil
		}
	}
}

// RenamePool gives a pool another name.
func (s fleetCalls) RenamePool(c *echo.Context, name api.PoolParam, _ api.RenamePoolParams) error {
	req, err := take[api.HostName](c, maxBody)
	if err != nil {
		return err
	}
	p, err := s.Service.RenamePool(person(c), name, req.Name)
	return answer(c, http.StatusOK, p, err)
}

// MergeDrives joins the records of two identities of one drive.
func (s fleetCalls) MergeDrives(c *echo.Context, name api.DriveParam, _ api.MergeDrivesParams) error {
	req, err := take[api.MergeDrives](c, maxBody)
	if err != nil {
		return err
	}
	d, err := s.Service.MergeDrives(person(c), req.From, name, req.Reason)
	return answer(c, http.StatusOK, d, err)
}

// ForgetPool removes a pool from the lists.
func (s fleetCalls) ForgetPool(c *echo.Context, pool string, _ api.ForgetPoolParams) error {
	return s.withReason(c, func(reason string) error { return s.Service.Fleet.ForgetPool(person(c), pool, reason) })
}

// ForgetDrive removes a drive from the lists.
func (s fleetCalls) ForgetDrive(c *echo.Context, drive string, _ api.ForgetDriveParams) error {
	return s.withReason(c, func(reason string) error { return s.Service.Fleet.ForgetDrive(person(c), drive, reason) })
}

// WhatIf computes the state of a pool after the loss of members.
func (s fleetCalls) WhatIf(c *echo.Context, name api.PoolParam, q api.WhatIfParams) error {
	p, err := s.Service.Views.WhatIf(name, q.Lose, q.Survives, q.Limit)
	return answer(c, http.StatusOK, p, err)
}

// PlanMoves finds the order of changes that moves least.
func (s fleetCalls) PlanMoves(c *echo.Context, name api.PoolParam) error {
	req, err := take[api.MovesAsked](c, maxBody)
	if err != nil {
		return err
	}
	o, err := s.Service.Views.PlanMoves(name, req)
	return answer(c, http.StatusOK, o, err)
}

// PoolFit gives the size that a drive needs to replace each member.
func (s fleetCalls) PoolFit(c *echo.Context, name api.PoolParam) error {
	f, err := s.Service.Views.Fit(name)
	return answer(c, http.StatusOK, f, err)
}

// SetPriorityHours sets the priority of a pool's recoveries within some hours of the day.
func (s fleetCalls) SetPriorityHours(c *echo.Context, name api.PoolParam) error {
	req, err := take[api.PriorityHours](c, maxBody)
	if err != nil {
		return err
	}
	p, err := s.Service.Views.SetPriorityHours(person(c), name, req)
	return answer(c, http.StatusOK, p, err)
}

// RemovePriorityHours removes the hours; the present priority stays.
func (s fleetCalls) RemovePriorityHours(c *echo.Context, name api.PoolParam) error {
	p, err := s.Service.Views.RemovePriorityHours(person(c), name)
	return answer(c, http.StatusOK, p, err)
}

// CopyPool gives a copy of a pool with everything that a rehearsal needs.
func (s fleetCalls) CopyPool(c *echo.Context, pool api.PoolParam) error {
	if err := s.real("a copy of it would be the copy of a copy"); err != nil {
		return err
	}
	v, err := s.Service.Rehearsal.Copy(pool)
	return answer(c, http.StatusOK, v, err)
}

// AskAddress asks a pool what it stores at an address of a drive.
func (s fleetCalls) AskAddress(c *echo.Context, drive api.DriveParam, _ api.AskAddressParams) error {
	req, err := take[api.Address](c, maxBody)
	if err != nil {
		return err
	}
	o, err := s.Service.Selftests.AskAddress(person(c), drive, req.Lba)
	return answer(c, http.StatusAccepted, o, err)
}
