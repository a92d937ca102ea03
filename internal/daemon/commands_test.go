package daemon

import (
	"bytes"
	"context"
	"encoding/csv"
	"encoding/json"
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"
	"unicode/utf8"

	"github.com/stretchr/testify/require"
	"github.com/urfave/cli/v3"

	client "lantern/internal/cli"
	"lantern/internal/lab"
)

var rewrite = flag.Bool("rewrite", false, "write what the commands print into testdata")

// commands are those that are run on the demo's data, in this order. Some change something; what they print then is
// looked at as well.
var commands = []string{
	"round",
	"drives",
	"drives --pool soundscape --sort -temperature_celsius",
	"drives --where pending_sectors>10",
	"drive ZU006",
	"trend ZU006 pending_sectors --since 90d",
	"readings import nosuch",
	"bays skerry",
	"pools",
	"pool soundscape",
	"whatif soundscape --lose ZU006,XE932",
	"fit soundscape",
	"moves driftnet --replace skerry.1=8TB --replace fulmar.1=8TB --add petrel=4TB",
	"recoveries",
	"host list",
	"person list",
	"find ZU",
	"find nothing-of-that-name",
	"metrics list",
	"rule list",
	"rule explain pending-sectors",
	"rule settings",
	"rule try pending_sectors>10",
	"notices list",
	"channel list",
	"plan list",
	"plan show fleet",
	"plan preview fleet --weeks 1 --short never",
	"plan tests",
	"selftest show",
	"selftest standing",
	"stock list",
	"accept list",
	"accept policy",
	"campaign list",
	"campaign plan tidegauge --size 20TB",
	"enclosure list skerry",
	"enclosure export skerry chassis",
	"swap list",
	"swap plan ZU006",
	"! swap begin ZU006 --reason golden --no-backup",
	"swap show ZU006",
	"swap report ZU006",
	"lab speed",
	"swap hold tidegauge-none",
	"! swap hold ZU006 --reason lunch",
	"! swap resume ZU006",
	"! swap next ZU006",
	"! swap confirm ZU006 --tail NOSUCH",
	"! swap lead ZU006 --to bo",
	"! swap abandon ZU006 --reason golden",
	"! swap fate ZU006 return",
	"! light on skerry/front/3 --for 10m",
	"light list",
	"! light off skerry/front/3",
	"! host room skerry 'stone house'",
	"! host cold guillemot",
	"! host cold guillemot --not",
	"! host enrol fulmar",
	"! host renew fulmar",
	"! host renew nosuch",
	"! host enrol new-host",
	"! person add bo",
	"person list",
	"! person add night-shift --role operator --host skerry --pool soundscape --for 30d",
	"! person add eve --role king",
	"person list",
	"person sessions",
	"! person end-session nosuch",
	"! person renew bo",
	"! person remove bo",
	"audit list",
	"audit verify",
	"! audit verify --checkpoint 99:abc",
	"! person remove nobody",
	"! rule set burst_sectors 20",
	"! rule unset burst_sectors",
	"! rule off service-life",
	"! rule on service-life",
	"! rule add warm-and-growing 'pending_sectors_7d > 0 && temperature_celsius > 30' --verdict watch --says 'is warm " +
		"and growing'",
	"! rule add broken 'pending_sectors >' --says broken",
	"! rule remove warm-and-growing",
	"! plan set nightly --pool soundscape --short 'every 2 days 23:00'",
	"plan list",
	"! plan remove nightly",
	"! plan feed",
	"! channel set night-shift --syslog 127.0.0.1:9",
	"channel list",
	"! channel remove night-shift",
	"! stock keep LF389 --note 'cupboard, second shelf'",
	"stock list",
	"! stock drop LF389",
	"! selftest start LM409 --kind short",
	"selftest show",
	"! selftest stop LM409",
	"! admit specimens GA301 --tail GA301",
	"! accept begin LF389 --short",
	"accept list",
	"! accept stop LF389",
	"! enclosure confirm guillemot/front/6 RL377",
	"! enclosure remove guillemot chassis",
	"! enclosure define guillemot --rows 4 --columns 4",
	"! survey begin guillemot",
	"survey show guillemot",
	"! survey end guillemot",
	"! pool forget soundscape",
	"! lab mishap soundscape nosuch",
	"! lab pull skerry/front/3",
	"! lab eyes",
	"metrics explain pending_sectors",
	"recoveries --pool tidegauge",
	"drive NOSUCH",
	"drives --sort nosuch",
	"drives --verdict nosuch",
	"pool nosuch",
	"drives --pool soundscap",
	"drives --verdict watch --verdict replace --columns tail,bay,powered_hours,size_bytes",
	"host remove x",
	"swap xx",
	"drives --colums x",
	"drives --columns nosuch",
	"round --exit-code",
	"! help exit-codes",
	"! help nosuch",
	"! swap begin --help",
	"pools --wide --no-header",
	"! host rename new-host newer-host",
	"! host retire newer-host --reason 'enrolled by mistake'",
	"! host retire skerry --reason sold",
	"! forget drive XE932 --reason destroyed",
	"! forget drive NOSUCH --reason destroyed",
	"! forget pool soundscape --reason 'taken apart'",
	"! host invite --count 0",
	"! host approve nosuch",
	"! host withdraw nosuch",
	"host invitations",
	"inventory fields",
	"! inventory set ZU006 'supplier=Kelp & Sons' purchased=2023-11-20 warranty=5y",
	"! inventory set ZU006 LM417 batch=B-17 price=249.90 currency=EUR",
	"! inventory set ZU006 warrnty=5y",
	"! inventory note ZU006 'the seller was told'",
	"inventory show ZU006",
	"inventory list --where batch=B-17",
	"! inventory import nowhere.csv",
	"! inventory remove LM417",
	"drives --where batch=B-17 --columns tail,batch,warranty_days,supplier",
	"failures",
	"failures --by age --counts dead",
	"failures --by enclosure --model 'VELDRUN VR4-4000'",
	"! failures --survival",
	"! failures --by colour",
	"stock advise",
	"story drive ZU006",
	"! story pool tidegauge",
	"! story host nowhere",
	"! report month --pool soundscape",
	"recoveries compare lab-02-tidegauge-1 lab-05-driftnet-1",
	"! recoveries compare lab-02-tidegauge-1",
	"trend ZU006 LM417 pending_sectors --since 7d",
	"! trend ZU006 LM417 pending_sectors power_on_hours",
	"! enclosure move guillemot nosuch fulmar",
	"! report month --from nonsense",
	"! report month --room nowhere",
	"! merge XE932 GA301 --reason 'same label'",
	"! merge GA301 LC700 --reason 'same label'",
	"! rename pool soundscape 'two words'",
	"rename pool specimens samples",
	"rename pool samples specimens",
	"capacity",
	"capacity plankton --size 16TB",
	"! capacity nosuch",
	"! capacity --size big",
	"! host redfish add petrel --url http://127.0.0.1:1 --user lantern",
	"host redfish list",
	"! host redfish remove petrel",
	"! inventory note ZU006 LM417 'of the batch that was recalled'",
	"! lab load --hosts 2 --drives 20 --people 1 --for 1s", "! lab load --hosts 0",
	"site list", "! site invite north", "! site remove north",
	`! inventory note CN261 "rack moved" --happened 2026-11-22T10:00:00Z`,
	"inventory show CN261",
	"trend CN261 read_latency_seconds --since 7d",
}

