package judging

import (
	"cmp"
	"errors"
	"slices"
	"strings"
	"time"

	"lantern/internal/api"
	"lantern/internal/core/health"
	"lantern/internal/core/history"
	"lantern/internal/ownrule"
	"lantern/internal/service/problem"
)

// mostTrying is the greatest time for trying a rule on the past.
const mostTrying = 30 * time.Second

// TryRule evaluates an expression over the past of all drives.
func (s *Service) TryRule(req api.RuleTry) (api.RuleTried, error) {
	hours := req.Hours
	if hours <= 0 {
		hours = 90 * 24
	}
	out := api.RuleTried{Hours: hours, Flagged: []api.RuleFlag{}}
	p, err := ownrule.Compile(req.Expression)
	if err != nil {
		var bad *ownrule.Error
		errors.As(err, &bad)
		return out, problem.New(
			422,
			"bad-rule",
			"Metrics: lantern metrics; growth: a metric with _1h, _24h, _7d or _90d behind it; and "+strings.Join(
				ownrule.Words(),
				", ",
			)+".",
			"The rule cannot be read: %s.",
			bad,
		)
	}
	s.mu.RLock()
	var keys []string
	for k := range s.fleet.Drives {
		keys = append(keys, k)
	}
	s.mu.RUnlock()
	slices.Sort(keys)
	begun := time.Now()
	for _, k := range keys {
		if time.Since(begun) > mostTrying {
			break
		}
		flag, n, err := s.tryOn(k, p, time.Duration(hours)*time.Hour)
		if err != nil {
			return out, err
		}
		out.Drives++
		out.Readings += n
		if flag.Times > 0 {
			out.Flagged = append(out.Flagged, flag)
		}
	}
	slices.SortFunc(
		out.Flagged,
		func(a, b api.RuleFlag) int { return cmp.Or(a.First.Compare(b.First), cmp.Compare(a.Drive, b.Drive)) },
	)
	return out, nil
}

// TryThreshold gives the drives that a value of a threshold would flag, and when in the last 90 days; nothing is
// changed. Peers and siblings are taken as they are now.
func (s *Service) TryThreshold(req api.ThresholdSet) (api.ThresholdTried, error) {
	out := api.ThresholdTried{Hours: 90 * 24, Flagged: []api.RuleFlag{}}
	setting, err := health.SettingByName(req.Name)
	if err != nil {
		return out, problem.New(422, "no-setting", "List them with: lantern rule settings", "%s.", err)
	}
	if req.Usual {
		req.Value = setting.Usual
	}
	probe := health.Usual()
	if err := probe.Set(req.Name, req.Value); err != nil {
		return out, problem.New(422, "bad-setting", "Choose a value within its bounds.", "It cannot be set so: %s.", err)
	}
	s.mu.RLock()
	defer s.mu.RUnlock()
	if req.Pool != "" {
		if _, err := s.fleet.FindPool(req.Pool); err != nil {
			return out, err
		}
	}
	of := s.Judge()
	now, rules, peers := s.Clock.Now(), health.ComparesWith(req.Name), peersOf(s.fleet)
	out.Rules = rules
	since := now.Add(-time.Duration(out.Hours) * time.Hour)
	for key, d := range s.fleet.Drives {
		at := s.judged.places[key]
		if !setOn(req, d, at) {
			continue
		}
		out.Drives++
		from := s.grounds(now, d, s.judged, peers)
		sub := s.subject(d, at, from)
		limits := *from.limits
		if limits.Set(req.Name, req.Value) != nil {
			continue
		}
		flag := api.RuleFlag{Drive: key, Tail: d.Tail(), Bay: d.BayName(), Verdict: api.Verdict(of[key].Verdict)}
		if at.Pool != nil {
			flag.Pool = at.Pool.Name
		}
		worst := health.Sound
		for _, id := range rules {
			for i, m := range health.Past(&sub, &limits, id, since) {
				if m.Verdict == "" {
					continue
				}
				flag.Now = flag.Now || i == 0
				flag.Times++
				if flag.First.IsZero() || m.At.Before(flag.First) {
					flag.First = m.At
				}
				if m.At.After(flag.Last) {
					flag.Last = m.At
				}
				if m.Verdict.Gravity() > worst.Gravity() {
					worst = m.Verdict
				}
			}
		}
		if flag.Times > 0 {
			flag.Would = api.Verdict(worst)
			out.Flagged = append(out.Flagged, flag)
		}
	}
	slices.SortFunc(out.Flagged, func(a, b api.RuleFlag) int {
		return cmp.Or(
			-cmp.Compare(health.Verdict(a.Would).Gravity(), health.Verdict(b.Would).Gravity()),
			cmp.Compare(a.Drive, b.Drive),
		)
	})
	return out, nil
}

// tryOn evaluates an expression over the past of one drive.
func (s *Service) tryOn(
	key string,
	p *ownrule.Program,
	back time.Duration,
) (flag api.RuleFlag, readings int, err error) {
	s.mu.RLock()
	d := s.fleet.Drives[key]
	if d == nil {
		s.mu.RUnlock()
		return flag, 0, nil
	}
	at := s.Places()[key]
	facts := ownFacts(d, at)
	flag = api.RuleFlag{Drive: key, Tail: d.Tail(), Bay: d.BayName(), Pool: facts.Pool}
	since := s.Clock.Now().Add(-back)
	s.mu.RUnlock()
	rs, err := s.readings.ReadingsOf(key, since)
	if err != nil {
		return flag, 0, err
	}
	record := history.Record{}
	for _, r := range rs {
		record.Add(r.At, r.Metrics)
		holds, err := p.Holds(record, r.At, facts)
		if err != nil {
			return flag, 0, problem.New(
				422,
				"bad-rule",
				"Try it with fewer steps.",
				"The rule cannot be worked out for %s at %s: %s.",
				flag.Tail,
				r.At.Format(time.RFC3339),
				err,
			)
		}
		readings++
		if flag.Now = holds; holds {
			if flag.Times++; flag.First.IsZero() {
				flag.First = r.At
			}
			flag.Last = r.At
		}
	}
	return flag, readings, nil
}
