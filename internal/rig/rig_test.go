//go:build linux

// Package rig lets the agent meet the kernel's own ATA, SCSI and NVMe drivers, in a small virtual machine.
package rig

import (
	"bufio"
	"bytes"
	"context"
	"debug/elf"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lantern/internal/api"
)

func skip(t *testing.T, why string) {
	fmt.Fprintf(os.Stderr, "\n*** SKIPPED: the agent did not meet real kernel drivers: %s ***\n\n", why)
	t.Skip(why)
}

// kernel unpacks Debian's kernel package, once for all runs, and says where it lies.
func kernel(t *testing.T) (image, modules string) {
	t.Helper()
	cache := os.Getenv("LANTERN_RIG_KERNEL")
	if cache == "" {
		skip(t, "no kernel was unpacked; make rig does that")
	}
	images, _ := filepath.Glob(filepath.Join(cache, "boot", "vmlinuz-*"))
	trees, _ := filepath.Glob(filepath.Join(cache, "lib", "modules", "*"))
	if len(images) == 0 || len(trees) == 0 {
		skip(t, "there is no kernel in "+cache)
	}
	return images[0], trees[0]
}

// closure gives modules with all they depend on, in the order in which they must be loaded. What a module needs stands
// in its own .modinfo section.
func closure(t *testing.T, tree string, names ...string) (paths []string) {
	t.Helper()
	where := map[string]string{}
	require.NoError(t, filepath.Walk(tree, func(path string, _ os.FileInfo, err error) error {
		if strings.HasSuffix(path, ".ko") {
			where[strings.ReplaceAll(strings.TrimSuffix(filepath.Base(path), ".ko"), "-", "_")] = path
		}
		return err
	}))
	seen := map[string]bool{}
	var visit func(name string)
	visit = func(name string) {
		path := where[name]
		if seen[name] || path == "" {
			return // built in
		}
		seen[name] = true
		f, err := elf.Open(path)
		require.NoError(t, err)
		info, err := f.Section(".modinfo").Data()
		f.Close()
		require.NoError(t, err)
		for _, entry := range bytes.Split(info, []byte{0}) {
			if on, ok := bytes.CutPrefix(entry, []byte("depends=")); ok {
				for _, d := range strings.Split(string(on), ",") {
					visit(strings.ReplaceAll(d, "-", "_"))
				}
			}
		}
		paths = append(paths, path)
	}
	for _, n := range names {
		visit(n)
	}
	return paths
}

// archive writes an initramfs: a cpio archive in "newc" format (Documentation/driver-api/early-userspace).
func archive(files map[string][]byte, order []string) []byte {
	var b bytes.Buffer
	entry := func(name string, mode int, data []byte) {
		fmt.Fprintf(
			&b,
			"070701%08x%08x%08x%08x%08x%08x%08x%08x%08x%08x%08x%08x%08x%s\x00",
			0,
			mode,
			0,
			0,
			1,
			0,
			len(data),
			0,
			0,
			0,
			0,
			len(name)+1,
			0,
			name,
		)
		for b.Len()%4 != 0 {
			b.WriteByte(0)
		}
		b.Write(data)
		for b.Len()%4 != 0 {
			b.WriteByte(0)
		}
	}
	for _, dir := range []string{"modules", "dev", "proc", "sys", "tmp", "sbin", "lib", "lib64", "run",
		"run/lock", "etc", "mnt"} {
		entry(dir, 0o040755, nil)
	}
	for _, name := range order {
		entry(name, 0o100755, files[name])
	}
	entry("TRAILER!!!", 0, nil)
	return b.Bytes()
}

// disk makes an image of 64 MiB; head is what it begins with.
func disk(t *testing.T, path, head string) {
	t.Helper()
	f, err := os.Create(path)
	require.NoError(t, err)
	require.NoError(t, f.Truncate(64<<20))
	_, err = f.WriteAt([]byte(head), 0)
	require.NoError(t, err)
	require.NoError(t, f.Close())
}

// build makes a static binary of a package of ours.
func build(t *testing.T, path, pkg string) []byte {
	t.Helper()
	cmd := exec.Command("go", "build", "-trimpath", "-ldflags", "-s -w", "-o", path, pkg)
	cmd.Env = append(os.Environ(), "CGO_ENABLED=0")
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, string(out))
	data, err := os.ReadFile(path)
	require.NoError(t, err)
	return data
}

// rig is the machine while it runs, and the service that it reports to.
type rig struct {
	t       *testing.T
	dir     string
	console *bytes.Buffer
	client  *api.ClientWithResponses
	serial  *bufio.ReadWriter
	qmp     *bufio.ReadWriter
	ends    time.Time
}

// machine is a virtual machine: kernel modules with their options, further programs for its first process, and devices.
type machine struct {
	modules []string
	tools   []string
	memory  int    // MiB
	long    bool   // it has more to do than others
	every   string // the agent's interval between reports, and between readings
	read    string
	devices func(dir string) []string
}

