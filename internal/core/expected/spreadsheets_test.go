package expected

import (
	"errors"
	"slices"
	"strings"
	"testing"
)

// What spreadsheets write is read: lines that end with CR alone, headings with breaks in them,
// quotes inside cells; a quote that is never closed is told by its line.
func TestWhatSpreadsheetsWrite(t *testing.T) {
	for name, tc := range map[string]struct {
		text     string
		head     []string
		cells    []string // of the last line
		unclosed int
	}{
		"CR alone":                  {"Place,IP\rNew pier,10.0.0.1\rOld pier,10.0.0.2\r", []string{"Place", "IP"}, []string{"Old pier", "10.0.0.2"}, 0},
		"a heading with breaks":     {"\"Camera\nname\";\"IP\r\naddress\";Make\nPier;10.0.0.1;Ottervale\n", []string{"Camera name", "IP address", "Make"}, []string{"Pier", "10.0.0.1", "Ottervale"}, 0},
		"quotes inside a cell":      {"Place,Make\nThe \"old\" pier,x\n", []string{"Place", "Make"}, []string{`The "old" pier`, "x"}, 0},
		"quotes doubled":            {"Place,Make\n\"The \"\"old\"\" pier\",x\n", []string{"Place", "Make"}, []string{`The "old" pier`, "x"}, 0},
		"a break in a cell":         {"Place,Make\n\"Old\npier\",x\n", []string{"Place", "Make"}, []string{"Old pier", "x"}, 0},
		"never closed":              {"Place,Make\nPier,x\n\"Old pier,y\nNew pier,z\n", nil, nil, 3},
		"never closed, in the head": {"\"Place,Make\nPier,x\n", nil, nil, 1},
		"never closed after sep=":   {"sep=;\nPlace;Make\n\"Pier;x\n", nil, nil, 3},
		"closed at the very end":    {"Place,Make\nPier,\"x\"", []string{"Place", "Make"}, []string{"Pier", "x"}, 0},
	} {
		got, err := ParseCSV([]byte(tc.text))
		var u UnclosedError
		switch {
		case tc.unclosed > 0:
			if !errors.As(err, &u) || u.Line != tc.unclosed {
				t.Errorf("%s: %v, want line %d", name, err, tc.unclosed)
			}
		case err != nil:
			t.Errorf("%s: %v", name, err)
		case !slices.Equal(got.Head, tc.head) || !slices.Equal(got.Lines[len(got.Lines)-1].Cells, tc.cells):
			t.Errorf("%s: %q %+v", name, got.Head, got.Lines)
		}
	}
	place := strings.Repeat("ü", maxCell)
	m := Mapping{Place: 0}
	for text, want := range map[string]int{place: 0, place + "ü": 1} {
		if _, bad := Read(Table{Head: []string{"Place"}, Lines: []Line{{2, []string{text}}}}, m, nil); len(bad) != want {
			t.Errorf("%d characters, %d bytes: %v", len([]rune(text)), len(text), bad)
		}
	}
}
