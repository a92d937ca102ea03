package inventory

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// TestSet: a value is read back; an invalid one is refused with the expected form, and nothing is set.
func TestSet(t *testing.T) {
	i := Item{Serial: "VR7ZU006"}
	changes, err := i.SetAll(
		map[string]string{"warranty": "5y", "purchased": "2024-02-29", "supplier": "  Kelp  & Sons ", "price": "249.90",
			"currency": "eur", "batch": "B-17", "links": "https://papers.example/1  https://papers.example/2",
			"state": "in-use"},
	)
	require.NoError(t, err)
	require.Len(t, changes, 8)
	require.Equal(t, "2029-02-28", i.Warranty, "five years from a leap day")
	require.Equal(t, "Kelp & Sons", i.Supplier)
	require.Equal(t, "EUR", i.Currency)
	require.Len(t, i.Links, 2)
	was := i
	for fields, says := range map[[2]string]string{
		{"purchased", "yesterday"}:             `"yesterday" is not a day, such as 2026-11-29`,
		{"purchased", "2026-02-30"}:            "is not a day",
		{"price", "1,99"}:                      "is not a price",
		{"price", "-3"}:                        "is not a price",
		{"currency", "euros"}:                  "is not a currency",
		{"state", "lost"}:                      "is not one of ordered",
		{"warranty", "5 years"}:                "is neither a day nor a duration",
		{"links", "javascript:alert(1)"}:       "is not an address",
		{"suplier", "x"}:                       `no field "suplier"`,
		{"supplier", strings.Repeat("x", 201)}: "longer than",
	} {
		_, err := i.SetAll(map[string]string{fields[0]: fields[1], "asset": "A-1"})
		require.ErrorContains(t, err, says)
		require.Equal(t, was, i, "nothing is set where one cannot be")
	}
	_, err = (&Item{}).SetAll(map[string]string{"price": "10"})
	require.ErrorContains(t, err, "currency")
	_, err = (&Item{}).SetAll(map[string]string{"warranty": "36mo"})
	require.ErrorContains(t, err, "counts from the purchase")
	_, err = i.SetAll(map[string]string{"price": "", "batch": ""})
	require.NoError(t, err)
	require.Empty(t, i.Price+i.Batch, "an empty text removes the value")
}

// TestRoundTrip: the printed value of every field can be set again, and is the same then.
func TestRoundTrip(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		day := func(label string) string {
			return rapid.SampledFrom([]string{"", "2020-01-31", "2024-02-29", "2026-12-31"}).Draw(t, label)
		}
		text := rapid.StringMatching(`[ -~]{0,30}`)
		i := Item{}
		fields := map[string]string{
			"purchased": day("purchased"),
			"state_day": day("state_day"),
			"warranty":  day("warranty"),
			"currency":  "USD",
			"state": string(
				rapid.SampledFrom(append(States, "")).Draw(t, "state"),
			),
			"price": rapid.StringMatching(`|[0-9]{1,6}(\.[0-9]{1,2})?`).Draw(t, "price"),
		}
		for _, n := range []string{"model", "state_number", "supplier", "order", "batch", "asset", "contract"} {
			fields[n] = text.Draw(t, n)
		}
		_, err := i.SetAll(fields)
		require.NoError(t, err)
		told := map[string]string{}
		for _, f := range Fields {
			told[f.Name] = f.Get(&i)
		}
		again := Item{}
		_, err = again.SetAll(told)
		require.NoError(t, err)
		require.Equal(t, i, again)
		changes, err := again.SetAll(told)
		require.NoError(t, err)
		require.Empty(t, changes)
	})
}

// TestConditions: numbers compare by size, days by time, texts by equality; an unknown value meets no condition.
func TestConditions(t *testing.T) {
	now := time.Date(2026, 11, 29, 23, 59, 0, 0, time.UTC)
	i := &Item{Purchased: "2023-11-29", Warranty: "2026-12-09", Price: "249.90", Batch: "B-17", State: InUse}
	for text, want := range map[string]bool{
		"warranty_days<90": true, "warranty_days=10": true, "warranty_days>10": false, "owned_days>=1096": true,
		"price>249.89": true, "price<249.9": false,
		"batch=b-17": true, "batch=B-1": false, "batch!=B-1": true, "state=in-use": true, "purchased<2024-01-01": true,
		"warranty>2027-01-01": false,
		"supplier=":           true, "supplier=Kelp": false, "supplier!=Kelp": true,
	} {
		c, ours, err := ParseCondition(text)
		require.NoError(t, err, text)
		require.True(t, ours, text)
		require.Equal(t, want, c.Holds(i, now), text)
	}
	empty := &Item{}
	for _, text := range []string{"warranty_days<90", "warranty_days!=3", "price<1000", "purchased<2030-01-01"} {
		c, _, err := ParseCondition(text)
		require.NoError(t, err)
		require.False(t, c.Holds(empty, now), text)
	}
	_, ours, err := ParseCondition("pending_sectors>0")
	require.NoError(t, err)
	require.False(t, ours)
	for _, text := range []string{"warranty_days<soon", "batch>B", "price=dear"} {
		_, ours, err := ParseCondition(text)
		require.True(t, ours)
		require.Error(t, err)
	}
}
