package internal

import (
	"encoding/json"
	"errors"
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"

	"duskyharbor/internal/core/stage"
)

// layers, the lowest first: arrows go from higher to lower ones. Packages of one layer
// don't know each other, but for those of one folder of core, device or store.
var layers = [][]string{
	{"core"},
	{"store", "vault", "people", "device", "pgserver", "workbook"},
	{"site"},
	{"facts"},
	{"engine", "account", "live", "gather", "act"},
	{"recorders", "setup"},
	{"stages"},
	{"stages/*", "web/shell"},
	{"web/*", "courier"},
	{"app"},
	{"demo"},
}

// layer of a package and the name of its place there; -1 for what is in none.
func layer(path string) (int, string) {
	rest, ok := strings.CutPrefix(path, "duskyharbor/internal/")
	if !ok {
		return -1, ""
	}
	first, _, deep := strings.Cut(rest, "/")
	for n, names := range layers {
		for _, name := range names {
			switch {
			case name == rest, name == first+"/*" && deep && rest != "web/shell" && (first == "stages" || first == "web"):
				return n, rest
			case name == first && first != "stages" && first != "web":
				return n, first
			}
		}
	}
	return -1, rest
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
		for _, imp := range p.Imports {
			if bad := forbidden(p.ImportPath, imp); bad != "" {
				t.Errorf("%s imports %s: %s", p.ImportPath, imp, bad)
			}
		}
	}
}

func TestTheLawForbids(t *testing.T) {
	const in = "duskyharbor/internal/"
	for _, tc := range []struct {
		from, to string
		may      bool
	}{
		{"engine", "stages/clock", false}, {"stages/clock", "stages/find", false}, {"stages/clock", "stages",
			true}, {"stages/clock", "engine", true},
		{"engine", "account", false}, {"account", "engine", false}, {"recorders", "engine", true}, {"site",
			"device/onvif", true}, {"device/onvif", "store", false},
		{"store", "device/onvif", false}, {"core/clock", "site", false}, {"site", "facts", false}, {"account", "facts", true}, {"facts", "stages/find", false}, {"core/clock", "core/finding",
			true}, {"web/clock", "web/find", false}, {"web/clock", "web/shell", true},
		{"web/shell", "stages/clock", false}, {"web/clock", "stages/clock", true}, {"standin/camera", "store",
			false}, {"standin/camera", "engine", false}, {"engine", "standin/camera", false},
		{"standin/recorder", "core/channel", false}, {"standin/recorder", "device/onvif", true}, {"standin/camera", "core/scene", true},
		{"engine", "testbed", false}, {"store", "people", true}, {"device/onvif", "device/dial", true}, {"stages/find",
			"app", false}, {"app", "stages/find", true}, {"stages/find", "web/find", false},
	} {
		if bad := forbidden(in+tc.from, in+tc.to); (bad == "") != tc.may {
			t.Errorf("%s imports %s: %q, may: %v", tc.from, tc.to, bad, tc.may)
		}
	}
}

func forbidden(importer, imported string) string {
	from, to := folder(importer), folder(imported)
	free := []string{"testbed", "demo"} // they put the whole together
	switch {
	case from == "" || to == "":
		return ""
	case from == "standin" && !slices.Contains([]string{"core", "device", "standin"}, to):
		return "a stand-in knows the product by the wire alone"
	case from == "standin" && to == "core" && !slices.Contains([]string{"rule", "scene"}, strings.TrimPrefix(imported, "duskyharbor/internal/core/")):
		return "a stand-in works the rules out by itself: a mistake would be mirrored on both sides"
	case to == "standin" && from != "standin" && !slices.Contains(free, from):
		return "the product reaches stand-ins by the wire alone"
	case from == "standin" || to == "standin" || from == "testbed":
		return ""
	case to == "testbed":
		return "only tests use the testbed"
	case from == "store" && to == "people": // rows of people are people
		return ""
	}
	high, a := layer(importer)
	low, b := layer(imported)
	switch {
	case high < 0 || low < 0:
		return "a package is in no layer"
	case high == low && a == b:
		return ""
	case low >= high:
		return "arrows go down only, and packages of one layer don't know each other"
	}
	return ""
}