// run is one command, as from a shell.
func (y *yard) run(format, line string) (out string, code int) {
	var said, errs bytes.Buffer
	root := client.Root("test")
	root.Writer, root.ErrWriter, root.Reader = &said, &errs, strings.NewReader("")
	ctx, cancel := context.WithTimeout(y.t.Context(), 10*time.Second) // none waits
	defer cancel()
	fields := csv.NewReader(strings.NewReader(strings.ReplaceAll(line, "'", `"`)))
	fields.Comma = ' '
	words, err := fields.Read()
	require.NoError(y.t, err)
	err = root.Run(ctx, append([]string{"lantern", "--server", y.r.url, "-o", format}, words...))
	if err != nil {
		fmt.Fprintln(&errs, client.Says(err))
	}
	return said.String() + errs.String(), client.Code(err)
}

var (
	ids     = regexp.MustCompile(`\b[0-9A-HJKMNP-TV-Z]{26}\b`)
	today   = regexp.MustCompile(`20\d\d-\d\d-\d\d[ T]\d\d:\d\d(:\d\d)?Z?`)
	secrets = regexp.MustCompile(`\b(lantern_)?[A-Za-z0-9_-]{40,}\b`)
	unsafe  = regexp.MustCompile(`[^A-Za-z0-9.,-]+`)
	address = regexp.MustCompile(`127\.0\.0\.1:\d+`)
)

