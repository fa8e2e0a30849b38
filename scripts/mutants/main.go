// Mutants changes the code in one place at a time, runs tests, and says which changes no test
// notices. The places are picked by a seed, so that the same ones are tried again.
//
// A changed file is put over the real one by the build (-overlay): no file of the project is
// touched. First the tests of the package run; what they do not notice is tried against the tests
// in virtual time as well, and said apart.
package main

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"
)

// A spot is a place in the code, and what is put there.
type spot struct {
	file     string
	from, to int // offsets
	line     int
	with     string
	does     string
}

// longest is how long tests may take: a mutant that never ends is noticed.
const longest = 3 * time.Minute

func main() {
	count := flag.Int("n", 60, "how many places")
	seed := flag.Uint64("seed", 1, "which places")
	wider := flag.Bool("wider", true, "try what a package does not notice against the tests in virtual time")
	flag.Parse()
	roots := flag.Args()
	if len(roots) == 0 {
		roots = []string{"internal/measure", "internal/client", "internal/engine", "internal/wire"}
	}
	if err := run(*count, *seed, *wider, roots); err != nil {
		fmt.Fprintln(os.Stderr, "mutants:", err)
		os.Exit(1)
	}
}

func run(count int, seed uint64, wider bool, roots []string) error {
	var all []spot
	for _, root := range roots {
		err := filepath.WalkDir(root, func(path string, _ fs.DirEntry, err error) error {
			if err != nil || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") ||
				strings.HasSuffix(path, "_other.go") {
				return err
			}
			found, err := spotsIn(path)
			all = append(all, found...)
			return err
		})
		if err != nil {
			return err
		}
	}
	random := rand.New(rand.NewPCG(seed, 2))
	random.Shuffle(len(all), func(i, k int) { all[i], all[k] = all[k], all[i] })
	all = all[:min(count, len(all))]
	own, none, built := 0, 0, 0
	for i, s := range all {
		pkg := "./" + filepath.Dir(s.file)
		result, err := try(s, pkg)
		if err != nil {
			return err
		}
		if result == survives {
			if own++; wider {
				if result, err = try(s, "./internal/testkit/sim"); err != nil {
					return err
				}
				if result == noticed {
					result = noticedElsewhere
				}
			}
		}
		switch result {
		case survives:
			none++
		case doesNotBuild:
			built++
		}
		fmt.Printf("%2d %s:%d: %s: %s\n", i+1, s.file, s.line, s.does, result)
	}
	tried := len(all) - built
	fmt.Printf("%d places: %d do not build; of the others %d are not noticed by the tests of their package (%d %%), "+
		"%d by no test (%d %%)\n", len(all), built, own, 100*own/max(1, tried), none, 100*none/max(1, tried))
	return nil
}

// A result is what became of a mutant.
type result string

const (
	noticed          result = "noticed"
	noticedElsewhere result = "noticed in virtual time, not by its package"
	survives         result = "NOT NOTICED"
	doesNotBuild     result = "does not build"
)

// try runs the tests of a package with one place changed.
func try(s spot, pkg string) (result, error) {
	source, err := os.ReadFile(s.file)
	if err != nil {
		return "", err
	}
	dir, err := os.MkdirTemp("", "mutant")
	if err != nil {
		return "", err
	}
	defer os.RemoveAll(dir)
	changed := filepath.Join(dir, filepath.Base(s.file))
	text := append(append(bytes.Clone(source[:s.from]), s.with...), source[s.to:]...)
	if err := os.WriteFile(changed, text, 0o600); err != nil {
		return "", err
	}
	real, err := filepath.Abs(s.file)
	if err != nil {
		return "", err
	}
	overlay, err := json.Marshal(map[string]map[string]string{"Replace": {real: changed}})
	if err != nil {
		return "", err
	}
	over := filepath.Join(dir, "overlay.json")
	if err := os.WriteFile(over, overlay, 0o600); err != nil {
		return "", err
	}
	ctx, cancel := context.WithTimeout(context.Background(), longest)
	defer cancel()
	cmd := exec.CommandContext(ctx, "go", "test", "-vet=off", "-overlay", over, "-timeout", longest.String(), pkg)
	cmd.WaitDelay = time.Second
	out, err := cmd.CombinedOutput()
	var exit *exec.ExitError
	switch {
	case err == nil:
		return survives, nil
	case bytes.Contains(out, []byte("[build failed]")):
		return doesNotBuild, nil
	case errors.As(err, &exit), ctx.Err() != nil:
		return noticed, nil
	}
	return "", err
}

// others are operators that are near to one.
var others = map[token.Token]token.Token{token.LSS: token.LEQ, token.LEQ: token.LSS, token.GTR: token.GEQ,
	token.GEQ: token.GTR, token.EQL: token.NEQ, token.NEQ: token.EQL, token.LAND: token.LOR, token.LOR: token.LAND,
	token.ADD: token.SUB, token.SUB: token.ADD, token.ADD_ASSIGN: token.SUB_ASSIGN}

// spotsIn lists what can be changed in a file: operators, conditions, and statements that can be
// left out.
func spotsIn(path string) (all []spot, err error) {
	files := token.NewFileSet()
	file, err := parser.ParseFile(files, path, nil, parser.SkipObjectResolution)
	if err != nil {
		return nil, err
	}
	source, err := os.ReadFile(path)
	if err != nil {
		return nil, err
	}
	add := func(from, to token.Pos, with, does string) {
		a, b := files.Position(from), files.Position(to)
		if does == "" {
			does = fmt.Sprintf("%q left out", string(source[a.Offset:b.Offset]))
		}
		all = append(all, spot{path, a.Offset, b.Offset, a.Line, with, does})
	}
	swap := func(at token.Pos, op token.Token) {
		if other, ok := others[op]; ok {
			add(at, at+token.Pos(len(op.String())), other.String(), fmt.Sprintf("%s for %s", other, op))
		}
	}
	ast.Inspect(file, func(n ast.Node) bool {
		switch n := n.(type) {
		case *ast.BinaryExpr:
			swap(n.OpPos, n.Op)
		case *ast.IfStmt:
			add(n.Cond.Pos(), n.Cond.End(), "!("+string(source[files.Position(n.Cond.Pos()).Offset:files.Position(
				n.Cond.End()).Offset])+")", "condition turned round")
		case *ast.ExprStmt:
			if _, call := n.X.(*ast.CallExpr); call {
				add(n.Pos(), n.End(), "", "")
			}
		case *ast.AssignStmt:
			if n.Tok == token.ASSIGN {
				add(n.Pos(), n.End(), "", "")
			} else {
				swap(n.TokPos, n.Tok)
			}
		case *ast.IncDecStmt:
			add(n.Pos(), n.End(), "", "")
		}
		return true
	})
	return all, nil
}
