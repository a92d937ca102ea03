package fleet

import (
	"fmt"
	"lantern/internal/core/accept"
	"time"
)

// Past is what speaks against a drive though nothing may be found of it now: a finding that called for its replacement, or a swap that
// took it out. It stays with the drive's identity.
type Past struct {
	At   time.Time `json:"at"`
	Says string    `json:"says"`
}

// Remember keeps the newest that speaks against a drive; changed says whether that must be written down.
func (d *Drive) Remember(p Past) (changed bool) {
	changed = p.Says != d.Past.Says || p.At.Sub(d.Past.At) > time.Hour
	if changed {
		d.Past = p
	}
	return changed
}

// Distrust says why a drive must pass the test of a new drive before it may replace another; empty when nothing is known against it,
// or when it passed since.
func (s *State) Distrust(d *Drive) string {
	if d.Past.At.IsZero() || d.Accepted.State == string(accept.Passed) && d.Accepted.At.After(d.Past.At) {
		return ""
	}
	return fmt.Sprintf("%s on %s and was not tested and accepted since", d.Past.Says, d.Past.At.UTC().Format("2006-01-02"))
}
