package agent

import (
	"context"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
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

func lookOnce(t *testing.T, a *Agent) {
	t.Helper()
	_, err := a.look(t.Context())
	require.NoError(t, err)
}

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
func (r *rack) Changes(context.Context) <-chan struct{}                              { return nil }
func (r *rack) Enclosures(context.Context) ([]Enclosure, error)                      { return nil, nil }
func (r *rack) Light(context.Context, string, int, bool) (bool, error)               { return false, nil }
func (r *rack) Pools(context.Context, func(string) string) ([]pools.Snapshot, error) { return nil, nil }
func (r *rack) Trust() pools.Trust                                                   { return pools.TrustKernel }
func (r *rack) Join(_ context.Context, _, slot string, t pools.Target) (string, error) {
	r.joined = append(r.joined, slot+" "+t.Path)
	return "begun", r.fail
}
func (r *rack) Admit(context.Context, string, pools.Target) (string, error) {
	return "", pools.ErrNotOffered
}
func (r *rack) Release(context.Context, string, string) (string, error) {
	return "", pools.ErrNotOffered
}
func (r *rack) Nudge(context.Context, string) (string, error) { return "", pools.ErrNotOffered }
func (r *rack) Prioritise(context.Context, string, recovery.Priority) (string, error) {
	return "", nil
}
func (r *rack) Begin(context.Context, string, pools.Task) (string, error) {
	return "", pools.ErrNoSuchPool
}
func (r *rack) Boxes(context.Context) ([]BoxFound, error) { return nil, nil }
func (r *rack) WhatIsAt(context.Context, string, uint64) (string, error) {
	return "", pools.ErrNotOffered
}
func (r *rack) Stop(context.Context, string) (string, error) { return "", nil }

// wired answers as a drive does, with the bytes it is given.
type wired struct {
	identify []byte
	smart    []byte
	power    uint16 // 0 is standby
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
	return drive.Description{
		Identity:       drive.Identity{WWN: "502abe7000000001", Model: "VELDRUN VR4-4000", Serial: serial},
		Capacity:       4000 << 20,
		SMARTSupported: true,
		SMARTEnabled:   true,
		SelfTests:      true,
	}
}

// service is the far end: it can be out of reach, and remembers what came.
type service struct {
	mu      sync.Mutex
	status  int
	reports []api.Report
	seen    map[string]int
	refuse  func(api.Report) bool // permanently
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
	if s.refuse != nil && s.refuse(report) {
		w.WriteHeader(http.StatusUnprocessableEntity)
		_, _ = w.Write([]byte(`{"type":"bad-body","title":"The request could not be read.","status":422,"permanent":true}`))
		return
	}
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
	a, err := New(
		Config{
			Host:     "fulmar",
			Machine:  r,
			Pools:    []pools.Driver{r},
			Client:   client,
			Clock:    clock.Real{},
			Log:      slog.New(slog.DiscardHandler),
			Dir:      dir,
			Interval: time.Nanosecond,
			ReadEach: time.Nanosecond,
			Look:     time.Millisecond,
		},
	)
	require.NoError(t, err)
	return a, dir
}

// TestBackfill: readings of the past arrive whole and in order, although the service fails on the way; one that it
// refuses for good, and an end of the context, end them.
func TestBackfill(t *testing.T) {
	defer func(d time.Duration) { retryBackfill = d }(retryBackfill)
	retryBackfill = time.Millisecond
	s := &service{seen: map[string]int{}}
	a, _ := newAgent(t, &rack{}, s)
	var moments, want []time.Time
	for i := range 6 {
		moments = append(moments, time.Date(2026, 11, 1+i, 8, 0, 0, 0, time.UTC))
	}
	n := 0
	fails := func(at time.Time) { // before every second one, the service fails for a while
		want = append(want, at)
		if n++; n%2 == 0 {
			return
		}
		s.mu.Lock()
		s.status = http.StatusServiceUnavailable
		s.mu.Unlock()
		time.AfterFunc(20*time.Millisecond, func() {
			s.mu.Lock()
			s.status = 0
			s.mu.Unlock()
		})
	}
	require.NoError(t, a.Backfill(t.Context(), moments, fails))
	var got []time.Time
	for _, r := range s.reports {
		require.True(t, r.Past)
		got = append(got, r.At)
	}
	require.Equal(t, want, got)

	s.refuse = func(api.Report) bool { return true }
	require.ErrorContains(t, a.Backfill(t.Context(), moments, func(time.Time) {}), "could not be read")
	s.refuse = nil
	ctx, cancel := context.WithCancel(t.Context())
	s.status = http.StatusServiceUnavailable
	time.AfterFunc(20*time.Millisecond, cancel)
	require.ErrorIs(t, a.Backfill(ctx, moments, func(time.Time) {}), context.Canceled)
}

// TestReadingKeepsWhatItCannotBelieve: a damaged page is kept with its bytes; the rest of the reading counts.
func TestReadingKeepsWhatItCannotBelieve(t *testing.T) {
	good := drive.EncodeSmartData(
		drive.SmartData{Attributes: []drive.Attribute{{ID: 197, Raw: 38}, {ID: 250, Raw: 9}}},
	)
	bad := append([]byte(nil), good...)
	bad[511] ^= 1
	var m memory
	one := func(w Transport, stat string) (api.Reading, string) {
		return read(t.Context(), Found{Transport: w, Known: described("VR7NW001"), Stat: stat}, &m, time.Now(), false)
	}
	r, why := one(wired{smart: good, power: 0xFF}, "100 0 0 1000 50 0 0 100 0 0 0")
	require.Equal(t, api.Metrics{"pending_sectors": 38}, r.Metrics)
	require.Empty(t, r.Unreadable)
	require.Empty(t, why)
	require.Len(t, r.Attributes, 2, "an attribute nobody knows is kept raw")
	r, _ = one(wired{smart: bad, power: 0xFF}, "200 0 0 3000 50 0 0 100 0 0 0 0 0 0 0 0 0")
	require.Equal(t, api.Metrics{"read_latency_seconds": 0.02}, r.Metrics)
	require.Len(t, r.Unreadable, 1)
	require.Equal(t, bad, r.Unreadable[0].Bytes)
	r, _ = one(wired{err: errors.New("no answer")}, "garbage")
	require.NotEmpty(t, r.Unreadable)
	r, why = one(wired{smart: good, power: 0}, "")
	require.Empty(t, r.Metrics)
	require.Contains(t, why, "asleep", "a sleeping drive is not woken to be asked how it is")
	r, _ = read(
		t.Context(),
		Found{Transport: wired{smart: good, power: 0}, Known: described("VR7NW001")},
		&m,
		time.Now(),
		true,
	)
	require.NotEmpty(t, r.Metrics, "unless its owner wants so")
	// An error of the request itself is not an error of the drive.
	host := int64(7)
	w := wired{smart: good, power: 0xFF}
	counted := Found{
		Transport: w,
		Known:     described("VR7NW001"),
		Failures:  func() (int64, bool) { host += 2; return host, true },
	}
	for i := range 3 {
		r, _ = read(t.Context(), counted, &m, time.Now(), false)
		require.Equal(
			t,
			float64(2*i),
			r.Metrics["host_io_errors"],
			"the two that came between readings count, those within do not",
		)
	}
	r, why = read(t.Context(), Found{Blind: "a loop device has no SMART"}, &m, time.Now(), false)
	require.Empty(t, r.Metrics)
	require.Equal(t, "a loop device has no SMART", why)
	for words, change := range map[string]func(*drive.Description){
		"no SMART":     func(d *drive.Description) { d.SMARTSupported = false },
		"switched off": func(d *drive.Description) { d.SMARTEnabled = false },
	} {
		d := described("VR7NW001")
		change(&d)
		_, why = read(t.Context(), Found{Transport: wired{smart: good}, Known: d}, &m, time.Now(), false)
		require.Contains(t, why, words)
	}
}

// scripted answers each command with the bytes it is given, by the command's first bytes in hexadecimal; the longest
// match counts. A command without an answer is refused.
type scripted map[string]string

func (s scripted) Execute(_ context.Context, cdb, in []byte) ([]byte, error) {
	cmd, best := fmt.Sprintf("%x", cdb), ""
	for k := range s {
		if strings.HasPrefix(cmd, k) && len(k) > len(best) {
			best = k
		}
	}
	if best == "" {
		return nil, fmt.Errorf("refused the command %s", cmd)
	}
	b, err := hex.DecodeString(strings.ReplaceAll(s[best], " ", ""))
	copy(in, b)
	return nil, err
}

// TestSCSIAndNVMeReadings: log pages, defects, self-tests and warnings become metrics, tests and words; standby is left
// alone; a drive that gives no log pages is blind, with why.
func TestSCSIAndNVMeReadings(t *testing.T) {
	var m memory
	sas := scripted{
		"03":         "70 00 00 00000000 0a 00000000 0000 00000000",
		"4d0040":     "00 00 0004 00 0d 10 2f",
		"4d004d":     "0d 00 000c 0000 03 02 00 26 0001 03 02 00 41",
		"4d0050":     "10 00 0014 0001 03 10 47 00 1388 0000000000001234 03 11 00 00",
		"4d006f":     "2f 00 0008 0000 03 04 5d 10 26 00",
		"b70b":       "00 0b 0000 00000028",
		"4d00400000": "00 00 0004 00 0d 10 2f",
		"120186":     "00 86 003c 0000 0000 0000 0257",
	}
	r, why := read(t.Context(), Found{Transport: sas, Protocol: SCSI}, &m, time.Now(), false)
	require.Empty(t, why)
	require.Empty(t, r.Unreadable)
	require.Equal(
		t,
		api.Metrics{"temperature_celsius": 38, "temperature_limit_celsius": 65, "grown_defects": 5},
		r.Metrics,
	)
	require.True(t, r.Failing)
	require.Equal(t, map[string]float64{"short": 0, "extended": 599}, r.TestMinutes)
	require.Equal(
		t,
		[]api.SelfTest{{Kind: "extended", Result: "failed", Hours: 5000, Lba: 0x1234, Number: 2, Status: 7}},
		r.Tests,
	)
	sas["03"] = "70 00 00 00000000 0a 00000000 5e02 00000000"
	_, why = read(t.Context(), Found{Transport: sas, Protocol: SCSI}, &m, time.Now(), false)
	require.Contains(t, why, "asleep")
	_, why = read(t.Context(), Found{Transport: scripted{}, Protocol: SCSI}, &m, time.Now(), false)
	require.Contains(t, why, "bridge")

	identify, health, tests := make([]byte, 4096), make([]byte, 512), make([]byte, 564)
	copy(identify[4:], "TW7PL118            ")
	identify[256], identify[266], identify[267] = 0x10, 0x5B, 1 // self-tests; 74 °C
	identify[316] = 35
	m = memory{}
	health[0], health[1], health[2], health[3] = 0x03, 0x3D, 0x01, 97
	for i := range 20 {
		tests[4+28*i] = 0x0F
	}
	tests[4] = 0x10 // short, passed
	r, _ = read(
		t.Context(),
		Found{
			Protocol: NVMe,
			Transport: scripted{
				"06":                                     hex.EncodeToString(identify),
				fmt.Sprintf("%x", drive.NVMeLog(2, 512)): hex.EncodeToString(health),
				fmt.Sprintf("%x", drive.NVMeLog(6, 564)): hex.EncodeToString(tests),
			},
		},
		&m,
		time.Now(),
		false,
	)
	require.Equal(t, []string{"spare below threshold", "temperature"}, r.Warnings)
	require.True(t, r.Failing)
	require.Equal(t, 44.0, r.Metrics["temperature_celsius"])
	require.Equal(t, 74.0, r.Metrics["temperature_limit_celsius"])
	require.Equal(t, "passed", r.Tests[0].Result)
	require.Equal(t, map[string]float64{"short": 2, "extended": 35}, r.TestMinutes)
}

// TestATALogs: of a drive with logs, those that feed metrics are read; the value of an attribute has priority over that
// of a log.
func TestATALogs(t *testing.T) {
	page := func(parts map[int]byte) string {
		b := make([]byte, 512)
		for at, v := range parts {
			b[at] = v
		}
		return hex.EncodeToString(b)
	}
	log := func(address byte, nth uint16) string {
		return fmt.Sprintf("%x", drive.EncodePassThrough(drive.ReadLog(true, address, nth), true))
	}
	command := func(r drive.Registers, in bool) string { return fmt.Sprintf("%x", drive.EncodePassThrough(r, in)) }
	s := scripted{
		command(drive.SmartReadData, true): hex.EncodeToString(
			drive.EncodeSmartData(drive.SmartData{Attributes: []drive.Attribute{{ID: 9, Raw: 500}}}),
		),
		command(drive.SmartReadThresholds, true): hex.EncodeToString(drive.EncodeSmartThresholds(nil)),
		command(drive.SmartReadSelfTest, true): hex.EncodeToString(
			drive.EncodeSelfTestLog([]drive.SelfTest{{Number: 1, Hours: 490, LBA: -1}}),
		),
		log(drive.LogDirectory, 0):  page(map[int]byte{2 * 4: 8, 2 * 0xE0: 1}),
		log(drive.LogStatistics, 0): page(map[int]byte{0: 1, 8: 3, 9: 0, 10: 1, 11: 3}),
		log(drive.LogStatistics, 1): page(map[int]byte{0: 1, 2: 1, 16: 77, 23: 0xC0}),
		log(drive.LogStatistics, 3): page(map[int]byte{0: 1, 2: 3, 32: 8, 39: 0xC0}),
		log(drive.LogSCTStatus, 0): page(
			map[int]byte{0: 3, 200: 36, 201: 0x80, 202: 0x80, 203: 0x80, 204: 0x80},
		),
	}
	d := described("VR7NW001")
	d.GeneralLogs = true
	var m memory
	for range 2 { // the second look uses what the first found
		r, why := read(t.Context(), Found{Transport: s, Known: d}, &m, time.Now(), false)
		require.Empty(t, why)
		require.Equal(
			t,
			api.Metrics{"power_on_hours": 500, "reallocated_sectors": 8, "temperature_celsius": 36},
			r.Metrics,
		)
		require.Len(t, r.Tests, 1)
		require.Len(t, r.Unreadable, 1, "RETURN STATUS came back without registers")
		delete(s, log(drive.LogDirectory, 0))
		delete(s, log(drive.LogStatistics, 0))
	}
}

// hanging answers when it is let go.
type hanging struct {
	wired
	free chan struct{}
}

func (h hanging) Execute(ctx context.Context, cdb, in []byte) ([]byte, error) {
	<-h.free
	return h.wired.Execute(ctx, cdb, in)
}

// TestAHangingDriveCostsItsOwnReading: its neighbours behind the same adapter are read and reported; it is reported as
// blind, is not asked twice, and its late answer is reported.
func TestAHangingDriveCostsItsOwnReading(t *testing.T) {
	s := &service{seen: map[string]int{}}
	free := make(chan struct{})
	r := &rack{}
	smart := drive.EncodeSmartData(drive.SmartData{Attributes: []drive.Attribute{{ID: 197, Raw: 38}}})
	for i, serial := range []string{"VR7NW001", "VR7NW002", "VR7NW003"} {
		d := described(serial)
		d.WWN = fmt.Sprintf("502abe700000000%d", i)
		w := wired{identify: drive.EncodeIdentify(d), smart: smart, power: 0xFF}
		f := Found{
			Looked:    true,
			Path:      "/dev/x" + serial,
			Known:     drive.Description{Identity: d.Identity},
			Transport: w,
		}
		if i == 0 {
			f.Transport = hanging{w, free}
		}
		r.drives = append(r.drives, f)
	}
	a, _ := newAgent(t, r, s)
	a.lanes = lanes{width: 1, patience: 20 * time.Millisecond}
	newest := func() map[string]api.DriveReport {
		lookOnce(t, a)
		out := map[string]api.DriveReport{}
		for _, d := range s.reports[len(s.reports)-1].Drives {
			out[d.Identity.Serial] = d
		}
		return out
	}
	seen := newest()
	require.Len(t, seen, 3, "what the kernel keeps of the one that hangs still names it")
	require.Contains(t, seen["VR7NW001"].Blind, "does not answer")
	require.Equal(t, 38.0, seen["VR7NW003"].Reading.Metrics["pending_sectors"])
	_, err := a.do(
		t.Context(),
		api.Order{
			Kind:    api.OrderKindJoin,
			Slot:    "2",
			Drive:   seen["VR7NW002"].Identity,
			Expires: time.Now().Add(time.Minute),
		},
	)
	require.NoError(t, err, "an order to its neighbour is carried out")
	close(free)
	require.Eventually(
		t,
		func() bool { return newest()["VR7NW001"].Reading.Metrics["pending_sectors"] == 38 },
		5*time.Second,
		time.Millisecond,
	)
	require.Empty(t, newest()["VR7NW001"].Blind)
}

// TestOrdersNameDrives: an order names a drive by identity; the agent reads it back and refuses on any difference (R2),
// and never writes to a drive with data (R3).
func TestOrdersNameDrives(t *testing.T) {
	d := described("VR7NW001")
	fit := Found{Looked: true, Path: "/dev/x9", Transport: wired{identify: drive.EncodeIdentify(d)}}
	order := api.Order{
		Id:         "o",
		Kind:       api.OrderKindJoin,
		Pool:       "p",
		Slot:       "1",
		Drive:      wire.Identity(d.Identity),
		NeedsBytes: int64(d.Capacity),
		Expires:    time.Now().Add(time.Minute),
	}
	for name, c := range map[string]struct {
		change func(*Found, *api.Order)
		words  string
	}{
		"as meant": {func(*Found, *api.Order) {}, ""},
		"not there": {func(f *Found, _ *api.Order) {
			f.Transport = wired{identify: drive.EncodeIdentify(drive.Description{Identity: drive.Identity{WWN: "5",
				Serial: "X"}})}
		}, "no drive on this host answers"},
		"same WWN, other serial": {func(f *Found, _ *api.Order) {
			f.Transport = wired{identify: drive.EncodeIdentify(described("VR7ZZ999"))}
		}, "not the one that was meant"},
		"does not answer": {func(f *Found, _ *api.Order) { f.Transport = wired{err: errors.New("gone")} },
			"no drive on this host answers"},
		"left, and another came to its path": {func(f *Found, _ *api.Order) {
			f.Pin = func() (Found, func(), error) {
				now := *f
				now.Transport = wired{identify: drive.EncodeIdentify(described("VR7ZZ999"))}
				return now, func() {}, nil
			}
		}, "not the one that was meant"},
		"was written to meanwhile": {func(f *Found, _ *api.Order) {
			f.Pin = func() (Found, func(), error) {
				now := *f
				now.Holds = []string{"a partition table"}
				return now, func() {}, nil
			}
		}, "somebody's data (a partition table)"},
		"left while it was looked at": {func(f *Found, _ *api.Order) {
			f.Pin = func() (Found, func(), error) { return Found{}, nil, errors.New("no such device") }
		}, "it left while it was looked at"},
		"holds something": {func(f *Found, _ *api.Order) { f.Holds = []string{"xfs file system"} }, "somebody's " +
			"data (xfs file system)"},
		"too small":    {func(_ *Found, o *api.Order) { o.NeedsBytes++ }, "too small"},
		"too late":     {func(_ *Found, o *api.Order) { o.Expires = time.Now().Add(-time.Second) }, "too late"},
		"unknown kind": {func(_ *Found, o *api.Order) { o.Kind = "format" }, "does not know orders"},
		"unknown pool": {func(_ *Found, o *api.Order) { o.Kind = api.OrderKindScrub }, "no pool system on " +
			"this host"},
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
	r := &rack{drives: []Found{{Looked: true, Path: "/dev/x9", Transport: wired{identify: drive.EncodeIdentify(d)}}}}
	a, dir := newAgent(t, r, &service{seen: map[string]int{}})
	o := api.Order{
		Id:      "01ORDER",
		Kind:    api.OrderKindJoin,
		Slot:    "1",
		Drive:   wire.Identity(d.Identity),
		Expires: time.Now().Add(time.Minute),
	}
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

// TestRefusedForGood: a report that is refused permanently does not block others; it is set aside, within a bound,
// counted, and the next report says so.
func TestRefusedForGood(t *testing.T) {
	s := &service{seen: map[string]int{}}
	r := &rack{drives: []Found{{Looked: true, Path: "/dev/x9", Transport: wired{
		identify: drive.EncodeIdentify(described("VR7NW001")), smart: drive.EncodeSmartData(drive.SmartData{})}}}}
	a, dir := newAgent(t, r, s)
	bad := map[string]bool{}
	s.refuse = func(r api.Report) bool { return bad[r.Id] }
	for i := range 2 * refusedBound {
		// Some are refused when they are made, some out of the queue.
		s.mu.Lock()
		s.status = map[bool]int{true: http.StatusInsufficientStorage}[i%2 == 0]
		s.refuse = func(r api.Report) bool { return bad[r.Id] || i%2 == 1 }
		s.mu.Unlock()
		_, _ = a.look(t.Context())
		for _, n := range a.spool.names {
			bad[strings.TrimSuffix(n, ".json")] = true
		}
	}
	s.mu.Lock()
	s.status, s.refuse = 0, func(r api.Report) bool { return bad[r.Id] }
	s.mu.Unlock()
	again, err := New(a.Config) // the agent is restarted
	require.NoError(t, err)
	lookOnce(t, again)
	require.Zero(t, again.spool.count())
	require.NotEmpty(t, s.reports)
	last := s.reports[len(s.reports)-1]
	require.Equal(t, 2*refusedBound, last.Refused.Count)
	require.Contains(t, last.Refused.Says, "could not be read")
	kept, err := filepath.Glob(filepath.Join(dir, "refused", "*.json"))
	require.NoError(t, err)
	require.Len(t, kept, refusedBound)
}

// TestSpool: undelivered reports are stored, within a bound, and delivered later, in order, once.
func TestSpool(t *testing.T) {
	s := &service{status: http.StatusInsufficientStorage, seen: map[string]int{}}
	r := &rack{
		drives: []Found{
			{
				Looked: true,
				Path:   "/dev/x9",
				Transport: wired{
					identify: drive.EncodeIdentify(described("VR7NW001")),
					smart:    drive.EncodeSmartData(drive.SmartData{}),
				},
			},
		},
	}
	a, dir := newAgent(t, r, s)
	for range 3 {
		require.NotPanics(t, func() { _, _ = a.look(t.Context()) })
	}
	require.Equal(t, 3, a.spool.count())
	require.NoError(t, os.WriteFile(filepath.Join(dir, "undelivered", "00000000DAMAGED.json"), []byte("{"), 0o600))
	again, err := New(a.Config) // the agent is restarted
	require.NoError(t, err)
	s.mu.Lock()
	s.status = 0
	s.mu.Unlock()
	lookOnce(t, again)
	require.Zero(t, again.spool.count())
	require.Len(t, s.reports, 4)
	for i := 1; i < len(s.reports); i++ {
		require.False(t, s.reports[i].At.Before(s.reports[i-1].At), "the oldest first")
	}
	require.NoError(t, again.send(t.Context(), s.reports[0]), "a report whose answer was lost counts as delivered")
	require.FileExists(
		t,
		filepath.Join(dir, "undelivered", "00000000DAMAGED.json.damaged"),
		"what cannot be read is set aside, not lost",
	)
}

// recorded writes down what it is told, and answers as wired does.
type recorded struct {
	wired
	told *[]string
}

func (r recorded) Execute(ctx context.Context, cdb, in []byte) ([]byte, error) {
	if in == nil || drive.Sends(cdb) {
		*r.told = append(*r.told, fmt.Sprintf("%x", cdb))
	}
	if drive.Sends(cdb) {
		first, last, err := drive.DecodeSelective(in)
		*r.told = append(*r.told, fmt.Sprintf("%d to %d", first, last))
		return nil, err
	}
	return r.wired.Execute(ctx, cdb, in)
}

// TestSelfTestOrders: a test is started on the drive that answers to the name, in its own language, and on no other;
// one that sleeps is left alone.
func TestSelfTestOrders(t *testing.T) {
	d := described("VR7NW001")
	var told []string
	r := &rack{
		drives: []Found{
			{
				Looked:    true,
				Path:      "/dev/x9",
				Transport: recorded{wired{identify: drive.EncodeIdentify(d), power: 0xFF}, &told},
			},
		},
	}
	a, _ := newAgent(t, r, &service{seen: map[string]int{}})
	order := func(serial, kind string, on bool) error {
		id := d.Identity
		id.Serial = serial
		_, err := a.do(
			t.Context(),
			api.Order{
				Kind:    api.OrderKindSelftest,
				Drive:   wire.Identity(id),
				Test:    kind,
				On:      on,
				Expires: time.Now().Add(time.Minute),
			},
		)
		return err
	}
	start, _ := drive.StartSelfTest(drive.SelfTestExtended)
	require.NoError(t, order("VR7NW001", "extended", true))
	require.Contains(t, told, fmt.Sprintf("%x", drive.EncodePassThrough(start, false)))
	require.True(t, a.again.Load(), "what came of it is read soon")
	require.NoError(t, order("VR7NW001", "extended", false))
	require.Contains(t, told, fmt.Sprintf("%x", drive.EncodePassThrough(drive.StopSelfTest, false)))
	// A selective test gets its span first.
	_, err := a.do(
		t.Context(),
		api.Order{
			Kind:     api.OrderKindSelftest,
			Drive:    wire.Identity(d.Identity),
			Test:     "selective",
			On:       true,
			FirstLba: 1000,
			LastLba:  2000,
			Expires:  time.Now().Add(time.Minute),
		},
	)
	require.NoError(t, err)
	selective, _ := drive.StartSelfTest(drive.SelfTestSelective)
	require.Equal(
		t,
		[]string{
			fmt.Sprintf("%x", drive.EncodePassThroughOut(drive.SmartWriteSelective)),
			"1000 to 2000",
			fmt.Sprintf("%x", drive.EncodePassThrough(selective, false)),
		},
		told[len(told)-3:],
	)
	n := len(told)
	var no *refusal
	require.ErrorAs(t, order("VR7ZZ999", "short", true), &no, "another drive answers")
	require.ErrorAs(t, order("VR7NW001", "palm-reading", true), &no)
	r.drives[0].Transport = recorded{wired{identify: drive.EncodeIdentify(d), power: 0}, &told}
	require.ErrorContains(t, order("VR7NW001", "short", true), "asleep")
	for _, cmd := range told[n:] {
		require.Equal(
			t,
			fmt.Sprintf("%x", drive.EncodePassThrough(drive.CheckPowerMode, false)),
			cmd,
			"nothing but a look at its power",
		)
	}
	_, err = a.do(
		t.Context(),
		api.Order{
			Kind:    api.OrderKindSelftest,
			Drive:   wire.Identity(d.Identity),
			Test:    "short",
			On:      true,
			Wake:    true,
			Expires: time.Now().Add(time.Minute),
		},
	)
	require.NoError(t, err, "somebody said that it may be woken")
}
