package judging

import (
	"slices"
	"time"

	"lantern/internal/core/health"
	"lantern/internal/service/fleet"
)

// judgement is what the core says of every drive, and what is kept of how it came to that, so that after a report only
// those drives are judged again of which something changed.
type judgement struct {
	at         time.Time // of the newest look
	generation int       // of the changes that it was made after
	ownVersion int       // of people's own rules and thresholds
	badLinks   int       // version of the bays with bad links
	of         map[string]Judged
	places     map[string]fleet.Place

	pools    map[string]seenPool
	sections map[string]*section // by host and section
	late     map[string]bool     // by host
	scrubs   map[string]time.Time
	shifts   map[string]health.Shift
	seen     map[string]seenDrive // all drives
	absent   map[string]bool      // those that do not answer
	// bad are the drives that count as failed for their siblings; batch and hours are the failed siblings of each
	// drive, by their keys: those made together with it, and those that ran as long.
	bad          map[string]failed
	batch, hours map[string]map[string]health.Sibling
	turn         []string // drives whose turn to be looked at has not come yet
}

// seenDrive is a drive as it was when it was looked at. Drives are forgotten with the whole judgement only.
type seenDrive struct {
	drive   *fleet.Drive
	version int
}

// seenPool is a pool as it was when it was looked at, with the places in it by drive.
type seenPool struct {
	pool   *fleet.Pool
	margin int
	places map[string][]fleet.Place
}

// section is the temperatures in one section of an enclosure.
type section struct {
	degrees map[string]float64 // of those drives that tell them
	group   health.Group
	drives  map[string]bool
}

// failed is one drive that counts as failed, and those to which that matters.
type failed struct {
	since        time.Time
	batch, hours map[string]bool
}

// Judged is one drive's part of it. hits is what was found without looking at siblings; it stands as long as what it
// was made from does.
type Judged struct {
	Findings []health.Finding
	Verdict  health.Verdict
	hits     []health.Hit
	from     grounds
	section  string
	hours    float64 // power-on hours, -1 when they are not told
}

const (
	// goodFor is how long a judgement stands when nothing was reported: long enough to answer a page.
	goodFor = 2 * time.Second
	// wholeFor is within what time every drive is looked at, whether something changed of it or not: findings clear by
	// time alone.
	wholeFor = 10 * time.Minute
)

// TurnAtLeast is the least number of unchanged drives that each judgement looks at. Tests set it to 0, so that a change
// which is not noted shows.
var TurnAtLeast = 64

// Judge gives the verdicts of all drives. Only those are judged again of which something changed, and some whose turn
// it is; after a while without a look, or when rules have changed, all are.
func (s *State) Judge() map[string]Judged {
	now := s.Clock.Now()
	j := s.judged
	if j != nil && j.generation == s.Generation && now.Sub(j.at) < s.Clock.AtLeast(goodFor, goodFor) &&
		!now.Before(j.at) {
		return j.of
	}
	if j == nil || j.ownVersion != s.ownVersion || j.badLinks != s.fleet.BadLinksVersion || now.Before(j.at) {
		j = s.nothing(now)
	}
	elapsed := now.Sub(j.at)
	j.at, j.generation = now, s.Generation
	look, moved, aged := s.changes(j, elapsed, now)
	settle := map[string]bool{}
	for key := range look {
		d := s.fleet.Drives[key]
		was, known := j.of[key]
		from := s.grounds(now, d, j)
		if !known || was.from != from {
			sub := s.subject(d, j.places[key], from)
			was.hits, was.from = append(health.Evaluate(&sub, from.limits), s.ownHits(d, j.places[key])...), from
			j.of[key] = was
		}
		settle[key] = true
	}
	for len(look) > 0 {
		s.relate(j, look, moved, aged, settle, now)
		look = map[string]bool{} // those that began or ceased to count as failed by what stands against them now
		for key := range settle {
			s.settle(j, key, now)
			s.touched = append(s.touched, key)
			_, bad := j.bad[key]
			if bad != (failure(j.of[key].hits, s.fleet.Drives[key].Standing) != nil) {
				look[key] = true
			}
		}
		settle, moved, aged = map[string]bool{}, nil, nil
	}
	return j.of
}

// nothing is a judgement for which every drive is to be looked at. What was found of a drive stands, where its grounds
// are the same.
func (s *State) nothing(now time.Time) *judgement {
	s.touchedFrom += len(s.touched) + 1 // who asks what was judged again since then is told: everything
	s.touched = nil
	j := &judgement{
		at:         now,
		ownVersion: s.ownVersion,
		badLinks:   s.fleet.BadLinksVersion,
		of:         map[string]Judged{},
		seen:       map[string]seenDrive{},
		absent:     map[string]bool{},
		places:     map[string]fleet.Place{},
		pools:      map[string]seenPool{},
		sections:   map[string]*section{},
		late:       map[string]bool{},
		bad:        map[string]failed{},
		batch:      map[string]map[string]health.Sibling{},
		hours:      map[string]map[string]health.Sibling{},
	}
	s.judged = j
	return j
}

// settle makes the findings and the verdict of a drive from what was found of it and what stands against it.
func (s *State) settle(j *judgement, key string, now time.Time) {
	d, x := s.fleet.Drives[key], j.of[key]
	hits := x.hits
	if r := j.siblingsOf(key); len(r) > 0 {
		hits = append(slices.Clip(hits), health.EvaluateSiblings(r, now, x.from.limits)...)
	}
	if slices.ContainsFunc(d.Standing, func(st health.Standing) bool { return s.lifted(st.Rule, x.from.limits) }) {
		left := slices.DeleteFunc(
			slices.Clone(d.Standing),
			func(st health.Standing) bool { return s.lifted(st.Rule, x.from.limits) },
		)
		s.logFindings(key, d.Standing, left)
		d.Standing = left
		s.unwritten[key] = true
	}
	if len(hits)+len(d.Standing) == 0 {
		x.Findings, x.Verdict = nil, health.VerdictOf(nil, x.from.late)
	} else {
		s.stand(key, d, health.Settle(d.Standing, hits, now))
		x.Findings, x.Verdict = health.Tell(d.Standing, x.from.late, now)
	}
	j.of[key] = x
}

// Touched are the drives that were judged again since a number that an earlier call returned, some of them several
// times, and the number for the next call; all is true where it may be any of them.
func (s *State) Touched(since int) (keys []string, next int, all bool) {
	s.Judge()
	if most := 4*len(s.fleet.Drives) + 1000; len(s.touched) > most {
		s.touchedFrom += len(s.touched) - most/2
		s.touched = slices.Clone(s.touched[len(s.touched)-most/2:])
	}
	next = s.touchedFrom + len(s.touched)
	if since < s.touchedFrom || since > next {
		return nil, next, true
	}
	return s.touched[since-s.touchedFrom:], next, false
}

// Places is where in its pool each drive is.
func (s *State) Places() map[string]fleet.Place {
	s.Judge()
	return s.judged.places
}
