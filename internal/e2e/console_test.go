package e2e

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/chromedp/cdproto/page"
	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
	"github.com/stretchr/testify/require"

	"lantern/internal/api"
)

// browser is a headless Chromium on the console.
type browser struct {
	t   testing.TB
	ctx context.Context
	axe string
	url string
}

func openBrowser(t testing.TB, url string, more ...chromedp.ExecAllocatorOption) *browser {
	t.Helper()
	path, err := exec.LookPath("chromium")
	if err != nil {
		fmt.Fprintln(
			os.Stderr,
			"\n*** SKIPPED: the console was not driven: chromium is missing: apt-get install chromium ***",
		)
		t.Skip("chromium is missing")
	}
	axe, err := os.ReadFile("../../web/node_modules/axe-core/axe.min.js")
	require.NoError(t, err, "run make build first")
	options := append(
		chromedp.DefaultExecAllocatorOptions[:],
		chromedp.ExecPath(path),
		chromedp.NoSandbox,
		chromedp.DisableGPU,
		chromedp.Flag(
			"disable-quic",
			true,
		),
		chromedp.Flag("disable-component-update", true),
		chromedp.Flag("force-prefers-reduced-motion", true),
		chromedp.WindowSize(1280, 800),
	)
	alloc, cancel := chromedp.NewExecAllocator(t.Context(), append(options, more...)...)
	t.Cleanup(cancel)
	ctx, cancel := chromedp.NewContext(alloc)
	t.Cleanup(cancel)
	b := &browser{t: t, ctx: ctx, axe: string(axe), url: url}
	require.NoError(t, chromedp.Do(ctx))
	// Leaving a page with unsent text needs a confirmation; here it is given.
	require.NoError(t, chromedp.Listen(ctx, func(ev any) {
		if asked, ok := ev.(*page.EventJavascriptDialogOpening); ok && asked.Type == page.DialogTypeBeforeunload {
			go func() {
				_, _ = chromedp.Call(ctx, page.HandleJavaScriptDialog, page.HandleJavaScriptDialogParams{Accept: true})
			}()
		}
	}))
	return b
}

func (b *browser) do(what string, steps ...chromedp.Action[chromedp.Void]) {
	b.t.Helper()
	ctx, cancel := context.WithTimeout(b.ctx, patience)
	defer cancel()
	if err := chromedp.Do(ctx, steps...); err != nil {
		require.NoError(b.t, err, "%s\nthe page said:\n%s", what, last(b.text(), 3000))
	}
}

func (b *browser) text() string {
	ctx, cancel := context.WithTimeout(b.ctx, 5*time.Second)
	defer cancel()
	s, _ := chromedp.Run(ctx, chromedp.Evaluate[string](`document.body.innerText`))
	return s
}

// ask gives what a script in the page gives.
func (b *browser) ask(script string) string {
	b.t.Helper()
	ctx, cancel := context.WithTimeout(b.ctx, patience)
	defer cancel()
	s, err := chromedp.Run(ctx, chromedp.Evaluate[string](script, chromedp.EvalAwaitPromise))
	require.NoError(b.t, err)
	return s
}

// see waits until the page says words.
func (b *browser) see(words ...string) {
	b.t.Helper()
	for _, w := range words {
		await(b.t, "the page says "+w, b.text, func(s string) bool { return strings.Contains(s, w) })
	}
}

// reasonField is where a person says why they continue although a check warns.
const reasonField = `//label[contains(., "Reason to continue anyway") or
	contains(., "Give a reason to continue")]/input`

// restScript scrolls an element into view, and waits until it does not move: charts that are drawn late move the
// elements below, and a person waits for that as well. Then it notes in window.pressed whether a click comes.
const restScript = `new Promise((done) => {
  const find = () => document.evaluate(%q, document, null, XPathResult.FIRST_ORDERED_NODE_TYPE, null).singleNodeValue;
  let was = "", calm = 0, looks = 0;
  find()?.scrollIntoView({ block: "nearest" });
  const look = () => {
    const r = find()?.getBoundingClientRect();
    const is = r ? [r.x, r.y, r.width, r.height].join() : "";
    calm = is && is === was ? calm + 1 : 0;
    was = is;
    if (calm >= 6 || ++looks > 300) {
      window.pressed = "not yet";
      const note = (e) => {
        window.clicked = e.target.outerHTML.slice(0, 300);
        if (find()?.contains(e.target)) window.pressed = "yes";
      };
      document.addEventListener("click", note, { capture: true });
      done(is);
    } else requestAnimationFrame(look);
  };
  look();
})`

