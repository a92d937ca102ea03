package sites

import (
	"cmp"
	"maps"
	"net/http"
	"slices"
	"strings"
	"time"

	"lantern/internal/api"
	"lantern/internal/core/health"
	"lantern/internal/service/problem"
	"lantern/internal/service/views"
)

// sortedLocked returns the sites by name.
func (h *Headquarters) sortedLocked() []*site {
	return slices.SortedFunc(maps.Values(h.sites), func(a, b *site) int { return cmp.Compare(a.row.Name, b.row.Name) })
}

// connected reports whether a site sent a heartbeat within silentFor. It sends one only after its newest state.
func (x *site) connected(now time.Time) bool { return now.Sub(x.heard) <= silentFor }

// complete reports whether the states of all hosts that the site lists have arrived.
func (x *site) complete() bool {
	return x.says != nil && !slices.ContainsFunc(x.says.Hosts, func(name string) bool {
		_, there := x.hosts[name]
		return !there
	})
}

// current reports whether the newest state of the site is known.
func (x *site) current(now time.Time) bool { return x.connected(now) && x.complete() }

// asOf is the time of the state of a site, zero if it is current.
func (x *site) asOf(now time.Time) time.Time {
	if x.current(now) {
		return time.Time{}
	}
	return x.at
}

// view is a site as people see it.
func (x *site) view(now time.Time) api.Site {
	out := x.row
	out.Reachable, out.AsOf, out.Version = x.current(now), x.at, x.version
	if !x.heard.IsZero() {
		out.HeardAt = x.heard.UTC()
	}
	if x.says != nil {
		out.Hosts, out.Drives, out.Pools = x.says.Round.Hosts, x.says.Round.Drives, len(x.says.Pools)
		out.InRound = len(x.says.Round.Pools) + len(x.says.Round.Silent)
	}
	for _, host := range x.hosts {
		out.InRound += len(host.Lines)
	}
	switch {
	case out.Reachable:
	case x.says == nil && !x.connected(now):
		out.Says = "not connected yet, no data"
		out.Do = "Start its service with --site " + out.Name + " and --report-to"
	case x.says == nil:
		out.Says = "connected, no data yet"
	case x.connected(now):
		out.Says = "connected, but its data has not arrived completely"
		out.Do = "Wait a minute, then look at the log of its service"
	default:
		out.Says = "not reachable: data is from " + x.at.UTC().Format("2006-01-02 15:04") + " UTC"
		out.Do = "Check that its service runs and that the network between works. The site itself keeps working"
	}
	return out
}

// Sites lists all sites.
func (h *Headquarters) Sites() []api.Site {
	h.mu.Lock()
	defer h.mu.Unlock()
	out, now := []api.Site{}, time.Now()
	for _, x := range h.sortedLocked() {
		out = append(out, x.view(now))
	}
	return out
}

