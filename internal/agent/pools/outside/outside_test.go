package outside

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"log/slog"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lantern/internal/agent/pools"
	"lantern/internal/core/pool"
)

// as says how this test binary misbehaves when it is run as a pool program.
const as = "LANTERN_TEST_POOL_PROGRAM"

func TestMain(m *testing.M) {
	if how := os.Getenv(as); how != "" {
		misbehave(how)
		return
	}
	os.Exit(m.Run())
}

// misbehave is a pool program that does well until told otherwise: by a file beside it that says how it is broken.
func misbehave(file string) {
	lines := bufio.NewScanner(os.Stdin)
	for lines.Scan() {
		var q struct {
			ID     int    `json:"id"`
			Method string `json:"method"`
		}
		_ = json.Unmarshal(lines.Bytes(), &q)
		how, _ := os.ReadFile(file)
		say := func(result string) { fmt.Printf(`{"jsonrpc":"2.0","id":%d,"result":%s}`+"\n", q.ID, result) }
		member := func(slot, path, state string) string {
			return fmt.Sprintf(
				`{"slot":%q,"drive":%q,"state":%q,"size_bytes":9,"used_bytes":1,"needs_bytes":9,"errors":{"read":0,"write":0,"checksum":0}}`,
				slot,
				path,
				state,
			)
		}
		pool := func(members ...string) string {
			return `{"pools":[{"id":"p1","name":"shed","kind":"toy","capacity_bytes":9,"used_bytes":1,"volumes":[],"spares":[],"logs":[],"groups":[{"name":"g","protection":{"words":"two-way mirror","tolerance":1},"members":[` + strings.Join(
				members,
				",",
			) + `]}]}]}`
		}
		a, b := member("a", "/dev/a", "online"), member("b", "/dev/b", "online")
		if q.Method == "hello" && (string(how) == "cannot be" || string(how) == "lies") {
			how = nil
		}
		switch string(how) {
		case "hangs":
			select {}
		case "dies":
			os.Exit(3)
		case "floods":
			for {
				fmt.Println(`{"jsonrpc":"2.0","method":"changed"}`)
			}
		case "babbles":
			fmt.Println("No problems found, do not worry.")
			continue
		case "cannot be":
			say(pool(a, a))
			continue
		case "lies":
			say(pool(a, member("b", "/dev/gone", "online")))
			continue
		}
		switch q.Method {
		case "hello":
			say(`{"protocol":1,"name":"toy","version":"1"}`)
		case "pools":
			say(pool(a, b))
		case "stop":
			fmt.Printf(`{"jsonrpc":"2.0","id":%d,"error":{"code":-32002,"message":"nothing to stop"}}`+"\n", q.ID)
		default:
			fmt.Printf(`{"jsonrpc":"2.0","id":%d,"error":{"code":-32601,"message":"what"}}`+"\n", q.ID)
		}
	}
}

// TestBroken: a program that hangs, ends, sends too much, or sends invalid or false data makes only its own pools
// unknown; when it works again, they are known again.
func TestBroken(t *testing.T) {
	for _, how := range []string{"hangs", "dies", "floods", "babbles", "cannot be", "lies"} {
		t.Run(how, func(t *testing.T) {
			t.Parallel()
			file := filepath.Join(t.TempDir(), "how")
			require.NoError(t, os.WriteFile(file, nil, 0o600))
			self, err := os.Executable()
			require.NoError(t, err)
			d := New([]string{"/usr/bin/env", as + "=" + file, self}, "here", slog.New(slog.DiscardHandler))
			t.Cleanup(d.Close)
			keys := func(path string) string {
				return map[string]string{"/dev/a": "drive-a", "/dev/b": "drive-b"}[path]
			}
			look := func(limit time.Duration) ([]pools.Snapshot, error) {
				ctx, cancel := context.WithTimeout(t.Context(), limit)
				defer cancel()
				return d.Pools(ctx, keys)
			}
			all, err := look(20 * time.Second)
			require.NoError(t, err)
			require.Len(t, all, 1)
			require.Equal(t, "toy:p1", all[0].Pool.ID)
			m, known := all[0].Pool.Margin()
			require.True(t, known)
			require.Equal(t, pool.Margin(1), m)
			_, err = d.Stop(t.Context(), "toy:p1")
			require.ErrorIs(t, err, pools.ErrNotOffered)
			_, err = d.Stop(t.Context(), "toy:other")
			require.ErrorIs(t, err, pools.ErrNoSuchPool)

			require.NoError(t, os.WriteFile(file, []byte(how), 0o600))
			begun := time.Now()
			all, err = look(2 * time.Second)
			require.Less(t, time.Since(begun), 10*time.Second, "nobody is held up")
			if how != "lies" {
				require.Error(t, err)
				t.Log(err)
			}
			require.Len(t, all, 1, "it is still known that there is such a pool")
			require.True(t, all[0].Inconsistent)
			_, known = all[0].Pool.Margin()
			require.False(t, known, "unknown, neither healthy nor failed (R7)")
			all[0].Pool.Everyone(func(_ string, m *pool.Member) { require.Equal(t, pool.StateUnkn, m.State) })

			kit := Kit{Command: d.Command, Host: "here", Log: d.Log}.Run(t.Context())
			require.Len(t, kit, 1, "the kit finds it out at once")
			require.False(t, kit[0].OK)
			t.Log("the kit: " + kit[0].Says)

			require.NoError(t, os.WriteFile(file, nil, 0o600))
			require.Eventually(t, func() bool {
				all, err = look(5 * time.Second)
				return err == nil && len(all) == 1 && !all[0].Inconsistent
			}, 30*time.Second, 100*time.Millisecond, "it is started again, and believed again")
		})
	}
}

