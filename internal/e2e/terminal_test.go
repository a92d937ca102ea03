package e2e

import (
	"io"
	"os"
	"os/exec"
	"regexp"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/charmbracelet/x/vt"
	"github.com/creack/pty"
	"github.com/stretchr/testify/require"

	"lantern/internal/api"
)

// terminal is a command that runs in a terminal of its own.
type terminal struct {
	t      testing.TB
	pty    *os.File
	mu     sync.Mutex
	screen *vt.Emulator
	raw    []byte // all that was written to it
	gone   chan struct{}
	cmd    *exec.Cmd
}

// terminal starts one, so many columns wide and so many lines high.
func (s shell) terminal(columns, lines int, env []string, args ...string) *terminal {
	s.t.Helper()
	path, err := binary()
	require.NoError(s.t, err)
	x := &terminal{t: s.t, screen: vt.NewEmulator(columns, lines), gone: make(chan struct{})}
	x.cmd = exec.Command(path, args...)
	x.cmd.Env = append(
		append(append(os.Environ(), s.env...), "TERM=xterm-256color", "LANG=C.UTF-8", "LC_ALL=", "COLUMNS="),
		env...)
	x.pty, err = pty.StartWithSize(x.cmd, &pty.Winsize{Rows: uint16(lines), Cols: uint16(columns)})
	require.NoError(s.t, err)
	go func() { _, _ = io.Copy(x.pty, x.screen) }() // answers of the terminal to queries
	go func() {
		defer close(x.gone)
		b := make([]byte, 4096)
		for {
			n, err := x.pty.Read(b)
			x.mu.Lock()
			x.raw = append(x.raw, b[:n]...)
			_, _ = x.screen.Write(b[:n])
			x.mu.Unlock()
			if err != nil {
				_ = x.cmd.Wait()
				return
			}
		}
	}()
	s.t.Cleanup(func() {
		_ = x.cmd.Process.Kill()
		<-x.gone
		_ = x.pty.Close()
	})
	return x
}

// shown is the text on the screen.
func (x *terminal) shown() string {
	x.mu.Lock()
	defer x.mu.Unlock()
	return x.screen.String()
}

func (x *terminal) wrote() string {
	x.mu.Lock()
	defer x.mu.Unlock()
	return string(x.raw)
}

func (x *terminal) keys(text string) {
	x.t.Helper()
	_, err := x.pty.WriteString(text)
	require.NoError(x.t, err)
}

// until waits until all of some texts are on the screen.
func (x *terminal) until(texts ...string) string {
	x.t.Helper()
	return await(x.t, strings.Join(texts, ", "), x.shown, func(s string) bool {
		for _, text := range texts {
			if !strings.Contains(s, text) {
				return false
			}
		}
		return true
	})
}

// ends waits for its end.
func (x *terminal) ends() {
	x.t.Helper()
	select {
	case <-x.gone:
	case <-time.After(20 * time.Second):
		require.FailNow(x.t, "it runs on", x.shown())
	}
}

// TestWatch leads a whole swap by keys alone in the full-screen view, with a wrong drive pulled on the way.
func TestWatch(t *testing.T) {
	d := startDemo(t)
	x := d.terminal(130, 75, nil, "watch")
	x.until("in the round", "ZU006", "soundscape █ 2", "tidegauge ▁ 0 rebuild", "under way")
	require.Contains(t, x.shown(), "▶ ◆ replace")
	for i := 0; !regexp.MustCompile(`▶ .*ZU006`).MatchString(x.shown()); i++ {
		require.Less(t, i, 30)
		x.keys("j")
		time.Sleep(50 * time.Millisecond)
	}
	x.keys("\r")
	x.until("serial VR7ZU006", "sectors that cannot be read", "s swap")
	x.keys("\x1b")
	x.until("in the round", "under way")
	x.keys("?")
	x.until("the swap of the drive; where there is none, plan one")
	x.keys("\x1b")
	x.until("under way")

	d.run("swap", "plan", "ZU006", "--keep-spare")
	x.keys("s")
	x.until("out and in, in one bay", "Pull ZU006", "b begin")
	x.keys("b")
	x.until("a check warns; give a reason to begin:")
	x.keys("\r")
	x.until("without a reason it does not begin")
	x.keys("b")
	x.until("give a reason to begin:")
	x.keys("LM417 comes next\r")
	x.until("▶ Pull ZU006", "bay skerry/front/7")
	x.keys("l")
	x.until("skerry/front/7 is lit until")

	d.run("lab", "pull", "skerry/front/8")
	x.until("STOP", "XE932")
	require.Contains(t, x.wrote(), "\a", "the terminal rings")
	d.run("lab", "insert", "skerry/front/8", "--drive", "XE932")
	await(t, "the alarm is over", x.shown, func(s string) bool { return !strings.Contains(s, " STOP  ") })

	d.run("lab", "pull", "skerry/front/7")
	x.until("▶ Put in a new drive")
	tail := regexp.MustCompile(`^(\w+)`).FindString(d.run("lab", "insert", "skerry/front/7"))
	x.until("▶ Confirm the label tail")
	x.keys("c")
	x.until("label tail of the drive you put in:")
	x.keys("NOSUCH\r")
	x.until("a check of the new drive warns; give a reason to use it:")
	x.keys("tested on another host\r")
	x.until("is not the label tail")
	x.keys("c")
	x.until("label tail of the drive you put in:")
	x.keys(tail + "\r")
	x.until("give a reason to use it:")
	x.keys("tested on another host\r")
	fast := false
	await(
		t,
		"it is closed",
		func() api.Swap { return get[api.Swap](d.shell, "swap", "show", "ZU006") },
		func(w api.Swap) bool {
			switch shown := x.shown(); {
			case strings.Contains(shown, "why it goes on:"):
				x.keys("looked at\r") // the key was pressed while the checks of the previous step were shown
			case w.Open && w.Phase == api.SwapPhaseJoin:
				x.keys("n")
			case w.Phase == api.SwapPhaseRecover && !fast: // before, the order would come too late on a busy machine
				fast = true
				d.run("lab", "speed", "10000")
			}
			return w.Phase == api.SwapPhaseClosed
		},
	)
	x.until("✓ Verify")
	x.keys("q")
	x.ends()
	require.Zero(t, x.cmd.ProcessState.ExitCode())
}

