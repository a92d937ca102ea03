package notices

import (
	"errors"
	"time"

	"lantern/internal/store"
)

// Undo reads the notices, channels and deliveries of a failed batch again from the store. Matters are computed again at
// once.
func (s *State) Undo(b *store.Batch) error {
	var failed []error
	if len(store.Of[store.Notice](b))+len(store.Of[store.PoolUse](b)) > 0 {
		s.notifiedAt = time.Time{}
		failed = append(failed, s.LoadNotices())
	}
	if len(store.Of[store.Channel](b)) > 0 {
		failed = append(failed, s.LoadChannels())
	}
	if len(store.Of[store.Delivery](b)) > 0 {
		failed = append(failed, s.LoadDeliveries())
	}
	return errors.Join(failed...)
}
