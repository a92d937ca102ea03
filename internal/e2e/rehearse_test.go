package e2e

import (
	"encoding/json"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"

	"lantern/internal/api"
	"lantern/internal/practice"
)

// rehearsal is a practice that runs.
type rehearsal struct {
	shell
	process *process
	url     string
	link    string
}

func rehearse(t *testing.T, env []string, dir string, args ...string) rehearsal {
	t.Helper()
	listen := freePort(t)
	p := start(t, env, append([]string{"rehearse", "soundscape", "--listen", listen, "--data", dir}, args...)...)
	said := await(
		t,
		"the practice greets",
		p.said,
		func(s string) bool { return strings.Contains(s, "Stop with Ctrl-C") },
	)
	return rehearsal{
		shell{
			t,
			[]string{
				"LANTERN_CONFIG=" + filepath.Join(dir, "client.yaml"),
				"LANTERN_SERVER=",
				"LANTERN_TOKEN=",
				"NO_COLOR=1",
			},
		},
		p,
		"http://" + listen,
		regexp.MustCompile(`http://\S+once\?code=\S+`).FindString(said),
	}
}

// marked requires the mark before every line.
func marked(t *testing.T, text string) {
	t.Helper()
	for _, line := range strings.Split(strings.TrimSuffix(text, "\n"), "\n") {
		require.True(
			t,
			strings.HasPrefix(line, practice.Mark) || strings.Contains(line, "practice=soundscape"),
			"not marked: %q",
			line,
		)
	}
}