// What runs stages, what reads and stores a site and what frames pages names none of them.
func TestNothingSharedNamesAStage(t *testing.T) {
	names := []string{"Find", "SignIn", "Clock", "Streams", "Channels", "Recording", "Analytics", "Routes", "Prove", "Handover"}
	for _, dir := range []string{"store", "site", "facts", "act", "engine", "account", "web/shell"} {
		err := filepath.WalkDir(dir, func(path string, d fs.DirEntry, err error) error {
			if err != nil || d.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
				return err
			}
			set := token.NewFileSet()
			f, err := parser.ParseFile(set, path, nil, 0)
			if err != nil {
				return err
			}
			ast.Inspect(f, func(n ast.Node) bool {
				if x, ok := n.(*ast.SelectorExpr); ok {
					if id, ok := x.X.(*ast.Ident); ok && id.Name == "stage" && slices.Contains(names, x.Sel.Name) {
						t.Errorf("%s names stage.%s", set.Position(x.Pos()), x.Sel.Name)
					}
				}
				return true
			})
			return nil
		})
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			t.Fatal(err)
		}
	}
}

// writersOf are the methods of a store that write: by SQL of their own, or by one that does.
func writersOf(t *testing.T) map[string]bool {
	t.Helper()
	writes := regexp.MustCompile(`(?i)\b(insert into|update \w+ set|delete from)\b`)
	uses := map[string][]string{} // of each function, what it calls
	out := map[string]bool{}
	eachFile(t, "store", func(path string, f *ast.File, _ *token.FileSet) {
		for _, d := range f.Decls {
			fn, ok := d.(*ast.FuncDecl)
			if !ok || fn.Body == nil {
				continue
			}
			ast.Inspect(fn.Body, func(n ast.Node) bool {
				switch x := n.(type) {
				case *ast.BasicLit:
					out[fn.Name.Name] = out[fn.Name.Name] || x.Kind == token.STRING && writes.MatchString(x.Value)
				case *ast.CallExpr:
					switch called := x.Fun.(type) {
					case *ast.Ident:
						uses[fn.Name.Name] = append(uses[fn.Name.Name], called.Name)
					case *ast.SelectorExpr:
						if on, ok := called.X.(*ast.Ident); ok && on.Name == "s" { // the store itself
							uses[fn.Name.Name] = append(uses[fn.Name.Name], called.Sel.Name)
						}
					}
				}
				return true
			})
		}
	})
	for again := true; again; {
		again = false
		for name, all := range uses {
			if !out[name] && slices.ContainsFunc(all, func(u string) bool { return out[u] }) {
				out[name], again = true, true
			}
		}
	}
	return out
}

// eachFile reads each file of a folder that isn't a test's.
func eachFile(t *testing.T, dir string, do func(path string, f *ast.File, set *token.FileSet)) {
	t.Helper()
	err := filepath.WalkDir(dir, func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return err
		}
		set := token.NewFileSet()
		f, err := parser.ParseFile(set, path, nil, 0)
		if err == nil {
			do(path, f, set)
		}
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
}

// A page shows, and names acts: it writes nothing. What was taken out of the log is written
// down by its page, and that is all.
func TestPagesWriteNothing(t *testing.T) {
	writers := writersOf(t)
	if !writers["SetWishes"] || !writers["AddNetwork"] || writers["Networks"] || writers["Window"] {
		t.Fatal("who writes isn't told from who reads")
	}
	left := map[string][]string{"web/log": {"Audit"}} // what is taken out is written down
	engine := []string{"Apply", "Begin", "Judge", "Read", "Watch"}
	eachFile(t, "web", func(path string, f *ast.File, set *token.FileSet) {
		dir := filepath.ToSlash(filepath.Dir(path))
		if dir == "web/shell" {
			return
		}
		ast.Inspect(f, func(n ast.Node) bool {
			call, ok := n.(*ast.SelectorExpr)
			if !ok {
				return true
			}
			of, ok := call.X.(*ast.SelectorExpr)
			if !ok {
				return true
			}
			switch name := call.Sel.Name; {
			case of.Sel.Name == "Store" && writers[name] && !slices.Contains(left[dir], name):
				t.Errorf("%s writes: Store.%s", set.Position(call.Pos()), name)
			case of.Sel.Name == "Engine" && slices.Contains(engine, name):
				t.Errorf("%s has something done: Engine.%s", set.Position(call.Pos()), name)
			}
			return true
		})
	})
}

// formOf finds where a page's form goes: the first part of its address, below the site.
var formOf = regexp.MustCompile(`(?:action="\{\{ *\$?[a-z]*\.Path "|"act" (?:\(printf )?")([a-z-]+)(?:" *\}\}/|/)`)