// boot runs the service outside and boots a machine with its agent inside.
func boot(t *testing.T, m machine) *rig {
	qemu, err := exec.LookPath("qemu-system-x86_64")
	if err != nil {
		skip(t, "qemu-system-x86_64 is missing: apt-get install qemu-system-x86")
	}
	image, tree := kernel(t)
	dir := t.TempDir()
	files, order := map[string][]byte{}, []string{}
	add := func(name string, data []byte) { files[name], order = data, append(order, name) }
	add("init", build(t, filepath.Join(dir, "init"), "lantern/internal/rig/init"))
	add("lantern", build(t, filepath.Join(dir, "lantern"), "lantern/cmd/lantern"))
	if other := os.Getenv(
		"LANTERN_RIG_AGENT",
	); other != "" { // for comparison: a binary of another state of the code
		data, err := os.ReadFile(other)
		require.NoError(t, err)
		files["lantern"] = data
	}
	for name, data := range programs(t, m.tools) {
		add(name, data)
	}
	var list strings.Builder
	options := map[string]string{}
	var names []string
	for _, line := range m.modules {
		name, with, _ := strings.Cut(line, " ")
		names, options[name] = append(names, name), with
	}
	for _, path := range closure(t, tree, names...) {
		data, err := os.ReadFile(path)
		require.NoError(t, err)
		name := filepath.Base(path)
		add("modules/"+name, data)
		fmt.Fprintln(
			&list,
			strings.TrimSpace(name+" "+options[strings.ReplaceAll(strings.TrimSuffix(name, ".ko"), "-", "_")]),
		)
	}
	add("modules/order", []byte(list.String()))
	ram := filepath.Join(dir, "initramfs")
	require.NoError(t, os.WriteFile(ram, archive(files, order), 0o600))

	r := &rig{t: t, dir: dir, console: &bytes.Buffer{}, ends: time.Now().Add(m.limit())}
	server, token := r.serve()
	ctx, cancel := context.WithTimeout(t.Context(), m.limit())
	t.Cleanup(cancel)
	args := []string{
		"-accel",
		"tcg",
		"-cpu",
		"max",
		"-m",
		fmt.Sprint(m.memory),
		"-display",
		"none",
		"-no-reboot",
		"-nodefaults",
		"-serial",
		"file:" + filepath.Join(dir, "console"),
		"-chardev",
		"socket,id=control,path=" + filepath.Join(dir, "control") + ",server=on,wait=off",
		"-serial",
		"chardev:control",
		"-qmp",
		"unix:" + filepath.Join(dir, "qmp") + ",server=on,wait=off",
		"-kernel",
		image,
		"-initrd",
		ram,
		"-append",
		"console=ttyS0 quiet panic=-1 rdinit=/init rig.server=" + server + " rig.token=" + token + " rig.every=" +
			m.every + " rig.read=" + m.read,
		"-netdev",
		"user,id=net",
		"-device",
		"virtio-net-pci,netdev=net",
	}
	cmd := exec.CommandContext(ctx, qemu, append(args, m.devices(dir)...)...)
	var said bytes.Buffer
	cmd.Stdout, cmd.Stderr = &said, &said
	require.NoError(t, cmd.Start())
	t.Cleanup(func() {
		_ = cmd.Process.Kill()
		_ = cmd.Wait()
		if t.Failed() {
			console, _ := os.ReadFile(filepath.Join(dir, "console"))
			t.Logf("qemu said:\n%s\nthe machine said:\n%s", said.String(), console[max(0, len(console)-6000):])
		}
	})
	r.qmp = r.dial("qmp")
	_, err = r.qmp.ReadString('\n') // its greeting
	require.NoError(t, err)
	r.tell("qmp_capabilities", nil)
	r.serial = r.dial("control")
	line, err := r.serial.ReadString('\n')
	require.NoError(t, err)
	require.Equal(t, "ready", strings.TrimSpace(line))
	return r
}

// limit is how long a machine may run: all of TestStacks takes longer on a busy computer.
func (m machine) limit() time.Duration {
	if m.long {
		return 15 * time.Minute
	}
	return 430 * time.Second
}

// drive is an image in the machine's folder as a QEMU option.
func drive(dir, name string) string {
	return "id=" + name + ",if=none,format=raw,file=" + filepath.Join(dir, name)
}

// start boots the machine in which the agent meets ATA, SCSI and NVMe.
func start(t *testing.T) *rig {
	return boot(t, machine{
		memory: 640,
		every:  "5s",
		read:   "2s",
		modules: []string{
			"ahci",
			"sd_mod",
			"sg",
			"nvme",
			"virtio_pci",
			"virtio_scsi",
			"virtio_net",
			"scsi_debug dev_size_mb=8",
			"crc32c_generic",
			"raid1",
			"raid10",
			"raid456",
		},
		devices: func(dir string) []string {
			for name, head := range map[string]string{"ata": "", "nvme": "XFSB", "scsi": "",
				"bad": "LUKS\xBA\xBE", "later": "", "later-nvme": "", "md-a": "", "md-b": "", "md-c": "",
				"md-d": "", "md-e": "", "md-f": "", "md-g": "", "md-h": "", "md-i": "", "md-z": ""} {
				disk(t, filepath.Join(dir, name), head)
			}
			// Reads of the last drive's first sectors fail, as those of a drive with a bad spot do.
			faults := filepath.Join(dir, "faults")
			require.NoError(
				t,
				os.WriteFile(
					faults,
					[]byte("[inject-error]\nevent = \"read_aio\"\nerrno = \"5\"\nsector = \"8\"\nonce = \"off\"\n"),
					0o600,
				),
			)
			// One member of the array cannot write a sector far inside.
			worn := filepath.Join(dir, "worn")
			require.NoError(
				t,
				os.WriteFile(
					worn,
					[]byte(
						"[inject-error]\nevent = \"write_aio\"\nerrno = \"5\"\nsector = \"100000\"\nonce = \"off\"\n",
					),
					0o600,
				),
			)
			return []string{
				"-device",
				"ich9-ahci,id=ahci",
				"-drive",
				drive(dir, "ata"),
				"-device",
				"ide-hd,bus=ahci.0,drive=ata,serial=RIGATA00417,model=RIG ATA DISK,wwn=0x5002abe700000417",
				"-drive",
				drive(dir, "nvme"),
				"-device",
				"nvme,id=solid,drive=nvme,serial=RIGNVME0118",
				"-device",
				"virtio-scsi-pci,id=scsi",
				"-drive",
				drive(dir, "scsi"),
				"-device",
				"scsi-hd,drive=scsi,serial=RIGSCSI0233,vendor=RIG,product=SCSI DISK,wwn=0x5002abe700000233",
				"-blockdev",
				"driver=file,node-name=bad-file,filename=" + filepath.Join(dir, "bad"),
				"-blockdev",
				"driver=blkdebug,node-name=bad-debug,config=" + faults + ",image=bad-file",
				"-blockdev",
				"driver=raw,node-name=bad,file=bad-debug",
				"-device",
				"scsi-hd,drive=bad,serial=RIGBAD00666,vendor=RIG,product=SCSI DISK,wwn=0x5002abe700000666",
				"-drive",
				drive(dir, "md-a"),
				"-device",
				"scsi-hd,id=oldest,drive=md-a,serial=RIGMD00A01,vendor=RIG,product=SCSI DISK,wwn=0x5002abe7000000a1",
				"-drive",
				drive(dir, "md-b"),
				"-device",
				"scsi-hd,id=md-b,drive=md-b,serial=RIGMD00B02,vendor=RIG,product=SCSI DISK,wwn=0x5002abe7000000b2",
				"-blockdev",
				"driver=file,node-name=worn-file,filename=" + filepath.Join(dir, "md-c"),
				"-blockdev",
				"driver=blkdebug,node-name=worn-debug,config=" + worn + ",image=worn-file",
				"-blockdev",
				"driver=raw,node-name=worn,file=worn-debug",
				"-device",
				"scsi-hd,id=worn,drive=worn,serial=RIGMD00C03,vendor=RIG,product=SCSI DISK,wwn=0x5002abe7000000c3",
			}
		},
	})
}

