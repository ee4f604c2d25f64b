package stream

import (
	"testing"
	"time"
)

// Who asks for key frames nearer, or further apart, than an encoder can have them is told so; what comes nearer to
// what was asked for is set.
func TestKeyFramesThatCannotBeSoFarApart(t *testing.T) {
	set := Encoder{Codec: "H264", Size: Size{1280, 720}, FPS: 15, Kbps: 2048, GOP: 15}
	options := func(least, most int) []Options {
		return []Options{{Codec: "H264", Sizes: []Size{{1280, 720}}, MinFPS: 1, MaxFPS: 25, MinKbps: 64, MaxKbps: 8192, MinGOP: least, MaxGOP: most}}
	}
	for name, tc := range map[string]struct {
		least, most int
		every       time.Duration
		gop         int
		why         string
	}{
		"as it is":                       {1, 60, time.Second, 15, ""},
		"nearer":                         {1, 60, 400 * time.Millisecond, 6, ""},
		"on the bound":                   {6, 60, 400 * time.Millisecond, 6, ""},
		"nearer than it can, by a part":  {10, 60, 400 * time.Millisecond, 10, ""},
		"nearer than it can":             {15, 60, 400 * time.Millisecond, 15, "its key frames are at least 15 frames apart"},
		"further than it can":            {1, 15, 2 * time.Second, 15, "its key frames are at most 15 frames apart"},
		"further than it can, by a part": {1, 20, 2 * time.Second, 20, ""},
		"no bound":                       {0, 0, 2 * time.Second, 30, ""},
		"nobody asks":                    {20, 60, 0, 20, ""},
	} {
		got, why := Nearest(set, options(tc.least, tc.most), Want{KeyEvery: tc.every})
		if got.GOP != tc.gop || why != tc.why {
			t.Errorf("%s: %d %q, want %d %q", name, got.GOP, why, tc.gop, tc.why)
		}
	}
}
