//go:build linux

package e2e

import (
	"bytes"
	"crypto/sha256"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"lantern/internal/agent/linux"
	"lantern/internal/api"
)

// insideVariable says that this process is the one in a namespace of its own.
const insideVariable = "LANTERN_TEST_INSIDE"

// apart runs a test in mount and process namespaces of its own, its files on a memory file system there, its loop
// devices marked to go with their last user: whatever ends the test, the kernel takes everything away. It says whether
// that was done; within, it is false.
func apart(t *testing.T, most time.Duration) bool {
	if os.Getenv(insideVariable) != "" {
		return false
	}
	skipUnlessBtrfs(t)
	path, err := binary()
	require.NoError(t, err)
	cmd := exec.Command("/proc/self/exe", "-test.run=^"+t.Name()+"$", "-test.v", "-test.timeout="+most.String())
	cmd.Env = append(os.Environ(), insideVariable+"=1", "LANTERN_TEST_BINARY="+path)
	cmd.SysProcAttr = &unix.SysProcAttr{Cloneflags: unix.CLONE_NEWNS | unix.CLONE_NEWPID, Pdeathsig: unix.SIGKILL}
	// Each step is printed as it happens, for people who run this as a demonstration.
	cmd.Stdout, cmd.Stderr = os.Stdout, os.Stderr
	require.NoError(t, cmd.Run())
	return true
}

