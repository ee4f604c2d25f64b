package camera

import "testing"

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
