package streams

import (
	"context"
	"errors"
	"sync"
	"time"

	"duskyharbor/internal/act"
	"duskyharbor/internal/core/picture"
	"duskyharbor/internal/core/stream"
	"duskyharbor/internal/core/trouble"
	"duskyharbor/internal/device/onvif"
	"duskyharbor/internal/facts"
	"duskyharbor/internal/site"
	"duskyharbor/internal/store"
)

// grip is a hand's conversation with its camera, on this server.
type grip struct {
	number   int64
	of       site.Source
	cam      *onvif.Client
	services map[string]string
	ptz      picture.PTZ
	at       *picture.Aim // where it was last seen to look

	mu   sync.Mutex  // one call at a time
	halt *time.Timer // stops it where a push isn't told again
	idle *time.Timer // ends the conversation where nothing more is asked
}

// grips are the hands of this server, by device.
type grips struct {
	mu  sync.Mutex
	all map[int64]*grip
}

func (a *grips) of(device, number int64) *grip {
	a.mu.Lock()
	defer a.mu.Unlock()
	if g := a.all[device]; g != nil && g.number == number {
		return g
	}
	return nil
}

// put keeps a grip, and ends the one that it comes after.
func (a *grips) put(device int64, g *grip) {
	a.mu.Lock()
	had := a.all[device]
	a.all[device] = g
	a.mu.Unlock()
	had.end()
}

// drop ends a grip, of that number.
func (a *grips) drop(device, number int64) {
	a.mu.Lock()
	g := a.all[device]
	if g != nil && g.number == number {
		delete(a.all, device)
	} else {
		g = nil
	}
	a.mu.Unlock()
	g.end()
}

func (g *grip) end() {
	if g == nil {
		return
	}
	g.halt.Stop()
	g.idle.Stop()
	g.mu.Lock()
	defer g.mu.Unlock()
	g.cam.Close()
}

// grip opens a conversation with a camera that is to be moved.
func (t *Stage) grip(ctx context.Context, s *site.Snapshot, of site.Source) (*grip, error) {
	setup, _ := facts.ForPicture(s, of)
	switch {
	case !writable(s, of):
		return nil, trouble.UserError("No account opens the settings of " + of.Place + ".")
	case setup == nil || setup.PTZ == nil:
		return nil, trouble.UserError(of.Place + " can't be turned, as far as it told.")
	}
	cam, err := t.Accounts.Open(ctx, of.Device, s, "turning it by hand")
	if err != nil {
		return nil, err
	}
	g := &grip{of: of, cam: cam}
	g.services, _ = facts.Services.Of(s, of.Device.ID)
	p, err := cam.PTZ(ctx, g.services, stream.Profile{Token: setup.PTZ.Profile, PTZ: setup.PTZ.Config})
	if err == nil && p == nil {
		err = trouble.UserError("It can't be turned any more.")
	}
	if err != nil {
		cam.Close()
		return nil, err
	}
	g.ptz, g.at = *p, p.At
	return g, nil
}

// gripOf is the conversation of a hand; where another server took it, this one opens its own.
func (t *Stage) gripOf(ctx context.Context, s *site.Snapshot, of site.Source, number int64) (*grip, error) {
	if g := t.grips.of(of.Device.ID, number); g != nil {
		return g, nil
	}
	g, err := t.grip(ctx, s, of)
	if err == nil {
		t.keepGrip(g, number)
	}
	return g, err
}

func (t *Stage) keepGrip(g *grip, number int64) {
	g.number = number
	g.halt = time.AfterFunc(time.Hour, func() {
		g.mu.Lock()
		defer g.mu.Unlock()
		ctx, cancel := context.WithTimeout(context.Background(), steerEnds)
		defer cancel()
		if err := g.cam.Halt(ctx, g.services, g.ptz.Profile); err != nil { // it ends by itself
			t.Log.Warn("a camera wasn't stopped; its own time limit stops it", "camera", g.of.Place, "err", err)
		}
	})
	g.halt.Stop()
	g.idle = time.AfterFunc(2*handQuiet, func() { t.grips.drop(g.of.Device.ID, number) })
	t.grips.put(g.of.Device.ID, g)
}

// says is where it looks, in words.
func (g *grip) says() string {
	if g.at == nil {
		return ""
	}
	return g.at.Text()
}