// TestBtrfs swaps a real member of a real btrfs pool, then rebalances and scrubs it.
func TestBtrfs(t *testing.T) {
	if apart(t, 5*time.Minute) {
		return
	}
	b := newBench(t)

	b.step("Three loop devices become a mirrored file system, and data with known checksums is written")
	var members []*loop
	for range 3 {
		members = append(members, b.loop(640<<20))
	}
	b.mkfs(members, "raid1")
	b.write("before", 24)

	b.step("The service starts, this host is enrolled, its agent reports")
	b.service("otolith-host")
	pool := await(
		t,
		"the pool is reported",
		b.pool,
		func(p api.Pool) bool { return len(p.Groups) == 1 && p.Margin.Known },
	)
	require.Equal(t, "can lose 1 more drive", pool.Margin.Words)
	for _, m := range pool.Groups[0].Members {
		require.Equal(t, api.Unknown, m.Verdict, "a loop device has no SMART: it is unknown, not sound (R7)")
		require.Equal(t, "online", m.State)
	}

	b.step("What is at an address of a member is told by its pool; where the bytes are, the member's own file says")
	for path := range b.sums {
		at := members[0].holds(path)
		if at < 0 {
			continue // this file is on the other two members
		}
		says := b.shell.run("selftest", "where", b.tail(members[0]), fmt.Sprint(at/512))
		b.say("%s", strings.TrimSpace(says))
		require.Contains(t, says, path)
		require.Contains(
			t,
			b.shell.run("selftest", "where", b.tail(members[0]), fmt.Sprint(members[0].size()/512-1)),
			"not in use",
		)
		break
	}

	b.step("A member without a light is made to blink: its reads, counted by the kernel, come in threes, and pause")
	b.shell.run("light", "on", b.tail(members[2]), "--for", "2m")
	// 150 ms of reading and 150 ms of pause, three times, and a second of pause. A busy machine may disturb one
	// observation, not all.
	rhythm := regexp.MustCompile(`(#{2,5}_{2,5}){2}#{2,5}_{15,30}(#{2,5}_{2,5}){2}#{2,5}_`)
	beat := await(
		t,
		"the rhythm is in the kernel's counts",
		func() string { return members[2].beat(5 * time.Second) },
		rhythm.MatchString,
	)
	b.say("reads every 50 ms: %s", beat)
	b.shell.run("light", "off", b.tail(members[2]))
	await(
		t,
		"it falls still",
		func() string { return members[2].beat(time.Second) },
		func(s string) bool { return !strings.Contains(s, "#") },
	)

	b.step("A member loses its backing; writing goes on")
	lost := members[1]
	slot, old := b.memberOn(pool, lost)
	lost.pull()
	b.write("after the loss", 6)
	pool = await(t, "the member is missing and its errors are counted", b.pool, func(p api.Pool) bool {
		m := slotOf(p, slot)
		return m.State == "missing" && m.Errors.Write > 0
	})
	require.Equal(t, "cannot lose another drive", pool.Margin.Words)
	d := await(
		t,
		"the drive is told dead, with the pool's errors",
		func() api.Drive { return get[api.Drive](b.shell, "drive", old) },
		func(d api.Drive) bool { return d.Verdict == api.Dead && !d.Present },
	)
	b.say("%s: %s; %s", d.Tail, d.Says, find(d.Findings, "pool-errors").Says)
	require.NotEmpty(t, find(d.Findings, "pool-errors").Evidence)

	b.step("A swap is planned and begun")
	plan := get[api.Swap](b.shell, "swap", "plan", old)
	for _, c := range plan.Checks {
		b.say("%-6s %s: %s", c.Result, c.Title, c.Found)
	}
	b.shell.refused("backup", "swap", "begin")
	b.shell.run("swap", "begin", "--reason", "the member is lost already", "--no-backup")

	b.step("A drive that is too small, and one that carries somebody's data, are refused")
	small := b.loop(320 << 20)
	w := await(t, "the small one is refused", b.swap, func(w api.Swap) bool { return w.RefusedTail == b.tail(small) })
	b.say("%s: %s", w.RefusedTail, w.Refused)
	require.Contains(t, w.Refused, "too small")
	small.pull()
	await(t, "it is out", b.swap, func(w api.Swap) bool { return w.RefusedTail == "" })
	taken := b.loop(704<<20, func(f *os.File) { _, _ = f.WriteAt([]byte("XFSB"), 0) })
	w = await(t, "the taken one is refused", b.swap, func(w api.Swap) bool { return w.RefusedTail == b.tail(taken) })
	b.say("%s: %s", w.RefusedTail, w.Refused)
	require.Contains(t, w.Refused, "somebody's data")
	taken.pull()

	b.step("An empty one of the right size is put in, and confirmed by its label tail")
	fresh := b.loop(704 << 20)
	await(t, "it waits to be confirmed", b.swap, func(w api.Swap) bool {
		return w.Phase == api.SwapPhaseConfirm && w.New.Key == fresh.key() && w.New.Tail == ""
	})
	b.shell.refused("not the label tail", "swap", "confirm", "--tail", "00000")
	b.throttle(60 << 20)
	b.shell.run("swap", "confirm", "--tail", b.tail(fresh), "--reason", "a test")

	b.step("The recovery is followed, as the kernel reports it, until the swap is closed as verified")
	seen := map[string]bool{}
	w = await(t, "the swap is closed", b.swap, func(w api.Swap) bool {
		if r := w.Recovery; r.Id != "" {
			if line := fmt.Sprintf("%s %.0f %%", r.State, 100*r.Share); !seen[line] {
				seen[line] = true
				b.say("%s", line)
			}
		}
		return !w.Open
	})
	require.Equal(t, api.SwapPhaseClosed, w.Phase)
	require.Greater(t, len(seen), 2, "progress was followed, not only the end")
	require.Equal(t, api.RecoveryStateFinished, w.Recovery.State)
	pool = b.pool()
	require.Equal(t, "can lose 1 more drive", pool.Margin.Words)
	require.Equal(t, fresh.key(), slotOf(pool, slot).Drive)
	b.compare()

	b.step("A further drive is admitted, and the pool rebalanced")
	further := b.loop(640 << 20)
	await(
		t,
		"it is known",
		func() []api.Drive { return get[[]api.Drive](b.shell, "drives", "--find", b.tail(further)) },
		func(d []api.Drive) bool { return len(d) == 1 },
	)
	b.shell.refused("not the label tail", "admit", b.name, b.tail(further), "--tail", "99999")
	b.say("%s", strings.TrimSpace(b.shell.run("admit", b.name, b.tail(further), "--tail", b.tail(further))))
	b.say("%s", strings.TrimSpace(b.shell.run("rebalance", b.name)))
	r := b.ended(api.RecoveryKindRebalance)
	require.Equal(t, api.RecoveryStateFinished, r.State)
	pool = await(t, "the new member holds data", b.pool, func(p api.Pool) bool {
		for _, m := range p.Groups[0].Members {
			if m.Drive == further.key() && m.UsedBytes > 0 {
				return true
			}
		}
		return false
	})
	b.compare()

	b.step("Bytes of one member are overwritten; a scrub finds and repairs them")
	hurt := members[0]
	hurt.overwrite(70<<20, 560<<20) // beyond the second superblock, at 64 MiB
	b.throttle(0)
	b.say("%s", strings.TrimSpace(b.shell.run("scrub", b.name)))
	r = b.ended(api.RecoveryKindScrub)
	b.say("found %d, repaired %d, left %d", r.Found, r.Repaired, r.Unrepairable)
	require.Equal(t, api.RecoveryStateFinished, r.State)
	require.Positive(t, r.Repaired)
	require.Zero(t, r.Unrepairable)
	await(
		t,
		"the drive's wrong checksums are on record",
		func() api.Drive { return get[api.Drive](b.shell, "drive", b.tail(hurt)) },
		func(d api.Drive) bool { return find(d.Findings, "pool-errors").Metric == "pool_checksum_errors" },
	)
	b.compare()
	b.shell.run("scrub", b.name)
	require.Zero(t, b.endedAfter(r.StartedAt, api.RecoveryKindScrub).Found, "a second scrub finds nothing")

	b.step("A member is drained: the kernel moves all that is on it, and it is a member no more")
	leaves, _ := b.memberOn(b.pool(), further)
	count := len(b.pool().Groups[0].Members)
	asked := get[api.Prospect](b.shell, "whatif", b.name, "--lose", b.tail(further))
	require.True(t, asked.Room.Fits, asked.Room.Why)
	require.EqualValues(t, "reduced margin", asked.Outcome)
	b.say("%s", strings.TrimSpace(b.shell.run("drain", b.name, b.tail(further))))
	r = b.ended(api.RecoveryKindDrain)
	require.Equal(t, api.RecoveryStateFinished, r.State)
	require.Equal(t, leaves, r.Slot)
	pool = await(
		t,
		"it is no member any more",
		b.pool,
		func(p api.Pool) bool { return len(p.Groups[0].Members) == count-1 && p.Margin.Known },
	)
	require.Equal(t, "can lose 1 more drive", pool.Margin.Words)
	b.compare()

	b.step("A new drive is accepted: all of its surface is written and read back, past all caches")
	helps := members[2]
	place, tail := b.memberOn(b.pool(), helps)
	beside := b.loop(704 << 20)
	await(
		t,
		"it is known",
		func() []api.Drive { return get[[]api.Drive](b.shell, "drives", "--find", b.tail(beside)) },
		func(d []api.Drive) bool { return len(d) == 1 },
	)
	b.shell.refused("not the label tail", "accept", "begin", b.tail(beside), "--surface", "--tail", tail)
	b.shell.refused("member of", "accept", "begin", tail, "--surface", "--tail", tail)
	b.shell.run("accept", "begin", b.tail(beside), "--surface", "--rate", "400MB", "--tail", b.tail(beside))
	test := await(
		t,
		"it is being written",
		func() api.Acceptance { return get[api.Acceptance](b.shell, "accept", "show", b.tail(beside)) },
		func(a api.Acceptance) bool { return a.Surface.DoneBytes > 0 },
	)
	b.agent.kill()
	b.say("the agent is killed at %d bytes", test.Surface.DoneBytes)
	b.startAgent()
	test = await(
		t,
		"it has passed",
		func() api.Acceptance { return get[api.Acceptance](b.shell, "accept", "show", b.tail(beside)) },
		func(a api.Acceptance) bool { return !a.EndedAt.IsZero() },
	)
	for _, c := range test.Checks {
		b.say("%-6s %s: %s", c.Result, c.Title, c.Found)
	}
	require.Equal(t, api.AcceptanceStatePassed, test.State)

	b.step("A member that still works is swapped while it helps: the tested drive takes over, the old one leaves last")
	plan = get[api.Swap](b.shell, "swap", "plan", tail)
	b.say("%s: %s", plan.Recipe, strings.Join(plan.Why, "; "))
	require.Contains(t, plan.Recipe, "the new drive first")
	b.shell.run("swap", "begin", "--reason", "it is old", "--backup", time.Now().UTC().Format(time.DateOnly))
	b.shell.refused("not the label tail", "swap", "confirm", "--tail", tail)
	b.shell.refused(
		"reports no health data",
		"swap",
		"confirm",
		"--tail",
		b.tail(beside),
	) // a loop device reports no health data, tested or not (R7)
	b.shell.run("swap", "confirm", "--tail", b.tail(beside), "--reason", "it passed its test")
	w = await(
		t,
		"the old one may leave",
		b.swap,
		func(w api.Swap) bool { return w.Phase == api.SwapPhasePull && w.Hold == "" },
	)
	require.Equal(t, beside.key(), slotOf(b.pool(), place).Drive)
	helps.pull()
	w = await(t, "the swap is closed", b.swap, func(w api.Swap) bool { return !w.Open })
	require.Equal(t, api.SwapPhaseClosed, w.Phase)
	report := get[api.SwapReport](b.shell, "swap", "report", tail)
	for _, m := range report.Margins {
		require.True(t, !m.Margin.Known || m.Margin.Members >= 1, "its margin never fell: %+v", report.Margins)
	}
	pool = b.pool()
	require.Equal(t, "can lose 1 more drive", pool.Margin.Words)
	b.compare()

	b.step("What is little used is packed together; scrubs are held back, and let go")
	b.say("%s", strings.TrimSpace(b.shell.run("rebalance", b.name, "--below", "30")))
	require.Equal(t, api.RecoveryStateFinished, b.endedAfter(r.StartedAt, api.RecoveryKindRebalance).State)
	if slices.Contains(pool.Offers, "priority") {
		for _, to := range []string{"low", "normal"} {
			b.say("%s", strings.TrimSpace(b.shell.run("priority", b.name, to)))
			await(t, "the priority shows", b.pool, func(p api.Pool) bool { return p.Priority == to })
		}
	}
	b.compare()

	b.step("Done: every byte is as it was written")
}

