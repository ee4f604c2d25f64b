package internal

import (
	"encoding/json"
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"
)

// layer of a package; arrows go from higher to lower, or within one folder.
func layer(folder string) int {
	switch folder {
	case "core":
		return 0
	case "store", "vault", "people", "device":
		return 1
	case "work", "live":
		return 2
	case "web", "courier", "demo":
		return 3
	}
	return -1
}

type listed struct {
	ImportPath string
	Imports    []string
}

func packages(t *testing.T) []listed {
	t.Helper()
	out, err := exec.Command("go", "list", "-json=ImportPath,Imports", "duskyharbor/...").Output()
	if err != nil {
		t.Fatal(err)
	}
	var all []listed
	for d := json.NewDecoder(strings.NewReader(string(out))); d.More(); {
		var p listed
		if err := d.Decode(&p); err != nil {
			t.Fatal(err)
		}
		all = append(all, p)
	}
	if len(all) < 20 {
		t.Fatalf("only %d packages are listed", len(all))
	}
	return all
}

func folder(path string) string {
	rest, ok := strings.CutPrefix(path, "duskyharbor/internal/")
	if !ok {
		return ""
	}
	first, _, _ := strings.Cut(rest, "/")
	return first
}

func TestArrowsGoOneWay(t *testing.T) {
	for _, p := range packages(t) {
		from := folder(p.ImportPath)
		for _, imp := range p.Imports {
			to := folder(imp)
			if to == "" || from == "" || from == to {
				continue
			}
			if bad := forbidden(from, to, imp); bad != "" {
				t.Errorf("%s imports %s: %s", p.ImportPath, imp, bad)
			}
		}
	}
}

func forbidden(from, to, imp string) string {
	free := []string{"testbed", "demo"} // they put the whole together
	switch {
	case from == "standin" && slices.Contains([]string{"store", "work", "web", "vault", "people", "demo"}, to):
		return "a stand-in knows the product by the wire alone"
	case to == "standin" && !slices.Contains(free, from):
		return "the product reaches stand-ins by the wire alone"
	case from == "standin" || to == "standin" || from == "testbed" || to == "testbed" && from == "testbed":
		return ""
	case to == "testbed":
		return "only tests use the testbed"
	case layer(from) < 0 || layer(to) < 0:
		return ""
	case from == "store" && to == "people": // rows of people are people
		return ""
	case layer(to) >= layer(from):
		return "arrows go down only"
	}
	return ""
}

func TestStandInCamerasDoNotUseTheClients(t *testing.T) {
	for _, p := range packages(t) {
		if !strings.HasPrefix(p.ImportPath, "duskyharbor/internal/standin/") || strings.HasSuffix(p.ImportPath, "/recorder") {
			continue
		}
		for _, imp := range p.Imports {
			if folder(imp) == "device" {
				t.Errorf("%s imports %s: a mistake would be mirrored on both sides", p.ImportPath, imp)
			}
		}
	}
}

// Core takes time as an argument, starts nothing, draws no lots and reads no files.
func TestCoreIsPure(t *testing.T) {
	allowed := []string{"bytes", "cmp", "encoding/binary", "encoding/csv", "encoding/hex", "encoding/json", "errors", "fmt", "io", "maps", "math", "net/netip", "net/url", "slices", "sort", "strconv", "strings", "time", "unicode", "unicode/utf16", "unicode/utf8"}
	impure := map[string][]string{"time": {"Now", "Since", "Until", "Sleep", "After", "Tick", "NewTimer", "NewTicker", "AfterFunc"}}
	seen := 0
	err := filepath.WalkDir("core", func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return err
		}
		seen++
		set := token.NewFileSet()
		f, err := parser.ParseFile(set, path, nil, 0)
		if err != nil {
			return err
		}
		for _, i := range f.Imports {
			name, _ := strconv.Unquote(i.Path.Value)
			if !slices.Contains(allowed, name) && folder(name) != "core" {
				t.Errorf("%s imports %s", path, name)
			}
		}
		ast.Inspect(f, func(n ast.Node) bool {
			switch x := n.(type) {
			case *ast.GoStmt:
				t.Errorf("%s starts a goroutine", set.Position(x.Pos()))
			case *ast.SelectorExpr:
				if id, ok := x.X.(*ast.Ident); ok && slices.Contains(impure[id.Name], x.Sel.Name) {
					t.Errorf("%s uses %s.%s", set.Position(x.Pos()), id.Name, x.Sel.Name)
				}
			}
			return true
		})
		return nil
	})
	if err != nil || seen < 12 {
		t.Fatalf("%d files of core were read: %v", seen, err)
	}
}
