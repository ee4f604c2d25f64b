package work

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"time"

	"duskyharbor/internal/core/channel"
	"duskyharbor/internal/core/clock"
	"duskyharbor/internal/core/identity"
	"duskyharbor/internal/core/route"
	"duskyharbor/internal/core/stream"
	"duskyharbor/internal/device/dial"
	"duskyharbor/internal/device/ntp"
	"duskyharbor/internal/device/onvif"
	"duskyharbor/internal/device/recorder"
	"duskyharbor/internal/device/rtsp"
	"duskyharbor/internal/store"
)

// clockError is how narrow a clock is measured: half the width that still changes
// nothing in a band.
const clockError = 60 * time.Millisecond

// readClock measures a camera's clock, at the edge of its second where narrow asks for
// it, and reads where it takes its time from. The
// recorder it is held against is read first where it wasn't within a minute.
func (o *Office) readClock(ctx context.Context, d store.Device, narrow bool) (string, error) {
	v, err := Look(ctx, o.store, d.SiteID, []int64{d.ID})
	if err != nil {
		return "", err
	}
	if rec, _, ok := v.HolderOf(d); ok && time.Since(v.FactAge(rec.ID, factReached)) > time.Minute {
		if err := o.freshRecorder(ctx, rec); err != nil && ours(err) {
			return "", err
		} // a recorder that is silent is its own finding; the camera is held against this server then
		if v, err = Look(ctx, o.store, d.SiteID, []int64{d.ID}); err != nil {
			return "", err
		}
	}
	addr, err := addrOf(d)
	if err != nil {
		return "", err
	}
	seen, ok := v.Seen(d.ID)
	if !ok || seen.Service == "" {
		return "", toldError(d.Place + " speaks no ONVIF that answered: its clock can't be read.")
	}
	pin, _ := fact[string](v, d.ID, factTLS)
	plain, err := onvif.New(o.dialer.At(addr), seen.Service, onvif.Login{Pin: pin})
	if err != nil {
		return "", err
	}
	defer plain.Close()
	ask := plain.Time
	if narrow {
		ask = func(ctx context.Context) (clock.Reading, error) { return plain.NarrowTime(ctx, clockError) }
	}
	r, err := ask(ctx)
	if err != nil {
		return "", err
	}
	via := "GetSystemDateAndTime"
	if c, _, err := o.open(ctx, d, v); err == nil {
		defer c.Close()
		if r.Servers, r.FromDHCP, err = c.NTP(ctx); err == nil {
			via += ", GetNTP"
		} else if !errors.Is(err, dial.ErrNotSupported) {
			return "", err
		}
		if err := o.burnedIn(ctx, c, v, d, &r, narrow); err != nil {
			return "", err
		}
	}
	if err := o.drift(ctx, d, &r); err != nil {
		return "", err
	}
	ref, _ := v.Clock(d)
	r.Against = &clock.Against{ID: ref.Reference.ID, Name: ref.Reference.Name, Why: ref.Reference.Why}
	if err := o.store.KeepFact(ctx, d.ID, factClock, via, r.At, r); err != nil {
		return "", err
	}
	return "offset " + r.Offset.String() + " from this server", nil
}

// burnedIn reads how the camera burns date and time into its picture; in runs over many
// it isn't read again where it is known.
func (o *Office) burnedIn(ctx context.Context, c *onvif.Client, v *View, d store.Device, r *clock.Reading, narrow bool) error {
	if was, ok := v.Reading(d.ID); ok && !narrow && was.Dates != "" {
		r.Dates, r.Times = was.Dates, was.Times
		return nil
	}
	texts, err := c.Texts(ctx, v.Services(d.ID))
	switch {
	case errors.Is(err, dial.ErrNotSupported), errors.Is(err, dial.ErrRefused):
		return nil // it burns nothing in, or says nothing of it
	case err != nil:
		return err
	case len(texts) > 0:
		r.Dates, r.Times = texts[0].Dates, texts[0].Times
	}
	return nil
}

// driftReadings is over how many readings a drift is fitted at most.
const driftReadings = 48

// drift fits a clock that runs by itself over its earlier readings and this one.
func (o *Office) drift(ctx context.Context, d store.Device, r *clock.Reading) error {
	if r.NTP {
		return nil
	}
	past, err := o.store.History(ctx, d.ID, factClock, driftReadings)
	if err != nil {
		return err
	}
	points, err := clockPoints(*r, past)
	if err != nil {
		return err
	}
	points = append(points, clock.Point{At: r.At, Off: r.Offset.Mid(), Error: r.Offset.Error()})
	if fit, ok := clock.FitDrift(points); ok {
		r.Drift = &fit
	}
	return nil
}

