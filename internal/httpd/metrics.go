package httpd

import (
	"crypto/subtle"
	"fmt"
	"net/http"
	"strconv"
	"strings"
	"sync/atomic"
	"time"

	"github.com/labstack/echo/v5"
	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/collectors"
	"github.com/prometheus/client_golang/prometheus/promhttp"

	"lantern/internal/api"
	"lantern/internal/core/health"
	"lantern/internal/service/problem"
	"lantern/internal/service/views"
)

// Metrics are the settings of the service's own metrics, in the OpenMetrics exposition format (version 1.0.0).
type Metrics struct {
	Token  string // needed at /metrics; empty if the metrics have a listener of their own
	Drives string // which drives have their own series: flagged, all or none
}

// Which drives have their own series.
const (
	FlaggedDrives = "flagged"
	AllDrives     = "all"
	NoDrives      = "none"
)

// measured are the metrics of this server.
type measured struct {
	requests *prometheus.HistogramVec
	streams  atomic.Int64
}

func newMeasured() *measured {
	return &measured{requests: prometheus.NewHistogramVec(prometheus.HistogramOpts{
		Name:    "lantern_request_seconds",
		Help:    "How long requests took, by route and status.",
		Buckets: []float64{0.001, 0.003, 0.01, 0.03, 0.1, 0.3, 1, 3, 10, 30},
	}, []string{"method", "route", "status"})}
}

// measure records how long requests take. Routes are as they are registered, so there are few.
func (s *Server) measure(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c *echo.Context) error {
		stream := strings.HasSuffix(c.Request().URL.Path, "/events") && c.Request().Method == http.MethodGet
		if stream {
			s.measured.streams.Add(1)
			defer s.measured.streams.Add(-1)
		}
		begun := time.Now()
		err := next(c)
		if stream {
			return err
		}
		status := 0
		if r, unwrap := echo.UnwrapResponse(c.Response()); unwrap == nil {
			status = r.Status
		}
		if err != nil {
			status = told(err).Status
		}
		route := c.Path()
		if route == "" || route == "/*" {
			route = "console"
		}
		s.measured.requests.WithLabelValues(
			c.Request().Method,
			route,
			strconv.Itoa(status),
		).Observe(
			time.Since(begun).Seconds(),
		)
		return err
	}
}

// MetricsHandler serves all metrics without a token; the route /metrics checks the token first.
func (s *Server) MetricsHandler() http.Handler {
	r := prometheus.NewRegistry()
	r.MustRegister(collectors.NewGoCollector(), collectors.NewProcessCollector(collectors.ProcessCollectorOpts{}),
		s.measured.requests, &fleetCollector{s})
	return promhttp.HandlerFor(
		r,
		promhttp.HandlerOpts{EnableOpenMetrics: true, MaxRequestsInFlight: 4, DisableCompression: true},
	)
}

// MetricsFor serves all metrics to clients with the token, or to all clients if there is no token.
func (s *Server) MetricsFor() http.Handler {
	h := s.MetricsHandler()
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if s.Metrics.Token != "" && !s.mayMeasure(r) {
			http.Error(w, "Metrics have a token of their own.", http.StatusUnauthorized)
			return
		}
		h.ServeHTTP(w, r)
	})
}

// mayMeasure reports whether a request shows the token for metrics.
func (s *Server) mayMeasure(r *http.Request) bool {
	token, _ := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer ")
	return subtle.ConstantTimeCompare([]byte(token), []byte(s.Metrics.Token)) == 1
}

// metrics serves /metrics to clients with the token.
func (s *Server) metrics() echo.HandlerFunc {
	h := s.MetricsHandler()
	return func(c *echo.Context) error {
		if s.Metrics.Token == "" {
			return problem.New(404, "no-path", "Start the service with --metrics-token-file or --metrics-listen.",
				"Metrics are not served here.")
		}
		if !s.mayMeasure(c.Request()) {
			return problem.New(
				401,
				"bad-token",
				"Show the token of --metrics-token-file.",
				"Metrics have a token of their own.",
			)
		}
		h.ServeHTTP(c.Response(), c.Request())
		return nil
	}
}

// fleetCollector reads the fleet at each scrape, and stores nothing.
type fleetCollector struct{ s *Server }

