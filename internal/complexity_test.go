package internal_test

import (
	"go/ast"
	"go/token"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// branches counts the ways through a function: one, and one for each condition, loop, case and && or ||.
func branches(f *ast.FuncDecl) int {
	n := 1
	ast.Inspect(f, func(x ast.Node) bool {
		switch x := x.(type) {
		case *ast.IfStmt, *ast.ForStmt, *ast.RangeStmt:
			n++
		case *ast.CaseClause:
			if x.List != nil {
				n++
			}
		case *ast.CommClause:
			if x.Comm != nil {
				n++
			}
		case *ast.BinaryExpr:
			if x.Op == token.LAND || x.Op == token.LOR {
				n++
			}
		}
		return true
	})
	return n
}

// TestBranches: no function grows past 30 branches, and no more functions than now have over 20. When one is cut, lower
// the second figure.
func TestBranches(t *testing.T) {
	tables := map[string]bool{
		"main.apply": true, "main.hands": true, // a case for each action of the model
		"main.do": true, // a case for each command of the virtual machine
	}
	var over []string
	eachFile(t, ".", func(path string, file *ast.File, set *token.FileSet) {
		for _, d := range file.Decls {
			f, ok := d.(*ast.FuncDecl)
			if !ok || tables[file.Name.Name+"."+f.Name.Name] {
				continue
			}
			n := branches(f)
			require.LessOrEqual(t, n, 30, "%s: %s", path, f.Name.Name)
			if n > 20 {
				over = append(over, path+": "+f.Name.Name)
			}
		}
	})
	require.LessOrEqual(t, len(over), 2, "functions with over 20 branches:\n%s", strings.Join(over, "\n"))
}
