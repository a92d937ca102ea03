// Package enclosure knows how enclosures look: sections, grids of bays, and where each number sits as one stands before
// them.
package enclosure

import (
	"fmt"
	"strconv"
	"strings"
)

// Layout describes one enclosure as seen from where the engineer stands.
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
	Upright bool   `json:"upright"` // bays stand on their short side
}

// Corner is where number one sits.
type Corner string

// Run is which way the numbers go.
type Run string

// The four corners and the two ways.
const (
	TopLeft     Corner = "top-left"
	TopRight    Corner = "top-right"
	BottomLeft  Corner = "bottom-left"
	BottomRight Corner = "bottom-right"

	AlongRows   Run = "rows"
	DownColumns Run = "columns"
)

// Place is where a bay is drawn; row and column count from the top left, from zero.
type Place struct{ Row, Column int }

// Bays is how many bays the section has.
func (s Section) Bays() int { return s.Rows * s.Columns }

// Place of bay number n, counted from one; ok is false for a number the section does not have.
func (s Section) Place(n int) (p Place, ok bool) {
	if n < 1 || n > s.Bays() {
		return p, false
	}
	n--
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
	return p, true
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
	return Address{}, fmt.Errorf("%q is no bay address; one reads host/section/number, such as skerry/front/7", s)
}