// outline is the shape of JSON: each path once, with the type of what is there.
func outline(t *testing.T, in string) string {
	var v any
	require.NoError(t, json.Unmarshal([]byte(in), &v), in)
	paths := map[string]bool{}
	var walk func(at string, v any)
	walk = func(at string, v any) {
		switch x := v.(type) {
		case map[string]any:
			for k, v := range x {
				walk(at+"."+k, v)
			}
		case []any:
			for _, v := range x {
				walk(at+"[]", v)
			}
		default:
			paths[fmt.Sprintf("%s %T", at, v)] = true
		}
	}
	walk("", v)
	list := make([]string, 0, len(paths))
	for p := range paths {
		list = append(list, p)
	}
	slices.Sort(list)
	return strings.Join(list, "\n") + "\n"
}

// TestCommands compares what each command prints on the demo's data, in all three forms, with the output that a person
// last checked (-rewrite).
func TestCommands(t *testing.T) {
	y := newYard(t, nil)
	y.pass(10 * time.Minute)
	token, err := y.r.service.People.NewToken("ida")
	require.NoError(t, err)
	t.Setenv("LANTERN_TOKEN", token)
	t.Setenv("LANTERN_CONFIG", "")
	t.Setenv("XDG_CONFIG_HOME", t.TempDir())
	t.Setenv("HOME", t.TempDir())
	known := map[string]bool{}
	written := map[string]bool{}
	for nr, line := range commands {
		line, once := strings.CutPrefix(line, "! ")
		formats := []string{"json", "table", "csv"}
		if once {
			formats = formats[1:2]
		}
		said := "lantern " + line + "\n"
		for _, format := range formats {
			got, code := y.run(format, line)
			require.NotContains(t, got, "\x1b", "colour where nothing is a terminal: %s", line)
			for _, id := range ids.FindAllString(got, -1) {
				known[id[len(id)-6:]] = true // lists show the end of it
			}
			got = secrets.ReplaceAllString(address.ReplaceAllString(ids.ReplaceAllString(got, "ID"), "SERVICE"), "SECRET")
			if strings.HasPrefix(line, "person") || strings.HasPrefix(line, "audit") { // people are added in real time
				got = today.ReplaceAllString(got, "TODAY")
			}
			for id := range known {
				got = strings.ReplaceAll(got, id, "IDTAIL")
			}
			if format == "json" && code == client.ExitDone {
				got = outline(t, got)
			}
			said += fmt.Sprintf("\n-- %s, exit %d --\n%s", format, code, got)
		}
		path := filepath.Join("testdata", "commands", fmt.Sprintf("%03d-%s", nr, unsafe.ReplaceAllString(line, "_")))
		written[path] = true
		if *rewrite {
			require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
			require.NoError(t, os.WriteFile(path, []byte(said), 0o644))
			continue
		}
		want, err := os.ReadFile(path)
		require.NoError(t, err)
		require.Equal(t, string(want), said, "lantern %s", line)
	}
	files, err := filepath.Glob(filepath.Join("testdata", "commands", "*"))
	require.NoError(t, err)
	for _, path := range files {
		if *rewrite && !written[path] {
			require.NoError(t, os.Remove(path))
			continue
		}
		require.True(t, written[path], "%s is of a command that is no longer run", path)
	}
}

