package fleet

import (
	"cmp"
	"fmt"
	"reflect"
	"slices"
	"strings"
	"time"

	"lantern/internal/api"
	"lantern/internal/core/health"
	"lantern/internal/core/notice"
	"lantern/internal/service/problem"
)

const (
	// clockMost is the clock error of a host above which its times are corrected. A correction is changed only when it
	// is off by a fifth of that, so that corrected times do not change with every report.
	clockMost = 5 * time.Second
	// clockWall is the same in real time, for clocks that run fast.
	clockWall = 3 * time.Second
	// skewTold is the clock error above which people are notified.
	skewTold = 30 * time.Second
	// bootsKept is the number of earlier boots of a host that are stored.
	bootsKept = 16
	// refusedFor is how long after the newest refused report its notice stays open.
	refusedFor = 24 * time.Hour
)

// Newer reports whether a report is newer than all earlier ones of its host. The order is that of the host's boot and
// the seconds since then, which do not depend on its clock; without these, that of its times.
func (s *State) Newer(h *Host, r *api.Report) bool {
	switch {
	case r.Past:
		return false
	case r.Boot == "":
		ahead := h.SeenAt.After(s.Clock.Now().Add(s.tolerance()))
		return ahead || !r.At.Before(h.SeenAt)
	case r.Boot == h.Boot:
		return r.BootSeconds >= h.BootSeconds
	}
	return !slices.Contains(strings.Split(h.Boots, ","), r.Boot)
}

func (s *State) tolerance() time.Duration { return s.Clock.AtLeast(clockMost, clockWall) }

// Align converts the times in a report to our clock, and records the clock error of its host. A report of unknown age
// is corrected only when its time is in the future.
func (s *State) Align(h *Host, r *api.Report) error {
	now := s.Clock.Now()
	if r.At.IsZero() {
		return problem.Forever(422, "bad-report", "Every report says when it was made.", "The report has no time.")
	}
	most := s.tolerance()
	if r.Past {
		if r.At.After(now.Add(most)) {
			return problem.Forever(422, "bad-clock", "Set the clock of the host.",
				"The report is of the past, is dated %s, and it is %s here.", r.At.Format(time.RFC3339), now.Format(time.RFC3339))
		}
		return nil
	}
	newer := r.Boot == "" || s.Newer(h, r)
	behind, known := clockBehind(h, r, newer, now)
	shift := h.Shift
	switch {
	case !known && behind >= -most: // an old report, or a slow clock: this cannot be distinguished
		shift = 0
	case behind.Abs() <= most:
		shift = 0
	case (behind - shift).Abs() > most/5:
		shift = behind
	}
	if newer { // one that comes again, later, says nothing of the clock
		if known || behind < 0 || r.Boot == "" {
			h.Skew = behind
		}
		h.Shift = shift
	}
	if shift != 0 {
		shiftTimes(reflect.ValueOf(r).Elem(), shift)
	}
	if r.At.After(now) {
		r.At = now
	}
	return nil
}

// clockBehind is how far the host's clock was behind ours when a report was made; known is true when the age of the
// report is known, else it may have been in transit for that time.
func clockBehind(h *Host, r *api.Report, newer bool, now time.Time) (behind time.Duration, known bool) {
	age := r.SentBootSeconds - r.BootSeconds
	switch {
	case r.Boot == "":
	case r.Boot == h.Boot && !newer: // repeated or late: its time before the newest report is known
		return h.SeenAt.Add(-seconds(h.BootSeconds - r.BootSeconds)).Sub(r.At), true
	case !newer: // from an earlier boot: before the newest report
		return min(0, h.SeenAt.Add(-time.Second).Sub(r.At)), true
	case r.SentBootSeconds > 0 && age >= 0:
		// The time of the host's boot by our clock. A report that was long in transit gives a later time, so the
		// earlier of this and the previous value is used.
		started := now.Add(-seconds(r.SentBootSeconds))
		used := started
		if r.Boot == h.Boot && !h.started.IsZero() && h.started.Before(started) {
			used = h.started
		}
		h.started = started
		return used.Add(seconds(r.BootSeconds)).Sub(r.At), true
	}
	return now.Sub(r.At), false
}

func seconds(s float64) time.Duration { return time.Duration(s * float64(time.Second)) }

// shiftTimes adds d to every time in v that is set.
func shiftTimes(v reflect.Value, d time.Duration) {
	switch v.Kind() {
	case reflect.Struct:
		if at, ok := v.Addr().Interface().(*time.Time); ok {
			if !at.IsZero() {
				*at = at.Add(d)
			}
			return
		}
		for i := range v.NumField() {
			shiftTimes(v.Field(i), d)
		}
	case reflect.Slice:
		if v.Type().Elem().Kind() == reflect.Uint8 {
			return
		}
		for i := range v.Len() {
			shiftTimes(v.Index(i), d)
		}
	case reflect.Pointer:
		if !v.IsNil() {
			shiftTimes(v.Elem(), d)
		}
	}
}

