// Package enclosure describes enclosures: their sections, their grids of bays, and the position of each number as seen
// by a person who stands in front of them.
package enclosure

import (
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
)

// Layout describes one enclosure as seen from the engineer's position.
type Layout struct {
	Name     string    `json:"name"`
	Sections []Section `json:"sections"`
}

// Section is a grid of bays. Number one is at the corner named by First; numbers run along rows or down columns.
type Section struct {
	Name    string `json:"name"` // front, rear, internal: part of every bay's address
	Rows    int    `json:"rows"`
	Columns int    `json:"columns"`
	First   Corner `json:"first"`
	Run     Run    `json:"run"`
	Upright bool   `json:"upright"` // bays are upright
	// Gaps are places without a bay, by row and column from the top left, counted from one; numbers skip them.
	Gaps [][2]int `json:"gaps,omitempty"`
	// Named are bays whose numbers follow no rule: each by its row and column. If there are any, the section has no
	// other bays.
	Named map[int][2]int `json:"bays,omitempty"`
	// Names are the labels printed on the case, where they differ from the numbers.
	Names map[int]string `json:"names,omitempty"`
}

// Corner is the corner of number one.
type Corner string

// Run is the direction of the numbers.
type Run string

// The four corners and the two directions.
const (
	TopLeft     Corner = "top-left"
	TopRight    Corner = "top-right"
	BottomLeft  Corner = "bottom-left"
	BottomRight Corner = "bottom-right"

	AlongRows   Run = "rows"
	DownColumns Run = "columns"
)

// Place is the position of a bay in the drawing; row and column count from the top left, from zero.
type Place struct{ Row, Column int }

// Bays is how many bays the section has.
func (s Section) Bays() int {
	if len(s.Named) > 0 {
		return len(s.Named)
	}
	gaps := map[[2]int]bool{}
	for _, g := range s.Gaps {
		gaps[g] = true
	}
	return max(0, s.Rows*s.Columns-len(gaps))
}

// Numbers are those of its bays, in order.
func (s Section) Numbers() []int {
	if len(s.Named) > 0 {
		return slices.Sorted(maps.Keys(s.Named))
	}
	out := make([]int, s.Bays())
	for i := range out {
		out[i] = i + 1
	}
	return out
}

// Place of bay number n, counted from one; ok is false for a number the section does not have.
func (s Section) Place(n int) (p Place, ok bool) {
	if at, ok := s.Named[n]; ok || len(s.Named) > 0 {
		return Place{Row: at[0] - 1, Column: at[1] - 1}, ok
	}
	if n < 1 || n > s.Bays() {
		return p, false
	}
	if len(s.Gaps) == 0 {
		return s.nth(n - 1), true
	}
	for i := range s.Rows * s.Columns {
		p = s.nth(i)
		if slices.Contains(s.Gaps, [2]int{p.Row + 1, p.Column + 1}) {
			continue
		}
		if n--; n == 0 {
			return p, true
		}
	}
	return p, false
}

// nth is the nth place in the direction of the numbers, counted from zero, including gaps.
func (s Section) nth(n int) (p Place) {
	if s.Run == DownColumns {
		p = Place{Row: n % s.Rows, Column: n / s.Rows}
	} else {
		p = Place{Row: n / s.Columns, Column: n % s.Columns}
	}
	if s.First == BottomLeft || s.First == BottomRight {
		p.Row = s.Rows - 1 - p.Row
	}
	if s.First == TopRight || s.First == BottomRight {
		p.Column = s.Columns - 1 - p.Column
	}
	return p
}

// Address names a bay: host/section/number.
type Address struct {
	Host    string
	Section string
	Number  int
}

func (a Address) String() string {
	if a.Section == "" {
		return ""
	}
	return fmt.Sprintf("%s/%s/%d", a.Host, a.Section, a.Number)
}

// ParseAddress reads host/section/number.
func ParseAddress(s string) (Address, error) {
	part := strings.Split(s, "/")
	if len(part) == 3 && part[0] != "" && part[1] != "" {
		if n, err := strconv.Atoi(part[2]); err == nil && n > 0 {
			return Address{Host: part[0], Section: part[1], Number: n}, nil
		}
	}
	return Address{}, fmt.Errorf("%q is not a bay; write host/section/number, such as skerry/front/7", s)
}
