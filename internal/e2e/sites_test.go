package e2e

import (
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"
)

// TestSitesConsole: a headquarters in the browser. A site is invited on its page, shows in the round, and is reached by
// a link of the round, where its own people sign in and plan a swap; the audit of the site has it under their name.
func TestSitesConsole(t *testing.T) {
	listen, engine := freePort(t), freePort(t)
	hq := start(t, nil, "serve", "--headquarters", "--listen", listen, "--engine-listen", engine, "--data", t.TempDir())
	said := await(t, "the headquarters serves", hq.said, func(s string) bool { return strings.Contains(s, "lan-person-") })
	token := regexp.MustCompile(`lan-person-\w+`).FindString(said)
	b := openBrowser(t, "http://"+listen)
	b.do("sign in", chromedp.Navigate("http://"+listen+"/sign-in"),
		chromedp.SendKeys(`input[type=password]`, token+"\r"), chromedp.WaitVisible("header nav"))
	b.see("No site is connected")
	b.open("/sites")
	b.see("No site was invited")
	b.do("invite north", chromedp.SendKeys(`//label[contains(., "Name")]/input`, "north"))
	b.click("Invite")
	b.see("shown only once")
	secret := regexp.MustCompile(`lan-site-\w+`).FindString(b.text())
	require.NotEmpty(t, secret)
	file := filepath.Join(t.TempDir(), "north.secret")
	require.NoError(t, os.WriteFile(file, []byte(secret), 0o600))

	d := startDemo(t, "--site", "north", "--report-to", "nats://"+engine, "--site-secret-file", file)
	b.see("4 hosts")
	b.clean("sites")
	b.open("/")
	b.see("north: skerry/front/7")
	b.see("Look at north")
	b.clean("round of headquarters")
	b.click("Look at north")
	b.do("sign in at the site", chromedp.WaitVisible(`input[type=password]`))
	person := strings.TrimSpace(d.run("person", "add", "bo"))
	b.do("with a token of the site", chromedp.SendKeys(`input[type=password]`, person+"\r"),
		chromedp.WaitVisible("header nav"))
	b.see("All sites")
	b.see("ZU006 has 38 sectors")
	b.click("Plan a swap")
	b.see("Check before you start")
	await(t, "the site's audit has it", func() string { return d.run("audit") }, func(s string) bool {
		return regexp.MustCompile(`bo\b.*plan`).MatchString(s)
	})

	// The connection is cut: the data are shown with their date, and the site as not reachable.
	d.process.kill()
	b.open("/")
	b.see("not reachable: data is from")
	b.see("as of")
}
