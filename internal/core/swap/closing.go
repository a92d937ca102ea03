package swap

import (
	"cmp"
	"strings"

	"lantern/internal/core/drive"
	"lantern/internal/core/health"
	"lantern/internal/core/pool"
	"lantern/internal/core/record"
)

// closing gives the checks that must all pass before the swap is closed as verified.
func (s *State) closing(e Event) []record.Check {
	p := e.Pool
	seen := "report of " + e.At.UTC().Format("2006-01-02 15:04:05") + " UTC"
	var out []record.Check
	check := func(id, title string, ok bool, found, do string) *record.Check {
		c := record.Check{ID: id, Title: title, Looked: seen, Found: found, Result: record.Passes}
		if !ok {
			c.Result, c.Do = record.Stops, do
		}
		out = append(out, c)
		return &out[len(out)-1]
	}
	left := grouped(drive.Bytes(p.Unrepairable)) + " blocks were left unrecovered"
	margin := e.Margin.String()
	if !p.MarginKnown {
		margin = "unknown"
	}
	lights, verdict := "none is lit", p.NewVerdict
	if p.LightOn {
		lights = "the bay is still lit"
	}
	state, at := p.Member, p.Drive
	if p.New != "" {
		state, at = p.New, s.New.Key()
	}
	if keepsR6 {
		check(
			"pool-healthy",
			"Member in the pool",
			state == pool.Online && at == s.New.Key(),
			"slot "+s.Slot+" is "+string(state),
			"Look at the pool.",
		)
	}
	moves := p.moves()
	check("nothing-moves", "Recovery in the pool", moves == "", cmp.Or(moves, "nothing moves in it"),
		"Wait until it has ended.")
	enough := p.MarginKnown && (e.Margin >= s.Margin || len(s.Loses) > 0)
	check("margin-restored", "Margin", enough, margin, "Another member is gone; see the round.")
	nothing := check(
		"nothing-left",
		"Unrecovered blocks",
		p.Unrepairable == 0,
		left,
		"Find out which files they belong to, and restore them.",
	)
	if p.Unrepairable > 0 && len(s.Loses) > 0 {
		nothing.Result, nothing.Found = record.Warns, left+": of "+strings.Join(
			s.Loses,
			", ",
		)+" this was told before it began"
	}
	// A drive without health data is "unknown", and weak evidence leads to "watch". Neither is a reason to keep the
	// swap open for ever, but the check says it.
	well := verdict == string(health.Sound) || verdict == string(health.Unknown)
	found := s.New.Tail() + " has the verdict " + verdict
	if p.NewAccepted != "" {
		found += "; " + p.NewAccepted
	}
	d := check("new-drive", "Health of the new drive", well, found, "Look at its findings.")
	if verdict == string(health.Watch) {
		d.Result = record.Warns
	}
	switch {
	case s.Recipe.Stood != "":
		found := "it stands by again"
		if p.Spare != "" {
			found = "the spare at " + p.Spare + " still stands in"
		}
		check("spare-back", "Spare of the pool", p.Spare == "", found, "Wait until what it carries is moved.")
	}
	if s.Recipe.Spare != "" {
		c := check(
			"spare-used",
			"Spare of the pool",
			false,
			"it became the member; the pool has one spare less",
			"Put a new drive in and make it the spare.",
		)
		c.Result = record.Warns
	}
	place := check(
		"records",
		"Bay of the new drive",
		s.New.Bay != "",
		s.New.Tail()+" is known to be in "+s.New.bayWords(),
		"Confirm its bay.",
	)
	if s.New.Bay == "" {
		place.Result = record.Warns // its place cannot be determined, and that is known
	}
	news := "none since it began"
	if len(p.Notices) > 0 {
		news = strings.Join(p.Notices, "; ")
	}
	check("no-notice", "New notices", len(p.Notices) == 0, news, "See the notices.")
	check("lights-out", "Light of the bay", !p.LightOn, lights, "The light is being switched off.")
	return out
}
