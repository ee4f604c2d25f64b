package internal

import (
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"
)

// findingCode is how the code of a finding is written: the topic, and what is wrong.
var findingCode = regexp.MustCompile(`^(find|access|clock|stream|view|channel|recording|analytics|analyser|route|proof)\.[a-z]+(-[a-z]+)*$`)

// everySource reads every Go file below a folder, tests too, which eachFile leaves out.
func everySource(t *testing.T, dir string, f func(path string, src []byte)) {
	t.Helper()
	err := filepath.WalkDir(dir, func(path string, _ fs.DirEntry, err error) error {
		if err != nil || !strings.HasSuffix(path, ".go") {
			return err
		}
		src, err := os.ReadFile(path)
		if err == nil {
			f(path, src)
		}
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
}

func parsed(t *testing.T, files *token.FileSet, path string, src []byte) *ast.File {
	t.Helper()
	f, err := parser.ParseFile(files, path, src, 0)
	if err != nil {
		t.Fatal(err)
	}
	return f
}

// Each finding of core is named by a test: one that nobody names could be lost, or never come, and nothing would fail.
// Codes are written where the finding is made; kinds of change and names of facts are constants.
func TestEveryFindingIsAskedFor(t *testing.T) {
	t.Parallel()
	made, tests := map[string]token.Position{}, strings.Builder{}
	files := token.NewFileSet()
	everySource(t, ".", func(path string, src []byte) {
		switch {
		case path == "codes_test.go":
			return
		case strings.HasSuffix(path, "_test.go"):
			tests.Write(src)
			return
		case !strings.HasPrefix(path, "core"+string(filepath.Separator)):
			return
		}
		ast.Inspect(parsed(t, files, path, src), func(n ast.Node) bool {
			switch n := n.(type) {
			case *ast.GenDecl:
				return n.Tok != token.CONST && n.Tok != token.IMPORT
			case *ast.BasicLit:
				if s, err := strconv.Unquote(n.Value); err == nil && n.Kind == token.STRING && findingCode.MatchString(s) {
					made[s] = files.Position(n.Pos())
				}
			}
			return true
		})
	})
	if len(made) < 110 {
		t.Fatalf("only %d codes are made", len(made))
	}
	named := tests.String()
	for _, code := range slices.Sorted(maps.Keys(made)) {
		if !strings.Contains(named, strconv.Quote(code)) {
			t.Errorf("%s: no test asks for %s", made[code], code)
		}
	}
}

// builtins may be shadowed by a name of ours, and then mean something else for the rest of the block.
var builtins = strings.Fields("append cap clear close complex copy delete imag len make max min new panic print println real recover any bool byte error string int rune true false nil iota")

func TestNoBuiltinIsShadowed(t *testing.T) {
	t.Parallel()
	files := token.NewFileSet()
	check := func(names ...ast.Expr) {
		for _, n := range names {
			if id, ok := n.(*ast.Ident); ok && slices.Contains(builtins, id.Name) {
				t.Errorf("%s: %s is Go's own", files.Position(id.Pos()), id.Name)
			}
		}
	}
	fields := func(lists ...*ast.FieldList) {
		for _, l := range lists {
			if l == nil {
				continue
			}
			for _, f := range l.List {
				for _, n := range f.Names {
					check(n)
				}
			}
		}
	}
	everySource(t, "..", func(path string, src []byte) {
		ast.Inspect(parsed(t, files, path, src), func(n ast.Node) bool {
			switch n := n.(type) {
			case *ast.AssignStmt:
				if n.Tok == token.DEFINE {
					check(n.Lhs...)
				}
			case *ast.RangeStmt:
				if n.Tok == token.DEFINE {
					check(n.Key, n.Value)
				}
			case *ast.ValueSpec:
				for _, name := range n.Names {
					check(name)
				}
			case *ast.FuncType:
				fields(n.Params, n.Results)
			}
			return true
		})
	})
}
