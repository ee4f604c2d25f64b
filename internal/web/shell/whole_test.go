package shell

import (
	"html/template"
	"strings"
	"testing"
	"testing/fstest"
)

// A template whose name is taken, or that asks for one that nobody defines, keeps a server from starting.
func TestTemplatesAreWhole(t *testing.T) {
	t.Parallel()
	for name, tc := range map[string]struct {
		page  string
		twice string // what is said as it is parsed
		lacks string
	}{
		"whole":                {`{{ define "a" }}{{ template "shared" }}{{ end }}{{ define "b" }}{{ if . }}{{ template "a" }}{{ end }}{{ end }}`, "", ""},
		"a shared name":        {`{{ define "shared" }}x{{ end }}`, `two templates are called "shared"`, ""},
		"asks for nobody":      {`{{ define "a" }}{{ template "none" }}{{ end }}`, "", "none"},
		"within if":            {`{{ define "a" }}{{ if . }}{{ template "none" }}{{ end }}{{ end }}`, "", "none"},
		"within else":          {`{{ define "a" }}{{ if . }}{{ else }}{{ template "none" }}{{ end }}{{ end }}`, "", "none"},
		"within else if":       {`{{ define "a" }}{{ if . }}{{ else if . }}{{ template "none" }}{{ end }}{{ end }}`, "", "none"},
		"within range":         {`{{ define "a" }}{{ range . }}{{ template "none" }}{{ end }}{{ end }}`, "", "none"},
		"within with":          {`{{ define "a" }}{{ with . }}{{ with . }}{{ template "none" }}{{ end }}{{ end }}{{ end }}`, "", "none"},
		"outside of any":       {`{{ template "none" }}`, "", "none"},
		"two, told in order":   {`{{ define "a" }}{{ template "y" }}{{ template "x" }}{{ template "y" }}{{ end }}`, "", "x, y"},
		"what can't be parsed": {`{{ define "a" }}`, "unexpected EOF", ""},
	} {
		base, err := define(template.New(""), fstest.MapFS{"shell.html": {Data: []byte(`{{ define "shared" }}s{{ end }}`)}}, "shell.html")
		if err != nil {
			t.Fatal(err)
		}
		all, err := define(base, fstest.MapFS{"page.html": {Data: []byte(tc.page)}}, "page.html")
		if tc.twice != "" || err != nil {
			if err == nil || tc.twice == "" || !strings.Contains(err.Error(), tc.twice) {
				t.Errorf("%s: %v", name, err)
			}
			continue
		}
		if lacks := strings.Join(lacking(all), ", "); lacks != tc.lacks || (whole(all) == nil) != (tc.lacks == "") {
			t.Errorf("%s: it lacks %q", name, lacks)
		}
	}
}
