package e2e

import (
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"
)

// TestCompareConsole: two chosen recoveries are shown side by side, under an address that can be shared.
func TestCompareConsole(t *testing.T) {
	d := startDemo(t)
	b := openBrowser(t, d.url)
	b.do("sign in", chromedp.Navigate(d.link), chromedp.WaitVisible("main"))
	b.open("/recoveries")
	b.see("Choose two to 4 to compare them")
	box := func(n int) chromedp.Action[chromedp.Void] {
		return chromedp.Click(`(//main//li//input[@type="checkbox"])[` + string(rune('0'+n)) + `]`)
	}
	b.do("choose one", box(1))
	b.see("Choose one more")
	b.do("choose another", box(2), chromedp.WaitVisible(`section[aria-label="Compared"] polyline`))
	b.see("mean rate", "lantern recoveries compare ")
	b.clean("two recoveries compared")
	b.shot("compare")
	at := b.ask(`location.pathname + location.search`)
	b.open(at)
	b.see("mean rate")
	require.Equal(t, "2", b.ask(`String(document.querySelectorAll("section[aria-label=Compared] polyline").length)`))
	b.do("not that one", box(1))
	b.see("Choose one more")
}
