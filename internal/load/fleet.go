// Package load puts a service under the load of a large fleet: simulated agents use the real protocol, simulated people
// read pages and listen to events, and their waiting times are measured. It reads no drive and simulates no pool, so
// that only the service is measured.
package load

import (
	"fmt"
	"math/rand/v2"
	"sync"
	"time"

	"lantern/internal/api"

	"github.com/oklog/ulid/v2"
)

// prefix is the beginning of the names of all simulated hosts.
const prefix = "load-"

// shape of a pool: groups of members, each with two parities.
const (
	perGroup   = 10
	perPool    = 30
	tolerance  = 2
	driveBytes = 8_001_563_222_016
)

// host is a simulated host with the state that it reports.
type host struct {
	mu          sync.Mutex // guards what follows; one report at a time
	name, token string
	drives      []made
	rng         *rand.Rand
	hours       float64
	absent      map[int]bool // drives that are gone, by their number
	next        []byte       // the report to send, as JSON
	reads       int          // the number of its readings
}

// made is a simulated drive.
type made struct {
	wwn, serial string
	ills        map[string]float64
	growing     bool // its pending sectors grow
	tests       []api.SelfTest
}

// tail is the end of its serial, as on its label.
func (m made) tail() string { return m.serial[len(m.serial)-5:] }

// key is its key in the service.
func (m made) key() string { return "wwn-" + m.wwn }

// fleet makes simulated hosts with a total number of drives: one drive in three has a finding, one in a hundred has one
// for which it is replaced. The same seed makes the same fleet.
func fleet(hosts, drives int, seed uint64) []*host {
	out := make([]*host, hosts)
	for h := range out {
		n := drives*(h+1)/hosts - drives*h/hosts
		rng := rand.New(rand.NewPCG(seed, uint64(h)))
		host := &host{
			name:   fmt.Sprintf("%s%05d", prefix, h+1),
			rng:    rng,
			hours:  float64(5000 + rng.IntN(30000)),
			absent: map[int]bool{},
		}
		for d := range n {
			m := made{
				wwn:    fmt.Sprintf("5%03x%05x%07x", seed%4096, h+1, d+1),
				serial: fmt.Sprintf("LD%03d%05d%03d", seed%1000, h+1, d+1),
			}
			switch dice := rng.IntN(300); {
			case dice < 3:
				m.ills, m.growing = map[string]float64{"pending_sectors": float64(20 + rng.IntN(80))}, true
			case dice < 40:
				m.ills = map[string]float64{"link_crc_errors": float64(50 + rng.IntN(500))}
			case dice < 100:
				m.ills = map[string]float64{"reallocated_sectors": float64(8 + rng.IntN(60))}
			}
			// Most drives were tested recently, as in a fleet that has been watched for long; one in two has not had
			// this week's short test yet.
			m.tests = []api.SelfTest{{Kind: "extended", Result: "passed", Hours: int(host.hours) - 1}}
			if rng.IntN(2) == 0 {
				m.tests = append(m.tests, api.SelfTest{Kind: "short", Result: "passed", Hours: int(host.hours) - 1})
			}
			host.drives = append(host.drives, m)
		}
		out[h] = host
	}
	return out
}

// report is the host's report at a moment.
func (h *host) report(at time.Time, every time.Duration) api.Report {
	r := api.Report{
		Id: ulid.Make().String(), At: at, Host: h.name, IntervalSeconds: every.Seconds(),
		Enclosures: []api.EnclosureReport{},
	}
	h.hours += every.Hours()
	for i := range h.drives {
		d := &h.drives[i]
		if h.absent[i] {
			continue
		}
		if d.growing {
			d.ills["pending_sectors"] += float64(h.rng.IntN(4))
		}
		metrics := map[string]float64{
			"pending_sectors": 0, "reallocated_sectors": 0, "offline_uncorrectable_sectors": 0,
			"reported_uncorrectable_errors": 0, "reallocation_events": 0, "link_crc_errors": 0,
			"command_timeouts": 0, "spin_retries": 0, "host_io_errors": 0, "bus_drops": 0,
			"pool_read_errors": 0, "pool_write_errors": 0, "pool_checksum_errors": 0,
			"temperature_celsius":   float64(30 + h.rng.IntN(9)),
			"power_on_hours":        float64(int(h.hours)),
			"power_cycles":          12,
			"start_stops":           14,
			"load_cycles":           float64(900 + int(h.hours)/9),
			"bytes_written":         h.hours * 3600 * 4e6,
			"bytes_read":            h.hours * 3600 * 9e6,
			"read_latency_seconds":  0.007 + 0.002*h.rng.Float64(),
			"write_latency_seconds": 0.008 + 0.002*h.rng.Float64(),
		}
		for name, value := range d.ills {
			metrics[name] = value
		}
		r.Drives = append(r.Drives, api.DriveReport{
			Identity:      api.Identity{Wwn: d.wwn, Model: "OSSFELL OF-8T", Serial: d.serial},
			CapacityBytes: driveBytes,
			Firmware:      "0104",
			Medium:        "rotating",
			RotationRpm:   7200,
			Path:          fmt.Sprintf("/dev/ld%d", i),
			Section:       "drawer",
			Bay:           i + 1,
			Reading: api.Reading{At: at, Metrics: metrics, SelfTests: true,
				TestMinutes: map[string]float64{"short": 2, "extended": 780}, Tests: d.tests},
		})
	}
	for first := 0; first < len(h.drives); first += perPool {
		r.Pools = append(r.Pools, h.pool(first, min(first+perPool, len(h.drives))))
	}
	return r
}

// obey carries out an order: a self-test has passed by the next report, everything else is done immediately.
func (h *host) obey(o api.Order) api.Outcome {
	h.mu.Lock()
	defer h.mu.Unlock()
	if o.Kind == api.OrderKindSelftest {
		for i := range h.drives {
			if d := &h.drives[i]; d.wwn == o.Drive.Wwn {
				d.tests = append([]api.SelfTest{{Kind: string(o.Test), Result: "passed", Hours: int(h.hours)}}, d.tests...)
				d.tests = d.tests[:min(len(d.tests), 20)]
			}
		}
	}
	return api.Outcome{State: api.OutcomeStateDone, Says: "done"}
}

// pool is one of the host's pools: the drives from first on.
func (h *host) pool(first, end int) api.PoolReport {
	name := fmt.Sprintf("%s-%d", h.name, first/perPool+1)
	p := api.PoolReport{
		Id: "pool-" + name, Name: name, Kind: "parity groups",
		CapacityBytes: int64(end-first) * driveBytes * 8 / 10,
		UsedBytes:     int64(end-first) * driveBytes * 5 / 10,
		Volumes:       []api.VolumeReport{}, Spares: []api.MemberReport{}, Logs: []api.MemberReport{},
	}
	for ; first < end; first += perGroup {
		g := api.GroupReport{
			Name:       fmt.Sprintf("group %d", len(p.Groups)+1),
			Protection: api.Protection{Tolerance: tolerance},
		}
		for i := first; i < min(first+perGroup, end); i++ {
			m := api.MemberReport{
				Slot: fmt.Sprintf("%d.%d", len(p.Groups)+1, i-first+1), Drive: h.drives[i].key(), State: "online",
				Domain: h.name, SizeBytes: driveBytes, NeedsBytes: driveBytes / 2, UsedBytes: driveBytes / 2,
			}
			if h.absent[i] {
				m.State = "missing"
			}
			g.Members = append(g.Members, m)
		}
		p.Groups = append(p.Groups, g)
	}
	return p
}
