package service

import (
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lantern/internal/api"
)

// TestDiskThatFillsUp: before a disk is full, there is a notice; when it is full, the reserve is used and the service
// continues to judge and to send notices; when that is full too, every channel gets a message directly, reports are
// refused for the time, and when there is room again everything continues.
func TestDiskThatFillsUp(t *testing.T) {
	dir := t.TempDir()
	const size = 600 << 20
	if out, err := exec.Command("mount", "-t", "tmpfs", "-o", "size="+strconv.Itoa(size), "tmpfs",
		dir).CombinedOutput(); err != nil {
		t.Skipf("SKIPPED: no disk of its own can be mounted here, so a full one is not tried: %s", out)
	}
	b := &bench{t: t, clock: &standing{at: t0}, file: filepath.Join(dir, "lantern.db")}
	t.Cleanup(func() { _ = exec.Command("umount", "-l", dir).Run() }) // after the database was closed
	b.open()
	_, err := b.s.Fleet.Enrol("test", "fulmar", false)
	require.NoError(t, err)
	b.drives = []api.DriveReport{b.disk("AA001", 1)}
	p := &pager{}
	server := httptest.NewServer(p)
	defer server.Close()
	_, err = b.s.Notices.PutChannel(
		t.Context(),
		"ida",
		"all",
		api.ChannelPut{Kind: "webhook", Url: server.URL, Secret: "k",
			Least: api.Watch},
	)
	require.NoError(t, err)
	b.report()
	b.clock.forward(2 * time.Minute)
	b.report()
	require.NoError(t, b.s.Tick())
	said, ready := b.s.Ready()
	require.True(t, ready)
	require.Empty(t, b.s.Views.Round().Trouble.Severity, said)

	fill := func(left int64) {
		t.Helper()
		f, err := os.OpenFile(filepath.Join(dir, "junk"), os.O_CREATE|os.O_RDWR, 0o600)
		require.NoError(t, err)
		defer f.Close()
		room, err := b.store.Room()
		require.NoError(t, err)
		at, err := f.Seek(0, 2)
		require.NoError(t, err)
		junk := make([]byte, 1<<20)
		for n := room.Free - left; n > 0; n -= int64(len(junk)) {
			if _, err := f.WriteAt(junk[:min(n, int64(len(junk)))], at); err != nil {
				break
			}
			at += int64(len(junk))
		}
		b.clock.forward(15 * time.Second)
	}
	tick := func() []string {
		_ = b.s.Tick()
		_ = b.s.Notices.Deliver(t.Context())
		return p.types()
	}
	fill(300 << 20)
	b.report()
	require.Contains(t, tick()[0], "nearly full")
	_, ready = b.s.Ready()
	require.True(t, ready)

	fill(0) // now only the reserve is left
	b.drives[0].Reading = api.Reading{At: b.clock.Now(), Metrics: map[string]float64{"pending_sectors": 300},
		Unreadable: []api.BadPage{{Kind: "x", Bytes: make([]byte, 8<<20)}}}
	b.report()
	b.clock.forward(15 * time.Second)
	b.drives[0].Reading = api.Reading{At: b.clock.Now(), Metrics: map[string]float64{"pending_sectors": 300}}
	b.report()
	got := tick()
	require.Len(t, got, 2, "%v", got)
	require.Contains(t, got[0]+got[1], "the reserve is in use")
	require.Contains(t, got[0]+got[1], "AA001 has 300 sectors that cannot be read", "it goes on to judge and to tell")
	require.Equal(t, api.Dead, b.s.Views.Round().Trouble.Severity)

	fill(0) // nothing is left
	failed := error(nil)
	for _, bytes := range []int{1 << 20, 1 << 16, 1 << 12, 1} {
		for failed = nil; failed == nil; {
			b.drives[0].Reading = api.Reading{
				At:         b.clock.Now(),
				Unreadable: []api.BadPage{{Kind: "x", Bytes: make([]byte, bytes)}},
			}
			b.clock.forward(time.Second)
			failed = b.s.TakeReport("fulmar", b.next())
		}
	}
	b.problem(failed, "store-full", "Free space")
	_ = b.s.Tick()
	require.Eventually(t, func() bool {
		for _, s := range p.types() {
			if len(s) > 20 && s[:20] == "service.unwritable [" {
				return true
			}
		}
		return false
	}, 10*time.Second, 10*time.Millisecond, "every channel is told, though nothing can be recorded")
	_, ready = b.s.Ready()
	require.False(t, ready)

	require.NoError(t, os.Remove(filepath.Join(dir, "junk")))
	for range 3 {
		b.clock.forward(15 * time.Second)
		b.report()
		tick()
	}
	_, ready = b.s.Ready()
	require.True(t, ready)
	room, err := b.store.Room()
	require.NoError(t, err)
	require.True(t, room.Reserved, "the reserve is set aside again")
	b.restart()
	require.True(t, b.drive("AA001").Present)
	require.NoError(t, b.store.Close())
}
