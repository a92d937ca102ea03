package e2e

import (
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
	"github.com/stretchr/testify/require"

	"lantern/internal/api"
)

// TestConsoleWork does in the console what the command line does with pools, notices, channels, people, hosts and
// thresholds, and checks the results with the command line.
func TestConsoleWork(t *testing.T) {
	d := startDemo(t)
	b := openBrowser(t, d.url)
	b.do("sign in", chromedp.Navigate(d.link), chromedp.WaitVisible("main"))
	b.see("ZU006")
	unfold := func(title string) {
		t.Helper()
		b.do("unfold "+title, chromedp.Click(`//summary[b[normalize-space(.)="`+title+`"]]`))
	}
	press := func(in, button string) {
		t.Helper()
		b.do(
			"press "+button,
			chromedp.Click(`//details[summary/b[normalize-space(.)="`+in+`"]]//button[normalize-space(.)="`+button+`"]`),
		)
	}

	b.open("/pools/tidegauge")
	unfold("Priority")
	press("Priority", "Save these hours")
	await(t, "the hours are kept", func() api.Pool { return get[api.Pool](d.shell, "pool", "tidegauge") },
		func(p api.Pool) bool { return p.PriorityHours.From == "22:00" && p.PriorityHours.Otherwise == "low" })
	b.see("high from 22:00 to 06:00")
	unfold("Survives")
	press("Survives", "Look at every set")
	b.see(" sets: lost")
	unfold("Sizes that fit")
	b.see("6,001,174,511,616 bytes")
	b.clean("the work on a pool")

	b.open("/pools/soundscape")
	unfold("Campaign")
	b.do(
		"two drives",
		chromedp.Click(`//fieldset//label[contains(., "LM417")]//input`),
		chromedp.Click(`//fieldset//label[contains(., "LM422")]//input`),
	)
	b.see("lantern campaign plan soundscape LM417 LM422")
	press("Campaign", "Plan it: nothing is touched")
	b.see("Campaign in soundscape", "0 of 2 changed")
	b.click("Abandon the campaign")
	b.do(
		"a reason",
		chromedp.SendKeys(`//div[@role="dialog"]//textarea`, "only tried"),
		chromedp.Click(`//div[@role="dialog"]//button[normalize-space(.)="Abandon it"]`),
	)
	await(t, "it is abandoned", func() []api.Campaign { return get[[]api.Campaign](d.shell, "campaign", "list") },
		func(all []api.Campaign) bool { return len(all) == 1 && all[0].State == api.CampaignStateAbandoned })

	b.open("/notices")
	b.see("ZU006 has")
	b.do("mute", chromedp.Click(`//li[contains(., "ZU006 has")]//button[normalize-space(.)="Mute"]`),
		chromedp.SendKeys(`//li[contains(., "ZU006 has")]//input[contains(@placeholder, "Why")]`, "spare ordered"),
		chromedp.Click(`//li[contains(., "ZU006 has")]//button[contains(., "Mute, unless")]`))
	b.see("Muted until", "“spare ordered”")
	b.click("Set a channel")
	b.do("a channel", chromedp.SendKeys(`//label[span[normalize-space(.)="Name"]]/input`, "pager"),
		chromedp.SendKeys(`//label[span[normalize-space(.)="Address"]]/input`, "http://127.0.0.1:9/hook"),
		chromedp.SendKeys(`//label[span[contains(., "Secret")]]/input`, "0123456789abcdef0123456789abcdef"))
	b.click("Set it")
	await(t, "the channel is set", func() []api.Channel { return get[[]api.Channel](d.shell, "channel", "list") },
		func(all []api.Channel) bool { return len(all) == 1 && all[0].Name == "pager" && all[0].SecretSet })
	b.clean("notices with a channel")

	b.open("/people")
	b.do("somebody", chromedp.SendKeys(`//label[span[contains(., "Add somebody")]]/input`, "bo"))
	b.click("Add")
	b.see("The token of bo", "lan-person-")
	require.Len(t, get[[]api.Person](d.shell, "person", "list"), 2)
	b.clean("people, with a new token")

	b.open("/hosts")
	b.see("fulmar", "reports")
	b.do("cold", chromedp.Click(`//li[contains(., "guillemot")]//input[@type="checkbox"]`))
	await(
		t,
		"guillemot is changed cold",
		func() []api.Host { return get[[]api.Host](d.shell, "host", "list") },
		func(all []api.Host) bool {
			for _, h := range all {
				if h.Name == "guillemot" && h.Cold {
					return true
				}
			}
			return false
		},
	)
	b.clean("hosts")

	// A threshold says what it would flag before it is set.
	b.open("/rules")
	b.see("burst_sectors")
	b.do(
		"another value",
		chromedp.SendKeys(`//li[.//code[.="burst_sectors"]]//input[@inputmode="decimal"]`, kb.End+kb.Backspace+"2"),
	)
	b.see("of 79 drives would be flagged now", "ZU006")
	before := d.run("rule", "settings", "--columns", "threshold,value", "-o", "csv")
	require.Contains(t, before, "burst_sectors,8", "nothing was set yet")
	b.clean("a threshold before it is set")
	b.click("Leave it at 8")
	require.False(t, strings.Contains(b.text(), "would be flagged now"))

	// It can be set for the drives of one pool.
	b.do("another value",
		chromedp.SendKeys(`//li[.//code[.="burst_sectors"]]//input[@inputmode="decimal"]`, kb.End+kb.Backspace+"9"))
	b.fill(`li:has(input[type="range"]) select`, "pool:driftnet")
	b.do("set", chromedp.Click(`//li[.//code[.="burst_sectors"]]//button[normalize-space(.)="Set"][not(@disabled)]`))
	b.see("driftnet: 9")

	// Tests of every kind, for a pool at once.
	b.open("/tests")
	b.see("Test now")
	b.fill(`section[aria-labelledby="now"] select`, "pool:plankton")
	b.see("lantern selftest start --pool plankton --kind short")
	b.click("Start the test")
	runs := func() []api.TestRun { return get[[]api.TestRun](d.shell, "selftest", "show") }
	await(t, "tests of plankton are ordered", runs,
		func(all []api.TestRun) bool { return len(all) > 1 && all[0].Pool == "plankton" })
	b.see("Ordered tests")
	b.clean("tests that were ordered")
	b.open("/drives/CN261")
	b.click("Other tests")
	b.see("lantern selftest start CN261 --kind conveyance")

	// Lights are listed, all others of a section too, and switched off.
	b.open("/bays/skerry?bay=skerry/front/7")
	b.click("Light all others of its section")
	b.see("bays with a light")
	b.click("bays with a light")
	b.see("to show ZU006 by its dark bay")
	b.clean("bays that are lit")

	// One host is enrolled, and its token shown once.
	b.open("/hosts")
	b.do("its name", chromedp.SendKeys(`section[aria-labelledby="enrol"] input`, "gannet"))
	b.do("enrol", chromedp.Click(`//section[@aria-labelledby="enrol"]//button[normalize-space(.)="Enrol"]`))
	b.see("The token of gannet is shown only once", "LANTERN_HOST_TOKEN=")
	b.clean("a host that was enrolled")
}