// Round is the round of all sites, in one order.
func (h *Headquarters) Round() api.Round {
	h.mu.Lock()
	defer h.mu.Unlock()
	now := time.Now()
	out := api.Round{At: h.Clock.Now(), Lines: []api.RoundLine{}, Underway: []api.UnderWay{}, Filling: []api.Filling{},
		Awaited: []string{}, Headquarters: true}
	var matters []health.Matter
	lines := map[string]api.RoundLine{}
	for _, x := range h.sortedLocked() {
		name, asOf := x.row.Name, x.asOf(now)
		if v := x.view(now); v.Says != "" {
			out.Sites = append(out.Sites, v)
		}
		if x.says == nil {
			continue
		}
		r := x.says.Round
		out.Hosts, out.Drives = out.Hosts+r.Hosts, out.Drives+r.Drives
		for _, host := range r.Awaited {
			out.Awaited = append(out.Awaited, name+": "+host)
		}
		out.Silent = appendMarked(out.Silent, r.Silent, func(v *api.SilentHost) { v.Site, v.AsOf = name, asOf })
		out.Underway = appendMarked(out.Underway, r.Underway, func(v *api.UnderWay) {
			if v.Site, v.AsOf = name, asOf; !asOf.IsZero() {
				v.Finish = api.Range{} // the estimate is from data that is not current
			}
		})
		out.Filling = appendMarked(out.Filling, r.Filling, func(v *api.Filling) { v.Site, v.AsOf = name, asOf })
		out.Pools = appendMarked(out.Pools, r.Pools, func(v *api.PoolLine) { v.Site, v.AsOf = name, asOf })
		if t := r.Trouble; t.Says != "" && health.Verdict(t.Severity).Gravity() >
			health.Verdict(out.Trouble.Severity).Gravity() {
			out.Trouble = api.ServiceTrouble{Says: name + ": " + t.Says, Do: t.Do, Severity: t.Severity}
		}
		for _, host := range x.hosts {
			for _, l := range host.Lines {
				key := name + " " + l.Matter.Key
				l.Matter.Key = key
				l.Line.Site, l.Line.AsOf = name, asOf
				matters, lines[key] = append(matters, l.Matter), l.Line
			}
		}
	}
	slices.SortFunc(matters, func(a, b health.Matter) int { return cmp.Compare(a.Key, b.Key) })
	health.Rank(matters)
	for _, m := range matters {
		out.Lines = append(out.Lines, lines[m.Key])
	}
	slices.SortStableFunc(out.Silent, func(a, b api.SilentHost) int { return b.Drives - a.Drives })
	return out
}

// appendMarked appends copies that are marked with their site and date.
func appendMarked[T any](to, from []T, mark func(*T)) []T {
	for _, v := range from {
		mark(&v)
		to = append(to, v)
	}
	return to
}

// Horizon shows each site as a block, the worst first; of one that is not reachable the margin is unknown.
func (h *Headquarters) Horizon(blocks int) api.Horizon {
	h.mu.Lock()
	defer h.mu.Unlock()
	now := time.Now()
	out := api.Horizon{Grouped: true, Blocks: []api.HorizonBlock{}, Systems: []api.PoolSystem{}}
	for _, x := range h.sortedLocked() {
		if x.says == nil {
			out.Blocks = append(out.Blocks, api.HorizonBlock{Name: x.row.Name, Site: x.row.Name, Places: 1})
			continue
		}
		b := x.says.Horizon
		b.Name, b.Site, b.Places, b.Known = x.row.Name, x.row.Name, 1, b.Known && x.current(now)
		out.Pools += len(x.says.Pools)
		out.Blocks = append(out.Blocks, b)
		for _, s := range x.says.Systems {
			if i := slices.IndexFunc(out.Systems, func(v api.PoolSystem) bool { return v.Kind == s.Kind }); i >= 0 {
				out.Systems[i].Pools += s.Pools
				out.Systems[i].HostCount += s.HostCount
				continue
			}
			out.Systems = append(out.Systems, s)
		}
	}
	slices.SortStableFunc(out.Blocks, func(a, b api.HorizonBlock) int {
		return cmp.Or(rank(a)-rank(b), a.Margin-b.Margin, b.Below-a.Below)
	})
	if len(out.Blocks) > blocks {
		rest := out.Blocks[blocks-1]
		for _, b := range out.Blocks[blocks:] {
			rest = views.JoinBlocks(rest, b)
		}
		rest.Name, rest.Site = "", ""
		out.Blocks = append(out.Blocks[:blocks-1], rest)
	}
	return out
}

// rank puts blocks with a known margin first.
func rank(b api.HorizonBlock) int {
	if b.Known {
		return 0
	}
	return 1
}

// Stock is the stock of all sites.
func (h *Headquarters) Stock() []api.StockItem {
	h.mu.Lock()
	defer h.mu.Unlock()
	out, now := []api.StockItem{}, time.Now()
	for _, x := range h.sortedLocked() {
		if x.says == nil {
			continue
		}
		out = appendMarked(out, x.says.Stock, func(v *api.StockItem) {
			v.Site, v.AsOf = x.row.Name, x.asOf(now)
			if !v.AsOf.IsZero() {
				v.Fits = []string{} // what it fits now is not known
			}
		})
	}
	return out
}

