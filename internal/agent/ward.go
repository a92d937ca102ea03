package agent

import (
	"cmp"
	"context"
	"math"
	"time"

	"lantern/internal/api"
)

// ward is what is kept of a drive from one reading to the next.
type ward struct {
	memory  memory
	blind   string          // why its newest reading has no values
	asked   *errand[answer] // under way, or not yet collected
	askedAt time.Time
	fresh   *answer // not yet reported
	io      ioStat  // as of the newest report, and when that was
	ioAt    time.Time
}

// answer is one reading, what it leaves for the next, and why it told nothing.
type answer struct {
	reading api.Reading
	memory  memory
	blind   string
}

// readInto reads drives, side by side: all of them, or those that were never read. What others said since the report
// before is put in as well. A drive that does not answer is left behind, and its answer is reported when it comes.
func (a *Agent) readInto(ctx context.Context, r *api.Report, found []Found, all bool) {
	wards := make([]*ward, len(found))
	var sent []*ward
	for i, f := range found {
		w := a.wards[f.Known.Key()]
		wards[i] = w
		if w.asked != nil || w.fresh != nil || !all && w.memory.times > 0 && !a.followed(w, r.At) {
			continue
		}
		w.askedAt = r.At
		w.asked = send(&a.lanes, f.Adapter, func() answer {
			m := w.memory
			reading, why := read(context.WithoutCancel(ctx), f, &m, r.At, a.Wake)
			m.times++
			return answer{reading, m, why}
		})
		sent = append(sent, w)
	}
	for _, w := range sent {
		<-w.asked.over
	}
	for i, w := range wards {
		d := &r.Drives[i]
		w.collect()
		if w.asked != nil {
			w.blind = "it does not answer requests"
		} else if w.fresh != nil {
			d.Reading, w.fresh = w.fresh.reading, nil
		}
		d.Blind = cmp.Or(w.blind, found[i].Blind)
	}
}

// busy is the share of the time since it was last asked in which a drive did I/O, by its host's statistics.
func (w *ward) busy(stat string, now time.Time) (share float64) {
	s, err := parseStat(stat)
	if err != nil {
		return 0
	}
	if span := now.Sub(w.ioAt); !w.ioAt.IsZero() && span > 0 && s.busyMS >= w.io.busyMS {
		share = math.Round(min(1, float64(s.busyMS-w.io.busyMS)/(span.Seconds()*1000))*1000) / 1000
	}
	w.io, w.ioAt = s, now
	return share
}

// followed reports whether a drive is due to be read because a self-test runs on it.
func (a *Agent) followed(w *ward, now time.Time) bool {
	return w.memory.testing && now.Sub(w.askedAt) >= a.Clock.AtLeast(30*time.Second, time.Second)
}

// collect takes an answer that has come.
func (w *ward) collect() {
	if w.asked == nil || !w.asked.ended() {
		return
	}
	w.fresh, w.asked = &w.asked.out, nil
	w.memory, w.blind = w.fresh.memory, w.fresh.blind
}
