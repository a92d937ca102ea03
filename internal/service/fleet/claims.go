package fleet

import (
	"cmp"
	"fmt"
	"iter"
	"maps"
	"math"
	"slices"
	"strings"
	"time"

	"lantern/internal/api"
	"lantern/internal/core/health"
	"lantern/internal/core/notice"
	"lantern/internal/core/pool"
	"lantern/internal/wire"
)

// A drive or a pool belongs to the host that reports it, as long as that host continues to do so. A report of it from
// another host meanwhile is a claim: it is recorded and shown, and changes nothing else. When the first host reports
// without the drive, or stops reporting, the claim is accepted. When both continue to report it, the drive is either
// shared, as in a shelf that is connected to two hosts, or contested: two drives with one identity, or a host whose
// report is wrong. No orders are given for a contested drive.

// Claim is a report of a drive by a further host.
type Claim struct {
	Host      string
	Since, At time.Time // its first and its newest report with the drive
	Says      api.DriveReport
	// Hours are the power-on hours that it read last, valid when Told: not every report contains a reading.
	Hours float64
	Told  bool
}

// take records a report; values of an earlier report are kept until they are read again.
func (x *Claim) take(at time.Time, r api.DriveReport) {
	x.At, x.Says = at, r
	if hours, told := r.Reading.Metrics["power_on_hours"]; told {
		x.Hours, x.Told = hours, true
	}
}

// disputes is the part of the State about things that several hosts report.
type disputes struct{ *State }

func disputed(s *State) disputes { return disputes{s} }

// holder is the host that a drive belongs to, if that host still reports it.
func (s disputes) holder(d *Drive) *Host {
	h := s.Hosts[d.Host]
	if h == nil || !d.Present || s.Late(h, s.Clock.Now()) {
		return nil
	}
	return h
}

// sift removes other hosts' drives and pools from a report and records them as claims. It runs before anything else
// uses the report.
func (s disputes) sift(c *Change) {
	if !c.Live {
		s.siftPast(c)
		return
	}
	from, at := c.Host.Name, c.Report.At
	s.siftSections(c)
	keep := make([]api.DriveReport, 0, len(c.Report.Drives))
	own := map[string]bool{}
	for _, r := range c.Report.Drives {
		key := wire.ToDescription(r).Key()
		d := s.Drives[key]
		if d == nil || d.Host == from || d.Host == "" || s.holder(d) == nil || s.usesIt(c, d, r) {
			if d != nil {
				delete(d.Claims, from)
			}
			own[key] = true
			keep = append(keep, r)
			continue
		}
		if d.Claims == nil {
			d.Claims = map[string]*Claim{}
		}
		if d.Claims[from] == nil {
			d.Claims[from] = &Claim{Host: from, Since: at}
			s.index.claimed[key] = true
			s.AddEvent(c.Batch, api.EventKindDrive, key, fmt.Sprintf("%s reports %s as well, which %s reports", from,
				d.Tail(), d.Host))
		}
		d.Claims[from].take(at, r)
		d.Touch()
	}
	c.Report.Drives = keep
	for _, d := range s.claimedBy(from) {
		if d.Claims[from].At.Before(at) {
			delete(d.Claims, from) // it no longer reports it
			d.Touch()
		}
	}
	s.siftPools(c, own)
}

// usesIt reports whether a drive that two hosts see belongs to the reporting one: it has the drive in a pool, the other
// has not, and both report the same drive.
func (s disputes) usesIt(c *Change, d *Drive, r api.DriveReport) bool {
	key := d.Key()
	x := Claim{}
	if was := d.Claims[c.Host.Name]; was != nil {
		x = *was
	}
	x.take(c.Report.At, r)
	if slices.ContainsFunc(s.PoolsWith(key), func(p *Pool) bool { return p.Reporter == d.Host }) ||
		s.twoDrives(d, &x) != "" || !x.Told { // without its hours it is not known to be the same drive
		return false
	}
	return slices.ContainsFunc(c.Report.Pools, func(p api.PoolReport) bool {
		q := wire.ToPool(p)
		found := false
		q.Everyone(func(_ string, m *pool.Member) { found = found || m.On(key) })
		return found
	})
}