// clockPoints are the readings of a clock before now since it runs by itself, in the
// order of time; past has the newest first.
func clockPoints(now clock.Reading, past []store.Fact) ([]clock.Point, error) {
	var points []clock.Point
	for _, f := range past {
		var was clock.Reading
		if err := json.Unmarshal(f.Value, &was); err != nil {
			return nil, err
		}
		if !clock.Unset(was, now) {
			break
		}
		points = append(points, clock.Point{At: was.At, Off: was.Offset.Mid(), Error: was.Offset.Error()})
	}
	slices.Reverse(points)
	return points, nil
}

// ClockHistory is how a device's clock stood at its last readings, in the order of time.
func (o *Office) ClockHistory(ctx context.Context, device int64, limit int) ([]clock.Reading, error) {
	past, err := o.store.History(ctx, device, factClock, limit)
	out := make([]clock.Reading, 0, len(past))
	for i := len(past) - 1; i >= 0 && err == nil; i-- {
		var r clock.Reading
		if err = json.Unmarshal(past[i].Value, &r); err == nil {
			out = append(out, r)
		}
	}
	return out, err
}

// freshRecorder reads a recorder unless that is being done already, or was a moment
// ago by another that waited for the same.
func (o *Office) freshRecorder(ctx context.Context, d store.Device) error {
	_, err, _ := o.fresh.Do(fmt.Sprint(d.ID), func() (any, error) {
		ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), 12*time.Second)
		defer cancel()
		facts, err := o.store.FactsOf(ctx, []int64{d.ID})
		if err != nil || time.Since(facts[d.ID][factReached].ReadAt) < 20*time.Second {
			return nil, err
		}
		_, err = o.readRecorder(ctx, d)
		return nil, err
	})
	return err
}

// readStreams reads profiles and plays each for a while.
func (o *Office) readStreams(ctx context.Context, d store.Device) (string, error) {
	v, err := Look(ctx, o.store, d.SiteID, []int64{d.ID})
	if err != nil {
		return "", err
	}
	looked := Looked{At: time.Now().UTC()}
	says, terr := o.playAll(ctx, d, v)
	if terr != nil && ours(terr) {
		return "", terr
	}
	if terr != nil {
		looked.Trouble = sentence(terr)
	}
	if err := o.store.KeepFact(ctx, d.ID, factStreams, "streams", looked.At, looked); err != nil {
		return "", err
	}
	return says, terr
}

func (o *Office) playAll(ctx context.Context, d store.Device, v *View) (string, error) {
	c, login, err := o.open(ctx, d, v)
	if err != nil {
		return "", err
	}
	defer c.Close()
	profiles, err := c.Profiles(ctx, v.Services(d.ID))
	if err != nil {
		return "", err
	}
	now := time.Now().UTC()
	if err := o.store.KeepFact(ctx, d.ID, factProfiles, "GetProfiles, GetStreamUri", now, profiles); err != nil {
		return "", err
	}
	username, password := login.Username, login.Password
	if a, _ := v.Account(d.ID); a.RTSPSet != 0 { // its streams take another account
		set, err := o.store.Set(ctx, a.RTSPSet)
		if err != nil {
			return "", err
		}
		if password, err = o.vault.Open(set.Sealed, store.SetPlace(set.ID)); err != nil {
			return "", err
		}
		username = set.Username
	}
	host := o.dialer.At(*d.Address)
	var all []stream.Measured
	for _, p := range profiles {
		all = append(all, rtsp.Measure(ctx, host, p, username, password, o.opt.Measure))
	}
	if ctx.Err() != nil {
		return "", ctx.Err()
	}
	if err := o.store.KeepFact(ctx, d.ID, factMeasured, "RTSP PLAY", time.Now().UTC(), all); err != nil {
		return "", err
	}
	return fmt.Sprintf("%d profiles read and played", len(profiles)), nil
}

// recorderClient opens a recorder with its account.
func (o *Office) recorderClient(ctx context.Context, d store.Device) (*recorder.Client, error) {
	addr, err := addrOf(d)
	if err != nil {
		return nil, err
	}
	if d.SetID == nil {
		return nil, toldError("No account is kept for " + d.Place + ".")
	}
	set, err := o.store.Set(ctx, *d.SetID)
	if err != nil {
		return nil, err
	}
	password, err := o.vault.Open(set.Sealed, store.SetPlace(set.ID))
	if err != nil {
		return nil, err
	}
	facts, err := o.store.FactsOf(ctx, []int64{d.ID})
	if err != nil {
		return nil, err
	}
	var seen identity.Sighting
	if ok, err := facts[d.ID].Into(factSeen, &seen); err != nil || !ok || !seen.Heard(identity.SaidHello) {
		// Sets go only to what has shown itself to be a recorder of this site.
		return nil, toldError(d.Place + " hasn't shown itself to be a recorder: look for it first.")
	}
	var pin string
	if _, err := facts[d.ID].Into(factPin, &pin); err != nil {
		return nil, err
	}
	return recorder.New(o.dialer.At(addr), recorder.Port, pin, set.Username, password), nil
}

