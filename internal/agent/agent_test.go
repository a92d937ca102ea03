package agent

import (
	"context"
	"encoding/json"
	"errors"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lantern/internal/agent/pools"
	"lantern/internal/api"
	"lantern/internal/clock"
	"lantern/internal/core/drive"
	"lantern/internal/core/recovery"
	"lantern/internal/wire"
)

// rack is a machine whose drives are put in by hand, and a pool system that writes down what it is told to do.
type rack struct {
	mu     sync.Mutex
	drives []Found
	joined []string
	fail   error
}

func (r *rack) Drives(context.Context) ([]Found, error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	return append([]Found(nil), r.drives...), nil
}
func (r *rack) Enclosures(context.Context) ([]Enclosure, error)                      { return nil, nil }
func (r *rack) Light(context.Context, string, int, bool) (bool, error)               { return false, nil }
func (r *rack) Pools(context.Context, func(string) string) ([]pools.Snapshot, error) { return nil, nil }
func (r *rack) Join(_ context.Context, _, slot string, t pools.Target) (string, error) {
	r.joined = append(r.joined, slot+" "+t.Path)
	return "begun", r.fail
}
func (r *rack) Admit(context.Context, string, pools.Target) (string, error) {
	return "", pools.ErrNotOffered
}
func (r *rack) Begin(context.Context, string, recovery.Kind) (string, error) {
	return "", pools.ErrNoSuchPool
}
func (r *rack) Stop(context.Context, string) (string, error) { return "", nil }

// wired answers as a drive does, with the bytes it is given.
type wired struct {
	identify []byte
	smart    []byte
	power    byte // 0 is standby
	err      error
}

func (w wired) Execute(_ context.Context, cdb, in []byte) ([]byte, error) {
	r, _, err := drive.DecodePassThrough(cdb)
	if err != nil || w.err != nil {
		return nil, errors.Join(err, w.err)
	}
	switch r {
	case drive.IdentifyDevice:
		copy(in, w.identify)
	case drive.SmartReadData:
		copy(in, w.smart)
	case drive.SmartReadThresholds:
		copy(in, drive.EncodeSmartThresholds(nil))
	case drive.SmartReadSelfTest:
		copy(in, drive.EncodeSelfTestLog(nil))
	case drive.CheckPowerMode:
		return drive.EncodeSense(drive.Registers{Command: 0x50, Count: w.power}), nil
	default:
		return drive.EncodeSense(drive.EncodeReturnStatus(false)), nil
	}
	return nil, nil
}

func described(serial string) drive.Description {
	return drive.Description{Identity: drive.Identity{WWN: "502abe7000000001", Model: "VELDRUN VR4-4000", Serial: serial}, Capacity: 4000 << 20, SMARTSupported: true}
}

// service is the far end: it can be out of reach, and remembers what came.
type service struct {
	mu      sync.Mutex
	status  int
	reports []api.Report
	seen    map[string]int
}

func (s *service) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.status != 0 {
		http.Error(w, `{"type":"store-full","title":"The disk is full.","status":507}`, s.status)
		return
	}
	var report api.Report
	_ = json.NewDecoder(r.Body).Decode(&report)
	s.seen[report.Id]++
	if s.seen[report.Id] > 1 {
		w.WriteHeader(http.StatusConflict)
		return
	}
	s.reports = append(s.reports, report)
	w.WriteHeader(http.StatusNoContent)
}

func newAgent(t *testing.T, r *rack, s *service) (*Agent, string) {
	t.Helper()
	server := httptest.NewServer(s)
	t.Cleanup(server.Close)
	client, err := api.NewClientWithResponses(server.URL)
	require.NoError(t, err)
	dir := t.TempDir()
	a, err := New(Config{Host: "fulmar", Machine: r, Pools: []pools.Driver{r}, Client: client, Clock: clock.Real{}, Log: slog.New(slog.DiscardHandler), Dir: dir,
		Interval: time.Nanosecond, ReadEach: time.Nanosecond, Look: time.Millisecond})
	require.NoError(t, err)
	return a, dir
}

// TestReadingKeepsWhatItCannotBelieve: a damaged page is kept with its bytes; the rest of the reading counts.
func TestReadingKeepsWhatItCannotBelieve(t *testing.T) {
	good := drive.EncodeSmartData(drive.SmartData{Attributes: []drive.Attribute{{ID: 197, Raw: 38}, {ID: 240, Raw: 9}}})
	bad := append([]byte(nil), good...)
	bad[511] ^= 1
	var last ioStat
	r, _ := read(t.Context(), Found{Transport: wired{smart: good, power: 0xFF}, Stat: "100 0 0 1000 50 0 0 100 0 0 0"}, &last, time.Now())
	require.Equal(t, map[string]float64{"pending_sectors": 38}, r.Metrics)
	require.Empty(t, r.Unreadable)
	require.Len(t, r.Attributes, 2, "an attribute nobody knows is kept raw")
	r, _ = read(t.Context(), Found{Transport: wired{smart: bad, power: 0xFF}, Stat: "200 0 0 3000 50 0 0 100 0 0 0 0 0 0 0 0 0"}, &last, time.Now())
	require.Equal(t, map[string]float64{"read_latency_seconds": 0.02}, r.Metrics)
	require.Len(t, r.Unreadable, 1)
	require.Equal(t, bad, r.Unreadable[0].Bytes)
	r, _ = read(t.Context(), Found{Transport: wired{err: errors.New("no answer")}, Stat: "garbage"}, &last, time.Now())
	require.NotEmpty(t, r.Unreadable)
	r, why := read(t.Context(), Found{Transport: wired{smart: good, power: 0}}, &last, time.Now())
	require.Empty(t, r.Metrics)
	require.Contains(t, why, "asleep", "a sleeping drive is not woken to be asked how it is")
	r, why = read(t.Context(), Found{Blind: "a loop device has no SMART"}, &last, time.Now())
	require.Empty(t, r.Metrics)
	require.Equal(t, "a loop device has no SMART", why)
}

