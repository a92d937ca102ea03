package wire

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"lantern/internal/core/pool"
)

// TestReadPool: what a file leaves out has the defaults that the documentation gives, and what cannot be is refused
// with its position.
func TestReadPool(t *testing.T) {
	const three = `"members": [{"slot": "a", "domain": "h1"}, {"slot": "b", "domain": "h2"}, ` +
		`{"slot": "c", "domain": "h3"}]`
	read := func(text string) (pool.Pool, error) {
		p, _, err := ReadPool(strings.NewReader(text))
		return p, err
	}
	margin := func(text string) int {
		p, err := read(text)
		require.NoError(t, err, text)
		m, known := p.VolumeMargin(p.Volumes[0])
		require.True(t, known)
		return int(m)
	}
	// Defaults: a volume has its group's protection; with its own protection and no group it is on the only group.
	require.Equal(
		t,
		1,
		margin(
			`{"groups": [{"name": "g", "protect": {"tolerance": 1}, `+three+`}],
				"volumes": [{"name": "v", "group": "g"}]}`,
		),
	)
	require.Equal(
		t,
		2,
		margin(
			`{"groups": [{"name": "g", "protect": {"tolerance": 1}, `+three+`}],
				"volumes": [{"name": "v", "protect": {"tolerance": 2}}]}`,
		),
	)
	require.Equal(
		t,
		0,
		margin(
			`{"groups": [{"protect": {"tolerance": 1}, `+three+`}],
				"volumes": [{"name": "v", "protect": {"tolerance": 0}}]}`,
		),
		"one of none is one of its own",
	)
	require.Equal(
		t,
		1,
		margin(`{"groups": [{"name": "g", "protect": {"tolerance": 1}, `+three+`}], "volumes": [{"name": "v"}]}`),
	)
	require.Equal(
		t,
		0,
		margin(
			`{"groups": [{"name": "g", "protect": {"tolerance": 2, "data": 3, "domains": true},
				"members": [{"slot": "a", "domain": "h1"}, {"slot": "b", "domain": "h2"},
		{"slot": "c", "domain": "h3"}, {"slot": "d", "domain": "h1"}, {"slot": "e", "domain": "h1"}]}],
		"volumes": [{"name": "v"}]}`,
		)-1,
		"five pieces on three hosts: one host has two",
	)
	for text, want := range map[string]string{
		`{"groups": [{"name": "g", "protect": {"tolerance": 1}, ` + three + "}],\n \"volumes\": " +
			"[{\"name\": 3}]}": "line 2, column",
		`{"grops": []}`: `unknown field "grops"`,
		`{"name": "x"}`: "groups: x has none",
		`{"groups": [{"name": "g", "protect": {"none": true}, ` + three +
			`}], "volumes": [{"name": "v", "group": "g"}]}`: "volumes[0].protect: the group \"g\" protects nothing itself",
		`{"groups": [{"name": "g", "protect": {"none": true}, ` + three +
			`}], "volumes": [{"name": "v"}]}`: "volumes[0]: the volume \"v\" is spread over all groups",
		`{"groups": [{"name": "g", "protect": {"tolerance": 1}, ` + three +
			`}, {"name": "h", "protect": {"tolerance": 0}, "members": [{"slot": "z"}]}],
				"volumes": [{"name": "v", "protect": {"tolerance": 1}}]}`: "volumes[0].group: the volume \"v\" has a protection that is not that of all 2 groups",
		`{"groups": [{"name": "g", "protect": {"tolerance": 2, "data": 4, "domains": true}, ` + three +
			`}]}`: "groups[0].protect.data: 4 pieces of data and 2 more do not fit on 3 members",
		`{"groups": [{"name": "g", "protect": {"tolerance": 1, "data": -2}, ` + three +
			`}]}`: "groups[0].protect.data: -2 is not a number of pieces",
		`{"groups": [{"name": "g", "protect": {"tolerance": 3}, ` + three +
			`}]}`: "groups[0].protect.tolerance: \"g\" has 3 members and cannot lose 3",
		`{"groups": [{"name": "g", "protect": {"tolerance": 2, "domains": true},
			"members": [{"slot": "a", "domain": "h1"}, {"slot": "b", "domain": "h1"},
			{"slot": "c", "domain": "h2"}]}]}`: "groups[0].protect.tolerance: \"g\" has 2 failure domains and cannot lose 2",
		`{"groups": [{"name": "g", "protect": {"tolerance": 1, "stops_at": 2}, ` + three +
			`}]}`: "groups[0].protect.stops_at: with 2 losses data is lost already",
		`{"groups": [{"name": "g", "protect": {"none": true, "tolerance": 1}, ` + three +
			`}]}`: "groups[0].protect.none: a group that protects nothing itself",
		`{"groups": [{"name": "g", "protect": {"tolerance": 1}, ` + three +
			`}], "volumes": [{"name": "v", "extents": [{"slots": ["a", "b", "a"], "need": 1, "bytes": 1}]}]}`: "volumes[0].extents[0].slots[2]: \"a\" is named twice",
		`{"groups": [{"name": "g", "protect": {"tolerance": 1}, ` + three +
			`}], "spares": [{"slot": "s"}],
				"volumes": [{"name": "v", "extents": [{"slots": ["a", "s"], "need": 1, "bytes": 1}]}]}`: "volumes[0].extents[0].slots[1]: the volume \"v\" has a piece on \"s\"",
		`{"groups": [{"name": "g", "protect": {"tolerance": 1}, ` + three +
			`}], "volumes": [{"name": "v", "used_bytes": -1}]}`: "volumes[0].used_bytes: -1 is negative",
		`{"groups": [{"name": "g", "protect": {"tolerance": 1}, "members": [{"slot": "a", "size_bytes": -4},
			{"slot": "b"}]}]}`: "groups[0].members[0].size_bytes: -4 is negative",
		`{"groups": [{"name": "g", "protect": {"tolerance": 1},
			"members": [{"slot": "a", "size_bytes": 4, "used_bytes": 5},
			{"slot": "b"}]}]}`: "groups[0].members[0].used_bytes: a holds 5 bytes and has only 4",
		`{"limit": 1.5, "groups": [{"name": "g", "protect": {"tolerance": 1}, ` + three +
			`}]}`: "limit: 1.5 is not a share of 0 to 1",
		`{"groups": [{"name": "g", "protect": {"tolerance": 1}, "members": [{"slot": "a"},
			{"slot": "a"}]}]}`: "groups[0].members[1].slot: \"a\" is the slot of groups[0].members[0] already",
		`{"groups": [{"name": "g", "protect": {"tolerance": 1}, "members": [{"slot": "a", "log": "l"},
			{"slot": "b"}]}]}`: "groups[0].members[0].log: a depends on the log device \"l\"",
		`{"groups": [{"name": "g", "protect": {"tolerance": 1}, "members": [{"slot": "a", "state": "fine"},
			{"slot": "b"}]}]}`: "groups[0].members[0].state: a cannot be \"fine\"",
		`{"groups": [{"name": "g", "protect": {"tolerance": 1}, ` + three +
			`}], "volumes": [{"name": "v", "group": "x", "protect": {"tolerance": 1}}]}`: "volumes[0].group: the volume " +
			"\"v\" is on the group \"x\"",
		`{"groups": [{"name": "g", "protect": {"tolerance": 1}, ` + three +
			`}], "volumes": [{"name": "v", "protect": {"none": true}}]}`: "volumes[0].protect.none",
		`{"groups": [{"name": "g", "protect": {"tolerance": 1}, ` + three +
			`}], "volumes": [{"name": "v", "extents": [{"slots": ["a", "b"], "need": 3, "bytes": 1}]}]}`: "volumes[0].extents[0].need: an extent of \"v\" has 2 pieces and needs 3",
	} {
		_, err := read(text)
		require.ErrorContains(t, err, want, text)
	}
}

