// Package rehearsal copies a pool with its hosts, so that a procedure can be rehearsed on the copy in the lab.
package rehearsal

import (
	"lantern/internal/service/bays"
	"lantern/internal/service/fleet"
	"lantern/internal/service/judging"
	"lantern/internal/service/ledger"
	"lantern/internal/service/recoveries"
	"lantern/internal/service/selftests"
	"lantern/internal/service/stock"
	"lantern/internal/service/swaps"
	"lantern/internal/service/views"
)

// Service makes a copy, and takes one over. It has no state of its own; its methods take the lock.
type Service struct {
	*ledger.Ledger
	mu         *ledger.Lock
	fleet      *fleet.State
	recoveries *recoveries.State
	judging    *judging.State
	selftests  *selftests.State
	stock      *stock.State
	swaps      *swaps.State
	bays       *bays.Service
	views      *views.Service
}

// NewService makes copies from the state of the other packages.
func NewService(
	mu *ledger.Lock,
	l *ledger.Ledger,
	f *fleet.State,
	r *recoveries.State,
	j *judging.State,
	t *selftests.State,
	st *stock.State,
	w *swaps.State,
	b *bays.Service,
	v *views.Service,
) *Service {
	return &Service{
		Ledger:     l,
		mu:         mu,
		fleet:      f,
		recoveries: r,
		judging:    j,
		selftests:  t,
		stock:      st,
		swaps:      w,
		bays:       b,
		views:      v,
	}
}
