package internal_test

import (
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// assuring are words by which people pull a drive, write to it, or think no more of it. None of them may be reachable
// from a fact that is not known (R7).
var assuring = regexp.MustCompile(
	`(?i)(can|may) be pulled|\bsafe\b|nothing (else )?(uses|is on|used)|\bunused\b|(ends|end) (were read and )?are blank|no use of it|holds no data`,
)

// established lists where such words are made, by file and function, and what establishes them there.
var established = map[string]string{
	"internal/service/swaps/seats.go notSwapped": "notFree is empty: the drive is there, its host " +
		"reports, both its ends were read and are blank, the kernel shows no use, no pool has it; otherwise the " +
		"words say that this is not so",
	"internal/service/swaps/seats.go spareOnly": "the spare stands by for nobody, its agent tells " +
		"of uses, and there are none but the pool's",
	"internal/cli/drives.go usedBy": "the service says that it was looked at, which it " +
		"does only of a drive that is there and whose host reports; no use is listed",
	"internal/core/swap/newcomer.go newcomer": "lies is empty: the drive is Blank, which the " +
		"service sets only of one that was read",
	"internal/core/swap/step_texts.go sayPull": "a pull waits for its checks, and says so",
	"internal/core/swap/lead.go owed":          "the drain before it was observed to have ended",
	"internal/core/swap/observed_pool.go seen": "the pool's view says that it is drained, and " +
		"that is an observation",
	"internal/core/swap/observed_pool.go block": "every check of this step was looked at with the " +
		"newest report, and none stops",
	"internal/core/health/rules_knowing.go var knowingRules": "the verdict with these words is unknown: they " +
		"tell what was known when the drive was last seen",
	"internal/core/pool/whatif.go const Safe": "an outcome of what-if: a pool of which a member " +
		"is unknown is Untold, never Safe",
	"internal/agent/places.go signatures": "the words accuse: nothing was found where a " +
		"member's data should be",
	"internal/lab/keeper.go Admit": "the lab knows what is on its own drives",
	"web/src/drives/page.tsx":      "the service says that it was looked at; otherwise the page says that it was not read",
	"web/src/drives/facts.tsx": "the service says that it was looked at; " +
		"otherwise the page says that it is not known",
	"web/src/pools/prospect.tsx": "the outcome of what-if as the service gives it",
}

// TestAssuringWords finds every place where such words are made, and fails on one that is not listed with what
// establishes them.
func TestAssuringWords(t *testing.T) {
	found := map[string]string{}
	for _, root := range []string{"../internal", "../cmd", "../web/src"} {
		require.NoError(t, filepath.WalkDir(root, func(path string, d fs.DirEntry, err error) error {
			if err != nil || d.IsDir() || strings.HasSuffix(path, "_test.go") || strings.HasSuffix(path, ".gen.go") ||
				strings.Contains(path, "schema.gen") ||
				strings.Contains(path, "internal/proof") {
				return err
			}
			name := strings.TrimPrefix(path, "../")
			switch filepath.Ext(path) {
			case ".go":
				return goWords(path, func(in, says string) { found[name+" "+in] = says })
			case ".tsx", ".ts":
				b, err := os.ReadFile(path)
				for _, line := range strings.Split(string(b), "\n") {
					if code, _, _ := strings.Cut(line, "/**"); assuring.MatchString(code) {
						found[name] = strings.TrimSpace(line)
					}
				}
				return err
			}
			return nil
		}))
	}
	for place, says := range found {
		require.NotEmpty(
			t,
			established[place],
			"%s says %q: list what establishes that, or say it otherwise",
			place,
			says,
		)
	}
	for place := range established {
		require.NotEmpty(t, found[place], "%s is listed, and says nothing of the kind any more", place)
	}
}

// goWords calls f for every string that assures, with the function or variable that it stands in.
func goWords(path string, f func(in, says string)) error {
	file, err := parser.ParseFile(token.NewFileSet(), path, nil, parser.SkipObjectResolution)
	if err != nil {
		return err
	}
	for _, decl := range file.Decls {
		in := ""
		look := func(n ast.Node) bool {
			if _, tag := n.(*ast.Field); tag {
				return false // names and tags are no words
			}
			if lit, ok := n.(*ast.BasicLit); ok && lit.Kind == token.STRING {
				if s, err := strconv.Unquote(lit.Value); err == nil && assuring.MatchString(s) {
					f(in, s)
				}
			}
			return true
		}
		switch d := decl.(type) {
		case *ast.FuncDecl:
			in = d.Name.Name
			if d.Body != nil {
				ast.Inspect(d.Body, look)
			}
		case *ast.GenDecl:
			for _, s := range d.Specs {
				if v, ok := s.(*ast.ValueSpec); ok {
					in = d.Tok.String() + " " + v.Names[0].Name
					ast.Inspect(v, look)
				}
			}
		}
	}
	return nil
}

// riddles are phrases that a reader has to guess at; each has a plain one in its place.
var riddles = []string{
	"more may fail",
	"went quiet",
	"; it is well",
	"\"it is new\"",
	"before it is trusted",
	"counts nothing bad",
	"no other swap counts",
	"only open matter",
	"what fits is known",
	"there lies",
	"lies data",
	"ran for as long as",
	"has nothing to say",
	"obody walks",
	"is no stock",
	"so be it",
	"say replace",
	"deserve a test",
	"what can wait",
	"that are over as well",
	"nobody has seen",
	"what hands do",
	"in one way",
	"own up to",
	"here is no %s",
	"here is no %q",
	"told apart",
	"\"past end\"",
	"before it\n// is trusted",
	"walks before",
	"walk before",
	"nothing is pulled that data",
}

// TestPlainWords: none of them comes back, on a screen, in the docs or in a comment.
func TestPlainWords(t *testing.T) {
	out, err := exec.Command("git", "-C", "..", "ls-files", "*.go", "*.ts", "*.tsx", "*.md", "*.yaml").Output()
	require.NoError(t, err)
	for _, path := range strings.Fields(string(out)) {
		if path == "internal/words_test.go" ||
			path == "internal/core/accept/accept_test.go" { // the latter reads records of earlier versions
			continue
		}
		b, err := os.ReadFile(filepath.Join("..", path))
		if os.IsNotExist(err) {
			continue
		}
		require.NoError(t, err)
		for _, r := range riddles {
			require.False(
				t,
				strings.Contains(strings.ToLower(string(b)), r),
				"%s says %q: say it in plain English",
				path,
				r,
			)
		}
	}
}
