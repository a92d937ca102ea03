// Package internal_test keeps the layers apart.
package internal_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"golang.org/x/tools/go/packages"
)

// may says what of ours each layer may import; a layer may always import what is below the same folder.
var may = map[string][]string{
	"internal/core":       {},
	"internal/api":        {},
	"internal/clock":      {},
	"internal/store":      {},
	"internal/wire":       {"internal/api", "internal/core"},
	"internal/agent":      {"internal/api", "internal/clock", "internal/core", "internal/link", "internal/wire"},
	"internal/practice":   {},
	"internal/bounds":     {"internal/api"},
	"internal/link":       {},
	"internal/authority":  {},
	"internal/harmless":   {},
	"internal/nearest":    {},
	"internal/paper":      {"internal/api", "internal/core"},
	"internal/lab":        {"internal/agent", "internal/clock", "internal/core", "internal/practice"},
	"internal/ownrule":    {"internal/core"},
	"internal/channel":    {"internal/harmless"},
	"internal/recurrence": {"internal/core"},
	"internal/service": {
		"internal/api",
		"internal/authority",
		"internal/channel",
		"internal/clock",
		"internal/core",
		"internal/link",
		"internal/nearest",
		"internal/ownrule",
		"internal/recurrence",
		"internal/store",
		"internal/wire",
	},
	"internal/httpd": {
		"internal/bounds",
		"internal/api",
		"internal/core",
		"internal/lab",
		"internal/harmless",
		"internal/paper",
		"internal/practice",
		"internal/service",
		"internal/sites",
		"internal/wire",
		"web",
	},
	"internal/sites": {"internal/api", "internal/clock", "internal/core", "internal/service", "internal/store"},
	"internal/proof": {"internal/core"},
	"internal/load":  {"internal/api"},
	"internal/cli": {
		"internal/api",
		"internal/core",
		"internal/harmless",
		"internal/link",
		"internal/load",
		"internal/nearest",
		"internal/paper",
		"internal/practice",
		"internal/wire",
	},
	"internal/daemon": {
		"internal/agent",
		"internal/harmless",
		"internal/paper",
		"internal/api",
		"internal/authority",
		"internal/clock",
		"internal/core",
		"internal/httpd",
		"internal/lab",
		"internal/link",
		"internal/practice",
		"internal/service",
		"internal/sites",
		"internal/store",
		"internal/wire",
	},
	"internal/year": {
		"internal/agent",
		"internal/api",
		"internal/clock",
		"internal/lab",
		"internal/service",
		"internal/store",
	},
	"cmd": {"internal/cli", "internal/daemon", "internal/nearest"},
	"web": {},
}

// pure is what the core must not touch: I/O, logs, and the time that the system tells.
var pure = []string{"os", "net", "net/http", "log", "log/slog", "io/fs", "os/exec", "database/sql", "syscall"}

func TestLayers(t *testing.T) {
	all, err := packages.Load(
		&packages.Config{
			Mode: packages.NeedName | packages.NeedImports | packages.NeedSyntax | packages.NeedFiles,
			Dir:  "..",
		},
		"lantern/...",
	)
	require.NoError(t, err)
	require.Greater(t, len(all), 15)
	within := func(path string, layers []string) bool {
		for _, l := range layers {
			if path == l || strings.HasPrefix(path, l+"/") {
				return true
			}
		}
		return false
	}
	for _, p := range all {
		path := strings.TrimPrefix(p.PkgPath, "lantern/")
		var layer string
		for l := range may {
			if within(path, []string{l}) {
				layer = l
			}
		}
		if path == "internal/e2e" || path == "internal" || strings.HasPrefix(path, "internal/rig") {
			continue
		}
		require.NotEmpty(t, layer, "%s is in no layer: say in this test what it may import", path)
		for imported := range p.Imports {
			if ours, ok := strings.CutPrefix(imported, "lantern/"); ok {
				require.True(t, within(ours, append(may[layer], layer)), "%s imports %s", path, ours)
			} else if layer == "internal/core" {
				require.NotContains(t, pure, imported, "%s is not pure", path)
				require.False(
					t,
					strings.Contains(imported, "."),
					"%s imports %s: the core is made of the standard library alone",
					path,
					imported,
				)
			}
		}
	}
}

// TestCoreIsToldTheTime: nothing in the core asks what time it is, starts a goroutine or waits.
func TestCoreIsToldTheTime(t *testing.T) {
	all, err := packages.Load(
		&packages.Config{
			Mode: packages.NeedName | packages.NeedFiles | packages.NeedSyntax | packages.NeedTypes |
				packages.NeedTypesInfo | packages.NeedImports | packages.NeedDeps,
			Dir: "..",
		},
		"lantern/internal/core/...",
	)
	require.NoError(t, err)
	for _, p := range all {
		for id, used := range p.TypesInfo.Uses {
			if used.Pkg() != nil && used.Pkg().Path() == "time" {
				require.NotContains(
					t,
					[]string{"Now", "Since", "Until", "Sleep", "After", "AfterFunc", "Tick", "NewTimer", "NewTicker"},
					topLevel(used.Name(), used.Parent() == used.Pkg().Scope()),
					"%s",
					p.Fset.Position(id.Pos()),
				)
			}
		}
	}
}

// topLevel is the name of a function of the package itself; methods such as Time.After are no clock.
func topLevel(name string, top bool) string {
	if top {
		return name
	}
	return ""
}
