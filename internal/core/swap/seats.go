package swap

import (
	"cmp"
	"slices"
	"strings"

	"lantern/internal/core/drive"
	"lantern/internal/core/pool"
	"lantern/internal/core/stack"
)

// Seat is one place that the old drive has in a pool. A drive whose partitions belong to several pools has one in each;
// a swap fills all of them.
type Seat struct {
	Pool   string `json:"pool"`
	PoolID string `json:"pool_id"`
	Slot   string `json:"slot"`
	// Partition is the number of the partition that is the member, 0 for the whole drive; Layers are the kinds of
	// devices between the drive and the member, from the drive up: on the new drive the same must stand before it can
	// join.
	Partition int         `json:"partition,omitempty"`
	Layers    []string    `json:"layers,omitempty"`
	Needs     drive.Bytes `json:"needs,omitempty"`  // of the device that joins
	Margin    pool.Margin `json:"margin"`           // of the pool before the swap began
	Hand      bool        `json:"hand,omitempty"`   // the pool system accepts no orders: a person does it
	Asked     bool        `json:"asked,omitempty"`  // the order to join was carried out
	Joined    bool        `json:"joined,omitempty"` // the pool shows the new drive there
}

// Above are the device layers above the drive or its partition.
func (x Seat) Above() []string {
	return slices.DeleteFunc(slices.Clone(x.Layers), func(l string) bool { return l == string(stack.Partition) })
}

// AllSeats are all places that are to be filled. A swap from an earlier version has one.
func (s *State) AllSeats() []Seat {
	if len(s.Seats) > 0 {
		return s.Seats
	}
	return []Seat{{Pool: s.Pool, PoolID: s.PoolID, Slot: s.Slot, Needs: s.Needs, Margin: s.Margin}}
}

// poolWords names all pools of a swap.
func (s *State) poolWords() string {
	var names []string
	for _, x := range s.AllSeats() {
		if !slices.Contains(names, x.Pool) {
			names = append(names, x.Pool)
		}
	}
	return strings.Join(names, " and ")
}

// byHand reports whether a person does the work by hand at every seat.
func (s *State) byHand() bool {
	return !slices.ContainsFunc(s.AllSeats(), func(x Seat) bool { return !x.Hand })
}

// next gives the next seat to order: not by hand, not ordered yet and not joined yet; -1 when there is none.
func (s *State) nextSeat() int {
	return slices.IndexFunc(s.AllSeats(), func(x Seat) bool { return !x.Hand && !x.Asked && !x.Joined })
}

// SeatView is what a pool shows of one seat.
type SeatView struct {
	PoolView
	Margin pool.Margin
}

// Combine merges the views of all seats: the worst of each value. The combined margin reaches that of before the swap
// only when every pool does.
func (s *State) Combine(views []SeatView) (PoolView, pool.Margin) {
	seats := s.AllSeats()
	out := views[0].PoolView
	margin, before := views[0].Margin, seats[0].Margin
	short := margin - before
	out.Joined = nil
	for i, v := range views {
		out.Joined = append(out.Joined, v.New != "" && v.New != pool.Standby || s.New != nil && v.Drive == s.New.Key())
		if i == 0 || !keepsSeats {
			continue
		}
		s.add(&out, v.PoolView)
		margin, before, short = min(
			margin,
			v.Margin,
		), min(
			before,
			seats[i].Margin,
		), min(
			short,
			v.Margin-seats[i].Margin,
		)
	}
	return out, min(margin, before+short)
}

// add merges the view of one more seat: the worse of both.
func (s *State) add(out *PoolView, v PoolView) {
	if pool.Worse(v.Member, out.Member) {
		out.Member = v.Member
	}
	if v.Drive == s.Old.Key() || s.New != nil && out.Drive == s.New.Key() {
		out.Drive = v.Drive
	}
	if v.New == "" || out.New != "" && pool.Worse(v.New, out.New) {
		out.New = v.New
	}
	out.MarginKnown = out.MarginKnown && v.MarginKnown
	out.Without, out.Moving = min(out.Without, v.Without), min(out.Moving, v.Moving)
	out.Lost = union(out.Lost, v.Lost)
	out.Drained, out.Filled = out.Drained && v.Drained, out.Filled && v.Filled
	out.Recovering, out.Filling = out.Recovering || v.Recovering, out.Filling || v.Filling
	if out.Recovery == "" || v.Recovering && v.Recovery != "" {
		out.Recovery = v.Recovery
	}
	if v.Scrubbed.Before(out.Scrubbed) {
		out.Scrubbed = v.Scrubbed
	}
	out.ScrubClean = out.ScrubClean && v.ScrubClean
	out.Unrepairable += v.Unrepairable
	out.Prepared = out.Prepared && v.Prepared
	out.Stuck, out.Spare = cmp.Or(out.Stuck, v.Stuck), cmp.Or(out.Spare, v.Spare)
	out.Notices = union(out.Notices, v.Notices)
}

// union adds what is missing, without changing the list that it was given.
func union[T comparable](to, more []T) []T {
	for _, x := range more {
		if !slices.Contains(to, x) {
			to = append(slices.Clip(to), x)
		}
	}
	return to
}
