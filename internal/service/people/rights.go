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

// roles in order: each may do what those before it may.
var roles = []api.Role{api.Viewer, api.Operator, api.Keeper, api.Admin}

// Rights are what somebody may do.
type Rights struct {
	Name  string
	Role  api.Role
	Hosts []string // that they may act on; none for all
	Pools []string
	Ends  time.Time // zero for never
}

// May says whether somebody of this role may do what asks for a role.
func (r Rights) May(role api.Role) bool {
	have, need := slices.Index(roles, r.Role), slices.Index(roles, role)
	return have >= 0 && need >= 0 && have >= need
}

// Scoped says whether they may act on some hosts or pools only.
func (r Rights) Scoped() bool { return len(r.Hosts)+len(r.Pools) > 0 }

// Target is what an action is about.
type Target struct{ Host, Pool string }

// Reaches says whether a target is within their hosts and pools.
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

// ended says whether a token has ended.
func (r Rights) ended(now time.Time) bool { return !r.Ends.IsZero() && !now.Before(r.Ends) }

// RightsOf are the rights of somebody who is known and whose token has not ended.
func (s *State) RightsOf(name string) (Rights, bool) {
	t, err := s.tokens.get(s.Store, "name "+name, "name = ?", name)
	r := rightsOf(t)
	return r, err == nil && !r.ended(time.Now())
}

// Forbidden is the answer to somebody whose role is too low.
func (r Rights) Forbidden(need api.Role) error {
	return problem.New(403, "role-too-low", "Ask an admin, or somebody of that role, to do it.",
		"This needs the role %s; you are %s.", need, r.Role)
}
