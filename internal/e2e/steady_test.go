package e2e

import (
	"fmt"
	"io"
	"net/http"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
	"github.com/stretchr/testify/require"

	"lantern/internal/api"
)

// TestSteadyConsole: after a restart of the service, the end of a session, and with a second tab, the person in the
// console keeps the page, the typed text and the alarm above it.
func TestSteadyConsole(t *testing.T) {
	d := startDemo(t)
	b := openBrowser(t, d.url)
	b.do("sign in", chromedp.Navigate(d.link), chromedp.WaitVisible("main"))
	b.see("ZU006")
	active := func() string {
		return b.ask(
			`(() => { const e = document.activeElement; return e.tagName + " " + (e.textContent || "").trim().slice(0, 60) })()`,
		)
	}

	// A page that was not loaded yet is opened while the service is down: the frame stays, and the page appears when it
	// is back.
	d.process.stop()
	b.ask(`[...document.querySelectorAll("nav a")].find(a => a.textContent === "Rules").click(); ""`)
	b.see("The connection is lost")
	require.Contains(t, b.text(), "Recoveries", "the frame is still there")
	d.begin(t)
	b.see("Why drives are flagged", "Thresholds")
	await(
		t,
		"the heading has the focus",
		active,
		func(s string) bool { return strings.HasPrefix(s, "H1 Why drives are flagged") },
	)
	require.Equal(t, "Why drives are flagged · Brave Lantern", b.ask(`document.title`))

	// The session ends while somebody types. They sign in over the page, and go on.
	b.do(
		"an expression",
		chromedp.SendKeys(`//input[contains(@placeholder, "pending_sectors_7d")]`, "pending_sectors > 30"),
	)
	sessions := get[[]api.OpenSession](d.shell, "person", "sessions")
	for _, s := range sessions {
		d.run("person", "end-session", s.Id)
	}
	// By its own click: the page may have learned of the end by itself, and has its dialog above the button then.
	b.ask(
		`[...document.querySelectorAll("button")].find((x) => x.textContent.includes("Try it on the last 90 days")).click(); ""`,
	)
	b.see("Your session has ended")
	require.Contains(
		t,
		b.ask(
			`document.querySelector("input.font-mono,input[placeholder*=pending]").value || document.querySelector("input[placeholder*=pending]").value`,
		),
		"pending_sectors > 30",
	)
	token := strings.TrimSpace(strings.Split(d.run("person", "renew"), "\n")[0])
	b.do(
		"sign in again",
		chromedp.SendKeys(`//div[@role="dialog"]//input`, token),
		chromedp.Click(`//div[@role="dialog"]//button`),
		chromedp.WaitNotPresent(`//div[@role="dialog"]`),
	)
	b.see("It would have flagged", "ZU006")
	require.Contains(
		t,
		b.ask(`document.querySelector("input[placeholder*=pending]").value`),
		"pending_sectors > 30",
		"what was typed is still there",
	)

	// A deep link comes back after the sign-in.
	other := openBrowser(t, d.url)
	other.open("/drives/skerry%2Ffront%2F7")
	other.see("Your token")
	other.do("sign in", chromedp.SendKeys(`//input[@type="password"]`, token+kb.Enter))
	other.see("ZU006 has 38 sectors")
	await(t, "the title names the drive", func() string { return other.ask(`document.title`) },
		func(s string) bool { return s == "ZU006 · Brave Lantern" })
	require.Contains(t, other.ask(`location.pathname`), "/drives/")

	// The keyboard: ? shows keys, g and a letter go to pages, / searches for several words and forgets them afterwards.
	b.do("keys", chromedp.KeyEvent("?"))
	b.see("these keys")
	b.do("away", chromedp.KeyEvent(kb.Escape))
	b.do("round", chromedp.KeyEvent("g"), chromedp.KeyEvent("r"))
	await(t, "the round", func() string { return b.ask(`location.pathname`) }, func(s string) bool { return s == "/" })
	for range 2 {
		b.do("search", chromedp.KeyEvent("/"), chromedp.WaitVisible(`//input[@role="combobox"]`),
			chromedp.SendKeys(`//input[@role="combobox"]`, "skerry 409"))
		b.see("LM409")
		b.do("away", chromedp.KeyEvent(kb.Escape))
	}

	d.shell.env = append(d.shell.env, "LANTERN_TOKEN="+token)

	// A second tab begins a swap that has already begun: it shows who began it and why.
	d.run("swap", "plan", "ZU006", "--keep-spare")
	w := d.openSwap()
	d.run("swap", "begin", "--reason", "LM417 comes next")
	req, err := http.NewRequest(
		http.MethodPost,
		d.url+"/api/v1/swaps/"+w.Id+"/begin",
		strings.NewReader(`{"reason":"I was here first"}`),
	)
	require.NoError(t, err)
	req.Header.Set("Authorization", "Bearer "+token)
	req.Header.Set("Content-Type", "application/json")
	res, err := http.DefaultClient.Do(req)
	require.NoError(t, err)
	defer res.Body.Close()
	require.Equal(t, 409, res.StatusCode)
	body := make([]byte, 2000)
	n, _ := res.Body.Read(body)
	require.Contains(t, string(body[:n]), "LM417 comes next")
	require.Contains(t, string(body[:n]), "Your reason was not recorded.")
	b.clean(fmt.Sprintf("the round at %s", d.url))

	// At the rack without a network: the swap and the bays are there, with the time at which they were so.
	b.open("/swaps/" + w.Id)
	b.see("Pull the drive with label tail ZU006")
	b.open("/bays/skerry")
	b.see("ZU006")
	await(t, "the worker keeps the page", func() string {
		return b.ask(`caches.open("answers-1").then(c => c.keys()).then(k => k.map(r => r.url).join(" "))`)
	}, func(s string) bool {
		return strings.Contains(s, "/hosts/skerry/bays") && strings.Contains(s, "/swaps/"+w.Id)
	})
	d.process.stop()
	b.open("/bays/skerry")
	b.see("ZU006", "What is shown was kept on this device")
	b.open("/swaps/" + w.Id)
	b.see("Pull the drive with label tail ZU006", "What is shown was kept on this device")
	d.begin(t)
	await(
		t,
		"the connection is back",
		b.text,
		func(s string) bool { return !strings.Contains(s, "The connection is lost") },
	)
	d.run("person", "sessions")
	b.ask(`fetch("/api/v1/session", {method: "DELETE"}).then(() => "")`)
	await(t, "with the session goes what was kept", func() string {
		return b.ask(
			`caches.has("answers-1").then(h => h ? caches.open("answers-1").then(c => c.keys()).then(k => k.map(r => r.url).join(" ")) : "")`,
		)
	}, func(s string) bool { return !strings.Contains(s, "/swaps/") })
}

