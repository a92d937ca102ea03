package e2e

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lantern/internal/api"
)

// chaos is a real service on a disk of its own, hosts that report to it, and a receiver of its notices.
type chaos struct {
	t      *testing.T
	dir    string
	port   string
	proc   *exec.Cmd
	ended  chan error
	admin  string
	hosts  []*chaosHost
	mu     sync.Mutex
	told   []string
	client *http.Client
	more   []string // further options of the service
}

// chaosHost reports as an agent does: in order, again and again until it is taken, keeping what could not be delivered.
type chaosHost struct {
	c      *chaos
	name   string
	token  string
	mu     sync.Mutex
	begin  time.Time
	n      int
	bad    map[int]bool // drives with a grave finding
	acked  map[string]map[int64]float64
	cut    bool          // the network is down
	jumble bool          // reports arrive twice and in any order
	shift  time.Duration // how far its clock is ahead
	newer  bool          // it sends fields that this version of the service does not know
	texts  func(*api.Report)
	aside  int // reports that were refused permanently, and set aside
}

const chaosDrives = 12

func (h *chaosHost) key(i int) string { return fmt.Sprintf("wwn-5%s%012d", h.name[len(h.name)-3:], i) }

// report is what the host says now.
func (h *chaosHost) report() api.Report {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.n++
	now := time.Now().Add(h.shift).UTC().Truncate(time.Millisecond)
	r := api.Report{
		Id:              fmt.Sprintf("%s-%d-%d", h.name, h.begin.UnixNano(), h.n),
		Host:            h.name,
		At:              now,
		IntervalSeconds: 5,
		Boot:            h.begin.String(),
		BootSeconds:     time.Since(h.begin).Seconds(),
		Enclosures:      []api.EnclosureReport{},
		Pools:           []api.PoolReport{},
	}
	r.Boot = r.Boot[:min(60, len(r.Boot))]
	for i := range chaosDrives {
		pending := 0.0
		if h.bad[i] {
			pending = 500
		}
		r.Drives = append(r.Drives, api.DriveReport{
			Identity: api.Identity{
				Wwn:    strings.TrimPrefix(h.key(i), "wwn-"),
				Model:  "OSSFELL OF-8T",
				Serial: fmt.Sprintf("%s%05d", h.name[len(h.name)-3:], i),
			},
			CapacityBytes: 8e12, Looked: true, Path: fmt.Sprint("/dev/x", i),
			Reading: api.Reading{At: now, SelfTests: true, Metrics: map[string]float64{"pending_sectors": pending,
				"power_on_hours": float64(1000 + h.n)}},
		})
	}
	if h.texts != nil {
		h.texts(&r)
	}
	return r
}

// send delivers a report once; ok when the service has taken it, and then it must not be lost.
func (h *chaosHost) send(ctx context.Context, r api.Report) bool {
	r.SentBootSeconds = time.Since(h.begin).Seconds()
	b, _ := json.Marshal(r)
	h.mu.Lock()
	if h.newer {
		b = append([]byte(`{"of_tomorrow":1,`), b[1:]...)
	}
	h.mu.Unlock()
	ctx, cancel := context.WithTimeout(ctx, 10*time.Second)
	defer cancel()
	req, err := http.NewRequestWithContext(ctx, "POST", h.c.url("/agent/reports"), bytes.NewReader(b))
	if err != nil {
		return false
	}
	req.Header.Set("Authorization", "Bearer "+h.token)
	res, err := h.c.client.Do(req)
	if err != nil {
		return false
	}
	defer res.Body.Close()
	answer, _ := io.ReadAll(res.Body)
	h.mu.Lock()
	defer h.mu.Unlock()
	if strings.Contains(string(answer), `"permanent":true`) {
		h.aside++
		return true
	}
	if res.StatusCode != 204 && res.StatusCode != 409 {
		return false
	}
	if h.shift != 0 {
		return true // their times are corrected
	}
	for i, d := range r.Drives {
		if h.acked[h.key(i)] == nil {
			h.acked[h.key(i)] = map[int64]float64{}
		}
		h.acked[h.key(i)][d.Reading.At.UnixMilli()] = d.Reading.Metrics["power_on_hours"]
	}
	return true
}

func (h *chaosHost) run(ctx context.Context) {
	var queue []api.Report
	for ctx.Err() == nil {
		queue = append(queue, h.report())
		h.mu.Lock()
		cut, jumble := h.cut, h.jumble
		h.mu.Unlock()
		if jumble {
			rand.Shuffle(len(queue), func(i, j int) { queue[i], queue[j] = queue[j], queue[i] })
			if len(queue) < 4 {
				cut = true // it collects some first
			}
		}
		for !cut && len(queue) > 0 && h.send(ctx, queue[0]) {
			if jumble {
				h.send(ctx, queue[0])
			}
			queue = queue[1:]
		}
		select {
		case <-ctx.Done():
		case <-time.After(400 * time.Millisecond): // its interval, not a wait
		}
	}
}