// push moves it as long as that is told again.
func (g *grip) push(ctx context.Context, v picture.Push) error {
	if !v.OK() {
		return act.Wrong("pan", "A push is from −1 to 1 on each axis, and not 0 on all.")
	}
	if speed, ok := g.ptz.Velocity(v); ok {
		g.halt.Reset(steerFor)
		return g.cam.Steer(ctx, g.services, g.ptz.Profile, speed, steerEnds)
	}
	at, err := g.cam.Aim(ctx, g.services, g.ptz.Profile)
	if err != nil || at == nil {
		return errors.Join(err, trouble.UserError("It doesn't tell where it looks any more."))
	}
	to, ok := g.ptz.Step(*at, v)
	if !ok {
		return trouble.UserError("It can't be moved so.")
	}
	g.at = &to
	return g.cam.Send(ctx, g.services, g.ptz.Profile, "", to, g.ptz.Axes())
}

// stop stops it, and sees where it stands.
func (g *grip) stop(ctx context.Context) error {
	if _, ok := g.ptz.Velocity(picture.Push{Pan: 1, Tilt: 1, Zoom: 1}); ok { // in steps it stands by itself
		if err := g.cam.Halt(ctx, g.services, g.ptz.Profile); err != nil {
			return err
		}
	}
	return g.settle(ctx)
}

func (g *grip) settle(ctx context.Context) (err error) {
	g.at, err = g.cam.Settled(ctx, g.services, g.ptz.Profile, lookLimit)
	return err
}

// look sends it to a spot of its picture.
func (g *grip) look(ctx context.Context, at picture.Spot) error {
	pan, tilt, err := g.ptz.Across(at)
	if err != nil {
		return act.Wrong("left", err.Error())
	}
	if err := g.cam.Across(ctx, g.services, g.ptz.Profile, pan, tilt); err != nil {
		return err
	}
	return g.settle(ctx)
}

// preset calls one of its presets.
func (g *grip) preset(ctx context.Context, n int) error {
	if n < 1 || n > len(g.ptz.Presets) {
		return act.Wrongf("preset", "It remembers %s, and there is no %d.", act.Count(len(g.ptz.Presets), "place"), n)
	}
	if err := g.cam.Send(ctx, g.services, g.ptz.Profile, g.ptz.Presets[n-1].Token, picture.Aim{}, nil); err != nil {
		return err
	}
	return g.settle(ctx)
}

// zoomTo has a part of its picture fill it: it looks at the middle, and zooms until what was seen there is as many
// times larger, by its stills.
func (t *Stage) zoomTo(ctx context.Context, g *grip, by store.Hand, to picture.Window) error {
	want, err := to.Factor()
	if err != nil {
		return act.Wrong("left", err.Error())
	}
	ctx, cancel := context.WithTimeout(ctx, zoomLimit)
	defer cancel()
	if err := g.look(ctx, to.Middle()); err != nil {
		return err
	}
	if g.at == nil || !g.ptz.Zooms.Known() {
		return trouble.UserError("It looks there now, and doesn't tell how far it is zoomed: go nearer by +.")
	}
	before, err := t.print(ctx, g.of)
	if err != nil {
		return trouble.UserErrorf("It looks there now. How near it is can't be measured (%v): go nearer by +.", err)
	}
	had := []picture.Zoomed{{At: g.at.Zoom, Times: 1}}
	for {
		next, done := g.ptz.NextZoom(had, want)
		if done {
			return nil
		}
		if err := t.Store.KeepHand(ctx, by); err != nil {
			return lost(err)
		}
		aim := *g.at
		aim.Zoom = next
		if err := g.cam.Send(ctx, g.services, g.ptz.Profile, "", aim, g.ptz.Axes()); err != nil {
			return err
		}
		if err := g.settle(ctx); err != nil {
			return err
		}
		after, err := t.print(ctx, g.of)
		if err != nil || g.at == nil {
			return err
		}
		times, seen := before.Times(after)
		if next < had[len(had)-1].At { // it went too near, and back
			times, seen = after.Times(before)
			times = 1 / max(times, 1)
		}
		if !seen {
			return nil // nothing to measure by: it stays where it is
		}
		had, before = append(had, picture.Zoomed{At: g.at.Zoom, Times: had[len(had)-1].Times * times}), after
	}
}
