package service

import (
	"bytes"
	"fmt"
	"slices"
	"strings"

	"lantern/internal/api"
	"lantern/internal/core/swap"
	"lantern/internal/service/fleet"
	"lantern/internal/service/ledger"
	"lantern/internal/service/problem"
	"lantern/internal/store"
)

// RenameHost gives a host another name. It is refused while anything under way, or anything that people wrote, contains
// its name: a reference to the old name must not lose its meaning.
func (s *Service) RenameHost(by, name, to string) (api.Host, error) {
	if err := s.rename(by, name, to); err != nil {
		return api.Host{}, err
	}
	for _, h := range s.Views.Hosts() {
		if h.Name == to {
			return h, nil
		}
	}
	return api.Host{Name: to}, nil
}

func (s *Service) rename(by, name, to string) error {
	if err := fleet.CheckHostName(to); err != nil {
		return err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	h, err := fleet.HostNamed(s.Fleet.State, name)
	if err != nil {
		return err
	}
	if err := fleet.NameFree(s.Fleet.State, to, h); err != nil {
		return err
	}
	if what, err := s.names(h); err != nil {
		return err
	} else if what != "" {
		return problem.New(409, "in-use", "Wait until that is over, or change it first.", "%s names %s.", what, name)
	}
	b := &store.Batch{}
	done, err := fleet.Rename(s.Fleet.State, b, h, to)
	if err != nil {
		return err
	}
	s.AddEvent(b, api.EventKindHost, to, fmt.Sprintf("%s renamed %s to %s", by, name, to))
	if err := s.Commit(b); err != nil {
		return err
	}
	done()
	return nil
}

// RenamePool gives a pool a name in place of the one that its host reports; the reported name removes it.
func (s *Service) RenamePool(by, name, to string) (api.Pool, error) {
	id, err := s.renamePool(by, name, strings.TrimSpace(to))
	if err != nil {
		return api.Pool{}, err
	}
	return s.Views.Pool(id)
}

func (s *Service) renamePool(by, name, to string) (id string, err error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	p, err := s.Fleet.FindPool(name)
	if err != nil {
		return "", err
	}
	if to == p.Name {
		return p.ID, nil
	}
	if err := fleet.CheckPoolName(s.Fleet.State, p, to); err != nil {
		return "", err
	}
	// What people wrote about the new name, such as the scope of a token, must not start to apply to this pool.
	for _, name := range []string{p.Name, to} {
		if what, err := s.namesPool(p, name); err != nil {
			return "", err
		} else if what != "" {
			return "", problem.New(409, "in-use", "Wait until that is over, or change it first.", "%s names %s.", what, name)
		}
	}
	b := &store.Batch{}
	done := fleet.RenamePool(s.Fleet.State, b, p, to)
	s.AddEvent(b, api.EventKindPool, p.ID, fmt.Sprintf("%s renamed the pool %s to %s", by, p.Name, to))
	if err := s.Commit(b); err != nil {
		return "", err
	}
	done()
	return p.ID, nil
}

// namesPool describes what is under way in a pool, or what people wrote that contains its name; empty when there is
// nothing.
func (s *Service) namesPool(p *fleet.Pool, name string) (string, error) {
	for _, w := range s.Swaps.SwapByID {
		if w.Phase.Open() && slices.ContainsFunc(w.AllSeats(), func(x swap.Seat) bool { return x.PoolID == p.ID }) {
			return "An open swap", nil
		}
	}
	for _, o := range s.Orders.Waiting {
		if o.Pool == p.ID {
			return "An order without an outcome", nil
		}
	}
	quoted := ledger.Document(name)
	in := func(doc []byte) bool { return bytes.Contains(doc, quoted) }
	return first(
		func() (string, error) {
			return naming(s.Store, "id", func(c store.Campaign) string {
				return when(in(c.Doc) && bytes.Contains(c.Doc, []byte(`"open"`)), "An open campaign")
			})
		},
		func() (string, error) {
			return naming(
				s.Store,
				"name",
				func(r store.Setting) string { return when(r.Pool == name, "A threshold of its own") },
			)
		},
		func() (string, error) {
			return naming(s.Store, "id", func(r store.OwnRule) string { return when(in(r.Doc), "The rule "+r.ID) })
		},
		func() (string, error) {
			return naming(s.Store, "name", func(r store.Plan) string { return when(in(r.Doc), "The plan "+r.Name) })
		},
		func() (string, error) {
			return naming(
				s.Store,
				"name",
				func(t store.Token) string { return when(in(t.Pools), "What "+t.Name+" may act on") },
			)
		},
		func() (string, error) {
			return naming(
				s.Store,
				"name",
				func(c store.Channel) string { return when(in(c.Doc), "The channel "+c.Name) },
			)
		},
	)
}

// first gives the first text that one of the searches finds.
func first(looks ...func() (string, error)) (string, error) {
	for _, look := range looks {
		if what, err := look(); what != "" || err != nil {
			return what, err
		}
	}
	return "", nil
}

// names describes what contains the name of a host besides the fleet itself; empty when nothing does.
func (s *Service) names(h *fleet.Host) (string, error) {
	if s.Swaps.OnHost(h.Name) {
		return "An open swap", nil
	}
	for _, o := range s.Orders.Waiting {
		if o.Host == h.Name {
			return "An order without an outcome", nil
		}
	}
	quoted := ledger.Document(h.Name)
	within := ledger.Document(h.Name + "/")
	within = within[:len(within)-1]
	in := func(doc []byte) bool { return bytes.Contains(doc, quoted) || bytes.Contains(doc, within) }
	return first(
		func() (string, error) {
			return naming(
				s.Store,
				"host",
				func(w store.Survey) string { return when(w.Host == h.Name, "An open survey") },
			)
		},
		func() (string, error) {
			return naming(
				s.Store,
				"id",
				func(l store.Light) string { return when(!l.Ended && in(l.Doc), "A light") },
			)
		},
		func() (string, error) {
			return naming(s.Store, "id", func(c store.Campaign) string {
				return when(in(c.Doc) && bytes.Contains(c.Doc, []byte(`"open"`)), "An open campaign")
			})
		},
		func() (string, error) {
			return naming(s.Store, "name", func(p store.Plan) string { return when(in(p.Doc), "The plan "+p.Name) })
		},
		func() (string, error) {
			return naming(
				s.Store,
				"name",
				func(t store.Token) string { return when(in(t.Hosts), "What "+t.Name+" may act on") },
			)
		},
		func() (string, error) {
			return naming(
				s.Store,
				"name",
				func(c store.Channel) string { return when(in(c.Doc), "The channel "+c.Name) },
			)
		},
	)
}

func when(holds bool, what string) string {
	if holds {
		return what
	}
	return ""
}

// naming gives the first text that a search of the records of a kind finds.
func naming[T any](st *store.Store, order string, look func(T) string) (string, error) {
	rows, err := store.All[T](st, order, "")
	if err != nil {
		return "", err
	}
	for _, r := range rows {
		if what := look(r); what != "" {
			return what, nil
		}
	}
	return "", nil
}