// TestKit: the example passes all of the kit, with a member that fails; a program that is none fails at once.
func TestKit(t *testing.T) {
	node, err := exec.LookPath("node")
	if err != nil {
		fmt.Fprintln(os.Stderr, "\n*** SKIPPED: the example of a pool program was not tried: node is missing ***")
		t.Skip("node is missing")
	}
	dir := filepath.Join(t.TempDir(), "toy")
	const example = "../../../../examples/pool-driver/mirror.mjs"
	require.NoError(t, exec.Command(node, example, "--make", dir, "4").Run())
	k := Kit{
		Command:  []string{node, example, dir},
		Host:     "here",
		Log:      slog.New(slog.DiscardHandler),
		Patience: time.Minute,
		Break:    "rm " + filepath.Join(dir, "b.file"),
		Slot:     "b",
		With:     filepath.Join(dir, "c.file"),
	}
	// A block of the other member was damaged before: the scrub finds and repairs it.
	f, err := os.OpenFile(filepath.Join(dir, "a.file"), os.O_RDWR, 0)
	require.NoError(t, err)
	_, err = f.WriteAt([]byte("spoilt"), 1_000_000)
	require.NoError(t, err)
	require.NoError(t, f.Close())
	all := k.Run(t.Context())
	require.Len(t, all, 18)
	for _, r := range all {
		t.Logf("%v %s: %s", r.OK, r.Title, r.Says)
		require.True(t, r.OK, "%s: %s", r.Title, r.Says)
		require.Equal(t, r.Title == "A priority that was set is told", r.Left, r.Title)
	}
	require.Contains(t, all[13].Says, "1 errors found, 1 repaired, 0 left")
	a, err := os.ReadFile(filepath.Join(dir, "a.file"))
	require.NoError(t, err)
	c, err := os.ReadFile(filepath.Join(dir, "c.file"))
	require.NoError(t, err)
	require.True(t, bytes.Equal(a, c), "the new member holds what the old one held")

	// The program that only watches passes as well: requests that it does not support are skipped, and a repair by a
	// person is seen.
	b, aside := filepath.Join(dir, "a.file"), filepath.Join(dir, "aside")
	w := Kit{
		Command:  []string{node, "../../../../examples/pool-driver/watch.mjs", dir},
		Host:     "here",
		Log:      slog.New(slog.DiscardHandler),
		Patience: time.Minute,
		Break:    "mv " + b + " " + aside,
		Slot:     "a",
		Mend:     "mv " + aside + " " + b,
	}
	left := 0
	for _, r := range w.Run(t.Context()) {
		t.Logf("%v %s: %s", r.OK, r.Title, r.Says)
		require.True(t, r.OK, "%s: %s", r.Title, r.Says)
		if r.Left {
			left++
		}
	}
	require.Equal(t, 2, left, "only the scrub and the priority")

	// So does the shortest possible program, which ends when it gets an unknown request.
	least := Kit{Command: []string{node, "../../../../examples/pool-driver/least.mjs"}, Host: "here", Log: w.Log}
	for _, r := range least.Run(t.Context()) {
		require.True(t, r.OK, "%s: %s", r.Title, r.Says)
	}

	for _, bad := range [][]string{{"/bin/true"}, {"/bin/cat"}, {"/no/such/program"}} {
		all := Kit{Command: bad, Host: "here", Log: slog.New(slog.DiscardHandler)}.Run(t.Context())
		require.Len(t, all, 1)
		require.False(t, all[0].OK)
		t.Log(all[0].Says)
	}
}