// A page's forms ask its own stage, or the site: no page asks another stage's acts.
func TestAPagesFormsAreItsOwn(t *testing.T) {
	t.Parallel()
	stages := map[string]bool{}
	for _, st := range stage.All() {
		stages[st.Slug()] = true
	}
	pages, err := filepath.Glob("web/*/*.html")
	if err != nil || len(pages) < 10 {
		t.Fatalf("%d templates, %v", len(pages), err)
	}
	forms := 0
	for _, path := range pages {
		src, err := os.ReadFile(path)
		if err != nil {
			t.Fatal(err)
		}
		of := filepath.Base(filepath.Dir(path))
		for _, m := range formOf.FindAllSubmatch(src, -1) {
			forms++
			if to := string(m[1]); stages[to] && strings.ReplaceAll(to, "-", "") != of {
				t.Errorf("%s asks %s", path, to)
			}
		}
	}
	if forms < 60 {
		t.Errorf("only %d forms were found", forms)
	}
}

// What pulls streams is a client: a recorder, a management system.
func TestStandInCamerasDoNotUseTheClients(t *testing.T) {
	for _, p := range packages(t) {
		if !strings.HasPrefix(p.ImportPath, "duskyharbor/internal/standin/") || strings.HasSuffix(p.ImportPath, "/recorder") || strings.HasSuffix(p.ImportPath, "/vms") {
			continue
		}
		for _, imp := range p.Imports {
			if folder(imp) == "device" {
				t.Errorf("%s imports %s: a mistake would be mirrored on both sides", p.ImportPath, imp)
			}
		}
	}
}

// Core takes time as an argument, starts nothing, draws no lots and reads no files (a table
// that is embedded in it is no file any more).
func TestCoreIsPure(t *testing.T) {
	allowed := []string{"bytes", "cmp", "embed", "encoding/base64", "encoding/binary", "encoding/csv", "encoding/hex", "encoding/json", "errors",
		"fmt", "image", "image/color", "io", "maps", "math", "net/netip", "net/url", "slices", "sort", "strconv", "strings", "time", "unicode", "unicode/utf16", "unicode/utf8"}
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

// Every exported thing that isn't of a test says what it is, in words that begin with its
// name or in those of its group. Methods that a standard interface asks for explain themselves.
func TestExportedThingsAreDocumented(t *testing.T) {
	wellKnown := []string{"Error", "String", "Unwrap", "Is", "MarshalJSON", "UnmarshalJSON", "MarshalText",
		"UnmarshalText", "Len", "Less", "Swap", "Read", "Write", "Close", "ServeHTTP", "Kind", "InsertOpts", "Work", "Timeout", "NextRetry"}
	seen := 0
	err := filepath.WalkDir(".", func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return err
		}
		set := token.NewFileSet()
		f, err := parser.ParseFile(set, path, nil, parser.ParseComments)
		if err != nil {
			return err
		}
		undocumented := func(name *ast.Ident, docs ...*ast.CommentGroup) {
			if !name.IsExported() {
				return
			}
			seen++
			if !slices.ContainsFunc(docs, func(g *ast.CommentGroup) bool { return g != nil }) {
				t.Errorf("%s: %s has no comment", set.Position(name.Pos()), name.Name)
			}
		}
		for _, decl := range f.Decls {
			switch decl := decl.(type) {
			case *ast.FuncDecl:
				if decl.Recv == nil || !slices.Contains(wellKnown, decl.Name.Name) && exportedType(decl.Recv.List[0].Type) {
					undocumented(decl.Name, decl.Doc)
				}
			case *ast.GenDecl:
				for n, spec := range decl.Specs {
					switch spec := spec.(type) {
					case *ast.TypeSpec:
						undocumented(spec.Name, spec.Doc, spec.Comment, decl.Doc)
					case *ast.ValueSpec:
						if id, ok := spec.Type.(*ast.Ident); ok && len(decl.Specs) > 1 && id.IsExported() {
							continue // the values of a type are told by the type
						}
						if n == 0 || spec.Doc != nil || spec.Comment != nil { // what stands in a group is told by its head
							undocumented(spec.Names[0], spec.Doc, spec.Comment, decl.Doc)
						}
					}
				}
			}
		}
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	if seen < 500 {
		t.Errorf("only %d exported things were seen", seen)
	}
}

func exportedType(e ast.Expr) bool {
	switch e := e.(type) {
	case *ast.StarExpr:
		return exportedType(e.X)
	case *ast.IndexExpr:
		return exportedType(e.X)
	case *ast.Ident:
		return e.IsExported()
	}
	return false
}
