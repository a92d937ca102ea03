package sites

import (
	"bytes"
	"context"
	"net/http"
	"net/url"
	"slices"
	"time"
)

// A drive that is moved from one site to another keeps its readings: they are read from the old site and imported at
// the new one, once. A reading is identified by drive and time, so a second import does not double it.

// travelEvery is the interval of looks for drives that moved to another site.
const travelEvery = 5 * time.Second

// mostImport is the size of the body of one import, in bytes.
const mostImport = 400 << 10

// move is a drive that moved from one site to another.
type move struct{ drive, from, to string }

// Follow moves the readings of drives that moved to another site, until ctx ends.
func (h *Headquarters) Follow(ctx context.Context) {
	tick := time.NewTicker(travelEvery)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
		for _, m := range h.moves(time.Now()) {
			if err := h.move(ctx, m); err != nil && ctx.Err() == nil {
				h.Log.Warn("the readings of a drive that moved could not be imported; trying again", "drive", m.drive,
					"from", m.from, "to", m.to, "error", err)
				break
			}
		}
	}
}

// moves returns the drives that one reachable site has and another had.
func (h *Headquarters) moves(now time.Time) (out []move) {
	h.mu.Lock()
	defer h.mu.Unlock()
	type where struct{ here, before []string }
	of := map[string]*where{}
	for _, x := range h.sortedLocked() {
		if !x.current(now) {
			continue
		}
		for _, host := range x.hosts {
			for _, d := range host.Drives {
				w := of[d.Key]
				if w == nil {
					w = &where{}
					of[d.Key] = w
				}
				if d.Present {
					w.here = append(w.here, x.row.Name)
				} else {
					w.before = append(w.before, x.row.Name)
				}
			}
		}
	}
	for key, w := range of {
		if len(w.here) != 1 {
			continue // two sites report it: its place is not known
		}
		for _, from := range w.before {
			if m := (move{key, from, w.here[0]}); !h.moved[m] {
				out = append(out, m)
			}
		}
	}
	slices.SortFunc(out, func(a, b move) int { return bytes.Compare([]byte(a.drive+a.from), []byte(b.drive+b.from)) })
	return out
}

// move imports the readings of a drive from one site at another.
func (h *Headquarters) move(ctx context.Context, m move) error {
	var lines bytes.Buffer
	give := func() error {
		// Only whole lines: the rest waits for the next part.
		end := bytes.LastIndexByte(lines.Bytes(), '\n') + 1
		if end == 0 {
			return nil
		}
		body := bytes.Clone(lines.Next(end))
		return h.inner(ctx, m.to, http.MethodPost, "/api/v1/readings", body, func([]byte) error { return nil })
	}
	const years = "87600" // hours
	path := "/api/v1/drives/" + url.PathEscape(m.drive) + "/readings?hours=" + years
	err := h.inner(ctx, m.from, http.MethodGet, path, nil, func(part []byte) error {
		lines.Write(part)
		if lines.Len() < mostImport {
			return nil
		}
		return give()
	})
	if err == nil {
		err = give()
	}
	if err != nil {
		return err
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	h.moved[m] = true
	h.Log.Info("the readings of a drive that moved were imported", "drive", m.drive, "from", m.from, "to", m.to)
	return nil
}
