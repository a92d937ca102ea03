// Package selftest decides when which drive tests itself: windows, the placing of tests within them, and what becomes
// of a test that is due.
package selftest

import (
	"slices"
	"time"
)

// Span is a stretch of time: From belongs to it, To does not.
type Span struct{ From, To time.Time }

// Len is how long it is.
func (s Span) Len() time.Duration { return s.To.Sub(s.From) }

// Holds reports whether t lies in it.
func (s Span) Holds(t time.Time) bool { return !t.Before(s.From) && t.Before(s.To) }

// Merge gives spans in order of time, those that touch made one. Empty ones are left out.
func Merge(spans []Span) []Span {
	spans = slices.DeleteFunc(slices.Clone(spans), func(s Span) bool { return !s.From.Before(s.To) })
	slices.SortFunc(spans, func(a, b Span) int { return a.From.Compare(b.From) })
	out := spans[:0]
	for _, s := range spans {
		if n := len(out); n > 0 && !s.From.After(out[n-1].To) {
			if s.To.After(out[n-1].To) {
				out[n-1].To = s.To
			}
			continue
		}
		out = append(out, s)
	}
	return out
}

// Without takes holes out of spans; both are merged.
func Without(spans, holes []Span) []Span {
	var out []Span
	for _, s := range spans {
		for _, h := range holes {
			if !h.To.After(s.From) {
				continue
			}
			if !h.From.Before(s.To) {
				break
			}
			if h.From.After(s.From) {
				out = append(out, Span{s.From, h.From})
			}
			s.From = h.To
		}
		if s.From.Before(s.To) {
			out = append(out, s)
		}
	}
	return out
}

// Within gives what of merged spans lies in one.
func Within(spans []Span, in Span) []Span {
	first, _ := slices.BinarySearchFunc(spans, in.From, func(s Span, t time.Time) int {
		if s.To.After(t) {
			return 1
		}
		return -1
	})
	var out []Span
	for _, s := range spans[first:] {
		if !s.From.Before(in.To) {
			break
		}
		if s.From.Before(in.From) {
			s.From = in.From
		}
		if s.To.After(in.To) {
			s.To = in.To
		}
		if s.From.Before(s.To) {
			out = append(out, s)
		}
	}
	return out
}
