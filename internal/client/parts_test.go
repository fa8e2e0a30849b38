package client

import (
	"go/ast"
	"go/parser"
	"go/token"
	"os"
	"slices"
	"strings"
	"testing"
)

// TestParts: each part of a client has its methods in files of its own, and is known to the others by
// them alone: none reads or writes what is in another.
func TestParts(t *testing.T) {
	parts := []string{"script", "path", "pulse", "judge"}
	entries, err := os.ReadDir(".")
	if err != nil {
		t.Fatal(err)
	}
	fset, used := token.NewFileSet(), map[string]map[string]bool{}
	for _, entry := range entries {
		name := entry.Name()
		if !strings.HasSuffix(name, ".go") || strings.HasSuffix(name, "_test.go") {
			continue
		}
		file, err := parser.ParseFile(fset, name, nil, parser.SkipObjectResolution)
		if err != nil {
			t.Fatal(err)
		}
		own, _, _ := strings.Cut(strings.TrimSuffix(name, ".go"), "_")
		called := map[ast.Expr]bool{}
		ast.Inspect(file, func(n ast.Node) bool {
			switch n := n.(type) {
			case *ast.FuncDecl:
				if n.Recv == nil {
					break
				}
				if star, ok := n.Recv.List[0].Type.(*ast.StarExpr); ok {
					of := star.X.(*ast.Ident).Name
					if slices.Contains(parts, of) && of != own {
						t.Errorf("%s has a method of the %s", fset.Position(n.Pos()), of)
					}
				}
			case *ast.CallExpr:
				called[n.Fun] = true
			case *ast.SelectorExpr:
				in, ok := n.X.(*ast.SelectorExpr)
				if !ok || !slices.Contains(parts, in.Sel.Name) || in.Sel.Name == own {
					break
				}
				// The client itself puts them together.
				if on, ok := in.X.(*ast.Ident); ok && on.Name == "e" && !called[n] {
					t.Errorf("%s: %s is the %s's own", fset.Position(n.Pos()), n.Sel.Name, in.Sel.Name)
				}
				if used[in.Sel.Name] == nil {
					used[in.Sel.Name] = map[string]bool{}
				}
				used[in.Sel.Name][n.Sel.Name] = true
			}
			return true
		})
	}
	for _, part := range parts {
		if n := len(used[part]); n == 0 || n > 45 {
			t.Errorf("of the %s the others use %d things", part, n)
		}
	}
}