// siftSections removes impossible sections of enclosures: bays are counted and drawn by them.
func (s disputes) siftSections(c *Change) {
	c.Report.Enclosures = slices.Clone(c.Report.Enclosures)
	for i := range c.Report.Enclosures {
		e := &c.Report.Enclosures[i]
		e.Sections = slices.DeleteFunc(slices.Clone(e.Sections), func(x api.SectionReport) bool {
			err := wire.ToSection(x).Check()
			if err != nil {
				c.Host.Refused = api.RefusedReports{Count: c.Host.Refused.Count + 1, At: s.Clock.Now(),
					Says: fmt.Sprintf("section %s of enclosure %s cannot be: %s", x.Name, e.Name, err)}
			}
			return err != nil
		})
	}
}

// siftPools prevents a host from taking over a pool that another host reports, or of which it sees no drive.
func (s disputes) siftPools(c *Change, own map[string]bool) {
	from, at := c.Host.Name, c.Report.At
	keep := make([]api.PoolReport, 0, len(c.Report.Pools))
	for _, r := range c.Report.Pools {
		r = s.withoutOthers(from, r)
		p := s.Pools[r.Id]
		if p == nil || p.Reporter == from || p.Reporter == "" {
			keep = append(keep, r)
			continue
		}
		h := s.Hosts[p.Reporter]
		alive := h != nil && p.Unseen.IsZero() && !s.Late(h, s.Clock.Now())
		sees := slices.ContainsFunc(slices.Collect(maps.Keys(p.drives)), func(key string) bool { return own[key] })
		if !alive && (sees || len(p.drives) == 0) {
			keep = append(keep, r)
			continue
		}
		if p.Claims == nil {
			p.Claims = map[string]*PoolClaim{}
		}
		s.index.claimedPools[p.ID] = true
		if p.Claims[from] == nil {
			p.Claims[from] = &PoolClaim{Host: from, Since: at}
			s.AddEvent(c.Batch, api.EventKindPool, r.Id, fmt.Sprintf("%s reports %s as well, which %s reports", from,
				p.Name, p.Reporter))
		}
		x := p.Claims[from]
		x.At, x.Differs = at, differ(p, r)
	}
	c.Report.Pools = keep
}

// withoutOthers removes from a reported pool the drives of another host that has them in a pool of its own. Other
// drives of other hosts may be members of a pool that spans hosts.
func (s disputes) withoutOthers(from string, r api.PoolReport) api.PoolReport {
	theirs := func(key string) bool {
		d := s.Drives[key]
		return d != nil && d.Host != from && s.holder(d) != nil &&
			slices.ContainsFunc(s.PoolsWith(key), func(p *Pool) bool { return p.ID != r.Id && p.Reporter == d.Host })
	}
	clean := func(all []api.MemberReport) []api.MemberReport {
		if !slices.ContainsFunc(
			all,
			func(m api.MemberReport) bool { return theirs(m.Drive) || slices.ContainsFunc(m.Drives, theirs) },
		) {
			return all
		}
		all = slices.Clone(all)
		for i := range all {
			if theirs(all[i].Drive) {
				all[i].Drive = ""
			}
			all[i].Drives = slices.DeleteFunc(slices.Clone(all[i].Drives), theirs)
		}
		return all
	}
	r.Groups = slices.Clone(r.Groups)
	for i := range r.Groups {
		r.Groups[i].Members = clean(r.Groups[i].Members)
	}
	r.Spares, r.Logs = clean(r.Spares), clean(r.Logs)
	return r
}

// siftPast removes from a report of the past the drives that did not belong to its host then.
func (s disputes) siftPast(c *Change) {
	c.Report.Drives = slices.DeleteFunc(slices.Clone(c.Report.Drives), func(r api.DriveReport) bool {
		d := s.Drives[wire.ToDescription(r).Key()]
		return d != nil && !d.heldBy(c.Host.Name, timeOr(r.Reading.At, c.Report.At))
	})
}

func timeOr(a, b time.Time) time.Time {
	if a.IsZero() {
		return b
	}
	return a
}

// Hold is a time in which a drive belonged to a host; To is zero while it does.
type Hold struct {
	Host string    `json:"host"`
	From time.Time `json:"from"`
	To   time.Time `json:"to,omitzero"`
}

// heldBy reports whether a host may report a drive at a moment: the drive belonged to it then, or to no host and this
// host was the next or the last one.
func (d *Drive) heldBy(host string, at time.Time) bool {
	if len(d.Held) == 0 {
		return d.Host == "" || d.Host == host
	}
	next := slices.IndexFunc(d.Held, func(h Hold) bool { return h.From.After(at) })
	if next < 0 {
		next = len(d.Held)
	}
	if next > 0 && d.Held[next-1].Host == host {
		return true
	}
	within := next > 0 && (d.Held[next-1].To.IsZero() || at.Before(d.Held[next-1].To))
	return !within && next < len(d.Held) && d.Held[next].Host == host
}

