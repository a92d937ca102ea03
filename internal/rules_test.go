package internal_test

import (
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestRulesAreListed: docs/rules.md lists every rule that anything cites, and what it names as keeping a rule exists.
func TestRulesAreListed(t *testing.T) {
	doc, err := os.ReadFile("../docs/rules.md")
	require.NoError(t, err)
	listed := map[string]bool{}
	for _, row := range regexp.MustCompile(`(?m)^\| \*\*(R\d+)\*\* \|(.*)$`).FindAllStringSubmatch(string(doc), -1) {
		listed[row[1]] = true
		for _, path := range regexp.MustCompile("`(internal/[^`]+)`").FindAllStringSubmatch(row[2], -1) {
			_, err := os.Stat(filepath.Join("..", path[1]))
			require.NoError(t, err, "%s is kept by %s, which is not there", row[1], path[1])
		}
		for _, tag := range regexp.MustCompile("`(without_[a-z0-9]+)`").FindAllStringSubmatch(row[2], -1) {
			out, err := exec.Command("grep", "-rl", "go:build "+tag[1], "core").Output()
			require.NoError(t, err, "no code is compiled out by %s", tag[1])
			require.NotEmpty(t, out)
		}
	}
	require.Len(t, listed, 9)
	cited := map[string]bool{}
	for _, path := range tracked(t, "*.go", "*.ts", "*.tsx", "*.md") {
		b, err := os.ReadFile(filepath.Join("..", path))
		if os.IsNotExist(err) {
			continue
		}
		require.NoError(t, err)
		for _, m := range regexp.MustCompile(`\((R\d+)(?:, (R\d+))?\)`).FindAllStringSubmatch(string(b), -1) {
			for _, r := range m[1:] {
				if r != "" {
					cited[r] = true
					require.True(t, listed[r], "%s cites %s, which docs/rules.md does not list", path, r)
				}
			}
		}
	}
	require.Greater(t, len(cited), 6)
}

// tracked are the files under version control that fit.
func tracked(t *testing.T, patterns ...string) []string {
	out, err := exec.Command("git", append([]string{"-C", "..", "ls-files"}, patterns...)...).Output()
	require.NoError(t, err)
	return strings.Fields(string(out))
}

// TestProblemTypesAreListed: the API description lists each type of problem that the service can answer with, and no
// other.
func TestProblemTypesAreListed(t *testing.T) {
	api, err := os.ReadFile("api/openapi.yaml")
	require.NoError(t, err)
	_, part, found := strings.Cut(string(api), "    ProblemType:\n")
	require.True(t, found)
	_, part, _ = strings.Cut(part, "[")
	part, _, _ = strings.Cut(part, "]")
	listed := regexp.MustCompile(`[a-z-]+`).FindAllString(part, -1)
	require.Greater(t, len(listed), 100)
	used := map[string]bool{}
	made := []*regexp.Regexp{
		regexp.MustCompile(`problem\.(?:New|Forever)\(\s*(?:\d+|http\.\w+),\s*"([a-z-]+)"`),
		regexp.MustCompile(`\bNew\(\s*\d+,\s*"([a-z-]+)"`),
		regexp.MustCompile(`\brefuse\(\s*"([a-z-]+)"`),
		regexp.MustCompile(`Refusal\{\s*Type:\s*"([a-z-]+)"`),
	}
	field := regexp.MustCompile(`Type:\s+"([a-z-]+)"`)
	for _, path := range tracked(t, "internal/*.go") {
		if strings.HasSuffix(path, "_test.go") {
			continue
		}
		b, err := os.ReadFile(filepath.Join("..", path))
		if os.IsNotExist(err) {
			continue
		}
		require.NoError(t, err)
		patterns := made
		if strings.Contains(string(b), "problem.Problem{") {
			patterns = append(slices.Clone(made), field)
		}
		for _, p := range patterns {
			for _, m := range p.FindAllStringSubmatch(string(b), -1) {
				used[m[1]] = true
				require.Contains(
					t,
					listed,
					m[1],
					"%s answers with a type that the API description does not list",
					path,
				)
			}
		}
	}
	for _, kind := range []string{"no-host", "no-pool", "no-model"} { // made with the names that there are
		used[kind] = true
	}
	for _, l := range listed {
		if l != "in-use" && l != "use-unknown" { // one of the two is chosen where it is made
			require.True(t, used[l], "nothing answers with %s", l)
		}
	}
}
