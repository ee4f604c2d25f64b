package stream

import (
	"image"
	"image/color"
	"math/rand/v2"
	"strings"
	"testing"
	"time"
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
		all := JudgePicture(Seen{At: now, Print: x.p}, accepted)
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