// hold records which host a drive belongs to from now on.
func (d *Drive) hold(host string, at time.Time) {
	if len(d.Held) == 0 && d.Host != "" {
		d.Held = []Hold{{Host: d.Host, From: d.FirstAt}} // a record of an earlier version
	}
	n := len(d.Held)
	if n > 0 && d.Held[n-1].Host == host && d.Held[n-1].To.IsZero() {
		return
	}
	if n > 0 && d.Held[n-1].To.IsZero() {
		d.Held[n-1].To = at
	}
	const most = 50
	d.Held = append(d.Held[max(0, n+1-most):], Hold{Host: host, From: at})
}

func (s disputes) claimedBy(host string) (out []*Drive) {
	for d := range s.withClaims() {
		if d.Claims[host] != nil {
			out = append(out, d)
		}
	}
	return out
}

// withClaims are the drives with claims of another host, by key.
func (x *index) withClaims() iter.Seq2[*Drive, string] {
	return func(yield func(*Drive, string) bool) {
		for key := range x.claimed {
			d := x.of.Drives[key]
			if d == nil || len(d.Claims) == 0 {
				delete(x.claimed, key)
			} else if !yield(d, key) {
				return
			}
		}
	}
}

// claims are the valid claims: the claiming host reports, and its newest report has the drive.
func (s disputes) claims(d *Drive) (out []*Claim) {
	for _, name := range slices.Sorted(maps.Keys(d.Claims)) {
		if h := s.Hosts[name]; h != nil && !s.Late(h, s.Clock.Now()) {
			out = append(out, d.Claims[name])
		}
	}
	return out
}

// Contested says why an identity is ambiguous; empty when it means one drive.
func (s *State) Contested(d *Drive) string {
	h := disputed(s).holder(d)
	if h == nil || len(d.Claims) == 0 {
		return ""
	}
	for _, x := range disputed(s).claims(d) {
		if !h.SeenAt.After(x.Since) {
			continue // the next report of its holder decides
		}
		if why := disputed(s).twoDrives(d, x); why != "" {
			return fmt.Sprintf("is reported by %s and by %s at once, and they differ in %s: these are two drives, or one of "+
				"the reports is wrong", d.Host, x.Host, why)
		}
	}
	return ""
}

// twoDrives says why a claim may be about another drive: a shelf that is connected to two hosts shows the same drive to
// both. A globally unique identity (a WWN) is required.
func (s disputes) twoDrives(d *Drive, x *Claim) string {
	desc := wire.ToDescription(x.Says)
	hours, known := d.Record["power_on_hours"].Last()
	switch {
	case desc.WWN == "":
		return "nothing that can be compared, as the drive has no WWN"
	case desc.Model != d.Desc.Model || desc.Serial != d.Desc.Serial:
		return "model or serial"
	case desc.Capacity != d.Desc.Capacity:
		return "capacity"
	case desc.Firmware != d.Desc.Firmware:
		return "firmware"
	case desc.Medium != d.Desc.Medium || desc.RotationRPM != d.Desc.RotationRPM:
		return "kind of medium"
	case known && x.Told && math.Abs(hours.Value-x.Hours) > 24:
		return "power-on hours"
	}
	return ""
}

// adopt gives the drives that a host no longer reports to hosts that claimed them.
func (s disputes) adopt(c *Change, keys []string) {
	for _, key := range keys {
		d := s.Drives[key]
		if d == nil || d.Host != c.Host.Name || d.Present || len(d.Claims) == 0 {
			continue
		}
		all := s.claims(d)
		if len(all) != 1 {
			continue // of several, the next to report
		}
		x := all[0]
		desc := wire.ToDescription(x.Says)
		delete(d.Claims, x.Host)
		h := s.Hosts[x.Host]
		s.takeFacts(&Change{Batch: c.Batch, Host: h, Live: true, Report: api.Report{At: c.Report.At}}, d, desc, x.Says)
		d.Touch()
		h.LastReport.Drives = append(slices.Clone(h.LastReport.Drives), withoutReadings(api.Report{
			Drives: []api.DriveReport{x.Says}}).Drives...)
		c.Batch.Put(d.Row())
		s.AddEvent(c.Batch, api.EventKindDrive, key, fmt.Sprintf("%s is in %s", d.Tail(), PlaceWords(d)))
	}
}