// Describe sends nothing: the series depend on the fleet.
func (*fleetCollector) Describe(chan<- *prometheus.Desc) {}

// gauges sends values.
type gauges struct {
	to    chan<- prometheus.Metric
	descs map[string]*prometheus.Desc
	// told are the series that were sent already: one that is sent twice, as of two drives with one serial, makes the
	// whole scrape fail.
	told map[string]bool
}

// set sends one value. labels are names and values in turn.
func (g gauges) set(name, help string, value float64, labels ...string) {
	var names, values []string
	for i := 0; i+1 < len(labels); i += 2 {
		names, values = append(names, labels[i]), append(values, labels[i+1])
	}
	series := name + "\x00" + strings.Join(values, "\x00")
	if g.told[series] {
		return
	}
	g.told[series] = true
	d := g.descs[name]
	if d == nil {
		d = prometheus.NewDesc(name, help, names, nil)
		g.descs[name] = d
	}
	g.to <- prometheus.MustNewConstMetric(d, prometheus.GaugeValue, value, values...)
}

func (g gauges) at(name, help string, t time.Time, labels ...string) {
	if !t.IsZero() {
		g.set(name, help, float64(t.UnixMilli())/1000, labels...)
	}
}

func truth(b bool) float64 {
	if b {
		return 1
	}
	return 0
}

// Collect sends all values.
func (f *fleetCollector) Collect(to chan<- prometheus.Metric) {
	g := gauges{to, map[string]*prometheus.Desc{}, map[string]bool{}}
	g.set("lantern_build_info", "The version that runs, as a label.", 1, "version", f.s.Version)
	which := f.s.Metrics.Drives
	g.drives(f.s.Service.Views.Measures(func(v health.Verdict) bool {
		return which != NoDrives && (which == AllDrives || v != health.Sound)
	}))
	g.hosts(f.s.Service.Views.Hosts())
	if pools, _, err := f.s.Service.Views.Pools(api.ListPoolsParams{Brief: true}); err == nil {
		g.pools(pools)
	}
	g.work(f.s)
	g.self(f.s)
}

func (g gauges) drives(m views.Measures) {
	verdicts := map[string]int{"sound": 0, "watch": 0, "replace": 0, "dead": 0, "unknown": 0}
	for v, n := range m.Verdicts {
		verdicts[string(v)] += n
	}
	for _, d := range m.Drives {
		labels := []string{
			"tail",
			d.Tail,
			"serial",
			d.Serial,
			"model",
			d.Model,
			"host",
			d.Host,
			"bay",
			d.Bay,
			"pool",
			d.Pool,
		}
		g.set(
			"lantern_drive_flagged",
			"A drive, and its verdict as a label: 0 if the verdict is sound, else 1.",
			truth(d.Verdict != "sound"),
			append(labels, "verdict", string(d.Verdict))...)
		if d.HasCelsius {
			g.set("lantern_drive_temperature_celsius", "The newest temperature that the drive reported.", d.Celsius, labels...)
		}
	}
	for v, n := range verdicts {
		g.set("lantern_drives", "Drives that are present or belong to a pool, by verdict.", float64(n), "verdict", v)
	}
	for rule, n := range m.Findings {
		g.set("lantern_findings", "Findings that stand, by rule.", float64(n), "rule", rule)
	}
}

func (g gauges) hosts(hosts []api.Host) {
	for _, h := range hosts {
		g.set("lantern_host_reports", "1 while a host's reports come in time, 0 when two were missed.",
			truth(h.State == api.HostStateReporting), "host", h.Name)
		g.at("lantern_host_reported_timestamp_seconds", "When the host's newest report came.", h.SeenAt, "host", h.Name)
		g.set(
			"lantern_host_clock_offset_seconds",
			"How far the host's clock is ahead of the service's.",
			h.ClockOffSeconds,
			"host",
			h.Name,
		)
		g.set(
			"lantern_host_refused_reports",
			"Reports of the host that were refused for good.",
			float64(h.Refused.Count),
			"host",
			h.Name,
		)
	}
}

