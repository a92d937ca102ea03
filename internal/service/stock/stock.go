package stock

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"lantern/internal/api"
	"lantern/internal/core/accept"
	"lantern/internal/core/drive"
	"lantern/internal/core/health"
	"lantern/internal/core/pool"
	"lantern/internal/core/swap"
	"lantern/internal/service/fleet"
	"lantern/internal/service/problem"
	"lantern/internal/store"
)

// Stock lists the drives that are kept to replace others: drives that people added, accepted drives, and blank drives
// in a bay that are in no pool.
func (s *Service) Stock() []api.StockItem {
	s.mu.RLock()
	defer s.mu.RUnlock()
	return s.Items()
}

// Items are the drives that Stock lists.
func (s *State) Items() []api.StockItem {
	out := []api.StockItem{}
	for key, d := range s.fleet.Drives {
		if s.isStock(key, d) {
			out = append(out, s.viewStock(key, d))
		}
	}
	slices.SortFunc(out, func(a, b api.StockItem) int {
		return cmp.Or(
			fleet.BoolInt(b.Here)-fleet.BoolInt(a.Here),
			cmp.Compare(a.Model, b.Model),
			cmp.Compare(a.Tail, b.Tail),
		)
	})
	return out
}

func (s *State) isStock(key string, d *fleet.Drive) bool {
	if p, _, _ := s.fleet.Member(key); p != nil {
		return false
	}
	if d.Stock {
		return true
	}
	inUse, _ := s.fleet.NotFree(d)
	return inUse == "" && d.Blind == "" && !d.Replaced && s.fleet.Distrust(d) == ""
}

func (s *State) viewStock(key string, d *fleet.Drive) api.StockItem {
	v := api.StockItem{
		Drive:         key,
		Tail:          d.Tail(),
		Model:         d.Desc.Model,
		CapacityBytes: int64(d.Desc.Capacity),
		Medium:        string(d.Desc.Medium),
		Here:          d.Present,
		Kept:          d.Stock,
		Note:          d.StockNote,
		Accepted:      api.StockItemAcceptedNone,
		Promised:      s.fleet.Work.Promised(key, ""),
		Fits:          []string{},
	}
	if d.Present {
		v.Place = fleet.PlaceWords(d)
	}
	switch d.Accepted.State {
	case string(accept.Passed):
		v.Accepted = api.StockItemAcceptedPassed
	case string(accept.Failed):
		v.Accepted = api.StockItemAcceptedFailed
	case string(accept.Running), string(accept.Paused):
		v.Accepted = api.StockItemAcceptedRunning
	}
	if d.Accepted.ID != "" {
		v.AcceptedAt, v.Says = d.Accepted.At, d.Accepted.Says
	}
	if p, ok := d.Record["power_on_hours"].Last(); ok {
		v.PowerOnHours = p.Value
	}
	mine := *s.SwapDrive(d)
	if why := s.fleet.Distrust(d); why != "" {
		v.Says = "it " + why // it fits no place before it is tested and accepted
	} else {
		mine.Testing = false // a running test is shown separately
		v.Fits = append(v.Fits, s.fitsPools(mine)...)
	}
	return v
}

// KeepInStock adds a drive to the stock.
func (s *Service) KeepInStock(by, name, note string) (api.StockItem, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	d, err := s.fleet.FindDrive(name)
	if err != nil {
		return api.StockItem{}, err
	}
	key := d.Key()
	if p, _, _ := s.fleet.Member(key); p != nil {
		return api.StockItem{}, problem.New(
			409,
			"is-member",
			"Swap it out first.",
			"%s is a member of %s.",
			d.Tail(),
			p.Name,
		)
	}
	b := &store.Batch{}
	d.Stock, d.StockNote = true, strings.TrimSpace(note)
	d.Touch()
	b.Put(d.Row())
	s.AddEvent(b, api.EventKindDrive, key, fmt.Sprintf("%s added %s to the stock", by, d.Tail()))
	return s.viewStock(key, d), s.Commit(b)
}

// DropFromStock removes it.
func (s *Service) DropFromStock(by, name string) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	d, err := s.fleet.FindDrive(name)
	if err != nil {
		return err
	}
	if !d.Stock {
		return nil
	}
	b := &store.Batch{}
	d.Stock, d.StockNote = false, ""
	d.Touch()
	b.Put(d.Row())
	s.AddEvent(b, api.EventKindDrive, d.Key(), fmt.Sprintf("%s removed %s from the stock", by, d.Tail()))
	return s.Commit(b)
}

// SwapDrive is a drive as a swap sees it.
func (s *State) SwapDrive(d *fleet.Drive) *swap.Drive {
	out := &swap.Drive{Identity: d.Desc.Identity, Capacity: d.Desc.Capacity}
	if d.How.Sure() {
		out.Bay = d.BayName() // a guess is not reliable enough for work at the rack
	}
	for _, x := range s.fleet.Seats(d.Key()) {
		if x.Member.State != pool.Out && out.Member == "" {
			out.Member = x.Pool.Name
		}
	}
	testing := s.AcceptanceOf(d.Key()) != nil
	uses := s.fleet.Unaccounted(d)
	switch {
	case len(d.Holds) > 0 && !(testing && d.Holds[0] == drive.TestPattern):
		out.Holds = d.Holds[0]
	case len(uses) > 0:
		out.Holds = fleet.UseWords(uses)
	}
	places := s.fleet.Seats(d.Key())
	out.Spare = len(places) == 1 && places[0].Member.State == pool.Standby && len(uses) == 0
	out.Blank = d.Looked && out.Holds == "" && out.Member == ""
	out.Sector, out.Medium, out.Zoned, out.Accepted = d.Desc.LogicalSector, d.Desc.Medium, d.Desc.Zoned, d.Accepted.Words()
	if a := s.AcceptanceByID[d.Accepted.ID]; a != nil && out.Accepted != "" {
		out.Lacks = a.Lacks(s.policy.stages())
	}
	out.Testing = testing
	out.Ill = s.ill(d, out.Member)
	return out
}

// ill says why a drive must not replace another; member is the pool that it is in.
func (s *State) ill(d *fleet.Drive, member string) (why string) {
	if d.Accepted.State == string(api.AcceptanceStateFailed) {
		why = "failed its test of " + d.Accepted.At.UTC().Format("2006-01-02") + ": " + d.Accepted.Says
	}
	if past := s.fleet.Distrust(d); past != "" && member == "" && why == "" {
		why = past
	}
	if len(d.Reading.Unreadable) > 0 {
		why = "answered with a page that is unreadable: " + d.Reading.Unreadable[0].Why
	}
	for _, f := range s.judging.Judge()[d.Key()].Findings {
		if f.Verdict.Gravity() >= health.Watch.Gravity() && f.Strength == drive.Strong && why == "" &&
			f.Rule != "vanished" {
			why = f.Says
		}
	}
	return why
}

// StockOf is a drive as listed in the stock; is reports whether it is in the stock.
func (s *State) StockOf(key string, d *fleet.Drive) (v api.StockItem, is bool) {
	if !s.isStock(key, d) {
		return v, false
	}
	return s.viewStock(key, d), true
}
