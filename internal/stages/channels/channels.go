// Package channels reads recorders' channel tables and places cameras on them.
package channels

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"time"

	accounts "duskyharbor/internal/account"
	"duskyharbor/internal/core/access"
	"duskyharbor/internal/core/channel"
	"duskyharbor/internal/core/finding"
	"duskyharbor/internal/core/ground"
	"duskyharbor/internal/core/identity"
	"duskyharbor/internal/core/stage"
	"duskyharbor/internal/core/stream"
	"duskyharbor/internal/core/trouble"
	"duskyharbor/internal/device/recorder"
	"duskyharbor/internal/engine"
	"duskyharbor/internal/facts"
	"duskyharbor/internal/recorders"
	"duskyharbor/internal/site"
	"duskyharbor/internal/stages"
	"duskyharbor/internal/store"
)

// Stage is Channels.
type Stage struct{ stages.Services }

// New makes the stage.
func New(k stages.Services) *Stage { return &Stage{k} }

// ID is stage.Channels.
func (c *Stage) ID() stage.Stage { return stage.Channels }

// Manner says that recorders are asked.
func (c *Stage) Manner() engine.Manner { return engine.Manner{Recorder: true, Of: engine.Recorders} }

// Grounds are where it is recorded, and under which name.
func (c *Stage) Grounds(s *site.Snapshot, of site.Source) []ground.Ground {
	g := ground.Ground{Of: "channel", Under: ground.Proof}
	if rec, slot, _ := s.HolderOf(of); slot != nil {
		g.Is = fmt.Sprintf("%s %d, %s", rec.Place, slot.Number, slot.Name)
		g.Exact = fmt.Sprintf("%d/%d %s", rec.ID, slot.Number, slot.Name)
	}
	return []ground.Ground{g}
}

// Facts is what Channels' rules are asked of a view. It is shared by all that ask of one snapshot, and not written.
func Facts(s *site.Snapshot, of site.Source) (channel.Facts, channel.Wishes) {
	type asked struct {
		f channel.Facts
		w channel.Wishes
	}
	x := site.OfSource(s, "for channels", of, func() asked {
		f, w := factsOf(s, of)
		return asked{f, w}
	})
	return x.f, x.w
}

func factsOf(s *site.Snapshot, of site.Source) (channel.Facts, channel.Wishes) {
	f := channel.Facts{}
	if of.Device.Address != nil {
		f.Address = of.Device.Address.String()
	}
	w := channel.Wishes{Channel: of.Channel, Name: of.Place}
	if rec, slot, ok := s.HolderOf(of); ok {
		w.RecorderID, w.Recorder = rec.ID, rec.Place
		f.Planned, f.Trouble = rec.Place, s.RecorderTrouble(rec.ID)
		if r, known := site.Recorder.Of(s, rec.ID); known {
			f.Recorder, f.Slot = &r, slot
		}
		if r, read := facts.Clock.Of(s, rec.ID); read {
			f.Ahead, f.AheadKnown = r.Offset.Mid(), true
		}
		f.Others = s.AlsoOn(of)
		if on, ok := facts.Placed.Of(s, of); ok && on.Recorder == rec.ID {
			f.PlacedAt = on.At
		}
	}
	if info, ok := facts.Info.Of(s, of.Device.ID); ok && of.First() {
		f.Own = channel.OwnName(info.Name, info.Make, info.Model, info.NameFixed)
	}
	sf, sw := facts.ForStreams(s, of)
	if sf.Trouble == "" && len(sf.Profiles) > 0 {
		w.Stream, w.View = stream.Roles(sf.Profiles, sw.Codecs)
		w.Unfit = w.Stream == ""
		if p, _, ok := sf.Find(w.Stream); ok {
			w.Width, w.Height, w.Kbps, w.FPS = p.Width, p.Height, p.Kbps, p.FPS
		}
	}
	w.Camera = cameraOf(s, of)
	return f, w
}

