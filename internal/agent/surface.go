package agent

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"lantern/internal/api"
	"lantern/internal/core/drive"
	"lantern/internal/wire"
)

// Surface is a drive opened to be written to from end to end. Stretches are aligned to 4096 bytes.
type Surface interface {
	// Stretch is how much is written at once, in bytes.
	Stretch() int64
	// Write fills n bytes at an address with the pattern of seed.
	Write(ctx context.Context, at, n int64, seed uint64) error
	// Sync returns when all that was written is on the medium.
	Sync(ctx context.Context) error
	// Verify reads n bytes back, past all caches. bad is the first address that does not hold the pattern; -1 when all
	// do.
	Verify(ctx context.Context, at, n int64, seed uint64) (bad int64, err error)
	// Blank takes the patterns away at both ends, where others look for what a drive holds.
	Blank(ctx context.Context, size int64) error
	Close() error
}

// What writing a surface keeps to: the most bytes a second if nobody says, how often it is written down how far it
// came, and after how many bad places it is known to be bad.
const (
	surfaceRate  = 150e6
	surfaceNotes = time.Second
	surfaceBad   = 16
)

// surfaceTest is one, as it is written down.
type surfaceTest struct {
	api.SurfaceReport
	Drive drive.Identity `json:"drive"`
	Rate  int64          `json:"rate"`
	Seed  uint64         `json:"seed"`
	sure  int64          // how far what was written is on the medium: a power cut takes nothing of it
}

// surfaces are those of a host. What is written down is how far each came; it goes on from there whatever restarts.
type surfaces struct {
	dir string
	mu  sync.Mutex
	of  map[string]*surfaceTest // by drive key
	end map[string]context.CancelFunc
	all sync.WaitGroup
}

func openSurfaces(dir string) (*surfaces, error) {
	s := &surfaces{
		dir: filepath.Join(dir, "surfaces"),
		of:  map[string]*surfaceTest{},
		end: map[string]context.CancelFunc{},
	}
	if err := os.MkdirAll(s.dir, 0o700); err != nil {
		return nil, err
	}
	files, _ := filepath.Glob(s.dir + "/*.json")
	for _, f := range files {
		b, err := os.ReadFile(f)
		t := &surfaceTest{}
		if err != nil || json.Unmarshal(b, t) != nil || t.Drive.Key() == "" {
			continue // it was being written; nothing goes on that nobody knows
		}
		t.sure = t.DoneBytes
		s.of[t.Drive.Key()] = t
	}
	return s, nil
}

// note writes down how far one came. s.mu is held.
func (s *surfaces) note(t *surfaceTest) error {
	n := *t
	if n.Pass == api.SurfaceReportPassWrite {
		n.DoneBytes = min(n.DoneBytes, n.sure)
	}
	b, err := json.Marshal(n)
	if err != nil {
		return err
	}
	return WriteWhole(filepath.Join(s.dir, fileName(t.Drive.Key())), b)
}

// report is how the one of a drive stands.
func (s *surfaces) report(key string) (r api.SurfaceReport, active bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if t := s.of[key]; t != nil {
		r := t.SurfaceReport
		if s.end[key] != nil && r.State != api.SurfaceReportStatePaused && r.State != api.SurfaceReportStateStopped {
			r.State = api.SurfaceReportStateRunning // how it ended is told when what is on the drive then is known as well
		}
		return r, r.State == api.SurfaceReportStateRunning
	}
	return r, false
}

// surface begins, pauses or ends the writing of a drive's surface, as an order says.
func (a *Agent) surface(ctx context.Context, o api.Order) (string, error) {
	id := wire.ToIdentity(o.Drive)
	s := a.surfaces
	if !o.On {
		return s.rest(id, o.Test)
	}
	f, d, release, err := a.hold(ctx, id) // what is on it is read now, not remembered (R3)
	if err != nil {
		return "", err
	}
	defer release()
	f.Known = d
	if why := carries(f, s.pattern(f)); why != "" {
		return "", refuse("%s", why)
	}
	if f.Surface == nil {
		return "", refuse("it cannot be written to directly")
	}
	s.mu.Lock()
	running := s.end[id.Key()] != nil
	s.mu.Unlock()
	if !running { // that it can be opened is known before it is said to have begun
		first, err := f.Surface()
		if err != nil {
			return "", refuse("%v", err)
		}
		if err := first.Close(); err != nil {
			return "", err
		}
	}
	s.mu.Lock()
	t := s.of[id.Key()]
	if t == nil || t.Id != o.Acceptance {
		t = &surfaceTest{
			Drive: id,
			Seed:  uint64(time.Now().UnixNano()),
			SurfaceReport: api.SurfaceReport{
				Id:        o.Acceptance,
				Pass:      api.SurfaceReportPassWrite,
				SizeBytes: int64(d.Capacity) &^ 4095,
			},
		}
		s.of[id.Key()] = t
	}
	t.Rate = o.RateBytes
	t.State, t.Says = api.SurfaceReportStateRunning, ""
	done := t.DoneBytes
	err = s.note(t)
	s.mu.Unlock()
	if err != nil {
		return "", err
	}
	a.goOn(f, t)
	return fmt.Sprintf("it is written from byte %d on", done), nil
}

