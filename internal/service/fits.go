package service

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"lantern/internal/core/accept"
	"lantern/internal/core/pool"
	"lantern/internal/core/swap"
)

// past is what speaks against a drive though nothing may be found of it now: a finding that called for its replacement, or a swap that
// took it out. It stays with the drive's identity.
type past struct {
	At   time.Time `json:"at"`
	Says string    `json:"says"`
}

// remember keeps the newest that speaks against a drive; changed says whether that must be written down.
func (d *disk) remember(p past) (changed bool) {
	changed = p.Says != d.Past.Says || p.At.Sub(d.Past.At) > time.Hour
	if changed {
		d.Past = p
	}
	return changed
}

// distrust says why a drive must pass the test of a new drive before it may replace another; empty when nothing is known against it,
// or when it passed since.
func (s *Service) distrust(d *disk) string {
	if d.Past.At.IsZero() || d.Accepted.State == string(accept.Passed) && d.Accepted.At.After(d.Past.At) {
		return ""
	}
	return fmt.Sprintf("%s on %s and was not tested and accepted since", d.Past.Says, d.Past.At.UTC().Format("2006-01-02"))
}

// placeOf is what a drive in the place of a member must be like, as a swap of that member asks for it. ok is false where that is not
// known. Must be called with s.mu held.
func (s *Service) placeOf(p *pool.Pool, m pool.Member) (place swap.State, why string, ok bool) {
	size, ok := p.Fit(m.Slot)
	if !ok {
		return place, "", false
	}
	place = swap.State{Pool: p.Name, PoolID: p.ID, Slot: m.Slot, Host: m.Domain, Needs: size.Least, AtMost: size.Most}
	why = size.WhyLeast
	old := s.drives[m.Drive]
	if old != nil {
		place.Old = *s.swapDrive(old)
		place.Host = old.Host
	}
	if old != nil && (m.Partition > 0 || len(m.Layers) > 0) {
		if whole := s.roomFor(old); whole > place.Needs {
			place.Needs, why = whole, "the whole drive with all its partitions"
		}
		if m.Partition > 0 {
			place.Recipe.Steps = []swap.Phase{swap.Layout}
		}
	}
	return place, why, true
}

// offered says whether a free drive that is there now would be taken by a swap of the place without being carried to another host.
func offered(place swap.State, d swap.Drive, host string) bool {
	return place.Unfit(d) == "" && (place.Host == "" || host == place.Host)
}

// spareOffered says the same of a spare of the pool: it is a member of it, and free for that.
func (s *Service) spareOffered(p *pool.Pool, place swap.State, spare *pool.Member) bool {
	if spare.Slot == place.Slot || p.SpareFits(place.Slot, spare) != "" {
		return false
	}
	d := s.drives[spare.Drive]
	if d == nil || !d.Present {
		return false
	}
	v := *s.swapDrive(d)
	if v.Member == p.Name && v.Spare {
		v.Member, v.Holds, v.Blank = "", "", true // what lies on a spare is its pool's own mark
	}
	return offered(place, v, d.Host)
}

// fitsPools names the pools of which a drive could take the place of a member, wherever the drive is now.
func (s *Service) fitsPools(d swap.Drive) (names []string) {
	for _, p := range s.pools {
		fits := false
		p.Everyone(func(group string, m *pool.Member) {
			if fits || m.Under != "" || m.State == pool.Standby {
				return
			}
			place, _, ok := s.placeOf(&p.Pool, *m)
			fits = ok && place.Unfit(d) == ""
		})
		if fits {
			names = append(names, p.Name)
		}
	}
	slices.Sort(names)
	return names
}

// leftOver tells which spares of a pool, and which stock drives on its hosts, can take no place of it any more, as after its drives
// were exchanged for larger ones; and that its places are not covered then. Empty when there are none. Must be called with s.mu held.
func (s *Service) leftOver(p *poolState) string {
	if p == nil {
		return ""
	}
	var places []swap.State
	hosts := map[string]bool{}
	p.Everyone(func(group string, m *pool.Member) {
		if place, _, ok := s.placeOf(&p.Pool, *m); ok && group != "" {
			places = append(places, place)
			hosts[place.Host] = true
		}
	})
	var left []string
	covered := map[string]bool{}
	look := func(name string, takes func(place swap.State) bool) {
		fits := false
		for _, place := range places {
			if takes(place) {
				fits, covered[place.Slot] = true, true
			}
		}
		if !fits {
			left = append(left, name)
		}
	}
	for i := range p.Spares {
		if spare := &p.Spares[i]; spare.State == pool.Standby {
			name := "spare " + spare.Slot
			if d := s.drives[spare.Drive]; d != nil {
				name = "spare " + d.tail()
			}
			look(name, func(place swap.State) bool { return s.spareOffered(&p.Pool, place, spare) })
		}
	}
	for key, d := range s.drives {
		if d.Present && hosts[d.Host] && s.isStock(key, d) && s.distrust(d) == "" {
			v := *s.swapDrive(d)
			look("stock "+d.tail(), func(place swap.State) bool { return offered(place, v, d.Host) })
		}
	}
	if len(left) == 0 {
		return ""
	}
	slices.Sort(left)
	bare := 0
	for _, place := range places {
		if !covered[place.Slot] {
			bare++
		}
	}
	return fmt.Sprintf("too small or otherwise unfit for every member now: %s. Not covered by a spare or stock: %d of %d members", strings.Join(left, ", "), bare, len(places))
}