func skipUnlessBtrfs(t *testing.T) {
	t.Helper()
	var why string
	fs, _ := os.ReadFile("/proc/filesystems")
	_, noMkfs := exec.LookPath("mkfs.btrfs")
	_, noLoop := os.Stat("/dev/loop-control")
	switch {
	case os.Getuid() != 0:
		why = "it needs root"
	case !strings.Contains(string(fs), "\tbtrfs\n"):
		why = "this kernel has no btrfs"
	case noLoop != nil:
		why = "there are no loop devices"
	case noMkfs != nil:
		why = "mkfs.btrfs is missing: apt-get install btrfs-progs"
	}
	if why != "" {
		fmt.Fprintf(os.Stderr, "\n*** SKIPPED: the test on a real btrfs pool did not run: %s ***\n\n", why)
		t.Skip(why)
	}
}

// bench is the real pool and the service that watches it.
type bench struct {
	t     *testing.T
	dir   string
	name  string
	mount string
	loops []*loop
	sums  map[string][32]byte
	shell shell
	rng   *rand.ChaCha8
	steps int
	// The processes, and how to restart them.
	server, agent            *process
	startService, startAgent func()
}

func newBench(t *testing.T) *bench {
	require.NoError(t, unix.Mount("", "/", "", unix.MS_REC|unix.MS_PRIVATE, ""))
	require.NoError(t, unix.Mount("proc", "/proc", "proc", 0, ""))
	b := &bench{
		t:    t,
		dir:  t.TempDir(),
		name: "otolith",
		sums: map[string][32]byte{},
		rng:  rand.NewChaCha8([32]byte{7, 4, 1, 1}),
	}
	require.NoError(t, unix.Mount("tmpfs", b.dir, "tmpfs", 0, "size=6g"))
	t.Cleanup(func() {
		if b.mount != "" {
			_ = unix.Unmount(b.mount, 0)
		}
		for _, l := range b.loops {
			l.dev.Close()
			l.file.Close()
		}
		_ = unix.Unmount(b.dir, unix.MNT_DETACH)
	})
	return b
}

