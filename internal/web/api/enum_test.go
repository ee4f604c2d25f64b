package api

import (
	"reflect"
	"slices"
	"strings"
	"testing"

	"duskyharbor/internal/core/netplan"
	"duskyharbor/internal/core/rule"
	"duskyharbor/internal/setup"
	"duskyharbor/internal/stages/analytics"
	"duskyharbor/internal/stages/streams"
)

// What a field may be is described as the rules have it.
func TestDescribedChoicesAreTheRules(t *testing.T) {
	var kinds []string
	for _, k := range netplan.SystemKinds() {
		kinds = append(kinds, string(k))
	}
	var rules []string
	for _, k := range rule.Kinds {
		rules = append(rules, string(k))
	}
	for _, tc := range []struct {
		of    any
		field string
		want  []string
	}{{setup.System{}, "Kind", kinds}, {analytics.Drawing{}, "Kind", rules}, {streams.Encoders{}, "Codec", streams.OfferedCodecs}} {
		f, _ := reflect.TypeOf(tc.of).FieldByName(tc.field)
		if got := strings.Split(f.Tag.Get("enum"), ","); !slices.Equal(got, tc.want) {
			t.Errorf("%s of %T: %q, want %q", tc.field, tc.of, got, tc.want)
		}
	}
}
