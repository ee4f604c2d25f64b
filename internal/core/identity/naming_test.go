package identity

import (
	"slices"
	"strings"
	"testing"
)

func TestNamesByAPattern(t *testing.T) {
	two := []Nameable{{"Slipway", "Ottervale", "OTV 412", "192.0.2.11"}, {"Gangway", "Skerryvane", "", "192.0.2.14"}}
	many := make([]Nameable, 101)
	for _, x := range []struct {
		name, pattern string
		of            []Nameable
		want          []string // the first ones; nil: it can't be
		why           string
	}{
		{"counted", "Quay {n}", two, []string{"Quay 1", "Quay 2"}, ""},
		{"with zeros", "Quay {nn}", two, []string{"Quay 01", "Quay 02"}, ""},
		{"what each is called", "{place} cam", two, []string{"Slipway cam", "Gangway cam"}, ""},
		{"what isn't known leaves no gap", "{make} {model} {n}", two, []string{"Ottervale OTV 412 1", "Skerryvane 2"}, ""},
		{"address", "At {address}", two, []string{"At 192.0.2.11", "At 192.0.2.14"}, ""},
		{"the same for two", "Quay", two, nil, `Two of them would be called "Quay", the 1st and the 2nd.`},
		{"the same for one", "Quay", two[:1], []string{"Quay"}, ""},
		{"nobody", "Quay {n}", nil, []string{}, ""},
		{"empty", "  ", two, nil, "Say how they are to be named"},
		{"nothing comes of it", "{model}", two[1:], nil, "The 1st of them would have no name."},
		{"no such token", "{channel}", two, nil, "{channel} means nothing here"},
		{"never closed", "Quay {n", two, nil, "means nothing here"},
		{"an empty token", "Quay {}", two, nil, "means nothing here"},
		{"too long", strings.Repeat("ä", MostPlace) + "{n}", two, nil, "is longer than 64 characters."},
		{"as long as may be", strings.Repeat("ä", MostPlace-1) + "{n}", two, []string{strings.Repeat("ä", MostPlace-1) + "1"}, ""},
		{"beyond its zeros", "{nn}", many, []string{"01", "02"}, ""},
	} {
		got, err := NamesBy(x.pattern, x.of)
		if x.want == nil {
			if err == nil || !strings.Contains(err.Error(), x.why) {
				t.Errorf("%s: %q %v, want %q", x.name, got, err, x.why)
			}
			continue
		}
		if err != nil || len(got) != len(x.of) || !slices.Equal(got[:len(x.want)], x.want) {
			t.Errorf("%s: %q %v, want %q", x.name, got, err, x.want)
		}
	}
	if got, _ := NamesBy("{nn}", many); got[99] != "100" {
		t.Errorf("the hundredth is %q", got[99])
	}
	for names, why := range map[string]string{"a,b": "", "a,A": `called "A", the 1st and the 2nd`, "a,,b": "The 2nd of them", "a,b\nc": "in one line", "a\x00,b": "in one line", "x,y,z,w,v,u,t,s,r,q,p,x": "the 1st and the 12th"} {
		if err := CheckNames(strings.Split(names, ",")); (err == nil) != (why == "") || err != nil && !strings.Contains(err.Error(), why) {
			t.Errorf("%s: %v", names, err)
		}
	}
}
