package identity

import (
	"slices"
	"strings"
	"testing"
)

func TestEnroll(t *testing.T) {
	undecided := []EnrolledView{{1, ""}}
	two := []EnrolledView{{1, "in1"}, {2, "in3"}}
	for _, tc := range []struct {
		name   string
		rows   []EnrolledView
		tokens []string
		rowOf  []int64
		gone   []int64
	}{
		{"the first pick takes the row that is there", undecided, []string{"in1", "in3"}, []int64{1, 0}, nil},
		{"picked again alike", two, []string{"in1", "in3"}, []int64{1, 2}, nil},
		{"one more", two, []string{"in1", "in3", "in4"}, []int64{1, 2, 0}, nil},
		{"one less", two, []string{"in1"}, []int64{1}, []int64{2}},
		{"the second alone keeps its row", two, []string{"in3"}, []int64{2}, []int64{1}},
		{"another order", two, []string{"in3", "in1"}, []int64{2, 1}, nil},
		{"others altogether", two, []string{"in4"}, []int64{0}, []int64{1, 2}},
		{"named twice", two, []string{"in1", "in1"}, []int64{1, 0}, []int64{2}},
	} {
		rowOf, gone := Enroll(tc.rows, tc.tokens)
		if !slices.Equal(rowOf, tc.rowOf) || !slices.Equal(gone, tc.gone) {
			t.Errorf("%s: %v, gone %v; want %v, gone %v", tc.name, rowOf, gone, tc.rowOf, tc.gone)
		}
	}
}

func TestViewPlace(t *testing.T) {
	for view, want := range map[string]string{"Input 3": "Shed · Input 3", "": "Shed · ", strings.Repeat("é", 40): "Shed · " + strings.Repeat("é", 31) + "…"} {
		if got := ViewPlace("Shed", view); got != want {
			t.Errorf("%q: %q", view, got)
		}
	}
}
