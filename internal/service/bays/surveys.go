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

// surveyLight is how long a drive is lit while it is looked for.
const surveyLight = 10 * time.Minute

// Survey gives the walk of a host as it stands.
func (s *Service) Survey(name string) (api.Survey, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.fleet.Hosts[name] == nil {
		return api.Survey{}, problem.New(
			404,
			"no-host",
			"List them with: lantern host list",
			"There is no host %q.",
			name,
		)
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

// ActOnSurvey does one step of a walk. What was found is kept with every step, so that a walk can be left and
// continued.
func (s *Service) ActOnSurvey(by, name string, req api.SurveyAct) (api.Survey, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	h := s.fleet.Hosts[name]
	if h == nil {
		return api.Survey{}, problem.New(
			404,
			"no-host",
			"List them with: lantern host list",
			"There is no host %q.",
			name,
		)
	}
	now := s.Clock.Now()
	w := s.surveys[name]
	if w == nil && req.Act != api.Begin {
		return api.Survey{}, problem.New(
			409,
			"no-survey",
			"Start one: lantern survey begin "+name,
			"No survey is running on %s.",
			name,
		)
	}
	b := &store.Batch{}
	was := ""
	if w != nil {
		was = w.Now()
		c := *w // so that a refused step changes nothing
		c.Todo, c.Done, c.Skip = slices.Clone(w.Todo), slices.Clone(w.Done), slices.Clone(w.Skip)
		w = &c
	}
	refuse := func(err error) (api.Survey, error) {
		return api.Survey{}, problem.New(
			422,
			"bad-step",
			"See how far it is: lantern survey show "+name,
			"%s.",
			closedWords(err.Error()),
		)
	}
	switch req.Act {
	case api.Begin:
		if w != nil {
			return api.Survey{}, problem.New(
				409,
				"survey-open",
				"Go on with it, or end it.",
				"%s walks before %s since %s.",
				w.By,
				name,
				w.At.Format(time.RFC3339),
			)
		}
		if s.fleet.Late(h, now) {
			return api.Survey{}, problem.New(
				409,
				"host-quiet",
				"Bring its agent back first.",
				"%s does not report, so none of its drives can be lit.",
				name,
			)
		}
		if len(s.fleet.Layouts[name]) == 0 {
			return api.Survey{}, problem.New(
				409,
				"no-layout",
				"Describe it first: lantern enclosure define "+name,
				"Nobody described an enclosure of %s, so there are no bays to find drives in.",
				name,
			)
		}
		w = &enclosure.Survey{Host: name, By: by, At: now, Tail: map[string]string{}}
		var drives []*fleet.Drive
		for _, d := range s.fleet.Drives {
			if d.Host == name && d.Present && d.How != enclosure.Told {
				w.Tail[d.Desc.Key()] = d.Tail()
				if req.All || d.How != enclosure.Confirmed {
					drives = append(drives, d)
				}
			}
		}
		if len(drives) == 0 {
			return api.Survey{}, problem.New(
				409,
				"all-known",
				"Walk before all of them with --all.",
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
			w.Todo = append(w.Todo, d.Desc.Key())
		}
		s.Happened(b, api.EventKindHost, name, fmt.Sprintf("%s walks before the drives of %s", by, name))
	case api.Tap:
		a, err := enclosure.ParseAddress(req.Bay)
		if err != nil {
			return refuse(err)
		}
		sec, ok := s.fleet.Section(name, a.Section)
		if _, has := sec.Place(a.Number); !ok || !has || a.Host != name {
			return refuse(fmt.Errorf("no described enclosure of %s has a bay %s", name, req.Bay))
		}
		sp := enclosure.Spot{Section: a.Section, Number: a.Number, By: by, At: now}
		if d := s.fleet.Drives[w.Now()]; d != nil {
			sp.Port = s.fleet.Port(d)
		}
		if err := w.Tap(sp); err != nil {
			return refuse(err)
		}
		s.keepSpot(b, name, w.Done[len(w.Done)-1])
	case api.Pass:
		if err := w.Pass(); err != nil {
			return refuse(err)
		}
	case api.Back:
		if err := w.Back(); err != nil {
			return refuse(err)
		}
		last := s.surveys[name].Done[len(w.Done)]
		s.fleet.Spots[name] = slices.DeleteFunc(
			s.fleet.Spots[name],
			func(x enclosure.Spot) bool { return x.Section == last.Section && x.Number == last.Number },
		)
		b.Drop(&store.Spot{Host: name, Section: last.Section, Number: last.Number})
	case api.Read:
		a, err := enclosure.ParseAddress(req.Bay)
		if err != nil {
			return refuse(err)
		}
		sec, ok := s.fleet.Section(name, a.Section)
		if !ok {
			return refuse(fmt.Errorf("no described enclosure of %s has a section %s", name, a.Section))
		}
		if err := w.Read(
			sec,
			a.Number,
			req.Tails,
			now,
			by,
			func(key string) string { return s.fleet.Port(s.fleet.Drives[key]) },
		); err != nil {
			return refuse(err)
		}
		for _, sp := range w.Done {
			s.keepSpot(b, name, sp)
		}
	case api.End, api.Leave:
		if req.Act == api.Leave {
			for _, sp := range w.Done {
				s.fleet.Spots[name] = slices.DeleteFunc(
					s.fleet.Spots[name],
					func(x enclosure.Spot) bool { return x.Section == sp.Section && x.Number == sp.Number },
				)
				b.Drop(&store.Spot{Host: name, Section: sp.Section, Number: sp.Number})
			}
		}
		s.Happened(
			b,
			api.EventKindHost,
			name,
			fmt.Sprintf("%s ended the walk before %s: %d drives have their bay", by, name, len(w.Done)),
		)
		b.Drop(&store.Survey{Host: name})
		delete(s.surveys, name)
		s.darken(b, was)
		s.replace(b, name)
		return s.viewSurvey(name), s.Commit(b)
	}
	s.surveys[name] = w
	b.Put(&store.Survey{Host: name, Doc: ledger.Document(w)})
	s.replace(b, name)
	if next := w.Now(); next != was {
		s.darken(b, was)
		if d := s.fleet.Drives[next]; d != nil {
			s.lightDrive(b, by, d, now.Add(s.Clock.AtLeast(surveyLight, surveyLight)), "")
		}
	}
	if err := s.Commit(b); err != nil {
		return api.Survey{}, err
	}
	return s.viewSurvey(name), nil
}

func closedWords(says string) string { return strings.ToUpper(says[:1]) + says[1:] }

// darken puts out what lights a drive.
func (s *State) darken(b *store.Batch, key string) {
	for _, l := range s.LightByID {
		if l.Drive == key && key != "" && l.State != api.LightStateGoing {
			l.Until = s.Clock.Now()
			s.Dim(b, l)
		}
	}
}