// readRecorder reads a recorder's status and clock. What was known stays when it
// doesn't answer.
func (o *Office) readRecorder(ctx context.Context, d store.Device) (string, error) {
	looked := Looked{At: time.Now().UTC()}
	says, terr := o.askRecorder(ctx, d)
	if terr != nil && ours(terr) {
		return "", terr
	}
	if terr != nil {
		looked.Trouble = sentence(terr)
	}
	if err := o.store.KeepFact(ctx, d.ID, factReached, "GET /api/status", looked.At, looked); err != nil {
		return "", err
	}
	return says, terr
}

func (o *Office) askRecorder(ctx context.Context, d store.Device) (string, error) {
	c, err := o.recorderClient(ctx, d)
	if err != nil {
		return "", err
	}
	defer c.Close()
	status, reading, err := c.Status(ctx)
	if err != nil {
		return "", err
	}
	status.Make, status.Model, status.Serial = d.Make, d.Model, d.Serial
	for name, value := range map[string]any{factRecorder: status, factClock: reading, factPin: c.Pin()} {
		if err := o.store.KeepFact(ctx, d.ID, name, "GET /api/status", status.At, value); err != nil {
			return "", err
		}
	}
	offset, err := ntp.Ask(*d.Address)
	serves := err == nil
	if serves {
		if off, ok := reading.Offset.Meet(offset); ok {
			reading.Offset = off
		}
		if err := o.store.KeepFact(ctx, d.ID, factClock, "GET /api/status, NTP", status.At, reading); err != nil {
			return "", err
		}
	}
	if err := o.store.KeepFact(ctx, d.ID, factNTP, "NTP", time.Now().UTC(), serves); err != nil {
		return "", err
	}
	if err := o.keepPorts(ctx, d, status); err != nil {
		return "", err
	}
	return fmt.Sprintf("%d of %d channels taken", len(status.Slots), status.Limits.Channels), nil
}

// keepPorts keeps what a recorder tells of the devices on its own ports: those that
// nothing here reaches are known by it alone.
func (o *Office) keepPorts(ctx context.Context, rec store.Device, status channel.Recorder) error {
	if len(status.Ports) == 0 {
		return nil
	}
	devices, err := o.store.Devices(ctx, rec.SiteID)
	if err != nil {
		return err
	}
	heard, err := o.store.HeardDevices(ctx, rec.SiteID)
	if err != nil {
		return err
	}
	var judge []int64
	var told store.Writes
	for _, p := range status.Ports {
		at, err := netip.ParseAddr(p.Address)
		if err != nil || !p.Linked {
			continue
		}
		s := identity.Sighting{Address: at, At: status.At, Ways: []identity.Way{identity.OnAPort}, UUID: identity.CleanUUID(p.UUID), MAC: identity.CleanMAC(p.MAC), Make: p.Make, Model: p.Model, Kind: identity.Camera}
		i := slices.IndexFunc(devices, func(d store.Device) bool { return d.Kind == identity.Camera && d.Address != nil && *d.Address == at })
		id := int64(0)
		if i >= 0 {
			if id = devices[i].ID; heard[id] {
				facts, err := o.store.FactsOf(ctx, []int64{id})
				if err != nil {
					return err
				}
				var was identity.Sighting
				if _, err := facts[id].Into(factSeen, &was); err != nil || !was.Heard(identity.OnAPort) {
					continue // it was heard from here, which tells more
				}
			}
		} else {
			ids, err := o.store.AddDevices(ctx, rec.SiteID, []store.Device{{SiteID: rec.SiteID, Kind: identity.Camera, Place: fmt.Sprintf("%s port %d", rec.Place, p.Number), Make: p.Make, Model: p.Model, Address: &at, RecorderID: &rec.ID}})
			if err != nil {
				return err
			}
			id = ids[0]
		}
		judge = append(judge, id)
		told.Said = append(told.Said, store.Identity{Device: id, Seen: s})
		told.Facts = append(told.Facts, store.NewFact{Device: id, Name: factSeen, Via: "channel table", At: status.At, Value: s})
	}
	if err := o.store.Write(ctx, told); err != nil {
		return err
	}
	return o.judge(ctx, rec.SiteID, judge)
}

