package streams

import (
	"context"
	"errors"
	"fmt"
	"strconv"
	"time"

	"duskyharbor/internal/act"
	"duskyharbor/internal/core/clock"
	"duskyharbor/internal/core/picture"
	"duskyharbor/internal/core/stage"
	"duskyharbor/internal/core/trouble"
	"duskyharbor/internal/engine"
	"duskyharbor/internal/site"
	"duskyharbor/internal/store"
)

// How a camera is held by hand.
const (
	handQuiet = picture.HandQuiet                   // who didn't say for so long that it is held still, doesn't hold it
	handEvery = 4 * time.Second                     // how often it is looked whether it is
	handMost  = 1 + int(picture.HandMost/handEvery) // of those looks
	steerFor  = time.Second                         // a push that isn't told again is over
	steerEnds = 2 * time.Second                     // told to the camera: it stops by itself where nobody is left to stop it
	lookLimit = 4 * time.Second                     // for a camera to be where it was sent
	zoomLimit = 20 * time.Second
)

// Hand is what is asked of a camera that is held by hand: take it first, which answers with the number of that hand
// as its id; keep saying that it is held, every few seconds; then back puts it where it looked, and leave lets it
// look where it does. While it is held: move pushes its axes until stop, or for a second; look sends it to a spot of
// its picture, zoom to a part of it, both in parts of the picture's sides from its upper left corner; preset calls one
// by its place among them, from 1.
type Hand struct {
	act.Camera
	Do     string  `form:"do" json:"do" enum:"take,keep,move,stop,look,zoom,preset,back,leave"`
	Number int64   `form:"hand" json:"hand,omitempty"`
	Pan    float64 `form:"pan" json:"pan,omitempty"` // of a push, −1 to 1: right, up and nearer are positive
	Tilt   float64 `form:"tilt" json:"tilt,omitempty"`
	Zoom   float64 `form:"zoom" json:"zoom,omitempty"`
	Left   float64 `form:"left" json:"left,omitempty"` // of a part of the picture; of a spot: how far across
	Top    float64 `form:"top" json:"top,omitempty"`
	Right  float64 `form:"right" json:"right,omitempty"`
	Bottom float64 `form:"bottom" json:"bottom,omitempty"`
	Preset int     `form:"preset" json:"preset,omitempty"`
}

// errLetGo is told to a hand that doesn't hold its camera any more.
var errLetGo = trouble.UserError("You don't hold it any more: it stopped, and another turns it or it was put back.")

// hand does what is asked of a camera by hand.
func (t *Stage) hand(ctx context.Context, c *act.Call, h Hand) (act.Kept, error) {
	s, of, err := c.Camera(ctx, h.Source)
	if err != nil {
		return act.Kept{}, err
	}
	if h.Do == "take" {
		return t.takeHand(ctx, c, s, of)
	}
	by := store.Hand{DeviceID: of.Device.ID, Number: h.Number, PersonID: some(c.Person), TokenID: some(c.Token)}
	if err := t.Store.KeepHand(ctx, by); err != nil {
		t.grips.drop(of.Device.ID, h.Number)
		return act.Kept{}, lost(err)
	}
	if h.Do == "keep" {
		return act.Kept{}, nil
	}
	g, err := t.gripOf(ctx, s, of, h.Number)
	if err != nil {
		return act.Kept{}, err
	}
	g.mu.Lock()
	defer g.mu.Unlock()
	g.idle.Reset(2 * handQuiet)
	switch h.Do {
	case "move":
		return act.Kept{}, g.push(ctx, picture.Push{Pan: h.Pan, Tilt: h.Tilt, Zoom: h.Zoom})
	case "stop":
		g.halt.Stop()
		err = g.stop(ctx)
	case "look":
		err = g.look(ctx, picture.Spot{X: h.Left, Y: h.Top})
	case "zoom":
		err = t.zoomTo(ctx, g, by, picture.Window{Left: h.Left, Top: h.Top, Right: h.Right, Bottom: h.Bottom})
	case "preset":
		err = g.preset(ctx, h.Preset)
	case "back", "leave":
		return t.letGo(ctx, c, g, by, h.Do == "back")
	default:
		return act.Kept{}, act.Wrong("do", "A hand does one of: take, keep, move, stop, look, zoom, preset, back, leave.")
	}
	if err != nil {
		return act.Kept{}, err
	}
	return act.Kept{Says: g.says()}, nil
}