// programs finds programs of others that make what the agent looks at, in the folders where their packages were
// unpacked or on this machine, with the libraries that they need.
func programs(t *testing.T, names []string) map[string][]byte {
	t.Helper()
	out := map[string][]byte{}
	if len(names) == 0 {
		return out
	}
	tools := os.Getenv("LANTERN_RIG_TOOLS")
	folders := []string{
		tools + "/sbin",
		tools + "/usr/sbin",
		tools + "/bin",
		tools + "/usr/bin",
		"/sbin",
		"/usr/sbin",
		"/bin",
		"/usr/bin",
	}
	for _, name := range names {
		path := ""
		for _, f := range folders {
			if _, err := os.Stat(filepath.Join(f, name)); err == nil && path == "" {
				path = filepath.Join(f, name)
			}
		}
		if path == "" {
			skip(t, name+" is missing, which makes what the agent looks at; make stacks gets it")
		}
		data, err := os.ReadFile(path)
		require.NoError(t, err)
		out["sbin/"+name] = data
		cmd := exec.Command("ldd", path)
		cmd.Env = append(
			os.Environ(),
			"LD_LIBRARY_PATH="+tools+"/lib/x86_64-linux-gnu:"+tools+"/usr/lib/x86_64-linux-gnu",
		)
		said, err := cmd.Output()
		require.NoError(t, err, path)
		for _, lib := range regexp.MustCompile(`(?m)(/\S+\.so\S*)`).FindAllString(string(said), -1) {
			data, err := os.ReadFile(lib)
			require.NoError(t, err)
			to := "lib/" + filepath.Base(lib)
			if strings.Contains(lib, "ld-linux") {
				to = "lib64/" + filepath.Base(lib)
			}
			out[to] = data
		}
		if strings.Contains(string(said), "not found") {
			skip(t, "a library that "+name+" needs is missing:\n"+string(said))
		}
	}
	return out
}

// serve runs the service on loopback; the machine sees it at 10.0.2.2.
func (r *rig) serve() (server, hostToken string) {
	r.t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(r.t, err)
	address := l.Addr().String()
	require.NoError(r.t, l.Close())
	cmd := exec.Command(
		filepath.Join(r.dir, "lantern"),
		"serve",
		"--listen",
		address,
		"--data",
		filepath.Join(r.dir, "service"),
	)
	out, err := cmd.StdoutPipe()
	require.NoError(r.t, err)
	require.NoError(r.t, cmd.Start())
	r.t.Cleanup(func() { _ = cmd.Process.Kill(); _ = cmd.Wait() })
	var token string
	lines := bufio.NewScanner(out)
	for token == "" && lines.Scan() {
		token = regexp.MustCompile(`lan-person-[a-z0-9]+`).FindString(lines.Text())
	}
	require.NotEmpty(r.t, token)
	go func() { _, _ = io.Copy(io.Discard, out) }()
	r.client, err = api.NewClientWithResponses(
		"http://"+address+"/api/v1",
		api.WithRequestEditorFn(func(_ context.Context, q *http.Request) error {
			q.Header.Set("Authorization", "Bearer "+token)
			q.Header.Set("Idempotency-Key", fmt.Sprint(time.Now().UnixNano()))
			return nil
		}),
	)
	require.NoError(r.t, err)
	enrol := exec.Command(filepath.Join(r.dir, "lantern"), "--server", "http://"+address, "host", "enrol", "rig")
	enrol.Env = append(os.Environ(), "LANTERN_TOKEN="+token)
	said, err := enrol.CombinedOutput()
	require.NoError(r.t, err, string(said))
	hostToken = regexp.MustCompile(`lan-host-[a-z0-9]+`).FindString(string(said))
	require.NotEmpty(r.t, hostToken, string(said))
	_, port, err := net.SplitHostPort(address)
	require.NoError(r.t, err)
	return "http://10.0.2.2:" + port, hostToken
}

