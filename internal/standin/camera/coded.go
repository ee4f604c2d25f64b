package camera

import (
	"image"
	"time"

	"duskyharbor/internal/standin/coder"
	"duskyharbor/internal/standin/footage"
)

// drawEvery is how many frames a picture that is coded as it is sent stays.
const drawEvery = 3

// coded gives the H.264 pictures of one session: from the clip, or coded as they are sent where
// the view isn't what the clip shows.
type coded struct {
	cam     *Camera
	profile profile
	coder   *coder.Coder // nil: from the clip
	size    bool         // of the coder
}

// frame is the access unit of frame n.
func (d *coded) frame(n int64, e encoder) [][]byte {
	walk, index := d.cam.line.clip(n)
	_, differs := d.cam.look(d.profile.source)
	key := n%e.group() == 0
	switch {
	case !differs && (d.coder == nil || key):
		d.coder = nil
		return frames(d.cam.scene(d.profile.source), walk, e.coding())[index]
	case d.coder == nil || d.size != e.Sub:
		d.coder, d.size, key = coder.New(footage.Size(e.Sub)), e.Sub, true
	case !key && n%drawEvery != 0:
		return d.coder.Same()
	}
	img := d.cam.draw(d.profile, walk, index, e.Sub)
	group := float64(e.group()) / footage.FPS * float64(e.Kbps) * 1000 / 8 // bytes
	if key {
		return d.coder.Key(img, int(0.5*group))
	}
	return d.coder.Next(img, int(0.4*group*drawEvery/float64(e.group())))
}

// draw is what a profile shows at a frame.
func (c *Camera) draw(p profile, walk bool, frame int64, sub bool) *image.RGBA {
	width, height := footage.Size(sub)
	l, _ := c.look(p.source)
	return c.scene(p.source).DrawLook(walk, time.Duration(frame)*time.Second/footage.FPS, width, height, l)
}