// carries says why a drive must not be written to: what is on it, or that nobody knows; empty when it is blank, or
// holds nothing but the pattern of its own surface test.
func carries(f Found, holds []string) string {
	switch {
	case f.ReadOnly:
		return "it is read-only on its host"
	case len(holds) == 1 && holds[0] == drive.TestPattern:
		return ""
	case len(holds) > 0:
		return "it carries somebody's data (" + strings.Join(holds, ", ") + ")"
	case !f.Looked:
		return "its contents are unknown: it was not read"
	}
	return ""
}

// pattern gives what is on a drive, and knows the pattern again that a surface test of ours wrote there and did not
// clear.
func (s *surfaces) pattern(f Found) []string {
	if len(f.Holds) != 1 || f.Holds[0] != drive.Something || f.Read == nil {
		return f.Holds
	}
	s.mu.Lock()
	t := s.of[f.Known.Key()]
	var seed uint64
	if t != nil {
		seed = t.Seed
	}
	s.mu.Unlock()
	if t == nil {
		return f.Holds
	}
	was, want := make([]byte, 4096), make([]byte, 4096)
	Pattern(want, 0, seed)
	if f.Read(0, was) != nil || !bytes.Equal(was, want) {
		return f.Holds
	}
	return []string{drive.TestPattern}
}

// rest pauses the writing of a surface, or ends it.
func (s *surfaces) rest(id drive.Identity, how string) (string, error) {
	s.mu.Lock()
	t, end := s.of[id.Key()], s.end[id.Key()]
	if t == nil {
		s.mu.Unlock()
		return "", refuse("nothing is written to it")
	}
	t.State, t.Says = api.SurfaceReportStatePaused, "it was paused"
	if how == "stop" {
		t.State, t.Says = api.SurfaceReportStateStopped, "it was stopped"
	}
	err := s.note(t)
	done := t.DoneBytes
	s.mu.Unlock()
	if end != nil {
		end()
	}
	return fmt.Sprintf("it rests at byte %d", done), err
}

// goOnSurfaces takes up those that were running when the agent stopped, or whose drive was away.
func (a *Agent) goOnSurfaces(found []Found) {
	for _, f := range found {
		key := f.Known.Key()
		a.surfaces.mu.Lock()
		t := a.surfaces.of[key]
		idle := t != nil && t.State == api.SurfaceReportStateRunning && a.surfaces.end[key] == nil
		a.surfaces.mu.Unlock()
		if idle && f.Surface != nil && carries(f, f.Holds) == "" {
			a.goOn(f, t)
		}
	}
}

// goOn writes and reads back in the background, from where it was.
func (a *Agent) goOn(f Found, t *surfaceTest) {
	s := a.surfaces
	key := t.Drive.Key()
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.end[key] != nil {
		return
	}
	ctx, cancel := context.WithCancel(context.Background())
	s.end[key] = cancel
	s.all.Add(1)
	go func() {
		defer s.all.Done()
		err := a.write(ctx, f, t)
		if f.Pin != nil { // what is on it is read anew, now that it is let go of
			if _, release, err := f.Pin(); err == nil {
				release()
			}
		}
		s.mu.Lock()
		delete(s.end, key)
		if err != nil && ctx.Err() == nil {
			t.State, t.Says = api.SurfaceReportStatePaused, err.Error()
		}
		_ = s.note(t)
		s.mu.Unlock()
		cancel()
		a.again.Store(true) // what it counted meanwhile is asked for now
		a.lookSoon()
	}()
}

