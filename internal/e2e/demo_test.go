package e2e

import (
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"lantern/internal/api"
)

// demo is a running demo of its own.
type demo struct {
	shell
	process *process
	url     string
	link    string
	data    string
	listen  string
}

// startDemo starts a lab fleet and waits until its past was told: until the round shows what grows.
func startDemo(t testing.TB, args ...string) demo {
	t.Helper()
	d := demo{data: t.TempDir(), listen: freePort(t)}
	d.begin(t, args...)
	d.settle()
	return d
}

func (d *demo) begin(t testing.TB, args ...string) {
	t.Helper()
	d.process = start(t, nil, append([]string{"demo", "--listen", d.listen, "--data", d.data}, args...)...)
	said := await(
		t,
		"the demo greets",
		d.process.said,
		func(s string) bool { return strings.Contains(s, "Stop with Ctrl-C") },
	)
	d.link = regexp.MustCompile(`https?://\S+once\?code=\S+`).FindString(said)
	d.url = "http://" + d.listen
	d.shell = shell{
		t,
		[]string{
			"LANTERN_CONFIG=" + filepath.Join(d.data, "client.yaml"),
			"LANTERN_SERVER=",
			"LANTERN_TOKEN=",
			"NO_COLOR=1",
		},
	}
	require.NotEmpty(t, d.link)
}

func (d *demo) settle() api.Round {
	d.t.Helper()
	return await(
		d.t,
		"the round shows the morning",
		func() api.Round { return get[api.Round](d.shell, "round") },
		func(r api.Round) bool {
			return len(r.Lines) >= 7 && r.Lines[0].Pool == "soundscape" && len(r.Underway) > 0
		},
	)
}

// openSwap is the swap that is open, else the one planned last.
func (d *demo) openSwap() api.Swap {
	d.t.Helper()
	all := get[[]api.Swap](d.shell, "swap", "list")
	require.NotEmpty(d.t, all)
	for _, w := range all {
		if w.Open {
			return w
		}
	}
	return all[0]
}

func (d *demo) awaitPhase(phase api.SwapPhase) api.Swap {
	d.t.Helper()
	return await(d.t, "the swap is at "+string(phase), d.openSwap, func(w api.Swap) bool { return w.Phase == phase })
}
