package swap

import (
	"cmp"
	"fmt"
	"strings"

	"lantern/internal/core/drive"
	"lantern/internal/core/health"
	"lantern/internal/core/record"
)

// Unfit says why a drive cannot take the old one's place; empty when it can.
func (s *State) Unfit(d Drive) string {
	own := ""
	switch d.Key() {
	case "":
		own = "it reports no serial and no WWN, so it could never be recognised"
	case s.Old.Key():
		own = "it is the drive that is to be replaced"
	}
	return cmp.Or(own, nameless(d), s.size(d), s.lies(d), promised(d), ill(d), s.sort(d))
}

func (s *State) size(d Drive) string {
	switch {
	case d.Capacity < s.Needs:
		return fmt.Sprintf("too small: %s bytes, at least %s are needed, %s more",
			grouped(d.Capacity), grouped(s.Needs), grouped(s.Needs-d.Capacity))
	case s.AtMost > 0 && d.Capacity > s.AtMost:
		return fmt.Sprintf("too large: %s bytes, and no data drive may have more than the parity drive's %s",
			grouped(d.Capacity), grouped(s.AtMost))
	}
	return ""
}

func (s *State) lies(d Drive) string {
	switch {
	case s.Recipe.Spare != "" && d.Spare && d.Member == s.Pool:
		return "" // a spare carries the metadata of its own pool
	case d.Member != "":
		return "member of " + d.Member
	case s.Laid != "" && s.Laid == d.Key() && d.Holds == drive.PartitionTable:
		return "" // this swap created its partitions
	case d.Holds == "" && !d.Blank:
		return "its contents are unknown: it was not read"
	case d.Holds != "":
		return "it carries somebody's data (" + d.Holds + ")"
	}
	return ""
}

// nameless refuses a drive whose label tail nobody can type (R3).
func nameless(d Drive) string {
	if d.Tail() == "" {
		return "it reports no serial number, so its label cannot be compared"
	}
	return ""
}

func promised(d Drive) string {
	if d.Promised != "" {
		return "reserved by the swap of " + d.Promised
	}
	return ""
}

func ill(d Drive) string {
	switch {
	case d.Ill != "":
		return "it cannot be trusted: it " + d.Ill
	case d.Testing:
		return "it is being tested, and not accepted yet"
	}
	return ""
}

// instead says what to do about a drive that does not fit.
func instead(d Drive) string {
	if d.Testing && d.Ill == "" {
		return "Wait until its test has passed, or stop that test."
	}
	return "Put in another drive."
}

// leastSector is the smallest size of a logical sector in bytes; a drive with such sectors can replace any other.
const leastSector = 512

func (s *State) sort(d Drive) string {
	unknown := d.Medium != drive.MediumSolidState && d.Medium != drive.MediumRotating
	oldUnknown := s.Old.Medium != drive.MediumSolidState && s.Old.Medium != drive.MediumRotating
	switch {
	case d.Sector == 0:
		return "the size of its sectors is not known"
	case s.Old.Sector == 0 && d.Sector > leastSector:
		return fmt.Sprintf("its sectors have %d bytes, and it is not known which the pool writes", d.Sector)
	case s.Recipe.has(Layout) && s.Old.Sector > 0 && d.Sector != s.Old.Sector:
		return fmt.Sprintf(
			"its sectors have %d bytes, the partition table that it would get counts in sectors of %d",
			d.Sector,
			s.Old.Sector,
		)
	case s.Old.Sector > 0 && d.Sector > s.Old.Sector:
		return fmt.Sprintf("its sectors have %d bytes, the pool writes sectors of %d", d.Sector, s.Old.Sector)
	case s.Old.Medium == drive.MediumSolidState && d.Medium == drive.MediumRotating:
		return "rotating drive; the pool expects a solid-state drive"
	case s.Old.Medium == drive.MediumSolidState && unknown:
		return "the kind of its media is not known; the pool expects a solid-state drive"
	case oldUnknown && d.Medium == drive.MediumRotating: // of virtual disks, neither is known
		return "rotating drive; it is not known whether the pool expects a solid-state drive"
	case s.Old.Zoned == "" && d.Zoned != "":
		return "its tracks overlap (" + string(
			d.Zoned,
		) + " zones): it would take many times as long to fill as its peers"
	}
	return ""
}

// newcomer gives the checks of the new drive before it is accepted. They never show its label tail: the person who
// confirms must read it from the label (R3).
func (c *checker) newcomer() {
	p := c.s.Plan
	if p.New == nil {
		return
	}
	d := *p.New
	either := func(id, title, looked, why, found, do string) {
		if why != "" {
			c.add(id, title, looked, record.Stops, why, do)
			return
		}
		c.add(id, title, looked, record.Passes, found, "")
	}
	other := instead(Drive{})
	spare := grouped(d.Capacity) + " bytes, exactly what is needed"
	if d.Capacity > p.Needs {
		spare = grouped(d.Capacity) + " bytes, " + grouped(d.Capacity-p.Needs) + " more than are needed"
	}
	either("new-size", "Size of the new drive", "the size that the drive reports", p.size(d), spare, other)
	kind := "media of an unknown kind"
	if d.Medium != "" && d.Medium != drive.MediumUnknown {
		kind = string(d.Medium)
	}
	if d.Sector > 0 {
		kind += fmt.Sprintf(", sectors of %d bytes", d.Sector)
	}
	either(
		"new-kind",
		"Kind of the new drive",
		"the sectors, medium and recording that the drive reports",
		p.sort(d),
		kind,
		other,
	)
	empty := "both ends are blank, and the kernel shows no use of it"
	if d.Spare {
		empty = "it stands by in " + d.Member + "; nothing but the mark of that pool is on it"
	}
	either("new-empty", "Contents of the new drive", "its beginning and its end", p.lies(d), empty, other)
	either("new-free", "Reserved by another swap", "swaps under way", promised(d), "no", other)
	c.trusted(d)
}

// trusted checks whether the new drive can be trusted with data: by an acceptance test, else by its own health data.
func (c *checker) trusted(d Drive) {
	const id, title, looked = "new-accepted", "Acceptance test of the new drive", "tests of new drives"
	const do = "Test it first, or say why there is no time for that."
	switch {
	case ill(d) != "":
		c.add(id, title, looked, record.Stops, ill(d), instead(d))
	case d.Accepted != "" && d.Lacks != "":
		c.add(id, title, looked, record.Warns, d.Accepted+"; the policy also requires "+d.Lacks, do)
	case d.Accepted != "":
		c.add(id, title, looked, record.Passes, d.Accepted, "")
	default:
		c.out = append(c.out, c.s.NewPast...)
		c.add(id, title, looked, record.Warns, "not run", do)
	}
	const well, how, reading = "new-well", "Health of the new drive", "findings about it"
	switch v := c.s.NewVerdict; v {
	case health.Sound:
		c.add(well, how, reading, record.Passes, string(v), "")
	case health.Unknown, "":
		c.add(
			well,
			how,
			reading,
			record.Warns,
			"unknown: it reports no health data, or was not read yet",
			"Wait a minute for its first reading.",
		)
	default:
		c.add(well, how, reading, record.Warns, string(v), "Look at its findings.")
	}
}

// firstWarning is the first check for which a reason is required.
func firstWarning(checks []record.Check) string {
	for _, c := range checks {
		if c.Result == record.Warns {
			return strings.TrimSpace(c.Title + ": " + c.Found + ". " + c.Do)
		}
	}
	return ""
}