// dial connects to one of QEMU's sockets, which take a moment to come.
func (r *rig) dial(name string) *bufio.ReadWriter {
	r.t.Helper()
	var c net.Conn
	require.Eventually(r.t, func() (ok bool) {
		var err error
		c, err = net.Dial("unix", filepath.Join(r.dir, name))
		return err == nil
	}, 20*time.Second, 20*time.Millisecond)
	_ = c.SetDeadline(r.ends)
	r.t.Cleanup(func() { _ = c.Close() })
	return bufio.NewReadWriter(bufio.NewReader(c), bufio.NewWriter(c))
}

// tell gives QEMU an order (QMP) and waits for its answer.
func (r *rig) tell(execute string, arguments map[string]any) {
	r.t.Helper()
	b, err := json.Marshal(map[string]any{"execute": execute, "arguments": arguments})
	require.NoError(r.t, err)
	if arguments == nil {
		b = []byte(`{"execute":"` + execute + `"}`)
	}
	_, err = r.qmp.Write(append(b, '\n'))
	require.NoError(r.t, err)
	require.NoError(r.t, r.qmp.Flush())
	for {
		line, err := r.qmp.ReadString('\n')
		require.NoError(r.t, err)
		if strings.Contains(line, `"event"`) {
			continue
		}
		require.NotContains(r.t, line, `"error"`, "%s", b)
		return
	}
}

// inside lets the first process of the machine do something.
func (r *rig) inside(words ...string) string {
	r.t.Helper()
	_, err := r.serial.WriteString(strings.Join(words, " ") + "\n")
	require.NoError(r.t, err)
	require.NoError(r.t, r.serial.Flush())
	line, err := r.serial.ReadString('\n')
	require.NoError(r.t, err)
	require.NotContains(r.t, line, "failed", "%v", words)
	return strings.TrimSpace(line)
}

// drive is what the service knows of one.
func (r *rig) drive(name string) (api.Drive, bool) {
	res, err := r.client.GetDriveWithResponse(r.t.Context(), name)
	require.NoError(r.t, err)
	if res.JSON200 == nil {
		return api.Drive{}, false
	}
	return *res.JSON200, true
}

// until waits for the service to know something of a drive, and says how long that took.
func (r *rig) until(name, what string, holds func(api.Drive) bool) api.Drive {
	r.t.Helper()
	begun := time.Now()
	var d api.Drive
	if !assert.Eventually(r.t, func() bool {
		var known bool
		d, known = r.drive(name)
		return known && holds(d)
	}, 40*time.Second, 50*time.Millisecond, "%s: %s", name, what) {
		b, _ := json.MarshalIndent(d, "", " ")
		require.FailNow(r.t, "never seen", "%s: %s\n%s", name, what, b)
	}
	r.t.Logf("%-12s %s: %.1f s", name, what, time.Since(begun).Seconds())
	return d
}

func metric(d api.Drive, name string) (float64, bool) {
	for _, m := range d.Metrics {
		if m.Name == name {
			return m.Value, true
		}
	}
	return 0, false
}

func has(name string) func(api.Drive) bool {
	return func(d api.Drive) bool { _, ok := metric(d, name); return ok }
}

// step is a part of the story that can fail by itself. It returns whether it was right.
func (r *rig) step(name string, f func(t *testing.T)) bool {
	whole := r.t
	right := whole.Run(name, func(t *testing.T) {
		r.t = t
		f(t)
	})
	r.t = whole
	return right
}

type answer interface {
	StatusCode() int
	GetBody() []byte
}

// heard repeats a request for as long as it is refused because the reports of the machine are late, a minute at most:
// on a busy computer the machine may stand still for longer than two reports are apart.
func heard[T answer](t *testing.T, ask func() (T, error)) (res T) {
	t.Helper()
	var err error
	require.Eventually(t, func() bool {
		res, err = ask()
		return err != nil || res.StatusCode() != http.StatusConflict ||
			!bytes.Contains(res.GetBody(), []byte("stopped reporting")) &&
				!bytes.Contains(res.GetBody(), []byte("host-quiet"))
	}, time.Minute, 50*time.Millisecond, "it reports again")
	require.NoError(t, err)
	require.Less(t, res.StatusCode(), http.StatusBadRequest, "%s", res.GetBody())
	return res
}

