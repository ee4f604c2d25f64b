package gather

import (
	"context"
	"image"
	"image/color"
	"sync"
	"time"

	"duskyharbor/internal/core/scene"
	"duskyharbor/internal/device/onvif"
)

// Glances are pictures of a view, one after the other.
type Glances interface {
	Next(context.Context) (image.Image, error)
	Close()
}

const (
	glanceEvery = 300 * time.Millisecond
	glanceFor   = 16 * time.Second
	boxesAfter  = 5 * time.Second // so much later boxes may come that are about a picture
	sitAgain    = 2 * time.Second // after it was looked for; Glance says whether it is asked for
	mostMoments = 4000
)

// sitter looks at a view's picture while something moves, and finds how its boxes lie on that.
type sitter struct {
	mu      sync.Mutex
	looks   bool
	moments []scene.Moment
	next    time.Time // not before then
}

// see takes what a document told of, and says whether it is time to look: one thing is there, and nobody looks.
func (s *sitter) see(frames []onvif.SeenFrame, at func(time.Time) time.Time, now time.Time) (look bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, f := range frames {
		m := scene.Moment{At: time.Duration(at(f.At).UnixNano())}
		for _, o := range f.Objects[:min(2, len(f.Objects))] { // of two and more nothing is told
			m.Boxes = append(m.Boxes, o.Box)
		}
		look = len(f.Objects) == 1
		if n := len(s.moments); s.looks && n < mostMoments && (n == 0 || s.moments[n-1].At < m.At) {
			s.moments = append(s.moments, m)
		}
	}
	if s.looks || !look || now.Before(s.next) {
		return false
	}
	s.looks, s.moments = true, nil
	return true
}

// sit looks for a while, and has what it finds be kept.
func (g *Gatherer) sit(ctx context.Context, id int64, s *sitter) {
	defer func() {
		s.mu.Lock()
		s.looks, s.next = false, time.Now().Add(sitAgain)
		s.mu.Unlock()
	}()
	ctx, cancel := context.WithTimeout(ctx, glanceFor+boxesAfter+openLimit)
	defer cancel()
	all, err := g.look(ctx, id)
	if err != nil {
		return // it is known already, or no still comes: it stays not known how they sit
	}
	select {
	case <-ctx.Done():
		return
	case <-time.After(boxesAfter):
	}
	s.mu.Lock()
	told := s.moments
	s.mu.Unlock()
	got, ok := scene.Sit(all, told)
	if !ok {
		return
	}
	if err := g.Sits(ctx, id, got); err != nil && ctx.Err() == nil {
		g.Log.Error("how boxes sit isn't kept", "view", id, "err", err)
	}
}

func (g *Gatherer) look(ctx context.Context, id int64) (all []scene.Glimpse, err error) {
	pictures, err := g.Glance(ctx, id)
	if err != nil {
		return nil, err
	}
	defer pictures.Close()
	end := time.Now().Add(glanceFor)
	each := time.NewTicker(glanceEvery)
	defer each.Stop()
	for time.Now().Before(end) {
		asked := time.Now()
		img, err := pictures.Next(ctx)
		if err != nil {
			return nil, err
		}
		// The picture is of some moment between asking and answer: of the middle, until a device tells.
		all = append(all, scene.Glimpse{At: time.Duration(asked.Add(time.Since(asked) / 2).UnixNano()), Grey: grey(img)})
		select {
		case <-ctx.Done():
			return nil, ctx.Err()
		case <-each.C:
		}
	}
	return all, nil
}

// grey is a picture as scene.Glimpse has it: each place the mean of a few of its pixels.
func grey(img image.Image) []uint8 {
	const side = 3 // samples of a place, across and down
	b := img.Bounds()
	out := make([]uint8, scene.GlimpseWide*scene.GlimpseHigh)
	for i := range out {
		x, y := i%scene.GlimpseWide, i/scene.GlimpseWide
		sum := 0
		for k := range side * side {
			u := b.Min.X + (x*side+k%side)*b.Dx()/(scene.GlimpseWide*side)
			v := b.Min.Y + (y*side+k/side)*b.Dy()/(scene.GlimpseHigh*side)
			sum += int(color.GrayModel.Convert(img.At(u, v)).(color.Gray).Y)
		}
		out[i] = uint8(sum / (side * side))
	}
	return out
}
