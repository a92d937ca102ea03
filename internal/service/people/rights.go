package people

import (
	"cmp"
	"encoding/json"
	"slices"
	"time"

	"lantern/internal/api"
	"lantern/internal/service/problem"
	"lantern/internal/store"
)

// roles in order: each includes the rights of those before it.
var roles = []api.Role{api.Viewer, api.Operator, api.Keeper, api.Admin}

// Rights are the rights of a person.
type Rights struct {
	Name  string
	Role  api.Role
	Hosts []string // hosts and pools that they may act on; none for all
	Pools []string
	Ends  time.Time // zero for never
}

// May reports whether this role includes another one.
func (r Rights) May(role api.Role) bool {
	have, need := slices.Index(roles, r.Role), slices.Index(roles, role)
	return have >= 0 && need >= 0 && have >= need
}

// Scoped reports whether the rights are limited to some hosts or pools.
func (r Rights) Scoped() bool { return len(r.Hosts)+len(r.Pools) > 0 }

// Target is the object of an action.
type Target struct{ Host, Pool string }

// Reaches reports whether a target is within their hosts and pools.
func (r Rights) Reaches(t Target) bool {
	return (len(r.Hosts) == 0 || slices.Contains(r.Hosts, t.Host)) &&
		(len(r.Pools) == 0 || slices.Contains(r.Pools, t.Pool))
}

func rightsOf(t store.Token) Rights {
	r := Rights{Name: t.Name, Role: cmp.Or(api.Role(t.Role), api.Admin), Ends: t.Ends}
	_ = json.Unmarshal(t.Hosts, &r.Hosts) // empty in records of before there was a scope
	_ = json.Unmarshal(t.Pools, &r.Pools)
	return r
}

// ended reports whether a token has expired.
func (r Rights) ended(now time.Time) bool { return !r.Ends.IsZero() && !now.Before(r.Ends) }

// ErrUnknown means that there is no such person, no such valid token, or no such open session.
var ErrUnknown = store.ErrNone

// RightsOf are the rights of a known person whose token has not expired. The error is ErrUnknown if there is no such
// person; any other means that the records could not be read.
func (s *State) RightsOf(name string) (Rights, error) {
	return s.rights("name "+name, "name = ?", name)
}

// rights reads the person of a token's record, or gives ErrUnknown if there is none or it has expired.
func (s *State) rights(key, where string, arg any) (Rights, error) {
	t, err := s.tokens.get(s.Store, key, where, arg)
	if err != nil {
		return Rights{}, err
	}
	r := rightsOf(t)
	if r.ended(time.Now()) {
		return Rights{}, ErrUnknown
	}
	return r, nil
}

// Forbidden is the problem for a person whose role is too low.
func (r Rights) Forbidden(need api.Role) error {
	return problem.New(403, "role-too-low", "Ask an admin, or somebody of that role, to do it.",
		"This needs the role %s; you are %s.", need, r.Role)
}
