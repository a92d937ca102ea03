// Package service is the application: what is known of the fleet, what is under way, and what becomes of reports and
// of people's wishes. Memory is a copy of the store: every change is written first, and after a write that failed the
// copy is made anew.
package service

import (
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"sync"
	"time"

	"lantern/internal/api"
	"lantern/internal/channel"
	"lantern/internal/clock"
	"lantern/internal/core/drive"
	"lantern/internal/core/enclosure"
	"lantern/internal/core/health"
	"lantern/internal/core/history"
	"lantern/internal/core/notice"
	"lantern/internal/core/pool"
	"lantern/internal/core/recovery"
	"lantern/internal/core/selftest"
	"lantern/internal/core/swap"
	"lantern/internal/store"
	"lantern/internal/wire"
)

// Service holds the fleet. Make one with New.
type Service struct {
	*Ledger
	work work

	mu     sync.Mutex
	hosts  map[string]*host
	drives map[string]*disk
	pools  map[string]*poolState
	swaps  map[string]*swapState
	// acceptances are tests of new drives, campaigns ordered sets of swaps, by their ids.
	acceptances  map[string]*acceptance
	acceptPolicy acceptPolicy
	campaigns    map[string]*swap.Campaign
	orders       map[string]*order // those without an outcome
	lights       map[string]*light // those that have not ended
	recov        map[string]*course
	judged       *judgement
	behind       map[string]bool // drives of which something came that is not in their records yet
	past         map[string]judged
	// unwritten are drives of whose findings something changed that is not kept yet. badLinks are the tails, by key, of the
	// drives whose link was bad, by bay.
	unwritten map[string]bool
	badLinks  map[string]map[string]string
	foundLog  []*store.FoundLog
	rules
	// notices are those that are open. notifiedAt is when they were last looked at; nothing is said before graceUntil, while
	// hosts that were there before a restart have not had time to report.
	notices []notice.Notice
	runs    map[string]*testRun // self-tests under way, by drive
	planning
	bayMaps
	strangers    map[string]time.Time         // bays that are occupied by something that does not answer, since when
	hours        map[string]api.PriorityHours // by pool
	turned       map[string]time.Time         // when its priority was last ordered by them
	shifts       map[string]health.Shift      // by drive: what is odd about where it is
	surveyFailed map[string]string            // why a drive that is looked for could not be lit
	notifiedAt   time.Time
	urgent       bool // somebody must be told with the next look, at once
	testEnded    func(b *store.Batch, r *testRun)
	news         func() []notice.Notice // the notices that are open
	graceUntil   time.Time
	uses         map[string][]store.PoolUse
	channels     []outlet
	deliveries   []*store.Delivery // not done
	sender       channel.Sender
	forgot       time.Time    // when old ids were last let go
	practice     api.Practice // set when this is one
	// batches are the keys of drives whose serials begin alike.
	batches map[string][]string
	wake    map[string]chan struct{}
}

// planning is which tests are due when. crowds are those that find no place; replanAt is when places are looked over again,
// shape what they were made for.
type planning struct {
	plans    map[string]*plan
	items    []selftest.Item
	crowds   []selftest.Crowd
	replanAt time.Time
	turnAt   time.Time // when it is next looked at what is due
	shape    string
	// twinNames says of pools' names whether more than one pool has it; nil when it must be made out anew.
	twinNames map[string]bool
}

type host struct {
	store.Host
	report api.Report
	quiet  bool
	taken  []string      // ids of its newest reports
	skew   time.Duration // how far its clock was behind ours in the newest report
}

// work is what swaps are under way, for those that they concern.
type work interface {
	// askedOut says whether a drive is out because a swap asked for it, askedDown the same of a host; not for too long yet.
	askedOut(key string, now time.Time) bool
	askedDown(host string, now time.Time) bool
	// swapIn says who leads the swap that was begun in a pool, onHost whether any is open on a host.
	swapIn(poolID string) (lead string, begun bool)
	onHost(host string) bool
	// promised says to the swap of which old drive another was promised, if not to that with the given id; waitsIn who leads the swap that
	// waits for a drive to be confirmed.
	promised(key, id string) string
	waitsIn(key string) (lead string, waits bool)
	// leads says what a person leads, and what to do about it; empty when nothing.
	leads(person string) error
}

