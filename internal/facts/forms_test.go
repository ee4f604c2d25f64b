package facts_test

import (
	"encoding/json"
	"fmt"
	"os"
	"reflect"
	"slices"
	"strings"
	"testing"

	"duskyharbor/internal/facts"
	"duskyharbor/internal/site"
)

// named is a fact's name and the type of its value.
type named struct {
	name  string
	value reflect.Type
}

func of[T any](k site.Fact[T]) named           { return named{k.Name, reflect.TypeFor[T]()} }
func ofView[T any](k site.SourceFact[T]) named { return named{k.Name, reflect.TypeFor[T]()} }

var stored = []named{of(facts.Seen), of(facts.Scanned), of(facts.Account), of(facts.Attempted), of(facts.PasswordRule), of(facts.WebAccount), of(facts.Users),
	of(facts.Info), of(facts.Services), of(facts.IPConfig), of(facts.DNS), of(facts.Hidden), of(facts.VideoSources), of(facts.Pin), of(facts.ShownPin), of(facts.Clock),
	of(facts.Watched), of(site.Profiles), of(site.Recorder), of(facts.RecorderPin), of(facts.ServesNTP), of(site.Reached), of(facts.Analyser), of(facts.Known), of(facts.Topics), of(facts.Touched),
	ofView(facts.Measured), ofView(facts.StreamsRead), ofView(facts.Took), ofView(facts.Still), ofView(facts.Setup), ofView(facts.TriedPTZ), ofView(facts.Rules), ofView(facts.RuleSet), ofView(facts.RulesRead), ofView(facts.Held), ofView(facts.Sits), ofView(facts.Sending), ofView(facts.Inputs),
	ofView(facts.RoutesRead), ofView(facts.Placed)}

// What is stored of a fact keeps its form: a value whose form changes in a way that the values of before don't have
// gets another name (and a migration, where what is known is to stay), so that nobody reads the one as the other. A
// field more that may be absent does no harm: UPDATE_FORMS=1 writes the forms down anew, to be looked at.
func TestAFactsFormHasItsName(t *testing.T) {
	t.Parallel()
	var lines []string
	for _, n := range stored {
		lines = append(lines, n.name+" "+form(n.value, nil))
	}
	slices.Sort(lines)
	if all, once := len(lines), len(slices.Compact(slices.Clone(lines))); all != once {
		t.Errorf("%d names for %d facts", once, all)
	}
	keys := 0
	for _, file := range []string{"keys.go", "../site/fact.go"} {
		src, err := os.ReadFile(file)
		if err != nil {
			t.Fatal(err)
		}
		keys += strings.Count(string(src), "]{Name: fact.")
	}
	if keys != len(stored) {
		t.Errorf("%d facts have keys, and %d are looked at here", keys, len(stored))
	}
	got := strings.Join(lines, "\n") + "\n"
	if os.Getenv("UPDATE_FORMS") != "" {
		if err := os.WriteFile("testdata/forms.txt", []byte(got), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	want, err := os.ReadFile("testdata/forms.txt")
	if err != nil {
		t.Fatal(err)
	}
	was := map[string]bool{}
	for line := range strings.Lines(string(want)) {
		was[strings.TrimSuffix(line, "\n")] = true
	}
	for _, line := range lines {
		if !was[line] {
			t.Errorf("another form than the one that is stored:\n%s", line)
		}
	}
	if len(was) != len(lines) {
		t.Errorf("%d forms are written down, and there are %d", len(was), len(lines))
	}
}

// form words how a type is written as JSON.
func form(t reflect.Type, within []reflect.Type) string {
	switch {
	case t.Implements(reflect.TypeFor[json.Marshaler]()), reflect.PointerTo(t).Implements(reflect.TypeFor[json.Marshaler]()),
		t.Implements(reflect.TypeFor[interface{ MarshalText() ([]byte, error) }]()):
		return t.String()
	case slices.Contains(within, t):
		return "…"
	}
	within = append(slices.Clone(within), t)
	switch t.Kind() {
	case reflect.Pointer:
		return "?" + form(t.Elem(), within)
	case reflect.Slice, reflect.Array:
		return "[" + form(t.Elem(), within) + "]"
	case reflect.Map:
		return "map " + form(t.Key(), within) + ":" + form(t.Elem(), within)
	case reflect.Struct:
		var parts []string
		for i := range t.NumField() {
			f := t.Field(i)
			name, _, _ := strings.Cut(f.Tag.Get("json"), ",")
			switch {
			case name == "-" || !f.IsExported() && !f.Anonymous:
				continue
			case name == "" && f.Anonymous:
				parts = append(parts, strings.Trim(form(f.Type, within), "{}"))
				continue
			case name == "":
				name = f.Name
			}
			parts = append(parts, name+" "+form(f.Type, within))
		}
		slices.Sort(parts)
		return "{" + strings.Join(parts, ", ") + "}"
	}
	return fmt.Sprint(t.Kind())
}
