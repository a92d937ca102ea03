package internal_test

import (
	"go/ast"
	"go/parser"
	"go/token"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"unicode/utf8"

	"github.com/stretchr/testify/require"
)

// parts are the packages of the service, from the one that all others build on to the one that builds on all: each may
// look things up in those before it, and in no other.
var parts = []string{
	"problem",
	"secret",
	"ledger",
	"fleet",
	"people",
	"recoveries",
	"readings",
	"judging",
	"orders",
	"progress",
	"bays",
	"selftests",
	"stock",
	"swaps",
	"inventory",
	"notices",
	"views",
	"rehearsal",
}

// eachFile calls f for every hand-written source file below a folder.
func eachFile(t *testing.T, dir string, f func(path string, file *ast.File, set *token.FileSet)) {
	require.NoError(t, filepath.WalkDir(dir, func(path string, d os.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") ||
			strings.HasSuffix(path, ".gen.go") {
			return err
		}
		set := token.NewFileSet()
		file, err := parser.ParseFile(set, path, nil, parser.ParseComments)
		if err == nil {
			f(path, file, set)
		}
		return err
	}))
}

// receiver is the name of the type that a method belongs to.
func receiver(d *ast.FuncDecl) string {
	if d.Recv == nil {
		return ""
	}
	t := d.Recv.List[0].Type
	if p, ok := t.(*ast.StarExpr); ok {
		t = p.X
	}
	id, _ := t.(*ast.Ident)
	if id == nil {
		return ""
	}
	return id.Name
}

// selector is the name of what is called.
func selector(c *ast.CallExpr) string {
	if s, ok := c.Fun.(*ast.SelectorExpr); ok {
		return s.Sel.Name
	}
	return ""
}

// TestPartsOfTheService: between the packages of the service arrows go one way, and every package stands in the list.
func TestPartsOfTheService(t *testing.T) {
	seen := map[string]bool{}
	eachFile(t, "service", func(path string, file *ast.File, _ *token.FileSet) {
		part := filepath.Base(filepath.Dir(path))
		if part == "service" {
			return
		}
		seen[part] = true
		at := slices.Index(parts, part)
		require.NotEqual(t, -1, at, "%s is in no list: say what it builds on", path)
		for _, im := range file.Imports {
			if other, ok := strings.CutPrefix(strings.Trim(im.Path.Value, `"`), "lantern/internal/service/"); ok {
				require.Less(t, slices.Index(parts, other), at, "%s imports %s, which builds on it", path, other)
			}
		}
	})
	require.Len(t, seen, len(parts))
}

// TestLocks: a State has no lock, and nothing in it takes one. A method of a Service takes the lock first of all and
// gives it back at its end; one that does not take it calls others that do, and touches nothing itself. None that has
// taken it calls one that takes it.
func TestLocks(t *testing.T) {
	type method struct {
		path  string
		decl  *ast.FuncDecl
		locks bool
	}
	of := map[string]map[string]method{} // by package: methods of its Service
	eachFile(t, "service", func(path string, file *ast.File, _ *token.FileSet) {
		pkg := file.Name.Name
		for _, d := range file.Decls {
			fn, ok := d.(*ast.FuncDecl)
			if !ok || fn.Body == nil {
				continue
			}
			uses := false
			ast.Inspect(fn.Body, func(n ast.Node) bool {
				if s, ok := n.(*ast.SelectorExpr); ok && s.Sel.Name == "mu" {
					uses = true
				}
				return true
			})
			switch receiver(fn) {
			case "Service":
				if of[pkg] == nil {
					of[pkg] = map[string]method{}
				}
				of[pkg][fn.Name.Name] = method{path, fn, uses}
			case "State":
				require.False(t, uses, "%s: %s takes a lock, and a State has none", path, fn.Name.Name)
			}
		}
	})
	locking := 0
	for pkg, methods := range of {
		for name, m := range methods {
			calls, taken := []string{}, false // those after the lock was taken
			ast.Inspect(m.decl.Body, func(n ast.Node) bool {
				if d, ok := n.(*ast.DeferStmt); ok && strings.HasSuffix(selector(d.Call), "Unlock") {
					return false
				}
				c, ok := n.(*ast.CallExpr)
				if !ok {
					return true
				}
				s, ok := c.Fun.(*ast.SelectorExpr)
				if !ok {
					return true
				}
				switch s.Sel.Name {
				case "Lock":
					taken = true
				case "Unlock":
					taken = false
				}
				if id, ok := s.X.(*ast.Ident); ok && id.Name == "s" && taken {
					calls = append(calls, s.Sel.Name)
				}
				return true
			})
			if !m.locks {
				continue
			}
			locking++
			for _, c := range calls {
				if other, ok := methods[c]; ok {
					require.False(
						t,
						other.locks && !strings.HasSuffix(c, "Locked"),
						"%s: %s.%s has the lock and calls %s, which takes it",
						m.path,
						pkg,
						name,
						c,
					)
				}
			}
		}
	}
	require.Greater(t, locking, 80)
}

