package e2e

import (
	"fmt"
	"strings"
	"sync"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"

	"lantern/internal/api"
)

// TestPeople: two people in two browsers and a script begin swaps in one pool at the same moment. One of them leads,
// and the others see who; the lead is handed over; and each has their own token, which can be removed.
func TestPeople(t *testing.T) {
	d := startDemo(t)
	a, b := openBrowser(t, d.url), openBrowser(t, d.url)
	a.do("sign in", chromedp.Navigate(d.link), chromedp.WaitVisible("main"))
	token := func(name string) string { return strings.TrimSpace(d.run("person", "add", name)) }
	bos := token("bo")
	b.do(
		"sign in",
		chromedp.Navigate(d.url+"/sign-in"),
		chromedp.SendKeys(`input[type=password]`, bos+"\r"),
		chromedp.WaitVisible("header nav"),
	)
	script := shell{t, append(d.env, "LANTERN_TOKEN="+token("night script"))}

	// Each person has a plan open, and begins.
	plans := map[string]api.Swap{}
	for who, tail := range map[string]string{"engineer": "ZU006", "bo": "LM417", "night script": "LM409"} {
		plans[who] = get[api.Swap](d.shell, "swap", "plan", tail)
	}
	for b, who := range map[*browser]string{a: "engineer", b: "bo"} {
		b.open("/swaps/" + plans[who].Id)
		b.see("Check before you start")
		if strings.Contains(b.text(), "eason to continue") {
			b.do("give a reason", chromedp.SendKeys(reasonField, "its turn"))
		}
	}
	var all sync.WaitGroup
	all.Go(func() { a.click("Begin the swap") })
	all.Go(func() { b.click("Begin the swap") })
	all.Go(func() { script.try("swap", "begin", plans["night script"].Id, "--reason", "its turn") })
	all.Wait()
	begun := await(t, "one has begun", func() (out []api.Swap) {
		for _, w := range get[[]api.Swap](d.shell, "swap", "list") {
			if w.Phase != api.SwapPhasePlanned {
				out = append(out, w)
			}
		}
		return out
	}, func(out []api.Swap) bool { return len(out) > 0 })
	require.Len(t, begun, 1, "one swap, not two")
	w := begun[0]
	lead := w.Lead
	for b, who := range map[*browser]string{a: "engineer", b: "bo"} {
		if who != lead {
			b.see("one is led by " + lead)
		}
	}
	if lead != "night script" {
		script.refused("led by "+lead, "swap", "begin", plans["night script"].Id, "--reason", "its turn")
	}

	// The others may look, and take over only with a reason.
	people := map[string]shell{
		"engineer":     d.shell,
		"bo":           {t, append(d.env, "LANTERN_TOKEN="+bos)},
		"night script": script,
	}
	other := map[string]string{"engineer": "bo", "bo": "engineer", "night script": "bo"}[lead]
	people[other].refused(lead+" leads this swap", "swap", "hold", w.Id, "--reason", "wait")
	people[other].refused("a reason is required", "swap", "lead", w.Id)
	require.Equal(t, 2, people[lead].try("swap", "lead", w.Id, "--to", "nobody-here").code)
	require.Contains(
		t,
		people[lead].try("swap", "lead", w.Id, "--to", "nobody-here").err,
		"Known people: bo, engineer, night script",
	)
	people[lead].run("swap", "lead", w.Id, "--to", other)
	for _, b := range []*browser{a, b} {
		b.open("/swaps/" + w.Id)
		b.see("led by "+other, fmt.Sprintf("handed the lead over to %s", other))
	}
	people[other].run("swap", "abandon", w.Id, "--reason", "enough")

	a.open("/people")
	a.see("Who changed what", "Open sessions", "bo")
	a.clean("people")

	// A revoked token is not accepted, nor are the sessions that were opened with it.
	d.refused("There is a Bo already", "person", "add", "Bo")
	people["bo"].refused("This needs the role admin", "person", "remove", "engineer")
	d.refused("You cannot remove your own", "person", "remove", "engineer")
	d.refused("Everybody renews only their own token", "person", "renew", "bo")
	require.NotEqual(t, bos, strings.TrimSpace(people["bo"].run("person", "renew", "bo")))
	require.Contains(t, people["bo"].try("round").err, "This token is not valid")
	b.open("/sign-in")
	b.do("look", chromedp.Navigate(d.url+"/"), chromedp.WaitVisible(`input[type=password]`))
	d.run("person", "remove", "bo")
	require.NotContains(t, d.run("person", "list"), "bo ")
	for _, name := range []string{"seen", "", "9 lives", strings.Repeat("x", 41)} {
		require.NotZero(t, d.try("person", "add", name).code, name)
	}
}
