package fleet

import (
	"cmp"
	"encoding/json"
	"maps"
	"slices"
	"strings"

	"lantern/internal/core/enclosure"
	"lantern/internal/service/problem"
)

func FromDocument[T any](b []byte) (v T, err error) { return v, json.Unmarshal(b, &v) }

// FindDrive finds a drive by its key, its serial, the end of its serial, or the bay it is in.
func (s *State) FindDrive(name string) (*Drive, error) {
	if d := s.Drives[name]; d != nil {
		return d, nil
	}
	if a, err := enclosure.ParseAddress(strings.TrimSpace(name)); err == nil {
		return s.inBay(a)
	}
	want := strings.ToUpper(strings.TrimSpace(name))
	var fits []*Drive
	for _, d := range s.Drives {
		if want != "" && (strings.HasSuffix(strings.ToUpper(d.Desc.Serial), want) || d.calledBefore(want)) {
			fits = append(fits, d)
		}
	}
	switch {
	case len(fits) == 1:
		return fits[0], nil
	case len(fits) == 0:
		return nil, problem.New(
			404,
			"no-drive",
			"Look for it with: lantern drives --find "+name,
			"No drive has a serial that ends in %q.",
			name,
		)
	}
	slices.SortFunc(fits, func(a, b *Drive) int { return cmp.Compare(a.Desc.Serial, b.Desc.Serial) })
	var serials []string
	for _, d := range fits[:min(len(fits), 6)] {
		serials = append(serials, d.Desc.Serial)
	}
	return nil, problem.New(
		409,
		"ambiguous",
		"Give more characters.",
		"%d serials end in %q: %s.",
		len(fits),
		name,
		strings.Join(serials, ", "),
	)
}

// inBay is the drive in a bay, where that is certain: a guess does not count.
func (s *State) inBay(a enclosure.Address) (*Drive, error) {
	d := s.Occupants(a.Host)[a]
	switch {
	case d == nil:
		return nil, problem.New(404, "no-drive", "Look at the map: lantern bays "+a.Host, "No drive is known in %s.", a)
	case !d.Present:
		return nil, problem.New(
			404,
			"no-drive",
			"To see what was there, name it: "+d.Tail()+".",
			"%s is empty now; %s was the last drive there.",
			a,
			d.Tail(),
		)
	case !d.How.Sure():
		return nil, problem.New(409, "guessed-bay", "Name it by its label tail.", "The drive in %s is a guess.", a)
	}
	return d, nil
}

// FindPool finds a pool by its id or its name.
func (s *State) FindPool(name string) (*Pool, error) {
	if p := s.Pools[name]; p != nil {
		return p, nil
	}
	var fits []*Pool
	for _, p := range s.Pools {
		if p.Name == name {
			fits = append(fits, p)
		}
	}
	switch len(fits) {
	case 1:
		return fits[0], nil
	case 0:
		return nil, problem.Missing("no-pool", "pool", name, PoolNames(s))
	}
	ids := make([]string, len(fits))
	for i, p := range fits {
		ids[i] = p.ID
	}
	slices.Sort(ids)
	return nil, problem.New(
		409,
		"ambiguous",
		"Use the id.",
		"%d pools are named %q: %s.",
		len(fits),
		name,
		strings.Join(ids, ", "),
	)
}

// NoHost is the problem for an unknown host.
func NoHost(s *State, name string) *problem.Problem {
	return problem.Missing("no-host", "host", name, slices.Sorted(maps.Keys(s.Hosts)))
}

// PoolNames are the names of all pools.
func PoolNames(s *State) []string {
	out := make([]string, 0, len(s.Pools))
	for _, p := range s.Pools {
		out = append(out, p.Name)
	}
	slices.Sort(out)
	return out
}
