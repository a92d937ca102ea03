package service

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"lantern/internal/api"
)

func (b *bench) inventory(where string) (out []string) {
	b.t.Helper()
	all, err := b.s.Inventory.InventoryItems(where, "")
	require.NoError(b.t, err)
	for _, v := range all {
		out = append(out, v.Serial+" "+v.State+" "+string(v.Seen))
	}
	return out
}

// TestInventory: an inventory record is found by any name of its drive, shown with it, used in conditions, and kept
// over restarts; a record of an unseen drive applies when it appears; observed facts have priority, and a contradiction
// is shown.
func TestInventory(t *testing.T) {
	b := newBench(t)
	set := func(name string, fields ...string) (api.InventoryItem, error) {
		m := map[string]string{}
		for _, f := range fields {
			k, v, _ := strings.Cut(f, "=")
			m[k] = v
		}
		return b.s.Inventory.SetItem("ida", name, api.InventorySet{Fields: m})
	}
	soon := b.clock.Now().AddDate(0, 0, 30).Format(time.DateOnly)
	b.unwritten("a field is set", func() error { _, err := set("AA001", "supplier=Kelp"); return err })
	v, err := set("AA001", "supplier=Kelp", "warranty="+soon, "batch=B-17")
	require.NoError(t, err)
	require.Equal(t, 30, v.WarrantyDays)
	_, err = set("fulmar/front/2", "batch=B-17", "purchased=2020-01-31", "warranty=36mo")
	require.NoError(t, err)
	_, err = set("AA001", "suplier=Kelp")
	b.problem(err, "bad-field", `No field "suplier"`)
	require.Contains(t, err.Error(), "Did you mean supplier?")
	_, err = set("NOSUCH", "supplier=Kelp")
	b.problem(err, "no-drive", "NOSUCH")
	then := b.clock.Now().Add(-50 * time.Hour)
	_, err = b.s.Inventory.SetItem("ida", "AA001", api.InventorySet{Note: "the rack was moved", HappenedAt: then})
	require.NoError(t, err)
	for _, bad := range []time.Time{b.clock.Now().Add(time.Hour), b.clock.Now().AddDate(-11, 0, 0)} {
		_, err := b.s.Inventory.SetItem("ida", "AA001", api.InventorySet{Note: "x", HappenedAt: bad})
		b.problem(err, "bad-field", "")
	}
	marks := func() (out []string) {
		for _, h := range b.drive("AA001").Happened {
			if strings.Contains(h.Says, "rack") {
				out = append(out, fmt.Sprint(h.Kind, " ", h.At.Equal(then)))
			}
		}
		return out
	}
	require.Equal(t, []string{"note true"}, marks(), "it is marked once, when it happened")
	_, err = b.s.Inventory.SetItem("ida", "AA001", api.InventorySet{Note: "the seller was told"})
	require.NoError(t, err)

	ordered := api.InventoryImport{
		Rows: []api.InventoryRow{{Line: 2, Name: "KH3DD004", Whole: true, Fields: map[string]string{"state": "ordered"}},
			{
				Line:   3,
				Name:   "KH3EE005",
				Whole:  true,
				Fields: map[string]string{"state": "destroyed", "state_number": "cert 7"},
			}},
		Dry: true,
	}
	done, err := b.s.Inventory.Import("ida", ordered)
	require.NoError(t, err)
	require.Len(t, done.Changes, 3)
	require.False(t, done.Written)
	require.Len(t, b.inventory(""), 3, "a dry run writes nothing")
	ordered.Dry = false
	done, err = b.s.Inventory.Import("ida", ordered)
	require.NoError(t, err)
	require.True(t, done.Written)

	for range 2 {
		require.Equal(
			t,
			[]string{
				"KH3AA001 in-use now",
				"KH3BB002 in-use now",
				"KH3CC003 in-use now",
				"KH3DD004 ordered never",
				"KH3EE005 destroyed never",
			},
			b.inventory(""),
		)
		require.Equal(t, []string{"KH3AA001 in-use now"}, b.inventory("warranty_days<90, warranty_days>=0"))
		require.Equal(t, []string{"KH3BB002 in-use now"}, b.inventory("warranty_days<0"))
		require.Equal(t, []string{"KH3AA001 in-use now", "KH3BB002 in-use now"}, b.inventory("batch=b-17"))
		page, err := b.s.Views.Drives(api.ListDrivesParams{Where: "batch=B-17, pending_sectors>=0"})
		require.NoError(t, err)
		require.Len(t, page.Drives, 2)
		require.Equal(t, "Kelp", b.drive("AA001").Inventory.Fields["supplier"])
		require.Equal(t, "the seller was told", b.drive("AA001").Inventory.Notes[1].Text)
		happened := ""
		for _, h := range b.drive("AA001").Happened {
			happened += h.Says + "\n"
		}
		require.Contains(t, happened, `ida recorded for KH3AA001: supplier "Kelp", warranty "`)
		b.restart()
	}
	_, err = b.s.Views.Drives(api.ListDrivesParams{Where: "warranty_days<soon"})
	b.problem(err, "bad-where", "compared with a number")
	_, err = b.s.Inventory.InventoryItems("colour=red", "")
	b.problem(err, "bad-where", "not a condition")

	b.drives = append(b.drives, b.disk("DD004", 4), b.disk("EE005", 5))
	b.report()
	item, err := b.s.Inventory.Item("EE005")
	require.NoError(t, err)
	require.Equal(t, "it is written down as destroyed, and fulmar reports it", item.Says)
	require.Equal(t, "cert 7", item.Fields["state_number"])
	require.NoError(t, b.s.Inventory.RemoveItem("ida", "EE005"))
	b.problem(b.s.Inventory.RemoveItem("ida", "EE005"), "no-drive", "The inventory has no record of")
}

