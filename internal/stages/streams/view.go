package streams

import (
	"context"
	"time"

	"duskyharbor/internal/core/finding"
	"duskyharbor/internal/core/picture"
	"duskyharbor/internal/core/scene"
	"duskyharbor/internal/core/stream"
	"duskyharbor/internal/core/trouble"
	"duskyharbor/internal/device/onvif"
	"duskyharbor/internal/engine"
	"duskyharbor/internal/facts"
	"duskyharbor/internal/site"
	"duskyharbor/internal/store"
)

// keepSetup reads how the view's picture is made and what lies over it, and keeps it.
func (t *Stage) keepSetup(ctx context.Context, c *onvif.Client, of site.Source, services map[string]string, all []stream.Profile) error {
	own, _ := stream.OfSource(all, of.Video)
	if len(own) == 0 {
		return nil
	}
	p := own[0]
	for _, q := range own { // by which it can be turned
		if p.PTZ == "" && q.PTZ != "" && q.Source == p.Source {
			p = q
		}
	}
	setup, err := c.Setup(ctx, services, p)
	if err != nil {
		if costsItself(err) {
			return nil // its streams are read and played all the same
		}
		return err
	}
	return t.Store.KeepFacts(ctx, facts.Setup.New(of, "GetOSDs, GetMasks, GetImagingSettings, GetStatus", time.Now().UTC(), setup))
}

// readSetup reads again how the view's picture is made, and takes its still.
func (t *Stage) readSetup(ctx context.Context, v *engine.Visit) error {
	s, err := v.Snapshot(ctx)
	if err != nil {
		return err
	}
	c, err := t.Accounts.Open(ctx, v.Device, s, t.ID().String())
	if err != nil {
		return err
	}
	defer c.Close()
	services, _ := facts.Services.Of(s, v.Device.ID)
	profiles, _ := site.Profiles.Of(s, v.Device.ID)
	if err := t.keepSetup(ctx, c, v.Source, services, profiles); err != nil {
		return err
	}
	return t.keepStill(ctx, v.Source)
}

// AskedText is what sets the text of a view as a person wants it, and why not.
func (t *Stage) AskedText(s *site.Snapshot, of site.Source, want picture.Want) ([]finding.Change, []string) {
	if !writable(s, of) {
		return nil, []string{"no account opens its settings"}
	}
	setup, w := facts.ForPicture(s, of)
	return picture.Asked(setup, w, want)
}

// viewEditor reads and writes what a change of the view's picture is about.
func (t *Stage) viewEditor(v *engine.Visit, x viewChange) engine.Editor {
	c, cam, services := x.Change, x.cam, x.services
	e := engine.EditorFuncs{Shut: cam.Close}
	switch c.Kind {
	case picture.SetText:
		text := picture.TextOf(c.Args)
		e.ReadFunc = func(ctx context.Context) (string, error) {
			now, err := cam.TextsNow(ctx, services, c.Args["config"])
			return now.State(text.Kind), err
		}
		e.WriteFunc = func(ctx context.Context) error { return cam.PutText(ctx, services, c.Args["config"], text) }
	case picture.SetMasks:
		e.ReadFunc, e.WriteFunc = x.readMasks, x.writeMasks
	case picture.SetImaging:
		e.ReadFunc, e.WriteFunc = x.readImaging, func(ctx context.Context) error {
			return cam.SetImaging(ctx, services, c.Args["source"], picture.Property(c.Args["property"]), c.Args["value"])
		}
	case picture.SetAim:
		e.ReadFunc, e.WriteFunc = x.readAim, x.writeAim
	case picture.SetPreset:
		e.ReadFunc, e.WriteFunc = x.readPreset, x.writePreset
	default:
		e.ReadFunc = func(ctx context.Context) (string, error) { return t.readTry(ctx, v, x) }
		e.WriteFunc = func(ctx context.Context) error { return t.try(ctx, v, x) }
	}
	return e
}

// viewChange is one change of a view's picture at its device.
type viewChange struct {
	store.Change
	cam      *onvif.Client
	services map[string]string
}

func (x viewChange) readMasks(ctx context.Context) (string, error) {
	now, err := x.cam.Hidden(ctx, x.services, x.Args["config"])
	if err != nil {
		return "", err
	}
	to, err := picture.ParseAreas(x.Args["masks"])
	if err != nil {
		return "", err
	}
	from, err := picture.ParseAreas(x.Args["old_masks"])
	switch {
	case err != nil:
		return "", err
	case picture.SameAreas(now, to):
		return x.ToText, nil
	case picture.SameAreas(now, from):
		return x.FromText, nil
	}
	return picture.AreasText(now), nil
}

func (x viewChange) writeMasks(ctx context.Context) error {
	var areas []scene.Polygon
	areas, err := picture.ParseAreas(x.Args["masks"])
	if err != nil {
		return err
	}
	return x.cam.Hide(ctx, x.services, x.Args["config"], areas)
}

func (x viewChange) readImaging(ctx context.Context) (string, error) {
	p := picture.Property(x.Args["property"])
	i, err := x.cam.Imaging(ctx, x.services, x.Args["source"])
	if err != nil {
		return "", err
	}
	if i == nil {
		return "", trouble.UserError("It doesn't tell how it takes its pictures any more.")
	}
	now, ok := i.Value(p)
	switch {
	case !ok:
		return "not told", nil
	case picture.SameValue(now, x.Args["value"]):
		return x.ToText, nil
	case picture.SameValue(now, x.Args["old_value"]):
		return x.FromText, nil
	}
	return picture.Says(p, now), nil
}

