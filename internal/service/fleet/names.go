package fleet

import (
	"fmt"
	"slices"
	"strings"
	"unicode"

	"lantern/internal/service/problem"
	"lantern/internal/store"
)

// Names are those of pools.
type Names struct {
	given map[string]store.PoolName // by people, by the pool's id
	twins map[string]bool           // whether more than one pool has the name; nil when it must be made out anew
}

// Anew has it made out anew which names several pools have.
func (n *Names) Anew() { n.twins = nil }

// twins are the names that more than one pool has.
func (s *State) twins() map[string]bool {
	if s.Names.twins == nil {
		s.Names.twins = map[string]bool{}
		seen := map[string]bool{}
		for _, p := range s.Pools {
			s.Names.twins[p.Name] = seen[p.Name]
			seen[p.Name] = true
		}
	}
	return s.Names.twins
}

// loadNames reads the names that people gave pools.
func (s *State) loadNames() error {
	rows, err := store.All[store.PoolName](s.Store, "id", "")
	if err != nil {
		return err
	}
	s.Names.given = map[string]store.PoolName{}
	for _, r := range rows {
		s.Names.given[r.ID] = r
	}
	return nil
}

// AlsoCalled are all names under which records tell of a pool: its own, the one that its host gives it, and those that
// people gave it before.
func AlsoCalled(s *State, p *Pool) []string {
	out := []string{p.Name, p.Reported}
	out = append(out, strings.FieldsFunc(s.Names.given[p.ID].Formerly, func(r rune) bool { return r == '\n' })...)
	slices.Sort(out)
	return slices.Compact(out)
}

// NameNow is what a pool is called now, whatever it was called when a record was made; that name where it is not known.
func NameNow(s *State, id, then string) string {
	if p := s.Pools[id]; p != nil {
		return p.Name
	}
	return then
}

// mostName is the length of the longest name of a pool.
const mostName = 64

// CheckPoolName refuses what cannot be the name of a pool, or would be mistaken for another pool.
func CheckPoolName(s *State, p *Pool, to string) error {
	odd := func(r rune) bool {
		return !unicode.IsPrint(r) || unicode.IsSpace(r) || strings.ContainsRune("\"'`\\,", r)
	}
	if to == "" || len(to) > mostName || strings.ContainsFunc(to, odd) || strings.HasPrefix(to, "-") {
		return problem.New(
			422,
			"bad-name",
			fmt.Sprintf("Use up to %d letters, digits and signs such as - or /, without spaces.", mostName),
			"%q cannot be the name of a pool.",
			to,
		)
	}
	for _, other := range s.Pools {
		if other == p {
			continue
		}
		if other.ID == to || slices.Contains(AlsoCalled(s, other), to) {
			return problem.New(409, "in-use", "Choose another name.", "The pool %s on %s has or had that name.",
				other.Name, other.Reporter)
		}
	}
	return nil
}

// RenamePool puts the name that people give a pool into a batch, and gives what makes it in memory once that is
// written. The name that its host reports takes the given one away. The caller has looked that nothing under way names
// it.
func RenamePool(s *State, b *store.Batch, p *Pool, to string) (done func()) {
	row := store.PoolName{ID: p.ID, Name: to}
	former := slices.DeleteFunc(AlsoCalled(s, p), func(n string) bool { return n == to || n == p.Reported })
	row.Formerly = strings.Join(former, "\n")
	if to == p.Reported {
		row.Name = ""
	}
	b.Put(&row)
	return func() {
		s.Names.given[p.ID] = row
		p.Name = to
		s.Names.twins = nil
		s.Changed()
	}
}
