package views

import (
	"cmp"
	"maps"
	"slices"
	"strings"

	"lantern/internal/api"
	"lantern/internal/core/drive"
	"lantern/internal/core/health"
	"lantern/internal/core/history"
	"lantern/internal/core/inventory"
	"lantern/internal/nearest"
	"lantern/internal/service/fleet"
	"lantern/internal/service/problem"
)

// Drives lists matching drives, a page at a time, in the order of pool, host and bay.
func (s *Service) Drives(f api.ListDrivesParams) (api.DrivePage, error) {
	where, known, err := conditions(f.Where)
	if err != nil {
		return api.DrivePage{}, err
	}
	metric := drive.MetricName(strings.TrimPrefix(f.Sort, "-"))
	if _, ok := drive.MetricByName(metric); !ok && metric != "" && metric != "verdict" && metric != "place" {
		return api.DrivePage{}, problem.New(
			422,
			"bad-sort",
			"All metrics: lantern metrics",
			"Drives can be sorted by place, verdict or a metric, not by %q%s",
			metric,
			nearest.Meant(string(metric), append(drive.Names(), "place", "verdict")),
		)
	}
	with, err := metricsNamed(f.With)
	if err != nil {
		return api.DrivePage{}, err
	}
	for _, names := range []*[]string{&f.Host, &f.Pool, &f.Model} {
		*names = slices.DeleteFunc(*names, func(n string) bool { return n == "" }) // an empty one selects everything
	}
	f.Verdict = slices.DeleteFunc(f.Verdict, func(v api.Verdict) bool { return v == "" })
	s.mu.RLock()
	defer s.mu.RUnlock()
	if err := s.namesThere(f); err != nil {
		return api.DrivePage{}, err
	}
	places := s.judging.Places()
	fits := s.sorted(s.fitting(f, where, known), f.Sort)
	page := api.DrivePage{Drives: []api.Drive{}, Total: len(fits)}
	from := 0
	if f.Cursor != "" {
		i := slices.Index(fits, s.fleet.Drives[f.Cursor])
		if i < 0 {
			return page, problem.New(
				422,
				"bad-cursor",
				"Begin again without a cursor.",
				"The cursor is of another list.",
			)
		}
		from = i + 1
	}
	limit := f.Limit
	if limit == 0 {
		limit = 200
	}
	for _, d := range fits[from:] {
		if len(page.Drives) == limit {
			page.Next = page.Drives[limit-1].Key
			break
		}
		one := s.viewDrive(d, places[d.Key()], false)
		for _, m := range with {
			if v, ok := s.fleet.ViewMetric(d, m); ok {
				one.Metrics = append(one.Metrics, v)
			}
		}
		page.Drives = append(page.Drives, one)
	}
	return page, nil
}

// conditions parses the conditions of a list: on metrics, and on the inventory.
func conditions(text string) (metrics []history.Comparison, known []inventory.Condition, err error) {
	var rest []string
	for _, part := range strings.Split(text, ",") {
		c, ours, err := inventory.ParseCondition(part)
		switch {
		case err != nil:
			return nil, nil, problem.New(
				422,
				"bad-where",
				"What can be asked for: "+strings.Join(inventory.Comparable(), ", "),
				"%s.",
				err,
			)
		case ours:
			known = append(known, c)
		default:
			rest = append(rest, part)
		}
	}
	if metrics, err = history.ParseWhere(strings.Join(rest, ",")); err != nil {
		return nil, nil, problem.New(
			422,
			"bad-where",
			"All metrics: lantern metrics; of the inventory: "+strings.Join(inventory.Comparable(), ", "),
			"%s.",
			err,
		)
	}
	return metrics, known, nil
}

// metricsNamed are the metrics of a comma-separated list.
func metricsNamed(list string) (with []drive.Metric, err error) {
	for _, n := range strings.FieldsFunc(list, func(r rune) bool { return r == ',' }) {
		m, ok := drive.MetricByName(drive.MetricName(n))
		if !ok {
			return nil, noMetric(n)
		}
		with = append(with, m)
	}
	return with, nil
}

// noMetric is the problem of an unknown metric.
func noMetric(name string) *problem.Problem {
	return problem.New(
		422,
		"no-metric",
		"All metrics: lantern metrics",
		"No metric %q%s",
		name,
		nearest.Meant(name, drive.Names()),
	)
}

// oneOf reports whether a filter selects a value; an empty filter selects all.
func oneOf[T comparable](names []T, v T) bool { return len(names) == 0 || slices.Contains(names, v) }