// aims are where a change sends the camera, and where it looked.
func (x viewChange) aims() (to, from picture.Aim, err error) {
	if to, err = picture.AimOf(x.Args["aim"]); err == nil && x.Args["old_aim"] != "" {
		from, err = picture.AimOf(x.Args["old_aim"])
	}
	return to, from, err
}

func (x viewChange) now(ctx context.Context) (picture.Aim, error) {
	a, err := x.cam.Aim(ctx, x.services, x.Args["profile"])
	if err == nil && a == nil {
		return picture.Aim{}, trouble.UserError("It doesn't tell where it looks any more.")
	}
	if err != nil {
		return picture.Aim{}, err
	}
	return *a, nil
}

func (x viewChange) readAim(ctx context.Context) (string, error) {
	to, from, err := x.aims()
	if err != nil {
		return "", err
	}
	now, err := x.now(ctx)
	switch {
	case err != nil:
		return "", err
	case now.Near(to):
		return x.ToText, nil
	case now.Near(from):
		return x.FromText, nil
	}
	return now.Text(), nil
}

func (x viewChange) writeAim(ctx context.Context) error {
	to, _, err := x.aims()
	if err != nil {
		return err
	}
	if token := x.Args["preset"]; token != "" {
		return x.cam.Call(ctx, x.services, x.Args["profile"], token, to)
	}
	p, err := x.ptz(ctx)
	if err != nil {
		return err
	}
	return x.cam.Turn(ctx, x.services, x.Args["profile"], to, p.Axes())
}

func (x viewChange) ptz(ctx context.Context) (*picture.PTZ, error) {
	p, err := x.cam.PTZ(ctx, x.services, stream.Profile{Token: x.Args["profile"], PTZ: x.Args["ptz"]})
	if err == nil && p == nil {
		err = trouble.UserError("It can't be turned any more.")
	}
	return p, err
}

func (x viewChange) readPreset(ctx context.Context) (string, error) {
	p, err := x.ptz(ctx)
	if err != nil {
		return "", err
	}
	return p.PresetState(x.Args["name"]), nil
}

func (x viewChange) writePreset(ctx context.Context) error {
	if x.Args["do"] == "save" {
		return x.cam.Remember(ctx, x.services, x.Args["profile"], x.Args["name"])
	}
	return x.cam.Forget(ctx, x.services, x.Args["profile"], x.Args["name"])
}

// readTry says whether the axes were nudged since it was asked for, and the camera looks again
// where it did.
func (t *Stage) readTry(ctx context.Context, v *engine.Visit, x viewChange) (string, error) {
	home, err := picture.AimOf(x.Args["aim"])
	if err != nil {
		return "", err
	}
	since, err := time.Parse(time.RFC3339Nano, x.Args["since"])
	if err != nil {
		return "", err
	}
	now, err := x.now(ctx)
	if err != nil {
		return "", err
	}
	if !now.Near(home) {
		return now.Text(), nil
	}
	s, err := v.Snapshot(ctx)
	if err != nil {
		return "", err
	}
	if tried, ok := facts.TriedPTZ.Of(s, v.Source); ok && tried.At.After(since) {
		return x.ToText, nil
	}
	return x.FromText, nil
}

// backLimit is how long a camera that was nudged may take to be put back when all else ended.
const backLimit = 10 * time.Second

// try nudges each axis, sees whether the picture moves, and puts the camera back, whatever else
// ends meanwhile.
func (t *Stage) try(ctx context.Context, v *engine.Visit, x viewChange) error {
	home, err := picture.AimOf(x.Args["aim"])
	if err != nil {
		return err
	}
	p, err := x.ptz(ctx)
	if err != nil {
		return err
	}
	tried := picture.Tried{}
	for _, axis := range p.Axes() {
		n, err := t.nudge(ctx, v, x, *p, home, axis)
		if err != nil {
			return err
		}
		tried.Axes = append(tried.Axes, n)
	}
	tried.At = time.Now().UTC()
	return t.Store.KeepFacts(ctx, facts.TriedPTZ.New(v.Source, "AbsoluteMove, GetStatus, its stills", tried.At, tried))
}

func (t *Stage) nudge(ctx context.Context, v *engine.Visit, x viewChange, p picture.PTZ, home picture.Aim, axis picture.Axis) (n picture.Nudge, err error) {
	n.Axis = axis
	before, err := t.print(ctx, v.Source)
	if err != nil {
		return n, err
	}
	defer func() {
		if !n.Back {
			ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), backLimit)
			defer cancel()
			n.Back = x.cam.Turn(ctx, x.services, p.Profile, home, p.Axes()) == nil
		}
	}()
	if err := x.cam.Turn(ctx, x.services, p.Profile, p.Nudged(home, axis), p.Axes()); err != nil {
		return n, err
	}
	after, err := t.print(ctx, v.Source)
	if err != nil {
		return n, err
	}
	n.Moved = before.Likeness(after) < picture.Stands
	n.Back = x.cam.Turn(ctx, x.services, p.Profile, home, p.Axes()) == nil
	return n, nil
}

// print takes a still of a view now.
func (t *Stage) print(ctx context.Context, of site.Source) (stream.Print, error) {
	shot, err := t.fetch(ctx, of)
	return shot.print, err
}
