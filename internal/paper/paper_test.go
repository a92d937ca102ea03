package paper

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/net/html"

	"lantern/internal/api"
)

// TestReport: a page is whole HTML, tells what the report tells, takes nothing from elsewhere, and a text of a device
// or of a person is nothing but text in it. Links are there only where there is a console to link to.
func TestReport(t *testing.T) {
	evil := `<script>alert(1)</script>"onload="x`
	at := time.Date(2026, 11, 29, 23, 30, 0, 0, time.UTC)
	r := api.PeriodReport{From: at.AddDate(0, -1, 0), To: at, WrittenAt: at, First: []string{"Buy 2 drives " + evil},
		Flagged: []api.PeriodFlag{
			{At: at, Drive: "wwn-" + evil, Tail: "ZU006", Place: evil, Verdict: api.Dead, Says: evil},
		},
		Swaps: []api.PeriodSwap{
			{Id: "01K", Pool: evil, Old: "ZU006", New: "XH001", Phase: "closed", EndedAt: at, Seconds: 3725},
			{Id: "02K", Pool: "plankton", Old: "KM297", New: "UN257", Phase: "closed", EndedAt: at, Site: "north/" + evil},
		},
		Capacity: []api.PeriodCapacity{
			{Pool: "soundscape", CapacityBytes: 56e12, UsedBytes: 40e12, Days: 90, Soonest: at, Likely: at,
				Ways: []api.CapacityWay{{Says: "another group like g", AddsBytes: 28e12}}},
			{Pool: "tidegauge", Stale: true, SeenAt: at, UsedUnknown: true},
			{Pool: "plankton", Ways: []api.CapacityWay{{Says: "a way that nobody needs"}}},
		},
		Money:    []api.PeriodMoney{{Currency: "EUR", Drives: 1, Sum: "249.90"}},
		Failures: api.Failures{Groups: []api.FailureRate{{Name: "OSSFELL OF-8T", High: 1e6}}}}
	for base, links := range map[string]bool{"": false, "https://lantern.example/storage": true} {
		page, err := Report(r, links, base, time.FixedZone("here", 3600))
		require.NoError(t, err)
		doc, err := html.Parse(strings.NewReader(page))
		require.NoError(t, err)
		var walk func(n *html.Node)
		walk = func(n *html.Node) {
			require.NotEqual(t, "script", n.Data)
			for _, a := range n.Attr {
				require.False(t, strings.HasPrefix(a.Key, "on") || a.Key == "src", "%s of %s", a.Key, n.Data)
				if a.Key == "href" {
					require.True(t, links && strings.HasPrefix(a.Val, base), a.Val)
				}
			}
			for c := range n.ChildNodes() {
				walk(c)
			}
		}
		walk(doc)
		require.Equal(t, links, strings.Contains(page, `href="https://lantern.example/storage/swaps/01K/record"`))
		require.Equal(t, links, strings.Contains(page, `href="https://lantern.example/storage/sites/north%2F%3Cscript`))
		require.Contains(t, page, "not reported now, as of 2026-11-30 00:30", "an old figure has its date")
		require.Contains(t, page, `<td class="n">unknown</td>`)
		for _, words := range []string{"2026-11-30 00:30", "1 h 02 min", "40 TB", "249.90 EUR", "any", "another group " +
			"like g</td><td class=\"n\">28 TB"} {
			require.Contains(t, page, words)
		}
		require.NotContains(t, page, "a way that nobody needs", "it is not foreseen to be full")
	}
}

// TestStory: in every form a text is nothing but text: it breaks no table, runs nothing, and shows as it is.
func TestStory(t *testing.T) {
	at := time.Date(2026, 11, 29, 3, 12, 0, 0, time.UTC)
	evil := "x | y\n# forged\n<script>alert(1)</script> **bold** [a](b)"
	s := api.Story{
		Title: evil,
		From:  at,
		To:    at.Add(time.Hour),
		Entries: []api.StoryEntry{{At: at, What: "observed", Who: evil, Says: evil},
			{At: at, Until: at.Add(time.Minute), What: "unknown", Says: "nothing is known of fulmar"}},
	}
	md := StoryMarkdown(s)
	rows := 0
	for line := range strings.Lines(md) {
		require.False(t, strings.HasPrefix(line, "# forged"))
		if strings.HasPrefix(line, "| 20") {
			rows++
			require.Equal(t, 5, strings.Count(strings.ReplaceAll(line, `\|`, ""), "|"), line)
		}
	}
	require.Equal(t, 2, rows)
	require.NotContains(t, md, "<script")
	require.Contains(t, md, "until 2026-11-29 03:13:00Z")
	page := StoryHTML(s)
	require.NotContains(t, page, "<script")
	require.Contains(t, page, `class="unknown"`)
	require.Contains(t, page, "2026-11-29 03:12:00Z")
}