func (b *bench) step(s string) {
	b.steps++
	fmt.Printf("\n%d. %s\n", b.steps, s)
}

func (b *bench) say(format string, args ...any) { fmt.Printf("   "+format+"\n", args...) }

// loop is one loop device and the file behind it.
type loop struct {
	t    *testing.T
	file *os.File
	dev  *os.File
	st   unix.Stat_t
}

// loop takes a free loop device from the kernel. The device is removed when it is closed.
func (b *bench) loop(size int64, prepare ...func(*os.File)) *loop {
	b.t.Helper()
	l := &loop{t: b.t}
	var err error
	l.file, err = os.Create(filepath.Join(b.dir, fmt.Sprintf("disk%d", len(b.loops))))
	require.NoError(b.t, err)
	require.NoError(b.t, l.file.Truncate(size))
	for _, f := range prepare {
		f(l.file)
	}
	require.NoError(b.t, unix.Fstat(int(l.file.Fd()), &l.st))
	ctl, err := os.OpenFile("/dev/loop-control", os.O_RDWR, 0)
	require.NoError(b.t, err)
	defer ctl.Close()
	for range 20 { // somebody else may take the same free number first
		n, err := unix.IoctlRetInt(int(ctl.Fd()), unix.LOOP_CTL_GET_FREE)
		require.NoError(b.t, err)
		path := fmt.Sprintf("/dev/loop%d", n)
		if _, err := os.Stat(path); err != nil {
			require.NoError(b.t, unix.Mknod(path, unix.S_IFBLK|0o600, int(unix.Mkdev(7, uint32(n)))))
		}
		l.dev, err = os.OpenFile(path, os.O_RDWR, 0)
		require.NoError(b.t, err)
		config := unix.LoopConfig{Fd: uint32(l.file.Fd())}
		config.Info.Flags = unix.LO_FLAGS_AUTOCLEAR
		if err = unix.IoctlLoopConfigure(int(l.dev.Fd()), &config); err == nil {
			b.loops = append(b.loops, l)
			return l
		}
		l.dev.Close()
		require.ErrorIs(b.t, err, unix.EBUSY)
	}
	require.Fail(b.t, "no loop device could be had")
	return nil
}

