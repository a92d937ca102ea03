package e2e

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
	"github.com/stretchr/testify/require"

	"lantern/internal/api"
)

// TestConsoleKeeping keeps the records in order in the console: names, stock, stories, the inventory of many drives, a
// calendar's address, people and hosts that go; and checks the results with the command line.
func TestConsoleKeeping(t *testing.T) {
	d := startDemo(t)
	b := openBrowser(t, d.url)
	b.do("sign in", chromedp.Navigate(d.link), chromedp.WaitVisible("main"))
	b.see("ZU006")

	// A pool gets another name, and is found by it everywhere; giving it the reported name removes the other one.
	name := `//section[h2[normalize-space(.)="Name and past"]]//input`
	rename := func(to string) {
		t.Helper()
		b.do(
			"another name",
			chromedp.WaitVisible(name),
			chromedp.SendKeys(name, kb.End+strings.Repeat(kb.Backspace, 30)+to),
		)
		b.click("Rename")
		b.see("is called " + to)
	}
	b.open("/pools/soundscape")
	rename("hydrophones")
	b.see("Also called soundscape")
	require.Contains(t, d.run("drive", "ZU006"), "hydrophones")
	require.Contains(t, d.run("recoveries", "--pool", "hydrophones"), "scrub", "those of before are its own")
	b.clean("a pool with another name")
	b.click("Report on")
	b.see("Report on the pool hydrophones", "renamed the pool soundscape to hydrophones")
	b.clean("what happened to a pool")
	b.shot("story")
	b.click("Back to the pool")
	b.see("Name and past")
	rename("soundscape")
	require.Contains(t, d.run("pool", "soundscape"), "soundscape")

	// A drive on the bench is kept in stock, and taken out again.
	b.open("/drives/GA301")
	b.see("Counts as stock")
	b.do("a note", chromedp.SendKeys(`input[aria-label="Note for the stock"]`, "shelf 3"))
	b.click("Add to stock")
	b.see("In stock: shelf 3")
	require.Contains(t, d.run("stock"), "shelf 3")
	b.click("Remove from stock")
	b.see("Counts as stock")
	b.clean("a drive that is not in stock")

	// Many purchases are imported from a table; one wrong row stops the whole import, and the row is named.
	dir := t.TempDir()
	file := func(text string) string {
		path := filepath.Join(dir, "bought.csv")
		require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
		return path
	}
	b.open("/inventory")
	b.click("Many drives at once")
	upload := func(text string) {
		b.do("a file", chromedp.SetUploadFiles(`input[type=file]`, []string{file(text)}))
	}
	upload("drive,suplier\nZU006,Kelp\n")
	b.see(`No field is named "suplier"`, "Nothing was written")
	upload("drive,supplier\nZU006,Kelp\nNOSUCH9,Kelp\n")
	b.click("Show what 2 rows of bought.csv would change")
	b.see("1 of 2 rows cannot be imported", "line 3, NOSUCH9")
	upload("drive,supplier,asset\nZU006,\"Kelp, Sons\",A-1\nLM417,Kelp,\n")
	b.click("Show what 2 rows of bought.csv would change")
	b.see("Kelp, Sons")
	require.NotContains(t, d.run("inventory", "export"), "Kelp, Sons", "nothing was written yet")
	b.clean("what an import would change")
	b.shot("import")
	b.click("Write ")
	b.see("fields of 2 drives were written")
	require.Contains(t, d.run("inventory", "export"), `"Kelp, Sons"`)

	// A field of several drives, and a note about them, are written at once: it is shown first, and nothing is written
	// if one cannot.
	choose := func(tails ...string) {
		for _, tail := range tails {
			b.do(tail, chromedp.WaitVisible(fmt.Sprintf(`input[aria-label^="Choose "][aria-label$="%s"]`, tail)))
			b.ask(fmt.Sprintf(`document.querySelector('input[aria-label^="Choose "][aria-label$="%s"]').click(); ""`, tail))
		}
		b.see(fmt.Sprintf("%d drives chosen", len(tails)))
	}
	write := func(what, value string) {
		b.fill(`select[aria-label="What is written"]`, what)
		b.fill(`input[aria-label="Its value for all of them"]`, value)
		b.click("Show what would change")
	}
	b.open("/inventory")
	choose("ZU006", "LM417")
	write("price", "a lot")
	b.see("2 of 2 rows cannot be imported")
	write("price", "310.50")
	b.see("310.50")
	b.clean("a field of two drives")
	b.shot("many")
	b.click("Write ")
	b.see("Saved for 2 drives")
	choose("ZU006", "LM417")
	write("note", "of the batch that rattles")
	b.see("of the batch that rattles")
	b.click("Write ")
	b.see("Saved for 2 drives")
	for _, tail := range []string{"ZU006", "LM417"} {
		of := d.run("inventory", "show", tail)
		require.Contains(t, of, "310.50")
		require.Contains(t, of, "of the batch that rattles")
	}

	// The forecast of full pools names what would add space.
	b.open("/reports")
	b.see("When pools are full", "another group like group 1: 9 drives of 4 TB", "What more drives would give is not "+
		"known")
	b.fill(`section[aria-label="When pools are full"] select`, "16")
	b.see("18 drives of 16 TB in place of smaller ones", "lantern capacity --size 16TB")
	b.clean("when pools are full")
	b.shot("capacity")

	b.open("/tests")
	b.click("Make an address")
	b.see("/calendar/")
	b.click("End mine")
	b.see("Your address is removed")

	// People are removed; the audit is verified.
	d.run("person", "add", "bo")
	b.open("/people")
	b.click("Remove bo")
	b.see("bo is removed")
	require.Len(t, get[[]api.Person](d.shell, "person", "list"), 1)
	b.click("Verify that none was changed")
	b.see("Newest entry:")
	b.clean("people, with the audit checked")

	// An invitation is withdrawn; the layout of an enclosure is removed; a host that does not report is retired.
	// A management controller is added, and its settings are sent to the agent; nothing is at that address here.
	b.open("/hosts")
	b.click("Name, enclosures and report")
	b.click("Add a management controller")
	b.fill(`input[type=url]`, "https://127.0.0.1:9")
	b.do("its user", chromedp.SendKeys(`//label[contains(., "User")]/input`, "lantern"))
	b.fill(`input[type=password]`, "a secret of its own")
	b.clean("a management controller that is not kept yet")
	b.do("keep it", chromedp.Click(`//form[.//input[@type="password"]]//button[contains(., "Keep")]`))
	b.see("Management controller https://127.0.0.1:9, as lantern")
	d.run("lab", "speed", "60") // its agent gets them with its next report
	b.see("connection refused")
	d.run("lab", "speed", "1")
	require.NotContains(t, d.run("audit", "list", "-o", "json"), "a secret of its own")
	b.click("Remove the controller")
	b.see("no longer asks a management controller")
	b.open("/hosts")
	b.click("Make a code")
	b.see("This code is shown only now")
	b.click("Withdraw it")
	b.see("The invitation is withdrawn")
	unfold := func(host string) {
		t.Helper()
		b.do("unfold "+host, chromedp.Click(`//li[.//a[normalize-space(.)="`+host+`"]]//summary`))
	}
	unfold("guillemot")
	b.see("What happened on guillemot")
	b.clean("a host, unfolded")
	b.shot("host")
	d.run("lab", "speed", "60")
	d.run("lab", "power", "petrel", "off")
	await(t, "petrel is silent", func() []api.Host { return get[[]api.Host](d.shell, "host", "list") },
		func(all []api.Host) bool {
			return slices.ContainsFunc(
				all,
				func(h api.Host) bool { return h.Name == "petrel" && h.State == api.HostStateQuiet },
			)
		})
	d.run("lab", "speed", "1")
	b.open("/hosts")
	b.click("Retire petrel")
	b.do("a reason", chromedp.SendKeys(`//div[@role="dialog"]//textarea`, "sold"),
		chromedp.Click(`//div[@role="dialog"]//button[normalize-space(.)="Retire petrel"]`))
	b.see("petrel is retired")
	require.NotContains(t, d.run("host", "list", "--columns", "host"), "petrel")
}
