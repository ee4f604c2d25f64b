package topic

import "testing"

func TestWhichViewAnEventIsAbout(t *testing.T) {
	heat := SourceTokens{Own: []string{"vs1", "vsc1"}, Others: []string{"vs0", "vsc0", "shared"}}
	for _, tc := range []struct {
		name   string
		v      SourceTokens
		source map[string]string
		want   bool
	}{
		{"its own configuration", heat, map[string]string{"VideoSourceConfigurationToken": "vsc1", "Rule": "Line"}, true},
		{"another's configuration", heat, map[string]string{"VideoSourceConfigurationToken": "vsc0", "Rule": "Line"}, false},
		{"another's source", heat, map[string]string{"Source": "vs0"}, false},
		{"its own source", heat, map[string]string{"VideoSourceToken": "vs1"}, true},
		{"the device as a whole", heat, map[string]string{"InputToken": "vs0"}, true},
		{"a token that nobody knows", heat, map[string]string{"Source": "vs9"}, true},
		{"nothing", heat, nil, true},
		{"nobody picked a view", SourceTokens{}, map[string]string{"Source": "vs0"}, true},
		{"shared by both", SourceTokens{Own: []string{"shared"}, Others: []string{"shared"}}, map[string]string{"Source": "shared"}, true},
	} {
		if got := tc.v.Concerns(tc.source); got != tc.want {
			t.Errorf("%s: %v", tc.name, got)
		}
	}
}
