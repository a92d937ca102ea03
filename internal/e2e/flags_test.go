package e2e

import (
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/emersion/go-ical"
	"github.com/stretchr/testify/require"

	"lantern/internal/api"
	"lantern/internal/channel"
)

// TestFlags: in the terminal, an engineer looks why drives are flagged, sets rules, gets one message per matter, and
// sets up channels.
func TestFlags(t *testing.T) {
	d := startDemo(t)
	// The list, and its order.
	head := strings.SplitN(d.run("drives", "--columns", "tail,age,temperature_celsius,wear_used_percent",
		"--sort", "-temperature_celsius"), "\n", 2)[0]
	require.Equal(
		t,
		[]string{"TAIL", "POWERED", "FOR", "TEMPERATURE", "CELSIUS", "WEAR", "USED", "PERCENT"},
		strings.Fields(head),
	)
	require.Contains(
		t,
		d.try("drives", "--columns", "tail,temperture_celsius").err,
		"did you mean \"temperature_celsius\"",
	)
	both := d.run("trend", "ZU006", "pending_sectors", "read_latency_seconds", "--since", "30d")
	require.Contains(t, both, "pending_sectors of ZU006")
	require.Contains(t, both, "read_latency_seconds of ZU006")
	require.Contains(t, both, "t self-test")
	require.Contains(t, d.try("trend", "ZU006", "pending_sectors", "--since", "10y").err, "five years")
	require.Contains(t, d.try("trend", "ZU006", "pending_sectors", "--since", "soon").err, "is not a duration")
	require.Contains(
		t,
		d.run("--output", "csv", "trend", "ZU006", "pending_sectors", "temperature_celsius"),
		"at,pending_sectors,temperature_celsius\n",
	)
	sheet := d.run("drive", "ZU006")
	for _, want := range []string{"1 H", "90 D", "+4", "3 y 7 mo"} {
		require.Contains(t, sheet, want)
	}
	require.Contains(t, d.run("readings", "latest"), `"pending_sectors":38`)

	// The reasons with their numbers.
	require.Contains(t, d.run("rule", "explain", "pending-sectors"), "burst_sectors is 8 sectors in 24 h")
	require.Contains(t, d.try("rule", "explain", "no-such").err, "lantern rule list")
	require.Equal(t, "UN257", get[[]api.RuleFlag](d.shell, "rule", "try", "link_crc_errors_7d > 50")[0].Tail)
	require.Contains(
		t,
		d.try("rule", "try", "link_crc_eror > 5").err,
		"line 1, column 1: there is nothing named \"link_crc_eror\"; did you mean link_crc_errors?",
	)
	require.Contains(
		t,
		d.run(
			"rule",
			"add",
			"bad-cable",
			"link_crc_errors_7d > 50",
			"--says",
			"wants another cable",
			"--verdict",
			"replace",
		),
		"UN257",
	)
	require.Contains(t, d.run("round"), "UN257 wants another cable")
	require.Contains(t, d.run("rule", "list"), "bad-cable")
	d.run("rule", "remove", "bad-cable")
	require.NotContains(t, d.run("round"), "wants another cable")
	d.run("rule", "off", "link-crc")
	require.NotContains(t, d.run("round"), "UN257")
	d.run("rule", "on", "link-crc")
	require.Contains(
		t,
		d.run("rule", "set", "many_sectors", "8", "--model", "VELDRUN VR4-4000"),
		"for VELDRUN VR4-4000",
	)
	require.Contains(t, d.run("drive", "VA222"), "◆ replace")
	d.run("rule", "unset", "many_sectors", "--model", "VELDRUN VR4-4000")
	require.Contains(t, d.try("rule", "set", "many_sectors", "lots").err, "is not a number")

	// There is one notice.
	all := await(
		t,
		"notices open",
		func() []api.Notice { return get[[]api.Notice](d.shell, "notices") },
		func(n []api.Notice) bool { return len(n) >= 8 },
	)
	of := map[string]api.Notice{}
	for _, n := range all {
		of[strings.Fields(n.Says)[0]] = n
	}
	require.Equal(t, api.NoticeKindFilling, of["specimens"].Kind)
	require.Contains(t, d.run("notices"), "▥ filling")
	short := of["ZU006"].Id[len(of["ZU006"].Id)-6:]
	require.Contains(t, d.run("notices", "saw", short, "--note", "spare ordered"), "seen by engineer")
	require.Contains(t, d.run("notices"), "seen by engineer")
	require.Contains(t, d.run("notices", "mute", of["CN261"].Id, "--for", "3d"), "muted until")
	require.Contains(t, d.run("notices", "mute", of["CN261"].Id, "--for", "0"), "no longer muted")
	require.Contains(t, d.try("notices", "saw", "NOSUCH").err, "lantern notices")

	// And sent, signed; no address leads back into the service, and no secret is shown.
	var mu sync.Mutex
	var got []string
	receiver := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		body, _ := io.ReadAll(r.Body)
		mu.Lock()
		defer mu.Unlock()
		if r.Header.Get(channel.Signature) == channel.Sign("pager-k3y", body) {
			got = append(got, string(body))
		}
		w.WriteHeader(http.StatusAccepted)
	}))
	defer receiver.Close()
	secret := filepath.Join(t.TempDir(), "key")
	require.NoError(t, os.WriteFile(secret, []byte("pager-k3y\n"), 0o600))
	require.Contains(t, d.run("channel", "list"), "No channel is set")
	require.Contains(t, d.try("channel", "set", "pager").err, "one of --webhook, --email and --syslog")
	require.Contains(
		t,
		d.try("channel", "set", "pager", "--webhook", d.url+"/hook", "--secret-file", secret).err,
		"points into this service itself",
	)
	d.run("channel", "set", "pager", "--webhook", receiver.URL, "--secret-file", secret, "--least", "watch")
	require.Contains(t, d.run("channel", "test", "pager"), "took the message")
	d.run("lab", "pull", "skerry/front/5")
	await(
		t,
		"the pager is told of a drive that left",
		func() string { mu.Lock(); defer mu.Unlock(); return strings.Join(got, "\n") },
		func(s string) bool {
			return strings.Contains(s, "brave-lantern.test") && strings.Contains(s, "brave-lantern.notice.opened") &&
				strings.Contains(s, "does not answer any more")
		},
	)
	for _, said := range []string{d.run("--output", "json", "channel", "list"), d.run("channel", "list"),
		d.process.said()} {
		require.NotContains(t, said, "pager-k3y")
	}
	d.run("channel", "remove", "pager")
	require.Contains(t, d.try("channel", "test", "pager").err, "No channel")
}