func some(id int64) *int64 {
	if id == 0 {
		return nil
	}
	return &id
}

func lost(err error) error {
	if errors.Is(err, store.ErrHeld) {
		return errLetGo
	}
	return err
}

// takeHand has who asks hold a camera.
func (t *Stage) takeHand(ctx context.Context, c *act.Call, s *site.Snapshot, of site.Source) (act.Kept, error) {
	g, err := t.grip(ctx, s, of)
	if err != nil {
		return act.Kept{}, err
	}
	if err := g.ptz.MayHold(); err != nil {
		g.cam.Close()
		return act.Kept{}, err
	}
	had, err := t.Store.HandOn(ctx, of.Device.ID, handQuiet)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		g.cam.Close()
		return act.Kept{}, err
	}
	mine := store.Hand{DeviceID: of.Device.ID, SourceID: of.ID, PersonID: some(c.Person), TokenID: some(c.Token), Home: *g.ptz.At}
	took, err := t.Store.TakeHand(ctx, mine, handQuiet, c.Sure)
	if err == nil { // its end is seen to whatever becomes of this server
		err = t.Engine.Watch(ctx, of, stage.Streams, handEvery, handMost)
	}
	if err != nil {
		g.cam.Close()
		if errors.Is(err, store.ErrHeld) {
			return act.Kept{}, act.AskError{Heading: picture.Holder(had.Who, of.Place), Do: "Take it over",
				Text: "They took it " + clock.Length(c.Now.Sub(had.TakenAt)) + " ago. If you take it over it stops, and they are told."}
		}
		return act.Kept{}, err
	}
	if had.Number != 0 { // whatever another had it do ends
		if err := g.cam.Halt(ctx, g.services, g.ptz.Profile); err != nil {
			g.cam.Close()
			return act.Kept{}, err
		}
	}
	t.keepGrip(g, took.Number)
	did := "took a camera by hand"
	if had.Number != 0 && !had.Lapsed && had.Who != took.Who {
		did = "took a camera by hand from " + had.Who
	}
	return act.Kept{ID: took.Number, Says: took.Home.Text(), Did: did, Detail: of.Place + ", which looked at " + took.Home.Text()}, nil
}

// letGo ends a hand: it is put back, or stays as it looks.
func (t *Stage) letGo(ctx context.Context, c *act.Call, g *grip, by store.Hand, back bool) (act.Kept, error) {
	g.halt.Stop()
	if err := g.stop(ctx); err != nil {
		return act.Kept{}, err
	}
	held, err := t.Store.HandOn(ctx, by.DeviceID, handQuiet)
	if err != nil {
		return act.Kept{}, err
	}
	k := act.Kept{Did: "let a camera go that they held by hand"}
	switch {
	case g.at == nil || g.at.Near(held.Home):
		k.Detail = g.of.Place + ", which looks where it did"
	case back:
		k.Detail = fmt.Sprintf("%s, back from %s to %s", g.of.Place, g.at.Text(), held.Home.Text())
		g.ptz.At = g.at
		err = t.putBack(ctx, g.of, g.ptz, held)
	default:
		k.Did, k.Detail = "left a camera where they turned it by hand", fmt.Sprintf("%s, from %s to %s", g.of.Place, held.Home.Text(), g.at.Text())
	}
	if err != nil {
		return act.Kept{}, err
	}
	if err := t.Store.DropHand(ctx, by.DeviceID, by.Number); err != nil {
		return act.Kept{}, lost(err)
	}
	go t.grips.drop(by.DeviceID, by.Number) // its lock is held here
	k.Says = "Let go."
	if !back {
		s, err := site.Load(ctx, t.Store, g.of.Device.SiteID, []int64{g.of.Device.ID})
		if err != nil {
			return k, err
		}
		profiles, _ := site.Profiles.Of(s, g.of.Device.ID)
		if err := t.keepSetup(ctx, g.cam, g.of, g.services, profiles); err != nil {
			return k, err
		}
		t.Engine.Touch(g.of.Device.SiteID)
	}
	return k, nil
}