// pull takes the medium away: the device answers, but has no size, and every access fails.
func (l *loop) pull() {
	require.NoError(l.t, l.file.Truncate(0))
	require.NoError(l.t, unix.IoctlSetInt(int(l.dev.Fd()), unix.LOOP_SET_CAPACITY, 0))
}

func (l *loop) overwrite(at, n int64) {
	junk := make([]byte, 1<<20)
	for i := range junk {
		junk[i] = byte(i * 31)
	}
	for off := at; off < at+n; off += int64(len(junk)) {
		_, err := l.file.WriteAt(junk, off)
		require.NoError(l.t, err)
	}
	require.NoError(l.t, unix.Fadvise(int(l.dev.Fd()), 0, 0, unix.FADV_DONTNEED))
}

// holds looks for the middle of a file among the bytes of a member, at every 4 KiB; -1 when they are not there.
func (l *loop) holds(path string) int64 {
	data, err := os.ReadFile(path)
	require.NoError(l.t, err)
	want := data[len(data)/2:][:4096]
	b := make([]byte, 4096)
	for at := int64(0); ; at += 4096 {
		if _, err := l.file.ReadAt(b, at); err != nil {
			return -1
		}
		if bytes.Equal(b, want) {
			return at
		}
	}
}

// beat says for each twentieth of a second whether the kernel counted reads of the device
// (Documentation/block/stat.rst).
func (l *loop) beat(length time.Duration) string {
	var out strings.Builder
	count := func() string {
		b, err := os.ReadFile("/sys/block/" + filepath.Base(l.dev.Name()) + "/stat")
		require.NoError(l.t, err)
		return strings.Fields(string(b))[0]
	}
	before := count()
	tick := time.NewTicker(50 * time.Millisecond)
	defer tick.Stop()
	for end := time.Now().Add(length); time.Now().Before(end); {
		<-tick.C
		now := count()
		out.WriteString(map[bool]string{true: "_", false: "#"}[now == before])
		before = now
	}
	return out.String()
}

func (l *loop) size() int64 {
	st, err := l.file.Stat()
	require.NoError(l.t, err)
	return st.Size()
}

func (l *loop) serial() string { return fmt.Sprintf("L%X-%08d", l.st.Dev, l.st.Ino) }
func (l *loop) key() string {
	return "vms-kernel-loop_device-" + strings.ToLower(strings.ReplaceAll(l.serial(), "-", "_"))
}
func (b *bench) tail(l *loop) string { s := l.serial(); return s[len(s)-5:] }

func (b *bench) mkfs(members []*loop, data string) {
	args := []string{"-q", "-L", b.name, "-d", data, "-m", "raid1"}
	for _, m := range members {
		args = append(args, m.dev.Name())
	}
	out, err := exec.Command("mkfs.btrfs", args...).CombinedOutput()
	require.NoError(b.t, err, string(out))
	at := filepath.Join(b.dir, "mnt")
	require.NoError(b.t, os.Mkdir(at, 0o700))
	options := "device=" + members[1].dev.Name() + ",device=" + members[2].dev.Name()
	require.NoError(b.t, unix.Mount(members[0].dev.Name(), at, "btrfs", 0, options))
	b.mount = at
}

