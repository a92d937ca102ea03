package recoveries

import (
	"cmp"
	"maps"
	"slices"
	"time"

	"lantern/internal/core/recovery"
)

// lists are selections of the courses. One that is nil is made when it is asked for.
type lists struct {
	inOrder  []*Course
	byPool   map[string][]*Course
	underway []*Course
	scrubs   map[string]time.Time
	version  int // of scrubs
}

// added records that courses were added or removed.
func (s *State) added() {
	s.lists.inOrder, s.lists.byPool = nil, nil
	s.turned()
}

// turned records that the state of a course changed, or what it found.
func (s *State) turned() {
	s.lists.underway, s.lists.scrubs = nil, nil
	s.lists.version++
}

// InOrder are all courses, the earliest first, so that a search is deterministic. The slice must not be changed.
func (s *State) InOrder() []*Course {
	if s.lists.inOrder == nil {
		s.lists.inOrder = slices.SortedFunc(maps.Values(s.Courses), func(a, b *Course) int {
			return cmp.Or(a.StartedAt.Compare(b.StartedAt), cmp.Compare(a.ID, b.ID))
		})
	}
	return s.lists.inOrder
}

// Of are the courses of a pool, the earliest first. The slice must not be changed.
func (s *State) Of(poolID string) []*Course {
	if s.lists.byPool == nil {
		s.lists.byPool = map[string][]*Course{}
		for _, c := range s.InOrder() {
			s.lists.byPool[c.PoolID] = append(s.lists.byPool[c.PoolID], c)
		}
	}
	return s.lists.byPool[poolID]
}

// Underway are the courses that run or are paused, the earliest first. The slice must not be changed.
func (s *State) Underway() []*Course {
	if s.lists.underway == nil {
		s.lists.underway = []*Course{}
		for _, c := range s.InOrder() {
			if Running(c) {
				s.lists.underway = append(s.lists.underway, c)
			}
		}
	}
	return s.lists.underway
}

// CleanScrubs gives the end of the last scrub without errors of each pool, and a number that changes with it. The map
// must not be changed.
func (s *State) CleanScrubs() (ends map[string]time.Time, version int) {
	if s.lists.scrubs == nil {
		s.lists.scrubs = map[string]time.Time{}
		for _, c := range s.InOrder() {
			if c.Kind == recovery.Scrub && c.State == recovery.Finished && c.Report.Found == 0 &&
				c.EndedAt.After(s.lists.scrubs[c.PoolID]) {
				s.lists.scrubs[c.PoolID] = c.EndedAt
			}
		}
	}
	return s.lists.scrubs, s.lists.version
}
