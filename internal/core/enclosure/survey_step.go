package enclosure

import (
	"fmt"
	"slices"
	"time"
)

// SurveyStep is one action of a person in a survey.
type SurveyStep struct {
	Kind  StepKind
	Bay   string   // Tap, Read: the address of a bay
	Tails []string // Read: the label tails from that bay on
	By    string
	At    time.Time
}

// StepKind is the kind of an action in a survey.
type StepKind string

// The actions: the lit drive is in a bay; postpone it; undo the last one; read labels in the order of bays; end the
// survey and keep its results; end it and discard them.
const (
	StepTap   StepKind = "tap"
	StepPass  StepKind = "pass"
	StepBack  StepKind = "back"
	StepRead  StepKind = "read"
	StepEnd   StepKind = "end"
	StepLeave StepKind = "leave"
)

// SurveyGround gives a survey access to layouts and ports.
type SurveyGround struct {
	// Section finds a described section, Port the port of a drive; "" where it is not known.
	Section func(name string) (Section, bool)
	Port    func(drive string) string
}

// SurveyResult is the result of an action: the survey after it, the bays known from it, and those no longer known.
type SurveyResult struct {
	Survey Survey
	Keep   []Spot
	Forget []Spot
	Over   bool
}

// Do performs one action. It does not change its receiver, so a refused action changes nothing. The error says what is
// wrong, for people.
func (s *Survey) Do(step SurveyStep, g SurveyGround) (SurveyResult, error) {
	r := SurveyResult{Survey: *s}
	next := &r.Survey
	next.Todo, next.Done, next.Skip = slices.Clone(s.Todo), slices.Clone(s.Done), slices.Clone(s.Skip)
	switch step.Kind {
	case StepTap:
		sec, n, err := s.bay(step.Bay, g)
		if err != nil {
			return r, err
		}
		spot := Spot{Section: sec.Name, Number: n, By: step.By, At: step.At}
		if now := s.Now(); now != "" {
			spot.Port = g.Port(now)
		}
		if err := next.Tap(spot); err != nil {
			return r, err
		}
		r.Keep = next.Done[len(next.Done)-1:]
	case StepPass:
		return r, next.Pass()
	case StepBack:
		if err := next.Back(); err != nil {
			return r, err
		}
		r.Forget = s.Done[len(next.Done):]
	case StepRead:
		sec, n, err := s.bay(step.Bay, g)
		if err != nil {
			return r, err
		}
		if err := next.Read(sec, n, step.Tails, step.At, step.By, g.Port); err != nil {
			return r, err
		}
		r.Keep = next.Done
	case StepEnd:
		r.Over = true
	case StepLeave:
		r.Over, r.Forget = true, s.Done
	default:
		return r, fmt.Errorf("a survey has no step %q", step.Kind)
	}
	return r, nil
}

// bay finds a bay of a described enclosure of the survey's host.
func (s *Survey) bay(name string, g SurveyGround) (Section, int, error) {
	a, err := ParseAddress(name)
	if err != nil {
		return Section{}, 0, err
	}
	sec, ok := g.Section(a.Section)
	if _, has := sec.Place(a.Number); !ok || !has || a.Host != s.Host {
		return sec, 0, fmt.Errorf("no described enclosure of %s has a bay %s", s.Host, name)
	}
	return sec, a.Number, nil
}