// TestEveryCommand fails on a command that TestCommands does not run, unless its test is named here.
func TestEveryCommand(t *testing.T) {
	elsewhere := []string{
		"accept pause", "accept resume", "accept show", "campaign abandon", "campaign next", "campaign show",
		"campaign skip", "channel test", "decode", "enclosure define", "follow", "judge", "lab insert", "lab join",
		"audit export", "lab part", "lab power", "lab silence", "lab stuck", "notices mute", "notices saw", "person renew",
		"drain", "grow", "nudge", "priority", "readings export", "readings latest", "rebalance", "recoveries export",
		"recoveries replay", "scrub", "selftest where", "stop", "survey back", "survey leave", "survey pass",
		"survey read", "survey tap", "survey walk", "swap back", "watch", "host refuse", "inventory export", "light pulls",
		"take-over",
	} // the stories of internal/e2e
	run := map[string]bool{}
	for _, line := range append(slices.Clone(commands), elsewhere...) {
		words := strings.Fields(strings.TrimPrefix(line, "! "))
		run[words[0]] = true
		run[strings.Join(words[:min(2, len(words))], " ")] = true
		if len(words) > 2 {
			run[strings.Join(words[1:3], " ")] = true
		}
	}
	var walk func(at string, c *cli.Command)
	walk = func(at string, c *cli.Command) {
		for _, name := range c.Names() {
			if at != "" && run[at+" "+name] || at == "" && run[name] {
				for _, sub := range c.Commands {
					walk(name, sub)
				}
				return
			}
		}
		t.Errorf("lantern %s %s is not run", at, c.Name)
	}
	for _, c := range client.Commands() {
		walk("", c)
	}
}

// TestHostileTexts: labels, names and models that could act on a terminal, forge a line or turn text round reach no
// output of any command as they are.
func TestHostileTexts(t *testing.T) {
	evil := "\x1b]52;c;cm0=\a\x1b[2J\r\nforged\u202Eline\u200B\xff"
	y := newYard(t, func(f *lab.Fleet) {
		for _, p := range f.Pools {
			p.Name += evil
		}
		for i, d := range f.Drives {
			d.Desc.Model += evil
			d.Desc.Firmware = "=cmd|' /C calc'!A0" + evil
			for k := range d.Holds {
				d.Holds[k] += evil
			}
			if i%7 == 0 {
				d.Desc.Vendor = evil
			}
		}
	})
	token, err := y.r.service.People.NewToken("ida")
	require.NoError(t, err)
	t.Setenv("LANTERN_TOKEN", token)
	t.Setenv("LANTERN_CONFIG", "")
	seen := 0
	for _, line := range commands {
		if strings.HasPrefix(line, "! ") {
			continue
		}
		for _, format := range []string{"json", "table", "csv"} {
			got, _ := y.run(format, line)
			require.True(t, utf8.ValidString(got), "lantern -o %s %s", format, line)
			for _, r := range got {
				require.False(t, r < 0x20 && r != '\n' || r >= 0x7F && r < 0xA0 || r == 0x202E || r == 0x200B,
					"lantern -o %s %s: %q", format, line, got)
			}
			for _, l := range strings.Split(got, "\n") {
				require.False(t, strings.HasPrefix(l, "forged"), "lantern -o %s %s forges a line: %q", format, line, got)
				require.NotContains(t, l, ",=cmd", "a spreadsheet would run it")
			}
			seen += strings.Count(got, "⟦1B⟧")
		}
	}
	require.Greater(t, seen, 50, "it is shown, and marked")
}
