package e2e

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lantern/internal/api"
)

// TestStory tells the story through the command line: one failing drive, from its first sign to a healthy pool. In the
// middle of it the service is killed.
func TestStory(t *testing.T) {
	d := startDemo(t)

	// The round lists, first, a drive in soundscape whose pending sectors rise.
	round := d.settle()
	line := round.Lines[0]
	require.Equal(t, "soundscape", line.Pool)
	require.Equal(t, "pending_sectors", line.Metric)
	require.Equal(t, api.Replace, line.Verdict)
	require.Greater(t, line.Spark[len(line.Spark)-1], line.Spark[0])
	out := d.run("round")
	require.Contains(t, strings.Split(out, "\n")[1], line.Tail+" has")
	for _, words := range []string{"does not answer any more", "times as long as " +
		"its peers", "bad link", "failed its extended self-test", "same batch " +
		"as LM417", "tidegauge: rebuild", "specimens  93 % full"} {
		require.Contains(t, out, words)
	}
	sound := get[[]api.Drive](d.shell, "drives", "--verdict", "sound")
	require.Greater(t, len(sound), 70, "most have no findings")

	// The drive: identity, verdict, finding, evidence, and the trend as a chart.
	out = d.run("drive", line.Tail)
	for _, words := range []string{"serial VR7" + line.Tail, "WWN 5", "◆ replace", "SMART attribute 197", "┤",
		"since", "skerry/front/7", "without this drive: can lose 1 more drive"} {
		require.Contains(t, out, words)
	}
	require.Contains(t, d.run("trend", line.Tail, "temperature_celsius", "--since", "7d"), "°C")
	csv := d.run("--output", "csv", "trend", line.Tail, "pending_sectors")
	require.True(t, strings.HasPrefix(csv, "at,pending_sectors\n"), csv)

	// The bay map, and a light that goes out by itself.
	require.Contains(t, d.run("bays", "skerry"), "◆ "+line.Tail)
	d.run("light", "on", line.Tail, "--for", "2s")
	await(
		t,
		"the bay is lit",
		func() string { return d.run("bays", "skerry") },
		func(s string) bool { return strings.Contains(strings.Split(s, "\n")[2], "✶") },
	)
	await(
		t,
		"it is dark again",
		func() []api.Light { return get[[]api.Light](d.shell, "light", "list") },
		func(l []api.Light) bool { return len(l) == 0 },
	)
	await(
		t,
		"the map shows it",
		func() string { return d.run("bays", "skerry") },
		func(s string) bool { return !strings.Contains(strings.Split(s, "\n")[2], "✶") },
	)

	// The plan, with its checks; a second swap, and one on a pool that recovers, are refused.
	out = d.run("swap", "plan", line.Tail)
	require.Contains(t, out, "the spare first, beside the old one")
	out = d.run("swap", "plan", line.Tail, "--keep-spare")
	for _, words := range []string{"Margin without the drive", "looked at: groups and volumes of " +
		"soundscape", "a new drive needs at least 4,000,786,153,472 bytes"} {
		require.Contains(t, out, words)
	}
	d.refused("a reason is required", "swap", "begin")
	d.run("swap", "begin", "--reason", "LM417 comes next", "--no-backup")
	d.run("swap", "plan", "LM417")
	d.refused("led by engineer", "swap", "begin", "LM417", "--reason", "both at once", "--no-backup")
	member := get[api.Pool](d.shell, "pool", "tidegauge").Groups[0].Members[0]
	d.run("swap", "plan", member.Tail)
	d.refused("rebuild running", "swap", "begin", member.Tail, "--reason", "in a hurry", "--no-backup")
	for _, tail := range []string{"LM417", member.Tail} {
		d.run("swap", "abandon", tail, "--reason", "one after the other")
	}

	// A wrong drive is pulled: everything stops and says where it belongs.
	const bay = "skerry/front/7"
	wrong := get[api.LabMoved](d.shell, "lab", "pull", "skerry/front/8")
	await(t, "the swap stops", func() string { return d.run("swap", "show") }, func(s string) bool {
		return strings.Contains(s, "STOP  Put "+wrong.Tail+" back into skerry/front/8")
	})
	require.Contains(t, d.run("round"), "STOP")
	d.run("lab", "insert", "skerry/front/8", "--drive", wrong.Tail)
	await(t, "it goes on", d.openSwap, func(w api.Swap) bool { return len(w.Wrong) == 0 })

	// Pull, and the service is killed.
	d.run("lab", "pull", bay)
	d.awaitPhase(api.SwapPhaseInsert)
	d.process.kill()
	a := d.try("round")
	require.Equal(t, 4, a.code, "the service cannot be reached: %s", a.err)
	d.begin(t)
	d.awaitPhase(api.SwapPhaseInsert)

	// Too small; somebody's data; a page that cannot be believed; then one that fits.
	insert := func(args ...string) api.LabMoved {
		return get[api.LabMoved](d.shell, append([]string{"lab", "insert", bay}, args...)...)
	}
	for _, no := range []struct {
		args  []string
		words string
	}{{[]string{"--bytes", "2000398934016"}, "too small"}, {[]string{"--holds", "member of " +
		"plankton"}, "somebody's data (member of plankton)"}, {[]string{"--damaged"}, "checksum is wrong"}} {
		m := insert(no.args...)
		w := await(t, "it is refused", d.openSwap, func(w api.Swap) bool { return w.RefusedTail == m.Tail })
		require.Contains(t, w.Refused, no.words)
		if no.words == "checksum is wrong" {
			out := d.run("drive", m.Tail)
			require.Contains(t, out, "unreadable page ata-smart-data")
			require.Contains(t, out, "(512 bytes kept)")
		}
		d.run("lab", "pull", bay)
		await(t, "it is out", d.openSwap, func(w api.Swap) bool { return w.RefusedTail == "" })
	}
	fresh := insert()
	d.awaitPhase(api.SwapPhaseConfirm)
	require.NotContains(t, d.run("swap", "show"), fresh.Tail, "the tail is read on the label, not on the screen")
	d.refused("not the label tail", "swap", "confirm", "--tail", line.Tail)
	d.refused("Acceptance test of the new drive: not run", "swap", "confirm", "--tail", fresh.Tail)
	require.Contains(
		t,
		d.run("swap", "confirm", "--tail", fresh.Tail, "--reason", "LM417 is going"),
		"Make it a member",
	)
	d.awaitPhase(api.SwapPhaseRecover)

	// The recovery is followed until the pool is healthy and the swap closed as verified; on the way, one more stop.
	d.process.stop()
	d.begin(t)
	d.awaitPhase(api.SwapPhaseRecover)
	d.run("lab", "speed", "1200")
	out = d.run("follow", "soundscape")
	require.Contains(t, out, "resilver of "+fresh.Tail+"  finished")
	require.Contains(t, out, "likely")
	w := await(
		t,
		"the swap is closed",
		func() api.Swap { return get[api.Swap](d.shell, "swap", "show", line.Tail) },
		func(w api.Swap) bool { return w.Phase == api.SwapPhaseClosed },
	)
	require.Contains(t, w.Log[len(w.Log)-1].Says, "healthy, verified")
	require.Equal(t, "can lose 2 more drives", get[api.Pool](d.shell, "pool", "soundscape").Margin.Words)
	for _, l := range get[api.Round](d.shell, "round").Lines {
		require.NotEqual(t, line.Tail, l.Tail)
	}
}

