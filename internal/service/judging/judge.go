package judging

import (
	"slices"
	"strings"
	"time"

	"lantern/internal/core/health"
	"lantern/internal/service/fleet"
)

// judgement is what the core says of every drive at one moment.
type judgement struct {
	at         time.Time
	generation int // of the changes that it was made after
	of         map[string]Judged
	places     map[string]fleet.Place
}

// Judged is one drive's part of it. hits is what was found without looking at siblings; it stands as long as what it was
// made from does.
type Judged struct {
	Findings []health.Finding
	Verdict  health.Verdict
	hits     []health.Hit
	from     grounds
}

// goodFor is how long a judgement stands when nothing was reported: long enough to answer a page, short enough that a
// host which went quiet shows.
const goodFor = 2 * time.Second

// Judge gives the verdicts of all drives. Of a large fleet only those drives are judged anew of which
// something changed.
func (s *State) Judge() map[string]Judged {
	now := s.Clock.Now()
	if s.judged != nil && s.judged.generation == s.Generation && now.Sub(s.judged.at) < s.Clock.AtLeast(goodFor, goodFor) && !now.Before(s.judged.at) {
		return s.judged.of
	}
	of := make(map[string]Judged, len(s.fleet.Drives))
	places := s.allPlaces()
	warm, scrubs := s.neighbourhoods(), s.recoveries.CleanScrubs()
	var bad []string
	for key, d := range s.fleet.Drives {
		j, known := s.past[key]
		from := s.grounds(now, d, places[key], warm, scrubs)
		if !known || j.from != from {
			sub := s.subject(d, places[key], from)
			j = Judged{hits: append(health.Evaluate(&sub, from.limits), s.ownHits(d, places[key])...), from: from}
		}
		of[key] = j
		if failure(j.hits, d.Standing) != nil {
			bad = append(bad, key)
		}
	}
	slices.Sort(bad)
	related := map[string][]health.Sibling{}
	for _, b := range bad {
		f := failure(of[b].hits, s.fleet.Drives[b].Standing)
		since := f.Since
		if since.IsZero() {
			since = now
		}
		for key, hours := range s.siblings(s.fleet.Drives[b], places[b]) {
			if places[key].Pool == nil {
				continue
			}
			why := "same model and serials near " + s.fleet.Drives[b].Desc.Serial
			if hours {
				why = "same model and nearly equal power-on hours"
			}
			related[key] = append(related[key], health.Sibling{Tail: s.fleet.Drives[b].Tail(), At: since, Why: why, Hours: hours})
		}
	}
	for key, j := range of {
		d := s.fleet.Drives[key]
		hits := j.hits
		if r := related[key]; len(r) > 0 {
			slices.SortFunc(r, func(a, b health.Sibling) int { return strings.Compare(a.Tail, b.Tail) })
			hits = append(slices.Clip(hits), health.EvaluateSiblings(r, now, j.from.limits)...)
		}
		if slices.ContainsFunc(d.Standing, func(x health.Standing) bool { return s.lifted(x.Rule, j.from.limits) }) {
			left := slices.DeleteFunc(slices.Clone(d.Standing), func(x health.Standing) bool { return s.lifted(x.Rule, j.from.limits) })
			s.logFindings(key, d.Standing, left)
			d.Standing = left
			s.unwritten[key] = true
		}
		if len(hits)+len(d.Standing) == 0 {
			j.Findings, j.Verdict = nil, health.VerdictOf(nil, j.from.late)
		} else {
			s.stand(key, d, health.Settle(d.Standing, hits, now))
			j.Findings, j.Verdict = health.Tell(d.Standing, j.from.late, now)
		}
		of[key] = j
	}
	s.past = of
	s.judged = &judgement{at: now, generation: s.Generation, of: of, places: places}
	return of
}

// Places is where in its pool each drive is.
func (s *State) Places() map[string]fleet.Place {
	s.Judge()
	return s.judged.places
}