func (c *chaos) url(path string) string { return "http://127.0.0.1:" + c.port + "/api/v1" + path }

func (c *chaos) start() {
	c.t.Helper()
	path, err := binary()
	require.NoError(c.t, err)
	out, in, err := os.Pipe()
	require.NoError(c.t, err)
	c.proc = exec.Command(
		path,
		append(
			[]string{"serve", "--listen", "127.0.0.1:" + c.port, "--data", filepath.Join(c.dir, "service")},
			c.more...)...)
	c.proc.Stdout = in
	c.proc.Stderr = io.Discard
	require.NoError(c.t, c.proc.Start())
	in.Close()
	c.ended = make(chan error, 1)
	proc, ended := c.proc, c.ended
	go func() { ended <- proc.Wait(); close(ended) }()
	lines := bufio.NewScanner(out)
	for lines.Scan() {
		if m := regexp.MustCompile(`127\.0\.0\.1:(\d+)`).FindStringSubmatch(lines.Text()); m != nil {
			c.port = m[1]
		}
		if _, token, ok := strings.Cut(lines.Text(), "only this once: "); ok {
			c.admin = strings.TrimSpace(token)
		}
		if c.port != "0" && c.admin != "" {
			break
		}
	}
	go func() { _, _ = io.Copy(io.Discard, out) }()
}

func (c *chaos) kill() {
	_ = c.proc.Process.Kill()
	<-c.ended
}

// ask calls the API as the admin.
func (c *chaos) ask(method, path, body string) (int, []byte) {
	ctx, cancel := context.WithTimeout(c.t.Context(), 20*time.Second)
	defer cancel()
	req, err := http.NewRequestWithContext(ctx, method, c.url(path), strings.NewReader(body))
	require.NoError(c.t, err)
	req.Header.Set("Authorization", "Bearer "+c.admin)
	res, err := c.client.Do(req)
	if err != nil {
		return 0, []byte(err.Error())
	}
	defer res.Body.Close()
	b, _ := io.ReadAll(res.Body)
	return res.StatusCode, b
}

// weight is what the service holds: resident memory in MB, and open files.
func (c *chaos) weight() (mb, files int) {
	b, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", c.proc.Process.Pid))
	require.NoError(c.t, err)
	m := regexp.MustCompile(`VmRSS:\s+(\d+) kB`).FindSubmatch(b)
	kb, _ := strconv.Atoi(string(m[1]))
	fds, err := os.ReadDir(fmt.Sprintf("/proc/%d/fd", c.proc.Process.Pid))
	require.NoError(c.t, err)
	return kb / 1000, len(fds)
}

// until waits for something that must come within a time.
func (c *chaos) until(what string, within time.Duration, is func() bool) time.Duration {
	c.t.Helper()
	begin := time.Now()
	for !is() {
		require.Less(c.t, time.Since(begin), within, "waited in vain for: %s", what)
		select {
		case err := <-c.ended:
			require.FailNow(c.t, "the service ended", "%v", err)
		case <-time.After(50 * time.Millisecond):
		}
	}
	return time.Since(begin)
}