// PoolClaim is a report of a pool by a further host.
type PoolClaim struct {
	Host      string
	Since, At time.Time
	Differs   []string // places that it reports differently
}

// differ gives the places of a pool that a report shows differently.
func differ(p *Pool, r api.PoolReport) (out []string) {
	q := wire.ToPool(r)
	seen := map[string]string{}
	p.Everyone(func(group string, m *pool.Member) { seen[group+" "+m.Slot] = m.Drive + " " + string(m.State) })
	q.Everyone(func(group string, m *pool.Member) {
		was, ok := seen[group+" "+m.Slot]
		if !ok || m.Drive != "" && was != m.Drive+" "+string(m.State) {
			out = append(out, m.Slot)
		}
		delete(seen, group+" "+m.Slot)
	})
	for k := range seen {
		_, slot, _ := strings.Cut(k, " ")
		out = append(out, slot)
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// poolClash says why a pool is contested: a further host continues to report it differently, or members of it are
// contested themselves.
func (s disputes) poolClash(p *Pool) string {
	h := s.Hosts[p.Reporter]
	if h != nil && !s.Late(h, s.Clock.Now()) {
		for _, name := range slices.Sorted(maps.Keys(p.Claims)) {
			x := p.Claims[name]
			other := s.Hosts[name]
			switch {
			case other == nil || s.Late(other, s.Clock.Now()) || x.At.Before(other.SeenAt) || !h.SeenAt.After(x.Since):
			case len(x.Differs) > 0:
				return fmt.Sprintf("%s is reported by %s and by %s at once, and they differ (%s): two hosts may be using its "+
					"drives, or one of the reports is wrong", p.Name, p.Reporter, name, some(x.Differs))
			}
		}
	}
	for _, key := range slices.Sorted(maps.Keys(p.drives)) {
		if d := s.Drives[key]; d != nil && s.Contested(d) != "" {
			return p.Name + " has a member, " + d.Tail() + ", which " + s.Contested(d)
		}
	}
	return ""
}

func some(slots []string) string {
	const most = 4
	if len(slots) > most {
		return "place " + strings.Join(slots[:most], ", ") + fmt.Sprintf(" and %d more", len(slots)-most)
	}
	return "place " + strings.Join(slots, ", ")
}

// takeClaims is a stage: it updates pools after changes of claims.
func (s disputes) takeClaims(c *Change) {
	of := map[*Pool]bool{} // with a claimed drive, or claimed itself
	for _, key := range s.withClaims() {
		for _, p := range s.index.pools[key] {
			of[p] = true
		}
	}
	for id := range s.index.claimedPools {
		if p := s.Pools[id]; p == nil || len(p.Claims) == 0 && p.Clash == "" {
			delete(s.index.claimedPools, id)
		} else {
			of[p] = true
		}
	}
	for p := range of {
		if clash := s.poolClash(p); clash != p.Clash {
			p.Clash = clash
			s.index.claimedPools[p.ID] = true
			p.kept = kept{layered: p.kept.layered}
			s.index.poolChanged(p.ID, false)
			s.Changed()
			for key := range p.drives {
				if d := s.Drives[key]; d != nil {
					d.Touch()
				}
			}
			if clash != "" {
				s.AddEvent(c.Batch, api.EventKindPool, p.ID, clash)
			}
		}
	}
}

// ClaimMatters are the matters of contested drives.
func (s *State) ClaimMatters() (out []notice.Matter) {
	for d, key := range s.withClaims() {
		if why := s.Contested(d); why != "" {
			out = append(
				out,
				notice.Matter{Key: "contested/" + key, Kind: notice.Place, Severity: health.Unknown, Host: d.Host,
					Bay: d.BayName(), Drives: []string{key}, Says: d.Tail() + " " + why,
					Do: "Pull nothing that has this label tail. Find both drives, or look at the agents of these hosts."},
			)
		}
	}
	slices.SortFunc(out, func(a, b notice.Matter) int { return cmp.Compare(a.Key, b.Key) })
	return out
}

// ViewClaims are a drive's claims for display.
func (s *State) ViewClaims(d *Drive) (out []api.DriveClaim) {
	for _, x := range disputed(s).claims(d) {
		v := api.DriveClaim{Host: x.Host, Path: x.Says.Path, Since: x.Since, SeenAt: x.At}
		if x.Says.Section != "" {
			v.Bay = fmt.Sprintf("%s/%s/%d", x.Host, x.Says.Section, x.Says.Bay)
		}
		v.Differs = disputed(s).twoDrives(d, x)
		out = append(out, v)
	}
	return out
}