// disk is one drive as it is remembered.
type disk struct {
	facts
	record  history.Record
	version int // changes with everything that a finding can depend on
	loose   int // readings that were not folded yet
	thinned time.Time
	// standing is what was found and not cleared yet; standingKept is when it was written down.
	standing     []health.Standing
	standingKept time.Time
	// busy is the share of the last minutes in which it did I/O, as of busyAt.
	busy   float64
	busyAt time.Time
	// stalled is since when its self-test makes no progress, zero while it does.
	stalled time.Time
}

// facts are what is kept of a drive as JSON.
type facts struct {
	Desc    drive.Description `json:"desc"`
	Host    string            `json:"host"`
	Section string            `json:"section"`
	Bay     int               `json:"bay"`
	How     enclosure.How     `json:"how,omitempty"` // how its bay is known
	Path    string            `json:"path"`
	Present bool              `json:"present"`
	FirstAt time.Time         `json:"first_at"`
	SeenAt  time.Time         `json:"seen_at"`
	Holds   []string          `json:"holds"`
	Blind   string            `json:"blind"`
	// Looked says that both its ends were read, so that Holds is all that lies there; Uses is what depends on it, and Told that its
	// agent can tell of that; Paths are the ways to it where there are several; Layout its partition table.
	Looked   bool               `json:"looked,omitempty"`
	Uses     []api.Use          `json:"uses,omitempty"`
	Told     bool               `json:"uses_told,omitempty"`
	Paths    []api.DrivePath    `json:"paths,omitempty"`
	Layout   api.PartitionTable `json:"layout,omitzero"`
	Reading  api.Reading        `json:"reading"`  // the newest, its metrics left out
	Replaced bool               `json:"replaced"` // by a swap: that it is gone is no fault
	Names    []string           `json:"names,omitempty"`
	Stays    []health.Stay      `json:"stays,omitempty"`     // the bays it was in, in order of time
	BadLinks []string           `json:"bad_links,omitempty"` // the bays in which its link was bad
	// Stock says that it is kept to replace others, StockNote what people wrote to that; Accepted how its newest test before
	// it is trusted ended.
	Stock     bool     `json:"stock,omitempty"`
	StockNote string   `json:"stock_note,omitempty"`
	Accepted  accepted `json:"accepted,omitzero"`
	// Past is the gravest that was found of it: it is not stock again before it has passed the test of a new drive.
	Past past `json:"past,omitzero"`
	// Failed is where its newest failed self-test stopped, and what its pool says lies there.
	Failed *api.FailedAt `json:"failed,omitempty"`
	// Took is how long its newest tests of each kind took from order to end, the newest first.
	Took map[string][]time.Duration `json:"took,omitempty"`
	// Life is what its counters had counted when they began anew; nil when it must be made out from all readings.
	Life map[drive.MetricName]history.Life `json:"life"`
}

type poolState struct {
	pool.Pool
	reporter string // the host whose report it is from
	at       time.Time
	running  []string // ids of recoveries that are running or paused
	offers   []string // what can be asked of it
	priority string
	torn     bool   // it changed while it was read, again and again
	waits    string // why a recovery that should run does not
	// unseen is since when its host reports and does not report it any more, zero while it does; wrong says what of its report cannot
	// be; witness is the second account of its members.
	unseen  time.Time
	wrong   string
	witness api.Witness
	// drives are the keys of the drives that have a place in it.
	drives map[string]bool
}

type swapState struct {
	swap.State
	version int
}

type order struct {
	api.Order
	swap  string
	nth   int
	light string
	test  string // the drive whose self-test it starts or stops
}

type light struct{ api.Light }

type course struct {
	recovery.Report
	PoolID   string    `json:"pool_id"`
	PoolName string    `json:"pool_name"`
	SeenAt   time.Time `json:"seen_at"`
	Turns    []turn    `json:"turns,omitempty"` // of its priority
	samples  []recovery.Sample
	profile  *recovery.Profile // how its time was spread; nil while it runs, and for one that was not seen whole
	scores   []float64         // how right its ranges were
	profiled bool
	scored   bool
	told     *recovery.Range // its finish, worked out from toldOf
	toldOf   toldOf
}

