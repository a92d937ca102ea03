package fleet

import (
	"lantern/internal/core/pool"
	"time"
)

// Batch is what serials of drives that may be siblings have in common.
func Batch(d *Drive) string {
	if n := len(d.Desc.Serial); n > 3 {
		return d.Desc.Model + "/" + d.Desc.Serial[:n-3]
	}
	return ""
}

// Place is where in its pool a drive is, with its peers' latency.
type Place struct {
	Pool    *Pool
	Member  pool.Member
	Group   string
	Peers   []string
	Filling bool
	// also are its further places: the one above is the one that is worst off.
	Also []Place
}

// Every calls f for each place of a drive.
func (at Place) Every(f func(Place)) {
	if at.Pool == nil {
		return
	}
	f(at)
	for _, x := range at.Also {
		f(x)
	}
}

// WorseThan says whether a place is worse off than another; margins are those of pools.
func (at Place) WorseThan(o Place, margins map[string]int) bool {
	if at.Member.State != o.Member.State {
		return pool.Worse(at.Member.State, o.Member.State)
	}
	return margins[at.Pool.ID] < margins[o.Pool.ID]
}

// Late says whether two reports of a host were missed (R7).
func (s *State) Late(h *Host, now time.Time) bool {
	return h.SeenAt.IsZero() || now.Sub(h.SeenAt) > time.Duration(2*h.Interval*float64(time.Second))
}
