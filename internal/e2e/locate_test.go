package e2e

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"

	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/page"
	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
	"github.com/stretchr/testify/require"

	"lantern/internal/api"
)

// eyes waits until exactly one bay blinks that did not before, as eyes before the drives would see it.
func (d demo) eyes(t *testing.T, known map[string]bool) string {
	t.Helper()
	bays := await(
		t,
		"one bay blinks",
		func() []string { return get[[]string](d.shell, "lab", "eyes") },
		func(bays []string) bool {
			return len(bays) == 1 && !known[bays[0]]
		},
	)
	return bays[0]
}

// TestLocate: an enclosure that reports nothing is described and surveyed, and its drives are located by what a person
// would see; a dead drive is found because it does not blink; drives that change places make notices; a wrong drive is
// an alarm everywhere until it is back.
func TestLocate(t *testing.T) {
	d := startDemo(t)
	truth := map[string]string{} // where drives are, before the enclosure falls silent
	for _, sec := range get[api.BayMap](d.shell, "bays", "guillemot").Sections {
		for _, b := range sec.Bays {
			if b.Drive != "" && !b.Missing {
				truth[b.Address] = b.Tail
			}
		}
	}
	d.run("lab", "silence", "guillemot")
	await(
		t,
		"its drives have no bay",
		func() api.BayMap { return get[api.BayMap](d.shell, "bays", "guillemot") },
		func(m api.BayMap) bool { return len(m.Sections) == 0 },
	)
	d.refused("No enclosure of guillemot is described", "survey", "begin", "guillemot")

	// Impossible layouts are refused; a description can be exported and imported.
	file := filepath.Join(t.TempDir(), "shelf.yaml")
	for text, why := range map[string]string{
		"name: chassis\nsections: [{name: front, rows: 2, columns: 2, bays: {1: [1, 1], 2: [1, 1]}}]": "bays 1 and 2 are " +
			"at the same place",
		"name: chassis\nsections: [{name: front, rows: 2, columns: 2, bays: {1: [1, 1], 2: [3, 1]}}]": "bay 2 leaves the grid",
		"name: chassis\nsections: [{name: front, rows: 2, columns: 2, gaps: [[5, 5]]}]":               "leaves the grid",
		"name: chassis\nsections: [{name: front, rows: 2, columns: 2, names: {9: A9}}]":               "there is no such bay",
		"name: chassis\nsections: [{name: front, rowz: 2}]": "not a description of " +
			"an enclosure",
	} {
		require.NoError(t, os.WriteFile(file, []byte(text), 0o600))
		require.Contains(t, d.try("enclosure", "define", "guillemot", "--file", file).err, why)
	}
	d.run("enclosure", "define", "guillemot", "--rows", "4", "--columns", "4")
	exported := d.run("enclosure", "export", "guillemot")
	require.Contains(t, exported, "columns: 4")
	require.NoError(t, os.WriteFile(file, []byte(exported), 0o600))
	d.run("enclosure", "define", "guillemot", "--file", file)
	require.Equal(t, exported, d.run("enclosure", "export", "guillemot"))

	// The survey: the blinking bay is tapped. One half by lights, the rest by labels; it is interrupted once.
	d.run("survey", "begin", "guillemot")
	for n := 0; n < 4; n++ {
		bay := d.eyes(t, map[string]bool{})
		now := get[api.Survey](d.shell, "survey", "show", "guillemot").Now
		require.Equal(t, truth[bay], now.Tail, "the drive that blinks is the one that is asked for")
		if n == 2 {
			d.run("survey", "tap", "guillemot", "front/1") // a wrong tap
			back := get[api.Survey](d.shell, "survey", "back", "guillemot")
			require.Equal(t, now.Tail, back.Now.Tail)
			d.eyes(t, map[string]bool{})
		}
		d.run("survey", "tap", "guillemot", bay)
		await(
			t,
			"it falls dark",
			func() []string { return get[[]string](d.shell, "lab", "eyes") },
			func(b []string) bool { return len(b) == 0 || b[0] != bay },
		)
	}
	d.process.stop()
	d.begin(t)
	v := get[api.Survey](d.shell, "survey", "show", "guillemot")
	require.True(t, v.Open, "a walk survives a restart")
	require.Len(t, v.Done, 4)
	tails := []string{"survey", "read", "guillemot", "front/1"}
	for n := 1; n <= 16; n++ {
		tail := truth[fmt.Sprintf("guillemot/front/%d", n)]
		if tail == "" {
			tail = "-"
		}
		tails = append(tails, tail)
	}
	require.Contains(t, d.try(append(tails, "ZZ999")...).err, "front ends with bay 16")
	require.Contains(t, d.try("survey", "read", "guillemot", "front/1", "9").err, "read more characters")
	d.run(tails...)
	d.run("survey", "end", "guillemot")
	m := await(
		t,
		"every drive has its bay",
		func() api.BayMap { return get[api.BayMap](d.shell, "bays", "guillemot") },
		func(m api.BayMap) bool { return len(m.Sections) == 1 },
	)
	for _, b := range m.Sections[0].Bays {
		if want := truth[b.Address]; want != "" {
			require.Equal(t, want, b.Tail)
			require.Equal(t, api.BayHow("confirmed"), b.How)
		}
	}

	// A drive in a bay with a known port is a guess until somebody confirmed it.
	d.run("lab", "pull", "guillemot/front/14")
	fresh := get[api.LabMoved](d.shell, "lab", "insert", "guillemot/front/14")
	await(
		t,
		"its bay is guessed",
		func() string { return d.run("-o", "csv", "bays", "guillemot") },
		func(s string) bool { return strings.Contains(s, "guillemot/front/14,"+fresh.Tail) },
	)
	guess := get[api.Drive](d.shell, "drive", fresh.Tail)
	require.Equal(t, "guillemot/front/14", guess.Bay)
	require.Equal(t, "guessed", guess.BayHow)
	require.False(t, guess.BayConfirmed, "a guess is not for hands")
	d.run("enclosure", "confirm", "guillemot/front/14", fresh.Tail)
	require.True(t, get[api.Drive](d.shell, "drive", fresh.Tail).BayConfirmed)

	// A dead drive cannot blink; all others of its section do.
	d.refused("--all-but", "light", "on", "RL377")
	d.run("light", "on", "RL377", "--all-but", "--for", "5m")
	await(
		t,
		"all but it blink",
		func() []string { return get[[]string](d.shell, "lab", "eyes") },
		func(bays []string) bool {
			return len(bays) == len(truth) && !strings.Contains(strings.Join(bays, " "), "front/6")
		},
	)
	for _, l := range get[[]api.Light](d.shell, "light", "list") {
		d.run("light", "off", l.Bay)
	}
	await(
		t,
		"none blinks",
		func() []string { return get[[]string](d.shell, "lab", "eyes") },
		func(bays []string) bool { return len(bays) == 0 },
	)
	require.Contains(t, d.try("light", "on", "SU786", "--for", "30h").err, "1s to 24h")

	// Two drives change places.
	d.run("lab", "pull", "petrel/front/8")
	d.run("lab", "pull", "petrel/front/9")
	d.run("lab", "insert", "petrel/front/8", "--drive", "RG117")
	d.run("lab", "insert", "petrel/front/9", "--drive", "YM184")
	d.run("lab", "speed", "60") // after a restart, notices wait for a minute for the reports of hosts
	notices := func() string { return d.run("notices") }
	await(t, "it is told", notices, func(s string) bool { return strings.Contains(s, "changed places") })
	d.run("lab", "speed", "1")

	// The wrong drive is pulled while a swap waits for another: every channel gets the alarm, whatever its filter.
	var mu sync.Mutex
	var posted []string
	pager := httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
		body, _ := io.ReadAll(r.Body)
		mu.Lock()
		defer mu.Unlock()
		posted = append(posted, string(body))
	}))
	t.Cleanup(pager.Close)
	secret := filepath.Join(t.TempDir(), "secret")
	require.NoError(t, os.WriteFile(secret, []byte("a secret of at least some length"), 0o600))
	d.run("channel", "set", "pager", "--secret-file", secret, "--webhook", pager.URL, "--pool", "logbook")
	d.run("swap", "plan", "LM417")
	d.run("swap", "begin", "--reason", "a warning is understood", "--no-backup")
	// A person is at a terminal that waits for other input.
	path, err := binary()
	require.NoError(t, err)
	waiting := exec.CommandContext(t.Context(), path, "swap", "confirm")
	waiting.Env = append(os.Environ(), d.env...)
	keys, err := waiting.StdinPipe()
	require.NoError(t, err)
	screen := &lockedBuffer{}
	waiting.Stderr = screen
	require.NoError(t, waiting.Start())
	await(
		t,
		"it asks for a label",
		screen.String,
		func(s string) bool { return strings.Contains(s, "label tail of the drive") },
	)
	d.run("lab", "pull", "skerry/front/8")
	await(
		t,
		"the terminal that waits says it",
		screen.String,
		func(s string) bool { return strings.Contains(s, "STOP  Put XE932 back into skerry/front/8") },
	)
	_, err = io.WriteString(keys, "LM417\n")
	require.NoError(t, err)
	require.Error(t, waiting.Wait(), "nothing waits to be confirmed")
	await(t, "the alarm is raised", notices, func(s string) bool {
		return strings.Contains(s, "STOP") &&
			strings.Contains(s, "XE932 left skerry/front/8, and it is not the drive to pull (LM417)")
	})
	told := func() string { mu.Lock(); defer mu.Unlock(); return strings.Join(posted, "\n") }
	await(
		t,
		"the pager has it",
		told,
		func(s string) bool { return strings.Contains(s, "Put XE932 back into skerry/front/8, now") },
	)
	require.Contains(t, d.run("follow", "tidegauge", "--once"), "STOP  Put XE932 back into skerry/front/8")
	d.run("lab", "insert", "skerry/front/8", "--drive", "XE932")
	await(t, "the alarm is over", notices, func(s string) bool { return !strings.Contains(s, "STOP") })
	require.Contains(
		t,
		d.run("notices", "--all"),
		"XE932 left skerry/front/8, and it is not the drive to pull",
		"it stays on record",
	)
}