// TestEveryRecordIsUndone: each kind of record of which memory holds a copy is read again when a batch with it was not
// written.
func TestEveryRecordIsUndone(t *testing.T) {
	kept := []string{
		"Token",
		"Session",
		"SignInCode",
		"ReportID",
		"Feed",
		"Event",
		"Answer", "AuditEntry", "Migration", "Invitation", "Asking",
		"BadPage",
		"Block",
		"Authority",
		"HostSecret",
		"Site",
	} // read from the store when they are needed
	src, err := os.ReadFile("store/migrations.go")
	require.NoError(t, err)
	_, list, _ := strings.Cut(string(src), "kinds = []any{")
	list, _, _ = strings.Cut(list, "\n}")
	undo := ""
	files, err := filepath.Glob("service/*/undo.go")
	require.NoError(t, err)
	for _, f := range files {
		b, err := os.ReadFile(f)
		require.NoError(t, err)
		undo += string(b)
	}
	kinds := regexp.MustCompile(`&(\w+)\{\}`).FindAllStringSubmatch(list, -1)
	require.Greater(t, len(kinds), 30)
	for _, k := range kinds {
		if !slices.Contains(kept, k[1]) {
			require.Contains(t, undo, "store.Of[store."+k[1]+"]", "nothing takes %s back that was not written", k[1])
		}
	}
}

// TestSizes: no type grows into one that does everything, and no part of the service keeps everything.
func TestSizes(t *testing.T) {
	methods, fields := map[string]int{}, map[string]int{}
	eachFile(t, ".", func(path string, file *ast.File, set *token.FileSet) {
		require.LessOrEqual(t, set.Position(file.End()).Line, 500, path)
		requireLines(t, path, file, set)
		for _, d := range file.Decls {
			switch d := d.(type) {
			case *ast.FuncDecl:
				if r := receiver(d); r != "" {
					methods[filepath.Dir(path)+"."+r]++
				}
			case *ast.GenDecl:
				for _, s := range d.Specs {
					ts, ok := s.(*ast.TypeSpec)
					if !ok {
						continue
					}
					if st, ok := ts.Type.(*ast.StructType); ok &&
						strings.HasPrefix(path, "service") &&
						(ts.Name.Name == "State" || ts.Name.Name == "Service") {
						for _, f := range st.Fields.List {
							fields[file.Name.Name+"."+ts.Name.Name] += max(1, len(f.Names))
						}
					}
				}
			}
		}
	})
	for name, n := range methods {
		require.LessOrEqual(t, n, 60, "%s has %d methods", name, n)
	}
	for name, n := range fields {
		if name != "service.Service" { // the composition: a field for each part
			require.LessOrEqual(t, n, 15, "%s has %d fields", name, n)
		}
	}
}

// requireLines finds lines of over 120 characters. Text that stands as it is, between backticks, may be as long as it
// is.
func requireLines(t *testing.T, path string, file *ast.File, set *token.FileSet) {
	raw := map[int]bool{}
	ast.Inspect(file, func(n ast.Node) bool {
		if l, ok := n.(*ast.BasicLit); ok && l.Kind == token.STRING && l.Value[0] == '`' {
			for i := set.Position(l.Pos()).Line; i <= set.Position(l.End()).Line; i++ {
				raw[i] = true
			}
		}
		return true
	})
	text, err := os.ReadFile(path)
	require.NoError(t, err)
	for i, line := range strings.Split(string(text), "\n") {
		if n := utf8.RuneCountInString(line); !raw[i+1] {
			require.LessOrEqual(t, n, 120, "%s:%d has %d characters", path, i+1, n)
		}
	}
}
