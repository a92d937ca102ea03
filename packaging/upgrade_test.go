package main

import (
	"bufio"
	"bytes"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"syscall"
	"testing"
	"time"
)

// debian is a fresh Debian in a folder of its own, in which packages are installed and units' commands are run.
type debian struct {
	t    *testing.T
	root string
	runs map[string]*exec.Cmd
	said map[string]*bytes.Buffer
}

func (d *debian) must(cmd *exec.Cmd) string {
	d.t.Helper()
	out, err := cmd.CombinedOutput()
	if err != nil {
		d.t.Fatalf("%v: %v\n%s", cmd.Args, err, out)
	}
	return string(out)
}

func (d *debian) in(args ...string) string {
	d.t.Helper()
	return d.must(exec.Command("chroot", append([]string{d.root}, args...)...))
}

// newDebian makes it: the packages of a minimal system are unpacked once and kept, and each test sees them as new.
func newDebian(t *testing.T) *debian {
	if os.Getuid() != 0 {
		t.Skip("a Debian in a folder needs root")
	}
	cache := os.Getenv("UPGRADE_CACHE")
	if cache == "" {
		t.Skip("run it by: make upgrade-test")
	}
	d := &debian{t: t, root: t.TempDir(), runs: map[string]*exec.Cmd{}, said: map[string]*bytes.Buffer{}}
	base := filepath.Join(cache, "base")
	if _, err := os.Stat(filepath.Join(base, "usr/bin/dpkg")); err != nil {
		mirror, err := exec.Command(
			"sh",
			"-c",
			`grep -rhoE 'https?://[^ ]+/debian/?( |$)' /etc/apt/sources.list /etc/apt/sources.list.d | head -n 1`,
		).Output()
		if err != nil || len(mirror) == 0 {
			t.Skip("no Debian mirror is known here")
		}
		suite := d.must(exec.Command("sh", "-c", ". /etc/os-release; printf %s $VERSION_CODENAME"))
		if err := os.MkdirAll(cache, 0o755); err != nil {
			t.Fatal(err)
		}
		part := base + ".part"
		_ = os.RemoveAll(part)
		d.must(
			exec.Command(
				"debootstrap",
				"--variant=minbase",
				"--include=ca-certificates,passwd",
				suite,
				part,
				strings.TrimSpace(string(mirror)),
			),
		)
		if err := os.Rename(part, base); err != nil {
			t.Fatal(err)
		}
	}
	upper := t.TempDir()
	for _, dir := range []string{"u", "w"} {
		if err := os.Mkdir(filepath.Join(upper, dir), 0o755); err != nil {
			t.Fatal(err)
		}
	}
	options := fmt.Sprintf("lowerdir=%s,upperdir=%s/u,workdir=%s/w", base, upper, upper)
	if err := syscall.Mount("overlay", d.root, "overlay", 0, options); err != nil {
		t.Skipf("no file system can be laid over another here: %v", err)
	}
	t.Cleanup(func() {
		for name := range d.runs {
			d.stop(name)
		}
		for _, dir := range []string{"proc", "sys", "dev", ""} {
			_ = syscall.Unmount(filepath.Join(d.root, dir), syscall.MNT_DETACH)
		}
	})
	for _, dir := range []string{"proc", "sys", "dev"} {
		if err := syscall.Mount("/"+dir, filepath.Join(d.root, dir), "", syscall.MS_BIND|syscall.MS_RDONLY, ""); err != nil {
			t.Fatal(err)
		}
	}
	return d
}

// install installs a package.
func (d *debian) install(path string) string {
	d.t.Helper()
	b, err := os.ReadFile(path)
	if err != nil {
		d.t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(d.root, "tmp/package.deb"), b, 0o644); err != nil {
		d.t.Fatal(err)
	}
	return d.in("dpkg", "-i", "/tmp/package.deb")
}

// unit starts what a unit would start, as it would: its command, user, environment and folders.
func (d *debian) unit(name string, more ...string) {
	d.t.Helper()
	b, err := os.ReadFile(filepath.Join(d.root, "lib/systemd/system", name+".service"))
	if err != nil {
		d.t.Fatal(err)
	}
	var command, user string
	env := append([]string{"PATH=/usr/sbin:/usr/bin:/sbin:/bin"}, more...)
	credentials := "/run/credentials/" + name
	conditions, held := false, false
	for s := bufio.NewScanner(bytes.NewReader(b)); s.Scan(); {
		key, value, _ := strings.Cut(s.Text(), "=")
		switch key {
		case "ExecStart":
			command = value
		case "User":
			user = value
		case "Environment":
			for _, e := range strings.Fields(value) {
				env = append(env, strings.ReplaceAll(e, "%d", credentials))
			}
		case "ConditionPathExists": // one of those with | is enough
			path, either := strings.CutPrefix(value, "|")
			_, err := os.Stat(filepath.Join(d.root, path))
			conditions, held = conditions || either, held || either && err == nil
			if !either && err != nil {
				d.t.Fatalf("%s would not start: %v", name, err)
			}
		case "LoadCredential":
			id, from, _ := strings.Cut(value, ":")
			d.in("mkdir", "-p", credentials)
			d.in("cp", from, credentials+"/"+id)
		case "StateDirectory":
			for _, dir := range strings.Fields(value) {
				d.in("mkdir", "-p", "-m", "700", "/var/lib/"+dir)
				if user != "" {
					d.in("chown", user+":"+user, "/var/lib/"+dir)
				}
			}
		}
	}
	if conditions && !held {
		d.t.Fatalf("%s would not start: none of its conditions holds", name)
	}
	if command == "" {
		d.t.Fatalf("%s starts nothing", name)
	}
	args := []string{d.root}
	if user != "" {
		args = append([]string{"--userspec=" + user + ":" + user}, args...)
	}
	cmd := exec.Command("chroot", append(args, strings.Fields(command)...)...)
	cmd.Env = env
	said := &bytes.Buffer{}
	cmd.Stdout, cmd.Stderr = said, said
	if err := cmd.Start(); err != nil {
		d.t.Fatal(err)
	}
	d.runs[name], d.said[name] = cmd, said
}

