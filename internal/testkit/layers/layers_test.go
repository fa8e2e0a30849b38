package layers

import (
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"maps"
	"os"
	"path"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"
	"unicode/utf8"
)

const root = "../../.."

// groupOf gives the group that a package is in, or is apart below, by its place; -1 if it is in none,
// and knows none.
func groupOf(pkg string) (group int, known bool) {
	highest, apart := Apart[pkg]
	if apart && highest == "" {
		return -1, true
	}
	if apart {
		pkg = highest
	}
	group = slices.IndexFunc(Groups, func(g string) bool { return within(pkg, g) })
	return group, group >= 0
}

func within(pkg, group string) bool { return pkg == group || strings.HasPrefix(pkg, group+"/") }

func isPure(pkg string) bool {
	return !Impure[pkg] && slices.ContainsFunc(Pure, func(g string) bool { return within(pkg, g) })
}

// TestImportsGoDownwards reads every file of the project that is no test.
func TestImportsGoDownwards(t *testing.T) {
	seen, raced := map[string]bool{}, packagesRaced(t)
	err := filepath.WalkDir(root, func(file string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(file, ".go") || strings.HasSuffix(file, "_test.go") {
			return err
		}
		rel, err := filepath.Rel(root, file)
		if err != nil {
			return err
		}
		pkg := path.Dir(filepath.ToSlash(rel))
		if _, known := groupOf(pkg); !known {
			t.Errorf("%s: package %s is in no group; see layers.go", rel, pkg)
			return nil
		}
		seen[pkg] = true
		f, err := parser.ParseFile(token.NewFileSet(), file, nil, parser.SkipObjectResolution)
		if err != nil {
			return err
		}
		for _, i := range f.Imports {
			name, _ := strconv.Unquote(i.Path.Value)
			checkImport(t, rel, pkg, name)
		}
		ast.Inspect(f, func(n ast.Node) bool {
			if _, ok := n.(*ast.GoStmt); ok {
				if isPure(pkg) {
					t.Errorf("%s starts a goroutine; its group must not", rel)
				}
				if within(pkg, "internal") && !within(pkg, "internal/testkit") && !raced.MatchString(pkg) {
					t.Errorf("%s starts a goroutine, and %s is not among those that the Makefile tests for races", rel,
						pkg)
				}
			}
			return true
		})
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	for pkg := range Apart {
		if !seen[pkg] {
			t.Errorf("layers.go names %s, which does not exist", pkg)
		}
	}
	for _, g := range append(slices.Clone(Groups), Pure...) {
		if !slices.ContainsFunc(slices.Collect(maps.Keys(seen)), func(pkg string) bool { return within(pkg, g) }) {
			t.Errorf("layers.go names %s, in which there is nothing", g)
		}
	}
}

// packagesRaced reads out of the Makefile which packages are tested for races.
func packagesRaced(t *testing.T) *regexp.Regexp {
	t.Helper()
	b, err := os.ReadFile(filepath.Join(root, "Makefile"))
	if err != nil {
		t.Fatal(err)
	}
	m := regexp.MustCompile(`(?m)^CONCURRENT := (.*)$`).FindSubmatch(b)
	if m == nil {
		t.Fatal("the Makefile does not say which packages are tested for races")
	}
	return regexp.MustCompile(strings.ReplaceAll(string(m[1]), "$$", "$"))
}

func checkImport(t *testing.T, file, pkg, name string) {
	t.Helper()
	if own, ok := strings.CutPrefix(name, "tidepull/"); ok {
		group, _ := groupOf(pkg)
		if below, known := groupOf(own); !known || below > group {
			t.Errorf("%s imports %s, which is above it", file, own)
		}
		return
	}
	if isPure(pkg) && !(pkg == Cookies && name == "net/http") {
		switch name {
		case "net", "net/http", "os", "syscall", "sync":
			t.Errorf("%s imports %s; its group does no I/O", file, name)
		}
	}
	for library, users := range Alone {
		if !strings.HasPrefix(name, library) {
			continue
		}
		allowed := false
		for _, u := range users {
			allowed = allowed || pkg == u || strings.HasPrefix(pkg, u+"/")
		}
		if !allowed {
			t.Errorf("%s imports %s; only %v may", file, name, users)
		}
	}
}

// TestLines: no line of code is longer than 120 columns, with tabs of four.
func TestLines(t *testing.T) {
	err := filepath.WalkDir(root, func(file string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(file, ".go") {
			return err
		}
		b, err := os.ReadFile(file)
		for i, line := range strings.Split(string(b), "\n") {
			if n := utf8.RuneCountInString(strings.ReplaceAll(line, "\t", "    ")); n > 120 {
				t.Errorf("%s:%d has %d columns", file, i+1, n)
			}
		}
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
}

// TestConformance: the tests that docs/conformance.md names are there.
func TestConformance(t *testing.T) {
	page, err := os.ReadFile(root + "/docs/conformance.md")
	if err != nil {
		t.Fatal(err)
	}
	var code strings.Builder
	err = filepath.WalkDir(root, func(file string, _ fs.DirEntry, err error) error {
		if err == nil && strings.HasSuffix(file, "_test.go") {
			var b []byte
			b, err = os.ReadFile(file)
			code.Write(b)
		}
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
	named := regexp.MustCompile("`((?:Test|Fuzz)[A-Za-z]+)`").FindAllStringSubmatch(string(page), -1)
	for _, m := range named {
		if !strings.Contains(code.String(), "func "+m[1]+"(") {
			t.Errorf("there is no %s", m[1])
		}
	}
	if len(named) < 30 {
		t.Errorf("only %d tests are named", len(named))
	}
}
