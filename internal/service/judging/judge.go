package judging

import (
	"slices"
	"time"

	"lantern/internal/core/health"
	"lantern/internal/service/fleet"
)

// judgement holds the verdicts of all drives, with the inputs behind them, so that after a report only changed drives
// are judged again.
type judgement struct {
	at         time.Time // of the newest look
	generation int       // of the changes that it includes
	ownVersion int       // of people's own rules and thresholds
	badLinks   int       // version of the bays with bad links
	of         map[string]Judged
	places     map[string]fleet.Place

	pools map[string]seenPool
	// poolsSeen is the number of the changes of pools that are included; layered are the ids of pools on other pools.
	poolsSeen int
	layered   map[string]bool
	sections  map[string]*section // by host and section
	late      map[string]bool     // by host
	scrubs    map[string]time.Time
	scrubsOf  int // version of scrubs
	shifts    map[string]health.Shift
	seen      map[string]seenDrive // all drives
	absent    map[string]bool      // those that do not answer
	// bad are the drives that count as failed for their siblings; batch and hours are the failed siblings of each
	// drive, by their keys: those made together with it, and those with the same hours.
	bad          map[string]failed
	batch, hours map[string]map[string]health.Sibling
	turn         []string                           // drives whose turn has not come yet
	byVerdict    map[health.Verdict]map[string]bool // drives that are not sound
}

// seenDrive is the state of a drive when it was last examined. Entries are removed only with the whole judgement.
type seenDrive struct {
	drive   *fleet.Drive
	version int
}

// seenPool is the state of a pool when it was last examined, with its places by drive.
type seenPool struct {
	pool   *fleet.Pool
	margin int
	places map[string][]fleet.Place
}

// section is the temperatures in one section of an enclosure.
type section struct {
	degrees map[string]float64 // of the drives that report them
	group   health.Group
	drives  map[string]bool
}

// failed is one drive that counts as failed, with its siblings.
type failed struct {
	since        time.Time
	batch, hours map[string]bool
}

// Judged is the result for one drive. hits are the findings that do not depend on siblings; they are valid as long as
// their grounds.
type Judged struct {
	Findings []health.Finding
	Verdict  health.Verdict
	hits     []health.Hit
	from     grounds
	section  string
	hours    float64 // power-on hours, -1 when they are not told
}

const (
	// goodFor is how long a judgement is valid without a report: long enough to answer a page.
	goodFor = 2 * time.Second
	// wholeFor is the time within which every drive is examined even without changes: findings can clear by time alone.
	wholeFor = 10 * time.Minute
)

// TurnAtLeast is the least number of unchanged drives that each judgement examines. Tests set it to 0, so that a missed
// change becomes visible.
var TurnAtLeast = 16

// Judge gives the verdicts of all drives. It judges changed drives again, and some whose turn it is; all drives after a
// long time without a judgement, or when rules have changed.
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
	peers := peersOf(s.fleet)
	settle := map[string]bool{}
	for key := range look {
		d := s.fleet.Drives[key]
		was, known := j.of[key]
		from := s.grounds(now, d, j, peers)
		if !known || was.from != from {
			sub := s.subject(d, j.places[key], from)
			was.hits, was.from = append(health.Evaluate(&sub, from.limits), s.ownHits(d, j.places[key])...), from
			j.of[key] = was
		}
		settle[key] = true
	}
	for len(look) > 0 {
		s.relate(j, look, moved, aged, settle, now)
		look = map[string]bool{} // drives that began or ceased to count as failed
		for key := range settle {
			s.settle(j, key, now)
			s.touched.Add(key)
			_, bad := j.bad[key]
			if bad != (failure(j.of[key].hits, s.fleet.Drives[key].Standing) != nil) {
				look[key] = true
			}
		}
		settle, moved, aged = map[string]bool{}, nil, nil
	}
	return j.of
}

// nothing is a judgement for which every drive must be examined. Findings of a drive stay valid where its grounds are
// the same.
func (s *State) nothing(now time.Time) *judgement {
	s.touched.AddAll()
	j := &judgement{
		at:         now,
		ownVersion: s.ownVersion,
		badLinks:   s.fleet.BadLinksVersion,
		of:         map[string]Judged{},
		seen:       map[string]seenDrive{},
		absent:     map[string]bool{},
		places:     map[string]fleet.Place{},
		pools:      map[string]seenPool{},
		layered:    map[string]bool{},
		sections:   map[string]*section{},
		late:       map[string]bool{},
		bad:        map[string]failed{},
		batch:      map[string]map[string]health.Sibling{},
		hours:      map[string]map[string]health.Sibling{},
		byVerdict:  map[health.Verdict]map[string]bool{},
	}
	s.judged = j
	return j
}

// settle computes the findings and the verdict of a drive from its hits and its open findings.
func (s *State) settle(j *judgement, key string, now time.Time) {
	d, x := s.fleet.Drives[key], j.of[key]
	before := x.Verdict
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
	if before == x.Verdict {
		return
	}
	delete(j.byVerdict[before], key)
	if x.Verdict != health.Sound {
		if j.byVerdict[x.Verdict] == nil {
			j.byVerdict[x.Verdict] = map[string]bool{}
		}
		j.byVerdict[x.Verdict][key] = true
	}
}

// Touched gives the drives that were judged again since the number from an earlier call, some of them several times,
// and the number for the next call; all is true where it may be any drive.
func (s *State) Touched(since int) (keys []string, next int, all bool) {
	s.Judge()
	return s.touched.Since(since, 4*len(s.fleet.Drives)+1000)
}

// With gives the keys of the drives with a verdict that is not sound. The map must not be changed.
func (s *State) With(v health.Verdict) map[string]bool {
	s.Judge()
	return s.judged.byVerdict[v]
}

// Places is where in its pool each drive is.
func (s *State) Places() map[string]fleet.Place {
	s.Judge()
	return s.judged.places
}