// readChannel reads the recorder that holds a camera, or the planned one.
func (o *Office) readChannel(ctx context.Context, d store.Device) (string, error) {
	v, err := Look(ctx, o.store, d.SiteID, []int64{d.ID})
	if err != nil {
		return "", err
	}
	rec, _, ok := v.HolderOf(d)
	if !ok {
		return "", toldError("No recorder is planned for " + d.Place + ".")
	}
	return o.readRecorder(ctx, rec)
}

// readRoutes reads a camera's topics and rules and the inputs of its channel.
func (o *Office) readRoutes(ctx context.Context, d store.Device) (string, error) {
	v, err := Look(ctx, o.store, d.SiteID, []int64{d.ID})
	if err != nil {
		return "", err
	}
	looked := Looked{At: time.Now().UTC()}
	says, terr := o.readTopics(ctx, d, v)
	if terr == nil {
		terr = o.readInputs(ctx, d)
	}
	if terr != nil && ours(terr) {
		return "", terr
	}
	if terr != nil {
		looked.Trouble = sentence(terr)
	}
	if err := o.store.KeepFact(ctx, d.ID, factRoutes, "routes", looked.At, looked); err != nil {
		return "", err
	}
	return says, terr
}

func (o *Office) readTopics(ctx context.Context, d store.Device, v *View) (string, error) {
	c, _, err := o.open(ctx, d, v)
	if err != nil {
		return "", err
	}
	defer c.Close()
	topics, err := c.Topics(ctx, v.Services(d.ID))
	if err != nil {
		return "", err
	}
	now := time.Now().UTC()
	if err := o.store.KeepFact(ctx, d.ID, factTopics, "GetEventProperties", now, topics); err != nil {
		return "", err
	}
	configuration, err := o.analyticsOf(ctx, c, d, v)
	if err != nil {
		return "", err
	}
	if configuration == "" {
		return fmt.Sprintf("%d topics offered, no analytics", len(topics)), nil
	}
	rules, err := c.Rules(ctx, v.Services(d.ID), configuration)
	if err != nil && !errors.Is(err, dial.ErrNotSupported) && !errors.Is(err, dial.ErrRefused) {
		return "", err
	}
	if err == nil {
		if err := o.store.KeepFact(ctx, d.ID, factRules, "GetRules", now, rules); err != nil {
			return "", err
		}
	}
	return fmt.Sprintf("%d topics offered", len(topics)), nil
}

// analyticsOf is the analytics configuration that the camera's own profiles name;
// they are read where they weren't yet.
func (o *Office) analyticsOf(ctx context.Context, c *onvif.Client, d store.Device, v *View) (string, error) {
	f, _ := v.Streams(d)
	if len(f.Profiles) == 0 {
		var err error
		if f.Profiles, err = c.Profiles(ctx, v.Services(d.ID)); err != nil && !errors.Is(err, dial.ErrNotSupported) {
			return "", err
		}
	}
	for _, p := range f.Profiles {
		if p.Analytics != "" {
			return p.Analytics, nil
		}
	}
	return "", nil
}

// readInputs reads what a camera's channel hears; without a channel there is nothing.
func (o *Office) readInputs(ctx context.Context, d store.Device) error {
	rec, slot, err := o.heldBy(ctx, d)
	if err != nil || slot == nil {
		return err
	}
	c, err := o.recorderClient(ctx, rec)
	if err != nil {
		return err
	}
	defer c.Close()
	names, pegs, events, err := c.Inputs(ctx, slot.Number)
	if err != nil {
		return err
	}
	return o.store.KeepFact(ctx, d.ID, factInputs, "GET /api/channels/n/inputs", time.Now().UTC(), route.Inputs{Names: names, Pegs: pegs, Events: events})
}

// heldBy reads the camera's recorder afresh and finds the slot that holds it.
func (o *Office) heldBy(ctx context.Context, d store.Device) (store.Device, *channel.Slot, error) {
	v, err := Look(ctx, o.store, d.SiteID, []int64{d.ID})
	if err != nil {
		return store.Device{}, nil, err
	}
	rec, _, ok := v.HolderOf(d)
	if !ok {
		return store.Device{}, nil, toldError("No recorder is planned for " + d.Place + ".")
	}
	if _, err := o.readRecorder(ctx, rec); err != nil {
		return rec, nil, err
	}
	if v, err = Look(ctx, o.store, d.SiteID, []int64{d.ID}); err != nil {
		return rec, nil, err
	}
	rec, slot, _ := v.HolderOf(d)
	return rec, slot, nil
}