// TestSelfTests: a drive runs a self-test, its neighbour waits, and the result is read from the drive's log.
func TestSelfTests(t *testing.T) {
	d := startDemo(t)
	show := func(tail string) func() api.TestRun {
		return func() api.TestRun { return get[[]api.TestRun](d.shell, "selftest", "show", tail)[0] }
	}
	require.Contains(t, d.run("selftest", "start", "LM417", "--kind", "extended"), "ordered")
	mate := d.try("selftest", "start", "LM422")
	require.Equal(t, 3, mate.code)
	require.Contains(t, mate.out, "LM417 of the same group is being tested")
	require.Contains(t, d.try("selftest", "start", "--pool", "tidegauge").out, "is recovering, and is left in peace")
	await(t, "it runs", show("LM417"), func(r api.TestRun) bool { return r.State == api.TestRunStateRunning })
	require.Contains(t, d.run("selftest", "stop", "LM417"), "asked it to stop")
	await(t, "it stopped", show("LM417"), func(r api.TestRun) bool { return r.State == api.TestRunStateAborted })
	d.run("selftest", "start", "LM422")
	d.run("lab", "speed", "60")
	await(t, "it passed", show("LM422"), func(r api.TestRun) bool { return r.State == api.TestRunStatePassed })
	d.run("selftest", "start", "LM417", "--kind", "extended")
	d.run("lab", "speed", "1200")
	failed := await(
		t,
		"it failed",
		show("LM417"),
		func(r api.TestRun) bool { return r.State == api.TestRunStateFailed },
	)
	require.EqualValues(t, 3118442904, failed.Lba)
	require.Contains(t, d.try("selftest", "start").err, "name one drive")
	require.Contains(
		t,
		d.try("selftest", "start", "LM417", "--kind", "long").err,
		"short, extended, conveyance or selective",
	)
	require.Contains(t, d.try("selftest", "start", "LM417", "--kind", "selective").err, "needs --span")
	require.Contains(
		t,
		d.try("selftest", "start", "LM417", "--kind", "selective", "--span", "5-99999999999999").err,
		"LM417 has addresses 0 to 7814037167",
	)
	// A drive of its group may be tested by plan just then, on a machine so slow that the lab's night has come.
	await(t, "its group is free for a test", func() answer {
		return d.try("selftest", "start", "LM417", "--kind", "selective", "--span", "3118442000-3118443000")
	}, func(r answer) bool { return r.code == 0 && strings.Contains(r.out, "ordered") })
	d.run("lab", "speed", "60")
	await(
		t,
		"a span was tested",
		show("LM417"),
		func(r api.TestRun) bool { return r.State == api.TestRunStatePassed && r.Kind == "selective" },
	)
	require.Contains(
		t,
		d.try("selftest", "start", "--where", "temperature_celsius>90").err,
		"This names no drive",
	)
}