// TestInventoryImport: all rows are written if all are valid, and none otherwise; an export can be imported again and
// changes nothing.
func TestInventoryImport(t *testing.T) {
	b := newBench(t)
	rapid.Check(t, func(rt *rapid.T) {
		req := api.InventoryImport{}
		bad := false
		for n := range rapid.IntRange(1, 6).Draw(rt, "rows") {
			row := api.InventoryRow{
				Line:  n + 2,
				Whole: true,
				Name: rapid.SampledFrom(
					[]string{"AA001", "KH3BB002", "fulmar/front/3", fmt.Sprintf("NEW-%04d", n), "x y"},
				).Draw(
					rt,
					"name",
				),
				Fields: map[string]string{
					"batch":     rapid.StringMatching(`[A-Z]{0,3}`).Draw(rt, "batch"),
					"purchased": rapid.SampledFrom([]string{"", "2024-02-29", "2024-02-30"}).Draw(rt, "purchased"),
				},
			}
			row.Note = rapid.SampledFrom([]string{"", " ", "it rattles"}).Draw(rt, "note")
			bad = bad || row.Name == "x y" || row.Fields["purchased"] == "2024-02-30"
			for _, other := range req.Rows {
				bad = bad || other.Name == row.Name
			}
			req.Rows = append(req.Rows, row)
		}
		before, err := b.s.Inventory.InventoryItems("", "")
		require.NoError(rt, err)
		dry := req
		dry.Dry = true
		said, err := b.s.Inventory.Import("ida", dry)
		require.NoError(rt, err)
		require.Equal(rt, bad, len(said.Refused) > 0)
		done, err := b.s.Inventory.Import("ida", req)
		require.NoError(rt, err)
		require.Equal(rt, said.Changes, done.Changes, "a dry run says what happens")
		require.Equal(rt, !bad, done.Written)
		after, err := b.s.Inventory.InventoryItems("", "")
		require.NoError(rt, err)
		if bad {
			require.Equal(rt, before, after)
			return
		}
		for _, row := range req.Rows {
			i := slices.IndexFunc(after, func(v api.InventoryItem) bool {
				return v.Serial == row.Name || strings.HasSuffix(v.Serial, row.Name) || v.Place == row.Name
			})
			if strings.TrimSpace(row.Note) != "" {
				notes := after[i].Notes
				require.Equal(rt, "it rattles", notes[len(notes)-1].Text)
				require.Equal(rt, "ida", notes[len(notes)-1].By)
			}
		}
		again := api.InventoryImport{}
		for n, v := range after {
			again.Rows = append(again.Rows, api.InventoryRow{Line: n, Name: v.Serial, Whole: true, Fields: v.Fields})
		}
		done, err = b.s.Inventory.Import("ida", again)
		require.NoError(rt, err)
		require.Empty(rt, done.Changes)
		require.Empty(rt, done.Refused)
	})
}