// stop ends what a unit started, as the service manager does.
func (d *debian) stop(name string) {
	cmd := d.runs[name]
	if cmd == nil {
		return
	}
	delete(d.runs, name)
	_ = cmd.Process.Signal(syscall.SIGTERM)
	if err := cmd.Wait(); err != nil {
		d.t.Errorf("%s did not end as it should: %v\n%s", name, err, d.said[name])
	}
}

func (d *debian) until(what string, is func() bool) {
	d.t.Helper()
	for end := time.Now().Add(60 * time.Second); !is(); time.Sleep(200 * time.Millisecond) {
		if time.Now().After(end) {
			all := ""
			for name, said := range d.said {
				all += name + ":\n" + said.String()
			}
			d.t.Fatalf("waited in vain until %s\n%s", what, all)
		}
	}
}

// made builds both packages from sources, under a version.
func made(t *testing.T, sources, version string) (service, agent string) {
	dir := t.TempDir()
	cmd := exec.Command("go", "run", ".", dir)
	cmd.Env = append(
		os.Environ(),
		"SOURCES="+sources,
		"VERSION="+version,
		"SOURCE_DATE_EPOCH=1790000000",
		"ARCHITECTURES=amd64",
	)
	if out, err := cmd.CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	return filepath.Join(dir, "lantern_"+version+"_amd64.deb"), filepath.Join(dir, "lantern-agent_"+version+"_amd64.deb")
}

