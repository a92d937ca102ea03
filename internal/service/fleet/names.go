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
	twins map[string]bool           // whether more than one pool has the name; nil when it must be computed again
}

// Anew marks the duplicate names for computing again.
func (n *Names) Anew() { n.twins = nil }

// twins are the names of more than one pool.
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

// AlsoCalled are all names of a pool in records: its present one, the one from its host, and earlier ones from people.
func AlsoCalled(s *State, p *Pool) []string {
	out := []string{p.Name, p.Reported}
	out = append(out, strings.FieldsFunc(s.Names.given[p.ID].Formerly, func(r rune) bool { return r == '\n' })...)
	slices.Sort(out)
	return slices.Compact(out)
}

// NameNow is the present name of a pool that has another name in a record; the name in the record where the pool is
// unknown.
func NameNow(s *State, id, then string) string {
	if p := s.Pools[id]; p != nil {
		return p.Name
	}
	return then
}

// mostName is the length of the longest name of a pool.
const mostName = 64

// CheckPoolName refuses an invalid name of a pool, and one that could be confused with another pool.
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

// RenamePool adds a person's name for a pool to a batch, and returns the function that applies it in memory after the
// write. The name that the pool's host reports removes the given one. The caller must have checked that nothing under
// way uses the name.
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
		s.index.byName = nil
		s.index.poolChanged(p.ID, true)
		s.Names.twins = nil
		s.Changed()
	}
}
