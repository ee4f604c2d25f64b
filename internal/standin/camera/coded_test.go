package camera

import (
	"bytes"
	"path/filepath"
	"testing"
	"time"

	"duskyharbor/internal/standin/footage"
)

// What is coded is coded once for all who play it, and forgotten when nobody does.
func TestWhatIsCodedIsCodedOnce(t *testing.T) {
	c, p, e := &Camera{}, profile{token: "main"}, encoder{Codec: "H264"}
	one, leaveOne := c.play(p, e)
	two, leaveTwo := c.play(p, e)
	other, leaveOther := c.play(p, encoder{Codec: "JPEG"})
	if one != two || one == other {
		t.Fatal("who shares isn't as it plays")
	}
	coded := 0
	frame := func(n int64) [][]byte {
		return one.once(n, func() [][]byte { coded++; return [][]byte{{byte(n)}} })
	}
	for _, n := range []int64{1, 1, 2, 1, 2, 4} {
		if got := frame(n); len(got) != 1 || got[0][0] != byte(n) {
			t.Errorf("frame %d is %v", n, got)
		}
	}
	if frame(3) != nil || coded != 3 {
		t.Errorf("a frame that was left out is coded after its follower: %d", coded)
	}
	for n := int64(5); n < 500; n++ {
		frame(n)
	}
	if len(one.units) > codedKept+1 {
		t.Errorf("%d frames are kept", len(one.units))
	}
	leaveOne()
	leaveOther()
	if again, leave := c.play(p, e); again != two {
		t.Error("it is coded anew though somebody plays it")
	} else {
		leave()
	}
	leaveTwo()
	if len(c.codings) != 0 {
		t.Errorf("nobody plays, and %d are coded", len(c.codings))
	}
}

// A still is coded once a second for all who ask for it, and anew as soon as the view looks otherwise.
func TestAStillIsCodedOnceASecond(t *testing.T) {
	c := &Camera{cfg: Config{Scene: footage.Slipway, StateFile: filepath.Join(t.TempDir(), "state")}, line: newTimeline()}
	p := profile{token: "main"}
	at := c.line.when(25 * 3)
	first := c.picture(p, at)
	if again := c.picture(p, at.Add(400*time.Millisecond)); &again[0] != &first[0] {
		t.Error("what is coded already is coded again")
	}
	if later := c.picture(p, at.Add(time.Second)); &later[0] == &first[0] {
		t.Error("a second later it still shows the same picture")
	}
	before := c.picture(p, at)
	c.ByNight(true)
	if night := c.picture(p, at); bytes.Equal(night, before) {
		t.Error("it is night, and the still is of the day")
	}
}