// write puts n files of 8 MiB of random bytes into the pool.
func (b *bench) write(name string, n int) {
	for i := range n {
		path := filepath.Join(b.mount, fmt.Sprintf("%s-%02d", strings.ReplaceAll(name, " ", "-"), i))
		data := make([]byte, 8<<20)
		_, _ = b.rng.Read(data)
		require.NoError(b.t, os.WriteFile(path, data, 0o600))
		b.sums[path] = sha256.Sum256(data)
	}
	unix.Sync()
}

// compare reads everything back from the devices.
func (b *bench) compare() {
	b.t.Helper()
	unix.Sync()
	for path, want := range b.sums {
		f, err := os.Open(path)
		require.NoError(b.t, err)
		require.NoError(b.t, unix.Fadvise(int(f.Fd()), 0, 0, unix.FADV_DONTNEED))
		data, err := io.ReadAll(f)
		f.Close()
		require.NoError(b.t, err)
		require.Equal(b.t, want, sha256.Sum256(data), path)
	}
	b.say("%d files read back and compared: all as written", len(b.sums))
}

// throttle bounds how fast the kernel reads each device in a scrub or a replacement, so that progress can be seen; 0
// takes the bound away.
func (b *bench) throttle(bytes int) {
	paths, err := filepath.Glob("/sys/fs/btrfs/*/devinfo/*/scrub_speed_max")
	require.NoError(b.t, err)
	id := b.pool().Id
	for _, p := range paths {
		if strings.Contains(p, id) {
			_ = os.WriteFile(p, []byte(fmt.Sprint(bytes)), 0o600)
		}
	}
}

func (b *bench) service(host string) {
	data := filepath.Join(b.dir, "service")
	listen := freePort(b.t)
	serve := start(b.t, nil, "serve", "--listen", listen, "--data", data)
	said := await(
		b.t,
		"the service prints its token",
		serve.said,
		func(s string) bool { return strings.Contains(s, "lan-person-") },
	)
	token := said[strings.Index(said, "lan-person-"):]
	token, _, _ = strings.Cut(token, "\n")
	b.shell = shell{b.t, []string{"LANTERN_SERVER=http://" + listen, "LANTERN_TOKEN=" + token, "LANTERN_CONFIG="}}
	hostToken := strings.TrimSpace(b.shell.run("host", "enrol", host))
	b.startAgent = func() {
		b.agent = start(
			b.t,
			[]string{"LANTERN_HOST_TOKEN=" + hostToken, "LANTERN_SERVER=http://" + listen},
			"agent",
			"--host",
			host,
			"--devices",
			"loop*",
			"--every",
			"2s",
			"--data",
			filepath.Join(b.dir, "agent"),
		)
	}
	b.startService = func() {
		b.server = start(b.t, nil, "serve", "--listen", listen, "--data", data)
		await(
			b.t,
			"the service serves again",
			b.server.said,
			func(s string) bool { return strings.Contains(s, "lantern serves") },
		)
	}
	b.server = serve
	b.startAgent()
}

func (b *bench) pool() api.Pool {
	for _, p := range get[[]api.Pool](b.shell, "pools") {
		if p.Name == b.name {
			return p
		}
	}
	return api.Pool{}
}

func (b *bench) swap() api.Swap {
	time.Sleep(20 * time.Millisecond)
	all := get[[]api.Swap](b.shell, "swap", "list")
	require.NotEmpty(b.t, all)
	return all[0]
}

func (b *bench) memberOn(p api.Pool, l *loop) (slot, tail string) {
	for _, m := range p.Groups[0].Members {
		if m.Drive == l.key() {
			return m.Slot, m.Tail
		}
	}
	require.Fail(b.t, "no member on "+l.key())
	return "", ""
}

// ended waits until the newest recovery of a kind has ended.
func (b *bench) ended(kind api.RecoveryKind) api.Recovery { return b.endedAfter(time.Time{}, kind) }

func (b *bench) endedAfter(began time.Time, kind api.RecoveryKind) api.Recovery {
	var found api.Recovery
	await(
		b.t,
		"the "+string(kind)+" has ended",
		func() []api.Recovery { return get[[]api.Recovery](b.shell, "recoveries") },
		func(all []api.Recovery) bool {
			found = api.Recovery{}
			for _, r := range all {
				if r.Kind == kind && r.StartedAt.After(began) &&
					(found.Id == "" || r.StartedAt.After(found.StartedAt)) {
					found = r
				}
			}
			return found.Id != "" && found.State != api.RecoveryStateRunning
		},
	)
	return found
}

func slotOf(p api.Pool, slot string) api.Member {
	for _, m := range p.Groups[0].Members {
		if m.Slot == slot {
			return m
		}
	}
	return api.Member{}
}

