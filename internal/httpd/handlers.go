package httpd

import (
	"bufio"
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"iter"
	"net/http"
	"strconv"
	"time"

	"github.com/labstack/echo/v5"

	"lantern/internal/api"
	"lantern/internal/bounds"
	"lantern/internal/harmless"
	"lantern/internal/lab"
	"lantern/internal/service/problem"
	"lantern/internal/service/readings"
	"lantern/internal/wire"
)

var _ api.ServerInterface = (*Server)(nil)

// answer is a value, or the error instead of it.
func answer[T any](c *echo.Context, status int, v T, err error) error {
	if err != nil {
		return err
	}
	return c.JSON(status, v)
}

// GetMe tells who is asking.
func (s *Server) GetMe(c *echo.Context) error {
	return c.JSON(
		http.StatusOK,
		api.Me{
			Name:     person(c),
			Role:     rights(c).Role,
			Lab:      s.Lab != nil,
			Version:  s.Version,
			Now:      s.Now(),
			Practice: s.Practice,
		},
	)
}

// GetRound gives what needs a person now.
func (s *Server) GetRound(c *echo.Context) error {
	return c.JSON(http.StatusOK, s.Service.Views.Round())
}

// ListPools lists pools.
func (s *Server) ListPools(c *echo.Context) error {
	return c.JSON(http.StatusOK, s.Service.Views.Pools())
}

// GetPool gives one pool.
func (s *Server) GetPool(c *echo.Context, name api.PoolParam) error {
	p, err := s.Service.Views.Pool(name)
	return answer(c, http.StatusOK, p, err)
}

// ActOnPool orders something for a pool.
func (s *Server) ActOnPool(c *echo.Context, name api.PoolParam, _ api.ActOnPoolParams) error {
	req, err := take[api.PoolAction](c, maxBody)
	if err != nil {
		return err
	}
	o, err := s.Service.Views.ActOnPool(person(c), name, req)
	return answer(c, http.StatusAccepted, o, err)
}

// ListRecoveries lists recoveries.
func (s *Server) ListRecoveries(c *echo.Context, p api.ListRecoveriesParams) error {
	out, err := s.Service.Progress.Recoveries(p.Pool, p.Limit)
	return answer(c, http.StatusOK, out, err)
}

// GetRecovery gives one recovery with its course.
func (s *Server) GetRecovery(c *echo.Context, id api.IdParam) error {
	r, err := s.Service.Progress.Recovery(id)
	return answer(c, http.StatusOK, r, err)
}

// ListDrives lists drives.
func (s *Server) ListDrives(c *echo.Context, p api.ListDrivesParams) error {
	out, err := s.Service.Views.Drives(p)
	return answer(c, http.StatusOK, out, err)
}

// GetDrive gives one drive.
func (s *Server) GetDrive(c *echo.Context, name api.DriveParam) error {
	d, err := s.Service.Views.Drive(name)
	return answer(c, http.StatusOK, d, err)
}

// GetTrend gives one metric over time.
func (s *Server) GetTrend(c *echo.Context, name api.DriveParam, p api.GetTrendParams) error {
	t, err := s.Service.Views.Trend(name, p.Metric, p.Hours)
	return answer(c, http.StatusOK, t, err)
}

