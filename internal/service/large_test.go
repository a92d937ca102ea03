package service

import (
	"fmt"
	"log/slog"
	"path/filepath"
	"testing"
	"time"

	"lantern/internal/api"
	"lantern/internal/core/drive"
	"lantern/internal/store"

	"github.com/stretchr/testify/require"
)

// large is a service with 60 drives in a pool on each of so many hosts; 167 are 10,000 drives. All have findings.
func large(b testing.TB, hosts int) (*Service, *standing, []api.Report) {
	return largeIn(b, b.TempDir(), hosts, 1)
}

// nothingYet is a service of which nothing is known.
func nothingYet(t testing.TB) (*Service, *standing) {
	st, err := store.Open(filepath.Join(t.TempDir(), "lantern.db"))
	require.NoError(t, err)
	t.Cleanup(func() { st.Close() })
	c := &standing{at: t0}
	s, err := New(st, c, slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	return s, c
}

// largeIn is the same with its records in a folder; one of so many drives has findings.
func largeIn(b testing.TB, dir string, hosts, flagged int) (*Service, *standing, []api.Report) {
	st, err := store.Open(filepath.Join(dir, "lantern.db"))
	require.NoError(b, err)
	b.Cleanup(func() { st.Close() })
	c := &standing{at: t0}
	s, err := New(st, c, slog.New(slog.DiscardHandler))
	require.NoError(b, err)
	require.NoError(b, s.KeepPast()) // as the service runs
	var reports []api.Report
	for h := range hosts {
		host := fmt.Sprintf("annex-%03d", h)
		_, err := s.Fleet.Enrol("bench", host, false)
		require.NoError(b, err)
		r := api.Report{Host: host, IntervalSeconds: 86400, Enclosures: []api.EnclosureReport{}}
		p := api.PoolReport{
			Id:            "p" + host,
			Name:          host + "-store",
			CapacityBytes: 1,
			Volumes:       []api.VolumeReport{},
			Spares:        []api.MemberReport{},
			Logs:          []api.MemberReport{},
		}
		for g := range 6 {
			group := api.GroupReport{Name: fmt.Sprint(g), Protection: api.Protection{Tolerance: 2}}
			for i := range 10 {
				wwn := fmt.Sprintf("5%015x", h*1000+g*10+i+1)
				d := api.DriveReport{
					Identity: api.Identity{
						Wwn:    wwn,
						Model:  "OSSFELL OF-8T",
						Serial: fmt.Sprintf("KH%02d%04d", g, h*60+i),
					},
					CapacityBytes: 8e12,
					Section:       "drawer",
					Bay:           g*10 + i + 1,
				}
				d.Reading = api.Reading{At: c.Now(), Metrics: map[string]float64{}}
				for j, m := range drive.Catalogue {
					switch {
					case (h*60+g*10+i)%flagged != 0:
						if m.Kind == drive.Counter {
							d.Reading.Metrics[string(m.Name)] = 0
						}
					case m.Strength == drive.Background:
						d.Reading.Metrics[string(m.Name)] = float64(j * 1000)
					default:
						d.Reading.Metrics[string(m.Name)] = 0
					}
				}
				r.Drives = append(r.Drives, d)
				group.Members = append(
					group.Members,
					api.MemberReport{
						Slot:   fmt.Sprintf("%d.%d", g, i),
						State:  "online",
						Drive:  "wwn-" + wwn,
						Domain: host,
					},
				)
			}
			p.Groups = append(p.Groups, group)
		}
		r.Pools = []api.PoolReport{p}
		reports = append(reports, r)
	}
	for i := range reports {
		reports[i].Id, reports[i].At = fmt.Sprint("first", i), c.Now()
		require.NoError(b, s.TakeReport(reports[i].Host, reports[i]))
	}
	return s, c, reports
}

// BenchmarkLargeFleet: the requests of people and agents in fleets of three sizes, of which one drive in fifty has
// findings, or every drive. What follows a report leaves the report itself out.
func BenchmarkLargeFleet(b *testing.B) {
	for _, flagged := range []int{50, 1} {
		for _, hosts := range []int{17, 167, 1667} {
			b.Run(fmt.Sprintf("flagged=1of%d/drives=%d", flagged, hosts*60), func(b *testing.B) {
				benchFleet(b, hosts, flagged)
			})
		}
	}
}

func benchFleet(b *testing.B, hosts, flagged int) {
	s, c, reports := largeIn(b, b.TempDir(), hosts, flagged)
	n := 0
	report := func() {
		n++
		c.forward(time.Millisecond)
		r := reports[n%len(reports)]
		r.Id, r.At = fmt.Sprint("r", n), c.Now()
		for i := range r.Drives {
			r.Drives[i].Reading.At = c.Now()
		}
		if err := s.TakeReport(r.Host, r); err != nil {
			b.Fatal(err)
		}
	}
	drives := func(f api.ListDrivesParams) {
		if _, err := s.Views.Drives(f); err != nil {
			b.Fatal(err)
		}
	}
	for range 2 { // the first look judges every drive, and the next report stores all findings
		s.Views.Round()
		report()
	}
	b.Logf("%d lines in the round", len(s.Views.Round().Lines))
	key := "wwn-" + reports[0].Drives[7].Identity.Wwn
	for _, x := range []struct {
		what  string
		after bool // it follows a report
		do    func()
	}{
		{"report of 60", false, report},
		{"round", true, func() { s.Views.Round() }},
		{"horizon", true, func() { s.Views.Horizon(20) }},
		{"first 500 drives", true, func() { drives(api.ListDrivesParams{Limit: 500}) }},
		{"50 drives to be replaced", true, func() {
			drives(api.ListDrivesParams{Verdict: []api.Verdict{api.Replace}, Limit: 50})
		}},
		{"search", true, func() { s.Views.Search("0417") }},
		{"200 pools", true, func() {
			if _, _, err := s.Views.Pools(api.ListPoolsParams{Brief: true, Limit: 200}); err != nil {
				b.Fatal(err)
			}
		}},
		{"a drive", true, func() {
			if _, err := s.Views.Drive(key); err != nil {
				b.Fatal(err)
			}
		}},
		{"latest reading of all", false, func() { require.Len(b, s.Readings.Latest(), hosts*60) }},
	} {
		b.Run(x.what, func(b *testing.B) {
			for b.Loop() {
				if x.after {
					b.StopTimer()
					report()
					b.StartTimer()
				}
				x.do()
			}
		})
	}
}

// BenchmarkPast says what the notes of changes take on disk, for a report of 60 drives: each host of 20 reports 400
// times, every five minutes, while temperatures, hours and counters move as they do; with the table of attributes that
// ATA drives have, whose raw values move too, and without it. What the report itself adds is not counted.
func BenchmarkPast(b *testing.B) {
	for _, attributes := range []int{0, 20} {
		b.Run(fmt.Sprintf("attributes=%d", attributes), func(b *testing.B) {
			for b.Loop() {
				benchmarkPast(b, attributes)
			}
		})
	}
}

func benchmarkPast(b *testing.B, attributes int) {
	dir := b.TempDir()
	s, c, reports := largeIn(b, dir, 20, 1)
	const rounds = 400
	for n := range rounds {
		c.forward(5 * time.Minute)
		for h := range reports {
			r := reports[h]
			r.Id, r.At = fmt.Sprint("r", h, " ", n), c.Now()
			for i := range r.Drives {
				r.Drives[i].Reading = api.Reading{At: c.Now(), Metrics: map[string]float64{}}
				for _, m := range drive.Catalogue {
					r.Drives[i].Reading.Metrics[string(m.Name)] = 0
				}
				r.Drives[i].Reading.Metrics["spare_available_percent"] = 100
				r.Drives[i].Reading.Metrics["temperature_celsius"] = float64(30 + (n/12+i)%9)
				r.Drives[i].Reading.Metrics["power_on_hours"] = float64(1000 + n/12)
				r.Drives[i].Reading.Metrics["read_latency_seconds"] = 0.008 + float64((n*7+i)%13)/1e4
				for a := range attributes {
					raw := int64(0)
					switch a {
					case 0:
						raw = int64(30 + (n/12+i)%9) // the temperature
					case 1:
						raw = int64(1000 + n/12) // the hours
					case 2, 3:
						raw = int64(n * (i + 1000 + a)) // what was read and written
					}
					r.Drives[i].Reading.Attributes = append(r.Drives[i].Reading.Attributes,
						api.Attribute{Id: a + 1, Value: 100, Worst: 100, Raw: raw})
				}
			}
			require.NoError(b, s.TakeReport(r.Host, r))
		}
		require.NoError(b, s.Tick())
	}
	for more := true; more; {
		var err error
		more, err = s.Store.PackPast()
		require.NoError(b, err)
	}
	require.NoError(b, s.Store.Close())
	tables, _, err := store.Sizes(filepath.Join(dir, "lantern.db"))
	require.NoError(b, err)
	past, all := int64(0), int64(0)
	for _, x := range tables {
		if x.Name == "past" {
			past = x.Bytes
		}
		all += x.Bytes
	}
	b.ReportMetric(float64(past)/float64(rounds*len(reports)), "bytes/report")
	b.ReportMetric(float64(all-past)/float64(rounds*len(reports)), "others/report")
}