// TestHabits: help with an example everywhere, exit codes, no colour under NO_COLOR, errors that say what to do.
func TestHabits(t *testing.T) {
	d := startDemo(t)
	for _, c := range []struct {
		code  int
		words string
		args  []string
	}{
		{2, "no command", []string{"rounds-please"}}, {2, "-nope", []string{"round", "--nope"}},
		{2, "Example: lantern drive", []string{"drive"}},
		{2, "not \"xml\"", []string{"--output", "xml", "round"}},
		{2, "lantern drives --find", []string{"drive", "NOSUCH"}},
		{2, "1s to 24h", []string{"light", "on", "skerry/front/7", "--for", "48h"}},
		{2, "No bay", []string{"light", "on", "skerry/front/77"}}, {4, "cannot be " +
			"reached", []string{"--server", "http://127.0.0.1:1", "round"}},
		{3, "is empty", []string{"lab", "pull", "skerry/inner/4"}},
		{2, "verdict is sound", []string{"drives", "--verdict", "fine"}}, {2, "takes a size " +
			"such as", []string{"accept", "policy", "--rate", "fast"}}, {2, "cannot be given " +
			"with other tests", []string{"accept", "policy", "--short", "--surface"}},
		{2, "No drive is known in skerry/inner/4", []string{"drive", "skerry/inner/4"}},
		{1, "No swap is open", []string{"swap", "show"}},
		{2, "cannot be read", []string{"--config", "/nonexistent", "round"}},
	} {
		a := d.try(c.args...)
		require.Equal(t, c.code, a.code, "%v: %s%s", c.args, a.out, a.err)
		require.Contains(t, a.err, c.words)
		require.Empty(t, a.out, "errors go to the error stream")
	}
	for _, args := range [][]string{{"round"}, {"drives"}, {"drive"}, {"trend"}, {"bays"}, {"light", "on"},
		{"swap", "plan"}, {"swap", "confirm"}, {"follow"}, {"pools"}, {"host", "enrol"}, {"lab", "insert"},
		{"serve"}, {"agent"}, {"demo"}} {
		require.Contains(t, d.run(append(args, "--help")...), "Examples", "%v", args)
	}
	require.NotContains(t, d.run("round"), "\x1b", "no colour where the output is no terminal")
	require.Contains(t, d.run("completion", "bash"), "lantern")
	require.Contains(
		t,
		d.run("--help"),
		"Exit codes: 0 done, 1 failed, 2 what was typed is wrong, 3 refused, 4 the service cannot be reached.",
	)

	// Drives by their values, and all their readings.
	rising := get[[]api.Drive](d.shell, "drives", "--where", "pending_sectors>0")
	require.Len(t, rising, 1)
	byHours := get[[]api.Drive](d.shell, "drives", "--sort", "-power_on_hours", "--host", "guillemot")
	require.GreaterOrEqual(t, byHours[0].PowerOnHours, byHours[1].PowerOnHours)
	require.Contains(t, d.try("drives", "--where", "pending_sector>0").err, "did you mean pending_sectors?")
	require.Contains(t, d.try("drives", "--sort", "colour").err, "sorted by place, verdict or a metric")
	lines := strings.Split(strings.TrimSpace(d.run("readings", "export", rising[0].Tail, "--since", "60d")), "\n")
	require.Greater(t, len(lines), 70)
	var first, latest struct {
		Drive   string
		At      time.Time
		Metrics map[string]float64
	}
	require.NoError(t, json.Unmarshal([]byte(lines[0]), &first))
	require.NoError(t, json.Unmarshal([]byte(lines[len(lines)-2]), &latest))
	require.Equal(t, rising[0].Key, first.Drive)
	require.True(t, latest.At.After(first.At))
	require.Zero(t, first.Metrics["pending_sectors"])
	file := filepath.Join(t.TempDir(), "readings.jsonl")
	more := `{"drive":"` + first.Drive +
		`","at":"2024-02-29T12:00:00Z","metrics":{"pending_sectors":7,"read_latency_seconds":0.0123456}}`
	require.NoError(t, os.WriteFile(file, []byte(strings.Join(append(lines, more, ""), "\n")), 0o600))
	require.Equal(
		t,
		api.Imported{Taken: 1, Known: len(lines), Refused: []api.RefusedLine{}},
		get[api.Imported](d.shell, "readings", "import", file),
	)
	require.Contains(t, d.run("readings", "import", file), "0 readings imported")
	// The rules run over the export, without a service; one line is broken.
	past := filepath.Join(t.TempDir(), "past.jsonl")
	require.NoError(t, os.WriteFile(past, []byte(strings.Join(lines, "\n")+"\n{\"drive\":1}\n"), 0o600))
	failures := filepath.Join(t.TempDir(), "failures.csv")
	require.NoError(
		t,
		os.WriteFile(
			failures,
			[]byte("drive,failed\n"+rising[0].Key+","+time.Now().Add(96*time.Hour).Format(time.RFC3339)+"\n"),
			0o600,
		),
	)
	judged := d.try("judge", "--readings", past, "--labels", failures)
	require.Equal(t, 1, judged.code)
	require.Contains(t, judged.err, fmt.Sprintf("line %d was skipped", len(lines)+1))
	require.Contains(t, judged.out, `"verdict":"replace","findings":[{"rule":"pending-sectors"`)
	require.Contains(t, judged.out, `"flagged_48_h_before":1`)
	require.Contains(
		t,
		d.run("readings", "export", rising[0].Tail, "--since", "1500d"),
		more,
		"what went in comes out, to the last digit",
	)
	require.NoError(
		t,
		os.WriteFile(
			file,
			[]byte(
				`{"drive":"nobody","at":"2024-02-29T12:00:00Z","metrics":{"pending_sectors":7}}`+"\nnot json\n"+
					strings.Replace(more, "pending_sectors", "pending_sector", 1)+"\n"+
					`{"drive":"ZU006","at":"2024-02-29T12:00:00Z","metrics":{"pending_sectors":null}}`,
			),
			0o600,
		),
	)
	bad := d.try("readings", "import", file)
	require.Equal(t, 1, bad.code)
	require.Contains(t, bad.err, "line 1 was refused: No drive has a serial")
	require.Contains(t, bad.err, "line 2 was refused: invalid character")
	require.Contains(
		t,
		bad.err,
		"line 3 was refused: no metric \"pending_sector\"; did you mean pending_sectors?",
	)
	require.Contains(t, bad.err, "was refused: metrics: pending_sectors is not a number", "it is not 0")
	require.Contains(
		t,
		d.run("--output", "csv", "readings", "export", rising[0].Tail),
		"drive,at,metric,value\n"+rising[0].Key,
	)

	// Commands that need no service.
	require.Contains(t, d.run("metrics", "explain", "link_crc_errors"), "accuses the cable")
	require.Contains(t, d.try("metrics", "explain", "pending_sector").err, "did you mean pending_sectors?")
	require.Contains(t, d.run("decode", "--list"), "scsi-log")
	dump := filepath.Join(t.TempDir(), "dump.txt")
	require.NoError(t, os.WriteFile(dump, []byte("0000  0d 00 00 0c 00 00 03 02  00 26 00 01 03 02 00 ff\n"), 0o600))
	require.Contains(t, d.run("decode", "scsi-log", dump), `"temperature_celsius": 38`)
	require.Equal(t, 2, d.try("decode", "tea-leaves", dump).code)

	// A port in use, an open address without TLS, an agent without a token.
	path, err := binary()
	require.NoError(t, err)
	for words, args := range map[string][]string{
		"is in use":             {"serve", "--listen", d.listen, "--data", t.TempDir()},
		"tokens in the clear":   {"serve", "--listen", "0.0.0.0:0", "--data", t.TempDir()},
		"lantern host enrol":    {"agent", "--data", t.TempDir()},
		"both --cert and --key": {"serve", "--cert", "x.pem", "--data", t.TempDir()},
	} {
		out, err := exec.Command(path, args...).CombinedOutput()
		require.Error(t, err)
		require.Contains(t, string(out), words)
	}
}