// Follow records that a live report is the newest of its host.
func (h *Host) Follow(r *api.Report) {
	if r.Boot != h.Boot && h.Boot != "" {
		boots := append(strings.Split(h.Boots, ","), h.Boot)
		h.Boots = strings.TrimPrefix(strings.Join(boots[max(0, len(boots)-bootsKept):], ","), ",")
	}
	h.Boot, h.BootSeconds = r.Boot, r.BootSeconds
}

// Refuse records that a report of a host was refused permanently, so that people are notified: nothing in it is used.
func (s *Service) Refuse(host string, why error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if h := s.Hosts[host]; h != nil {
		h.Refused = api.RefusedReports{Count: h.Refused.Count + 1, At: s.Clock.Now(), Says: why.Error()}
		s.Log.Warn("a report was refused for good", "host", host, "error", why)
	}
}

// RefusedOf describes refused reports of a host, from the service or from its agent, whichever is newer.
func (h *Host) RefusedOf() api.RefusedReports {
	r := h.LastReport.Refused
	if h.Refused.At.After(r.At) {
		r.At, r.Says = h.Refused.At, h.Refused.Says
	}
	r.Count = max(r.Count, h.Refused.Count)
	return r
}

// HostMatters are the matters of reporting hosts: wrong clocks and refused reports.
func (s *State) HostMatters() (out []notice.Matter) {
	now := s.Clock.Now()
	for _, h := range s.Hosts {
		if r := h.RefusedOf(); r.Count > 0 && now.Sub(r.At) < refusedFor {
			out = append(out, notice.Matter{
				Key:      "refused/" + h.Name,
				Kind:     notice.Host,
				Severity: health.Unknown,
				Host:     h.Name,
				Says: fmt.Sprintf("%s sent reports that were refused, %s, last at %s: %s", h.Name,
					times(r.Count), r.At.UTC().Format("2006-01-02 15:04"), r.Says),
				Do: "Look at the agent's log on " + h.Name + ", and install the same version of agent and service. What was " +
					"refused is kept there, in the agent's folder under refused.",
			})
		}
		if !h.SeenAt.IsZero() && !s.Late(h, now) && h.Skew.Abs() > s.Clock.AtLeast(skewTold, 2*clockWall) {
			way := "behind"
			if h.Skew < 0 {
				way = "ahead"
			}
			out = append(out, notice.Matter{
				Key:      "clock/" + h.Name,
				Kind:     notice.Host,
				Severity: health.Watch,
				Host:     h.Name,
				Says:     fmt.Sprintf("the clock of %s is wrong: %s %s", h.Name, wide(h.Skew.Abs()), way),
				Do:       "Set the clock of " + h.Name + ", and see that it is kept right. Times in its reports are corrected.",
			})
		}
	}
	slices.SortFunc(out, func(a, b notice.Matter) int { return cmp.Compare(a.Key, b.Key) })
	return out
}

func times(n int) string {
	if n == 1 {
		return "once"
	}
	return fmt.Sprintf("%d times", n)
}

// wide is a duration in its largest unit, so that a notice does not change with every report.
func wide(d time.Duration) string {
	switch {
	case d >= 48*time.Hour:
		return fmt.Sprintf("about %d days", int(d.Hours()/24+0.5))
	case d >= 2*time.Hour:
		return fmt.Sprintf("about %d h", int(d.Hours()+0.5))
	case d >= 2*time.Minute:
		return fmt.Sprintf("about %d min", int(d.Minutes()+0.5))
	}
	return "about " + fmt.Sprint(max(1, int(d.Seconds()/10+0.5))*10) + " s"
}

// settleEach is how often settle checks everything if the clock was not set back.
const settleEach = time.Minute

// settle moves future times back after our own clock was set back: otherwise silent hosts would not be detected until
// the clock has reached its earlier time.
func (s *State) settle(now time.Time) {
	// Times are in the future only after the clock was set back; the regular check is a safeguard.
	if last := s.index.settledAt; !last.IsZero() && !now.Before(last) && now.Sub(last) < settleEach {
		return
	}
	s.index.settledAt = now
	limit := now.Add(s.tolerance())
	for _, h := range s.Hosts {
		if h.SeenAt.After(limit) {
			h.SeenAt = now
		}
	}
	for _, p := range s.Pools {
		if p.At.After(limit) {
			p.At = now
		}
	}
	for _, d := range s.Drives {
		if d.SeenAt.After(limit) {
			d.SeenAt = now
		}
		if d.busyAt.After(limit) {
			d.busyAt = now
		}
	}
}