// click presses the first button, link or option that says words.
func (b *browser) click(words string) {
	b.t.Helper()
	xpath := fmt.Sprintf(
		`//*[self::button or self::a or self::summary][contains(normalize-space(.), %q) or contains(@aria-label, %q)][not(@disabled)]`,
		words,
		words,
	)
	for try := 0; ; try++ {
		ctx, cancel := context.WithTimeout(b.ctx, patience)
		err := chromedp.Do(ctx, chromedp.WaitVisible(xpath))
		if err == nil {
			_, err = chromedp.Run(ctx, chromedp.Evaluate[string](fmt.Sprintf(restScript, xpath), chromedp.EvalAwaitPromise))
		}
		if err == nil {
			err = chromedp.Do(ctx, chromedp.Click(xpath))
		}
		if err == nil {
			var pressed string
			pressed, err = chromedp.Run(ctx, chromedp.Evaluate[string](`window.pressed ?? "another page"`))
			if err == nil && pressed == "not yet" {
				cancel()
				require.Less(b.t, try, 20, "click %s: no click came to it, but to %s\nthe page said:\n%s", words,
					b.ask(`String(window.clicked)`), last(b.text(), 3000))
				continue // the page moved between the look and the click; a person would click again
			}
		}
		cancel()
		if err != nil && strings.Contains(err.Error(), "Could not find node") && try < 5 {
			continue // it was drawn again between the look and the click
		}
		require.NoError(b.t, err, "click %s\nthe page said:\n%s", words, last(b.text(), 3000))
		return
	}
}

// fill puts a value into a field or a list, as somebody who types or chooses it. It waits until a list has the value:
// what can be chosen comes with an answer of the service.
func (b *browser) fill(selector, value string) {
	b.t.Helper()
	b.do(selector, chromedp.WaitVisible(selector))
	holds := func() string {
		return b.ask(fmt.Sprintf(`(() => {
			const e = document.querySelector(%q);
			if (!e) return "no such field";
			const list = e.tagName === "SELECT";
			if (list && ![...e.options].some((o) => o.value === %[2]q)) return "not to be chosen";
			const kind = list ? HTMLSelectElement : HTMLInputElement;
			Object.getOwnPropertyDescriptor(kind.prototype, "value").set.call(e, %[2]q);
			e.dispatchEvent(new Event(list ? "change" : "input", {bubbles: true}));
			return "filled";
		})()`, selector, value))
	}
	await(b.t, selector+" takes "+value, holds, func(said string) bool { return said == "filled" })
}

// open goes to a page.
func (b *browser) open(path string) {
	b.t.Helper()
	for try := 0; ; try++ {
		ctx, cancel := context.WithTimeout(b.ctx, patience)
		err := chromedp.Do(ctx, chromedp.Navigate(b.url+path), chromedp.WaitVisible("main"))
		cancel()
		if err != nil && strings.Contains(err.Error(), "ERR_ABORTED") && try < 5 {
			continue // the page changed by itself at the same moment, for example to the sign-in
		}
		require.NoError(b.t, err, "open %s\nthe page said:\n%s", path, last(b.text(), 3000))
		return
	}
}

// clean requires that axe-core finds nothing on the page, in both themes.
func (b *browser) clean(where string) {
	b.t.Helper()
	for _, theme := range []string{"night", "paper"} {
		b.ask(
			fmt.Sprintf(`document.documentElement.dataset.theme = %q; dispatchEvent(new Event("themed")); ""`, theme),
		)
		b.ask(b.axe + ";''")
		found := b.ask(
			`axe.run(document, {resultTypes: ["violations"]}).then(r => JSON.stringify(r.violations.map(v => v.id + ": " + v.help + " " + v.nodes.slice(0, 3).map(n => n.html.slice(0, 200) + " " + (n.failureSummary||"").slice(0, 240)).join(" | "))))`,
		)
		var violations []string
		require.NoError(b.t, json.Unmarshal([]byte(found), &violations))
		require.Empty(b.t, violations, "axe-core on %s, theme %s", where, theme)
	}
	b.ask(`document.documentElement.dataset.theme = "night"; dispatchEvent(new Event("themed")); ""`)
}