// TestFirstSteps: an empty service never says that nothing needs a person; it leads to the first host, and marks the
// steps that are done.
func TestFirstSteps(t *testing.T) {
	listen := freePort(t)
	p := start(t, nil, "serve", "--listen", listen, "--data", t.TempDir())
	said := await(t, "the token", p.said, func(s string) bool { return strings.Contains(s, "lan-person-") })
	token := said[strings.Index(said, "lan-person-"):]
	token = strings.Fields(token)[0]
	b := openBrowser(t, "http://"+listen)
	b.open("/")
	b.see("Your token")
	b.do("sign in", chromedp.SendKeys(`//input[@type="password"]`, token+kb.Enter))
	b.see("Nothing is known yet", "Invite your hosts", "none is enrolled yet", "lantern host enrol skerry")
	for path, words := range map[string]string{"/reports": "No pool was reported yet",
		"/inventory": "No drive was reported",
		"/tests":     "no drive is known yet", "/hosts": "none enrolled yet", "/pools": "No pool was reported yet",
		"/stock": "No drive is in stock",
		"/bays":  "No host is enrolled yet", "/recoveries": "No recovery was seen yet",
		"/drives":  "No drive was reported yet",
		"/notices": "No new notices", "/swaps": "No swap was planned yet", "/rules": "Built-in rules", "/people": "You are"} {
		b.open(path)
		b.see(words)
	}
	b.open("/")
	b.see("Nothing is known yet")
	require.NotContains(t, b.text(), "Nothing needs a hand")
	b.clean("the first steps")
	s := shell{
		t,
		[]string{"LANTERN_CONFIG=", "HOME=" + t.TempDir(), "LANTERN_SERVER=http://" + listen, "LANTERN_TOKEN=" + token},
	}
	host := strings.TrimSpace(strings.Split(s.run("host", "enrol", "skerry"), "\n")[0])
	b.see("no report has come yet")
	require.NotContains(t, b.text(), "Nothing needs a hand")
	require.NotContains(t, s.run("round"), "Nothing needs a hand")
	req, err := http.NewRequest(http.MethodPost, "http://"+listen+"/api/v1/agent/reports", strings.NewReader(
		`{"id":"01J9ZQ3V0K8T7M5N2P4R6S8W1X","host":"skerry","at":"`+b.ask(
			`new Date().toISOString()`,
		)+`","interval_seconds":30,"drives":[],"pools":[],"enclosures":[]}`,
	))
	require.NoError(t, err)
	req.Header.Set("Authorization", "Bearer "+host)
	req.Header.Set("Content-Type", "application/json")
	res, err := http.DefaultClient.Do(req)
	require.NoError(t, err)
	defer res.Body.Close()
	answer, _ := io.ReadAll(res.Body)
	require.Less(t, res.StatusCode, 300, "%s", answer)
	b.see("No drive is known")
	require.NotContains(t, b.text(), "Nothing needs a hand", "of no drive nothing can be said")
	require.NotContains(t, s.run("round"), "Nothing needs a hand")
	require.Equal(t, 5, s.try("round", "--exit-code").code)
}
