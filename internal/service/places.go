package service

import (
	"cmp"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"lantern/internal/api"
	"lantern/internal/core/enclosure"
	"lantern/internal/store"
	"lantern/internal/wire"
)

// bayMaps is what people found out of bays that no enclosure tells of: layouts, spots and walks, by host.
type bayMaps struct {
	layouts map[string][]enclosure.Layout
	spots   map[string][]enclosure.Spot
	surveys map[string]*enclosure.Survey
}

func (s *Service) loadBays() error {
	s.bayMaps = bayMaps{map[string][]enclosure.Layout{}, map[string][]enclosure.Spot{}, map[string]*enclosure.Survey{}}
	layouts, err := store.All[store.Layout](s.store, "host, name", "")
	if err != nil {
		return err
	}
	for _, row := range layouts {
		l, err := fromDocument[enclosure.Layout](row.Doc)
		if err != nil {
			return fmt.Errorf("layout %s of %s: %w", row.Name, row.Host, err)
		}
		s.layouts[row.Host] = append(s.layouts[row.Host], l)
	}
	spots, err := store.All[store.Spot](s.store, "host, section, number", "")
	if err != nil {
		return err
	}
	for _, row := range spots {
		sp, err := fromDocument[enclosure.Spot](row.Doc)
		if err != nil {
			return fmt.Errorf("bay %s/%s/%d: %w", row.Host, row.Section, row.Number, err)
		}
		s.spots[row.Host] = append(s.spots[row.Host], sp)
	}
	surveys, err := store.All[store.Survey](s.store, "host", "")
	if err != nil {
		return err
	}
	for _, row := range surveys {
		w := &enclosure.Survey{}
		if err := json.Unmarshal(row.Doc, w); err != nil {
			return fmt.Errorf("survey of %s: %w", row.Host, err)
		}
		s.surveys[row.Host] = w
	}
	return nil
}

// enclosuresOf are a host's enclosures: those that it tells of, and those that people described. An enclosure that tells
// of itself stands before a description of the same section.
func (s *Service) enclosuresOf(h *host) []api.EnclosureReport {
	out := slices.Clone(h.report.Enclosures)
	for i := range out {
		out[i].Sections = slices.Clone(out[i].Sections)
		for k, sec := range out[i].Sections { // one that tells of its slots, but not how they stand, looks as somebody described it
			if drawn, ok := s.section(h.Name, sec.Name); ok && sec.Plain {
				v := wire.Enclosure(enclosure.Layout{Sections: []enclosure.Section{drawn}}, nil).Sections[0]
				v.Lit, v.Occupied, v.Plain = sec.Lit, sec.Occupied, true
				out[i].Sections[k] = v
			}
		}
	}
	for _, l := range s.layouts[h.Name] {
		e := wire.Enclosure(l, nil)
		e.Sections = slices.DeleteFunc(e.Sections, func(sec api.SectionReport) bool { return told(h, sec.Name) })
		if len(e.Sections) > 0 {
			out = append(out, e)
		}
	}
	return out
}

// told says whether a host's enclosure itself tells of a section.
func told(h *host, section string) bool {
	for _, e := range h.report.Enclosures {
		for _, sec := range e.Sections {
			if sec.Name == section {
				return true
			}
		}
	}
	return false
}

// plain says whether the enclosure tells of a section's slots, but not how they stand.
func plain(h *host, section string) bool {
	for _, e := range h.report.Enclosures {
		for _, sec := range e.Sections {
			if sec.Name == section {
				return sec.Plain
			}
		}
	}
	return false
}

// placed gives the bay of a drive as its host tells it, or else as people found it out.
func (s *Service) placed(host string, r api.DriveReport, key string) (section string, bay int, how enclosure.How) {
	if r.Section != "" {
		return r.Section, r.Bay, enclosure.Told
	}
	sp, how := enclosure.Find(s.spots[host], key, r.Port)
	return sp.Section, sp.Number, how
}

// Layouts lists how a host's enclosures look.
func (s *Service) Layouts(name string) ([]api.Layout, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	h := s.hosts[name]
	if h == nil {
		return nil, problem(404, "no-host", "List them with: lantern host list", "There is no host %q.", name)
	}
	out := []api.Layout{}
	for _, e := range h.report.Enclosures {
		l := enclosure.Layout{Name: e.Name}
		for _, sec := range e.Sections {
			l.Sections = append(l.Sections, wire.ToSection(sec))
		}
		v := wire.Layout(l)
		v.Told = true
		out = append(out, v)
	}
	for _, l := range s.layouts[name] {
		out = append(out, wire.Layout(l))
	}
	return out, nil
}