func find(fs []api.Finding, rule string) api.Finding {
	for _, f := range fs {
		if f.Rule == rule {
			return f
		}
	}
	return api.Finding{}
}

// TestBtrfsDrained swaps a member whose data have no second copy: the kernel moves all its data before it may be
// pulled, and removes it; the new one is added and the data are balanced. The same is rehearsed on a copy first.
func TestBtrfsDrained(t *testing.T) {
	if apart(t, 5*time.Minute) {
		return
	}
	b := newBench(t)
	b.step("Three loop devices become a file system whose data lie once, and files with known checksums are written")
	var members []*loop
	for range 3 {
		members = append(members, b.loop(640<<20))
	}
	b.mkfs(members, "single")
	b.write("once", 24)
	b.service("otolith-host")
	await(t, "the pool is reported", b.pool, func(p api.Pool) bool { return len(p.Groups) == 1 && p.Margin.Known })
	old := members[1]
	_, tail := b.memberOn(b.pool(), old)

	b.step("The swap is planned: it would lose data, so it begins with a drain")
	plan := get[api.Swap](b.shell, "swap", "plan", tail)
	b.say("%s: %s", plan.Recipe, strings.Join(plan.Why, "; "))
	require.Equal(t, "drained first", plan.Recipe)

	b.step("It is rehearsed on a copy, where it takes the same steps")
	dir := filepath.Join(b.dir, "practice")
	rehearsed := start(t, b.shell.env, "rehearse", b.name, "--listen", freePort(t), "--data", dir)
	await(
		t,
		"the practice greets",
		rehearsed.said,
		func(s string) bool { return strings.Contains(s, "Stop with Ctrl-C") },
	)
	lab := shell{
		t,
		[]string{"LANTERN_CONFIG=" + filepath.Join(dir, "client.yaml"), "LANTERN_SERVER=", "LANTERN_TOKEN="},
	}
	tried := get[api.Swap](lab, "swap", "plan", tail)
	require.Equal(t, []any{plan.Recipe, plan.Why}, []any{tried.Recipe, tried.Why})
	require.Equal(t, len(plan.Steps), len(tried.Steps))
	for i := range plan.Steps {
		require.Equal(t, plan.Steps[i].Phase, tried.Steps[i].Phase)
	}
	rehearsed.stop()

	b.step("Drained, pulled, the new one admitted, and all of it spread anew")
	b.shell.run("swap", "begin", "--reason", "it is old", "--no-backup")
	var gone bool
	var fresh *loop
	w := await(t, "the swap is closed", func() api.Swap {
		w := b.swap()
		switch {
		case w.Phase == api.SwapPhasePull && w.Hold == "" && !gone:
			gone = true
			for _, m := range b.pool().Groups[0].Members {
				require.NotEqual(t, old.key(), m.Drive, "it is no member any more before it may be pulled")
			}
			b.compare()
			old.pull()
		case w.Phase == api.SwapPhaseInsert && fresh == nil:
			fresh = b.loop(704 << 20)
		case w.Phase == api.SwapPhaseConfirm:
			b.shell.run("swap", "confirm", "--tail", b.tail(fresh), "--reason", "a test")
		default:
			for _, st := range w.Steps {
				if st.State == api.StepStateNow && st.Acts && w.Hold == "" {
					b.say("%s", st.Title)
					b.shell.run("swap", "next")
				}
			}
		}
		return w
	}, func(w api.Swap) bool { return !w.Open })
	require.Equal(t, api.SwapPhaseClosed, w.Phase)
	holds := false
	for _, m := range b.pool().Groups[0].Members {
		holds = holds || m.Drive == fresh.key() && m.UsedBytes > 0
	}
	require.True(t, holds, "the new member holds its share")
	b.compare()
}

