package views

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"lantern/internal/api"
	"lantern/internal/core/drive"
	"lantern/internal/core/health"
	"lantern/internal/core/inventory"
	"lantern/internal/core/pool"
	"lantern/internal/core/reliability"
	"lantern/internal/core/swap"
	"lantern/internal/core/words"
	"lantern/internal/service/fleet"
	"lantern/internal/service/judging"
	"lantern/internal/service/problem"
)

// kind identifies interchangeable drives of the stock: medium and size.
type kind struct {
	medium   string
	capacity drive.Bytes
}

// byKind are lives by kind of drive.
func byKind(all []lived) map[kind][]reliability.Life {
	lives, kinds := map[kind][]reliability.Life{}, map[string]kind{}
	for _, l := range all {
		if l.capacity > 0 {
			kinds[l.model] = kind{l.medium, l.capacity}
		}
	}
	for _, l := range all {
		k := kind{l.medium, l.capacity}
		if l.capacity == 0 { // it was never seen: assume the kind of others of its model
			k = kinds[l.model]
		}
		lives[k] = append(lives[k], l.Life)
	}
	return lives
}

// use is the use of drives of a kind, and their stock. All lists hold label tails.
type use struct {
	pools   map[string]bool
	members int
	now     []string // members to be replaced, by present or last known facts
	unknown []string // members whose health is unknown now
	stock   []string // in stock, and established as ready for use
	other   []api.StockOther
}

// uses are the uses of all kinds, and the usable stock, by key.
func (s *State) uses() (uses map[kind]*use, ready map[string]*fleet.Drive) {
	uses = map[kind]*use{}
	at := func(d *fleet.Drive) *use {
		k := kind{string(d.Desc.Medium), d.Desc.Capacity}
		if uses[k] == nil {
			uses[k] = &use{pools: map[string]bool{}}
		}
		return uses[k]
	}
	verdicts := s.judging.Judge()
	for _, p := range s.fleet.SortedPools() {
		p.Everyone(func(_ string, m *pool.Member) {
			d := s.fleet.Drives[m.Drive]
			if d == nil {
				return
			}
			u := at(d)
			u.pools[p.Name] = true
			u.members++
			switch v := verdicts[m.Drive]; {
			case toReplace(d, v):
				u.now = append(u.now, d.Tail())
			case v.Verdict == health.Unknown || v.Verdict == "" || s.silent(d.Host):
				u.unknown = append(u.unknown, d.Tail())
			}
		})
	}
	ready = map[string]*fleet.Drive{}
	for key, d := range s.fleet.Drives {
		item, is := s.stock.StockOf(key, d)
		if !is {
			continue
		}
		u := at(d)
		if why := s.notReady(d, item, verdicts[key]); why != "" {
			u.other = append(u.other, api.StockOther{Tail: d.Tail(), Says: why})
			continue
		}
		u.stock = append(u.stock, d.Tail())
		ready[key] = d
	}
	return uses, ready
}

// toReplace describes a member that is to be replaced, by present or last known facts.
func toReplace(d *fleet.Drive, j judging.Judged) bool {
	grave := func(v health.Verdict) bool { return v == health.Replace || v == health.Dead }
	return grave(j.Verdict) ||
		(j.Verdict == health.Unknown || j.Verdict == "") &&
			(slices.ContainsFunc(j.Findings, func(f health.Finding) bool { return grave(f.Verdict) }) ||
				slices.ContainsFunc(d.Standing, func(x health.Standing) bool { return grave(x.Verdict) }))
}

// silent describes that a host does not report now, so its facts may be old (R7).
func (s *State) silent(host string) bool {
	h := s.fleet.Hosts[host]
	return h == nil || s.fleet.Late(h, s.Clock.Now())
}

// notReady says why a drive of stock does not count: a drive counts when it passed its acceptance test, is sound, and
// is where it can be taken: in a bay of a host that reports, or, as people wrote on that day or later, on the shelf.
func (s *State) notReady(d *fleet.Drive, item api.StockItem, v judging.Judged) string {
	switch {
	case item.Promised != "":
		return "reserved by the swap of " + item.Promised
	case item.Accepted == api.StockItemAcceptedFailed:
		return "acceptance test: failed"
	case item.Accepted == api.StockItemAcceptedRunning:
		return "acceptance test: running"
	case item.Accepted != api.StockItemAcceptedPassed:
		return "acceptance test: not run"
	case s.fleet.Distrust(d) != "":
		return s.fleet.Distrust(d)
	case !d.Present || s.silent(d.Host):
		last := d.SeenAt.UTC().Format(inventory.Day)
		if i := s.inventory.Of(d); i != nil && (i.State == inventory.Stock || i.State == inventory.Spare) &&
			i.StateDay >= last {
			return ""
		}
		return fmt.Sprintf("not seen since %s; if it is on the shelf: lantern inventory set %s state=stock", last, d.Tail())
	case v.Verdict != health.Sound:
		return "verdict: " + cmp.Or(string(v.Verdict), string(health.Unknown))
	}
	return ""
}

