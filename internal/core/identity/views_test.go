package identity

import (
	"maps"
	"slices"
	"strings"
	"testing"
)

func TestEnroll(t *testing.T) {
	undecided := []EnrolledSource{{1, "", 0}}
	two := []EnrolledSource{{1, "in1", 1}, {2, "in3", 3}}
	for _, tc := range []struct {
		name   string
		rows   []EnrolledSource
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

func TestTheListsInputsAreShown(t *testing.T) {
	tokens := []string{"in1", "in2", "in3", "in4"}
	for _, tc := range []struct {
		name  string
		rows  []EnrolledSource
		shows map[int64]string
	}{
		{"nobody named one", []EnrolledSource{{1, "", 0}}, map[int64]string{}},
		{"picked, and not listed", []EnrolledSource{{1, "in2", 0}}, map[int64]string{}},
		{"two of four", []EnrolledSource{{1, "", 1}, {2, "", 3}}, map[int64]string{1: "in1", 2: "in3"}},
		{"shown already", []EnrolledSource{{1, "in1", 1}, {2, "in3", 3}}, map[int64]string{}},
		{"listed anew", []EnrolledSource{{1, "in1", 2}, {2, "in3", 3}}, map[int64]string{1: "in2"}},
		{"more than it has", []EnrolledSource{{1, "", 1}, {2, "", 5}}, map[int64]string{1: "in1", 2: "input 5 of none"}},
		{"one of them isn't listed", []EnrolledSource{{1, "in4", 0}, {2, "", 2}}, map[int64]string{2: "in2"}},
	} {
		shows := Listed(tc.rows, tokens)
		if !maps.Equal(shows, tc.shows) {
			t.Errorf("%s: %v, want %v", tc.name, shows, tc.shows)
		}
		for i := range tc.rows {
			if s, has := shows[tc.rows[i].ID]; has {
				tc.rows[i].Video = s
			}
		}
		if again := Listed(tc.rows, tokens); len(again) > 0 {
			t.Errorf("%s: asked again it changes %v", tc.name, again)
		}
	}
	for sources, want := range map[int][]int{0: nil, 1: {2, 5}, 4: {5}, 5: nil} {
		if got := Lacking([]int{0, 2, 5}, sources); !slices.Equal(got, want) {
			t.Errorf("of %d sources it lacks %v, want %v", sources, got, want)
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