// TestRig boots the machine, lets its agent report over the network, and simulates the faults of real drives.
func TestRig(t *testing.T) {
	r := start(t)

	ata := r.until("RIGATA00417", "SMART READ DATA through SG_IO", has("reallocated_sectors"))
	require.Equal(t, "5002abe700000417", ata.Identity.Wwn)
	require.Equal(t, "RIG ATA DISK", ata.Identity.Model)
	require.EqualValues(t, 64<<20, ata.CapacityBytes)
	require.Empty(t, ata.Blind)
	require.Empty(t, ata.Holds)
	require.NotEmpty(t, ata.Attributes)
	require.Empty(t, ata.Unreadable)
	require.Contains(t, ata.Names, "ata-RIG_ATA_DISK_RIGATA00417")
	_, counted := metric(ata, "host_io_errors")
	require.True(t, counted)

	logged, known := metric(ata, "logged_errors")
	require.True(t, known && logged == 0, "the summary error log")

	n := r.until("RIGNVME0118", "the health log", has("media_errors"))
	require.NotEmpty(t, n.Identity.Model)
	require.Equal(t, "solid-state", n.Medium)
	require.Equal(t, []string{"xfs file system"}, n.Holds)
	celsius, _ := metric(n, "temperature_celsius")
	require.Greater(t, celsius, 10.0)
	require.False(t, has("spare_available_percent")(n), "QEMU's keeps no count of its spare")
	require.NotEqual(t, api.Replace, n.Verdict)

	scsi := r.until("RIGSCSI0233", "identity of a SCSI disk", func(api.Drive) bool { return true })
	require.Equal(t, "5002abe700000233", scsi.Identity.Wwn)
	require.Equal(t, "RIG", scsi.Identity.Vendor)
	require.EqualValues(t, 64<<20, scsi.CapacityBytes)
	require.Contains(t, scsi.Blind, "no log pages")
	require.Equal(t, api.Unknown, scsi.Verdict, "blind is neither healthy nor failed")

	r.step("a self-test runs and is read from the drive's own log", func(t *testing.T) {
		require.Empty(t, ata.Tests)
		res, err := r.client.StartTestsWithResponse(
			t.Context(),
			nil,
			api.TestOrder{Drive: ata.Key, Kind: api.TestOrderKindShort},
		)
		require.NoError(t, err)
		require.Equal(t, api.TestRunStateOrdered, (*res.JSON202)[0].State, "%s", res.Body)
		d := r.until("RIGATA00417", "a short self-test, passed", func(d api.Drive) bool { return len(d.Tests) > 0 })
		require.Equal(t, "short", d.Tests[0].Kind)
		require.Equal(t, "passed", d.Tests[0].Result)
		require.Eventually(t, func() bool {
			runs, err := r.client.ListTestRunsWithResponse(t.Context(), &api.ListTestRunsParams{Drive: ata.Key})
			return err == nil && len(*runs.JSON200) == 1 && (*runs.JSON200)[0].State == api.TestRunStatePassed
		}, 20*time.Second, 50*time.Millisecond, "what came of it is read from the drive")
	})
	r.step("a bad spot: the drive is not taken for empty, and its errors are counted", func(t *testing.T) {
		bad := r.until("RIGBAD00666", "reads that fail", func(d api.Drive) bool { return len(d.Holds) > 0 })
		require.Contains(t, bad.Holds[0], "cannot be read")
		before, _ := metric(bad, "host_io_errors")
		require.Contains(t, r.inside("read", bad.Path, "8"), "input/output error")
		r.until(
			"RIGBAD00666",
			"its errors rise",
			func(d api.Drive) bool { v, _ := metric(d, "host_io_errors"); return v > before },
		)
	})
	r.step("a critical warning is raised while it runs", func(t *testing.T) {
		r.tell(
			"qom-set",
			map[string]any{"path": "/machine/peripheral/solid", "property": "smart_critical_warning", "value": 4},
		)
		d := r.until(
			"RIGNVME0118",
			"reliability degraded",
			func(d api.Drive) bool { return d.Verdict == api.Replace },
		)
		require.NotEmpty(t, d.Findings)
	})
	r.step("standby is left alone", func(t *testing.T) {
		var stopped api.Drive
		res, err := r.client.ListDrivesWithResponse(t.Context(), &api.ListDrivesParams{})
		require.NoError(t, err)
		for _, d := range res.JSON200.Drives {
			if d.Identity.Model == "scsi_debug" {
				stopped = d
			}
		}
		d := r.until(stopped.Key, "LOG SENSE, page 0Dh", has("temperature_celsius"))
		require.Empty(t, d.Blind)
		r.inside("command", d.Path, "1b0000000000") // START STOP UNIT, stop (SBC-4 5.25)
		r.until(
			stopped.Key,
			"asleep, and not woken",
			func(d api.Drive) bool { return strings.Contains(d.Blind, "asleep") },
		)
		r.inside("command", d.Path, "1b0000000100")
		r.until(stopped.Key, "awake again", func(d api.Drive) bool { return d.Blind == "" })
	})
	r.step("drives come and go while it runs", func(t *testing.T) {
		r.tell(
			"blockdev-add",
			map[string]any{"driver": "file", "node-name": "later", "filename": filepath.Join(r.dir, "later")},
		)
		r.tell(
			"device_add",
			map[string]any{
				"driver":  "scsi-hd",
				"id":      "hot",
				"bus":     "scsi.0",
				"drive":   "later",
				"serial":  "RIGHOT00777",
				"vendor":  "RIG",
				"product": "SCSI DISK",
				"wwn":     uint64(0x5002abe700000777),
			},
		)
		r.until("RIGHOT00777", "a SCSI disk came", func(d api.Drive) bool { return d.Present })
		r.tell("device_del", map[string]any{"id": "hot"})
		r.until("RIGHOT00777", "and went", func(d api.Drive) bool { return !d.Present })
		r.tell(
			"blockdev-add",
			map[string]any{
				"driver":    "file",
				"node-name": "later-nvme",
				"filename":  filepath.Join(r.dir, "later-nvme"),
			},
		)
		r.tell(
			"device_add",
			map[string]any{"driver": "nvme", "id": "hot-nvme", "drive": "later-nvme", "serial": "RIGNVME0888"},
		)
		r.until(
			"RIGNVME0888",
			"an NVMe disk came",
			func(d api.Drive) bool { return d.Present && has("media_errors")(d) },
		)
		r.tell("device_del", map[string]any{"id": "hot-nvme"})
		r.until("RIGNVME0888", "and went", func(d api.Drive) bool { return !d.Present })
	})
	if r.step("a real array: a member fails, is swapped, and the resync is followed to its end", r.array) {
		r.step("a campaign to larger drives, one by one, and the array grows after the last", r.campaign)
	}
	r.step("striped mirrors, each with a margin of its own", r.mirrors)
	require.Equal(t, "ending", r.inside("end"))
}

