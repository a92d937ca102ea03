// Package year lets one host of the demo's fleet be read every hour for a year, through the agent, its codecs, the
// report and the service, so that benchmarks can say what that costs.
package year

import (
	"bytes"
	"context"
	"encoding/json"
	"io"
	"log/slog"
	"net/http"
	"path/filepath"
	"time"

	"lantern/internal/agent"
	"lantern/internal/api"
	"lantern/internal/clock"
	"lantern/internal/lab"
	"lantern/internal/service"
	"lantern/internal/store"
)

// Hours of a year.
const Hours = 365 * 24

// direct hands reports to a service without a network.
type direct struct {
	s    *service.Service
	each func(drive string, at time.Time, metrics map[string]float64)
}

func (d direct) Do(r *http.Request) (*http.Response, error) {
	var report api.Report
	if err := json.NewDecoder(r.Body).Decode(&report); err != nil {
		return nil, err
	}
	for _, one := range report.Drives {
		if d.each != nil {
			d.each(one.Identity.Serial, one.Reading.At, one.Reading.Metrics)
		}
	}
	if err := d.s.TakeReport(report.Host, report); err != nil {
		return nil, err
	}
	return &http.Response{
		StatusCode: http.StatusNoContent,
		Body:       io.NopCloser(bytes.NewReader(nil)),
		Header:     http.Header{},
	}, nil
}

// Year is what came of it.
type Year struct {
	Service *service.Service
	Store   *store.Store
	Host    string
	Bytes   int64 // what the readings take on disk, with all tables, indexes and free pages
}

// Live lets a host live through a year, in dir. each, if it is not nil, is given every reading. The store is to be
// closed.
func Live(
	ctx context.Context,
	dir, host string,
	each func(drive string, at time.Time, metrics map[string]float64),
) (y Year, err error) {
	end := time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC)
	fleet, err := lab.Open(filepath.Join(dir, "lab.json"), end, 0, lab.HeronPoint(0))
	if err != nil {
		return y, err
	}
	y.Host = host
	if y.Store, err = store.Open(filepath.Join(dir, "lantern.db")); err != nil {
		return y, err
	}
	log := slog.New(slog.DiscardHandler)
	if y.Service, err = service.New(y.Store, fleet.Clock(), log); err != nil {
		return y, err
	}
	if _, err = y.Service.Fleet.Enrol("bench", host, false); err != nil {
		return y, err
	}
	empty, err := y.Store.Size()
	if err != nil {
		return y, err
	}
	client, err := api.NewClientWithResponses("http://direct", api.WithHTTPClient(direct{y.Service, each}))
	if err != nil {
		return y, err
	}
	for _, h := range fleet.Hosts {
		if h.Name != host {
			continue
		}
		a, err := agent.New(
			agent.Config{
				Host:     h.Name,
				Machine:  h,
				Client:   client,
				Clock:    clock.Real{},
				Log:      log,
				Dir:      dir,
				Interval: time.Hour,
			},
		)
		if err != nil {
			return y, err
		}
		for n := range Hours {
			at := end.Add(-time.Duration(Hours-n) * time.Hour)
			if err := a.Backfill(ctx, []time.Time{at}, h.Past); err != nil {
				return y, err
			}
			if n%4 == 0 {
				if err := y.Service.Tick(); err != nil {
					return y, err
				}
			}
		}
		for range 20 {
			if err := y.Service.Tick(); err != nil {
				return y, err
			}
		}
	}
	size, err := y.Store.Size()
	y.Bytes = size - empty
	return y, err
}
