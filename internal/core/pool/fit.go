package pool

import (
	"fmt"

	"lantern/internal/core/drive"
)

// Size is the range of sizes that a drive may have to take a member's place.
type Size struct {
	Least    drive.Bytes
	WhyLeast string
	Most     drive.Bytes // 0: no upper limit
	WhyMost  string
}

// Takes says why a drive of this size in bytes cannot take the place; empty when it can.
func (s Size) Takes(bytes drive.Bytes) string {
	switch {
	case bytes < s.Least:
		return fmt.Sprintf("it is %d bytes too small: %s", s.Least-bytes, s.WhyLeast)
	case s.Most > 0 && bytes > s.Most:
		return fmt.Sprintf("it is %d bytes too large: %s", bytes-s.Most, s.WhyMost)
	}
	return ""
}

// Fit gives the size that a drive in the place of the member at slot must have: the size that the pool system requires
// where it says so, else the size of the member. ok is false where there is no such member, or where its size is
// unknown (R7).
func (p *Pool) Fit(slot string) (s Size, ok bool) {
	m, group, ok := p.Slot(slot)
	if !ok {
		return Size{}, false
	}
	s = Size{Least: m.Needs, WhyLeast: fmt.Sprintf("the pool system asks for %d bytes", m.Needs)}
	if m.Needs == 0 {
		s = Size{Least: m.Size, WhyLeast: fmt.Sprintf("the member it replaces has %d bytes", m.Size)}
	}
	if m.Needs == 0 && m.Size == 0 {
		return Size{}, false
	}
	g := p.group(group)
	if dedicated := g.parity(); len(dedicated) > 0 {
		var largest drive.Bytes // of the data members that remain
		least := drive.Bytes(0)
		for _, x := range g.Members {
			if x.Size == 0 && x.State != Out && x.Parity != m.Parity {
				return Size{}, false // the size to compare with is not known
			}
			if x.Parity {
				if least == 0 || x.Size < least {
					least = x.Size
				}
			} else if x.State != Out {
				largest = max(largest, x.Size)
			}
		}
		if m.Parity {
			s = Size{
				Least: largest,
				WhyLeast: fmt.Sprintf(
					"a parity drive is at least as large as the largest data drive, which has %d bytes",
					largest,
				),
			}
		} else {
			s.Most, s.WhyMost = least, fmt.Sprintf(
				"no data drive may be larger than the smallest parity drive, which has %d bytes",
				least,
			)
		}
	}
	return s, true
}

// parity are the members of a group that store only parity.
func (g Group) parity() (out []Member) {
	for _, m := range g.Members {
		if m.Parity && m.State != Out {
			out = append(out, m)
		}
	}
	return out
}