// TestUpgrade: in a fresh Debian the packages of an earlier version are installed and run, the agent and then the
// service are upgraded with all data and settings kept, the records are backed up, destroyed, restored and looked
// through, and the packages are removed and purged.
func TestUpgrade(t *testing.T) {
	d := newDebian(t)
	from := os.Getenv("UPGRADE_FROM")
	if from == "" {
		out, err := exec.Command("git", "describe", "--tags", "--abbrev=0").Output()
		if err != nil {
			out, err = exec.Command("git", "rev-list", "-n", "1", "--skip", "10", "HEAD").Output()
		}
		if err != nil {
			t.Skipf("there is no earlier version: %v", err)
		}
		from = strings.TrimSpace(string(out))
	}
	old := t.TempDir()
	d.must(exec.Command("git", "worktree", "add", "--detach", "--force", old, from))
	t.Cleanup(func() { _ = exec.Command("git", "worktree", "remove", "--force", old).Run() })
	d.must(exec.Command("sh", "-c", "mkdir -p "+old+"/web/dist && cp -r ../web/dist/. "+old+"/web/dist/"))
	oldService, oldAgent := made(t, old, "1.0")
	newService, newAgent := made(t, "..", "1.1")
	again, _ := made(t, "..", "1.1")
	a, _ := os.ReadFile(newService)
	b, _ := os.ReadFile(again)
	if len(a) == 0 || !bytes.Equal(a, b) {
		t.Error("the same sources give two different packages")
	}

	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	address := l.Addr().String()
	l.Close()
	d.install(oldService)
	d.install(oldAgent)
	write := func(path, text string) {
		if err := os.WriteFile(filepath.Join(d.root, path), []byte(text), 0o640); err != nil {
			t.Fatal(err)
		}
	}
	write("etc/lantern/service.yaml", "# ours\nlisten: "+address+"\n")
	d.in("chown", "root:lantern", "/etc/lantern/service.yaml")
	write("etc/lantern/agent.yaml", "# ours\nhost: skerry\nserver: http://"+address+"\ndevices: nothing\nevery: 1s\n")
	d.in("lantern", "config", "check", "service", "/etc/lantern/service.yaml")
	d.unit("lantern")
	token := ""
	d.until("the service tells the administrator's token", func() bool {
		m := regexp.MustCompile(`only this once: (\S+)`).FindStringSubmatch(d.said["lantern"].String())
		if m != nil {
			token = m[1]
		}
		return m != nil
	})
	ask := func(args ...string) string {
		t.Helper()
		cmd := exec.Command(
			"chroot",
			append([]string{d.root, "/usr/bin/lantern", "--server", "http://" + address}, args...)...)
		cmd.Env = []string{"LANTERN_TOKEN=" + token, "HOME=/root"}
		out, err := cmd.Output() // standard error is not part of the answer
		if err != nil {
			t.Fatalf("%v: %v", args, err)
		}
		return string(out)
	}
	write("etc/lantern/agent.token", ask("host", "enrol", "skerry"))
	ask("host", "room", "skerry", "stone house")
	ask("rule", "set", "burst_sectors", "20")
	d.unit("lantern-agent")
	reports := func() bool {
		return regexp.MustCompile(
			`skerry\s+stone\s+house\s+reporting|skerry\s+stone house\s+reporting|skerry,stone house,reporting`,
		).MatchString(
			ask("host", "list", "-o", "csv"),
		)
	}
	d.until("the old agent reports to the old service", reports)
	kept := func() {
		t.Helper()
		if rules := ask("rule", "list"); !regexp.MustCompile(`burst_sectors\s+20`).MatchString(rules) &&
			!strings.Contains(ask("rule", "list", "-o", "json"), "burst_sectors") {
			t.Errorf("the threshold is lost:\n%s", rules)
		}
		d.until("it reports", reports)
		for _, kind := range []string{"service", "agent"} {
			if text := d.in("cat", "/etc/lantern/"+kind+".yaml"); !strings.HasPrefix(text, "# ours") {
				t.Errorf("the settings of the %s were replaced:\n%s", kind, text)
			}
		}
	}

	since := func() string { return ask("host", "list", "-o", "csv", "--columns", "last_report") }
	later := func(what string) {
		t.Helper()
		was := since()
		d.until(what, func() bool { return since() != was })
	}
	d.stop("lantern-agent")
	d.install(newAgent)
	d.unit("lantern-agent")
	later("the new agent reports to the old service")
	d.stop("lantern")
	if plan := d.install(newService); !strings.Contains(plan, "lantern") {
		t.Error(plan)
	}
	d.unit("lantern")
	d.until(
		"the new service answers",
		func() bool { return strings.Contains(d.said["lantern"].String(), "lantern serves") },
	)
	later("the new agent reports to the new service")
	kept()
	d.stop("lantern-agent")
	d.in("dpkg", "--remove", "lantern-agent")
	d.install(oldAgent)
	d.unit("lantern-agent")
	later("the old agent reports to the new service")
	kept()

	d.in(
		"chroot",
		"--userspec=lantern:lantern",
		"/",
		"/usr/bin/lantern",
		"backup",
		"--data",
		"/var/lib/lantern/service",
		"/var/lib/lantern/backups/before.db",
	)
	d.stop("lantern")
	d.in("sh", "-c", "rm -rf /var/lib/lantern/service/*")
	d.in(
		"chroot",
		"--userspec=lantern:lantern",
		"/",
		"/usr/bin/lantern",
		"restore",
		"--data",
		"/var/lib/lantern/service",
		"/var/lib/lantern/backups/before.db",
	)
	if said := d.in("chroot", "--userspec=lantern:lantern", "/", "/usr/bin/lantern", "check", "--data",
		"/var/lib/lantern/service"); strings.Contains(
		said,
		"WRONG",
	) {
		t.Error(said)
	}
	d.unit("lantern")
	d.until(
		"the restored service answers",
		func() bool { return strings.Contains(d.said["lantern"].String(), "lantern serves") },
	)
	ask("take-over", "--reason", "a rehearsal of the restore")
	later("the agent reports to the restored service")
	kept()

	// Installed again with an invitation, it is another host.
	d.stop("lantern-agent")
	d.install(newAgent)
	d.in("sh", "-c", "rm -rf /var/lib/lantern/agent/* /etc/lantern/agent.token")
	write("etc/lantern/agent.invite", ask("host", "invite", "--approve", "gann*"))
	write("etc/lantern/agent.yaml", "# ours\nhost: gannet\nserver: http://"+address+"\ndevices: nothing\nevery: 1s\n")
	d.unit("lantern-agent")
	d.until("the invited host reports", func() bool {
		return regexp.MustCompile(`gannet,,reporting`).MatchString(ask("host", "list", "-o", "csv"))
	})

	d.stop("lantern-agent")
	d.stop("lantern")
	d.in("dpkg", "--remove", "lantern", "lantern-agent")
	there := func(path string) bool { _, err := os.Stat(filepath.Join(d.root, path)); return err == nil }
	if there("usr/bin/lantern") || there("lib/systemd/system/lantern.service") || !there("etc/lantern/service.yaml") {
		t.Error("removed: the program goes, the settings stay")
	}
	d.in("dpkg", "--purge", "lantern", "lantern-agent")
	if there("etc/lantern/service.yaml") || there("var/lib/lantern/agent") ||
		!there("var/lib/lantern/service/lantern.db") {
		t.Error("purged: the settings go, the records stay")
	}
}