// Search finds drives, pools, hosts and sites.
func (h *Headquarters) Search(q string) []api.Hit {
	h.mu.Lock()
	defer h.mu.Unlock()
	type scored struct {
		api.Hit
		score int
	}
	want, now := views.Words(q), time.Now()
	var hits []scored
	for _, x := range h.sortedLocked() {
		name := x.row.Name
		dated := ""
		if x.says != nil && !x.current(now) {
			dated = " · as of " + x.at.UTC().Format("2006-01-02 15:04") + " UTC"
		}
		add := func(kind api.HitKind, title, detail, to string, names ...string) {
			if score := views.Score(want, append(names, name)...); score > 0 {
				hits = append(hits, scored{api.Hit{Kind: kind, Title: title, Detail: name + " · " + detail + dated,
					To: "/sites/" + name + to, Site: name}, score})
			}
		}
		if score := views.Score(want, name); score > 0 {
			hits = append(hits, scored{api.Hit{Kind: api.HitKindPage, Title: name, Detail: "site" + dated,
				To: "/sites/" + name + "/", Site: name}, score + 1})
			if len(want) == 1 {
				continue // the name alone means the site, not everything in it
			}
		}
		if x.says != nil {
			for _, p := range x.says.Pools {
				add(api.HitKindPool, p.Name, "pool, "+p.Kind, "/pools/"+p.Name, p.Name)
			}
		}
		for _, host := range x.hosts {
			if slices.ContainsFunc(want, func(w string) bool {
				return !strings.Contains(host.names, w) && views.Score([]string{w}, name) == 0
			}) {
				continue
			}
			add(api.HitKindHost, host.Host, "host", "/bays/"+host.Host, host.Host, host.Room)
			for _, d := range host.Drives {
				pool := ""
				if len(want) > 1 {
					pool = d.Pool
				}
				detail := d.Serial + " · " + d.Place
				if d.Verdict != api.Verdict(health.Sound) {
					detail += " · " + string(d.Verdict)
				}
				add(api.HitKindDrive, d.Tail, detail, "/drives/"+d.Key, d.Serial, d.WWN, d.Bay, d.Model, pool)
			}
		}
	}
	slices.SortFunc(hits, func(a, b scored) int {
		return cmp.Or(-cmp.Compare(a.score, b.score), -cmp.Compare(a.Kind, b.Kind), cmp.Compare(a.Title, b.Title),
			cmp.Compare(a.To, b.To))
	})
	out := []api.Hit{}
	for _, s := range hits[:min(20, len(hits))] {
		out = append(out, s.Hit)
	}
	return out
}

// Unreachable is the problem that a site does not answer, with the age of its data.
func (h *Headquarters) Unreachable(name string) *problem.Problem {
	h.mu.Lock()
	defer h.mu.Unlock()
	x := h.sites[name]
	if x == nil {
		return problem.New(http.StatusNotFound, "no-site", "List them: lantern site list", "No site named %q. %s", name,
			h.namesLocked())
	}
	const do = "Check that its service runs and that the network between works: lantern site list"
	if x.says == nil {
		return problem.New(http.StatusServiceUnavailable, "site-unreachable", do,
			"%s is not reachable and has sent no data yet.", name)
	}
	return problem.New(http.StatusServiceUnavailable, "site-unreachable", do,
		"%s is not reachable from here. Its newest data is from %s UTC. Its own service may be running: use its own address.",
		name, x.at.UTC().Format("2006-01-02 15:04"))
}

func (h *Headquarters) namesLocked() string {
	names := slices.Sorted(maps.Keys(h.sites))
	if len(names) == 0 {
		return "There is none yet. Begin with: lantern site invite"
	}
	return "Sites: " + strings.Join(names, ", ") + "."
}