// TestHeldPath: while a device is held open from its identity to its use, the kernel gives its path to no other (R2).
func TestHeldPath(t *testing.T) {
	if apart(t, time.Minute) {
		return
	}
	b := newBench(t)
	l := b.loop(16 << 20)
	m := &linux.Machine{Match: filepath.Base(l.dev.Name())}
	there := func() string {
		found, err := m.Drives(t.Context())
		require.NoError(t, err)
		if len(found) == 0 {
			return ""
		}
		return found[0].Known.Key()
	}
	found, err := m.Drives(t.Context())
	require.NoError(t, err)
	require.Len(t, found, 1)
	now, let, err := found[0].Pin()
	require.NoError(t, err)
	require.Equal(t, l.key(), now.Known.Key())

	b.step("A drive leaves while it is held: its path leads to nothing else")
	l.dev.Close()
	other := b.loop(16 << 20)
	require.NotEqual(t, l.dev.Name(), other.dev.Name())
	take := func() error {
		dev, err := os.OpenFile(l.dev.Name(), os.O_RDWR, 0)
		require.NoError(t, err)
		defer dev.Close()
		return unix.IoctlLoopConfigure(
			int(dev.Fd()),
			&unix.LoopConfig{Fd: uint32(other.file.Fd()), Info: unix.LoopInfo64{Flags: unix.LO_FLAGS_AUTOCLEAR}},
		)
	}
	require.ErrorIs(t, take(), unix.EBUSY)
	require.Equal(t, l.key(), there())
	b.step("It is let go: now another may come to be there")
	let()
	require.Empty(t, await(t, "the path is free", there, func(key string) bool { return key != l.key() }))
	_, _, err = found[0].Pin()
	require.ErrorContains(t, err, "no longer there")
}

// TestKillBtrfs kills the service, the agent, or both (SIGKILL) at random moments while members of a real btrfs pool
// are swapped. Every swap ends correctly, and the data are compared.
func TestKillBtrfs(t *testing.T) {
	if apart(t, 15*time.Minute) {
		return
	}
	b := newBench(t)
	most := 4
	if n, err := strconv.Atoi(os.Getenv("LANTERN_KILLS")); err == nil && n > 0 {
		most = n
	}
	var members []*loop
	for range 3 {
		members = append(members, b.loop(400<<20))
	}
	b.mkfs(members, "raid1")
	b.write("before", 12)
	b.service("otolith-host")
	await(t, "the pool is reported", b.pool, func(p api.Pool) bool { return len(p.Groups) == 1 && p.Margin.Known })
	r := rand.New(rand.NewPCG(uint64(most), 9))
	killed := 0
	strike := func() {
		if killed == most || r.IntN(3) > 0 {
			return
		}
		killed++
		time.Sleep(time.Duration(r.IntN(150)) * time.Millisecond)
		which := 1 + r.IntN(3) // the agent, the service, or both
		if which != 2 {
			b.agent.kill()
		}
		if which != 1 {
			b.server.kill()
			b.startService()
		}
		if which != 2 {
			b.startAgent()
		}
	}
	for round := 0; killed < most; round++ {
		old := members[round%3]
		slot, tail := b.memberOn(b.pool(), old)
		get[api.Swap](b.shell, "swap", "plan", tail)
		strike()
		b.shell.run("swap", "begin", tail, "--reason", "a test", "--no-backup")
		strike()
		old.pull()
		b.write(fmt.Sprintf("round %d", round%8), 2) // the kernel notices that it is gone when it writes
		strike()
		await(t, "the old one is seen to have left", func() api.Swap {
			w := b.swap()
			if len(w.Wrong) > 0 { // too early: somebody has to confirm that it will not come back
				b.shell.try("swap", "next", tail, "--reason", "it died")
			}
			return w
		}, func(w api.Swap) bool { return w.Phase == api.SwapPhaseInsert })
		fresh := b.loop(416 << 20)
		strike()
		await(t, "it waits to be confirmed", b.swap, func(w api.Swap) bool { return w.Phase == api.SwapPhaseConfirm })
		b.shell.run("swap", "confirm", tail, "--tail", b.tail(fresh), "--reason", "a test")
		strike()
		w := await(t, "the swap is closed", func() api.Swap { strike(); return b.swap() }, func(w api.Swap) bool {
			if w.Phase == api.SwapPhaseConfirm { // the order was not carried out, which is recorded: it is requested again
				b.shell.run("swap", "confirm", tail, "--tail", b.tail(fresh), "--reason", "a test")
			}
			return !w.Open
		})
		require.Equal(t, api.SwapPhaseClosed, w.Phase)
		joins := 0
		for _, e := range w.Log {
			if strings.Contains(e.Says, "made it a member") || strings.Contains(e.Says, "has taken") {
				joins++
			}
		}
		require.Equal(t, 1, joins, "%+v", w.Log)
		require.Equal(t, fresh.key(), slotOf(b.pool(), slot).Drive)
		b.compare()
		members[round%3] = fresh
	}
	b.say("%d kills, each swap ended as it should, all data compared", killed)
}
