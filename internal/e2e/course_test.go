package e2e

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/cdproto/input"
	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"

	"lantern/internal/api"
)

// drag moves the pressed mouse from one place of the page to another.
func (b *browser) drag(x0, y0, x1, y1 float64, more ...chromedp.MouseOption) {
	b.t.Helper()
	pressed := append([]chromedp.MouseOption{
		chromedp.ButtonLeft, func(p *input.DispatchMouseEventParams) { p.ClickCount = 1 },
	}, more...)
	b.do("drag",
		chromedp.MouseEvent("mouseMoved", x0, y0),
		chromedp.MouseEvent("mousePressed", x0, y0, pressed...),
		chromedp.MouseEvent("mouseMoved", (x0+x1)/2, y1, pressed...),
		chromedp.MouseEvent("mouseMoved", x1, y1, pressed...),
		chromedp.MouseEvent("mouseReleased", x1, y1, pressed...))
}

// shownScript gives the part of the time axis that each chart of the page shows, as the charts themselves say.
const shownScript = `JSON.stringify([...document.querySelectorAll("[data-shown]")].map((e) => e.dataset.shown))`

// TestCourse: keys, buttons and mouse select a part of the time for all charts of a drive; other drives and any metric
// can be added and are in the page's address; a person marks an event at its own time.
func TestCourse(t *testing.T) {
	d := startDemo(t)
	b := openBrowser(t, d.url)
	b.do("sign in", chromedp.Navigate(d.link), chromedp.WaitVisible("main"))
	b.open("/drives/ZU006")
	b.see("Course", "pending sectors")
	shown := func() string {
		var one string
		await(t, "all charts show the same part", func() string { return b.ask(shownScript) }, func(s string) bool {
			all := strings.Split(strings.Trim(s, "[]"), ",")
			one = all[0]
			for _, x := range all {
				if x != one {
					return false
				}
			}
			return len(all) > 1
		})
		return one
	}
	changes := func(was string) string {
		await(t, "another part is shown than "+was, shown, func(s string) bool { return s != was })
		return shown()
	}
	whole := shown()
	b.click("Zoom in")
	closer := changes(whole)
	b.click("Move back")
	earlier := changes(closer)
	b.click("Move on")
	require.Equal(t, closer, changes(earlier))
	b.click("Show all")
	require.Equal(t, whole, changes(closer))

	// By the mouse: dragging selects, dragging with Shift moves, a double click shows everything.
	b.ask(`document.querySelector("#course").scrollIntoView(); ""`)
	b.do("it is drawn", chromedp.WaitVisible(".u-over"))
	var x, y, w float64
	_, err := fmt.Sscanf(b.ask(`(() => {
		const r = document.querySelector(".u-over").getBoundingClientRect();
		return [r.x, r.y + r.height / 2, r.width].join(" ");
	})()`), "%f %f %f", &x, &y, &w)
	require.NoError(t, err)
	b.drag(x+w*0.3, y, x+w*0.6, y)
	chosen := changes(whole)
	b.drag(x+w*0.5, y, x+w*0.8, y, chromedp.ButtonModifiers(chromedp.ModifierShift))
	moved := changes(chosen)
	wide := func(part string) int64 {
		var from, to int64
		_, err := fmt.Sscanf(strings.Trim(part, `"`), "%d %d", &from, &to)
		require.NoError(t, err)
		return to - from
	}
	require.InDelta(t, wide(chosen), wide(moved), 2, "it is as wide as before")
	require.Less(t, wide(moved), wide(whole)/2)
	b.click("Show all")
	changes(moved)

	b.do("compare", chromedp.SendKeys(`//label[contains(., "Compare with")]/input`, "LM417"))
	b.click("Compare")
	await(t, "the charts say so", func() string {
		return b.ask(`document.querySelector("[data-shown]").getAttribute("aria-label")`)
	}, func(s string) bool { return strings.Contains(s, "ZU006, LM417") })
	b.click("All other data")
	b.click("power_cycles")
	b.see("power cycles")
	at := b.ask(`location.search`)
	require.Contains(t, at, "with=LM417")
	require.Contains(t, at, "metrics=power_cycles")
	b.clean("two drives in the same charts")

	// A person's own event, three days ago by the lab's clock.
	b.click("Mark an event")
	day := get[api.Lab](d.shell, "lab", "speed").Now.Add(-72 * time.Hour).Truncate(time.Minute)
	b.do("what", chromedp.SendKeys(`//label[contains(., "What happened")]/input`, "the rack was moved"))
	b.fill(`input[type="datetime-local"]`, day.Local().Format("2006-01-02T15:04"))
	b.do("mark", chromedp.Click(`//button[normalize-space(.)="Mark"]`))
	await(t, "it is on record", func() api.Drive { return get[api.Drive](d.shell, "drive", "ZU006") },
		func(v api.Drive) bool {
			for _, h := range v.Happened {
				if h.Kind == api.HappeningKindNote {
					return h.At.Equal(day) && strings.Contains(h.Says, "the rack was moved")
				}
			}
			return false
		})
	b.see("N note")
	require.Contains(t, d.run("inventory", "show", "ZU006"), "the rack was moved")
	require.Contains(t, d.try("inventory", "note", "ZU006", "x", "--happened", "tomorrow 10:00").err, "in the future")

	// The address shows the same to everybody.
	b.open("/drives/ZU006" + at)
	b.see("power cycles", "LM417")
}
