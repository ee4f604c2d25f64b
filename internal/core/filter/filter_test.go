package filter

import (
	"net/netip"
	"reflect"
	"strings"
	"testing"

	"duskyharbor/internal/core/stage"
)

func TestParse(t *testing.T) {
	for text, want := range map[string]Filter{
		"":                                   {},
		"  ramp  412 ":                       {Words: []string{"ramp", "412"}},
		"make:Otter net:quay":                {Make: "otter", Net: "quay"},
		`make:"Pinnock & Daw" x`:             {Make: "pinnock & daw", Words: []string{"x"}},
		`recorder:term`:                      {Recorder: "term"},
		"stage:clock state:blocked":          {Stage: stage.Clock, States: []stage.State{stage.Blocked}},
		"stage:signin":                       {Stage: stage.SignIn},
		"stage:sign-in state:needsyou":       {Stage: stage.SignIn, States: []stage.State{stage.Needs}},
		`state:"needs you"`:                  {States: []stage.State{stage.Needs}},
		"state:n":                            {States: []stage.State{stage.Needs, stage.NotYet, stage.NotHere}},
		"stage:clok":                         {Unknown: []string{"stage:clok"}},
		"state:purple":                       {Unknown: []string{"state:purple"}},
		"make: state: net:":                  {},
		"02:d5:1a:40:01:11":                  {Words: []string{"02:d5:1a:40:01:11"}},
		`"two words"`:                        {Words: []string{"two words"}},
		"make:a make:b":                      {Make: "a", Unknown: []string{"make: a second time"}},
		"make: make:b":                       {Make: "b"},
		"net:127.40.1.0/24":                  {Prefix: netip.MustParsePrefix("127.40.1.0/24")},
		"net:127.40.1.9/24 x":                {Prefix: netip.MustParsePrefix("127.40.1.0/24"), Words: []string{"x"}},
		"net:127.40.1/24":                    {Unknown: []string{"net:127.40.1/24"}},
		strings.Repeat("a ", 30):             {Words: strings.Fields(strings.Repeat("a ", maxWords)), Unknown: []string{"words beyond the first 12"}},
		"x" + strings.Repeat("é", maxLength): {Words: []string{"x" + strings.Repeat("é", 99)}, Unknown: []string{"what stands beyond 200 characters"}},
	} {
		if got := Parse(text); !reflect.DeepEqual(got, want) {
			t.Errorf("%q: %+v, want %+v", text, got, want)
		}
	}
	if !Parse(" ").Empty() || Parse("x").Empty() || Parse("state:purple").Empty() {
		t.Error("what is empty")
	}
}

func FuzzParse(f *testing.F) {
	for _, s := range []string{"ramp", `make:"a b`, "state:blocked stage:clock net:127.40", "::::", "\x00\xff", `"`} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, s string) {
		p := Parse(s)
		if len(p.Words) > maxWords {
			t.Fatalf("%d words", len(p.Words))
		}
		for _, w := range p.Words {
			if len(w) > 4*maxLength {
				t.Fatalf("a word of %d bytes", len(w))
			}
		}
		if p.States != nil && len(p.States) == 0 {
			t.Fatal("states that take nothing and say nothing")
		}
	})
}
