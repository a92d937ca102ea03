package ledger

import "slices"

// Changes are the keys of things that changed, in order. Each reader asks for those since its last call; only the
// newest are kept.
type Changes struct {
	keys []string
	from int // the number of the first of them
}

// Add records that a thing changed.
func (c *Changes) Add(key string) { c.keys = append(c.keys, key) }

// AddAll records that anything may have changed.
func (c *Changes) AddAll() {
	c.from += len(c.keys) + 1
	c.keys = nil
}

// Since gives the keys that were added since the number from an earlier call, some of them several times, and the
// number for the next call; all is true if anything may have changed. Of more than most keys, the older ones are
// dropped.
func (c *Changes) Since(since, most int) (keys []string, next int, all bool) {
	if len(c.keys) > most {
		c.from += len(c.keys) - most/2
		c.keys = slices.Clone(c.keys[len(c.keys)-most/2:])
	}
	next = c.from + len(c.keys)
	if since < c.from || since > next {
		return nil, next, true
	}
	return c.keys[since-c.from:], next, false
}