// TestDoor: requests without a token or from another site are refused, and a repeated key has no second effect.
func TestDoor(t *testing.T) {
	d := startDemo(t)
	config, err := os.ReadFile(filepath.Join(d.data, "client.yaml"))
	require.NoError(t, err)
	token := strings.TrimSpace(strings.SplitN(string(config), "token: ", 2)[1])
	call := func(method, path, body string, head map[string]string) (int, string, http.Header) {
		t.Helper()
		req, err := http.NewRequestWithContext(t.Context(), method, d.url+path, bytes.NewBufferString(body))
		require.NoError(t, err)
		req.Header.Set("Content-Type", "application/json")
		for k, v := range head {
			req.Header.Set(k, v)
		}
		client := http.Client{
			CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
			Timeout:       20 * time.Second,
		}
		res, err := client.Do(req)
		require.NoError(t, err)
		defer res.Body.Close()
		b, err := io.ReadAll(res.Body)
		require.NoError(t, err)
		return res.StatusCode, string(b), res.Header
	}
	person := map[string]string{"Authorization": "Bearer " + token}
	with := func(more ...string) map[string]string {
		h := map[string]string{"Authorization": "Bearer " + token}
		for i := 0; i < len(more); i += 2 {
			h[more[i]] = more[i+1]
		}
		return h
	}
	problem := func(body string) (p api.Problem) {
		require.NoError(t, json.Unmarshal([]byte(body), &p), body)
		return p
	}

	for _, path := range []string{"/api/v1/round", "/api/v1/events", "/api/v1/drives", "/api/v1/agent/orders",
		"/api/v1/lab"} {
		status, body, head := call("GET", path, "", nil)
		require.Equal(t, 401, status, path)
		require.Equal(t, "application/problem+json", head.Get("Content-Type"))
		require.EqualValues(t, "not-signed-in", problem(body).Type)
	}
	status, _, _ := call("GET", "/api/v1/agent/orders?wait=0", "", person)
	require.Equal(t, 401, status, "a person is no host")
	status, body, _ := call("POST", "/api/v1/session", `{"token":"lan-person-guess"}`, nil)
	require.Equal(t, 401, status)
	require.EqualValues(t, "bad-token", problem(body).Type)

	// A session's cookie cannot be read by scripts or used by other sites.
	status, _, head := call("POST", "/api/v1/session", `{"token":"`+token+`"}`, nil)
	require.Equal(t, 204, status)
	cookie := head.Get("Set-Cookie")
	require.Contains(t, cookie, "HttpOnly")
	require.Contains(t, cookie, "SameSite=Strict")
	cookie, _, _ = strings.Cut(cookie, ";")
	status, _, _ = call("GET", "/api/v1/round", "", map[string]string{"Cookie": cookie})
	require.Equal(t, 200, status)
	status, body, _ = call(
		"POST",
		"/api/v1/swaps",
		`{"drive":"LM417"}`,
		map[string]string{"Cookie": cookie, "Origin": "https://elsewhere.example"},
	)
	require.Equal(t, 403, status)
	require.EqualValues(t, "other-origin", problem(body).Type)
	status, _, _ = call("DELETE", "/api/v1/session", "", map[string]string{"Cookie": cookie, "Origin": d.url})
	require.Equal(t, 204, status)
	status, _, _ = call("GET", "/api/v1/round", "", map[string]string{"Cookie": cookie})
	require.Equal(t, 401, status, "signed out is out")

	// A request that is sent twice is done once; a key belongs to one request.
	key := with("Idempotency-Key", "k1")
	status, first, _ := call("POST", "/api/v1/lights", `{"bay":"skerry/front/3","seconds":600}`, key)
	require.Equal(t, 202, status)
	status, second, _ := call("POST", "/api/v1/lights", `{"bay":"skerry/front/3","seconds":600}`, key)
	require.Equal(t, 202, status)
	require.Equal(t, first, second)
	var together sync.WaitGroup
	answers := make([]string, 8)
	for i := range answers {
		together.Go(func() {
			_, body, _ := call(
				"POST",
				"/api/v1/lights",
				`{"bay":"skerry/front/5","seconds":600}`,
				with("Idempotency-Key", "k2"),
			)
			answers[i] = string(body)
		})
	}
	together.Wait()
	for _, a := range answers {
		require.Equal(t, answers[0], a, "also when all come at once")
	}
	status, body, _ = call("POST", "/api/v1/lights", `{"bay":"skerry/front/4","seconds":600}`, key)
	require.Equal(t, 422, status)
	require.EqualValues(t, "key-reused", problem(body).Type)

	// Errors about wrong input name the mistake.
	for body, kind := range map[string]string{`{"bay":"skerry/front/3","secs":1}`: "bad-body",
		`{"bay":`: "bad-body", `{"bay":"skerry/front/3","seconds":0}`: "bad-time", `{"bay":"x","seconds":5}`: "bad-bay"} {
		status, answer, _ := call("POST", "/api/v1/lights", body, person)
		require.Equal(t, 422, status, body)
		require.EqualValues(t, kind, problem(answer).Type)
	}
	status, _, head = call("GET", "/api/v1/round", "", person)
	require.Equal(t, 200, status)
	require.Equal(t, "no-store", head.Get("Cache-Control"))
	require.Contains(t, head.Get("Content-Security-Policy"), "default-src 'self'")
}
