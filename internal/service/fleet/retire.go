package fleet

import (
	"bytes"
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"lantern/internal/api"
	"lantern/internal/core/pool"
	"lantern/internal/service/ledger"
	"lantern/internal/service/problem"
	"lantern/internal/store"
)

// needReason refuses an action without a reason.
func NeedReason(reason string) error {
	if strings.TrimSpace(reason) == "" {
		return problem.New(422, "reason-needed", "Say why, with --reason.", "A reason is required.")
	}
	return nil
}

// HostNamed finds a host by name, or gives the problem that there is none.
func HostNamed(s *State, name string) (*Host, error) {
	if h := s.Hosts[name]; h != nil {
		return h, nil
	}
	names := make([]string, 0, len(s.Hosts))
	for n := range s.Hosts {
		names = append(names, n)
	}
	return nil, problem.Missing("no-host", "host", name, names)
}

// poolsOf are the pools that a host reports.
func poolsOf(s *State, host string) (out []*Pool) {
	for _, p := range s.SortedPools() {
		if p.Reporter == host {
			out = append(out, p)
		}
	}
	return out
}

// RetireHost removes a host from the fleet: its token ends, its drives are recorded as gone, and its pools are no
// longer listed. Its records are kept, and are used again when a host is enrolled under its name. It is refused while
// the host reports: its pools would no longer be watched although they are in use.
func (s *Service) RetireHost(by, name, reason string) error {
	if err := NeedReason(reason); err != nil {
		return err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	h, err := HostNamed(s.State, name)
	if err != nil {
		return err
	}
	if !s.Late(h, s.Clock.Now()) {
		return problem.New(409, "host-reports", "Stop its agent; when two of its reports are missed, it can be retired.",
			"%s still reports, and would no longer be watched.", name)
	}
	if s.Work.OnHost(name) {
		return problem.New(409, "swap-open", "End it or abandon it first: lantern swap list", "A swap is open on %s.", name)
	}
	b := &store.Batch{}
	b.Drop(&store.Host{Name: name})
	b.Drop(&store.HostSecret{Host: name})
	s.AddEvent(b, api.EventKindHost, name, fmt.Sprintf("%s retired %s: %s", by, name, reason))
	var gone []*Drive
	for _, d := range s.Drives {
		if d.Host == name && d.Present {
			gone = append(gone, d)
			facts := d.Facts
			facts.Present = false
			b.Put(&store.Drive{Key: d.Key(), Doc: ledger.Document(facts)})
		}
	}
	pools := poolsOf(s.State, name)
	for _, p := range pools {
		s.AddEvent(b, api.EventKindPool, p.ID, fmt.Sprintf("%s is no longer watched: %s was retired", p.Name, name))
	}
	if err := s.Commit(b); err != nil {
		return err
	}
	for _, d := range gone {
		d.Present = false
		d.Touch()
	}
	for _, p := range pools {
		s.drop(p.ID)
	}
	delete(s.Hosts, name)
	s.Names.twins = nil
	s.Changed()
	return nil
}

// ForgetPool removes a pool that its host no longer reports from the lists.
func (s *Service) ForgetPool(by, name, reason string) error {
	if err := NeedReason(reason); err != nil {
		return err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	p, err := s.FindPool(name)
	if err != nil {
		return err
	}
	return Forget(s.State, by, p, reason)
}

// Forget removes a pool from the lists that its host reports as gone. It is refused while the host is not reporting,
// since the state is then unknown, and while a swap is open in the pool.
func Forget(s *State, by string, p *Pool, reason string) error {
	h := s.Hosts[p.Reporter]
	switch {
	case p.Unseen.IsZero() || h == nil:
		return problem.New(
			409,
			"pool-reported",
			"Only a pool that its host no longer reports can be removed from the lists. If the host is gone: lantern host "+
				"retire "+p.Reporter,
			"%s still reports %s.",
			p.Reporter,
			p.Name,
		)
	case s.Late(h, s.Clock.Now()):
		return problem.New(409, "host-quiet", "Wait until it reports, or retire it: lantern host retire "+p.Reporter,
			"%s does not report, so it is not known whether %s is there.", p.Reporter, p.Name)
	}
	if lead, open := s.Work.SwapIn(p.ID); open {
		return problem.New(409, "swap-open", "End it or abandon it first.", "%s leads a swap in %s.", lead, p.Name)
	}
	b := &store.Batch{}
	report := h.LastReport
	report.Pools = slices.DeleteFunc(slices.Clone(report.Pools), func(r api.PoolReport) bool { return r.Id == p.ID })
	row := h.Host
	row.Report = ledger.Document(report)
	b.Put(&row)
	s.AddEvent(b, api.EventKindPool, p.ID, strings.TrimSuffix(fmt.Sprintf("%s forgot %s: %s", by, p.Name, reason), ": "))
	if err := s.Commit(b); err != nil {
		return err
	}
	h.Host, h.LastReport = row, report
	s.drop(p.ID)
	s.Names.twins = nil
	s.Changed()
	return nil
}

// ForgetDrive removes a drive that is gone from the lists.
func (s *Service) ForgetDrive(by, name, reason string) error {
	if err := NeedReason(reason); err != nil {
		return err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	d, err := s.FindDrive(name)
	if err != nil {
		return err
	}
	key := d.Key()
	switch pools := s.PoolsWith(key); {
	case d.Present:
		return problem.New(
			409,
			"in-use",
			"Only a drive that no host reports any more can be removed from the lists.",
			"%s is reported by %s.",
			d.Tail(),
			d.Host,
		)
	case len(pools) > 0:
		return problem.New(
			409,
			"is-member",
			"Replace it there, or forget the pool if that is gone.",
			"%s has a place in %s.",
			d.Tail(),
			pools[0].Name,
		)
	case s.Work.Concerns(key):
		return problem.New(
			409,
			"swap-open",
			"End it or abandon it first: lantern swap list",
			"A swap concerns %s.",
			d.Tail(),
		)
	}
	b := &store.Batch{}
	b.Drop(&store.Drive{Key: key})
	b.Drop(&store.DriveRecord{Drive: key})
	b.Drop(&store.Standing{Drive: key})
	s.AddEvent(b, api.EventKindDrive, key, fmt.Sprintf("%s forgot %s: %s", by, d.Tail(), reason))
	back := Unlist(s.State, d)
	if err := s.Commit(b); err != nil {
		back()
		return err
	}
	return nil
}

// unknow removes a drive from memory. All others are judged again, since some were compared with it.
func unknow(s *State, key string, d *Drive) {
	delete(s.Drives, key)
	s.index.mark(d)
	of := Batch(d)
	s.Batches[of] = slices.DeleteFunc(s.Batches[of], func(k string) bool { return k == key })
	for _, bay := range d.BadLinks {
		delete(s.BadLinks[bay], key)
	}
	s.BadLinksVersion++
}

// NameFree refuses a present or earlier name of another host: that host's agent may still use it.
func NameFree(s *State, name string, of *Host) error {
	if s.Hosts[name] != nil {
		return problem.New(
			409,
			"host-exists",
			"Choose another name, or retire that one first.",
			"A host named %s is there already.",
			name,
		)
	}
	for _, h := range s.Hosts {
		if h != of && slices.Contains(h.FormerNames(), name) {
			return problem.New(409, "host-exists", "Choose another name: its agent may still report under the earlier one.",
				"%s was called %s before.", h.Name, name)
		}
	}
	return nil
}

// FormerNames are the earlier names of a host.
func (h *Host) FormerNames() []string {
	return strings.FieldsFunc(h.Formerly, func(r rune) bool { return r == ',' })
}

// Rename adds the change of a host's name to a batch, and returns the function that applies it in memory after the
// write. The caller must have checked that nothing under way uses the name.
func Rename(s *State, b *store.Batch, h *Host, to string) (done func(), err error) {
	from := h.Name
	row := h.Host
	former := slices.DeleteFunc(append(h.FormerNames(), from), func(n string) bool { return n == to })
	row.Name, row.Formerly = to, strings.Join(former, ",")
	b.Drop(&store.Host{Name: from})
	last := h.LastReport
	last.Pools = renamed(last.Pools, from, to)
	last.Host = to
	row.Report = ledger.Document(last)
	b.Put(&row)
	if err := moveSecret(s, b, from, to); err != nil {
		return nil, err
	}
	facts := map[string]Facts{}
	for key, d := range s.Drives {
		if f, changed := d.Facts.renamed(from, to); changed {
			facts[key] = f
			b.Put(&store.Drive{Key: key, Doc: ledger.Document(f)})
		}
	}
	layouts, err := store.All[store.Layout](s.Store, "host", "host = ?", from)
	if err != nil {
		return nil, err
	}
	spots, err := store.All[store.Spot](s.Store, "host", "host = ?", from)
	if err != nil {
		return nil, err
	}
	// Immediately, since findings are written with the facts of a drive; they are read again if the batch fails.
	for key, f := range facts {
		s.Drives[key].Facts = f
		s.Drives[key].Touch()
	}
	for _, l := range layouts {
		b.Drop(&store.Layout{Host: from, Name: l.Name})
		l.Host = to
		b.Put(&l)
	}
	for _, p := range spots {
		b.Drop(&store.Spot{Host: from, Section: p.Section, Number: p.Number})
		p.Host = to
		b.Put(&p)
	}
	return func() {
		next := *h
		next.Host, next.LastReport = row, last
		delete(s.Hosts, from)
		s.Hosts[to] = &next
		s.Layouts[to], s.Spots[to] = s.Layouts[from], s.Spots[from]
		delete(s.Layouts, from)
		delete(s.Spots, from)
		for _, p := range poolsOf(s, from) {
			p.Reporter = to
			p.Everyone(func(_ string, m *pool.Member) {
				if m.Domain == from {
					m.Domain = to
				}
			})
			p.hosts = domainsOf(&p.Pool)
			s.index.poolChanged(p.ID, true)
		}
		s.BadLinks = map[string]map[string]string{}
		for key, d := range s.Drives {
			for _, bay := range d.BadLinks {
				s.BadLink(key, d, bay)
			}
		}
		s.BadLinksVersion++
		s.Names.twins = nil
		s.Changed()
	}, nil
}

// renamed are pools with another name for a host.
func renamed(pools []api.PoolReport, from, to string) []api.PoolReport {
	quoted := func(name string) []byte { return ledger.Document(name) }
	b := ledger.Document(pools)
	b = bytes.ReplaceAll(b, append([]byte(`"domain":`), quoted(from)...), append([]byte(`"domain":`), quoted(to)...))
	var out []api.PoolReport
	if json.Unmarshal(b, &out) != nil {
		return pools // it came from our own store
	}
	return out
}

// Known sets the present name of the host in a report: its agent may still use an earlier one.
func (h *Host) Known(r *api.Report) {
	for _, former := range h.FormerNames() {
		r.Pools = renamed(r.Pools, former, h.Name)
		if r.Host == former {
			r.Host = h.Name
		}
	}
}

// renamed are the facts with another name for a host.
func (f Facts) renamed(from, to string) (out Facts, changed bool) {
	out = f
	if f.Host == from {
		out.Host, changed = to, true
	}
	out.Held = slices.Clone(f.Held)
	for i := range out.Held {
		if out.Held[i].Host == from {
			out.Held[i].Host, changed = to, true
		}
	}
	out.BadLinks = slices.Clone(f.BadLinks)
	for i, bay := range out.BadLinks {
		if rest, ok := strings.CutPrefix(bay, from+"/"); ok {
			out.BadLinks[i], changed = to+"/"+rest, true
		}
	}
	return out, changed
}