// namesThere refuses a filter by an unknown host, pool or model: it is a typing error, and an empty list would suggest
// that nothing is wrong.
func (s *State) namesThere(f api.ListDrivesParams) error {
	for _, x := range []struct {
		kind  string
		what  string
		asked []string
		have  func() []string
	}{
		{"no-host", "host", f.Host, func() []string { return slices.Collect(maps.Keys(s.fleet.Hosts)) }},
		{"no-pool", "pool", f.Pool, func() []string { return fleet.PoolNames(s.fleet) }},
		{"no-model", "model", f.Model, s.modelNames},
	} {
		if len(x.asked) == 0 {
			continue
		}
		have := x.have()
		for _, name := range x.asked {
			if !slices.Contains(have, name) {
				return problem.Missing(x.kind, x.what, name, have)
			}
		}
	}
	return nil
}

// modelNames are the models of all drives, each once.
func (s *State) modelNames() []string {
	models := map[string]bool{}
	for _, d := range s.fleet.Drives {
		models[d.Desc.Model] = true
	}
	return slices.Collect(maps.Keys(models))
}

// fitting are the drives that match every filter, in the order of their places.
func (s *State) fitting(
	f api.ListDrivesParams,
	where []history.Comparison,
	known []inventory.Condition,
) (fits []*fleet.Drive) {
	verdicts := s.judging.Judge()
	places := s.judging.Places()
	q := strings.TrimSpace(f.Q)
	if len(f.Host)+len(f.Pool)+len(f.Model)+len(f.Verdict)+len(where)+len(known) == 0 && q == "" {
		return s.fleet.ByPlace()
	}
	needsPool := len(f.Pool) > 0 || q != ""
	for _, d := range s.mayFit(f, q) {
		name := ""
		if needsPool {
			if p := places[d.Key()].Pool; p != nil {
				name = p.Name
			}
		}
		if !oneOf(f.Host, d.Host) || !oneOf(f.Pool, name) || !oneOf(f.Model, d.Desc.Model) ||
			len(f.Verdict) > 0 && !oneOf(f.Verdict, api.Verdict(verdicts[d.Key()].Verdict)) || !d.Matches(q, name) {
			continue
		}
		if !slices.ContainsFunc(where, func(c history.Comparison) bool { return !c.Holds(d.Record) }) &&
			s.inventory.Fits(d, known) {
			fits = append(fits, d)
		}
	}
	return fits
}

// mayFit are the drives that can match a filter, and others, in the order of their places: what the index knows limits
// how many drives are looked at.
func (s *State) mayFit(f api.ListDrivesParams, q string) (out []*fleet.Drive) {
	some := map[*fleet.Drive]bool{}
	add := func(keys map[string]bool) {
		for key := range keys {
			if d := s.fleet.Drives[key]; d != nil {
				some[d] = true
			}
		}
	}
	pools := func(named func(string) bool) {
		for _, p := range s.fleet.SortedPools() {
			if named(p.Name) {
				add(p.DriveKeys())
			}
		}
	}
	switch {
	case len(f.Host) > 0:
		for _, host := range slices.Compact(slices.Sorted(slices.Values(f.Host))) {
			out = append(out, s.fleet.ByHost(host)...)
		}
		return out
	case len(f.Pool) > 0:
		pools(func(name string) bool { return oneOf(f.Pool, name) })
	case len(f.Verdict) > 0 && !slices.Contains(f.Verdict, api.Sound):
		for _, v := range f.Verdict {
			add(s.judging.With(health.Verdict(v)))
		}
	case q != "":
		word := strings.ToUpper(q)
		for _, d := range s.fleet.WithName(word) {
			some[d] = true
		}
		for host := range s.fleet.Hosts {
			if strings.Contains(strings.ToUpper(host), word) {
				for _, d := range s.fleet.ByHost(host) {
					some[d] = true
				}
			}
		}
		pools(func(name string) bool { return strings.Contains(strings.ToUpper(name), word) })
	default:
		return s.fleet.ByPlace()
	}
	if len(some) > max(1000, len(s.fleet.Drives)/8) { // to sort so many takes longer than to look at all
		return s.fleet.ByPlace()
	}
	return slices.SortedFunc(maps.Keys(some), fleet.ByPlace)
}

