package e2e

import (
	"fmt"
	"net"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"

	"lantern/internal/api"
)

// TestConfig: an option has priority over the environment, and that over the file; an error in a file is shown with its
// line and the nearest name, and nothing is started; printed settings can be used again.
func TestConfig(t *testing.T) {
	file := func(text string) string {
		path := filepath.Join(t.TempDir(), "settings.yaml")
		require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
		return path
	}
	quiet := shell{
		t,
		[]string{"LANTERN_CONFIG=", "LANTERN_SERVER=", "LANTERN_TOKEN=", "LANTERN_LISTEN=", "LANTERN_EVERY="},
	}
	for kind, wrong := range map[string][][2]string{
		"service": {
			{"listen: 127.0.0.1:7455\nverbos: true\n", `:2:1: no setting "verbos"; did you mean "verbose"?`},
			{"listen: x\n", `"x" is not an address to listen on`},
			{"listen: 0.0.0.0:7411\n", "would send tokens in the clear"},
			{"cert: a.pem\n", "TLS needs both --cert and --key"},
			{"verbose: maybe\n", ":1:10: verbose:"},
			{"base-url: lantern.example\n", "is not an address such as https://lantern.example"},
			{"trusted-proxy: [127.0.0.1, proxy]\n", `--trusted-proxy "proxy" is not an address`},
			{"log: xml\n", "--log is text or json"},
			{"metrics-listen: 0.0.0.0:7413\n", "anybody could read metrics"},
			{"metrics-listen: x\n", "--metrics-listen"},
			{"metrics-drives: some\n", "--metrics-drives is flagged, all or none"},
			{"backup-every: 1s\n", "--backup-every is at least 1m"},
			{"backup-keep: 0\n", "--backup-keep is at least 1"},
			{"backup-keep: -3\n", "--backup-keep is at least 1"},
			{"keep-events: 1d\n", "--keep-events is at least"},
			{"listen: [a, b]\n", ":1:9: listen: it is one value"},
			{"listen:\n", "listen: it has no value"},
			{"- listen\n", ":1:1: settings are lines such as"},
			{"listen: 'a\n", "found unexpected end of stream"},
		},
		"agent": {
			{"every: 10x\n", `:1:8: every: "10x" is not a duration`},
			{"every: 0s\n", "--every is at least 1s"},
			{"every: -5s\n", "every"},
			{"every: 45s\nevery: 46s\n", ":2:1: every is set twice"},
			{"devices: 'sd[a'\n", "is not a pattern"},
			{"token: secret\n", `no setting "token"; did you mean "token-file"?`},
			{"token-file: /nowhere/token\n", "/nowhere/token"},
		},
	} {
		for _, w := range wrong {
			path := file(w[0])
			for _, args := range [][]string{{"config", "check", kind, path},
				{map[string]string{"service": "serve", "agent": "agent"}[kind], "--config", path}} {
				a := quiet.try(args...)
				require.NotZero(t, a.code, "%v of %q", args, w[0])
				require.Contains(t, a.err, w[1], "%v of %q", args, w[0])
			}
		}
	}

	path := file(
		"every: 45s\nread-every: 10m\npool-program:\n  - node a.mjs\n  - node b.mjs\nserver: https://file.example\n" +
			"wake: true\n",
	)
	both := shell{t, append(quiet.env, "LANTERN_EVERY=20s", "LANTERN_SERVER=https://environment.example")}
	shown := both.run("config", "show", "agent", path)
	for _, line := range []string{"every: 20s  # from the environment, LANTERN_EVERY", "read-every: 10m  # from " + path,
		"  - node a.mjs\n  - node b.mjs  # from " + path, "server: https://environment.example  # from the environment",
		"wake: true", "# log: text"} {
		require.Contains(t, shown, line)
	}
	again := quiet.run("config", "show", "agent", file(shown))
	strip := func(s string) (out []string) {
		for line := range strings.Lines(s) {
			line, _, _ = strings.Cut(line, "  # from")
			out = append(out, strings.TrimSpace(line))
		}
		return out
	}
	require.Equal(t, strip(shown), strip(again), "what is shown can be used again")

	// A service that gets its port from its file, then from the environment, then from the option.
	listen, other, third := freePort(t), freePort(t), freePort(t)
	path = file(fmt.Sprintf("listen: %s\ndata: %s\nlog: json\n", listen, t.TempDir()))
	for want, p := range map[string]*process{
		listen: start(t, quiet.env, "serve", "--config", path),
		other:  start(t, append(quiet.env, "LANTERN_LISTEN="+other), "serve", "--config", path, "--data", t.TempDir()),
		third: start(t, append(quiet.env, "LANTERN_LISTEN="+other), "serve", "--config", path, "--data", t.TempDir(),
			"--listen", third),
	} {
		await(
			t,
			"it serves "+want,
			p.said,
			func(s string) bool { return strings.Contains(s, "lantern serves http://"+want) },
		)
		p.stop()
		require.Contains(t, p.said(), `"msg":"stopping"`, "the log is JSON")
	}
}