// stop lets all rest where they are; they go on when the agent is started again.
func (s *surfaces) stop() {
	s.mu.Lock()
	for _, end := range s.end {
		end()
	}
	s.mu.Unlock()
	s.all.Wait()
}

// write does the two passes. The device is opened for itself alone: nobody who uses it is written over (R3).
func (a *Agent) write(ctx context.Context, f Found, t *surfaceTest) error {
	s := a.surfaces
	dev, err := f.Surface()
	if err != nil {
		return err
	}
	defer dev.Close()
	// Once more, from the device itself, now that it is open and nothing else can come to be at its path (R2).
	d, err := identify(ctx, f)
	if err != nil {
		return err
	}
	if why := t.Drive.Differs(d.Identity); why != "" {
		return errors.New(why)
	}
	rate := float64(surfaceRate)
	if t.Rate > 0 {
		rate = float64(t.Rate)
	}
	noted, since := time.Now(), a.Clock.Now()
	var moved int64
	defer func() {
		if f.there() { // it is written down after this how far it came
			s.sync(dev, t)
		}
	}()
	for ctx.Err() == nil {
		s.mu.Lock()
		at, pass := t.DoneBytes, t.Pass
		s.mu.Unlock()
		if at >= t.SizeBytes {
			if pass == api.SurfaceReportPassWrite {
				s.sync(dev, t)
				s.mu.Lock()
				t.Pass, t.DoneBytes = api.SurfaceReportPassVerify, 0
				err := s.note(t)
				s.mu.Unlock()
				if err != nil {
					return err
				}
				continue
			}
			return s.finish(ctx, dev, t)
		}
		n := min(dev.Stretch(), t.SizeBytes-at)
		begun := a.Clock.Now()
		found, err := stretch(ctx, dev, pass, at, n, max(512, int64(d.LogicalSector)), t.Seed)
		if err != nil && (ctx.Err() != nil || !f.there()) {
			return fmt.Errorf("it does not answer: %w", err)
		}
		if ctx.Err() != nil {
			return nil
		}
		moved += n
		s.mu.Lock()
		t.DoneBytes = at + n
		t.fault(found...)
		s.mu.Unlock()
		err, given := error(nil), len(t.Faults) >= surfaceBad
		if time.Since(noted) > surfaceNotes || given {
			s.sync(dev, t)
			s.mu.Lock()
			noted, err = time.Now(), s.note(t)
			s.mu.Unlock()
		}
		if given {
			return s.finish(ctx, dev, t)
		}
		if err != nil {
			return err
		}
		if rest := time.Duration(float64(n)/rate*1e9) - a.Clock.Now().Sub(begun); rest > 0 {
			_ = a.Clock.Sleep(ctx, rest)
		}
		s.mu.Lock()
		if e := a.Clock.Now().Sub(since).Seconds(); e > 0 {
			t.RateBytes = float64(moved) / e // with its rests: what was asked for is not exceeded
		}
		s.mu.Unlock()
	}
	return nil
}

// fault adds places that are bad. The lock is held.
func (t *surfaceTest) fault(found ...api.SurfaceFault) {
	t.Faults = append(t.Faults, found...)
	t.Bad = nil
	for _, x := range t.Faults {
		t.Bad = append(t.Bad, x.At)
	}
}

// sync puts on the medium what was written, so that how far it came can be written down. Where that fails, nobody knows
// what of it is there.
func (s *surfaces) sync(dev Surface, t *surfaceTest) {
	s.mu.Lock()
	from, done, writes := t.sure, t.DoneBytes, t.Pass == api.SurfaceReportPassWrite
	s.mu.Unlock()
	if !writes || done <= from {
		return
	}
	err := dev.Sync(context.Background())
	s.mu.Lock()
	defer s.mu.Unlock()
	if t.sure = done; err != nil {
		t.fault(api.SurfaceFault{At: from, Bytes: done - from, What: api.FaultNotWritten})
	}
}

// finish says how it ended, and leaves nothing at the ends that others could take for data.
func (s *surfaces) finish(ctx context.Context, dev Surface, t *surfaceTest) error {
	if err := dev.Blank(ctx, t.SizeBytes); err != nil && len(t.Bad) == 0 {
		return err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if t.State = api.SurfaceReportStateFinished; len(t.Bad) > 0 {
		t.State, t.Says = api.SurfaceReportStateFailed, failedWords(t.SurfaceReport)
	}
	return nil
}
