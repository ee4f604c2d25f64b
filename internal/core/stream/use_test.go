package stream

import (
	"slices"
	"strings"
	"testing"

	"duskyharbor/internal/testbed/moment"
)

func TestAPersonsUseGoesFirst(t *testing.T) {
	main := Profile{Token: "m", Name: "Main", Codec: "H264", Width: 1920, Height: 1080, FPS: 25, Kbps: 4096}
	mid := Profile{Token: "d", Name: "Mid", Codec: "H265", Width: 1280, Height: 720, FPS: 15, Kbps: 1024}
	sub := Profile{Token: "s", Name: "Sub", Codec: "H264", Width: 320, Height: 180, FPS: 5, Kbps: 128}
	lost := mid
	lost.Trouble = "no address"
	for name, x := range map[string]struct {
		profiles     []Profile
		uses         Uses
		codecs       []string
		record, view string
		says         []string
	}{
		"nothing was said":      {[]Profile{main, mid, sub}, Uses{}, nil, "m", "d", nil},
		"another is recorded":   {[]Profile{main, mid, sub}, Uses{Record: "d"}, nil, "d", "m", nil},
		"another is looked at":  {[]Profile{main, mid, sub}, Uses{View: "s"}, nil, "m", "s", nil}, // narrower than the rule would take
		"the best is looked at": {[]Profile{main, mid, sub}, Uses{View: "m"}, nil, "d", "m", nil},
		"both":                  {[]Profile{main, mid, sub}, Uses{Record: "s", View: "d"}, nil, "s", "d", nil},
		"the only one":          {[]Profile{main}, Uses{View: "m"}, nil, "m", "", nil},
		"it isn't taken":        {[]Profile{main, mid, sub}, Uses{Record: "d"}, []string{"H264"}, "m", "", []string{"Mid was chosen to be recorded and sends H.265; Quay recorder takes H.264 only."}},
		"it isn't there":        {[]Profile{main, sub}, Uses{Record: "d", View: "d"}, nil, "m", "", []string{"The stream that was chosen to be recorded isn't there any more.", "The stream that was chosen to be looked at isn't there"}},
		"it isn't had":          {[]Profile{main, lost}, Uses{View: "d"}, nil, "m", "", []string{"Mid was chosen to be looked at, and the camera doesn't say where it is had."}},
		"none":                  {nil, Uses{Record: "d"}, nil, "", "", nil},
	} {
		before := slices.Clone(x.profiles)
		marked := x.uses.Mark(x.profiles)
		record, view := Roles(marked, x.codecs)
		if record != x.record || view != x.view {
			t.Errorf("%s: %q is recorded, %q looked at", name, record, view)
		}
		for i := range before {
			if x.profiles[i].Use != "" {
				t.Errorf("%s: what was read was written to", name)
			}
		}
		var says []string
		for _, f := range Judge(moment.Now(), Facts{LookedAt: moment.Now(), Profiles: marked}, Wishes{Recorder: "Quay recorder", Codecs: x.codecs, Uses: x.uses}) {
			if f.Code == "stream.use" {
				says = append(says, f.Sentence)
			}
		}
		if len(says) != len(x.says) || !slices.EqualFunc(says, x.says, func(a, b string) bool { return strings.HasPrefix(a, b) }) {
			t.Errorf("%s: %q", name, says)
		}
	}
}

func TestUsesAreChosen(t *testing.T) {
	all := []Profile{{Token: "m", Name: "Main"}, {Token: "s", Name: "Sub"}, {Token: "t", Name: "Sub"}, {Token: "Main", Name: "odd"}}
	for name, x := range map[string]struct {
		is           Uses
		record, view string
		want         Uses
		why          string
	}{
		"by token":         {Uses{}, "m", "s", Uses{"m", "s"}, ""},
		"a token first":    {Uses{}, "Main", "", Uses{Record: "Main"}, ""},
		"by name":          {Uses{}, "odd", "", Uses{Record: "Main"}, ""},
		"one stays":        {Uses{"m", "s"}, "", "t", Uses{"m", "t"}, ""},
		"by rule again":    {Uses{"m", "s"}, ByRule, ByRule, Uses{}, ""},
		"two of that name": {Uses{"m", ""}, "", "Sub", Uses{"m", ""}, `it has two streams called "Sub"`},
		"no such":          {Uses{}, "Third", "", Uses{}, `it has no stream called "Third"`},
		"one for both":     {Uses{"m", ""}, "", "m", Uses{"m", ""}, "the stream that is looked at is another one than the stream that is recorded"},
	} {
		if got, why := x.is.Choose(all, x.record, x.view); got != x.want || why != x.why {
			t.Errorf("%s: %+v %q", name, got, why)
		}
	}
}