// SetLayout keeps how an enclosure looks. Bays that it does not have any more are forgotten.
func (s *Service) SetLayout(by, name string, l api.Layout) (api.Layout, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	h := s.hosts[name]
	if h == nil {
		return l, problem(404, "no-host", "List them with: lantern host list", "There is no host %q.", name)
	}
	next, err := wire.ToLayout(l)
	if err != nil {
		return l, problem(422, "bad-layout", "See: lantern enclosure define --help", "This layout cannot be: %s.", err)
	}
	for _, other := range s.layouts[name] {
		for _, sec := range next.Sections {
			if other.Name != next.Name && slices.ContainsFunc(other.Sections, func(x enclosure.Section) bool { return x.Name == sec.Name }) {
				return l, problem(409, "bad-layout", "Give it another name: it is part of every bay's address.", "%s has a section %s already, in %s.", name, sec.Name, other.Name)
			}
		}
	}
	for _, sec := range next.Sections {
		if told(h, sec.Name) && !plain(h, sec.Name) {
			return l, problem(409, "bad-layout", "Give the section another name.", "The enclosure of %s tells of a section %s itself.", name, sec.Name)
		}
	}
	b := &store.Batch{}
	b.Put(&store.Layout{Host: name, Name: next.Name, Doc: document(next)})
	s.layouts[name] = append(slices.DeleteFunc(s.layouts[name], func(x enclosure.Layout) bool { return x.Name == next.Name }), next)
	slices.SortFunc(s.layouts[name], func(a, b enclosure.Layout) int { return cmp.Compare(a.Name, b.Name) })
	s.forgetSpots(b, name)
	s.happened(b, api.EventKindHost, name, fmt.Sprintf("%s described the enclosure %s of %s", by, next.Name, name))
	return wire.Layout(next), s.commit(b)
}

// RemoveLayout forgets a description, and what was found out of its bays.
func (s *Service) RemoveLayout(by, name, layout string) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	i := slices.IndexFunc(s.layouts[name], func(l enclosure.Layout) bool { return l.Name == layout })
	if i < 0 {
		return problem(404, "no-layout", "List them with: lantern enclosure list "+name, "%s has no described enclosure %q.", name, layout)
	}
	b := &store.Batch{}
	b.Drop(&store.Layout{Host: name, Name: layout})
	s.layouts[name] = slices.Delete(slices.Clone(s.layouts[name]), i, i+1)
	s.forgetSpots(b, name)
	s.happened(b, api.EventKindHost, name, fmt.Sprintf("%s removed the enclosure %s of %s", by, layout, name))
	return s.commit(b)
}

// forgetSpots forgets what is known of bays that no layout has, and puts drives where they are by what is left.
func (s *Service) forgetSpots(b *store.Batch, name string) {
	var left []enclosure.Spot
	for _, sp := range s.spots[name] {
		if sec, ok := s.section(name, sp.Section); ok {
			if _, ok := sec.Place(sp.Number); ok {
				left = append(left, sp)
				continue
			}
		}
		b.Drop(&store.Spot{Host: name, Section: sp.Section, Number: sp.Number})
	}
	s.spots[name] = left
	s.replace(b, name)
}

func (s *Service) section(host, name string) (enclosure.Section, bool) {
	for _, l := range s.layouts[host] {
		for _, sec := range l.Sections {
			if sec.Name == name {
				return sec, true
			}
		}
	}
	return enclosure.Section{}, false
}

// replace puts the drives of a host into the bays that are known of them now.
func (s *Service) replace(b *store.Batch, name string) {
	now := s.clock.Now()
	h := s.hosts[name]
	for _, r := range h.report.Drives {
		key := wire.ToIdentity(r.Identity).Key()
		d := s.drives[key]
		if d == nil || !d.Present || d.Host != name {
			continue
		}
		section, bay, how := s.placed(name, r, key)
		if section == d.Section && bay == d.Bay && how == d.How {
			continue
		}
		// It did not move; what is known of it did.
		if n := len(d.Stays); n > 0 && section != "" {
			d.Stays[n-1].Bay = fmt.Sprintf("%s/%s/%d", name, section, bay)
		} else {
			d.stay(name, section, bay, now)
		}
		d.Section, d.Bay, d.How = section, bay, how
		d.version++
		b.Put(d.row())
	}
	s.judged = nil
}

// keepSpot notes that a drive was seen in a bay.
func (s *Service) keepSpot(b *store.Batch, host string, sp enclosure.Spot) {
	s.spots[host] = append(slices.DeleteFunc(s.spots[host], func(x enclosure.Spot) bool {
		if x.Section == sp.Section && x.Number == sp.Number {
			return true
		}
		if x.Drive == sp.Drive || x.Port != "" && x.Port == sp.Port { // it was elsewhere before
			b.Drop(&store.Spot{Host: host, Section: x.Section, Number: x.Number})
			return true
		}
		return false
	}), sp)
	b.Put(&store.Spot{Host: host, Section: sp.Section, Number: sp.Number, Doc: document(sp)})
}

