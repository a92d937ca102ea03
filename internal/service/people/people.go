package people

import (
	"cmp"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"

	"lantern/internal/api"
	"lantern/internal/core/record"
	"lantern/internal/service/ledger"
	"lantern/internal/service/problem"
	"lantern/internal/service/secret"
	"lantern/internal/store"
)

// personName is the pattern of names, readable in a record: they begin with a letter.
var personName = regexp.MustCompile(`^\pL[\pL\pN ._'-]{0,39}$`)

// People lists who has a token.
func (s *State) People(you string) ([]api.Person, error) {
	rows, err := store.All[store.Token](s.Store, "name", "")
	out := []api.Person{}
	for _, t := range rows {
		r := rightsOf(t)
		out = append(out, api.Person{Name: t.Name, AddedAt: t.Made, AddedBy: t.By, You: t.Name == you, Role: r.Role,
			Hosts: r.Hosts, Pools: r.Pools, EndsAt: r.Ends})
	}
	return out, err
}

// AddPerson adds a person and issues a token; a known person gets a new token only if that is requested explicitly.
func (s *Service) AddPerson(as Rights, req api.AddPerson) (api.NewPerson, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	by := as.Name
	switch {
	case req.Renew && strings.TrimSpace(req.Name) != by:
		// Whoever renews a token knows it, and could act under that person's name.
		return api.NewPerson{}, problem.New(403, "not-yourself",
			"An admin removes and adds again a person who lost their token; the audit records it.",
			"Everybody renews only their own token.")
	case !req.Renew && !as.May(api.Admin):
		return api.NewPerson{}, as.Forbidden(api.Admin)
	case req.Role != "" && !slices.Contains(roles, req.Role):
		return api.NewPerson{}, problem.New(422, "bad-role", "A role is viewer, operator, keeper or admin.",
			"No role %q.", req.Role)
	}
	name := strings.TrimSpace(req.Name)
	if !personName.MatchString(name) || name == record.Seen {
		return api.NewPerson{}, problem.New(
			422,
			"bad-name",
			"Use letters, digits and spaces, beginning with a letter; it stands in every record of what they do.",
			"%q cannot be a person's name.",
			name,
		)
	}
	have, err := s.People(by)
	if err != nil {
		return api.NewPerson{}, err
	}
	alike := slices.IndexFunc(have, func(p api.Person) bool { return strings.EqualFold(p.Name, name) })
	switch {
	case alike >= 0 && !req.Renew:
		return api.NewPerson{}, problem.New(
			409,
			"person-exists",
			"Everybody renews their own token: lantern person renew "+have[alike].Name+". Who lost it is removed and added "+
				"again.",
			"There is a %s already.",
			name,
		)
	case req.Renew && !among(have, name):
		return api.NewPerson{}, noPerson(name, have)
	}
	row, b := newPerson(by, name, req), &store.Batch{}
	if req.Renew { // everything but the token stays
		if row, err = store.One[store.Token](s.Store, "name = ?", name); err != nil {
			return api.NewPerson{}, err
		}
		endSessions(b, name)
	}
	token, err := s.newToken(b, row)
	return api.NewPerson{Name: name, Token: token}, err
}

// newPerson is the record of somebody who is added; an operator unless said otherwise.
func newPerson(by, name string, req api.AddPerson) store.Token {
	row := store.Token{Name: name, By: by, Role: string(cmp.Or(req.Role, api.Operator))}
	if len(req.Hosts) > 0 {
		row.Hosts = ledger.Document(req.Hosts)
	}
	if len(req.Pools) > 0 {
		row.Pools = ledger.Document(req.Pools)
	}
	if req.Hours > 0 {
		row.Ends = time.Now().UTC().Add(time.Duration(req.Hours * float64(time.Hour)))
	}
	return row
}

// RemovePerson removes a person's token and sessions. Records of their actions stay.
func (s *Service) RemovePerson(by, name string) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	have, err := s.People(by)
	if err != nil {
		return err
	}
	switch {
	case !among(have, name):
		return noPerson(name, have)
	case name == by:
		return problem.New(
			409,
			"yourself",
			"Another admin must do that.",
			"You cannot remove your own token: the last one would lock everybody out.",
		)
	}
	if err := s.fleet.Work.Leads(name); err != nil {
		return err
	}
	b := &store.Batch{}
	b.Drop(&store.Token{Name: name})
	endSessions(b, name)
	return s.Store.Write(b)
}

// endSessions ends the sessions that were opened with a person's earlier token.
func endSessions(b *store.Batch, name string) {
	b.DropAll(&store.SignInCode{}, "name = ?", name)
	b.DropAll(&store.Session{}, "name = ?", name)
}

func among(have []api.Person, name string) bool {
	return slices.ContainsFunc(have, func(p api.Person) bool { return p.Name == name })
}

func noPerson(name string, have []api.Person) error {
	var names []string
	for _, p := range have {
		names = append(names, p.Name)
	}
	return problem.New(
		404,
		"no-person",
		"Known people: "+strings.Join(names, ", ")+". Add one: lantern person add <name>",
		"No person named %q.",
		name,
	)
}

// PersonMay requires that a person has a token and a sufficient role.
func (s *State) PersonMay(name string, role api.Role) error {
	have, err := s.People("")
	if err != nil {
		return err
	}
	if !among(have, name) {
		return noPerson(name, have)
	}
	r, err := s.RightsOf(name)
	if err != nil && !errors.Is(err, ErrUnknown) {
		return err
	}
	if err != nil || !r.May(role) {
		return problem.New(409, "cannot-lead", "Name somebody who may, or let an admin give them that role.",
			"%s may not work on drives: their role is %s, or their token has ended.", name, r.Role)
	}
	return nil
}

// newToken makes a token for a person, in place of one of the same name. It is written in one transaction with the
// other changes in b.
func (s *State) newToken(b *store.Batch, row store.Token) (string, error) {
	token := secret.New(secret.PersonPrefix)
	row.Hash, row.Made = secret.Hash(token), time.Now().UTC()
	b.Put(&row)
	if err := s.Store.Write(b); err != nil {
		return "", fmt.Errorf("a token for %s: %w", row.Name, err)
	}
	return token, nil
}
