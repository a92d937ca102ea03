package health

import (
	"maps"
	"slices"
	"strings"
	"time"

	"lantern/internal/core/drive"
	"lantern/internal/core/history"
)

// mostMoments is the greatest number of moments of a drive's past that are examined, the newest first.
const mostMoments = 3000

// ComparesWith gives the rules that use a threshold, by its name: those whose condition contains it.
func ComparesWith(threshold string) (ids []string) {
	for _, r := range rules {
		if slices.Contains(namesIn(r.When), threshold) {
			ids = append(ids, r.ID)
		}
	}
	return ids
}

// namesIn gives the words of a text that may be names of thresholds or metrics.
func namesIn(text string) []string {
	return strings.FieldsFunc(
		text,
		func(c rune) bool { return !(c == '_' || c >= 'a' && c <= 'z' || c >= '0' && c <= '9') },
	)
}

// moments are the times after since at which a rule may have become worse: the newest reading, and each reading at
// which a metric changed that the rule's description names (any metric where it names none). The newest come first.
func moments(r *Rule, record history.Record, since time.Time) []time.Time {
	times := map[time.Time]bool{}
	var newest time.Time
	named := namesIn(r.For + " " + r.When)
	any := !slices.ContainsFunc(named, func(n string) bool { _, ok := record[drive.MetricName(n)]; return ok })
	for name, series := range record {
		if p, ok := series.Last(); ok && p.At().After(newest) {
			newest = p.At()
		}
		if !any && !slices.Contains(named, string(name)) {
			continue
		}
		part := series.Since(since)
		for i, p := range part {
			if i == 0 || p.Value != part[i-1].Value {
				times[p.At()] = true
			}
		}
	}
	if !newest.Before(since) && !newest.IsZero() {
		times[newest] = true
	}
	out := slices.SortedFunc(maps.Keys(times), func(a, b time.Time) int { return b.Compare(a) })
	return out[:min(len(out), mostMoments)]
}

// Moment is the result of a rule at a moment of the past; Verdict is empty when it would not have held.
type Moment struct {
	At      time.Time
	Verdict Verdict
	Hit     Hit
}

// Past gives the results of a rule at the drive's past readings after a moment, for those readings at which it may have
// become worse, the newest first. Facts outside the drive's own record, such as peers and siblings, are taken as they
// are now.
func Past(s *Subject, t *Thresholds, id string, since time.Time) (out []Moment) {
	r := ruleOf(id)
	if r == nil {
		return nil
	}
	for _, moment := range moments(r, s.Record, since) {
		then := *s
		then.LastAt = moment
		then.Record = make(history.Record, len(s.Record))
		for name, series := range s.Record {
			then.Record[name] = series.Until(moment)
		}
		m := Moment{At: moment}
		if hits := evaluate(&then, t, func(x *Rule) bool { return x.ID == id }); len(hits) == 1 {
			m.Verdict, m.Hit = hits[0].Verdict, hits[0]
		}
		out = append(out, m)
	}
	return out
}

// Revise gives the standing findings of a drive after a threshold was changed: findings of the rules that use it become
// what they would be if the threshold had always had its new value. Readings of the hysteresis time are examined for
// findings that stand only because their rule held before.
func Revise(standing []Standing, s *Subject, t *Thresholds, threshold string, now time.Time) []Standing {
	changed := ComparesWith(threshold)
	hits := evaluate(s, t, func(r *Rule) bool { return slices.Contains(changed, r.ID) })
	out := make([]Standing, 0, len(standing))
	for _, x := range standing {
		r := ruleOf(x.Rule)
		if r == nil || !slices.Contains(changed, x.Rule) {
			out = append(out, x)
			continue
		}
		if slices.ContainsFunc(
			hits,
			func(h Hit) bool { return h.Rule == x.Rule && h.Verdict.Gravity() >= x.Verdict.Gravity() },
		) {
			out = append(out, x) // it holds now
			continue
		}
		var seen, grave *Moment
		for _, m := range Past(s, t, x.Rule, now.Add(-r.Hold)) {
			if m.Verdict == "" {
				continue
			}
			if seen == nil {
				seen = &m
			}
			if m.Verdict.Gravity() >= x.Verdict.Gravity() {
				grave = &m
				break
			}
		}
		switch {
		case seen == nil:
			continue // it would not have been raised
		case grave == nil:
			x.Hit, x.Seen, x.Grave = seen.Hit, seen.At, seen.At
		default:
			x.Seen, x.Grave = seen.At, grave.At
		}
		out = append(out, x)
	}
	return out
}
