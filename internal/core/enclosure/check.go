package enclosure

import (
	"fmt"
	"regexp"
)

// Bounds of what a layout may be.
const (
	mostSections = 12
	mostBays     = 2000
)

var layoutName = regexp.MustCompile(`^[a-z0-9][a-z0-9-]{0,39}$`)

// Check reports what is wrong with a layout: repeated names, repeated numbers, or numbers outside their grid.
func (l Layout) Check() error {
	if !layoutName.MatchString(l.Name) {
		return fmt.Errorf("%q is not a valid name for a layout: use lower-case letters, digits and hyphens", l.Name)
	}
	if len(l.Sections) == 0 || len(l.Sections) > mostSections {
		return fmt.Errorf(
			"a layout has 1 to %d sections, such as front and rear; this one has %d",
			mostSections,
			len(l.Sections),
		)
	}
	seen := map[string]bool{}
	for _, s := range l.Sections {
		if !layoutName.MatchString(s.Name) {
			return fmt.Errorf(
				"%q is not a valid name for a section: use lower-case letters, digits and hyphens, such as front",
				s.Name,
			)
		}
		if seen[s.Name] {
			return fmt.Errorf("two sections are named %s", s.Name)
		}
		seen[s.Name] = true
		if err := s.Check(); err != nil {
			return fmt.Errorf("section %s: %w", s.Name, err)
		}
	}
	return nil
}

// Check reports what is invalid in a section.
func (s Section) Check() error {
	switch {
	case s.Rows < 1 || s.Columns < 1 || s.Rows*s.Columns > mostBays:
		return fmt.Errorf(
			"%d rows of %d columns: a section has at least one bay, and at most %d",
			s.Rows,
			s.Columns,
			mostBays,
		)
	case s.First != TopLeft && s.First != TopRight && s.First != BottomLeft && s.First != BottomRight:
		return fmt.Errorf("first is %q; it is %s, %s, %s or %s", s.First, TopLeft, TopRight, BottomLeft, BottomRight)
	case s.Run != AlongRows && s.Run != DownColumns:
		return fmt.Errorf("run is %q; it is %s or %s", s.Run, AlongRows, DownColumns)
	}
	for _, g := range s.Gaps {
		if g[0] < 1 || g[0] > s.Rows || g[1] < 1 || g[1] > s.Columns {
			return fmt.Errorf(
				"the gap in row %d, column %d leaves the grid of %d rows and %d columns",
				g[0],
				g[1],
				s.Rows,
				s.Columns,
			)
		}
	}
	if s.Bays() == 0 {
		return fmt.Errorf("it is all gaps")
	}
	return s.checkBays()
}

// checkBays refuses bays outside the grid, two bays at one place, and repeated or empty names.
func (s Section) checkBays() error {
	at := map[Place]int{}
	for _, n := range s.Numbers() {
		p, _ := s.Place(n)
		if p.Row < 0 || p.Row >= s.Rows || p.Column < 0 || p.Column >= s.Columns {
			return fmt.Errorf("bay %d leaves the grid: row %d, column %d", n, p.Row+1, p.Column+1)
		}
		if other, taken := at[p]; taken {
			return fmt.Errorf("bays %d and %d are at the same place: row %d, column %d", other, n, p.Row+1, p.Column+1)
		}
		at[p] = n
	}
	for n, name := range s.Names {
		if _, ok := s.Place(n); !ok {
			return fmt.Errorf("bay %d has the name %q, and there is no such bay", n, name)
		}
	}
	printed := map[string]int{}
	for _, n := range s.Numbers() {
		name := s.Names[n]
		if other, taken := printed[name]; taken && name != "" {
			return fmt.Errorf("bays %d and %d are both named %q", other, n, name)
		}
		printed[name] = n
	}
	return nil
}