// covers gives for each pool the places that a spare of the pool or a drive of the stock would fit.
func (s *State) covers(ready map[string]*fleet.Drive) []api.StockCover {
	out := []api.StockCover{}
	free := make([]swap.Drive, 0, len(ready))
	for _, key := range slices.Sorted(maps.Keys(ready)) {
		free = append(free, *s.stock.SwapDrive(ready[key]))
	}
	verdicts := s.judging.Judge()
	for _, p := range s.fleet.SortedPools() {
		c := api.StockCover{Pool: p.Name, By: []string{}, Open: []string{}}
		by := map[string]bool{}
		known := p.WhyUnknown() == "" && !s.silent(p.Reporter)
		p.Everyone(func(group string, m *pool.Member) {
			if group == "" || m.Under != "" || m.State == pool.Standby {
				return
			}
			c.Places++
			found := false
			if place, _, ok := s.stock.PlaceOf(&p.Pool, *m); ok && known {
				for i := range p.Spares {
					spare := &p.Spares[i]
					if d := s.fleet.Drives[spare.Drive]; spare.State == pool.Standby && d != nil &&
						verdicts[spare.Drive].Verdict == health.Sound && s.stock.SpareOffered(&p.Pool, place, spare) {
						found, by["spare "+d.Tail()] = true, true
					}
				}
				for _, d := range free {
					if place.Unfit(d) == "" {
						found, by[d.Tail()] = true, true
					}
				}
			}
			if !found {
				c.Open = append(c.Open, m.Slot)
			}
		})
		c.By = sorted(by)
		if !known {
			c.Says = "not known: " + cmp.Or(p.WhyUnknown(), p.Reporter+" does not report")
		}
		out = append(out, c)
	}
	return out
}

// Advice gives how many drives of each kind to stock until a delivery, and what to buy.
func (s *Service) Advice(leadDays, confidence float64) (api.StockAdvice, error) {
	leadDays, confidence = cmp.Or(leadDays, 14), cmp.Or(confidence, sureOf)
	if leadDays < 1 || leadDays > 730 || confidence < 0.5 || confidence > 0.999 {
		return api.StockAdvice{}, problem.New(
			422,
			"bad-question",
			"Such as 14 days and 0.95.",
			"A delivery takes 1 to 730 days, and the confidence is from 0.5 to 0.999.",
		)
	}
	s.mu.RLock()
	defer s.mu.RUnlock()
	all, err := s.lives(countsReplace)
	if err != nil {
		return api.StockAdvice{}, err
	}
	out := api.StockAdvice{
		LeadDays:   leadDays,
		Confidence: confidence,
		Kinds:      []api.StockNeed{},
		Uncovered:  []string{},
		Cover:      []api.StockCover{},
	}
	lives := byKind(all)
	uses, ready := s.uses()
	lead := time.Duration(leadDays * 24 * float64(time.Hour))
	bare := make([]reliability.Life, 0, len(all))
	for _, l := range all {
		bare = append(bare, l.Life)
	}
	whole := reliability.RateOf(bare, confidence)
	for k, u := range uses {
		r := reliability.RateOf(lives[k], confidence)
		rate := reliability.Expect(r, whole)
		need := reliability.NeedOf(len(u.now), u.members, rate, lead, confidence)
		slices.Sort(u.now)
		slices.Sort(u.stock)
		slices.Sort(u.unknown)
		slices.SortFunc(u.other, func(a, b api.StockOther) int { return cmp.Compare(a.Tail, b.Tail) })
		v := api.StockNeed{
			Medium: k.medium, CapacityBytes: int64(k.capacity), Members: u.members, Pools: sorted(u.pools),
			Now: emptyNotNil(u.now),
			Unknown: emptyNotNil(
				u.unknown,
			), Stock: emptyNotNil(u.stock), Other: append([]api.StockOther{}, u.other...), Expected: need.Mean,
			PerYear: rate, Hold: need.Hold, Risk: need.Risk, Buy: max(0, need.Hold-len(u.stock)),
		}
		v.Says = adviceWords(v, r, leadDays)
		out.Kinds = append(out.Kinds, v)
	}
	slices.SortFunc(out.Kinds, func(a, b api.StockNeed) int {
		return cmp.Or(
			cmp.Compare(b.Buy, a.Buy),
			cmp.Compare(b.Hold, a.Hold),
			cmp.Compare(a.Medium, b.Medium),
			cmp.Compare(a.CapacityBytes, b.CapacityBytes),
		)
	})
	out.Cover = s.covers(ready)
	for _, c := range out.Cover {
		if len(c.Open) > 0 {
			out.Uncovered = append(out.Uncovered, c.Pool)
		}
	}
	return out, nil
}

func adviceWords(v api.StockNeed, r reliability.Rate, leadDays float64) string {
	now := "none now"
	if len(v.Now) > 0 {
		now = "now " + strings.Join(v.Now, ", ")
	}
	if n := len(v.Unknown); n > 0 {
		now += fmt.Sprintf("; %s of unknown health, which may need more", words.Count(n, "member"))
	}
	if n := len(v.Other); n > 0 {
		now += fmt.Sprintf("; %d in stock not counted", n)
	}
	return fmt.Sprintf(
		"%s; %.2f expected in %.0f days at %.1f %% a year (%s in %.0f drive-years)",
		now,
		v.Expected,
		leadDays,
		100*v.PerYear,
		words.Count(r.Failures, "failure"),
		r.Years,
	)
}

func sorted(m map[string]bool) []string {
	out := make([]string, 0, len(m))
	for k := range m {
		out = append(out, k)
	}
	slices.Sort(out)
	return out
}

func emptyNotNil(s []string) []string {
	if s == nil {
		return []string{}
	}
	return s
}
