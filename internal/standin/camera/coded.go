package camera

import (
	"bytes"
	"fmt"
	"image"
	"image/jpeg"
	"sync"
	"time"

	"duskyharbor/internal/standin/coder"
	"duskyharbor/internal/standin/footage"
)

// drawEvery is how many frames a picture that is coded as it is sent stays.
const drawEvery = 3

// encoding is what a profile sends where its view isn't what the clip shows: coded once for all who
// play it, and only while somebody does.
type encoding struct {
	mu      sync.Mutex
	readers int
	coder   *coder.Coder // nil: nothing was coded yet
	size    bool         // of the coder
	last    int64        // the newest frame that was coded
	units   map[int64][][]byte
}

// codedKept is for how many frames what was coded is kept, for who sends it later.
const codedKept = 96

// play has a session take part in what a profile codes; leave ends that.
func (c *Camera) play(p profile, as encoder) (e *encoding, leave func()) {
	what := fmt.Sprint(p.token, as)
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.codings == nil {
		c.codings = map[string]*encoding{}
	}
	e = c.codings[what]
	if e == nil {
		e = &encoding{last: -1, units: map[int64][][]byte{}}
		c.codings[what] = e
	}
	e.readers++
	return e, func() {
		c.mu.Lock()
		defer c.mu.Unlock()
		if e.readers--; e.readers == 0 && c.codings[what] == e {
			delete(c.codings, what)
		}
	}
}

// once gives what a frame is sent as, coded by who asks first; nil where that is over.
func (e *encoding) once(n int64, code func() [][]byte) [][]byte {
	e.mu.Lock()
	defer e.mu.Unlock()
	if units, ok := e.units[n]; ok || n <= e.last {
		return units
	}
	e.last, e.units[n] = n, code()
	for k := range e.units {
		if k < n-codedKept {
			delete(e.units, k)
		}
	}
	return e.units[n]
}

// coded gives the H.264 pictures of one session: from the clip, or coded as they are sent where
// the view isn't what the clip shows.
type coded struct {
	cam     *Camera
	profile profile
	shared  *encoding
	live    bool // what it sent last was coded, not from the clip
}

// frame is the access unit of frame n.
func (d *coded) frame(n int64, e encoder) [][]byte {
	walk, index := d.cam.line.clip(n)
	_, differs := d.cam.look(d.profile.source)
	key := n%(e.group()*e.step()) == 0
	if !differs && (!d.live || key) {
		d.live = false
		return frames(d.cam.scene(d.profile.source), walk, e.coding())[index/e.step()]
	}
	key = key || !d.live
	d.live = true
	return d.shared.once(n, func() [][]byte {
		s := d.shared
		if s.coder == nil || s.size != e.Sub {
			s.coder, s.size, key = coder.New(footage.Size(e.Sub)), e.Sub, true
		}
		if !key && e.step() < drawEvery && n%drawEvery != 0 {
			return s.coder.Same()
		}
		img := d.cam.draw(d.profile, walk, index, e.Sub)
		group := float64(e.group()) / float64(e.fps()) * float64(e.Kbps) * 1000 / 8 // bytes
		if key {
			return s.coder.Key(img, int(0.5*group))
		}
		return s.coder.Next(img, int(0.4*group*float64(max(drawEvery/e.step(), 1))/float64(e.group())))
	})
}

// draw is what a profile shows at a frame.
func (c *Camera) draw(p profile, walk bool, frame int64, sub bool) *image.RGBA {
	width, height := footage.Size(sub)
	l, _ := c.look(p.source)
	return c.scene(p.source).DrawLook(walk, time.Duration(frame)*time.Second/footage.FPS, width, height, l)
}

// picture is what a profile shows at a moment, as JPEG: coded once a second, and as soon as the view
// looks otherwise.
func (c *Camera) picture(p profile, now time.Time) []byte {
	walk, frame := c.line.at(now)
	l, _ := c.look(p.source)
	of, sub := c.scene(p.source), c.encoderOf(p).Sub
	anew := int64(footage.FPS) // frames after which a still is drawn anew
	if walk {
		anew = 1
	}
	what := fmt.Sprint(walk, frame/anew, of.Name, of.Night, sub, l)
	c.stills.Lock()
	defer c.stills.Unlock()
	if last := c.stills.of[p.token]; last.what == what {
		return last.jpeg
	}
	var buf bytes.Buffer
	width, height := footage.Size(sub)
	img := of.DrawLook(walk, time.Duration(frame)*time.Second/footage.FPS, width, height, l)
	if err := jpeg.Encode(&buf, img, &jpeg.Options{Quality: 82}); err != nil {
		return nil
	}
	if c.stills.of == nil {
		c.stills.of = map[string]codedStill{}
	}
	c.stills.of[p.token] = codedStill{what, buf.Bytes()}
	return buf.Bytes()
}

// codedStill is the last still of a profile.
type codedStill struct {
	what string // it shows
	jpeg []byte
}