// TestBoughtTogether: a batch in the inventory makes siblings of drives with unrelated serials.
func TestBoughtTogether(t *testing.T) {
	b := newBench(t)
	b.s.Fleet.GraceUntil = time.Time{}
	b.drives[1].Identity.Serial = "ZZ9Q7BB002" // of another run
	b.report()
	for range 2 { // a jump waits for a second reading
		b.clock.forward(10 * time.Minute)
		b.drives[0].Reading = api.Reading{
			At:      b.clock.Now(),
			Metrics: map[string]float64{"pending_sectors": 400, "power_on_hours": 5000},
		}
		b.report()
	}
	require.Equal(t, api.Replace, b.drive("AA001").Verdict)
	sibling := func() string {
		b.clock.forward(3 * time.Second)
		b.report()
		for _, f := range b.drive("BB002").Findings {
			if f.Rule == "sibling-failed" {
				return f.Says
			}
		}
		return ""
	}
	require.Empty(t, sibling())
	for _, name := range []string{"AA001", "BB002"} {
		_, err := b.s.Inventory.SetItem("ida", name, api.InventorySet{Fields: map[string]string{"batch": "B-17"}})
		require.NoError(t, err)
	}
	require.Contains(t, sibling(), "AA001")
	b.restart()
	b.s.Fleet.GraceUntil = time.Time{}
	require.Contains(t, sibling(), "AA001")
	_, err := b.s.Inventory.SetItem("ida", "AA001", api.InventorySet{Fields: map[string]string{"batch": "B-18"}})
	require.NoError(t, err)
	require.NotContains(t, sibling(), "bought", "it is held for a while, but not for being bought together")
}

// TestEvidenceNow: the evidence of a drive without a swap has its identity, its inventory record, its findings, and its
// self-tests with dates.
func TestEvidenceNow(t *testing.T) {
	b := newBench(t)
	_, err := b.s.Inventory.SetItem(
		"ida",
		"AA001",
		api.InventorySet{Fields: map[string]string{"supplier": "Kelp", "order": "HP-7"}},
	)
	require.NoError(t, err)
	b.clock.forward(time.Hour)
	b.drives[0].Reading = api.Reading{
		At:         b.clock.Now(),
		Metrics:    map[string]float64{"pending_sectors": 7, "power_on_hours": 101},
		Tests:      []api.SelfTest{{Kind: "short", Result: "passed", Hours: 100, Lba: -1}},
		Unreadable: []api.BadPage{{Kind: "ata-smart-data", Why: "checksum is wrong", Bytes: []byte{1, 2, 3}}},
	}
	b.report()
	files, tail, err := b.s.Views.EvidenceNow("fulmar/front/1")
	require.NoError(t, err)
	require.Equal(t, "AA001", tail)
	of := map[string]string{}
	for _, f := range files {
		of[f.Name] = string(f.Bytes)
	}
	for _, words := range []string{"serial KH3AA001", "supplier Kelp", "order HP-7", "7 sectors", "short: passed, at " +
		"100 power-on hours, "} {
		require.Contains(t, of["summary.txt"], words)
	}
	require.Contains(t, of["readings.csv"], "pending_sectors,7")
	require.Contains(t, of["self-tests.json"], `"at": "20`)
	require.Equal(t, "\x01\x02\x03", of["page-001-ata-smart-data.bin"])
	_, _, err = b.s.Views.EvidenceNow("NOSUCH")
	b.problem(err, "no-drive", "NOSUCH")
}

// BenchmarkInventoryImport imports drives that were not seen yet into a fleet of ten thousand, a thousand and ten
// thousand at once: ten times as many cost ten times as much, not a hundred.
func BenchmarkInventoryImport(b *testing.B) {
	for _, n := range []int{1000, 10000} {
		b.Run(fmt.Sprint(n), func(b *testing.B) {
			s, _, _ := large(b, 167)
			for run := 0; b.Loop(); run++ {
				req := api.InventoryImport{}
				for i := range n {
					req.Rows = append(req.Rows, api.InventoryRow{Line: i, Name: fmt.Sprintf("BULK%d-%06d", run, i), Whole: true,
						Fields: map[string]string{"purchased": "2024-01-02", "batch": fmt.Sprint("B-", i/20), "warranty": "5y"}})
				}
				if done, err := s.Inventory.Import("ida", req); err != nil || !done.Written {
					b.Fatal(err, done.Refused)
				}
			}
		})
	}
}