// cameraOf is a view as its way into a recorder is chosen: what it says it is, else what the list
// says, and what the site needs passed.
func cameraOf(s *site.Snapshot, of site.Source) channel.Camera {
	c := channel.Camera{Make: of.Device.Make, Model: of.Device.Model, Needs: []string{channel.PassVideo}}
	if info, ok := facts.Info.Of(s, of.Device.ID); ok && info.Make != "" {
		c.Make, c.Model = info.Make, info.Model
	}
	if seen, ok := facts.Seen.Of(s, of.Device.ID); ok && seen.RTSPAlone() {
		c.RTSPAlone = true
	}
	if topics, ok := facts.Topics.Of(s, of.Device.ID); ok && len(topics) > 0 {
		c.Needs = append(c.Needs, channel.PassEvents)
	}
	if setup, ok := facts.Setup.Of(s, of); ok && setup.PTZ != nil {
		c.Needs = append(c.Needs, channel.PassPTZ)
	}
	measured, _ := facts.Measured.Of(s, of)
	for _, m := range measured {
		if m.Sound != nil && of.Consent.Given() && !slices.Contains(c.Needs, channel.PassSound) {
			c.Needs = append(c.Needs, channel.PassSound)
		}
		if m.Metadata != nil && !slices.Contains(c.Needs, channel.PassMetadata) {
			c.Needs = append(c.Needs, channel.PassMetadata)
		}
	}
	return c
}

// Judge says how a view stands on its recorder.
func (c *Stage) Judge(now time.Time, s *site.Snapshot, of site.Source) stage.Verdict {
	f, w := Facts(s, of)
	findings := channel.Judge(now, f, w)
	if moved, mw, ok := planned(s, of, f); ok {
		findings = append(findings, channel.Moves(f, moved, mw))
		finding.Sort(findings)
	}
	v := stage.Verdict{Read: f.Read(), Findings: findings, Done: "Its recorder receives it.", ValidUntil: f.WaitsUntil()}
	if w.RecorderID == 0 && f.Recorder == nil {
		v.Asks = "No recorder is planned for it, and none holds it."
	}
	return v
}

// planned are the facts of the recorder that a view is planned for, where another one holds it; ok is
// false where none does, or that one.
func planned(s *site.Snapshot, of site.Source, held channel.Facts) (f channel.Facts, w channel.Wishes, ok bool) {
	rec, slot, holds := s.HolderOf(of)
	if !holds || slot == nil || of.RecorderID == nil || *of.RecorderID == rec.ID || held.Trouble != "" {
		return f, w, false
	}
	to, there := s.Device(*of.RecorderID)
	if !there || to.Cascade != nil {
		return f, w, false
	}
	f, w = factsOn(s, of, to)
	return f, w, true
}

// asked are the facts of a view on the recorder that it is to be placed on: the one that it is planned
// for, else the one that holds it.
func asked(s *site.Snapshot, of site.Source) (channel.Facts, channel.Wishes) {
	f, w := Facts(s, of)
	if moved, mw, ok := planned(s, of, f); ok {
		return moved, mw
	}
	return f, w
}

// Propose places a view as if it were placed alone.
func (c *Stage) Propose(now time.Time, s *site.Snapshot, of site.Source) []finding.Change {
	f, w := asked(s, of)
	return channel.Propose(now, f, w)
}

// Plan gives views that are placed together channels of their own.
func (c *Stage) Plan(now time.Time) func(*site.Snapshot, site.Source) []finding.Change {
	var p channel.Planner
	return func(s *site.Snapshot, of site.Source) []finding.Change {
		f, w := asked(s, of)
		return p.Next(now, f, w)
	}
}

// Read reads a recorder, of a camera the one that holds it or is planned for it.
func (c *Stage) Read(ctx context.Context, v *engine.Visit) (string, error) {
	says, err := c.Recorders.ReadOf(ctx, v)
	if err != nil || v.Device.Kind != identity.Recorder {
		return says, err
	}
	// Between is no state to stand still in: what is connecting is read again until it is known.
	s, err := v.Snapshot(ctx)
	if err != nil {
		return "", err
	}
	if connecting(s, v.Device.ID) {
		return says, v.Follow(ctx, stage.Channels)
	}
	return says, nil
}

