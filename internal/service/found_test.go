package service

import (
	"errors"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lantern/internal/api"
	"lantern/internal/service/readings"
)

// TestSurvey: drives whose enclosure reports nothing are found one by one; each blinks in its turn, results survive a
// restart, and leaving the survey removes them.
func TestSurvey(t *testing.T) {
	b := newBench(t)
	for i := range b.drives {
		b.drives[i].Section, b.drives[i].Bay, b.drives[i].Port = "", 0, "port"+b.drives[i].Path
	}
	b.report()
	act := func(kind api.SurveyActAct, bay string, tails ...string) (api.Survey, error) {
		return b.s.Bays.ActOnSurvey("ida", "fulmar", api.SurveyAct{Act: kind, Bay: bay, Tails: tails})
	}
	_, err := act(api.Tap, "fulmar/cage/1")
	b.problem(err, "no-survey", "No survey is running")
	_, err = act(api.Begin, "")
	b.problem(err, "no-layout", "No enclosure of fulmar is described")
	layout := api.Layout{Name: "cage", Sections: []api.LayoutSection{{Name: "cage", Rows: 1, Columns: 4}}}
	_, err = b.s.Bays.SetLayout("ida", "fulmar", layout)
	require.NoError(t, err)
	v, err := act(api.Begin, "")
	require.NoError(t, err)
	require.Equal(t, 3, v.Left)
	_, err = act(api.Begin, "")
	b.problem(err, "survey-open", "ida has been surveying fulmar")

	lit := func() (tails []string) {
		for _, l := range b.s.Bays.Lights() {
			if l.State != api.LightStateGoing {
				tails = append(tails, l.Tail)
			}
		}
		return tails
	}
	require.Equal(t, []string{v.Now.Tail}, lit(), "the one that is looked for is lit")
	first := v.Now.Tail
	for bay, words := range map[string]string{
		"fulmar/cage/9": "No described enclosure of fulmar has a bay",
		"skerry/cage/1": "No described enclosure of fulmar has a bay",
		"cage":          "",
	} {
		_, err = act(api.Tap, bay)
		b.problem(err, "bad-step", words)
	}
	require.Equal(t, first, b.survey().Now.Tail, "a step that is refused changes nothing")

	v, err = act(api.Tap, "fulmar/cage/2")
	require.NoError(t, err)
	require.Equal(t, []string{v.Now.Tail}, lit())
	d, err := b.s.Views.Drive(first)
	require.NoError(t, err)
	require.Equal(t, "fulmar/cage/2", d.Bay)
	require.True(t, d.BayConfirmed)
	_, err = act(api.Tap, "fulmar/cage/2")
	b.problem(err, "bad-step", "was found in bay cage/2")

	b.restart()
	b.report()
	require.Equal(t, 2, b.survey().Left, "it goes on after a restart")
	v, err = act(api.Back, "")
	require.NoError(t, err)
	require.Equal(t, first, v.Now.Tail)
	d, err = b.s.Views.Drive(first)
	require.NoError(t, err)
	require.False(t, d.BayConfirmed, "what was taken back is not known any more")

	_, err = act(api.Pass, "")
	require.NoError(t, err)
	_, err = act(api.Read, "fulmar/cage/1", "AA001", "-", "nosuch")
	b.problem(err, "bad-step", "No drive of fulmar has a label that ends in")
	v, err = act(api.Read, "fulmar/cage/1", "CC003", "-", "BB002", "AA001")
	require.NoError(t, err)
	require.Zero(t, v.Left)
	v, err = act(api.End, "")
	require.NoError(t, err)
	require.False(t, v.Open)
	require.Empty(t, lit(), "no light stays on")
	for tail, bay := range map[string]string{"CC003": "fulmar/cage/1", "BB002": "fulmar/cage/3",
		"AA001": "fulmar/cage/4"} {
		d, err := b.s.Views.Drive(tail)
		require.NoError(t, err)
		require.Equal(t, bay, d.Bay, tail)
	}
	_, err = act(api.Begin, "")
	b.problem(err, "all-known", "The bay of every drive of fulmar is known")

	// A guess is not enough for a swap: a drive on another port is not where it was confirmed.
	b.drives[0].Port = "elsewhere"
	b.report()
	d, err = b.s.Views.Drive("AA001")
	require.NoError(t, err)
	require.False(t, d.BayConfirmed)
}

func (b *bench) survey() api.Survey {
	v, err := b.s.Bays.Survey("fulmar")
	require.NoError(b.t, err)
	return v
}

// TestLightAllOthers: a drive that does not answer is shown by lighting every other one of its section, once.
func TestLightAllOthers(t *testing.T) {
	b := newBench(t)
	b.drives = b.drives[:2]
	b.report()
	_, err := b.s.Bays.LightOn("ida", api.LightOn{Drive: "CC003", Seconds: 60, AllBut: true})
	require.NoError(t, err)
	var tails []string
	for _, l := range b.s.Bays.Lights() {
		tails = append(tails, l.Tail)
		require.Equal(t, "CC003", l.AllBut)
	}
	require.ElementsMatch(t, []string{"AA001", "BB002"}, tails)
	for seconds, words := range map[int]string{0: "needs an end", -1: "needs an end", 100_000: "needs an end"} {
		_, err = b.s.Bays.LightOn("ida", api.LightOn{Drive: "AA001", Seconds: seconds})
		b.problem(err, "bad-light", words)
	}
	b.clock.forward(2 * time.Minute)
	require.NoError(t, b.s.Tick())
	for _, l := range b.s.Bays.Lights() {
		require.Equal(t, api.LightStateGoing, l.State, "each goes out at its end")
	}
}

