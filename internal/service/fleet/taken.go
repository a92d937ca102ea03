package fleet

import (
	"lantern/internal/api"
	"lantern/internal/core/drive"
	"lantern/internal/core/health"
	"maps"
	"slices"
	"strconv"
	"time"
)

// idsAtHand is how many ids of a host's newest reports are known without a look into the store.
const IdsAtHand = 64

// WithoutReadings is what is kept of a report to compare the next one with: what is there, whenever it was told.
func WithoutReadings(r api.Report) api.Report {
	r.Id, r.At = "", time.Time{}
	r.Drives = slices.Clone(r.Drives)
	for i := range r.Drives {
		r.Drives[i].Reading, r.Drives[i].Busy, r.Drives[i].Rhythm = api.Reading{}, 0, false
		r.Drives[i].Surface = api.SurfaceReport{}
	}
	r.Pools = slices.Clone(r.Pools)
	for i := range r.Pools {
		r.Pools[i].Witness.At = time.Time{}
	}
	return r
}

func Gone(was, seen map[string]bool) (keys []string) {
	for key := range was {
		if !seen[key] && key != "" {
			keys = append(keys, key)
		}
	}
	slices.Sort(keys)
	return keys
}

func PlaceWords(d *Drive) string {
	if d.Section == "" {
		return d.Host + ", without a bay"
	}
	return "bay " + d.BayName()
}

// Believable is a reading without the values that cannot be; each is kept among its pages that are unreadable.
func Believable(rd api.Reading) api.Reading {
	for _, n := range slices.Sorted(maps.Keys(rd.Metrics)) {
		m, known := drive.MetricByName(drive.MetricName(n))
		why := ""
		if known {
			why = m.Implausible(rd.Metrics[n])
		}
		if why == "" {
			continue
		}
		if len(rd.Unreadable) == 0 || rd.Unreadable[len(rd.Unreadable)-1].Kind != "value" {
			rd.Metrics, rd.Unreadable = maps.Clone(rd.Metrics), slices.Clone(rd.Unreadable)
		}
		rd.Unreadable = append(rd.Unreadable, api.BadPage{Kind: "value", Why: n + ": " + why, Bytes: []byte(strconv.FormatFloat(rd.Metrics[n], 'g', -1, 64))})
		delete(rd.Metrics, n)
	}
	return rd
}

// Stay notes where a drive is now, if that is somewhere else than before.
func (d *Drive) Stay(host, section string, bay int, at time.Time) {
	if section == "" {
		return
	}
	place := health.Stay{Bay: host + "/" + section + "/" + strconv.Itoa(bay), From: at}
	n := len(d.Stays)
	if n > 0 && d.Stays[n-1].Bay == place.Bay {
		return
	}
	if n > 0 {
		d.Stays[n-1].To = at
	}
	const most = 100
	d.Stays = append(d.Stays[max(0, n+1-most):], place)
}