// AfterChange reads the recorder, and follows a channel until it is known whether the
// camera takes it.
func (c *Stage) AfterChange(ctx context.Context, v *engine.Visit, changes []store.Change) error {
	if !engine.AnyOf(changes, stage.Channels) {
		return nil
	}
	if v.Device.Kind == identity.Recorder {
		if err := c.keepPicks(ctx, changes); err != nil {
			return err
		}
		more, err := c.followCascade(ctx, v)
		if err != nil || !more {
			return err
		}
		if !slices.ContainsFunc(changes, func(ch store.Change) bool { return ch.Kind == channel.TakeChannel && ch.Made() }) {
			return v.Follow(ctx, stage.Channels)
		}
		return c.Engine.Watch(ctx, v.Source, stage.Channels, 2*time.Second, int(channel.SilentFor/(2*time.Second)))
	}
	if err := errors.Join(c.readNamed(ctx, v, changes), c.readName(ctx, v, changes)); err != nil {
		return err
	}
	rec, slot, err := c.Recorders.Holding(ctx, v)
	if err != nil || slot == nil {
		return err
	}
	fresh := slices.ContainsFunc(changes, func(ch store.Change) bool { return ch.Kind == channel.Place && ch.Made() && ch.ToText != channel.Empty })
	if fresh {
		now := time.Now().UTC()
		if err := c.Store.KeepFacts(ctx, facts.Placed.New(v.Source, "placing it", now, facts.PlacedOn{Recorder: rec.ID, At: now})); err != nil {
			return err
		}
	}
	switch {
	case fresh && slot.State == channel.Lost: // a camera may be silent for a while: it is waited for
		return c.Engine.Watch(ctx, v.Source, stage.Channels, 6*time.Second, int(channel.SilentFor/(6*time.Second))+1)
	case !channel.Settled(*slot):
		return v.Follow(ctx, stage.Channels)
	}
	return nil
}

// readNamed reads the recorders that changes name, where another one holds the view too; what was
// placed on one is planned for it from then on.
func (c *Stage) readNamed(ctx context.Context, v *engine.Visit, changes []store.Change) error {
	s, err := v.Snapshot(ctx)
	if err != nil {
		return err
	}
	holder, _, _ := s.HolderOf(v.Source)
	for _, other := range s.HeldBeside(v.Source, holder.ID) { // which may have lost it to this one
		if rec, ok := s.Device(other.RecorderID); ok {
			if _, err := c.Recorders.Read(ctx, rec); err != nil {
				return err
			}
		}
	}
	for _, ch := range changes {
		id, err := strconv.ParseInt(ch.Args["recorder"], 10, 64)
		if err != nil || ch.Stage != stage.Channels {
			continue
		}
		goes := int64(0)
		switch {
		case !ch.Made():
		case ch.Kind == channel.Place && ch.ToText != channel.Empty:
			goes = id
		case ch.Kind == channel.Leave: // to the one that it was moved to
			goes, _ = strconv.ParseInt(ch.Args["after"], 10, 64)
		}
		if planned := v.Source.RecorderID; goes != 0 && (planned == nil || *planned != goes) {
			if err := c.Store.SetPlanned(ctx, v.Site, v.Source.ID, goes); err != nil {
				return err
			}
		}
		if id == holder.ID {
			continue
		}
		if rec, ok := s.Device(id); ok {
			if _, err := c.Recorders.Read(ctx, rec); err != nil {
				return err
			}
		}
	}
	return nil
}

// Follow reads the recorder once more; it goes on until the channel receives.
func (c *Stage) Follow(ctx context.Context, v *engine.Visit, nth int) (more bool, err error) {
	if v.Device.Kind == identity.Recorder {
		return c.followCascade(ctx, v)
	}
	_, slot, err := c.Recorders.Holding(ctx, v)
	if err != nil || slot == nil {
		return false, err
	}
	return slot.State != channel.Receiving, nil
}