// shot keeps a picture, if pictures are asked for.
func (b *browser) shot(name string) {
	dir := os.Getenv("LANTERN_SHOTS")
	if dir == "" {
		return
	}
	b.ask(`document.fonts.ready.then(() => new Promise(r => setTimeout(() => r(""), 400)))`)
	png, err := chromedp.Run(b.ctx, chromedp.CaptureScreenshot())
	require.NoError(b.t, err)
	require.NoError(b.t, os.MkdirAll(dir, 0o755))
	require.NoError(b.t, os.WriteFile(filepath.Join(dir, name+".png"), png, 0o644))
}

func (b *browser) phone(on bool) {
	w, h := int64(1280), int64(800)
	if on {
		w, h = 390, 844
	}
	b.do("size", chromedp.EmulateViewport(w, h))
}

// TestConsole goes through the story in a browser: one failing drive, from its first sign to a healthy pool.
func TestConsole(t *testing.T) {
	d := startDemo(t)
	b := openBrowser(t, d.url)
	b.phone(false)
	round := d.settle()
	tail, bay := round.Lines[0].Tail, round.Lines[0].Bay

	// A sign-in is required; the link signs in once.
	b.open("/")
	b.see("Your token")
	b.clean("the sign-in page")
	b.ask(`localStorage.setItem("theme", "night"); ""`)
	b.do("sign in", chromedp.Navigate(d.link), chromedp.WaitVisible("main"))
	b.see(
		"drives need a hand",
		tail+" has",
		"sectors that cannot be read",
		"soundscape",
		"Under way",
		"tidegauge",
		"Filling up",
		"specimens",
	)
	b.clean("the round")
	b.shot("round")
	b.phone(true)
	b.shot("round-phone")
	b.phone(false)
	second := openBrowser(t, d.url)
	second.do("the link again", chromedp.Navigate(d.link), chromedp.WaitVisible("main"))
	second.see("used already")

	// The drive: its identity, its verdict with reasons, and the chart of the metric.
	b.click(tail + " has")
	b.see("since", "SMART attribute 197", "pending sectors", "group 1", bay, "without it: can lose 1 more drive")
	b.do("chart", chromedp.WaitVisible(".uplot canvas"))
	b.clean("the drive")
	b.shot("drive")

	// The light has an end, is shown on the map, and goes out by itself.
	b.click("Light the bay")
	b.see("lit until")
	b.click("Show on the map")
	b.see("Bays of skerry", "seen from where you stand", "lit until")
	b.clean("the bay map")
	b.shot("bays")
	d.run("lab", "speed", "300")
	await(t, "the light is out", b.text, func(s string) bool { return !strings.Contains(s, "lit until") })
	d.run("lab", "speed", "1")

	// The swap: checks, hands, the wrong drive, the wrong size, the label tail.
	b.click("Open the drive")
	b.click("Plan a swap")
	b.click("Do not use the spare")
	b.see(
		"Check before you start",
		"Margin without the drive",
		"now: can lose 2 more drives; without it: can lose 1 more drive",
		"looked at",
	)
	b.clean("the plan of a swap")
	b.do("give a reason", chromedp.SendKeys(reasonField, "LM417 comes next"))
	b.click("Begin the swap")
	b.see("Pull " + tail)
	d.run("lab", "pull", "skerry/front/9")
	b.see("Stop. Put", "skerry/front/9", "The swap waits until it is back")
	b.clean("the wrong-drive alarm")
	b.phone(true)
	b.shot("swap-wrong-drive-phone")
	b.phone(false)
	bays := get[api.BayMap](d.shell, "bays", "skerry")
	var wrong string
	for _, x := range bays.Sections[0].Bays {
		if x.Number == 9 {
			wrong = x.Tail
		}
	}
	d.run("lab", "insert", "skerry/front/9", "--drive", wrong)
	await(t, "the alarm is over", b.text, func(s string) bool { return !strings.Contains(s, "Stop. Put") })
	// The drive that was pulled by mistake is brought up to date; until then the old one must not be pulled.
	d.run("lab", "speed", "300")
	await(t, wrong+" is a full member again",
		func() string { return get[api.Drive](d.shell, "drive", wrong).State },
		func(state string) bool { return state == "online" })
	d.run("lab", "speed", "1")
	await(t, "the step asks for the old drive again", b.text, func(s string) bool {
		return strings.Contains(s, "Pull "+tail) && !strings.Contains(s, "Do not pull")
	})
	d.run("lab", "pull", bay)
	b.see("Put in a new drive")
	d.run("lab", "insert", bay, "--bytes", "2000398934016")
	b.see("was refused", "too small")
	d.run("lab", "pull", bay)
	fresh := get[api.LabMoved](d.shell, "lab", "insert", bay)
	b.see("Label tail of the drive you put in")
	w := d.awaitPhase(api.SwapPhaseConfirm)
	require.NotContains(t, b.text(), fresh.Tail, "who confirms must have read the label")
	const field = `//label[contains(., "Label tail")]//input`
	b.see("Test it first")
	b.do(
		"why it is not tested",
		chromedp.SendKeys(reasonField, "no time to test it"),
	)
	b.do("a wrong tail", chromedp.SendKeys(field, "QQ999"))
	b.click("Confirm and make")
	b.see("is not the label tail", "nothing was written")
	b.do("the right tail", chromedp.SendKeys(field, strings.ToLower(fresh.Tail)))
	b.click("Confirm and make")
	b.see("Wait for the recovery")

	// The recovery, live, until the pool is healthy and the swap closed as verified.
	d.run("lab", "speed", "300")
	await(t, "a range is shown", b.text, func(s string) bool { return strings.Contains(s, "The fan is an estimate") })
	await(t, "a third is done", d.openSwap, func(w api.Swap) bool { return w.Recovery.Share > 0.3 })
	d.run("lab", "speed", "1")
	b.clean("a swap that recovers")
	b.open("/recoveries/" + d.openSwap().Recovery.Id)
	b.see("The fan is an estimate", "esilver of", "If something fails meanwhile", "Priority: normal")
	b.clean("a recovery")
	b.shot("recovery")
	b.open("/swaps/" + w.Id)
	d.run("lab", "speed", "1200")
	b.see("Closed, verified", "Member in the pool")
	d.run("lab", "speed", "1")
	b.clean("a closed swap")
	b.click("It goes back under warranty")
	b.see("It goes back under warranty, says engineer")
	b.open("/swaps/" + w.Id + "/record")
	b.see("How long at which margin", "Checks when it began", "Why it was replaced", "rehearsal in a lab")
	b.clean("the record of a swap")
	b.shot("swap-record")
	b.open("/stock")
	b.see("Test it", "would fit in")
	require.Contains(t, d.run("accept", "policy", "--extended"), "the extended self-test")
	b.see("New drives are tested for their past, short self-test, extended self-test, error counters")
	b.click("New drives are tested for")
	b.clean("the stock")
	b.do("no extended one", chromedp.Click(`//label[contains(., "extended self-test")]`))
	b.click("Save")
	b.see("New drives are tested for their past, short self-test, error counters")
	require.NotContains(t, d.run("accept", "policy"), "extended")

	// Every other page, in both themes, and search by keyboard.
	for path, words := range map[string]string{"/drives": "every verdict", "/drives?verdict=replace": "replace",
		"/pools": "least margin first", "/pools/soundscape": "double parity",
		"/pools/specimens": "no redundancy", "/swaps": tail, "/recoveries": "resilver", "/notices": "Channels: where else " +
			"they are sent", "/rules": "Why drives are flagged", "/bays/guillemot?layer=pool": "Bays of guillemot",
		"/bays?room=boat%20shed": "petrel / front", "/inventory": "Tern & Daughter", "/hosts": "hosts for two hours",
		"/nothing": "No such page"} {
		b.open(path)
		b.see(words)
		b.clean(path)
	}
	// What people recorded about a drive is edited in place; what to buy, and how often drives fail.
	b.open("/inventory?where=state%3Dsent-back")
	b.see("never seen")
	b.click("what is known")
	b.click("All fields")
	b.do(
		"a field that was empty",
		chromedp.WaitVisible(`input[aria-label^="contract"]`),
		chromedp.SendKeys(`input[aria-label^="contract"]`, "C-7\r"),
	)
	await(t, "it is kept", func() string { return d.run("inventory", "--where", "contract=C-7", "--no-header") },
		func(s string) bool { return strings.Contains(s, "sent-back") })
	b.clean("a drive of the inventory")
	b.open("/reports")
	b.see("What to buy", "How often drives fail", "VELDRUN VR4-4000")
	b.clean("reports")
	b.shot("reports")
	// A notice is acknowledged with a note; a rule is tried on the past before it is saved.
	b.open("/notices")
	b.see("new notices", "filling up", "UN257 has a bad link")
	b.shot("notices")
	b.click("I saw it")
	b.do("a word for the others", chromedp.SendKeys(`form input`, "spare is on its way\r"))
	b.see("Seen by engineer", "spare is on its way")
	b.clean("a notice that was seen")
	b.open("/rules")
	b.see("Does not answer any more", "holds for")
	b.shot("rules")
	b.do("an expression", chromedp.SendKeys(`form input.font-mono`, "link_crc_errors_7d > 50\r"))
	b.see("It would have flagged 1 of", "UN257")
	b.clean("a rule that is tried")
	// A window of a plan is moved, its effect is shown, and then it is saved.
	d.run(
		"plan",
		"set",
		"soundscape-nights",
		"--pool",
		"soundscape",
		"--window",
		"Mon-Fri 20:00-08:00",
		"--bar",
		"daily 01:00-02:30",
		"--run-over",
	)
	b.open("/tests?week=2026-11-30&plan=soundscape-nights")
	b.see("Self-tests", "extended", "windows of", "soundscape-nights", "its newest extended self-test failed")
	b.do(
		"move where the window begins",
		chromedp.Focus(`[role=slider][aria-label="Window begins at 20:00"]`),
		chromedp.KeyEvent(kb.PageUp),
		chromedp.KeyEvent(kb.PageUp),
	)
	b.see("Mon-Fri 18:00-08:00")
	await(t, "what it does is worked out", b.text, func(s string) bool { return !strings.Contains(s, "working out") })
	b.clean("a window that is moved")
	b.click("Save")
	b.see("The plan soundscape-nights is saved")
	require.Contains(t, d.run("plan", "show", "soundscape-nights"), "Mon-Fri 18:00-08:00")
	b.shot("tests")
	b.open("/tests?view=month")
	b.see("month")
	b.clean("a month of tests")
	b.open("/pools")
	b.see("soundscape")
	b.open("/pools/soundscape")
	b.see("double parity")
	b.clean("a pool")
	// Clicks remove members, to show the state of the rest.
	b.open("/pools/specimens")
	b.click("What if")
	b.see("Click members to remove them")
	b.click("LV767")
	b.see("Data is lost", "thumbnails", "Room to drain")
	b.clean("what if")
	b.shot("pool")
	b.open("/drives")
	b.see("every verdict", "worst first", "RL377")
	b.open("/drives?where=link_crc_errors%3E0")
	b.see("1 drive", "UN257")
	b.clean("drives by what they say")
	b.open("/drives?where=nonsense")
	b.see("is not a comparison")
	b.click("Paper")
	b.open("/")
	b.see("drives need a hand")
	b.clean("the round on paper")
	b.click("Night")
	b.open("/drives")
	b.see("every verdict", "RL377")
	b.do(
		"open search",
		chromedp.KeyEvent("/"),
		chromedp.WaitVisible(`[role=combobox]`),
		chromedp.SendKeys(`[role=combobox]`, fresh.Tail),
	)
	b.see(fresh.Serial)
	b.clean("search")
	b.do("go", chromedp.KeyEvent("\r"))
	b.see("Course", fresh.Tail)
	// The weekday decides whether a plan tests the drive now.
	await(
		t,
		"its self-tests are shown",
		b.text,
		func(s string) bool { return strings.Contains(s, "Short test") || strings.Contains(s, "Stop the test") },
	)
	if strings.Contains(b.text(), "Stop the test") {
		b.click("Stop the test")
	}
	b.click("Short test")
	b.see("It tests itself", "Stop the test")
	b.clean("a drive that tests itself")

	// The service goes away and comes back: the console says so, and recovers by itself.
	d.process.stop()
	b.see("The connection is lost since")
	b.clean("a lost connection")
	d.begin(t)
	await(
		t,
		"the connection is back",
		b.text,
		func(s string) bool { return !strings.Contains(s, "The connection is lost") },
	)
	require.Equal(t, api.SwapPhaseClosed, d.openSwap().Phase)
}