func (g gauges) pools(pools []api.Pool) {
	for _, p := range pools {
		known := p.Margin.Known && !p.Stale
		g.set(
			"lantern_pool_known",
			"1 while the pool's state is known, 0 when its host is silent or does not show it.",
			truth(known),
			"pool",
			p.Name,
			"id",
			p.Id,
		)
		if known {
			g.set(
				"lantern_pool_margin_members",
				"How many more members the pool can lose before data is.",
				float64(p.Margin.Members),
				"pool",
				p.Name,
				"id",
				p.Id,
			)
		}
		g.set(
			"lantern_pool_full_margin_members",
			"The margin the pool has when nothing is wrong.",
			float64(p.FullMargin),
			"pool",
			p.Name,
			"id",
			p.Id,
		)
		g.set(
			"lantern_pool_capacity_bytes",
			"How much the pool can hold.",
			float64(p.CapacityBytes),
			"pool",
			p.Name,
			"id",
			p.Id,
		)
		g.set("lantern_pool_used_bytes", "How much of it is used.", float64(p.UsedBytes), "pool", p.Name, "id", p.Id)
		r := p.Recovery
		if r.Id == "" || r.State != api.RecoveryStateRunning && r.State != api.RecoveryStatePaused {
			continue
		}
		labels := []string{"pool", p.Name, "id", p.Id, "kind", string(r.Kind)}
		g.set("lantern_recovery_done_ratio", "How much of a recovery that is under way is done.", r.Share, labels...)
		g.set("lantern_recovery_bytes_per_second", "Its pace now.", r.RateNow, labels...)
		g.set("lantern_recovery_stalled", "1 while it makes no progress.", truth(r.Stalled), labels...)
		g.set("lantern_recovery_unrepairable", "Errors that it found and could not "+
			"repair.", float64(r.Unrepairable), labels...)
	}
}

func (g gauges) work(s *Server) {
	round := s.Service.Views.Round()
	g.set("lantern_round_lines", "Lines of the round: what needs a hand.", float64(len(round.Lines)))
	g.set("lantern_swaps_open", "Swaps that are under way.", float64(len(s.Service.Swaps.Swaps(true))))
	if counts, err := s.Service.Selftests.Counts(); err == nil {
		for which, n := range counts {
			if which != "all" {
				g.set(
					"lantern_selftests",
					"Drives by how they stand with self-tests: failed, never tested, overdue, held or without any.",
					float64(n),
					"standing",
					which,
				)
			}
		}
	}
	if open, err := s.Service.Notices.Notices(false); err == nil {
		count := map[string]int{"watch": 0, "replace": 0, "dead": 0}
		for _, n := range open {
			count[string(n.Severity)]++
		}
		for severity, n := range count {
			g.set("lantern_notices_open", "Open notices, by severity.", float64(n), "severity", severity)
		}
	}
	for _, c := range s.Service.Notices.Channels() {
		g.set(
			"lantern_deliveries_waiting",
			"Messages that a channel has not accepted yet.",
			float64(c.Waiting),
			"channel",
			c.Name,
		)
	}
}

func (g gauges) self(s *Server) {
	says, ready := s.Service.Ready()
	g.set("lantern_ready", "1 while reports and orders can be recorded.", truth(ready))
	g.set(
		"lantern_in_trouble",
		"1 while the service itself has a problem, such as a disk that fills up.",
		truth(says != ""),
	)
	if n, err := s.Service.Store.Size(); err == nil {
		g.set("lantern_database_bytes", "The size of the records.", float64(n))
	}
	if r, err := s.Service.Store.Room(); err == nil {
		g.set("lantern_disk_free_bytes", "What is free on the disk under the records.", float64(r.Free))
	}
	backups := s.Service.Notices.Backups()
	g.set("lantern_backup_enabled", "1 when backups are scheduled.", truth(backups.Every > 0))
	g.at("lantern_backup_timestamp_seconds", "When the newest scheduled backup was made.", backups.Last)
	g.set("lantern_event_streams", "Event streams that are open.", float64(s.measured.streams.Load()))
}

// CheckMetrics checks the settings of metrics.
func CheckMetrics(m Metrics) error {
	if m.Drives != "" && m.Drives != FlaggedDrives && m.Drives != AllDrives && m.Drives != NoDrives {
		return fmt.Errorf("--metrics-drives is flagged, all or none, not %q", m.Drives)
	}
	return nil
}