// TestChaos: a real service under load meets one fault after another. After each, no acknowledged data are lost, an
// alarm reaches people within a minute of the fault's end, and memory and open files return to their earlier numbers.
// Traffic is on loopback, everything ends by itself. Run by make chaos.
func TestChaos(t *testing.T) {
	if os.Getenv("LANTERN_CHAOS") == "" {
		t.Skip("SKIPPED: faults are tried by make chaos")
	}
	dir := t.TempDir()
	own := exec.Command("mount", "-t", "tmpfs", "-o", "size=900m", "tmpfs", dir).Run() == nil
	if own {
		t.Cleanup(func() { _ = exec.Command("umount", "-l", dir).Run() })
	}
	c := &chaos{t: t, dir: dir, port: "0", client: &http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: 64}}}
	c.start()
	t.Cleanup(c.kill)
	pager := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		b, _ := io.ReadAll(r.Body)
		c.mu.Lock()
		c.told = append(c.told, string(b))
		c.mu.Unlock()
	}))
	defer pager.Close()
	status, body := c.ask(
		"PUT",
		"/channels/pager",
		`{"kind":"webhook","url":"`+pager.URL+`","secret":"k","least":"replace"}`,
	)
	require.Less(t, status, 300, string(body))
	ctx, cancel := context.WithCancel(t.Context())
	var all sync.WaitGroup
	for i := range 4 {
		h := &chaosHost{
			c:     c,
			name:  fmt.Sprintf("host-%03d", i),
			begin: time.Now(),
			bad:   map[int]bool{},
			acked: map[string]map[int64]float64{},
		}
		status, body := c.ask("POST", "/hosts", `{"name":"`+h.name+`"}`)
		require.Equal(t, 201, status, string(body))
		var e api.Enrolled
		require.NoError(t, json.Unmarshal(body, &e))
		h.token = e.Token
		c.hosts = append(c.hosts, h)
		all.Go(func() { h.run(ctx) })
	}
	t.Cleanup(func() { cancel(); all.Wait() })
	hold := func(d time.Duration) { <-time.After(d) } // how long a fault lasts
	set := func(f func(h *chaosHost)) {
		for _, h := range c.hosts {
			h.mu.Lock()
			f(h)
			h.mu.Unlock()
		}
	}
	seen := func() bool {
		status, b := c.ask("GET", "/drives?limit=200", "")
		var p api.DrivePage
		return status == 200 && json.Unmarshal(b, &p) == nil && p.Total == 4*chaosDrives
	}
	c.until("all drives are known", time.Minute, seen)
	faults := []struct {
		name string
		do   func()
	}{
		{"no fault", func() { hold(2 * time.Second) }},
		{"ended by force five times under load", func() {
			for range 5 {
				hold(time.Duration(200+rand.IntN(1200)) * time.Millisecond)
				c.kill()
				c.start()
			}
		}},
		{"the disk is full", func() {
			if !own {
				t.Log("SKIPPED: the disk is full, since no disk of its own can be mounted")
				return
			}
			junk := filepath.Join(dir, "junk")
			_ = exec.Command("sh", "-c", "cat /dev/zero > "+junk).Run() // until there is no space
			hold(5 * time.Second)
			_ = exec.Command("sh", "-c", "cat /dev/zero > "+junk+"2").Run()
			hold(5 * time.Second)
			require.NoError(t, os.Remove(junk))
			require.NoError(t, os.Remove(junk+"2"))
		}},
		{"the disk is read-only", func() {
			if !own {
				t.Log("SKIPPED: the disk is read-only, since no disk of its own can be mounted")
				return
			}
			c.kill() // nothing may have a file open for writing when it is remounted; it starts on the read-only disk
			require.NoError(t, exec.Command("mount", "-o", "remount,ro", dir).Run())
			hold(3 * time.Second)
			require.NoError(t, exec.Command("mount", "-o", "remount,rw", dir).Run())
			c.start()
		}},
		{"reports come twice, late and in any order", func() {
			set(func(h *chaosHost) { h.jumble = true })
			hold(8 * time.Second)
			set(func(h *chaosHost) { h.jumble = false })
		}},
		{"200 clients that do not read", func() {
			var open []io.Closer
			for range 200 {
				req, err := http.NewRequestWithContext(ctx, "GET", c.url("/events"), nil)
				require.NoError(t, err)
				req.Header.Set("Authorization", "Bearer "+c.admin)
				if res, err := c.client.Do(req); err == nil {
					open = append(open, res.Body)
				}
			}
			hold(5 * time.Second)
			for _, x := range open {
				x.Close()
			}
		}},
		{"the network between hosts and service is cut", func() {
			set(func(h *chaosHost) { h.cut = true })
			hold(12 * time.Second)
			set(func(h *chaosHost) { h.cut = false })
		}},
		{"garbage and wrong tokens", func() {
			for i := range 300 {
				req, err := http.NewRequestWithContext(
					ctx,
					"POST",
					c.url("/agent/reports"),
					strings.NewReader(strings.Repeat("[", i*100)),
				)
				require.NoError(t, err)
				req.Header.Set("Authorization", "Bearer "+c.hosts[i%4].token)
				if res, err := c.client.Do(req); err == nil {
					res.Body.Close()
				}
			}
		}},
		{"clocks of hosts jump a day ahead, and back", func() {
			set(func(h *chaosHost) { h.shift = 24 * time.Hour })
			hold(6 * time.Second)
			set(func(h *chaosHost) { h.shift = 0 })
		}},
		{"agents of a newer version say what is not known", func() {
			set(func(h *chaosHost) { h.newer = true })
			c.until("reports are refused for good", time.Minute, func() bool {
				n := 0
				set(func(h *chaosHost) { n += h.aside })
				return n >= 8
			})
			set(func(h *chaosHost) { h.newer = false })
		}},
		{"pages of the records are overwritten; restored", c.damaged},
		{"it is stopped and goes on, as under a debugger", func() {
			require.NoError(t, c.proc.Process.Signal(syscall.SIGSTOP))
			hold(6 * time.Second)
			require.NoError(t, c.proc.Process.Signal(syscall.SIGCONT))
		}},
	}
	baseMB, baseFiles := c.weight()
	t.Logf("%-50s %10s %10s %8s", "fault", "alarm", "memory", "files")
	for n, f := range faults {
		f.do()
		h := c.hosts[n%4]
		h.mu.Lock()
		h.bad[n] = true
		h.mu.Unlock()
		tail := fmt.Sprintf("%05d", n)
		took := c.until("people are told of a drive after: "+f.name, time.Minute, func() bool {
			c.mu.Lock()
			defer c.mu.Unlock()
			for _, s := range c.told {
				if strings.Contains(s, h.name[len(h.name)-3:]) && strings.Contains(s, tail) || strings.Contains(s, h.key(n)) {
					return true
				}
			}
			return false
		})
		c.lost(f.name)
		var mb, files int
		c.until("memory and files are back after: "+f.name, time.Minute, func() bool {
			mb, files = c.weight()
			return mb < 2*baseMB+150 && files < baseFiles+40
		})
		t.Logf("%-50s %8.1f s %7d MB %8d", f.name, took.Seconds(), mb, files)
	}
}