// TestImportedReadings: existing readings stay, invalid ones are refused with their line, and the trend of a metric has
// the imported ones.
func TestImportedReadings(t *testing.T) {
	b := newBench(t)
	at := b.clock.Now().Add(-48 * time.Hour)
	value := func(n string, v float64) map[string]float64 { return map[string]float64{n: v} }
	lines := []readings.Line{
		{Drive: "AA001", At: at, Metrics: value("pending_sectors", 2)},
		{Drive: "AA001", At: at, Metrics: value("pending_sectors", 3)},
		{Drive: "nosuch", At: at, Metrics: value("pending_sectors", 3)},
		{Drive: "AA001", At: b.clock.Now().Add(time.Hour), Metrics: value("pending_sectors", 3)},
		{Drive: "AA001", At: at.Add(time.Hour), Metrics: value("pending_sector", 3)},
		{Drive: "AA001", At: at.Add(time.Hour), Metrics: value("temperature_celsius", 65_262)},
		{Drive: "AA001", At: at.Add(time.Hour)},
	}
	i := 0
	feed := func() (readings.Line, error, bool) {
		if i == len(lines) {
			return readings.Line{}, errors.New("no JSON"), i < len(lines)
		}
		i++
		return lines[i-1], nil, true
	}
	out, err := b.s.Readings.Import(feed)
	require.NoError(t, err)
	require.Equal(t, 1, out.Taken, "%+v", out)
	require.Equal(t, 1, out.Known, "said twice in one import is said once")
	var why []string
	for _, r := range out.Refused {
		why = append(why, r.Why)
	}
	for n, words := range map[int]string{0: "nosuch", 1: "not in the past", 2: "did you mean pending_sectors?",
		3: "temperature_celsius", 4: "no metrics"} {
		require.Contains(t, why[len(why)-5+n], words)
	}
	i = 0
	again, err := b.s.Readings.Import(feed)
	require.NoError(t, err)
	require.Zero(t, again.Taken, "what is known stays as it is")
	require.GreaterOrEqual(t, again.Known, 1)
	trend, err := b.s.Views.Trend("AA001", "pending_sectors", 72)
	require.NoError(t, err)
	require.Equal(t, 2.0, trend.Points[0].Value)
	_, err = b.s.Views.Trend("AA001", "nosuch", 0)
	b.problem(err, "no-metric", "No metric")
}

// TestEvidenceOfASwap: the evidence for a warranty return has the findings, every reading, and the swap.
func TestEvidenceOfASwap(t *testing.T) {
	b := newBench(t)
	_, _, err := b.s.Views.Evidence("nosuch")
	b.problem(err, "no-swap", "nosuch")
	b.drives[1].Reading = api.Reading{
		At:         b.clock.Now(),
		Metrics:    map[string]float64{"pending_sectors": 40, "power_on_hours": 101},
		Unreadable: []api.BadPage{{Kind: "ata-smart-data", Why: "checksum is wrong", Bytes: []byte{1, 2, 3}}},
	}
	b.report()
	w, err := b.s.Swaps.PlanSwap("ida", "BB002")
	require.NoError(t, err)
	files, tail, err := b.s.Views.Evidence(w.Id)
	require.NoError(t, err)
	require.Equal(t, "BB002", tail)
	all := map[string]string{}
	for _, f := range files {
		all[f.Name] = string(f.Bytes)
	}
	require.Contains(t, all["summary.txt"], "serial KH3BB002")
	require.Contains(t, all["readings.csv"], ",pending_sectors,40")
	require.Contains(t, all["swap.json"], "BB002")
	require.Contains(t, all["drive.json"], "KH3BB002")
	require.Equal(t, string([]byte{1, 2, 3}), all["page-001-ata-smart-data.bin"])
	require.True(t, strings.HasPrefix(all["readings.csv"], "at,metric,value\n"))
}

// TestCalendarFeed: its address is shown once and is invalid after the next one, and a preview changes nothing.
func TestCalendarFeed(t *testing.T) {
	b := newBench(t)
	one, err := b.s.Selftests.MakeFeed("ida")
	require.NoError(t, err)
	secret := func(f api.Feed) string {
		return strings.TrimSuffix(strings.TrimPrefix(f.Path, "/calendar/"), ".ics")
	}
	known := func(url api.Feed) bool {
		known, err := b.s.Selftests.FeedKnown(secret(url))
		require.NoError(t, err)
		return known
	}
	require.True(t, known(one))
	two, err := b.s.Selftests.MakeFeed("bo")
	require.NoError(t, err)
	require.False(t, known(one), "an address that was made before has ended")
	require.True(t, known(two))
	require.NoError(t, b.s.Selftests.EndFeed())
	require.False(t, known(two))

	before := b.s.Selftests.Plans()
	preview, err := b.s.Selftests.PreviewPlans("ida", api.PlanPreview{
		Name:  "mine",
		Weeks: 2,
		Change: api.PlanChange{
			Covers:      []api.PlanScope{{Kind: api.PlanScopeKindPool, Name: "plankton"}},
			Zone:        "UTC",
			Tests:       []api.PlanTest{{Kind: api.PlanTestKindShort, Every: "every day 02:00"}},
			Windows:     []string{"daily 02:00-04:00"},
			Barred:      []string{},
			Limits:      api.PlanLimits{Group: 1, Pool: 2, Enclosure: 4, Host: 6},
			BusyPercent: 50,
		},
	})
	require.NoError(t, err)
	require.NotEmpty(t, preview.Times)
	require.Equal(t, before, b.s.Selftests.Plans(), "a preview changes nothing")
}