// sorted sorts drives, given in the order of their places, by place, verdict or a metric; a minus reverses the order.
// The given slice is not changed.
func (s *State) sorted(fits []*fleet.Drive, sort string) []*fleet.Drive {
	metric, back := strings.CutPrefix(sort, "-")
	switch {
	case metric != "" && metric != "place":
	case back && metric != "":
		fits = slices.Clone(fits)
		slices.Reverse(fits)
		return fits
	default:
		return fits
	}
	// Sort keys are computed once. A drive without the metric is last in both directions.
	type valued struct {
		*fleet.Drive
		value float64
		has   bool
	}
	verdicts, all := s.judging.Judge(), make([]valued, len(fits))
	for i, d := range fits {
		all[i] = valued{Drive: d, has: true}
		if metric == "verdict" {
			all[i].value = float64(verdicts[d.Key()].Verdict.Gravity())
			continue
		}
		last, has := d.Record[drive.MetricName(metric)].Last()
		all[i].value, all[i].has = last.Value, has
	}
	slices.SortStableFunc(all, func(a, b valued) int {
		switch {
		case a.has != b.has:
			if a.has {
				return -1
			}
			return 1
		case back:
			return cmp.Compare(b.value, a.value)
		}
		return cmp.Compare(a.value, b.value)
	})
	out := make([]*fleet.Drive, len(all))
	for i, v := range all {
		out[i] = v.Drive
	}
	return out
}

// Search finds drives, pools, hosts and bays by any part of their names: the best twenty, names that end in q first.
func (s *Service) Search(q string) []api.Hit {
	s.mu.RLock()
	defer s.mu.RUnlock()
	type scored struct {
		api.Hit
		score int
		drive *fleet.Drive
	}
	want := Words(q)
	var hits []scored
	scoreOf := func(names ...string) (score int) { return Score(want, names...) }
	add := func(h api.Hit, names ...string) {
		if score := scoreOf(names...); score > 0 {
			hits = append(hits, scored{h, score, nil})
		}
	}
	for _, p := range s.fleet.Pools {
		add(api.Hit{Kind: api.HitKindPool, Title: p.Name, Detail: "pool, " + p.Kind, To: "/pools/" + p.Name}, p.Name)
	}
	for name, host := range s.fleet.Hosts {
		add(
			api.Hit{
				Kind:   api.HitKindHost,
				Title:  name,
				Detail: strings.TrimSuffix("host, "+host.Room, ", "),
				To:     "/bays/" + name,
			},
			name,
			host.Room,
		)
	}
	places := s.judging.Places()
	for _, d := range s.candidates(want) {
		pool := ""
		if len(want) > 1 {
			if p := places[d.Key()].Pool; p != nil {
				pool = p.Name // a pool's name alone means the pool
			}
		}
		if score := scoreOf(d.Desc.Serial, d.Desc.WWN, d.BayName(), d.Desc.Model, pool); score > 0 {
			hits = append(hits, scored{api.Hit{Kind: api.HitKindDrive, Title: d.Tail()}, score, d})
		}
	}
	slices.SortStableFunc(hits, func(a, b scored) int {
		return cmp.Or(-cmp.Compare(a.score, b.score), -cmp.Compare(a.Kind, b.Kind), cmp.Compare(a.Title, b.Title))
	})
	verdicts := s.judging.Judge()
	out := []api.Hit{}
	for _, h := range hits[:min(20, len(hits))] {
		if d := h.drive; d != nil {
			h.Detail, h.To = d.Desc.Serial+" · "+fleet.PlaceWords(d), "/drives/"+d.Key()
			if v := verdicts[d.Key()].Verdict; v != health.Sound {
				h.Detail += " · " + string(v)
			}
		}
		out = append(out, h.Hit)
	}
	return out
}

// candidates are the drives that can match the words of a search: the first word is in one of their names or, where
// there are several words, in the name of their pool.
func (s *State) candidates(want []string) []*fleet.Drive {
	if len(want) == 0 {
		return nil
	}
	out := s.fleet.WithName(want[0])
	if len(want) == 1 {
		return out
	}
	for _, p := range s.fleet.SortedPools() {
		if holds(p.Name, want[0]) == 0 {
			continue
		}
		for key := range p.DriveKeys() {
			if d := s.fleet.Drives[key]; d != nil {
				out = append(out, d)
			}
		}
	}
	slices.SortFunc(out, fleet.ByPlace)
	return slices.Compact(out)
}

// Words are the words of a search.
func Words(q string) []string { return strings.Fields(strings.ToUpper(q)) }

// Score rates how well names match the words of a search, 0 for no match: each word must be in one of them, and a name
// that begins or ends with one counts more.
func Score(want []string, names ...string) (score int) {
	for _, w := range want {
		best := 0
		for _, name := range names {
			best = max(best, holds(name, w))
		}
		if best == 0 {
			return 0
		}
		score += best
	}
	return score
}

// holds rates how well a name matches a word in capitals: 2 if it begins or ends with it, 1 if it contains it, else 0.
func holds(name, word string) int {
	if len(word) == 0 {
		return 0
	}
	best := 0
	for i := 0; i+len(word) <= len(name); i++ {
		if name[i]|0x20 != word[0]|0x20 || !strings.EqualFold(name[i:i+len(word)], word) {
			continue
		}
		if i == 0 || i+len(word) == len(name) {
			return 2
		}
		best = 1
	}
	return best
}