// handArg names the hand that a change puts back.
const handArg = "hand"

// putBack has a camera sent back to where it looked before hands took it, as a change that is read back.
func (t *Stage) putBack(ctx context.Context, of site.Source, p picture.PTZ, h store.Hand) error {
	c, ok := p.PutBack(h.Home)
	if !ok {
		return nil
	}
	c.Args[handArg] = strconv.FormatInt(h.Number, 10)
	ask := engine.Ask{Stage: stage.Streams}
	if h.PersonID != nil {
		ask.Person = *h.PersonID
	}
	if h.TokenID != nil {
		ask.Token = *h.TokenID
	}
	_, err := t.Engine.Once(ctx, ask, of, c)
	if errors.Is(err, engine.ErrUnderWay) {
		return nil
	}
	return err
}

// Follow sees to the end of a hand: where nobody says any more that a camera is held, or it was held for as long as
// it may be, it is put back.
func (t *Stage) Follow(ctx context.Context, v *engine.Visit, _ int) (more bool, err error) {
	h, err := t.Store.HandOn(ctx, v.Device.ID, handQuiet)
	if errors.Is(err, store.ErrNotFound) {
		return false, nil
	}
	if err != nil || !h.Lapsed {
		return true, err
	}
	if err := t.release(ctx, v, h); err != nil {
		if engine.Ours(err) {
			return true, err
		}
		t.Log.Warn("a camera that was held by hand can't be put back yet", "camera", v.Source.Place, "err", err)
		return true, nil // it doesn't answer: it is tried again
	}
	return false, nil
}

// release puts a camera back that a hand let go without a word.
func (t *Stage) release(ctx context.Context, v *engine.Visit, h store.Hand) error {
	s, err := v.Snapshot(ctx)
	if err != nil {
		return err
	}
	of, ok := s.Source(h.SourceID)
	if !ok {
		of = v.Source
	}
	g, err := t.grip(ctx, s, of)
	if err != nil {
		return err
	}
	defer g.cam.Close()
	if g.ptz.At == nil {
		return trouble.UserError("It doesn't tell where it looks any more.")
	}
	if err := t.putBack(ctx, of, g.ptz, h); err != nil {
		return err
	}
	err = t.Store.DropHand(ctx, h.DeviceID, h.Number)
	if errors.Is(err, store.ErrHeld) {
		return nil // another took it just then
	}
	t.grips.drop(h.DeviceID, h.Number)
	if err != nil {
		return err
	}
	e := store.AuditEntry{Site: v.Device.SiteID, Act: "put a camera back that nobody held by hand any more", Detail: of.Place}
	if h.PersonID != nil {
		e.Person = *h.PersonID
	}
	if h.TokenID != nil {
		e.Token = *h.TokenID
	}
	return t.Store.Audit(ctx, e)
}

// heldByHand says why a change that turns a camera waits: somebody holds it; nil where nobody does, or the change puts
// it back from where that hand turned it.
func (t *Stage) heldByHand(ctx context.Context, c store.Change) error {
	if c.Kind != picture.SetAim && c.Kind != picture.TryPTZ {
		return nil
	}
	h, err := t.Store.HandOn(ctx, c.DeviceID, handQuiet)
	switch {
	case errors.Is(err, store.ErrNotFound), err == nil && (h.Lapsed || c.Args[handArg] == strconv.FormatInt(h.Number, 10)):
		return nil
	case err != nil:
		return err
	}
	return trouble.UserError(picture.Holder(h.Who, "it") + " Ask again when it is let go.")
}