// array makes an array of three, lets one of them fail while it is written to, swaps it, and compares all data.
func (r *rig) array(t *testing.T) {
	disk := func(serial string) api.Drive {
		return r.until(serial, "a disk for the array", func(d api.Drive) bool { return d.Present })
	}
	a, b, c := disk("RIGMD00A01"), disk("RIGMD00B02"), disk("RIGMD00C03")
	require.Equal(t, "made", r.inside("array", "0", "rig:films", "5", a.Path, b.Path, c.Path))
	pool := func(what string, holds func(api.Pool) bool) (p api.Pool) {
		begun := time.Now()
		if !assert.Eventually(t, func() bool {
			res, err := r.client.GetPoolWithResponse(t.Context(), "films")
			if err != nil || res.JSON200 == nil {
				return false
			}
			p = *res.JSON200
			return holds(p)
		}, 60*time.Second, 50*time.Millisecond, what) {
			b, _ := json.MarshalIndent(p, "", " ")
			require.FailNow(t, "never seen", "%s\n%s", what, b)
		}
		t.Logf("films        %s: %.1f s", what, time.Since(begun).Seconds())
		return p
	}
	p := pool("the array is reported", func(p api.Pool) bool { return p.Margin.Known })
	require.Equal(t, "md raid5", p.Kind)
	require.Equal(t, "can lose 1 more drive", p.Margin.Words)
	require.Equal(
		t,
		[]string{a.Key, b.Key, c.Key},
		[]string{p.Groups[0].Members[0].Drive, p.Groups[0].Members[1].Drive, p.Groups[0].Members[2].Drive},
	)
	require.Contains(t, r.disk(t, a.Key).Holds[0], "md member")

	require.Equal(t, "filled", r.inside("fill", "/dev/md0", "0", "40", "1"))
	require.Equal(
		t,
		"filled",
		r.inside("fill", "/dev/md0", "90", "10", "2"),
		"the array bears what its member cannot write",
	)
	p = pool("a member is faulty", func(p api.Pool) bool { return p.Groups[0].Members[2].State == "faulty" })
	require.Equal(t, "cannot lose another drive", p.Margin.Words)
	require.Equal(t, c.Key, p.Groups[0].Members[2].Drive)
	require.Equal(t, "same", r.inside("compare", "/dev/md0", "90", "10", "2"))

	planned, err := r.client.PlanSwapWithResponse(t.Context(), nil, api.PlanSwap{Drive: c.Key})
	require.NoError(t, err)
	require.NotNil(t, planned.JSON201, "%s", planned.Body)
	id := planned.JSON201.Id
	begin := func(reason string) {
		heard(t, func() (*api.BeginSwapResponse, error) {
			return r.client.BeginSwapWithResponse(t.Context(), id, nil, api.BeginSwap{Reason: reason, NoBackup: true})
		})
	}
	confirm := func(tail string) {
		heard(t, func() (*api.ConfirmSwapResponse, error) {
			return r.client.ConfirmSwapWithResponse(
				t.Context(),
				id,
				nil,
				api.ConfirmTail{Tail: tail, Reason: "a test"},
			)
		})
	}
	begin("it is faulty already")
	swap := func(what string, holds func(api.Swap) bool) (w api.Swap) {
		if !assert.Eventually(t, func() bool {
			res, err := r.client.GetSwapWithResponse(t.Context(), id)
			if err != nil || res.JSON200 == nil {
				return false
			}
			w = *res.JSON200
			return holds(w)
		}, 90*time.Second, 50*time.Millisecond, what) {
			b, _ := json.MarshalIndent(w, "", " ")
			require.FailNow(t, "never seen", "%s\n%s", what, b)
		}
		return w
	}
	r.tell("device_del", map[string]any{"id": "worn"})
	swap("the old one left", func(w api.Swap) bool { return w.Phase == api.SwapPhaseInsert })
	hot := func(name, serial string, wwn uint64) {
		r.tell(
			"blockdev-add",
			map[string]any{"driver": "file", "node-name": name, "filename": filepath.Join(r.dir, name)},
		)
		r.tell(
			"device_add",
			map[string]any{
				"driver":  "scsi-hd",
				"id":      name,
				"bus":     "scsi.0",
				"drive":   name,
				"serial":  serial,
				"vendor":  "RIG",
				"product": "SCSI DISK",
				"wwn":     wwn,
			},
		)
	}
	hot("md-d", "RIGMD00D04", 0x5002abe7000000d4)
	swap("the new one waits for its label", func(w api.Swap) bool { return w.Phase == api.SwapPhaseConfirm })
	confirm("00D04")
	p = pool("the array is whole again", func(p api.Pool) bool {
		return p.Margin.Words == "can lose 1 more drive" && p.Groups[0].Members[2].State == "online"
	})
	require.Contains(t, r.disk(t, p.Groups[0].Members[2].Drive).Identity.Serial, "RIGMD00D04")
	require.Equal(t, api.RecoveryKindRebuild, p.Recovery.Kind)
	w := swap("the swap closes", func(w api.Swap) bool {
		return !w.Open || w.Phase == api.SwapPhaseVerify && strings.Contains(fmt.Sprint(w.Closing), "sound")
	})
	t.Logf("swap at %s", w.Phase)
	require.Equal(t, "same", r.inside("compare", "/dev/md0", "0", "40", "1"))
	require.Equal(t, "same", r.inside("compare", "/dev/md0", "90", "10", "2"))

	// A member that still works is swapped while it helps: a tested drive is filled beside it, and it leaves last.
	hot("md-e", "RIGMD00E05", 0x5002abe7000000e5)
	e := r.until("RIGMD00E05", "another disk", func(d api.Drive) bool { return d.Present })
	accepted, err := r.client.AcceptDriveWithResponse(
		t.Context(),
		nil,
		api.AcceptDrive{Drive: e.Key, Surface: true, Tail: "00E05"},
	)
	require.NoError(t, err)
	require.NotNil(t, accepted.JSON201, "%s", accepted.Body)
	var test api.Acceptance
	require.Eventually(t, func() bool {
		res, err := r.client.GetAcceptanceWithResponse(t.Context(), accepted.JSON201.Id)
		if err != nil || res.JSON200 == nil {
			return false
		}
		test = *res.JSON200
		return !test.EndedAt.IsZero()
	}, 60*time.Second, 50*time.Millisecond, "all of it is written and read back")
	require.Equal(t, api.AcceptanceStatePassed, test.State, "%+v", test)
	require.Eventually(t, func() bool { // its host has to look at it again: it carried the test's pattern
		res, err := r.client.ListStockWithResponse(t.Context())
		return err == nil && res.JSON200 != nil && slices.ContainsFunc(*res.JSON200, func(x api.StockItem) bool {
			return x.Drive == e.Key && slices.Contains(x.Fits, "films")
		})
	}, 60*time.Second, 50*time.Millisecond, "it fits the array")
	planned, err = r.client.PlanSwapWithResponse(t.Context(), nil, api.PlanSwap{Drive: a.Key})
	require.NoError(t, err)
	require.NotNil(t, planned.JSON201, "%s", planned.Body)
	require.Contains(t, planned.JSON201.Recipe, "the new drive first")
	id = planned.JSON201.Id
	begin("it is old")
	confirm("00E05")
	swap("the old one may leave", func(w api.Swap) bool { return w.Phase == api.SwapPhasePull && w.Hold == "" })
	p = pool("it has taken over", func(p api.Pool) bool {
		return p.Groups[0].Members[0].Drive == e.Key && p.Margin.Words == "can lose 1 more drive"
	})
	r.tell("device_del", map[string]any{"id": "oldest"})
	w = swap("the swap is over", func(w api.Swap) bool { return !w.Open })
	require.Equal(t, api.SwapPhaseClosed, w.Phase, "%+v", w.Log)
	record, err := r.client.ReportSwapWithResponse(t.Context(), id)
	require.NoError(t, err)
	for _, m := range record.JSON200.Margins {
		require.True(
			t,
			!m.Margin.Known || m.Margin.Members >= 1,
			"its margin never fell: %+v",
			record.JSON200.Margins,
		)
	}
	require.Equal(t, "same", r.inside("compare", "/dev/md0", "0", "40", "1"))
	require.Equal(t, "same", r.inside("compare", "/dev/md0", "90", "10", "2"))

	for _, order := range []api.PoolAction{{Action: api.PoolActionActionPriority, Priority: "low"},
		{Action: api.PoolActionActionScrub}} {
		res := heard(t, func() (*api.ActOnPoolResponse, error) {
			return r.client.ActOnPoolWithResponse(t.Context(), "films", nil, order)
		})
		require.Eventually(t, func() bool {
			o, err := r.client.GetOrderWithResponse(t.Context(), res.JSON202.Id)
			return err == nil && o.JSON200 != nil && o.JSON200.State == api.OrderStateDone
		}, 30*time.Second, 50*time.Millisecond, "%s", order.Action)
	}
	p = pool("a scrub has ended, and the priority shows", func(p api.Pool) bool {
		return p.Recovery.Kind == api.RecoveryKindScrub && p.Recovery.State == api.RecoveryStateFinished &&
			p.Priority == "low"
	})
	require.Zero(t, p.Recovery.Found)
}

