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

// sortedLocked are the sites by name.
func (h *Headquarters) sortedLocked() []*site {
	return slices.SortedFunc(maps.Values(h.sites), func(a, b *site) int { return cmp.Compare(a.row.Name, b.row.Name) })
}

// reachable says whether a site was heard lately.
func (x *site) reachable(now time.Time) bool { return now.Sub(x.heard) <= silentFor }

// view is a site as people see it.
func (x *site) view(now time.Time) api.Site {
	out := x.row
	out.Reachable, out.HeardAt, out.AsOf, out.Version = x.reachable(now), x.heard.UTC(), x.at, x.version
	if x.heard.IsZero() {
		out.HeardAt = time.Time{}
	}
	if x.says != nil {
		out.Hosts, out.Drives, out.Pools = x.says.Round.Hosts, x.says.Round.Drives, len(x.says.Pools)
		out.Needing = len(x.says.Round.Pools) + len(x.says.Round.Silent)
	}
	for _, host := range x.hosts {
		out.Needing += len(host.Lines)
	}
	switch {
	case out.Reachable && x.says != nil:
	case x.says == nil && x.heard.IsZero():
		out.Says = "it has not connected yet: nothing is known of it"
		out.Do = "Start its service with --site " + out.Name + " and --report-to"
	case x.says == nil:
		out.Says = "it is connected and has told nothing yet"
	default:
		out.Says = "it cannot be reached: what is shown is of " + x.at.UTC().Format("2006-01-02 15:04") + " UTC"
		out.Do = "Look whether its service runs and the line to it works. It goes on by itself meanwhile"
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
		name, there := x.row.Name, x.reachable(now)
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
		for _, v := range r.Silent {
			v.Site = name
			out.Silent = append(out.Silent, v)
		}
		for _, v := range r.Underway {
			v.Site = name
			out.Underway = append(out.Underway, v)
		}
		for _, v := range r.Filling {
			v.Site = name
			out.Filling = append(out.Filling, v)
		}
		for _, v := range r.Pools {
			v.Site = name
			out.Pools = append(out.Pools, v)
		}
		if t := r.Trouble; t.Says != "" && health.Verdict(t.Severity).Gravity() >
			health.Verdict(out.Trouble.Severity).Gravity() {
			out.Trouble = api.ServiceTrouble{Says: name + ": " + t.Says, Do: t.Do, Severity: t.Severity}
		}
		for _, host := range x.hosts {
			for _, l := range host.Lines {
				key := name + " " + l.Matter.Key
				l.Matter.Key = key
				l.Line.Site = name
				if !there {
					l.Line.AsOf = x.at
				}
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

// Horizon shows each site as a block, the worst first; of one that cannot be reached nothing is known.
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
		b.Name, b.Site, b.Places, b.Known = x.row.Name, x.row.Name, 1, b.Known && x.reachable(now)
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

// rank has what is known first, since an unknown margin is no small one.
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
		for _, item := range x.says.Stock {
			item.Site = x.row.Name
			if !x.reachable(now) {
				item.Note = "as of " + x.at.UTC().Format("2006-01-02 15:04") + " UTC. " + item.Note
			}
			out = append(out, item)
		}
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
		if !x.reachable(now) && x.says != nil {
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
				continue // alone, a site's name means the site
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

// Unreachable says that a site cannot be asked, and how old what is known of it is.
func (h *Headquarters) Unreachable(name string) *problem.Problem {
	h.mu.Lock()
	defer h.mu.Unlock()
	x := h.sites[name]
	if x == nil {
		return problem.New(http.StatusNotFound, "no-site", "List them: lantern site list", "No site %q. There %s.", name,
			h.namesLocked())
	}
	const do = "Look whether its service runs and the line to it works: lantern site list"
	if x.says == nil {
		return problem.New(http.StatusServiceUnavailable, "site-unreachable", do,
			"%s cannot be reached, and has told nothing yet.", name)
	}
	return problem.New(http.StatusServiceUnavailable, "site-unreachable", do,
		"%s cannot be reached. What it said last is of %s UTC; its own service may well run: reach it at its own address.",
		name, x.at.UTC().Format("2006-01-02 15:04"))
}

func (h *Headquarters) namesLocked() string {
	names := slices.Sorted(maps.Keys(h.sites))
	if len(names) == 0 {
		return "is none yet: lantern site invite"
	}
	return "are " + strings.Join(names, ", ")
}