// TestPlanning: the effect of a plan is shown before it is stored; a drive's next tests are shown with their reasons;
// another program reads the calendar.
func TestPlanning(t *testing.T) {
	d := startDemo(t)
	require.Contains(t, d.run("plan"), "short tests every Monday 00:00, extended tests every month on the 1st 00:00")
	before := d.run("-o", "json", "plan", "list")
	preview := d.run(
		"plan",
		"preview",
		"fleet",
		"--window",
		"Mon,Wed 22:00-06:00",
		"--zone",
		"Europe/Berlin",
		"--weeks",
		"6",
	)
	require.Contains(t, preview, "This would move")
	require.Contains(t, preview, "and the longest window is 8 h")
	require.Equal(t, before, d.run("-o", "json", "plan", "list"), "nothing was kept")
	require.Contains(
		t,
		d.run(
			"plan",
			"set",
			"archive",
			"--pool",
			"soundscape",
			"--pool",
			"logbook",
			"--extended",
			"every 2 weeks on Sunday 03:30",
			"--bar",
			"Mon,Tue 01:00-03:00",
		),
		"every 2 weeks on Sunday 03:30",
	)
	two := d.try("plan", "set", "nightly", "--pool", "logbook")
	require.Equal(t, 3, two.code)
	require.Contains(t, two.err, "neither is more specific")
	require.Contains(t, d.try("plan", "set", "nightly").err, "give what plan nightly applies to")
	drive := get[api.Drive](d.shell, "drive", "LM417")
	require.Equal(t, "archive", drive.SelfTests.Plan)
	require.Equal(t, "fleet", drive.SelfTests.PlanElse)
	require.NotEmpty(t, drive.SelfTests.Next)
	require.Contains(t, d.run("plan", "tests", "--pool", "soundscape", "--days", "20d"), "archive")
	require.Contains(t, d.run("selftest", "standing", "--which", "failed"), "LM417")

	address := strings.Fields(d.run("plan", "feed"))[0]
	read := func() (int, string) {
		res, err := http.Get(address)
		require.NoError(t, err)
		defer res.Body.Close()
		body, err := io.ReadAll(res.Body)
		require.NoError(t, err)
		return res.StatusCode, string(body)
	}
	code, body := read()
	require.Equal(t, 200, code)
	require.Zero(t, strings.Count(strings.ReplaceAll(body, "\r\n", ""), "\n"), "each line ends with CRLF (RFC 5545 3.1)")
	cal, err := ical.NewDecoder(strings.NewReader(body)).Decode()
	require.NoError(t, err)
	events := cal.Events()
	require.NotEmpty(t, events)
	seen := map[string]bool{}
	for _, e := range events {
		uid, err := e.Props.Text(ical.PropUID)
		require.NoError(t, err)
		require.False(t, seen[uid], "each event once")
		seen[uid] = true
		from, err := e.DateTimeStart(time.UTC)
		require.NoError(t, err)
		to, err := e.DateTimeEnd(time.UTC)
		require.NoError(t, err)
		require.True(t, from.Before(to))
		says, err := e.Props.Text(ical.PropSummary)
		require.NoError(t, err)
		require.Regexp(t, `^(short|extended) self-tests, [a-z]+: \d+ drives?$`, says)
	}
	d.run("plan", "feed", "--end")
	code, body = read()
	require.Equal(t, 404, code)
	require.Contains(t, body, "lantern plan feed")
	d.run("plan", "remove", "archive")
	require.Equal(t, "fleet", get[api.Drive](d.shell, "drive", "LM417").SelfTests.Plan)
}
