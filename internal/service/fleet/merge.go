package fleet

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"lantern/internal/core/drive"
	"lantern/internal/service/problem"
)

// powerOnHours is a counter that only grows: it distinguishes a younger drive from the same drive.
const powerOnHours drive.MetricName = "power_on_hours"

// calledBefore reports whether an earlier identity of the drive has a serial with this ending, or this key.
func (d *Drive) calledBefore(want string) bool {
	return slices.ContainsFunc(d.Before, func(i drive.Identity) bool {
		return strings.HasSuffix(strings.ToUpper(i.Serial), want) || strings.EqualFold(i.Key(), want)
	})
}

// hours are its power-on hours; known is false where it does not report them.
func (d *Drive) hours() (n float64, known bool) {
	p, known := d.Record[powerOnHours].Last()
	return p.Value, known
}

// TwoDrives says why two identities belong to two drives; nil when there is no evidence for that.
func TwoDrives(from, into *Drive) error {
	differ := func(do, format string, args ...any) error {
		return problem.New(409, "two-drives", do, format, args...)
	}
	const look = "These are two drives. Check the label of each."
	a, b := from.Tail(), into.Tail()
	older, known := from.hours()
	newer, both := into.hours()
	switch {
	case from.Present:
		return differ("Only an identity that no host reports any more can be merged into another.",
			"%s is reported by %s.", a, from.Host)
	case from.SeenAt.After(into.FirstAt):
		return differ(look, "%s was still reported at %s, and %s was there from %s on.", a,
			from.SeenAt.UTC().Format("2006-01-02 15:04"), b, into.FirstAt.UTC().Format("2006-01-02 15:04"))
	case from.Desc.Capacity != into.Desc.Capacity:
		return differ(look, "%s has %d bytes, %s has %d.", a, from.Desc.Capacity, b, into.Desc.Capacity)
	case from.Desc.WWN != "" && into.Desc.WWN != "" && from.Desc.WWN != into.Desc.WWN:
		return differ(look, "%s has the WWN %s, %s has %s.", a, from.Desc.WWN, b, into.Desc.WWN)
	case cmp.Or(from.Desc.Medium, into.Desc.Medium) != cmp.Or(into.Desc.Medium, from.Desc.Medium):
		return differ(look, "%s is %s, %s is %s.", a, from.Desc.Medium, b, into.Desc.Medium)
	case known && both && newer < older:
		return differ(look, "%s had been powered for %.0f h, and %s reports %.0f h.", a, older, b, newer)
	}
	return nil
}

// Merged are the facts of a drive, combined with those of another identity of it. Evidence against it is kept. A passed
// acceptance test counts only where the hours of both show that it is one drive: anything else is only a person's
// statement.
func (d *Drive) Merged(from *Drive) Facts {
	f := d.Facts
	f.Before = append(append(slices.Clone(f.Before), from.Before...), from.Desc.Identity)
	f.FirstAt = from.FirstAt
	f.Held = append(slices.Clone(from.Held), f.Held...)
	f.Stays = append(slices.Clone(from.Stays), f.Stays...)
	f.BadLinks = slices.Compact(slices.Sorted(slices.Values(append(slices.Clone(from.BadLinks), f.BadLinks...))))
	_, told := from.hours()
	if _, tells := d.hours(); told && tells && f.Accepted.At.IsZero() {
		f.Accepted = from.Accepted
	}
	if from.Past.At.After(f.Past.At) {
		f.Past = from.Past
	}
	if f.StockNote == "" {
		f.StockNote = from.StockNote
	}
	f.Life = nil // computed again from all readings
	return f
}

// Unlist removes a drive from memory before the batch that deletes it is written, so that nothing else in the batch
// adds it again; back restores it.
func Unlist(s *State, d *Drive) (back func()) {
	key := d.Key()
	unknow(s, key, d)
	return func() {
		s.Know(key, d)
		for _, bay := range d.BadLinks {
			s.BadLink(key, d, bay)
		}
		s.BadLinksVersion++
	}
}

// MergeWords describes a merge.
func MergeWords(by string, from, into *Drive, reason string) string {
	return fmt.Sprintf(
		"%s joined %s with %s, its earlier identity: %s",
		by,
		into.Tail(),
		from.Desc.Serial,
		reason,
	)
}
