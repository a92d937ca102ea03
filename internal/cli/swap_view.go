package cli

import (
	"cmp"
	"slices"
	"strings"
	"time"

	"lantern/internal/api"
)

var checkMarks = map[api.CheckResult]struct {
	mark  string
	style style
}{api.Passes: {"✓", good}, api.Warns: {"!", quiet}, api.Stops: {"✗", loud}}

func (s *session) checks(in []api.Check) {
	for _, c := range in {
		m := checkMarks[c.Result]
		do := ""
		if c.Do != "" {
			do = "  " + s.out.paint("→ "+c.Do, m.style)
		}
		s.out.line("  %s %-34s  %s%s", s.out.paint(m.mark, m.style), c.Title, c.Found, do)
		s.out.line("    %s", s.out.paint("looked at: "+c.Looked, dim))
	}
}

// swap shows one swap: alarms first, then the present step.
func (s *session) swap(w api.Swap) {
	o := s.out
	o.line("%s  %s slot %s  %s", o.paint("swap "+w.Id, bold), w.Pool, w.Slot, o.paint("led by "+w.Lead, dim))
	from := cmp.Or(w.Old.Bay, "no known bay")
	o.line("old  %s  %s  %s", o.paint(w.Old.Tail, bold), w.Old.Model, from)
	switch {
	case w.Phase == api.SwapPhaseConfirm:
		o.line("new  %s  %s  %s", o.paint("read its label", bold), w.New.Model, w.New.Bay)
	case w.New.Tail != "":
		o.line("new  %s  %s  %s", o.paint(w.New.Tail, bold), w.New.Model, w.New.Bay)
	}
	o.line("%s", o.paint(w.Recipe, bold))
	for _, x := range w.Why {
		o.line("  %s", o.paint("because "+x, dim))
	}
	for _, x := range w.Wrong {
		o.line("")
		o.line("%s", o.paint(" STOP  "+x.Says+" ", loud))
	}
	if w.Held != "" {
		o.line("%s", o.paint("on hold: "+w.Held, loud))
	}
	if w.Refused != "" {
		o.line("%s", o.paint("refused: "+strings.TrimSpace(w.RefusedTail+" "+w.Refused), loud))
	}
	o.line("")
	switch w.Phase {
	case api.SwapPhasePlanned:
		s.checks(w.Checks)
		o.line("")
	case api.SwapPhaseConfirm:
		s.checks(w.Gate)
		o.line("")
	}
	now := s.swapSteps(w)
	if w.Recovery.Id != "" && w.Open &&
		(w.Recovery.State == api.RecoveryStateRunning || w.Recovery.State == api.RecoveryStatePaused) {
		s.recoveryLine(w.Recovery, w.Recovery.SeenAt)
	}
	if len(w.Closing) > 0 {
		o.line("")
		s.checks(w.Closing)
	}
	if !w.Open {
		o.line("")
		o.line("  %s", w.Log[len(w.Log)-1].Says)
	}
	s.swapNext(w, now)
}

// swapSteps prints all steps of a swap, the present one with its details, and returns the present one.
func (s *session) swapSteps(w api.Swap) (now api.Step) {
	o := s.out
	for _, st := range w.Steps {
		switch st.State {
		case api.StepStatePast:
			o.line("  %s %s", o.paint("✓", good), o.paint(st.Title, dim))
		case api.StepStateNow:
			now = st
			o.line("  %s %s", o.paint("▶", loud), o.paint(st.Title, bold))
			o.line("      %s", st.What)
			o.line("      %s", o.paint("why: "+st.Why, dim))
			if len(st.Needs) > 0 {
				o.line("      %s", o.paint("bring: "+strings.Join(st.Needs, "; "), dim))
			}
			o.line("      %s", o.paint("you should see: "+st.Expect, dim))
			for _, x := range []struct{ what, says string }{{"usually", st.Takes}, {"if not", st.IfNot}} {
				if x.says != "" {
					o.line("      %s", o.paint(x.what+": "+x.says, dim))
				}
			}
			if w.Hold != "" {
				o.line("      %s", o.paint("not now: "+w.Hold, loud))
			}
			s.lightOfPull(w)
		default:
			o.line("    %s", o.paint(st.Title, dim))
		}
	}
	return now
}

// lightOfPull says which bay's light is on for a pull, or how to turn it on.
func (s *session) lightOfPull(w api.Swap) {
	switch {
	case w.Phase != api.SwapPhasePull || !w.Open || w.Hold != "" || w.Held != "":
	case w.Light.Id != "":
		s.out.line("      light: %s is %s until %s", cmp.Or(w.Light.Bay, w.Old.Tail),
			map[bool]string{true: "lit", false: "ordered"}[w.Light.State == api.LightStateLit],
			w.Light.Until.Local().Format("15:04"))
	default:
		s.out.line(
			"      light: lantern light on %s --for 30m   (always: lantern light pulls always)",
			w.Old.Tail,
		)
	}
}

// swapNext prints the next command.
func (s *session) swapNext(w api.Swap, now api.Step) {
	o := s.out
	switch {
	case w.Held != "":
		o.line("  next: lantern swap resume")
	case w.Phase == api.SwapPhasePlanned:
		flags := ""
		for _, c := range w.Checks {
			switch {
			case c.Id == "backup" && c.Result == api.Warns:
				flags += " --backup <day>"
			case len(c.Loses) > 0:
				flags += " --lose <pool>"
			}
		}
		o.line("  next: lantern swap begin%s%s", asksReason(w.Checks), flags)
	case w.Phase == api.SwapPhaseConfirm:
		o.line("  next: lantern swap confirm --tail <label tail>%s", asksReason(w.Gate))
		if slices.ContainsFunc(
			w.Gate,
			func(c api.Check) bool { return c.Id == "new-accepted" && c.Result == api.Warns },
		) {
			o.line("  or first: lantern accept begin <label tail>")
		}
	case now.Acts && w.Hold == "":
		o.line("  next: lantern swap next")
	case w.Phase == api.SwapPhaseRecover || w.Phase == api.SwapPhaseJoin || w.Recovery.State == api.RecoveryStateRunning:
		o.line("  next: lantern follow %s", w.Pool)
	case w.Phase == api.SwapPhaseClosed && w.Fate.Fate == "":
		o.line("  next: lantern swap fate %s return|stock|destroy", w.Old.Tail)
	}
}

// asksReason is the flag for the reason that a warning needs.
func asksReason(checks []api.Check) string {
	if slices.ContainsFunc(checks, func(c api.Check) bool { return c.Result == api.Warns }) {
		return " --reason \"...\""
	}
	return ""
}

func (s *session) recoveryLine(r api.Recovery, now time.Time) {
	s.out.line(
		"      %s %5.1f %%  %s/s  %s",
		bar(r.Share, 30),
		100*r.Share,
		decimal(int64(r.RateNow)),
		finish(now, r.Finish),
	)
}
