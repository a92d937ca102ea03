package people

import (
	"sync"

	"lantern/internal/store"
)

// mostSeen bounds the cached records of callers: far more than there are sessions.
const mostSeen = 10000

// seen caches the records for authentication until one of them changes. So a request does not wait for the database,
// which may be waiting for the disk. Unknown callers are not cached.
type seen[T any] struct {
	mu   sync.Mutex
	ways uint64
	rows map[string]T
}

func (c *seen[T]) get(st *store.Store, key, where string, arg any) (row T, err error) {
	ways := st.Ways() // before the record is read
	c.mu.Lock()
	if c.ways != ways || len(c.rows) > mostSeen || c.rows == nil {
		c.ways, c.rows = ways, map[string]T{}
	}
	row, known := c.rows[key]
	c.mu.Unlock()
	if known {
		return row, nil
	}
	if row, err = store.One[T](st, where, arg); err != nil {
		return row, err
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.ways == ways {
		c.rows[key] = row
	}
	return row, nil
}
