package e2e

import (
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"

	"lantern/internal/api"
)

// TestConsolePast looks at an earlier state in the console and on the command line: it is marked on every page, nothing
// can be changed there, and present alarms are still shown.
func TestConsolePast(t *testing.T) {
	d := startDemo(t)
	d.run("rename", "pool", "logbook", "tides")
	d.run("lab", "speed", "300")
	begun := get[api.Me](d.shell, "lab", "speed").Now
	await(t, "an hour has passed", func() time.Time { return get[api.Me](d.shell, "lab", "speed").Now },
		func(now time.Time) bool { return now.Sub(begun) > time.Hour })
	d.run("lab", "speed", "1")
	d.run("rename", "pool", "tides", "logbook")
	d.run("swap", "plan", "ZU006", "--keep-spare")
	d.run("swap", "begin", "--reason", "LM417 comes next")

	then := d.run("--at", "30m ago", "pools")
	require.Contains(t, then, "tides")
	require.NotContains(t, d.run("pools"), "tides")
	require.Contains(t, d.run("--at", "30m ago", "swap", "list"), "No swap")
	for args, says := range map[string]string{
		"--at|30m ago|light|on|ZU006": "nothing can be changed", "--at|tomorrow|round": "in the future",
		"--at|2 weeks ago|round": "is not a duration", "--at|30m ago|person|list": "cannot be asked as of",
	} {
		a := d.try(strings.Split(args, "|")...)
		require.NotZero(t, a.code, args)
		require.Contains(t, a.err, says, args)
	}

	b := openBrowser(t, d.url)
	b.do("sign in", chromedp.Navigate(d.link), chromedp.WaitVisible("main"))
	b.open("/pools")
	b.see("logbook")
	b.click("Earlier")
	b.see("What was known at", "kept from")
	b.click("10 min earlier")
	b.see("As it was known at", "Nothing can be changed here", "tides")
	b.clean("pools as they were known")
	b.shot("past")
	b.phone(true)
	b.shot("past-phone")
	b.phone(false)
	b.open("/swaps")
	b.see("As it was known at", "No swap was planned yet")
	b.open("/drives/ZU006")
	b.see("As it was known at")
	b.click("Light the bay")
	b.see("nothing can be changed")

	// A wrong drive is out now, whatever is looked at.
	d.run("lab", "pull", "skerry/front/8")
	b.see("Stop.", "Put XE932 back")
	d.run("lab", "insert", "skerry/front/8", "--drive", "XE932")
	await(t, "it is said no more", b.text, func(s string) bool { return !strings.Contains(s, "Put XE932 back") })
	b.click("Back to now")
	await(t, "it is now again", b.text, func(s string) bool { return !strings.Contains(s, "As it was known at") })
	b.open("/pools")
	b.see("logbook")
}
