package streams

import (
	"context"
	"errors"
	"slices"
	"strings"
	"time"

	"duskyharbor/internal/core/access"
	"duskyharbor/internal/core/finding"
	"duskyharbor/internal/core/picture"
	"duskyharbor/internal/core/stage"
	"duskyharbor/internal/core/stream"
	"duskyharbor/internal/device/dial"
	"duskyharbor/internal/engine"
	"duskyharbor/internal/facts"
	"duskyharbor/internal/site"
	"duskyharbor/internal/store"
)

// Propose lists what would have the recorder take the view's streams, and its sound be as it
// may be, where an account lets it be written.
func (t *Stage) Propose(now time.Time, s *site.Snapshot, of site.Source) []finding.Change {
	if !writable(s, of) {
		return nil
	}
	f, w := facts.ForStreams(s, of)
	out := stream.Propose(now, f, w)
	if setup, held := facts.ForPicture(s, of); setup != nil {
		out = append(out, picture.Propose(*setup, held)...)
	}
	return out
}

// writable says whether an account opens the device's settings.
func writable(s *site.Snapshot, of site.Source) bool {
	a, open := facts.Account.Of(s, of.Device.ID)
	return open && a.Scheme != access.RTSP
}

// Asked is what sets a view's encoders as a person wants it, and why not where that can't be.
func (t *Stage) Asked(s *site.Snapshot, of site.Source, want stream.Want) (changes []finding.Change, cant []string) {
	return settable(s, of, func(f stream.Facts, w stream.Wishes) ([]finding.Change, []string) { return stream.Asked(f, w, want) })
}

// settable is what sets a view's encoders, or why none of them can be set now.
func settable(s *site.Snapshot, of site.Source, set func(stream.Facts, stream.Wishes) ([]finding.Change, []string)) ([]finding.Change, []string) {
	f, w := facts.ForStreams(s, of)
	switch {
	case !writable(s, of):
		return nil, []string{"no account opens its settings"}
	case !f.Read():
		return nil, []string{"its streams weren't read yet"}
	}
	return set(f, w)
}

// Editor reads and writes an encoder, the coding of sound, whether a profile sends any, or how
// the view's picture is made.
func (t *Stage) Editor(ctx context.Context, v *engine.Visit, c store.Change) (engine.Editor, error) {
	switch c.Kind {
	case stream.SetEncoder, stream.SetSound, stream.MuteSound, stream.SetCast:
	case picture.SetText, picture.SetMasks, picture.SetImaging, picture.SetAim, picture.SetPreset, picture.TryPTZ:
	default:
		return nil, engine.ErrKind
	}
	if err := t.heldByHand(ctx, c); err != nil {
		return nil, err
	}
	s, err := v.Snapshot(ctx)
	if err != nil {
		return nil, err
	}
	cam, err := t.Accounts.Open(ctx, v.Device, s, t.ID().String())
	if err != nil {
		return nil, err
	}
	services, _ := facts.Services.Of(s, v.Device.ID)
	if strings.HasPrefix(c.Kind, "view.") {
		return t.viewEditor(v, viewChange{c, cam, services}), nil
	}
	e := engine.EditorFuncs{Shut: cam.Close}
	switch c.Kind {
	case stream.SetEncoder:
		set, err := stream.EncoderOf(c.Args)
		if err != nil {
			cam.Close()
			return nil, err
		}
		wrote := c.Writes > 0
		e.ReadFunc = func(ctx context.Context) (string, error) {
			now, err := cam.Encoder(ctx, services, set.Token)
			if wrote && errors.Is(err, dial.ErrUnreachable) { // some start again when they are set
				return "", engine.PendingError{Says: "it doesn't answer since it was set: it may be starting again"}
			}
			return stream.ReadsAs(now, c.Args, c.FromText, c.ToText), err
		}
		e.WriteFunc = func(ctx context.Context) error {
			wrote = true
			return cam.SetEncoder(ctx, services, set)
		}
	case stream.SetCast:
		to, err := stream.CastOf(c.Args)
		if err != nil {
			cam.Close()
			return nil, err
		}
		e.ReadFunc = func(ctx context.Context) (string, error) {
			now, err := cam.Cast(ctx, services, c.Args["token"])
			return now.Text(), err
		}
		e.WriteFunc = func(ctx context.Context) error {
			return cam.SetCast(ctx, services, c.Args["profile"], c.Args["token"], to)
		}
	case stream.SetSound:
		e.ReadFunc = func(ctx context.Context) (string, error) {
			codec, err := cam.SoundCodec(ctx, services, c.Args["token"])
			return stream.PrettySound(codec), err
		}
		e.WriteFunc = func(ctx context.Context) error {
			return cam.SetSoundCodec(ctx, services, c.Args["token"], c.Args["codec"])
		}
	default:
		e.ReadFunc = func(ctx context.Context) (string, error) {
			has, err := cam.HasSound(ctx, services, c.Args["profile"])
			if has {
				return stream.WithSound, err
			}
			return stream.NoSound, err
		}
		e.WriteFunc = func(ctx context.Context) error {
			return cam.SetHasSound(ctx, services, c.Args["profile"], c.Args["token"], c.Args["to"] == stream.WithSound)
		}
	}
	return e, nil
}

