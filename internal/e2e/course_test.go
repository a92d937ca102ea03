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

// span is a part of the time axis, in Unix seconds.
type span struct{ from, to int64 }

// like tells if a and b are the same part. "Everything" ends now and moves on while the test runs, by minutes; each
// step of the test changes the part by days.
func (a span) like(b span) bool {
	const minutes = 30 * 60
	near := func(x, y int64) bool { return max(x, y)-min(x, y) <= minutes }
	return near(a.from, b.from) && near(a.to, b.to)
}

// TestCourse: keys, buttons and mouse select a part of the time for all charts of a drive; other drives and any metric
// can be added and are in the page's address; a person marks an event at its own time.
func TestCourse(t *testing.T) {
	d := startDemo(t)
	b := openBrowser(t, d.url)
	b.do("sign in", chromedp.Navigate(d.link), chromedp.WaitVisible("main"))
	b.open("/drives/ZU006")
	b.see("Course", "pending sectors")
	shown := func() span {
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
		var s span
		_, err := fmt.Sscanf(strings.Trim(one, `"`), "%d %d", &s.from, &s.to)
		require.NoError(t, err)
		return s
	}
	changes := func(was span) span {
		return await(t, fmt.Sprintf("another part is shown than %v", was), shown, func(s span) bool { return !s.like(was) })
	}
	whole := shown()
	b.click("Zoom in")
	closer := changes(whole)
	b.click("Move back")
	earlier := changes(closer)
	b.click("Move on")
	require.Equal(t, closer, changes(earlier), "a part that was chosen does not move")
	b.click("Show all")
	all := changes(closer)
	require.True(t, all.like(whole), "%v is everything, it was %v", all, whole)

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
	require.InDelta(t, chosen.to-chosen.from, moved.to-moved.from, 2, "it is as wide as before")
	require.Less(t, moved.to-moved.from, (whole.to-whole.from)/2)
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
