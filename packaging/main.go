// Command packaging makes the Debian packages lantern and lantern-agent and a tarball, for amd64 and arm64, the same
// bytes from the same sources:
//
//	go run . <folder>
//
// VERSION is what they are called, SOURCE_DATE_EPOCH the time of everything in them, SOURCES the folder of the sources,
// the one above where it is not set, and ARCHITECTURES which of them are made.
package main

import (
	"archive/tar"
	"cmp"
	"compress/gzip"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/goreleaser/nfpm/v2"
	_ "github.com/goreleaser/nfpm/v2/deb"
	"github.com/goreleaser/nfpm/v2/files"
)

// file is one in a package.
type file struct {
	from, to string
	mode     os.FileMode
}

type maker struct {
	out, work, version string
	at                 time.Time
}

func main() {
	if err := run(); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

func run() error {
	if len(os.Args) != 2 {
		return errors.New("name a folder for the packages")
	}
	epoch, err := strconv.ParseInt(os.Getenv("SOURCE_DATE_EPOCH"), 10, 64)
	if err != nil {
		return fmt.Errorf("SOURCE_DATE_EPOCH is the time of the sources in Unix seconds: %w", err)
	}
	m := maker{version: debianVersion(os.Getenv("VERSION")), at: time.Unix(epoch, 0).UTC()}
	if m.out, err = filepath.Abs(os.Args[1]); err != nil {
		return err
	}
	if m.work, err = os.MkdirTemp("", "packaging"); err != nil {
		return err
	}
	defer os.RemoveAll(m.work)
	if err := os.MkdirAll(m.out, 0o755); err != nil {
		return err
	}
	if err := m.texts(); err != nil {
		return err
	}
	for _, arch := range strings.Fields(cmp.Or(os.Getenv("ARCHITECTURES"), "amd64 arm64")) {
		if err := m.packages(arch); err != nil {
			return err
		}
	}
	return nil
}

// debianVersion makes a version one by which packages are ordered (Debian Policy 5.6.12).
func debianVersion(v string) string {
	return strings.TrimPrefix(strings.ReplaceAll(cmp.Or(v, "0"), "-", "+"), "v")
}

// build makes the binary for a machine; goos and goarch are this one's for what is run here.
func (m maker) build(arch string) (string, error) {
	to := filepath.Join(m.work, "lantern-"+arch)
	cmd := exec.Command(
		"go",
		"build",
		"-trimpath",
		"-buildvcs=false",
		"-ldflags",
		"-s -w -X lantern/internal/daemon.Version="+m.version,
		"-o",
		to,
		"./cmd/lantern",
	)
	cmd.Dir = cmp.Or(os.Getenv("SOURCES"), "..")
	cmd.Env = append(os.Environ(), "CGO_ENABLED=0", "GOOS=linux", "GOARCH="+arch)
	cmd.Stdout, cmd.Stderr = os.Stdout, os.Stderr
	return to, cmd.Run()
}

// texts makes what the commands themselves say: man pages, completion and example settings.
func (m maker) texts() error {
	cmd := exec.Command("go", "build", "-o", filepath.Join(m.work, "here"), "./cmd/lantern")
	cmd.Dir = cmp.Or(os.Getenv("SOURCES"), "..")
	cmd.Stderr = os.Stderr
	if err := cmd.Run(); err != nil {
		return err
	}
	say := func(args ...string) ([]byte, error) {
		cmd := exec.Command(filepath.Join(m.work, "here"), args...)
		cmd.Env = []string{"PATH=" + os.Getenv("PATH"), "HOME=" + m.work}
		cmd.Stderr = os.Stderr
		return cmd.Output()
	}
	man := filepath.Join(m.work, "man")
	if _, err := say("manual", man); err != nil {
		return err
	}
	pages, err := filepath.Glob(filepath.Join(man, "*"))
	if err != nil {
		return err
	}
	for _, p := range pages {
		if err := m.zip(p); err != nil {
			return err
		}
	}
	for _, shell := range []string{"bash", "zsh", "fish"} {
		b, err := say("completion", shell)
		if err != nil {
			return err
		}
		if err := os.WriteFile(filepath.Join(m.work, "completion."+shell), b, 0o644); err != nil {
			return err
		}
	}
	for _, kind := range []string{"service", "agent"} {
		b, err := say("config", "show", kind)
		if err != nil {
			return err
		}
		// What depends on the machine on which this runs is left out.
		b = regexp.MustCompile(`(?m)^# (data|host): .*$`).ReplaceAll(b, []byte("# $1:"))
		if err := os.WriteFile(filepath.Join(m.work, kind+".yaml"), b, 0o644); err != nil {
			return err
		}
	}
	return nil
}

// zip compresses a file, without its name and time.
func (m maker) zip(path string) error {
	b, err := os.ReadFile(path)
	if err != nil {
		return err
	}
	f, err := os.Create(path + ".gz")
	if err != nil {
		return err
	}
	z, err := gzip.NewWriterLevel(f, gzip.BestCompression)
	if err != nil {
		return err
	}
	_, err = z.Write(b)
	return errors.Join(err, z.Close(), f.Close())
}

func (m maker) packages(arch string) error {
	binary, err := m.build(arch)
	if err != nil {
		return err
	}
	pages, err := filepath.Glob(filepath.Join(m.work, "man", "*.gz"))
	if err != nil {
		return err
	}
	slices.Sort(pages)
	service := []file{
		{binary, "/usr/bin/lantern", 0o755},
		{"files/lantern.service", "/lib/systemd/system/lantern.service", 0o644},
		{filepath.Join(m.work, "service.yaml"), "/usr/share/lantern/service.yaml", 0o644},
		{filepath.Join(m.work, "completion.bash"), "/usr/share/bash-completion/completions/lantern", 0o644},
		{filepath.Join(m.work, "completion.zsh"), "/usr/share/zsh/vendor-completions/_lantern", 0o644},
		{filepath.Join(m.work, "completion.fish"), "/usr/share/fish/vendor_completions.d/lantern.fish", 0o644},
		{"../LICENSE", "/usr/share/doc/lantern/copyright", 0o644},
		{"../docs/operations.md", "/usr/share/doc/lantern/operations.md", 0o644},
		{"../examples/monitoring/alerts.yaml", "/usr/share/doc/lantern/examples/alerts.yaml", 0o644},
		{"../examples/monitoring/dashboard.json", "/usr/share/doc/lantern/examples/dashboard.json", 0o644},
	}
	for _, p := range pages {
		service = append(service, file{p, "/usr/share/man/man1/" + filepath.Base(p), 0o644})
	}
	agent := []file{
		{binary, "/usr/bin/lantern-agent", 0o755},
		{"files/lantern-agent.service", "/lib/systemd/system/lantern-agent.service", 0o644},
		{filepath.Join(m.work, "agent.yaml"), "/usr/share/lantern-agent/agent.yaml", 0o644},
		{"../LICENSE", "/usr/share/doc/lantern-agent/copyright", 0o644},
		{"../docs/pool-driver.md", "/usr/share/doc/lantern-agent/pool-driver.md", 0o644},
	}
	if err := m.deb("lantern", "watches drives in pools on many hosts, and leads through replacing them", arch,
		service); err != nil {
		return err
	}
	if err := m.deb("lantern-agent", "reports a machine's drives and pools to lantern, and obeys its orders", arch,
		agent); err != nil {
		return err
	}
	return m.tarball(arch, append(service, agent[1:]...))
}

func (m maker) deb(name, about, arch string, all []file) error {
	info := &nfpm.Info{
		Name: name, Arch: arch, Platform: "linux", Version: m.version, VersionSchema: "none", Section: "admin",
		Priority:   "optional",
		Maintainer: "The lantern team <lantern@localhost>", Description: about, License: "Apache-2.0", MTime: m.at,
		Overridables: nfpm.Overridables{
			Depends: []string{"ca-certificates"},
			Scripts: nfpm.Scripts{
				PostInstall: "files/" + name + ".postinst",
				PreRemove:   "files/" + name + ".prerm",
				PostRemove:  "files/" + name + ".postrm",
			},
		},
	}
	if name == "lantern" {
		info.Depends = append(info.Depends, "passwd")
	}
	for _, f := range all {
		info.Contents = append(info.Contents, &files.Content{Source: f.from, Destination: f.to, Type: files.TypeFile,
			FileInfo: &files.ContentFileInfo{Mode: f.mode, MTime: m.at, Owner: "root", Group: "root"}})
	}
	if err := nfpm.PrepareForPackager(info, "deb"); err != nil {
		return err
	}
	packager, err := nfpm.Get("deb")
	if err != nil {
		return err
	}
	to := filepath.Join(m.out, packager.ConventionalFileName(info))
	f, err := os.Create(to)
	if err != nil {
		return err
	}
	if err := errors.Join(packager.Package(info, f), f.Close()); err != nil {
		return fmt.Errorf("%s: %w", to, err)
	}
	fmt.Println(to)
	return nil
}

// tarball holds the same for machines without packages: unpacked at /, it puts everything where the packages put it.
func (m maker) tarball(arch string, all []file) error {
	to := filepath.Join(m.out, fmt.Sprintf("lantern_%s_linux_%s.tar.gz", m.version, arch))
	f, err := os.Create(to)
	if err != nil {
		return err
	}
	z, err := gzip.NewWriterLevel(f, gzip.BestCompression)
	if err != nil {
		return err
	}
	t := tar.NewWriter(z)
	slices.SortFunc(all, func(a, b file) int { return cmp.Compare(a.to, b.to) })
	for _, x := range all {
		b, err := os.ReadFile(x.from)
		if err != nil {
			return err
		}
		h := &tar.Header{
			Typeflag: tar.TypeReg,
			Name:     "." + x.to,
			Mode:     int64(x.mode),
			Size:     int64(len(b)),
			ModTime:  m.at,
			Uname:    "root",
			Gname:    "root",
		}
		if err := t.WriteHeader(h); err != nil {
			return err
		}
		if _, err := t.Write(b); err != nil {
			return err
		}
	}
	// Whoever runs the agent by the tarball has one binary.
	if err := t.WriteHeader(&tar.Header{Typeflag: tar.TypeSymlink, Name: "./usr/bin/lantern-agent", Linkname: "lantern",
		Mode: 0o777, ModTime: m.at, Uname: "root", Gname: "root"}); err != nil {
		return err
	}
	if err := errors.Join(t.Close(), z.Close(), f.Close()); err != nil {
		return err
	}
	fmt.Println(to)
	return nil
}