func FuzzReadPool(f *testing.F) {
	f.Add(
		`{"groups": [{"name": "g", "protect": {"tolerance": 1}, "members": [{"slot": "a", "log": "l"},
			{"slot": "b"}]}], "logs": [{"slot": "l"}],
			"volumes": [{"name": "v", "extents": [{"slots": ["a", "b"], "need": 1, "bytes": 1}]}]}`,
	)
	f.Add(
		`{"groups": [{"name": "g", "spread": true, "heals": true, "protect": {"tolerance": 1, "domains": true, "data": 3},
			"members": [{"slot": "a"}, {"slot": "b", "domain": "x", "size_bytes": 9, "used_bytes": 3}]}], "spares": [{"slot": "s"}]}`,
	)
	f.Fuzz(func(t *testing.T, text string) {
		p, _, err := ReadPool(strings.NewReader(text))
		if err != nil {
			return
		}
		// An accepted pool answers every question without a panic.
		var slots []string
		p.Everyone(func(_ string, m *pool.Member) { slots = append(slots, m.Slot) })
		w := p.WhatIf(slots[:1])
		if m, known := p.Margin(); known && m < 0 && w.Known && w.Is > m {
			t.Fatalf("losing more makes nothing better: %+v", w)
		}
		p.Room(slots[:1], 0)
		_, _ = p.BestOrder(
			p.Groups[0].Name,
			[]pool.Change{{Out: slots[0], In: &pool.Member{Slot: "new", State: pool.Online, Size: 9}, After: true}},
			0,
		)
	})
}