// Editor puts a view on a channel or takes it off; of a recorder it switches an input, or starts it
// again.
func (c *Stage) Editor(ctx context.Context, v *engine.Visit, ch store.Change) (engine.Editor, error) {
	switch ch.Kind {
	case channel.Place, channel.Rename, channel.Leave:
	case channel.NameDevice:
		return c.nameEditor(ctx, v, ch)
	case channel.SwitchInput, channel.RestartIt, channel.RenewList, channel.RestartServices, channel.AllowOthers, channel.TakeOut,
		channel.TakeChannel, channel.NameTaken:
		return c.wholeEditor(ctx, v, ch)
	default:
		return nil, engine.ErrKind
	}
	s, err := v.Snapshot(ctx)
	if err != nil {
		return nil, err
	}
	client, number, err := c.ChannelOf(ctx, s, v.Source, ch)
	if err != nil {
		return nil, err
	}
	if ch.Kind == channel.Leave {
		return c.leaving(ctx, v, ch, client, number)
	}
	if ch.Kind == channel.Rename {
		return engine.EditorFuncs{
			ReadFunc: func(ctx context.Context) (string, error) {
				slot, _, err := recorders.Slot(ctx, client, number)
				return slot.Name, err
			},
			WriteFunc: func(ctx context.Context) error { return client.Rename(ctx, number, ch.Args["name"]) },
			Shut:      client.Close,
		}, nil
	}
	return placing{c, v.Device, s, client, number, ch}, nil
}

// placing reads and writes one channel.
type placing struct {
	stage  *Stage
	device store.Device
	s      *site.Snapshot
	client recorder.Driver
	number int
	c      store.Change
}

// Read is what the channel holds.
func (p placing) Read(ctx context.Context) (string, error) {
	slot, taken, err := recorders.Slot(ctx, p.client, p.number)
	if err != nil || !taken {
		return channel.Empty, err
	}
	if _, other := p.c.Args["old_stream"]; other {
		return channel.StreamText(slot.Name, slot.Address, slot.Profile), nil
	}
	return channel.ReadText(slot, p.c.Args["stream"]), nil
}

// Write places the camera with the account that opens it, or takes it off.
func (p placing) Write(ctx context.Context) error {
	if p.c.ToText == channel.Empty {
		return p.client.Remove(ctx, p.number)
	}
	account, ok := facts.Account.Of(p.s, p.device.ID)
	seen, heard := facts.Seen.Of(p.s, p.device.ID)
	if !ok || !heard {
		return trouble.UserError("No account opens " + p.device.Place + " yet: sign in first.")
	}
	if err := accounts.Doubted(p.device, p.s); err != nil { // the recorder sends it there
		return err
	}
	username, password, err := p.stage.Accounts.Secret(ctx, account.SetID)
	if err != nil {
		return err
	}
	to := recorder.Placement{Name: p.c.Args["name"], Address: p.c.Args["address"], Service: seen.Service,
		Username: username, Password: password, Profile: p.c.Args["stream"], Label: access.Label(account.SetID),
		Way: p.c.Args["way"], Make: p.c.Args["make"], Model: p.c.Args["model"], ViewProfile: p.c.Args["view"]}
	if seen.RTSPAlone() || to.Way == channel.RTSP { // by the address of its stream: video and nothing else
		profiles, _ := site.Profiles.Of(p.s, p.device.ID)
		i := slices.IndexFunc(profiles, func(x stream.Profile) bool { return x.Token == to.Profile })
		if i < 0 {
			return trouble.UserError("The stream " + to.Profile + " of " + p.device.Place + " isn't known any more: read its streams again.")
		}
		if to.Service = ""; p.device.Address == nil {
			return trouble.UserError(p.device.Place + " has no address.")
		}
		if to.URI, _, err = stream.RepairHost(profiles[i].URI, *p.device.Address); err != nil {
			return trouble.UserError("The address of the stream " + to.Profile + " of " + p.device.Place + " is none: read its streams again.")
		}
	}
	return p.client.Place(ctx, p.number, to)
}

// Close lets the recorder's connections go.
func (p placing) Close() error {
	p.client.Close()
	return nil
}