// campaign changes all members of the array of three for larger ones, and lets it grow; the data are compared.
func (r *rig) campaign(t *testing.T) {
	const larger = 96 << 20
	pool := func() (p api.Pool) {
		res, err := r.client.GetPoolWithResponse(t.Context(), "films")
		require.NoError(t, err)
		require.NotNil(t, res.JSON200, "%s", res.Body)
		return *res.JSON200
	}
	before := pool()
	made, err := r.client.PlanCampaignWithResponse(
		t.Context(),
		nil,
		api.PlanCampaign{Pool: "films", NeedsBytes: 90 << 20, Grow: true},
	)
	require.NoError(t, err)
	require.NotNil(t, made.JSON201, "%s", made.Body)
	c := *made.JSON201
	look := func() {
		res, err := r.client.GetCampaignWithResponse(t.Context(), c.Id)
		require.NoError(t, err)
		require.NotNil(t, res.JSON200)
		c = *res.JSON200
	}
	next := func() {
		c = *heard(t, func() (*api.NextInCampaignResponse, error) {
			return r.client.NextInCampaignWithResponse(t.Context(), c.Id, nil, api.Reason{})
		}).JSON200
	}
	// Which device of the machine a label hangs on.
	devices := map[string]string{"00E05": "md-e", "00B02": "md-b", "00D04": "md-d"}
	for i := range c.Items {
		next()
		require.Equal(t, before.CapacityBytes, pool().CapacityBytes, "it does not grow before the last")
		name, tail, pulled := fmt.Sprintf("md-%c", 'j'+i), fmt.Sprintf("%04dX", i), false
		var w api.Swap
		assert.Eventually(t, func() bool {
			res, err := r.client.GetSwapWithResponse(t.Context(), c.Swap)
			if err != nil || res.JSON200 == nil {
				return false
			}
			switch w = *res.JSON200; {
			case w.Phase == api.SwapPhasePlanned:
				_, err = r.client.BeginSwapWithResponse(
					t.Context(),
					w.Id,
					nil,
					api.BeginSwap{Reason: "larger drives", NoBackup: true},
				)
			case w.Phase == api.SwapPhasePull && w.Hold == "" && !pulled:
				pulled = true
				r.tell("device_del", map[string]any{"id": devices[w.Old.Tail]})
			case w.Phase == api.SwapPhaseInsert && devices[tail] == "":
				devices[tail] = name
				require.NoError(t, os.WriteFile(filepath.Join(r.dir, name), nil, 0o600))
				require.NoError(t, os.Truncate(filepath.Join(r.dir, name), larger))
				r.tell(
					"blockdev-add",
					map[string]any{"driver": "file", "node-name": name, "filename": filepath.Join(r.dir, name)},
				)
				r.tell(
					"device_add",
					map[string]any{
						"driver":  "scsi-hd",
						"id":      name,
						"bus":     "scsi.0",
						"drive":   name,
						"serial":  "RIGMDL" + tail,
						"vendor":  "RIG",
						"product": "SCSI DISK",
						"wwn":     uint64(0x5002abe7000001a0 + i),
					},
				)
			case w.Phase == api.SwapPhaseConfirm:
				_, err = r.client.ConfirmSwapWithResponse(
					t.Context(),
					w.Id,
					nil,
					api.ConfirmTail{Tail: tail, Reason: "a test"},
				)
			}
			return err == nil && !w.Open
		}, 60*time.Second, 50*time.Millisecond)
		require.Equal(t, api.SwapPhaseClosed, w.Phase, "%+v\n%+v\n%s", w.Log, w.Checks, w.Hold)
	}
	next()
	assert.Eventually(
		t,
		func() bool { look(); return c.State == api.CampaignStateDone },
		60*time.Second,
		50*time.Millisecond,
	)
	t.Logf("films        %+v", c.Log[len(c.Log)-3:])
	require.Equal(t, api.CampaignStateDone, c.State, "%+v", c.Log)
	after := pool()
	t.Logf("films        %d bytes before, %d after", before.CapacityBytes, after.CapacityBytes)
	require.Greater(t, after.CapacityBytes, before.CapacityBytes*13/10)
	require.Equal(t, "can lose 1 more drive", after.Margin.Words)
	require.Equal(t, "same", r.inside("compare", "/dev/md0", "0", "40", "1"))
	require.Equal(t, "same", r.inside("compare", "/dev/md0", "90", "10", "2"))
}

