package daemon

import (
	"bytes"
	"cmp"
	"context"
	"encoding/binary"
	"encoding/hex"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"github.com/urfave/cli/v3"

	client "lantern/internal/cli"
	"lantern/internal/core/drive"
)

// shellWords splits a line as a shell does, as far as examples need it, and takes redirections out of it.
func shellWords(t *testing.T, line string) (words []string, in, out string) {
	t.Helper()
	var word strings.Builder
	open, quote := false, rune(0)
	flush := func() {
		if open {
			words = append(words, word.String())
		}
		word.Reset()
		open = false
	}
	for _, r := range line {
		switch {
		case quote != 0 && r == quote:
			quote = 0
		case quote != 0:
			word.WriteRune(r)
		case r == '\'' || r == '"':
			quote, open = r, true
		case r == ' ':
			flush()
		default:
			word.WriteRune(r)
			open = true
		}
	}
	require.Zero(t, quote, "a quote is not closed: %s", line)
	flush()
	for i := 0; i < len(words); i++ {
		if (words[i] == ">" || words[i] == "<") && i+1 < len(words) {
			if words[i] == ">" {
				out = words[i+1]
			} else {
				in = words[i+1]
			}
			words = append(words[:i], words[i+2:]...)
			i--
		}
	}
	return words, in, out
}

// example runs one as a shell would, commands joined by pipes one after the other.
func (y *yard) example(line string) (said string, code int) {
	y.t.Helper()
	in := ""
	for _, part := range strings.Split(line, " | ") {
		var out string
		if out, said, code = y.command(part, in); code != client.ExitDone {
			break
		}
		in = out
	}
	return said, code
}

func (y *yard) command(line, in string) (printed, said string, code int) {
	words, from, to := shellWords(y.t, line)
	require.Equal(y.t, "lantern", words[0], line)
	var out, errs bytes.Buffer
	root := client.Root("test")
	root.Writer, root.ErrWriter, root.Reader = &out, &errs, strings.NewReader(in)
	if from != "" {
		b, err := os.ReadFile(from)
		require.NoError(y.t, err)
		root.Reader = bytes.NewReader(b)
	}
	ctx, cancel := context.WithTimeout(y.t.Context(), 20*time.Second)
	defer cancel()
	stop, stopped := make(chan struct{}), make(chan struct{})
	go func() { // orders are carried out while an example waits for their outcome
		defer close(stopped)
		for {
			select {
			case <-stop:
				return
			case <-time.After(100 * time.Millisecond):
			}
			y.fleet.Clock().Forward(12 * time.Second)
			for _, a := range y.agents {
				_ = a.Step(ctx)
			}
		}
	}()
	defer func() { close(stop); <-stopped }()
	err := root.Run(ctx, append([]string{"lantern", "--server", y.r.url}, words[1:]...))
	if err != nil {
		fmt.Fprintln(&errs, client.Says(err))
	}
	if to != "" {
		require.NoError(y.t, os.WriteFile(to, out.Bytes(), 0o600))
	}
	return out.String(), out.String() + errs.String(), client.Code(err)
}

func b2i(b bool) int { return map[bool]int{true: 1}[b] }

