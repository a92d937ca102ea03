package internal_test

import (
	"go/ast"
	"go/token"
	"testing"

	"github.com/stretchr/testify/assert"
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

// TestBranches: no function has more than 20 branches, but for tables of cases.
func TestBranches(t *testing.T) {
	tables := map[string]bool{
		"main.apply": true, "main.hands": true, // a case for each action of the model
		"main.do": true, // a case for each command of the virtual machine
	}
	eachFile(t, ".", func(path string, file *ast.File, set *token.FileSet) {
		for _, d := range file.Decls {
			f, ok := d.(*ast.FuncDecl)
			if !ok || tables[file.Name.Name+"."+f.Name.Name] {
				continue
			}
			assert.LessOrEqual(t, branches(f), 20, "%s: %s", path, f.Name.Name)
		}
	})
}