// damaged overwrites pages of the records. A look finds it, what can be read is salvaged, and a backup is restored, of
// a moment after which nothing was acknowledged.
func (c *chaos) damaged() {
	path, err := binary()
	require.NoError(c.t, err)
	data := filepath.Join(c.dir, "service")
	file, backup := filepath.Join(data, "lantern.db"), filepath.Join(c.dir, "backup.db")
	lantern := func(args ...string) (string, error) {
		out, err := exec.Command(path, args...).CombinedOutput()
		return string(out), err
	}
	cut := func(is bool) {
		for _, h := range c.hosts {
			h.mu.Lock()
			h.cut = is
			h.mu.Unlock()
		}
	}
	cut(true)
	taken := -1
	c.until("nothing is on its way any more", time.Minute, func() bool { // twice the same value within a second
		n := 0
		for _, h := range c.hosts {
			h.mu.Lock()
			n += len(h.acked[h.key(3)])
			h.mu.Unlock()
		}
		same := n == taken
		taken = n
		<-time.After(time.Second)
		return same
	})
	said, err := lantern("backup", backup, "--data", data)
	require.NoError(c.t, err, said)
	c.kill()
	f, err := os.OpenFile(file, os.O_RDWR, 0)
	require.NoError(c.t, err)
	st, err := f.Stat()
	require.NoError(c.t, err)
	junk := make([]byte, 4096)
	for i := range int64(8) {
		for j := range junk {
			junk[j] = byte(rand.IntN(256))
		}
		_, err := f.WriteAt(junk, (1+i*(st.Size()/4096-2)/8)*4096)
		require.NoError(c.t, err)
	}
	require.NoError(c.t, f.Close())
	said, err = lantern("check", "--data", data)
	require.Error(c.t, err, said)
	require.Contains(c.t, said, "WRONG")
	said, err = lantern("salvage", file, filepath.Join(c.dir, "salvaged.db"))
	require.True(c.t, err == nil || strings.Contains(said, "Restore a backup"), said)
	said, err = lantern("restore", backup, "--data", data)
	require.NoError(c.t, err, said)
	c.start()
	cut(false)
	for _, old := range []string{backup, filepath.Join(c.dir, "salvaged.db")} {
		_ = os.Remove(old)
	}
}

// lost fails when a reading that was acknowledged is not there.
func (c *chaos) lost(after string) {
	c.t.Helper()
	for _, h := range c.hosts {
		h.mu.Lock()
		acked := map[int64]float64{}
		for at, v := range h.acked[h.key(3)] {
			acked[at] = v
		}
		h.mu.Unlock()
		kept := map[int64]float64{}
		c.until("readings can be read after: "+after, time.Minute, func() bool {
			status, b := c.ask("GET", "/drives/"+h.key(3)+"/readings", "")
			for _, l := range strings.Split(string(b), "\n") {
				var x struct {
					At      time.Time          `json:"at"`
					Metrics map[string]float64 `json:"metrics"`
				}
				if json.Unmarshal([]byte(l), &x) == nil {
					kept[x.At.UnixMilli()] = x.Metrics["power_on_hours"]
				}
			}
			return status == 200
		})
		for at, v := range acked {
			require.Equal(
				c.t,
				v,
				kept[at],
				"after %s: the reading of %s at %s was acknowledged",
				after,
				h.name,
				time.UnixMilli(at).UTC(),
			)
		}
	}
}