// TestRehearsal rehearses a swap with mishaps on a copy of the demo's pool. Nothing of the rehearsal reaches the copied
// fleet, and all its output is marked.
func TestRehearsal(t *testing.T) {
	d := startDemo(t)
	var mu sync.Mutex
	var asked []string
	to, err := url.Parse(d.url)
	require.NoError(t, err)
	proxy := httputil.NewSingleHostReverseProxy(to)
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		mu.Lock()
		asked = append(asked, r.Method+" "+r.URL.Path)
		mu.Unlock()
		proxy.ServeHTTP(w, r)
	}))
	defer server.Close()
	env := append(d.env, "LANTERN_SERVER="+server.URL)
	before := get[[]api.Drive](d.shell, "drives")

	dir := t.TempDir()
	r := rehearse(t, env, dir, "--mishap", "ill-peer", "--mishap", "small-drive", "--speed", "1200")
	require.NotContains(t, r.process.said(), "in reality, and", "every verdict is as it is in truth")
	require.Contains(t, r.process.said(), "driftnet is on other hosts as well")
	require.Contains(t, r.process.said(), "lantern swap plan ZU006")

	// The same swap.
	r.run("swap", "plan", "ZU006", "--keep-spare")
	marked(t, r.run("swap", "begin", "--reason", "LM417 comes next"))
	r.run("lab", "pull", "skerry/front/7")
	at := func(phase api.SwapPhase) {
		t.Helper()
		await(
			t,
			"the swap is at "+string(phase),
			func() api.Swap { return get[[]api.Swap](r.shell, "swap", "list")[0] },
			func(w api.Swap) bool { return w.Phase == phase },
		)
	}
	at(api.SwapPhaseInsert)
	small := get[api.LabMoved](r.shell, "lab", "insert", "skerry/front/7")
	await(
		t,
		"the drive is refused as too small",
		func() string { return r.run("swap", "show", "ZU006") },
		func(s string) bool { return strings.Contains(s, "too small") },
	)
	r.run("lab", "pull", small.Tail)
	m := get[api.LabMoved](r.shell, "lab", "insert", "skerry/front/7")
	at(api.SwapPhaseConfirm)
	a := r.try("swap", "confirm", "--tail", "ZZ999")
	require.Equal(t, 3, a.code)
	marked(t, a.err)
	marked(t, r.run("swap", "confirm", "--tail", m.Tail, "--reason", "no tested one at hand"))
	require.InDelta(
		t,
		1200,
		await(
			t,
			"time hurries",
			func() api.Lab { return get[api.Lab](r.shell, "lab", "speed") },
			func(l api.Lab) bool { return l.Speed > 1 },
		).Speed,
		0,
	)
	at(api.SwapPhaseClosed)
	await(
		t,
		"time has its own pace again",
		func() api.Lab { return get[api.Lab](r.shell, "lab", "speed") },
		func(l api.Lab) bool { return l.Speed == 1 },
	)
	marked(t, r.run("round"))
	require.Contains(t, r.run("round"), "CF991 has", "the neighbour that fell ill on the way")

	// Everything that leaves it is marked.
	var report map[string]any
	require.NoError(t, json.Unmarshal([]byte(r.run("--output", "json", "swap", "report", "ZU006")), &report))
	require.Equal(t, "soundscape", report["practice"].(map[string]any)["pool"])
	require.True(t, strings.HasPrefix(r.run("--output", "csv", "drives"), "practice,"))
	evidence := filepath.Join(t.TempDir(), "evidence.zip")
	r.run("swap", "report", "ZU006", "--evidence", evidence)
	b, err := os.ReadFile(evidence)
	require.NoError(t, err)
	require.Contains(t, string(b), "practice-evidence-ZU006/summary.txt")

	// And no connection leads into it, or out of it.
	r.refused("it takes no host in", "host", "enrol", "skerry-2")
	r.refused("it tells nobody outside", "channel", "set", "ops", "--webhook", "http://127.0.0.1:9/")
	a = shell{t, r.env}.try("rehearse", "soundscape", "--listen", freePort(t), "--data", t.TempDir())
	require.Equal(t, 3, a.code, "a copy of a copy: %s", a.err)
	lost := start(
		t,
		[]string{"LANTERN_HOST_TOKEN=lan-host-any", "LANTERN_SERVER=" + r.url},
		"agent",
		"--host",
		"skerry",
		"--data",
		t.TempDir(),
		"--devices",
		"none*",
	)
	await(t, "an agent of real drives turns away", lost.said, func(s string) bool {
		return strings.Contains(s, "is a rehearsal: an agent of real drives accepts nothing from it")
	})
	a = d.try("serve", "--listen", freePort(t), "--data", dir)
	require.Equal(t, 1, a.code)
	require.Contains(t, a.err, "holds a rehearsal")
	a = d.try("rehearse", "soundscape", "--listen", strings.TrimPrefix(r.url, "http://"), "--data", dir)
	require.Contains(t, a.err, "is in use", "and what is practised there is not touched")
	a = d.try("rehearse", "soundscape", "--listen", freePort(t), "--data", d.data)
	require.Equal(t, 1, a.code)
	require.Contains(t, a.err, "holds other files and no rehearsal")
	for words, args := range map[string][]string{"No pool": {"rehearse", "nowhere", "--data",
		t.TempDir()}, "no mishap": {"rehearse", "soundscape", "--mishap", "rain"},
		"no rehearsal": {"rehearse", "soundscape", "--go-on", "--data", t.TempDir()}} {
		a := d.try(args...)
		require.NotZero(t, a.code)
		require.Contains(t, a.err, words)
	}

	inBrowser(t, d, r)

	// It continues from where it was.
	r.process.stop()
	marked(t, r.process.said())
	again := rehearse(t, env, dir, "--go-on")
	require.Equal(t, api.SwapPhaseClosed, get[[]api.Swap](again.shell, "swap", "list")[0].Phase)
	again.process.stop()

	mu.Lock()
	defer mu.Unlock()
	require.Equal(
		t,
		[]string{"GET /api/v1/me", "GET /api/v1/pools/soundscape/copy"},
		asked,
		"all that the copied service was ever asked",
	)
	require.Empty(t, get[[]api.Swap](d.shell, "swap", "list"))
	after := get[[]api.Drive](d.shell, "drives")
	for i := range before {
		require.Equal(
			t,
			[]any{before[i].Key, before[i].Bay, before[i].Present},
			[]any{after[i].Key, after[i].Bay, after[i].Present},
		)
	}
}

// inBrowser looks at both consoles in one browser, which has one drawer of cookies for all ports of a host.
func inBrowser(t *testing.T, d demo, r rehearsal) {
	truth := openBrowser(t, d.url)
	truth.do("sign in", chromedp.Navigate(d.link), chromedp.WaitVisible("main"))
	p := &browser{t: t, ctx: truth.ctx, axe: truth.axe, url: r.url}
	says := func(b *browser) string {
		return b.ask(`getComputedStyle(document.documentElement, "::before").content`)
	}
	p.open("/sign-in")
	require.Contains(t, says(p), "REHEARSAL")
	p.see("of the real service is not valid here")
	p.do("sign in", chromedp.Navigate(r.link), chromedp.WaitVisible("main"))
	id := get[[]api.Swap](r.shell, "swap", "list")[0].Id
	for _, path := range []string{"/", "/pools/soundscape", "/bays/skerry", "/swaps/" + id,
		"/swaps/" + id + "/record", "/swaps/" + id + "/card", "/nowhere"} {
		p.open(path)
		require.Contains(t, says(p), "soundscape", path)
		require.Contains(t, p.ask(`document.title`), "REHEARSAL")
		p.see("Rehearsal: soundscape as of")
	}
	p.open("/")
	p.clean("the round of a practice")
	truth.open("/")
	truth.see("need a hand")
	require.NotContains(t, says(truth), "REHEARSAL")
}