// TestExamples runs every example of every command's help, of the topics, of the README and of the handbook on the
// demo's data: each command has at least two, and each works, or is refused by a check in the demo's state.
func TestExamples(t *testing.T) {
	y := newYard(t, nil)
	y.pass(10 * time.Minute)
	token, err := y.r.service.People.NewToken("engineer")
	require.NoError(t, err)
	t.Setenv("LANTERN_TOKEN", token)
	t.Setenv("LANTERN_CONFIG", filepath.Join(t.TempDir(), "client.yaml"))
	require.NoError(t, os.WriteFile(os.Getenv("LANTERN_CONFIG"), nil, 0o600))
	readme, err := os.ReadFile("../../README.md")
	require.NoError(t, err)
	handbook, err := os.ReadFile("../../docs/operations.md")
	require.NoError(t, err)
	t.Chdir(t.TempDir())
	require.NoError(t, os.WriteFile("key.txt", []byte("a secret that nobody knows"), 0o600))
	y.example("lantern pool soundscape -o json > planned.json")
	y.example("lantern readings export > readings.jsonl")
	health := make([]byte, 512)
	binary.LittleEndian.PutUint16(health[1:], 310)
	health[3], health[4] = 100, 10
	require.NoError(t, os.WriteFile("page.bin", health, 0o600))
	for name, text := range map[string]string{"past.jsonl": `{"drive":"a","at":"2026-01-01T00:00:00Z","metrics":{"pending_sectors":0}}
{"drive":"a","at":"2026-01-02T00:00:00Z","metrics":{"pending_sectors":40}}
`, "failures.csv": "drive,failed\na,2026-01-09\n", "bought.csv": "serial,supplier,state\nVR9NEW01,Kelp,ordered\n",
		"bmc.txt": "a password\n"} {
		require.NoError(t, os.WriteFile(name, []byte(text), 0o600))
	}
	require.NoError(
		t,
		os.WriteFile(
			"dump.txt",
			[]byte(hex.Dump(drive.EncodeSmartData(drive.SmartData{Attributes: []drive.Attribute{{ID: 197, Raw: 38}}}))),
			0o600,
		),
	)

	// Examples that cannot run in a test: they run until they are stopped, or the other system does not exist.
	others := map[string]string{
		"channel test": "nobody is at the other end", "follow": "it follows until the end", "watch": "it needs a terminal",
		"survey walk":        "it asks a person",
		"person end-session": "the id is another one each time", "host approve": "no agent asks",
		"host refuse":   "no agent asks",
		"site ":         "TestSites runs them at a headquarters",
		"host withdraw": "the id is another one each time",
	}
	// What must be prepared before an example.
	before := map[string]string{
		"campaign abandon logbook": "campaign plan logbook", "light off ZU006": "light on ZU006",
		"host rename gannet": "host enrol gannet", "inventory remove": "inventory set ZU006 asset=A-1",
		"accept ":                 "accept begin XH001 --short",
		"enclosure ":              "enclosure define guillemot --section side --rows 4 --columns 4",
		"enclosure move petrel":   "enclosure define petrel --name shelf --section side --rows 2 --columns 4",
		"enclosure remove petrel": "enclosure define petrel --name shelf --section side --rows 2 --columns 4",
		"host redfish remove": "host redfish add skerry --url https://192.0.2.7 --user lantern " +
			"--password-file bmc.txt",
		"plan preview nightly":              "plan set nightly --pool soundscape",
		"enclosure define guillemot --file": "enclosure export guillemot chassis > shelf.yaml",
	}
	ran, tried := 0, map[string]bool{}
	try := func(line string) {
		for begins := range others {
			if strings.HasPrefix(line, "lantern "+begins) {
				return
			}
		}
		if tried[line] {
			return
		}
		tried[line] = true
		for begins, first := range before {
			if strings.HasPrefix(line, "lantern "+begins) {
				if said, code := y.example("lantern " + first); code != client.ExitDone {
					t.Logf("before: %s: %s", first, said)
				}
			}
		}
		said, code := y.example(line)
		if strings.Contains(said, "did not answer within the time limit") { // the clock runs fast here
			said, code = y.example(line)
		}
		ran++
		if strings.HasPrefix(line, "lantern person renew") && code == client.ExitDone {
			token, err := y.r.service.People.NewToken("engineer")
			require.NoError(t, err)
			t.Setenv("LANTERN_TOKEN", token)
		}
		if strings.Contains(said, "ordered; waiting") && code == client.ExitFailed {
			return // it was tried, and the host said why it is impossible
		}
		if code != client.ExitDone && code != client.ExitRefused && code != client.ExitNeedsHand {
			t.Errorf("%s\nexit %d: %s", line, code, said)
		}
	}
	var walk func(path string, c *cli.Command)
	walk = func(path string, c *cli.Command) {
		all, _ := client.Examples(c)
		if len(all) < 2 {
			t.Errorf("%s has %d examples, not two", path, len(all))
		}
		for _, e := range all {
			try(e)
		}
		for _, sub := range c.Commands {
			walk(path+" "+sub.Name, sub)
		}
	}
	all := client.Commands()
	slices.SortStableFunc(all, func(a, b *cli.Command) int { // before time passes and other tests of drives run
		return cmp.Compare(b2i(b.Name == "selftest"), b2i(a.Name == "selftest"))
	})
	for _, c := range all {
		walk("lantern "+c.Name, c)
	}
	for _, name := range client.Topics() {
		text, code := y.example("lantern help " + name)
		require.Zero(t, code)
		for _, m := range regexp.MustCompile(`(?m)^  (lantern [a-z].*[^.\n])$`).FindAllStringSubmatch(text, -1) {
			if !strings.Contains(m[1], "  ") { // a table of commands is not for running
				try(m[1])
			}
		}
	}
	server := regexp.MustCompile(`^lantern (serve|agent|demo|rehearse|driver|watch|standby|backup|config|store|--at)`)
	lines := regexp.MustCompile(`(?m)^ {4}(lantern [^<…]*?)( +#.*)?$`)
	for _, m := range lines.FindAllStringSubmatch(string(readme)+"\n"+string(handbook), -1) {
		if line := strings.TrimSpace(m[1]); !server.MatchString(line) {
			try(line)
		}
	}
	require.Greater(t, ran, 200)
}
