package stream

import (
	"image"
	"image/color"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"duskyharbor/internal/core/finding"
	"duskyharbor/internal/core/ground"
	"duskyharbor/internal/testbed/moment"
)

// scenery is a picture of blocks; each number is another view.
func scenery(seed uint64, shade func(v float64) color.Color) image.Image {
	r := rand.New(rand.NewPCG(seed, 1))
	img := image.NewRGBA(image.Rect(0, 0, 320, 180))
	var blocks [16 * 9]float64
	for i := range blocks {
		blocks[i] = r.Float64()
	}
	for y := range 180 {
		for x := range 320 {
			img.Set(x, y, shade(blocks[y/20*16+x/20]))
		}
	}
	return img
}

func warm(v float64) color.Color {
	return color.RGBA{uint8(80 + 170*v), uint8(60 + 120*v), uint8(40 + 60*v), 255}
}
func grey(v float64) color.Color { return color.Gray{uint8(20 + 90*v)} }
func dim(v float64) color.Color {
	return color.RGBA{uint8(60 + 90*v), uint8(45 + 70*v), uint8(30 + 40*v), 255}
}
func flat(float64) color.Color { return color.RGBA{30, 40, 70, 255} }

func TestTwoPicturesOfOneViewAreAlike(t *testing.T) {
	a, darker, other := PrintOf(scenery(1, warm)), PrintOf(scenery(1, dim)), PrintOf(scenery(2, warm))
	if l := a.Likeness(darker); l < 0.9 {
		t.Errorf("the same view, darker: %.2f", l)
	}
	if l := a.Likeness(other); l > 0.5 {
		t.Errorf("another view: %.2f", l)
	}
	if a.Likeness(a) != 1 || a.Likeness(Print{}) != 0 {
		t.Error("itself, or nothing")
	}
	// A person in it changes little.
	with := scenery(1, warm).(*image.RGBA)
	for y := 60; y < 160; y++ {
		for x := 140; x < 170; x++ {
			with.Set(x, y, color.RGBA{200, 20, 40, 255})
		}
	}
	if l := a.Likeness(PrintOf(with)); l < 0.75 {
		t.Errorf("somebody in it: %.2f", l)
	}
	if a.LightOf() != Day || PrintOf(scenery(1, grey)).LightOf() != Night || a.Blank() || !PrintOf(scenery(1, flat)).Blank() {
		t.Error("its light, or what shows nothing")
	}
	if tiny := PrintOf(image.NewRGBA(image.Rect(0, 0, 3, 2))); !tiny.Blank() {
		t.Error("a picture of six pixels")
	}
}

func TestAPictureIsHeldAgainstTheAcceptedOne(t *testing.T) {
	now := time.Date(2026, 11, 26, 12, 0, 0, 0, time.UTC)
	good := PrintOf(scenery(1, warm))
	accepted := Pictures{Day: {By: "Maren Ostby", At: now, Print: good}}
	soft := good
	soft.Sharp = good.Sharp * 0.4
	for name, x := range map[string]struct {
		p    Print
		code string
	}{"as it was": {good, ""}, "turned": {PrintOf(scenery(2, warm)), "stream.moved"}, "covered": {PrintOf(scenery(1, flat)), "stream.blank"},
		"out of focus": {soft, "stream.blurred"}, "by night, which nobody accepted": {PrintOf(scenery(2, grey)), ""}} {
		all := judgePicture(Seen{At: now, Print: x.p}, accepted)
		if len(all) > 1 || (len(all) == 1) != (x.code != "") || len(all) == 1 && (all[0].Code != x.code || len(all[0].Evidence) == 0) {
			t.Errorf("%s: %+v", name, all)
		}
		if x.code == "stream.moved" && !strings.Contains(all[0].Sentence, "the one that Maren Ostby accepted by day on 26 November 2026") {
			t.Error(all[0].Sentence)
		}
	}
	for light, ok := range map[Light]bool{Day: true, Night: false, "dusk": false} {
		if (MayAccept(good, light) == nil) != ok {
			t.Errorf("by %s: %v", light, MayAccept(good, light))
		}
	}
	if MayAccept(PrintOf(scenery(1, flat)), Day) == nil {
		t.Error("what shows nothing is accepted")
	}
}

// What was accepted on something that is otherwise now was accepted no more, in that light and no other; what nobody
// noted the grounds of, or didn't know then, stands.
func TestAnAcceptedPictureRestsOnWhatItShows(t *testing.T) {
	on := func(masks, mac string) []ground.Ground {
		return []ground.Ground{{Of: "privacy masks", Is: masks}, {Of: "MAC", Is: mac}}
	}
	at := moment.Now()
	day := Accepted{By: "Maren", At: at, Grounds: on("one", "a")}
	for name, tc := range map[string]struct {
		accepted Pictures
		now      []ground.Ground
		says     []string // a part of each finding
		open     string   // of the note that nobody ever accepted it; empty: somebody did in both lights
	}{
		"as it was":           {Pictures{Day: day}, on("one", "a"), nil, "by night"},
		"another mask":        {Pictures{Day: day}, on("two", "a"), []string{"accepted its picture by day on", "masks changed from one to two"}, "by night"},
		"a camera exchanged":  {Pictures{Day: day, Night: {By: "Maren", At: at, Grounds: on("one", "b")}}, on("one", "b"), []string{"its MAC changed from a to b"}, ""},
		"masks not told now":  {Pictures{Day: day}, on("", "a"), []string{"can't be told now"}, "by night"},
		"masks not told then": {Pictures{Day: {By: "Maren", At: at, Grounds: on("", "a")}}, on("one", "a"), nil, "by night"},
		"grounds not noted":   {Pictures{Day: {By: "Maren", At: at}}, on("two", "b"), nil, "by night"},
		"nobody looks":        {Pictures{Day: day}, nil, nil, "by night"},
		"both lights fall":    {Pictures{Day: day, Night: day}, on("two", "b"), []string{"by day", "by night"}, ""},
		"none accepted":       {nil, on("one", "a"), nil, "by day, nor by night"},
	} {
		found := judgeGrounds(tc.accepted, tc.now)
		note, open := JudgeAccepted(tc.accepted)
		text := ""
		for _, f := range found {
			text += f.Sentence
			if f.Code != "stream.accepted-before" || f.Severity != finding.Needs {
				t.Errorf("%s: %+v", name, f)
			}
		}
		for _, part := range tc.says {
			if !strings.Contains(text, part) {
				t.Errorf("%s: %q, want %q", name, text, part)
			}
		}
		if len(tc.says) == 0 && text != "" || open != (tc.open != "") || open && !strings.Contains(note.Sentence, "accepted its picture "+tc.open+":") {
			t.Errorf("%s: %q, %q", name, text, note.Sentence)
		}
	}
}