// lockedBuffer is what a running command has written so far.
type lockedBuffer struct {
	mu sync.Mutex
	b  bytes.Buffer
}

func (l *lockedBuffer) Write(p []byte) (int, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.b.Write(p)
}

func (l *lockedBuffer) String() string {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.b.String()
}

// TestLocateConsole: at the size of a phone, an enclosure is drawn and surveyed; a pull card is printed.
func TestLocateConsole(t *testing.T) {
	d := startDemo(t)
	b := openBrowser(t, d.url)
	b.do("sign in", chromedp.Navigate(d.link), chromedp.WaitVisible("main"))
	b.phone(true)
	d.run("lab", "silence", "guillemot")
	await(
		t,
		"it is silent",
		func() string { return d.run("bays", "guillemot") },
		func(s string) bool { return strings.Contains(s, "reports no bays") },
	)
	b.open("/bays/guillemot")
	b.click("Draw its enclosure")
	b.see("direction of the numbers")
	b.do("four columns", chromedp.SendKeys(`//label[contains(., "Columns")]/input`, kb.End+kb.Backspace+"4"))
	b.clean("an enclosure that is drawn")
	b.click("Add a section")
	b.see("rear")
	b.click("Take rear away")
	b.click("Save")
	b.click("Start a survey")
	b.click("Begin")
	for range 3 {
		b.see("three flashes, and a pause")
		bay := d.eyes(t, map[string]bool{})
		_, number, _ := strings.Cut(strings.TrimPrefix(bay, "guillemot/"), "/")
		button := fmt.Sprintf(`//button[span[1][normalize-space(.)=%q]][not(@disabled)]`, number)
		// The lab's strip at the bottom may cover it; a person would scroll.
		b.do("tap it", chromedp.WaitVisible(button))
		b.ask(
			fmt.Sprintf(
				`(() => { const e = document.evaluate(%q, document, null, 9, null).singleNodeValue; e.scrollIntoView({block: "center"}); e.click(); return "" })()`,
				button,
			),
		)
		await(
			t,
			"it falls dark",
			func() []string { return get[[]string](d.shell, "lab", "eyes") },
			func(x []string) bool { return len(x) == 0 || x[0] != bay },
		)
	}
	b.see("Keep 3 and end")
	b.clean("a walk")
	b.shot("survey-phone")
	b.click("Keep 3 and end")
	b.see("Stand in front of the drives")
	b.phone(false)
	b.open("/bays/skerry?layer=temperature")
	b.see("°C")
	b.clean("a layer of the map")

	d.run("swap", "plan", "LM417")
	w := get[[]api.Swap](d.shell, "swap", "list")[0]
	b.open("/swaps/" + w.Id)
	b.click("Pull card")
	b.see("on its label, at the end of the serial", "VR5LM417", "skerry / front /", "By hand")
	b.clean("a pull card")
	b.shot("pull-card")
	yes := true
	pdf, err := chromedp.Run(b.ctx, func(ctx context.Context, target *chromedp.Target) ([]byte, error) {
		res, err := cdp.Call(
			ctx,
			target,
			page.PrintToPDF,
			page.PrintToPDFParams{PrintBackground: &yes, PreferCSSPageSize: &yes},
		)
		return res.Data, err
	})
	require.NoError(t, err)
	require.Equal(t, "%PDF", string(pdf[:4]))
	gs, err := exec.LookPath("gs")
	if err != nil {
		fmt.Fprintln(
			os.Stderr,
			"\n*** SKIPPED: the pull card was printed, but not drawn again: gs is missing: apt-get install "+
				"ghostscript ***",
		)
		return
	}
	dir := t.TempDir()
	if to := os.Getenv("LANTERN_CARD"); to != "" {
		dir = to
	}
	require.NoError(t, os.WriteFile(filepath.Join(dir, "card.pdf"), pdf, 0o600))
	out, err := exec.Command(
		gs,
		"-q",
		"-dNOPAUSE",
		"-dBATCH",
		"-dSAFER",
		"-sDEVICE=pnggray",
		"-r60",
		"-o",
		filepath.Join(dir, "card-%d.png"),
		filepath.Join(dir, "card.pdf"),
	).CombinedOutput()
	require.NoError(t, err, string(out))
	pages, err := filepath.Glob(filepath.Join(dir, "card-*.png"))
	require.NoError(t, err)
	require.Len(t, pages, 1, "it fits one page")
}