// toldOf is what a finish was worked out from.
type toldOf struct {
	samples, past, kin, scores int
	done                       drive.Bytes
	reach                      float64
}

// turn is when a recovery's priority became another.
type turn struct {
	At       time.Time `json:"at"`
	Priority string    `json:"priority"`
}

// After a start, hosts that were known are given so long to report before anybody is told that they are silent.
const (
	grace     = 70 * time.Second
	graceWall = 10 * time.Second
)

// New loads everything from the store.
func New(st *store.Store, c clock.Clock, log *slog.Logger) (*Service, error) {
	s := &Service{Ledger: &Ledger{clock: c, store: st, log: log, bus: newBus()}, wake: map[string]chan struct{}{}, surveyFailed: map[string]string{}}
	s.work, s.testEnded = s, s.testToAcceptance
	s.news = func() []notice.Notice { return s.notices }
	s.before = s.writeStanding
	s.after = func(*store.Batch) { s.recallLate() }
	s.failed = func(err error) error {
		if again := s.load(); again != nil {
			s.log.Error("memory could not be made anew", "error", again)
		}
		if errors.Is(err, store.ErrTwice) {
			return errTaken
		}
		return err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	return s, s.load()
}

// load makes the copy in memory from what is in the store.
func (s *Service) load() error {
	s.hosts, s.drives, s.pools = map[string]*host{}, map[string]*disk{}, map[string]*poolState{}
	s.swaps, s.orders, s.lights, s.recov = map[string]*swapState{}, map[string]*order{}, map[string]*light{}, map[string]*course{}
	s.judged, s.past, s.batches = nil, nil, map[string][]string{}
	s.unwritten, s.badLinks, s.foundLog = map[string]bool{}, map[string]map[string]string{}, nil
	if err := s.loadRules(); err != nil {
		return err
	}
	if err := s.loadPriorities(); err != nil {
		return err
	}

	drives, err := store.All[store.Drive](s.store, "key", "")
	if err != nil {
		return err
	}
	for _, row := range drives {
		d := &disk{record: history.Record{}}
		if err := json.Unmarshal(row.Doc, &d.facts); err != nil {
			return fmt.Errorf("facts of drive %s: %w", row.Key, err)
		}
		if d.Section != "" && d.How == "" {
			d.How = enclosure.Told // it was noted before bays could be known otherwise
		}
		s.know(row.Key, d)
		for _, bay := range d.BadLinks {
			s.badLink(row.Key, d, bay)
		}
	}
	if err := s.loadReadings(); err != nil {
		return err
	}
	if err := s.loadStanding(); err != nil {
		return err
	}

	hosts, err := store.All[store.Host](s.store, "name", "")
	if err != nil {
		return err
	}
	for _, row := range hosts {
		h := &host{Host: row}
		if len(row.Report) > 0 {
			if err := json.Unmarshal(row.Report, &h.report); err != nil {
				return fmt.Errorf("report of host %s: %w", row.Name, err)
			}
		}
		s.hosts[row.Name] = h
		for _, p := range h.report.Pools {
			s.takePool(h.Name, h.SeenAt, p)
		}
	}

	if len(hosts) > 0 {
		s.graceUntil = s.clock.Now().Add(s.clock.AtLeast(grace, graceWall))
	}
	if err := errors.Join(s.loadNotices(), s.loadChannels(), s.loadDeliveries(), s.loadRuns(), s.loadPlans(), s.loadBays()); err != nil {
		return err
	}
	if err := errors.Join(s.loadAcceptances(), s.loadCampaigns()); err != nil {
		return err
	}
	if err := s.loadSwaps(); err != nil {
		return err
	}
	orders, err := store.All[store.Order](s.store, "id", "state = ?", string(api.OrderStateWaiting))
	if err != nil {
		return err
	}
	for _, row := range orders {
		o := &order{swap: row.Swap, nth: row.Nth, light: row.Light}
		if err := json.Unmarshal(row.Doc, &o.Order); err != nil {
			return fmt.Errorf("order %s: %w", row.ID, err)
		}
		s.orders[row.ID] = o
	}
	lights, err := store.All[store.Light](s.store, "id", "ended = ?", false)
	if err != nil {
		return err
	}
	for _, row := range lights {
		l := &light{}
		if err := json.Unmarshal(row.Doc, &l.Light); err != nil {
			return fmt.Errorf("light %s: %w", row.ID, err)
		}
		s.lights[row.ID] = l
	}
	return s.loadRecoveries()
}

func (s *Service) loadStanding() error {
	rows, err := store.All[store.Standing](s.store, "drive", "")
	if err != nil {
		return err
	}
	for _, row := range rows {
		d := s.drives[row.Drive]
		if d == nil {
			continue
		}
		if err := json.Unmarshal(row.Doc, &d.standing); err != nil {
			return fmt.Errorf("findings of drive %s: %w", row.Drive, err)
		}
	}
	return nil
}

func (s *Service) badLink(key string, d *disk, bay string) {
	if s.badLinks[bay] == nil {
		s.badLinks[bay] = map[string]string{}
	}
	s.badLinks[bay][key] = d.tail()
}

func (s *Service) loadSwaps() error {
	events, err := store.All[store.SwapEvent](s.store, "swap, seq", "")
	if err != nil {
		return err
	}
	for _, row := range events {
		var e swap.Event
		if err := json.Unmarshal(row.Doc, &e); err != nil {
			return fmt.Errorf("event %d of swap %s: %w", row.Seq, row.Swap, err)
		}
		w := s.swaps[row.Swap]
		if w == nil {
			w = &swapState{}
			s.swaps[row.Swap] = w
		}
		w.State, _, _ = swap.Apply(w.State, e)
		w.version = row.Seq
	}
	return nil
}

func (s *Service) loadRecoveries() error {
	rows, err := store.All[store.Recovery](s.store, "started", "")
	if err != nil {
		return err
	}
	for _, row := range rows {
		c := &course{}
		if err := json.Unmarshal(row.Doc, c); err != nil {
			return fmt.Errorf("recovery %s: %w", row.ID, err)
		}
		s.recov[row.ID] = c
	}
	samples, err := store.All[store.Sample](s.store, "recovery, at", "")
	if err != nil {
		return err
	}
	for _, row := range samples {
		if c := s.recov[row.Recovery]; c != nil {
			c.samples = append(c.samples, recovery.Sample{At: time.UnixMilli(row.At).UTC(), Done: drive.Bytes(row.Done), Todo: drive.Bytes(row.Todo)})
		}
	}
	return nil
}

// know puts a drive among those that are remembered.
func (s *Service) know(key string, d *disk) {
	s.drives[key] = d
	s.batches[batch(d)] = append(s.batches[batch(d)], key)
}

func (d *disk) row() *store.Drive {
	return &store.Drive{Key: d.Desc.Key(), Doc: document(d.facts)}
}

func (d *disk) tail() string { return d.Desc.Tail() }

func (d *disk) bay() string {
	if d.Section == "" {
		return ""
	}
	return fmt.Sprintf("%s/%s/%d", d.Host, d.Section, d.Bay)
}

// takePool puts a reported pool into memory. A place whose drive is not named keeps the one that was last seen there.
func (s *Service) takePool(from string, at time.Time, p api.PoolReport) {
	before := s.pools[p.Id]
	if before == nil || before.Name != p.Name {
		s.twinNames = nil
	}
	if before != nil && before.at.After(at) {
		return
	}
	next := &poolState{Pool: wire.ToPool(p), reporter: from, at: at, offers: p.Offers, priority: p.Priority, torn: p.Inconsistent, waits: p.Waits, unseen: p.NotSeenSince, witness: p.Witness, drives: map[string]bool{}}
	next.Watched = next.Watched || len(p.Offers) == 0
	if err := next.Check(); err != nil {
		next.wrong = err.Error()
	}
	next.Everyone(func(_ string, m *pool.Member) {
		if m.Drive == "" && before != nil && m.State != pool.Out {
			was, _, _ := before.Slot(m.Slot)
			m.Drive = was.Drive
		}
		for _, key := range append([]string{m.Drive}, m.Drives...) {
			next.drives[key] = true
		}
	})
	for _, r := range p.Recoveries {
		if r.Id != "" && next.unseen.IsZero() && (r.State == string(recovery.Running) || r.State == string(recovery.Paused)) {
			next.running = append(next.running, r.Id)
		}
	}
	s.pools[p.Id] = next
}
