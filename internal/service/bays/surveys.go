package bays

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"lantern/internal/api"
	"lantern/internal/core/enclosure"
	"lantern/internal/service/fleet"
	"lantern/internal/service/ledger"
	"lantern/internal/service/problem"
	"lantern/internal/store"
)

// surveyLight is how long the drive to find is lit.
const surveyLight = 10 * time.Minute

// Survey gives the present state of a host's survey.
func (s *Service) Survey(name string) (api.Survey, error) {
	s.mu.RLock()
	defer s.mu.RUnlock()
	if s.fleet.Hosts[name] == nil {
		return api.Survey{}, fleet.NoHost(s.fleet, name)
	}
	return s.viewSurvey(name), nil
}

func (s *State) viewSurvey(name string) api.Survey {
	out := api.Survey{Host: name, Done: []api.SurveyDrive{}, Skipped: []string{}}
	w := s.surveys[name]
	if w == nil {
		return out
	}
	out.Open, out.By, out.At, out.Left = true, w.By, w.At, len(w.Todo)
	places := s.judging.Places()
	show := func(key string) api.SurveyDrive {
		v := api.SurveyDrive{Drive: key, Tail: w.Tail[key]}
		if d := s.fleet.Drives[key]; d != nil {
			v.Model = d.Desc.Model
			if at, ok := places[key]; ok {
				v.Pool = at.Pool.Name
			}
		}
		for _, l := range s.LightByID {
			if l.Drive == key && l.State != api.LightStateGoing {
				v.Lit, v.How, v.Says = l.State == api.LightStateLit, l.How, l.Says
			}
		}
		return v
	}
	if now := w.Now(); now != "" {
		out.Now = show(now)
		if l := s.surveyFailed[now]; l != "" {
			out.Now.Says = l
		}
	}
	for _, sp := range w.Done {
		v := show(sp.Drive)
		v.Bay = enclosure.Address{Host: name, Section: sp.Section, Number: sp.Number}.String()
		out.Done = append(out.Done, v)
	}
	for _, key := range w.Skip {
		if slices.Contains(w.Todo, key) {
			out.Skipped = append(out.Skipped, w.Tail[key])
		}
	}
	return out
}

// ActOnSurvey performs one action of a survey. Results are stored with every action, so that a survey can be
// interrupted and continued.
func (s *Service) ActOnSurvey(by, name string, req api.SurveyAct) (api.Survey, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	h := s.fleet.Hosts[name]
	if h == nil {
		return api.Survey{}, fleet.NoHost(s.fleet, name)
	}
	w, b, now := s.surveys[name], &store.Batch{}, s.Clock.Now()
	if req.Act == api.Begin {
		next, err := s.beginSurvey(b, h, by, req.All, now)
		if err != nil {
			return api.Survey{}, err
		}
		s.keepSurvey(b, next, "", by, now)
		return s.viewSurvey(name), s.Commit(b)
	}
	if w == nil {
		return api.Survey{}, problem.New(
			409,
			"no-survey",
			"Start one: lantern survey begin "+name,
			"No survey is running on %s.",
			name,
		)
	}
	step := enclosure.SurveyStep{Kind: enclosure.StepKind(req.Act), Bay: req.Bay, Tails: req.Tails, By: by, At: now}
	r, err := w.Do(step, enclosure.SurveyGround{
		Section: func(section string) (enclosure.Section, bool) { return s.fleet.Section(name, section) },
		Port: func(key string) string {
			if d := s.fleet.Drives[key]; d != nil {
				return s.fleet.Port(d)
			}
			return ""
		},
	})
	if err != nil {
		return api.Survey{}, problem.New(
			422,
			"bad-step",
			"See how far it is: lantern survey show "+name,
			"%s.",
			closedWords(err.Error()),
		)
	}
	for _, sp := range r.Forget {
		s.forgetSpot(b, name, sp)
	}
	for _, sp := range r.Keep {
		s.keepSpot(b, name, sp)
	}
	if r.Over {
		s.AddEvent(b, api.EventKindHost, name,
			fmt.Sprintf("%s ended the survey of %s: the bays of %d drives were confirmed", by, name, len(w.Done)))
		b.Drop(&store.Survey{Host: name})
		delete(s.surveys, name)
		s.darken(b, w.Now())
		s.replace(b, name)
	} else {
		s.keepSurvey(b, &r.Survey, w.Now(), by, now)
	}
	return s.viewSurvey(name), s.Commit(b)
}

