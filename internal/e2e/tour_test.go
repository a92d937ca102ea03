package e2e

import (
	"regexp"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"

	"lantern/internal/api"
)

// TestTour goes through the seven scenes like a newcomer, using only the texts of the scenes.
func TestTour(t *testing.T) {
	d := startDemo(t, "--tour")
	b := openBrowser(t, d.url)
	link := regexp.MustCompile(`http://\S+once\?code=\S+`).FindString(d.process.said())
	require.Contains(t, link, "&tour=on")
	b.do("sign in", chromedp.Navigate(link), chromedp.WaitVisible("main"))
	in := func(words string) string {
		return `//aside[@aria-label="Tour"]//*[self::a or self::button][contains(., "` + words + `")]`
	}
	b.see("Scene 1 of 7: Read the evidence")
	b.clean("the tour")
	b.do("the drive", chromedp.Click(in("ZU006")))
	b.see("Scene 2 of 7: Find its bay")
	b.click("Light")
	b.see("Scene 3 of 7: Ask what it would cost")
	b.do("what if", chromedp.Click(in("Try without it")))
	b.see("Scene 4 of 7: Plan the swap, and begin it")
	// The new drive is put in by hand, not the spare: the tour's hands have something to do.
	d.run("swap", "plan", "ZU006", "--keep-spare")
	b.do("the swap", chromedp.Click(in("planned swap")))
	b.see("Pull ZU006")
	d.run("swap", "begin", "--reason", "the tour")
	b.see("Scene 5 of 7: Change the drive")
	b.click("Lab hand: pull the drive")
	b.see("Put in a new drive")
	b.click("Lab hand: put")
	key := await(
		t,
		"a new drive waits",
		func() string { return d.openSwap().New.Key },
		func(s string) bool { return s != "" },
	)
	tail := get[api.Drive](d.shell, "drive", key).Tail
	d.run("swap", "confirm", "--tail", tail, "--reason", "the tour")
	b.see("Scene 6 of 7: Confirm, and follow the recovery")
	b.do("faster", chromedp.Click(in("1200 times as fast")))
	d.run("lab", "speed", "9000")
	await(
		t,
		"the swap is closed",
		func() string { return b.text() },
		func(s string) bool { return strings.Contains(s, "Scene 7 of 7: Read the record") },
	)
	d.run("lab", "speed", "1")
	b.do("the record", chromedp.Click(in("the record")))
	b.see("That was the tour")
	b.do("end", chromedp.Click(in("End")))
	await(
		t,
		"it is gone",
		func() string { return b.ask(`String(!document.querySelector("aside[aria-label=Tour]"))`) },
		func(s string) bool { return s == "true" },
	)
}
