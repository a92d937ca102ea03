package e2e

import (
	"bytes"
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"lantern/internal/api"
)

// TestPoolQuestions: questions about a pool have the same answers with the service and offline; members are drained,
// healed and given priorities; courses are exported and replayed.
func TestPoolQuestions(t *testing.T) {
	d := startDemo(t)

	// What if: the same from the service and from the pool's file (R9).
	file := func(pool string) string {
		path := filepath.Join(t.TempDir(), pool+".json")
		require.NoError(t, os.WriteFile(path, []byte(d.run("pool", pool, "--output", "json")), 0o600))
		return path
	}
	for pool, lose := range map[string]string{"soundscape": "ZU006,XE932", "driftnet": "skerry", "specimens": "1",
		"plankton": "log.1", "logbook": "data.1,parity"} {
		live := get[api.Prospect](d.shell, "whatif", pool, "--lose", lose, "--survives", "1")
		offline := get[api.Prospect](d.shell, "whatif", "--file", file(pool), "--lose", lose, "--survives", "1")
		a, err := json.Marshal(live)
		require.NoError(t, err)
		b, err := json.Marshal(offline)
		require.NoError(t, err)
		require.JSONEq(t, string(a), string(b), pool)
		if pool == "plankton" {
			require.Len(t, live.Along, 6, "its members depend on the log device")
			require.EqualValues(t, "lost", live.Outcome)
		}
		if pool == "logbook" {
			require.EqualValues(t, "lost", live.Outcome)
		}
	}
	require.Contains(t, d.run("whatif", "soundscape", "--lose", "ZU006,XE932"), "the spare spare.1 takes its place")
	require.Contains(
		t,
		d.run("whatif", "driftnet", "--survives", "2"),
		"such as skerry.1, fulmar.1: telemetry unreachable",
	)
	for words, args := range map[string][]string{
		`has no member "nobody"; its members are 1.1`: {"whatif", "soundscape", "--lose", "nobody"},
		"name the members to lose":                    {"whatif", "soundscape"},
		"ask for fewer":                               {"whatif", "driftnet", "--survives", "9"},
		"this is not a pool's file":                   {"whatif", "--file", "/dev/null", "--lose", "x"},
		"stripes of group 1 are as wide":              {"moves", "soundscape", "--remove", "ZU006"},
		"takes a name and a size":                     {"moves", "driftnet", "--add", "petrel"},
		"offers no drain":                             {"drain", "soundscape", "ZU006"},
	} {
		a := d.try(args...)
		require.NotZero(t, a.code, args)
		require.Contains(t, a.err, words)
	}
	for _, f := range get[[]api.Fit](d.shell, "fit", "logbook") {
		require.Equal(t, f.Slot != "parity", f.MostBytes > 0, "a parity drive bounds the others, not itself")
	}
	order := get[api.MoveOrder](
		d.shell,
		"moves",
		"driftnet",
		"--replace",
		"skerry.1=8TB,fulmar.1=8TB",
		"--add",
		"petrel=4TB",
	)
	require.True(t, order.Proven)
	require.Less(t, order.Bytes, order.AsAskedBytes)
	require.Equal(
		t,
		order,
		get[api.MoveOrder](
			d.shell,
			"moves",
			"--file",
			file("driftnet"),
			"--replace",
			"skerry.1=8TB,fulmar.1=8TB",
			"--add",
			"petrel=4TB",
		),
	)

	// A member is drained; another leaves, and its pool restores its content by itself; one recovery has another
	// priority.
	d.run("drain", "specimens", "2")
	d.run("priority", "tidegauge", "low")
	await(
		t,
		"the priority shows",
		func() api.Pool { return get[api.Pool](d.shell, "pool", "tidegauge") },
		func(p api.Pool) bool { return p.Priority == "low" },
	)
	d.run("lab", "pull", "guillemot/front/8")
	d.run("lab", "speed", "3000")
	state := func(pool, slot string) func() string {
		return func() string {
			for _, g := range get[api.Pool](d.shell, "pool", pool).Groups {
				for _, m := range g.Members {
					if m.Slot == slot {
						return m.State
					}
				}
			}
			return ""
		}
	}
	at := ""
	for _, m := range get[api.Pool](d.shell, "pool", "driftnet").Groups[0].Members {
		if m.Bay == "guillemot/front/8" {
			at = m.Slot
		}
	}
	require.NotEmpty(t, at)
	await(t, "the drained one is set aside", state("specimens", "2"), func(s string) bool { return s == "set-aside" })
	await(
		t,
		"what lay on the other lies elsewhere",
		state("driftnet", at),
		func(s string) bool { return s == "set-aside" },
	)
	require.Equal(t, "can lose 2 more drives", get[api.Pool](d.shell, "pool", "driftnet").Margin.Words)

	// The course can be shown, exported, and replayed with the estimates of each moment.
	var drain api.Recovery
	for _, r := range get[[]api.Recovery](d.shell, "recoveries", "--pool", "specimens") {
		if r.Kind == api.RecoveryKindDrain {
			drain = r
		}
	}
	require.Regexp(t, `^\d+ h \d\d min for 3\.\d TB, \d+ MB/s, held back by [A-Z0-9]+`, drain.Summary)
	course := filepath.Join(t.TempDir(), "course.jsonl")
	require.NoError(t, os.WriteFile(course, []byte(d.run("recoveries", "export", drain.Id)), 0o600))
	said := d.run("recoveries", "replay", course, "--every", "10", "--output", "json")
	require.Contains(t, said, "error_of_rest")
	whole, err := os.ReadFile(course)
	require.NoError(t, err)
	lines := bytes.SplitAfter(whole, []byte("\n"))
	tenths := map[int64]bool{} // a line for each tenth that was seen; how many depends on the speed of this machine
	for _, line := range lines[:len(lines)-1] {
		var x struct {
			Done int64 `json:"done_bytes"`
			Todo int64 `json:"todo_bytes"`
		}
		require.NoError(t, json.Unmarshal(line, &x))
		if tenth := 10 * x.Done / x.Todo; tenth > 0 && tenth < 10 {
			tenths[tenth] = true
		}
	}
	require.NotEmpty(t, tenths)
	require.Equal(t, len(tenths), strings.Count(said, `"share"`))
	require.NoError(t, os.WriteFile(course, append(append([]byte{}, lines[3]...), lines[2]...), 0o600))
	a := d.try("recoveries", "replay", course)
	require.Contains(t, a.err, "line 2 is not later than the one before it")
}
