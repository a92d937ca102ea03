package ledger

import "sync"

// Lock guards everything that the service keeps in memory. A change holds it from its beginning until it is written;
// while an observation is written, those who only read may have it (see Commit).
type Lock struct {
	changes sync.Mutex // held by a change from its beginning to its end
	memory  sync.Mutex // held by whoever uses the memory; taken after changes
	reading bool       // whether memory is held by one who only reads
}

// Lock takes the lock for a change.
func (l *Lock) Lock() {
	l.changes.Lock()
	l.memory.Lock()
}

// Unlock releases what Lock took.
func (l *Lock) Unlock() {
	l.memory.Unlock()
	l.changes.Unlock()
}

// RLock takes the lock to read: whoever has it must not change anything that is recorded. There is one reader at a
// time, because reading updates kept results.
func (l *Lock) RLock() {
	l.memory.Lock()
	l.reading = true
}

// TryRLock is RLock if the lock is free, and reports whether it was.
func (l *Lock) TryRLock() bool {
	if !l.memory.TryLock() {
		return false
	}
	l.reading = true
	return true
}

// RUnlock releases what RLock took.
func (l *Lock) RUnlock() {
	l.reading = false
	l.memory.Unlock()
}

// letRead lets readers in until the returned function is called. Must be called with the lock held for a change.
func (l *Lock) letRead() (end func()) {
	l.memory.Unlock()
	return l.memory.Lock
}