// TestTerminals: redrawn output stays in its place on a narrow screen, and output is limited to what a terminal can do.
func TestTerminals(t *testing.T) {
	d := startDemo(t)
	x := d.terminal(60, 50, nil, "follow", "tidegauge")
	x.until("tidegauge  rebuild of KM297", "losing one more member", "margin")
	begun := strings.Count(x.wrote(), "tidegauge  rebuild")
	await(t, "it is drawn anew", func() int { return strings.Count(x.wrote(), "tidegauge  rebuild") },
		func(n int) bool { return n > begun+3 })
	require.Equal(t, 1, strings.Count(x.shown(), "tidegauge  rebuild"), x.shown())
	require.True(
		t,
		strings.HasPrefix(x.shown(), "tidegauge"),
		"nothing of an earlier drawing is left above: %s",
		x.shown(),
	)

	dumb := d.terminal(80, 24, []string{"TERM=dumb"}, "follow", "tidegauge")
	line := regexp.MustCompile(`20\d\d-\d\d-\d\d \d\d:\d\d:\d\d  tidegauge  rebuild of KM297  running, [0-9.]+ %`)
	await(
		t,
		"lines with time and pool",
		func() int { return len(line.FindAllString(dumb.wrote(), -1)) },
		func(n int) bool { return n > 2 },
	)
	require.NotContains(t, dumb.wrote(), "\x1b")

	for _, args := range [][]string{{"round"}, {"bays", "skerry"}, {"drive", "ZU006"}, {"swap", "plan", "ZU006"}} {
		ascii := d.terminal(80, 24, []string{"LANG=C", "NO_COLOR=1"}, args...)
		ascii.ends()
		for _, r := range ascii.wrote() {
			require.Less(t, r, rune(0x80), "%v: %q", args, ascii.wrote())
		}
		require.NotContains(t, ascii.wrote(), "\x1b")
	}
	refused := d.terminal(80, 24, []string{"TERM=dumb"}, "watch")
	refused.ends()
	require.Equal(t, 2, refused.cmd.ProcessState.ExitCode())
	require.Contains(t, refused.wrote(), "lantern round --watch")
}

// TestCompletion: bash without further packages completes commands, options and existing names.
func TestCompletion(t *testing.T) {
	bash, err := exec.LookPath("bash")
	if err != nil {
		t.Skip("*** SKIPPED: completion was not tried: bash is missing ***")
	}
	d := startDemo(t)
	path, err := binary()
	require.NoError(t, err)
	dir := t.TempDir()
	require.NoError(t, os.Symlink(path, dir+"/lantern"))
	complete := func(line string) []string {
		script := `source <(lantern completion bash)
COMP_WORDS=(` + line + `) COMP_CWORD=$((${#COMP_WORDS[@]} - 1))
_lantern
printf '%s\n' "${COMPREPLY[@]}"`
		cmd := exec.Command(bash, "--norc", "--noprofile", "-c", script)
		cmd.Env = append(append(os.Environ(), d.env...), "PATH="+dir+":"+os.Getenv("PATH"))
		out, err := cmd.CombinedOutput()
		require.NoError(t, err, "%s", out)
		return strings.Fields(string(out))
	}
	for line, want := range map[string]string{
		"lantern sw": "swap", "lantern swap pl": "plan", "lantern drives --col": "--columns", `lantern pool ""`: "soundscape",
		"lantern pool sou": "soundscape", "lantern drives --pool lo": "logbook", `lantern drives --verdict ""`: "replace",
		"lantern drive ZU": "ZU006", "lantern light on skerry/front/7": "skerry/front/7", "lantern bays sk": "skerry",
		"lantern trend ZU006 pending": "pending_sectors", "lantern drives --sort temp": "temperature_celsius",
		"lantern rule explain pend": "pending-sectors", "lantern light pulls al": "always", "lantern -o cs": "csv",
		"lantern help exit":    "exit-codes",
		"lantern plan show fl": "fleet", "lantern whatif soundscape --lose ZU": "ZU006",
	} {
		require.Contains(t, complete(line), want, line)
	}
	require.Empty(t, complete("lantern pool zzz"))
	for _, word := range complete("lantern pool sou") {
		require.NotContains(t, word, "lantern:", "no error becomes a word")
	}
}