// beginSurvey starts a survey of a host's drives: of those without a confirmed bay, or of all.
func (s *State) beginSurvey(
	b *store.Batch,
	h *fleet.Host,
	by string,
	all bool,
	now time.Time,
) (*enclosure.Survey, error) {
	name := h.Name
	switch w := s.surveys[name]; {
	case w != nil:
		return nil, problem.New(
			409,
			"survey-open",
			"Go on with it, or end it.",
			"%s has been surveying %s since %s.",
			w.By,
			name,
			w.At.Format(time.RFC3339),
		)
	case s.fleet.Late(h, now):
		return nil, problem.New(
			409,
			"host-quiet",
			"Bring its agent back first.",
			"%s does not report, so none of its drives can be lit.",
			name,
		)
	case len(s.fleet.Layouts[name]) == 0:
		return nil, problem.New(
			409,
			"no-layout",
			"Describe it first: lantern enclosure define "+name,
			"No enclosure of %s is described, so there are no bays to find drives in.",
			name,
		)
	}
	w := &enclosure.Survey{Host: name, By: by, At: now, Tail: map[string]string{}}
	var drives []*fleet.Drive
	for _, d := range s.fleet.Drives {
		if d.Host == name && d.Present && d.How != enclosure.Told {
			w.Tail[d.Key()] = d.Tail()
			if all || d.How != enclosure.Confirmed {
				drives = append(drives, d)
			}
		}
	}
	if len(drives) == 0 {
		return nil, problem.New(
			409,
			"all-known",
			"Survey all of them with --all.",
			"The bay of every drive of %s is known.",
			name,
		)
	}
	slices.SortFunc(drives, func(a, b *fleet.Drive) int {
		return cmp.Or(
			cmp.Compare(a.Section, b.Section),
			cmp.Compare(a.Bay, b.Bay),
			cmp.Compare(a.Desc.Serial, b.Desc.Serial),
		)
	})
	for _, d := range drives {
		w.Todo = append(w.Todo, d.Key())
	}
	s.AddEvent(b, api.EventKindHost, name, fmt.Sprintf("%s started a survey of the drives of %s", by, name))
	return w, nil
}

// keepSurvey stores a survey after an action, and lights the next drive to find.
func (s *State) keepSurvey(b *store.Batch, w *enclosure.Survey, was, by string, now time.Time) {
	s.surveys[w.Host] = w
	b.Put(&store.Survey{Host: w.Host, Doc: ledger.Document(w)})
	s.replace(b, w.Host)
	if next := w.Now(); next != was {
		s.darken(b, was)
		if d := s.fleet.Drives[next]; d != nil {
			s.lightDrive(b, by, d, now.Add(s.Clock.AtLeast(surveyLight, surveyLight)), "")
		}
	}
}

// forgetSpot deletes the observation of a bay.
func (s *State) forgetSpot(b *store.Batch, host string, sp enclosure.Spot) {
	s.fleet.Spots[host] = slices.DeleteFunc(
		s.fleet.Spots[host],
		func(x enclosure.Spot) bool { return x.Section == sp.Section && x.Number == sp.Number },
	)
	b.Drop(&store.Spot{Host: host, Section: sp.Section, Number: sp.Number})
}

func closedWords(says string) string { return strings.ToUpper(says[:1]) + says[1:] }

// darken switches off the light of a drive.
func (s *State) darken(b *store.Batch, key string) {
	for _, l := range s.LightByID {
		if l.Drive == key && key != "" && l.State != api.LightStateGoing {
			l.Until = s.Clock.Now()
			s.Dim(b, l)
		}
	}
}