// TestOrdersNameDrives: an order names a drive by identity; the agent reads it back and refuses on any difference (R2),
// and never writes to what holds anything (R3).
func TestOrdersNameDrives(t *testing.T) {
	d := described("VR7NW001")
	fit := Found{Path: "/dev/x9", Transport: wired{identify: drive.EncodeIdentify(d)}}
	order := api.Order{Id: "o", Kind: api.OrderKindJoin, Pool: "p", Slot: "1", Drive: wire.Identity(d.Identity), NeedsBytes: int64(d.Capacity), Expires: time.Now().Add(time.Minute)}
	for name, c := range map[string]struct {
		change func(*Found, *api.Order)
		words  string
	}{
		"as meant": {func(*Found, *api.Order) {}, ""},
		"not there": {func(f *Found, _ *api.Order) {
			f.Transport = wired{identify: drive.EncodeIdentify(drive.Description{Identity: drive.Identity{WWN: "5", Serial: "X"}})}
		}, "no drive on this host answers"},
		"same WWN, other serial": {func(f *Found, _ *api.Order) {
			f.Transport = wired{identify: drive.EncodeIdentify(described("VR7ZZ999"))}
		}, "not the one that was meant"},
		"does not answer": {func(f *Found, _ *api.Order) { f.Transport = wired{err: errors.New("gone")} }, "no drive on this host answers"},
		"holds something": {func(f *Found, _ *api.Order) { f.Holds = []string{"xfs file system"} }, "somebody's data (xfs file system)"},
		"too small":       {func(_ *Found, o *api.Order) { o.NeedsBytes++ }, "too small"},
		"too late":        {func(_ *Found, o *api.Order) { o.Expires = time.Now().Add(-time.Second) }, "too late"},
		"unknown kind":    {func(_ *Found, o *api.Order) { o.Kind = "format" }, "does not know orders"},
		"unknown pool":    {func(_ *Found, o *api.Order) { o.Kind = api.OrderKindScrub }, "no pool system on this host"},
	} {
		t.Run(name, func(t *testing.T) {
			f, o := fit, order
			c.change(&f, &o)
			r := &rack{drives: []Found{f}}
			a, _ := newAgent(t, r, &service{seen: map[string]int{}})
			_, err := a.do(t.Context(), o)
			if c.words == "" {
				require.NoError(t, err)
				require.Equal(t, []string{"1 /dev/x9"}, r.joined)
				return
			}
			var no *refusal
			require.ErrorAs(t, err, &no)
			require.Contains(t, err.Error(), c.words)
			require.Empty(t, r.joined, "nothing was touched")
		})
	}
}

// TestLedger: an order is carried out once, whatever is delivered again or restarted.
func TestLedger(t *testing.T) {
	d := described("VR7NW001")
	r := &rack{drives: []Found{{Path: "/dev/x9", Transport: wired{identify: drive.EncodeIdentify(d)}}}}
	a, dir := newAgent(t, r, &service{seen: map[string]int{}})
	o := api.Order{Id: "01ORDER", Kind: api.OrderKindJoin, Slot: "1", Drive: wire.Identity(d.Identity), Expires: time.Now().Add(time.Minute)}
	a.carryOut(t.Context(), o)
	a.carryOut(t.Context(), o)
	again, err := New(a.Config)
	require.NoError(t, err)
	again.carryOut(t.Context(), o)
	require.Len(t, r.joined, 1)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "orders", "02CUT.json"), []byte("{}"), 0o600))
	before, outcome, err := a.ledger.begin("02CUT")
	require.NoError(t, err)
	require.True(t, before)
	require.Nil(t, outcome, "begun, and nobody knows how it ended: it is not begun again")
}

// TestSpool: what could not be delivered is kept, within a bound, and delivered later, in order, once.
func TestSpool(t *testing.T) {
	s := &service{status: http.StatusInsufficientStorage, seen: map[string]int{}}
	r := &rack{drives: []Found{{Path: "/dev/x9", Transport: wired{identify: drive.EncodeIdentify(described("VR7NW001")), smart: drive.EncodeSmartData(drive.SmartData{})}}}}
	a, dir := newAgent(t, r, s)
	for range 3 {
		require.NotPanics(t, func() { _ = a.look(t.Context()) })
	}
	require.Equal(t, 3, a.spool.count())
	require.NoError(t, os.WriteFile(filepath.Join(dir, "undelivered", "00000000DAMAGED.json"), []byte("{"), 0o600))
	again, err := New(a.Config) // the agent is restarted
	require.NoError(t, err)
	s.mu.Lock()
	s.status = 0
	s.mu.Unlock()
	require.NoError(t, again.look(t.Context()))
	require.Zero(t, again.spool.count())
	require.Len(t, s.reports, 4)
	for i := 1; i < len(s.reports); i++ {
		require.False(t, s.reports[i].At.Before(s.reports[i-1].At), "the oldest first")
	}
	require.NoError(t, again.send(t.Context(), s.reports[0]), "a report whose answer was lost counts as delivered")
	require.FileExists(t, filepath.Join(dir, "undelivered", "00000000DAMAGED.json.damaged"), "what cannot be read is set aside, not lost")
}
