package swap

import (
	"fmt"
	"strings"

	"lantern/internal/core/pool"
	"lantern/internal/core/record"
)

// margin checks the margin that is left without the drive (R1), and what depends on the drive.
func (c *checker) margin() {
	const id, title = "margin", "Margin without the drive"
	s := c.s
	p := s.Plan
	looked := "groups and volumes of " + p.poolWords()
	over, ok := need(c, s.Above, id, title, looked)
	if !ok {
		return
	}
	for _, a := range over {
		looked += ", and of " + a.Name + " which is on it"
	}
	if s.Pool == nil {
		c.add(id, title, looked, record.Stops, "nothing is known of the pool", "Wait for a report of it.")
		return
	}
	before, after, volumes, known := c.left()
	emptied := p.Recipe.Beside || p.Recipe.has(Drain)
	if p.Recipe.has(Down) && known {
		c.down(false)
	}
	switch {
	case !known:
		c.add(id, title, looked, record.Stops, "the margin of the pool is unknown", "Wait for a report of it.")
	case len(p.Recipe.Unit) > 0 && !emptied:
		c.add(
			id,
			title,
			looked,
			record.Stops,
			fmt.Sprintf(
				"it is a log device; %s would be lost with it",
				plural(len(p.Recipe.Unit), "member", "members"),
			),
			"Free a bay, so that a new one can go in beside it.",
		)
	case p.Recipe.Beside:
		c.add(
			id,
			title,
			looked,
			record.Passes,
			"now "+before.String()+"; the old drive leaves when the new one carries its share",
			"",
		)
	case p.Recipe.has(Drain):
		c.add(
			id,
			title,
			looked,
			record.Passes,
			"now "+before.String()+"; what is on it moves to the others before it leaves",
			"",
		)
	case len(volumes) > 0:
		c.add(id, title, looked, record.Stops, "without it "+strings.Join(volumes, ", ")+" would be lost",
			"Drain the drive first; or, if they can be lost, begin with the pool's name and a reason.")
		c.out[len(c.out)-1].Loses = volumes
	case after < 0:
		c.add(id, title, looked, record.Stops, "without it data would be lost", "Restore redundancy first.")
	case after == 0:
		c.add(
			id,
			title,
			looked,
			record.Warns,
			"now: "+before.String()+"; without it: "+after.String(),
			"Have a backup at hand.",
		)
	default:
		c.add(id, title, looked, record.Passes, "now: "+before.String()+"; without it: "+after.String(), "")
	}
}

// without gives the margin of a pool while a host is down; alone is true when the whole pool is on that host.
func without(p *pool.Pool, host string) (left pool.Margin, known, alone bool) {
	var there []string
	alone = true
	p.Everyone(func(group string, m *pool.Member) {
		if m.Domain == host || m.Domain == "" {
			there = append(there, m.Slot)
		} else if group != "" {
			alone = false
		}
	})
	q := p.With(pool.Missing, there...)
	left, known = q.Margin()
	return left, known, alone
}

// down checks which pools are unavailable while the host is down, and the margin of every pool that stays available. A
// low margin of another pool only warns before the start, since it may be over by then; immediately before the host
// goes down it stops (R1, R4).
func (c *checker) down(now bool) {
	const id, title = "host-down", "Pools while the host is down"
	p := c.s.Plan
	looked := "members of all pools on " + p.Host
	worst := record.Passes
	var found []string
	say := func(r record.Result, words string) {
		found = append(found, words)
		if r == record.Stops || worst == record.Passes {
			worst = r
		}
	}
	look := func(q *pool.Pool, bad record.Result) {
		left, known, alone := without(q, p.Host)
		switch {
		case alone:
		case !known:
			say(bad, "the margin of "+q.Name+" is unknown")
		case left < 0:
			say(bad, "without "+p.Host+" data of "+q.Name+" would be missing")
		}
	}
	look(c.s.Pool, record.Stops)
	bad := record.Warns
	if now {
		bad = record.Stops
	}
	neighbours, ok := need(c, c.s.Neighbours, id, title, looked)
	if !ok {
		return
	}
	for _, n := range neighbours {
		if n.Recovery != "" {
			say(bad, "a "+n.Recovery+" is running in "+n.Pool.Name+", which has members on "+p.Host)
			continue
		}
		look(n.Pool, bad)
	}
	switch {
	case len(found) > 0:
		c.add(
			id,
			title,
			looked,
			worst,
			strings.Join(found, "; "),
			"Wait until nothing recovers and redundancy is restored.",
		)
	case len(p.Recipe.Stops) > 0:
		c.add(
			id,
			title,
			looked,
			record.Warns,
			strings.Join(p.Recipe.Stops, ", ")+" cannot be reached while it is down",
			"Tell those who use it, and stop what works on it.",
		)
	default:
		c.add(id, title, looked, record.Passes, "no pool needs it to be reached", "")
	}
}
