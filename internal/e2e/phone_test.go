package e2e

import (
	"encoding/json"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"

	"lantern/internal/api"
)

// outside names what a hand cannot reach on the page: fields and buttons beyond the edge of the screen, unless what
// they are in can be scrolled, and the name of the page in the navigation.
const outside = `(() => {
  const bad = [], beyond = (e, left, right) => {
    const r = e.getBoundingClientRect();
    return r.width > 0 && (r.left < left - 1 || r.right > right + 1);
  };
  for (const e of document.querySelectorAll("button, a.button, summary, select, input, textarea")) {
    let scrolls = false;
    for (let p = e.parentElement; p; p = p.parentElement)
      scrolls ||= ["auto", "scroll"].includes(getComputedStyle(p).overflowX) && p.scrollWidth > p.clientWidth;
    if (!scrolls && beyond(e, 0, innerWidth)) bad.push(e.textContent || e.getAttribute("aria-label") || e.outerHTML);
  }
  if (document.querySelector("[aria-label=loading]") || !document.querySelector("main h1")) bad.push("it loads");
  const nav = document.querySelector("nav[aria-label=Pages]"), name = nav.querySelector("[aria-current=page]");
  const r = nav.getBoundingClientRect();
  if (name && beyond(name, r.left, r.right)) bad.push("the name of the page: " + name.textContent);
  if (document.documentElement.scrollWidth > innerWidth) bad.push("the page is wider than the screen");
  return JSON.stringify(bad);
})()`

// TestPhone: on a phone, everything that can be pressed on every page is within the screen, and the navigation shows
// the name of the page.
func TestPhone(t *testing.T) {
	d := startDemo(t)
	b := openBrowser(t, d.url)
	b.phone(true)
	b.do("sign in", chromedp.Navigate(d.link), chromedp.WaitVisible("main"))
	d.settle()
	d.run("swap", "plan", "LM417")
	swap := get[[]api.Swap](d.shell, "swap", "list")[0]
	recovery := get[[]api.Recovery](d.shell, "recoveries")[0]
	for _, page := range []string{"/", "/notices", "/drives", "/drives/ZU006", "/drives/KM297", "/bays", "/bays/skerry",
		"/hosts", "/bays/petrel/survey", "/pools", "/pools/plankton", "/pools/driftnet", "/tests", "/swaps",
		"/swaps/" + swap.Id, "/swaps/" + swap.Id + "/card", "/stock", "/inventory", "/reports", "/recoveries",
		"/recoveries/" + recovery.Id, "/story/drive/ZU006", "/rules", "/people"} {
		b.open(page)
		await(t, page+" fits", func() (bad []string) {
			require.NoError(t, json.Unmarshal([]byte(b.ask(outside)), &bad))
			return bad
		}, func(bad []string) bool { return len(bad) == 0 })
	}
}