// ConfirmBay notes that a person saw a drive in a bay, or forgets what was known of the bay.
func (s *Service) ConfirmBay(by string, req api.Spot) (api.Drive, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	a, err := enclosure.ParseAddress(req.Bay)
	if err != nil {
		return api.Drive{}, problem(422, "bad-bay", "See: lantern bays <host>", "%s.", err)
	}
	sec, ok := s.section(a.Host, a.Section)
	if _, has := sec.Place(a.Number); !ok || !has {
		return api.Drive{}, problem(404, "no-bay", "See: lantern bays "+a.Host, "No described enclosure has a bay %s.", req.Bay)
	}
	b := &store.Batch{}
	if req.Drive == "" {
		s.spots[a.Host] = slices.DeleteFunc(s.spots[a.Host], func(x enclosure.Spot) bool { return x.Section == a.Section && x.Number == a.Number })
		b.Drop(&store.Spot{Host: a.Host, Section: a.Section, Number: a.Number})
		s.replace(b, a.Host)
		s.happened(b, api.EventKindHost, a.Host, fmt.Sprintf("%s forgot what was known of bay %s", by, a))
		return api.Drive{Findings: []api.Finding{}}, s.commit(b)
	}
	d, err := s.findDrive(req.Drive)
	if err != nil {
		return api.Drive{}, err
	}
	if d.Host != a.Host || !d.Present {
		return api.Drive{}, problem(409, "other-host", "Look which host it reports from: lantern drive "+d.tail(), "%s does not answer on %s.", d.tail(), a.Host)
	}
	s.keepSpot(b, a.Host, enclosure.Spot{Section: a.Section, Number: a.Number, Drive: d.Desc.Key(), Port: s.port(d), By: by, At: s.clock.Now()})
	s.replace(b, a.Host)
	s.happened(b, api.EventKindDrive, d.Desc.Key(), fmt.Sprintf("%s saw %s in bay %s", by, d.tail(), a))
	if err := s.commit(b); err != nil {
		return api.Drive{}, err
	}
	return s.viewDrive(d, s.places()[d.Desc.Key()], true), nil
}

// port is what a drive hangs on by its host's newest report.
func (s *Service) port(d *disk) string {
	if h := s.hosts[d.Host]; h != nil {
		for _, r := range h.report.Drives {
			if wire.ToIdentity(r.Identity).Key() == d.Desc.Key() {
				return r.Port
			}
		}
	}
	return ""
}

// surveyLight is how long a drive is lit while it is looked for.
const surveyLight = 10 * time.Minute

// Survey gives the walk of a host as it stands.
func (s *Service) Survey(name string) (api.Survey, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.hosts[name] == nil {
		return api.Survey{}, problem(404, "no-host", "List them with: lantern host list", "There is no host %q.", name)
	}
	return s.viewSurvey(name), nil
}