// AfterChange reads and plays the streams again that were set. What went with a restart, another address
// or a reset isn't known from then on.
func (t *Stage) AfterChange(ctx context.Context, v *engine.Visit, changes []store.Change) error {
	if did := touched(changes); did.What != "" {
		if err := t.Store.KeepFacts(ctx, facts.Touched.New(v.Device.ID, "a change of it", did.At, did)); err != nil {
			return err
		}
	}
	if !engine.AnyOf(changes, stage.Streams) {
		return nil
	}
	if err := t.keepTook(ctx, v, changes); err != nil {
		return err
	}
	if !slices.ContainsFunc(changes, func(c store.Change) bool { return !strings.HasPrefix(c.Kind, "view.") }) {
		return t.readSetup(ctx, v)
	}
	return t.readSettled(ctx, v)
}

// A device that a setting starts again breaks off what is played meanwhile: what is in trouble now and wasn't before is read once
// more when it had time to come back, so often.
const (
	settleAfter = 2 * time.Second
	settleTries = 3
)

// readSettled reads and plays the streams of a device that was set just now.
func (t *Stage) readSettled(ctx context.Context, v *engine.Visit) error {
	before, err := t.troubled(ctx, v)
	if err != nil {
		return err
	}
	for try := 1; ; try++ {
		_, err := t.Read(ctx, v)
		if try == settleTries || err != nil && !errors.Is(err, dial.ErrUnreachable) {
			return err
		}
		if err == nil {
			now, err := t.troubled(ctx, v)
			if err != nil || !slices.ContainsFunc(now, func(token string) bool { return !slices.Contains(before, token) }) {
				return err
			}
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(settleAfter):
		}
	}
}

// troubled are the profiles whose stream couldn't be played at last.
func (t *Stage) troubled(ctx context.Context, v *engine.Visit) (tokens []string, err error) {
	s, err := v.Snapshot(ctx)
	if err != nil {
		return nil, err
	}
	all, _ := facts.Measured.Of(s, v.Source)
	for _, m := range all {
		if m.Trouble != "" {
			tokens = append(tokens, m.Profile)
		}
	}
	return tokens, nil
}

// keepTook keeps which settings the device took and then read otherwise; one that it keeps now is no news any more.
func (t *Stage) keepTook(ctx context.Context, v *engine.Visit, changes []store.Change) error {
	if v.Source.ID == 0 {
		return nil
	}
	s, err := v.Snapshot(ctx)
	if err != nil {
		return err
	}
	had, _ := facts.Took.Of(s, v.Source)
	now := slices.Clone(had)
	for _, c := range changes {
		if c.Kind != stream.SetEncoder || c.UndoOf != nil {
			continue
		}
		otherwise := c.Writes > 0 && !c.Made() && c.Reads != "" && c.Reads != c.FromText && c.Reads != c.ToText
		if !otherwise && !c.Made() {
			continue
		}
		now = slices.DeleteFunc(now, func(x stream.Took) bool { return x.Encoder == c.Args["token"] })
		if otherwise {
			now = append(now, stream.Took{Encoder: c.Args["token"], Name: c.Title, Asked: c.ToText, Reads: c.Reads, At: time.Now().UTC()})
		}
	}
	if slices.Equal(had, now) {
		return nil
	}
	return t.Store.KeepFacts(ctx, facts.Took.New(v.Source, "what it read once it was set", time.Now().UTC(), now))
}

// touched is what a step's changes did to a device that its streams don't outlast.
func touched(changes []store.Change) (out stream.Touched) {
	for _, c := range changes {
		says := ""
		switch {
		case !c.Made() || c.SettledAt == nil && c.SentAt == nil:
		case c.Kind == access.Reset:
			says = "it was reset"
		case c.Risk == finding.Restart:
			says = "it was started again"
		case c.Risk == finding.Address:
			says = "it was given another address"
		case c.Kind == stream.SetEncoder || c.Kind == stream.SetSound || c.Kind == stream.MuteSound || c.Kind == stream.SetCast:
			says = "they were set otherwise"
		}
		if says != "" {
			out = stream.Touched{At: time.Now().UTC(), What: says}
		}
	}
	return out
}