// mirrors makes an array of striped mirrors of what is left, and takes a member out of use by hand.
func (r *rig) mirrors(t *testing.T) {
	var paths []string
	for i, serial := range []string{"RIGMD00F06", "RIGMD00G07", "RIGMD00H08", "RIGMD00I09", "RIGMD00J10"} {
		name := fmt.Sprintf("md-%c", "fghiz"[i])
		r.tell(
			"blockdev-add",
			map[string]any{"driver": "file", "node-name": name, "filename": filepath.Join(r.dir, name)},
		)
		r.tell(
			"device_add",
			map[string]any{
				"driver":  "scsi-hd",
				"id":      name,
				"bus":     "scsi.0",
				"drive":   name,
				"serial":  serial,
				"vendor":  "RIG",
				"product": "SCSI DISK",
				"wwn":     uint64(0x5002abe7000000f0 + i),
			},
		)
		paths = append(paths, r.until(serial, "another disk", func(d api.Drive) bool { return d.Present }).Path)
	}
	require.Equal(t, "made", r.inside(append([]string{"array", "1", "rig:notes", "10"}, paths[:4]...)...))
	require.Equal(t, "filled", r.inside("fill", "/dev/md1", "0", "20", "3"))
	var p api.Pool
	until := func(what string, holds func(api.Pool) bool) {
		require.Eventually(t, func() bool {
			res, err := r.client.GetPoolWithResponse(t.Context(), "notes")
			if err != nil || res.JSON200 == nil {
				return false
			}
			p = *res.JSON200
			return holds(p)
		}, 60*time.Second, 50*time.Millisecond, what)
	}
	until(
		"it is two mirrors",
		func(p api.Pool) bool { return len(p.Groups) == 2 && p.Margin.Words == "can lose 1 more drive" },
	)
	require.Equal(t, "two-way mirror", p.Groups[1].Protection)
	tried := strings.Split(r.inside("conform", p.Id, "3", paths[4]), " | ")
	t.Log(strings.Join(tried, "\n"))
	require.Greater(t, len(tried), 12, "all of the conformance kit, with a member that fails and is replaced")
	require.NotContains(t, strings.Join(tried, "\n"), "FAILS")
	require.NotContains(t, strings.Join(tried, "\n"), "left out")
	require.Equal(t, "same", r.inside("compare", "/dev/md1", "0", "20", "3"))
	until("it is whole again", func(p api.Pool) bool { return p.Margin.Words == "can lose 1 more drive" })
	require.Equal(t, "faulty", r.inside("fail", p.Id, "3"))
	until("one of the second is faulty", func(p api.Pool) bool { return p.Groups[1].Members[1].State == "faulty" })
	require.Equal(
		t,
		[]string{"can lose 1 more drive", "cannot lose another drive"},
		[]string{p.Groups[0].Margin.Words, p.Groups[1].Margin.Words},
	)
	w, err := r.client.WhatIfWithResponse(t.Context(), "notes", &api.WhatIfParams{Lose: []string{"0"}})
	require.NoError(t, err)
	require.EqualValues(t, "reduced margin", w.JSON200.Outcome, "the other mirror bears it")
	w, err = r.client.WhatIfWithResponse(t.Context(), "notes", &api.WhatIfParams{Lose: []string{"2"}})
	require.NoError(t, err)
	require.EqualValues(t, "lost", w.JSON200.Outcome)
	require.Equal(t, "same", r.inside("compare", "/dev/md1", "0", "20", "3"))
}

// disk is the present state of a drive.
func (r *rig) disk(t *testing.T, key string) api.Drive {
	d, ok := r.drive(key)
	require.True(t, ok)
	return d
}