func (s *Service) viewSurvey(name string) api.Survey {
	out := api.Survey{Host: name, Done: []api.SurveyDrive{}, Skipped: []string{}}
	w := s.surveys[name]
	if w == nil {
		return out
	}
	out.Open, out.By, out.At, out.Left = true, w.By, w.At, len(w.Todo)
	places := s.places()
	show := func(key string) api.SurveyDrive {
		v := api.SurveyDrive{Drive: key, Tail: w.Tail[key]}
		if d := s.drives[key]; d != nil {
			v.Model = d.Desc.Model
			if at, ok := places[key]; ok {
				v.Pool = at.pool.Name
			}
		}
		for _, l := range s.lights {
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

// ActOnSurvey does one step of a walk. What was found is kept with every step, so that a walk can be left and continued.
func (s *Service) ActOnSurvey(by, name string, req api.SurveyAct) (api.Survey, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	h := s.hosts[name]
	if h == nil {
		return api.Survey{}, problem(404, "no-host", "List them with: lantern host list", "There is no host %q.", name)
	}
	now := s.clock.Now()
	w := s.surveys[name]
	if w == nil && req.Act != api.Begin {
		return api.Survey{}, problem(409, "no-survey", "Begin one with: lantern survey begin "+name, "Nobody walks before %s.", name)
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
		return api.Survey{}, problem(422, "bad-step", "See how far it is: lantern survey show "+name, "%s.", closedWords(err.Error()))
	}
	switch req.Act {
	case api.Begin:
		if w != nil {
			return api.Survey{}, problem(409, "survey-open", "Go on with it, or end it.", "%s walks before %s since %s.", w.By, name, w.At.Format(time.RFC3339))
		}
		if s.late(h, now) {
			return api.Survey{}, problem(409, "host-quiet", "Bring its agent back first.", "%s does not report, so none of its drives can be lit.", name)
		}
		if len(s.layouts[name]) == 0 {
			return api.Survey{}, problem(409, "no-layout", "Describe it first: lantern enclosure define "+name, "Nobody described an enclosure of %s, so there are no bays to find drives in.", name)
		}
		w = &enclosure.Survey{Host: name, By: by, At: now, Tail: map[string]string{}}
		var drives []*disk
		for _, d := range s.drives {
			if d.Host == name && d.Present && d.How != enclosure.Told {
				w.Tail[d.Desc.Key()] = d.tail()
				if req.All || d.How != enclosure.Confirmed {
					drives = append(drives, d)
				}
			}
		}
		if len(drives) == 0 {
			return api.Survey{}, problem(409, "all-known", "Walk before all of them with --all.", "The bay of every drive of %s is known.", name)
		}
		slices.SortFunc(drives, func(a, b *disk) int {
			return cmp.Or(cmp.Compare(a.Section, b.Section), cmp.Compare(a.Bay, b.Bay), cmp.Compare(a.Desc.Serial, b.Desc.Serial))
		})
		for _, d := range drives {
			w.Todo = append(w.Todo, d.Desc.Key())
		}
		s.happened(b, api.EventKindHost, name, fmt.Sprintf("%s walks before the drives of %s", by, name))
	case api.Tap:
		a, err := enclosure.ParseAddress(req.Bay)
		if err != nil {
			return refuse(err)
		}
		sec, ok := s.section(name, a.Section)
		if _, has := sec.Place(a.Number); !ok || !has || a.Host != name {
			return refuse(fmt.Errorf("no described enclosure of %s has a bay %s", name, req.Bay))
		}
		sp := enclosure.Spot{Section: a.Section, Number: a.Number, By: by, At: now}
		if d := s.drives[w.Now()]; d != nil {
			sp.Port = s.port(d)
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
		s.spots[name] = slices.DeleteFunc(s.spots[name], func(x enclosure.Spot) bool { return x.Section == last.Section && x.Number == last.Number })
		b.Drop(&store.Spot{Host: name, Section: last.Section, Number: last.Number})
	case api.Read:
		a, err := enclosure.ParseAddress(req.Bay)
		if err != nil {
			return refuse(err)
		}
		sec, ok := s.section(name, a.Section)
		if !ok {
			return refuse(fmt.Errorf("no described enclosure of %s has a section %s", name, a.Section))
		}
		n := len(w.Done)
		if err := w.Read(sec, a.Number, req.Tails, now, by, func(key string) string { return s.port(s.drives[key]) }); err != nil {
			return refuse(err)
		}
		for _, sp := range w.Done[min(n, len(w.Done)):] {
			s.keepSpot(b, name, sp)
		}
		for _, sp := range w.Done {
			s.keepSpot(b, name, sp)
		}
	case api.End, api.Leave:
		if req.Act == api.Leave {
			for _, sp := range w.Done {
				s.spots[name] = slices.DeleteFunc(s.spots[name], func(x enclosure.Spot) bool { return x.Section == sp.Section && x.Number == sp.Number })
				b.Drop(&store.Spot{Host: name, Section: sp.Section, Number: sp.Number})
			}
		}
		s.happened(b, api.EventKindHost, name, fmt.Sprintf("%s ended the walk before %s: %d drives have their bay", by, name, len(w.Done)))
		b.Drop(&store.Survey{Host: name})
		delete(s.surveys, name)
		s.darken(b, was)
		s.replace(b, name)
		return s.viewSurvey(name), s.commit(b)
	}
	s.surveys[name] = w
	b.Put(&store.Survey{Host: name, Doc: document(w)})
	s.replace(b, name)
	if next := w.Now(); next != was {
		s.darken(b, was)
		if d := s.drives[next]; d != nil {
			s.lightDrive(b, by, d, now.Add(s.clock.AtLeast(surveyLight, surveyLight)), "")
		}
	}
	if err := s.commit(b); err != nil {
		return api.Survey{}, err
	}
	return s.viewSurvey(name), nil
}

func closedWords(says string) string { return strings.ToUpper(says[:1]) + says[1:] }

// darken puts out what lights a drive.
func (s *Service) darken(b *store.Batch, key string) {
	for _, l := range s.lights {
		if l.Drive == key && key != "" && l.State != api.LightStateGoing {
			l.Until = s.clock.Now()
			s.dim(b, l)
		}
	}
}
