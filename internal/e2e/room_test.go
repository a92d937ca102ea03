package e2e

import (
	"encoding/json"
	"fmt"
	"net/url"
	"slices"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"

	"lantern/internal/api"
)

// frames scrolls through a page from its top on for two seconds, at 5,000 pixels a second, and gives the times between
// frames in order of length, in milliseconds.
const frames = `(async () => {
  const times = []; let last = performance.now(); const begin = last;
  const end = () => document.documentElement.scrollHeight - innerHeight;
  for (;;) {
    await new Promise(requestAnimationFrame);
    const now = performance.now(); times.push(now - last); last = now;
    if (now - begin > 2000) break;
    scrollTo({ top: Math.min(end(), 5 * (now - begin)), behavior: "instant" });
  }
  return JSON.stringify(times.sort((a, b) => a - b));
})()`

// layer changes what the map shows, and gives the milliseconds until that is drawn.
const layer = `(async () => {
  const b = [...document.querySelectorAll("[role=radio]")].find((x) => x.textContent === %q);
  const begin = performance.now(); b.click();
  await new Promise(requestAnimationFrame); await new Promise(requestAnimationFrame);
  return JSON.stringify([performance.now() - begin]);
})()`

// BenchmarkRoom draws rooms of about 1,000 and 2,000 bays in a browser, scrolls through them and changes their layer.
func BenchmarkRoom(b *testing.B) {
	for _, hosts := range []int{18, 35} {
		b.Run(fmt.Sprintf("bays=%d", (hosts-1)*60), func(b *testing.B) { benchmarkRoom(b, hosts) })
	}
}

func benchmarkRoom(b *testing.B, hosts int) {
	const room = "annex hall 1"
	d := demo{data: b.TempDir(), listen: freePort(b)}
	d.begin(b, "--drives", fmt.Sprint(100+60*hosts))
	inAnnex := func() (names []string) {
		for _, h := range get[[]api.Host](d.shell, "hosts") {
			if strings.HasPrefix(h.Room, "annex hall") && h.Drives > 0 {
				names = append(names, h.Name)
			}
		}
		return names
	}
	// One of them has no power.
	names := await(b, "the hosts of the annex have reported", inAnnex, func(n []string) bool { return len(n) >= hosts-1 })
	for _, name := range names {
		d.run("host", "room", name, room)
	}
	slices.Sort(names)
	page := openBrowser(b, d.url)
	page.phone(false)
	page.do("sign in", chromedp.Navigate(d.link), chromedp.WaitVisible("main"))
	page.open("/bays?room=" + url.PathEscape(room))
	page.see(names[0] + " / front")
	measure := func(script string) (ms []float64) {
		require.NoError(b, json.Unmarshal([]byte(page.ask(script)), &ms))
		return ms
	}
	page.ask(`(async () => { // every host is requested once it is near
		for (let y = 0; y < document.documentElement.scrollHeight; y += 600) {
			scrollTo({ top: y, behavior: "instant" });
			await new Promise((r) => setTimeout(r, 40));
		}
		return "";
	})()`)
	page.see(names[len(names)-1] + " / rear")
	var median, late, longest, change float64
	for b.Loop() {
		ms := measure(frames)
		median, late, longest = ms[len(ms)/2], ms[len(ms)*95/100], ms[len(ms)-1]
		change = max(measure(fmt.Sprintf(layer, "temperature"))[0], measure(fmt.Sprintf(layer, "test age"))[0])
	}
	b.ReportMetric(0, "ns/op")
	b.ReportMetric(median, "ms/median-frame")
	b.ReportMetric(late, "ms/p95-frame")
	b.ReportMetric(longest, "ms/longest-frame")
	b.ReportMetric(change, "ms/layer")
}
