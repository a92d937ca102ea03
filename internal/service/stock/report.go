package stock

import (
	"lantern/internal/api"
	"lantern/internal/core/drive"
	"lantern/internal/core/health"
	"lantern/internal/core/pool"
	"lantern/internal/core/swap"
	"lantern/internal/service/fleet"
)

// SwapDrive is what a swap needs to know of a drive.
func (s *State) SwapDrive(d *fleet.Drive) *swap.Drive {
	out := &swap.Drive{Identity: d.Desc.Identity, Capacity: d.Desc.Capacity}
	if d.How.Sure() {
		out.Bay = d.BayName() // a guess is not for hands
	}
	for _, x := range s.fleet.Seats(d.Desc.Key()) {
		if x.Member.State != pool.Out && out.Member == "" {
			out.Member = x.Pool.Name
		}
	}
	testing := s.AcceptanceOf(d.Desc.Key()) != nil
	uses := s.fleet.Unaccounted(d)
	switch {
	case len(d.Holds) > 0 && !(testing && d.Holds[0] == drive.TestPattern):
		out.Holds = d.Holds[0]
	case len(uses) > 0:
		out.Holds = fleet.UseWords(uses)
	}
	if places := s.fleet.Seats(d.Desc.Key()); len(places) == 1 && places[0].Member.State == pool.Standby && len(uses) == 0 {
		out.Spare = true
	}
	out.Blank = d.Looked && out.Holds == "" && out.Member == ""
	out.Sector, out.Medium, out.Zoned, out.Accepted = d.Desc.LogicalSector, d.Desc.Medium, d.Desc.Zoned, d.Accepted.Words()
	if a := s.AcceptanceByID[d.Accepted.ID]; a != nil && out.Accepted != "" {
		out.Lacks = a.Lacks(s.policy.stages())
	}
	out.Testing = testing
	if d.Accepted.State == string(api.AcceptanceStateFailed) {
		out.Ill = "failed its test of " + d.Accepted.At.UTC().Format("2006-01-02") + ": " + d.Accepted.Says
	}
	if why := s.fleet.Distrust(d); why != "" && out.Member == "" && out.Ill == "" {
		out.Ill = why
	}
	if len(d.Reading.Unreadable) > 0 {
		out.Ill = "answered with a page that is unreadable: " + d.Reading.Unreadable[0].Why
	}
	for _, f := range s.judging.Judge()[d.Desc.Key()].Findings {
		if f.Verdict.Gravity() >= health.Watch.Gravity() && f.Strength == drive.Strong && out.Ill == "" && f.Rule != "vanished" {
			out.Ill = f.Says
		}
	}
	return out
}