// TestNotify: the service manager gets messages when the service and an agent are ready, regularly while they work, and
// when they end.
func TestNotify(t *testing.T) {
	env := func(t *testing.T) ([]string, func(string)) {
		socket := filepath.Join(t.TempDir(), "notify")
		l, err := net.ListenUnixgram("unixgram", &net.UnixAddr{Name: socket, Net: "unixgram"})
		require.NoError(t, err)
		t.Cleanup(func() { l.Close() })
		return []string{
				"NOTIFY_SOCKET=" + socket,
				"WATCHDOG_USEC=2000000",
				"WATCHDOG_PID=",
				"LANTERN_CONFIG=",
				"LANTERN_SERVER=",
				"LANTERN_HOST_TOKEN=x",
			}, func(words string) {
				t.Helper()
				require.NoError(t, l.SetReadDeadline(time.Now().Add(45*time.Second)))
				for b := make([]byte, 1000); ; {
					n, err := l.Read(b)
					require.NoError(t, err, "nothing said %s", words)
					if strings.Contains(string(b[:n]), words) {
						return
					}
				}
			}
	}
	listen := freePort(t)
	for _, args := range [][]string{
		{"serve", "--listen", listen, "--data", t.TempDir()},
		{"agent", "--host", "skerry", "--server", "http://" + listen, "--data", t.TempDir(), "--devices", "nothing",
			"--every", "1s"},
	} {
		variables, told := env(t)
		p := start(t, variables, args...)
		told("READY=1")
		told("WATCHDOG=1")
		told("WATCHDOG=1")
		if args[0] == "serve" {
			require.NoError(t, p.cmd.Process.Signal(os.Interrupt))
			told("STOPPING=1")
			<-p.done
		}
	}
}

// TestInvited: an agent with an invitation and no token asks until it is approved, and then reports; after a restart it
// is still the same host. The console approves with one click.
func TestInvited(t *testing.T) {
	listen, data := freePort(t), t.TempDir()
	service := start(t, nil, "serve", "--listen", listen, "--data", data)
	said := await(
		t,
		"the service greets",
		service.said,
		func(s string) bool { return strings.Contains(s, "only this once: ") },
	)
	_, token, _ := strings.Cut(said, "only this once: ")
	token = strings.TrimSpace(token)
	admin := shell{t, []string{"LANTERN_CONFIG=", "LANTERN_SERVER=http://" + listen, "LANTERN_TOKEN=" + token}}
	code := strings.TrimSpace(admin.run("host", "invite", "--count", "2"))
	agent := func(name, data string) *process {
		return start(
			t,
			[]string{"LANTERN_CONFIG=", "LANTERN_HOST_TOKEN="},
			"agent",
			"--host",
			name,
			"--server",
			"http://"+listen,
			"--data",
			data,
			"--devices",
			"nothing",
			"--every",
			"1s",
			"--invite",
			code,
		)
	}
	folder := t.TempDir()
	first := agent("gannet", folder)
	await(
		t,
		"it asks",
		func() string { return admin.run("host", "invitations") },
		func(s string) bool { return strings.Contains(s, "gannet") },
	)
	await(
		t,
		"its log says what it waits for",
		first.said,
		func(s string) bool { return strings.Contains(s, "lantern host approve gannet") },
	)
	require.Contains(t, admin.run("host", "list"), "No host is enrolled")

	b := openBrowser(t, "http://"+listen)
	b.open("/hosts")
	b.do("sign in", chromedp.WaitVisible("input"), chromedp.SendKeys("input", token+"\r"))
	b.click("Approve gannet")
	b.see("gannet is enrolled", "lantern host enrol <name>")
	reports := func() string { return admin.run("host", "list") }
	await(t, "it reports", reports, func(s string) bool { return strings.Contains(s, "reporting") })
	since := func() string { return get[[]api.Host](admin, "host", "list")[0].Agent.StartedAt.String() }
	was := since()
	first.kill()
	agent("gannet", folder)
	await(t, "the next run reports", since, func(s string) bool { return s != was })
	agent("petrel", t.TempDir())
	await(
		t,
		"it asks",
		func() string { return admin.run("host", "invitations") },
		func(s string) bool { return strings.Contains(s, "petrel") },
	)
	admin.run("host", "refuse", "petrel")
	require.NotContains(t, reports(), "petrel")
}