// GetReadings gives all readings of a drive, one a line.
func (s *Server) GetReadings(c *echo.Context, name api.DriveParam, p api.GetReadingsParams) error {
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
func (s *Server) GetLatestReadings(c *echo.Context) error {
	return lines(c, func(give func(readings.Line) bool) {
		for _, n := range s.Service.Readings.Latest() {
			if !give(n.Line()) {
				return
			}
		}
	})
}

// lines answers with one JSON document a line.
func lines(c *echo.Context, all iter.Seq[readings.Line]) error {
	c.Response().Header().Set("Content-Type", "application/jsonl")
	c.Response().WriteHeader(http.StatusOK)
	e := json.NewEncoder(c.Response())
	for l := range all {
		if e.Encode(l) != nil {
			return nil // whoever asked is gone
		}
	}
	return nil
}

// maxImport is the largest import.
const maxImport = 1 << 30

// ImportReadings takes readings of the past in.
func (s *Server) ImportReadings(c *echo.Context) error {
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

// ListHosts lists hosts.
func (s *Server) ListHosts(c *echo.Context) error {
	return c.JSON(http.StatusOK, s.Service.Views.Hosts())
}

// SetRoom says where a host stands.
func (s *Server) SetRoom(c *echo.Context, host string) error {
	req, err := take[api.Room](c, maxBody)
	if err != nil {
		return err
	}
	h, err := s.Service.Views.SetRoom(person(c), host, req.Room)
	return answer(c, http.StatusOK, h, err)
}

// TakeOver lets a restored service give orders.
func (s *Server) TakeOver(c *echo.Context) error {
	req, err := take[api.Reason](c, maxBody)
	if err != nil {
		return err
	}
	if err := s.Service.TakeOver(person(c), req.Reason); err != nil {
		return err
	}
	return c.NoContent(http.StatusNoContent)
}

// EnrolHost makes a host known.
func (s *Server) EnrolHost(c *echo.Context) error {
	if err := s.real("it takes no host in, so that no order of it reaches one"); err != nil {
		return err
	}
	req, err := take[api.Enrol](c, maxBody)
	if err != nil {
		return err
	}
	token, err := s.Service.Fleet.Enrol(person(c), req.Name, req.Renew)
	return secret(c, api.Enrolled{Name: req.Name, Token: token}, err)
}

// secret answers with what is told once.
func secret(c *echo.Context, v any, err error) error {
	c.Set(isSecret, true)
	return answer(c, http.StatusCreated, v, err)
}

// GetBays gives a host's bay map.
func (s *Server) GetBays(c *echo.Context, host string) error {
	m, err := s.Service.Bays.Bays(host)
	return answer(c, http.StatusOK, m, err)
}

// ListLights lists lights.
func (s *Server) ListLights(c *echo.Context) error {
	return c.JSON(http.StatusOK, s.Service.Bays.Lights())
}

// LightOn asks for a light.
func (s *Server) LightOn(c *echo.Context, _ api.LightOnParams) error {
	req, err := take[api.LightOn](c, maxBody)
	if err != nil {
		return err
	}
	if req.Seconds < 1 || req.Seconds > 24*3600 {
		return &problem.Problem{
			Status: 422,
			Type:   "bad-time",
			Title:  "A light needs an end, within 24 hours.",
			Do:     "Say for how long, such as 10m.",
		}
	}
	l, err := s.Service.Bays.LightOn(person(c), req)
	return answer(c, http.StatusAccepted, l, err)
}

// LightOff puts one out.
func (s *Server) LightOff(c *echo.Context, id api.IdParam) error {
	l, err := s.Service.Bays.LightOff(id)
	return answer(c, http.StatusAccepted, l, err)
}

// GetOrder gives one order.
func (s *Server) GetOrder(c *echo.Context, id api.IdParam) error {
	o, err := s.Service.Orders.Order(id)
	return answer(c, http.StatusOK, o, err)
}

// Search finds things by any part of their names.
func (s *Server) Search(c *echo.Context, p api.SearchParams) error {
	return c.JSON(http.StatusOK, s.Service.Views.Search(p.Q))
}

// beat is how often an idle stream says that it is alive.
const beat = 10 * time.Second

// stillEach is how often it is looked whether who listens still may.
const stillEach = 3 * time.Second

// StreamEvents sends what happens as it happens.
func (s *Server) StreamEvents(c *echo.Context, p api.StreamEventsParams) error {
	after, _ := strconv.ParseInt(p.LastEventID, 10, 64)
	past, live, stop, err := s.Service.Listen(after)
	if err != nil {
		return err
	}
	defer stop()
	w := c.Response()
	w.Header().Set("Content-Type", "text/event-stream")
	w.Header().Set("X-Accel-Buffering", "no") // a proxy that holds answers back must not hold these
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
				return nil // fell behind, or gone: the listener resumes by itself
			}
		case <-tick.C:
			if _, err := fmt.Fprint(w, ": alive\n\n"); err != nil {
				return nil
			}
		case <-look.C:
			if still == nil || !still() {
				return nil // the session or the token has ended, and this ends with it
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

func agentHost(c *echo.Context) string {
	name, _ := c.Get(whoHost).(string)
	return name
}

// PushReport takes a report in.
func (s *Server) PushReport(c *echo.Context, p api.PushReportParams) error {
	s.hearAgent(agentHost(c), p.LanternAgent)
	r, err := take[api.Report](c, maxReport)
	if err == nil {
		err = s.Service.TakeReport(agentHost(c), r)
	}
	var no *problem.Problem
	switch {
	case errors.As(err, &no) && no.Permanent:
		s.Service.Fleet.Refuse(agentHost(c), no)
		return err
	case err != nil:
		return err
	}
	return c.NoContent(http.StatusNoContent)
}

// hearAgent notes what an agent says of itself; what cannot be read is nothing.
func (s *Server) hearAgent(host, text string) {
	var a api.AgentState
	if text == "" || json.Unmarshal([]byte(text), &a) != nil || bounds.Check(a) != nil {
		return
	}
	harmless.Scrub(&a, false)
	s.Service.Fleet.HearAgent(host, a)
}

// TakeOrders gives a host its orders.
func (s *Server) TakeOrders(c *echo.Context, p api.TakeOrdersParams) error {
	out, err := s.Service.Orders.TakeOrders(
		c.Request().Context(),
		agentHost(c),
		time.Duration(min(max(p.Wait, 0), 60))*time.Second,
	)
	return answer(c, http.StatusOK, out, err)
}

// ReportOutcome takes an outcome in.
func (s *Server) ReportOutcome(c *echo.Context, id api.IdParam) error {
	o, err := take[api.Outcome](c, maxBody)
	if err != nil {
		return err
	}
	if err := s.Service.TakeOutcome(agentHost(c), id, o); err != nil {
		return err
	}
	return c.NoContent(http.StatusNoContent)
}

var noLab = &problem.Problem{
	Status: 404,
	Type:   "no-lab",
	Title:  "This service watches real hosts; there is no lab.",
	Do:     "Start one with: lantern demo",
}

// inLab lets hands do something in the lab; what they ask for comes as JSON, and so does what they see, if anything.
func inLab[T any](s *Server, c *echo.Context, do func(req T) (seen any, err error)) error {
	if s.Lab == nil {
		return noLab
	}
	req, err := take[T](c, maxBody)
	if err != nil {
		return err
	}
	seen, err := do(req)
	switch {
	case err != nil:
		return err
	case seen == nil:
		return c.NoContent(http.StatusNoContent)
	}
	return c.JSON(http.StatusOK, seen)
}

func (s *Server) pace() api.Lab {
	return api.Lab{Now: s.Now(), Speed: s.Lab.Speed(), Hurry: s.Lab.Hurry()}
}

// GetLab tells how time runs.
func (s *Server) GetLab(c *echo.Context) error {
	if s.Lab == nil {
		return noLab
	}
	return c.JSON(http.StatusOK, s.pace())
}

// SetLabSpeed makes the lab's time run faster or slower.
func (s *Server) SetLabSpeed(c *echo.Context) error {
	return inLab(s, c, func(req api.LabSpeed) (any, error) {
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
			set, says = s.Lab.SetHurry, says+" while only waiting is left"
		}
		if err := set(req.Speed); err != nil {
			return nil, err
		}
		s.Service.Announce(api.EventKindLab, "speed", says)
		return s.pace(), nil
	})
}

// LabPull pulls a drive in the lab.
func (s *Server) LabPull(c *echo.Context) error {
	return inLab(s, c, func(req api.LabPull) (any, error) {
		m, err := s.Lab.Pull(req.Bay)
		return api.LabMoved{Tail: m.Tail, Serial: m.Serial, Bay: m.Bay}, err
	})
}

// LabJoin does by hand what an order would do to a pool that can only be watched.
func (s *Server) LabJoin(c *echo.Context) error {
	return inLab(s, c, func(req api.LabJoin) (any, error) {
		m, err := s.Lab.JoinByHand(req.Pool, req.Slot, req.Drive)
		return api.LabMoved{Tail: m.Tail, Serial: m.Serial, Bay: m.Bay}, err
	})
}

// neededIn is what the swap needs that waits for a drive in a bay, or on the host that is named: the tail of the drive
// of whose make it is, and its size where that is another.
func (s *Server) neededIn(bay string) (like string, bytes int64) {
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

// LabInsert puts one in.
func (s *Server) LabInsert(c *echo.Context) error {
	return inLab(s, c, func(req api.LabInsert) (any, error) {
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