// rough is a bad connection to a service: of what is said under a path, it loses so many requests on their way there,
// and then so many answers on their way back, and more until it is enough.
type rough struct {
	*httputil.ReverseProxy
	path            string
	requests, reply atomic.Int32
	received        atomic.Int32 // requests that reached the service
	enough          atomic.Bool  // until then no answer comes back
}

func (r *rough) ServeHTTP(w http.ResponseWriter, req *http.Request) {
	if req.Method != http.MethodPost || !strings.HasSuffix(req.URL.Path, r.path) {
		r.ReverseProxy.ServeHTTP(w, req)
		return
	}
	if r.requests.Add(-1) >= 0 {
		panic(http.ErrAbortHandler)
	}
	r.received.Add(1)
	if r.reply.Add(-1) >= 0 || !r.enough.Load() {
		r.ReverseProxy.ServeHTTP(httptest.NewRecorder(), req)
		panic(http.ErrAbortHandler)
	}
	r.ReverseProxy.ServeHTTP(w, req)
}

// TestSwapOnPhone does a swap at the rack, on a phone with a bad connection, from the round to its end.
func TestSwapOnPhone(t *testing.T) {
	d := startDemo(t)
	to, err := url.Parse(d.url)
	require.NoError(t, err)
	air := &rough{ReverseProxy: httputil.NewSingleHostReverseProxy(to), path: "/confirm"}
	air.requests.Store(4)
	air.reply.Store(6)
	front := httptest.NewServer(air)
	t.Cleanup(front.Close) // after the browser, which keeps a connection open
	b := openBrowser(t, front.URL)
	b.do("sign in", chromedp.Navigate(strings.Replace(d.link, d.url, front.URL, 1)), chromedp.WaitVisible("main"))
	const field = `//label[contains(., "Label tail")]//input`
	b.phone(true)
	b.open("/")
	b.click("LM417 failed")
	await(
		t,
		"its page is open",
		func() string { return b.ask(`location.pathname`) },
		func(at string) bool { return strings.HasPrefix(at, "/drives/") },
	)
	b.see("group 2", "Light the bay")
	b.click("Plan a swap")
	b.click("Do not use the spare")
	b.see("Check before you start", "skerry/front/12")
	b.clean("the plan of a swap on a phone")
	if strings.Contains(b.text(), "eason to continue") {
		b.do("give a reason", chromedp.SendKeys(reasonField, "its turn"))
	}
	b.click("Begin the swap")
	b.see("Pull LM417", "Bring", "You should see")
	b.click("Lab hand: pull")
	b.see("Put in a new drive")
	b.click("Lab hand: put a drive that fits")
	b.see("Label tail of the drive you put in", "That is what its label says")
	said := b.text()
	label := strings.Fields(said[:strings.Index(said, " is in skerry/front/12.")])
	b.see("Acceptance test of the new drive", "eason to continue")
	b.click("Close this message") // they cover what comes next
	b.click("Close this message")
	b.clean("a new drive without an acceptance test")
	b.shot("swap-confirm-phone")
	b.click("Test it first")
	b.see("is being tested, and not accepted yet", "A check stops this")
	d.run("lab", "speed", "300")
	await(t, "it has passed", b.text, func(s string) bool { return !strings.Contains(s, "A check stops this") })
	d.run("lab", "speed", "1")
	require.NotContains(t, b.text(), "eason to continue", "it was tested, so no reason is asked")
	b.do("the label tail", chromedp.SendKeys(field, label[len(label)-1]+"\r"))
	b.see("has no answer yet. It is sent again automatically")
	b.clean("a word that is not answered yet")
	air.enough.Store(true)
	b.see("Wait for the recovery")
	await(t, "its answer came", b.text, func(s string) bool { return !strings.Contains(s, "has no answer yet") })
	require.GreaterOrEqual(t, air.received.Load(), int32(7), "it was received many times")
	confirmed := 0
	for _, e := range d.openSwap().Log {
		if strings.Contains(e.Says, "confirmed") {
			confirmed++
		}
	}
	require.Equal(t, 1, confirmed, "and done once")
	d.run("swap", "hold", "--reason", "lunch")
	b.see("Held: lunch")
	b.clean("a swap that is held, on a phone")
	b.click("Go on with it")
	d.run("lab", "speed", "1200")
	b.see("Closed, verified", "soundscape is healthy", "Of the same batch", "LM409")
	d.run("lab", "speed", "1")
}
