package work

import (
	"context"
	"errors"
	"net/netip"
	"slices"
	"strconv"
	"time"

	"duskyharbor/internal/core/access"
	"duskyharbor/internal/core/channel"
	"duskyharbor/internal/core/clock"
	"duskyharbor/internal/core/finding"
	"duskyharbor/internal/core/identity"
	"duskyharbor/internal/core/proof"
	"duskyharbor/internal/core/route"
	"duskyharbor/internal/core/rule"
	"duskyharbor/internal/core/stage"
	"duskyharbor/internal/core/stream"
	"duskyharbor/internal/core/topic"
	"duskyharbor/internal/store"
)

// Names of facts.
const (
	factSeen     = "find.seen"        // identity.Sighting
	factLooked   = "find.looked"      // Looked
	factAccount  = "access.account"   // access.Account
	factTried    = "access.looked"    // Looked
	factInfo     = "device.info"      // identity.Sighting
	factServices = "device.services"  // map[string]string
	factClock    = "clock.reading"    // clock.Reading
	factProfiles = "stream.profiles"  // []stream.Profile
	factMeasured = "stream.measured"  // []stream.Measured
	factStreams  = "stream.looked"    // Looked
	factRecorder = "recorder.status"  // channel.Recorder
	factPin      = "recorder.tls"     // string
	factNTP      = "recorder.ntp"     // bool
	factReached  = "recorder.reached" // Looked
	factTopics   = "event.topics"     // []topic.Description
	factRules    = "camera.rules"     // []rule.Rule
	factInputs   = "route.inputs"     // Inputs
	factRoutes   = "route.looked"     // Looked
)

// Looked says when a stage's facts were last asked for and what hindered it.
type Looked struct {
	At      time.Time        `json:"at"`
	Trouble string           `json:"trouble,omitempty"`
	Tried   string           `json:"tried,omitempty"`
	Outcome identity.Outcome `json:"outcome,omitempty"`
	NoSets  bool             `json:"no_sets,omitempty"`
}

// Inputs is what a recorder's channel can hear and what is pegged to it.
type Inputs struct {
	Names  []string    `json:"names"`
	Pegs   []route.Peg `json:"pegs"`
	Events string      `json:"events"`
}

// View is one reading of a site, or of a part of it, from the database: what the
// rules judge and what pages show. It takes a fixed number of queries.
type View struct {
	Site    store.Site
	Devices []store.Device
	Tries   map[int64][]access.Try
	Proofs  map[int64]store.Proof
	facts   map[int64]store.Facts
	byID    map[int64]int
	status  map[int64]*channel.Recorder // of recorders, decoded once
	holds   map[string]heldAt           // address → the recorder's slot that holds it
	around  int64                       // the recorders' versions: a camera's marks rest on them too
	bad     error
}

type heldAt struct {
	recorder int64
	slot     *channel.Slot
}

// Look reads a site. only limits it to these devices and all recorders; nil reads all.
func Look(ctx context.Context, st *store.Store, site int64, only []int64) (*View, error) {
	sc, err := st.Scene(ctx, site, only)
	if err != nil {
		return nil, err
	}
	v := &View{Site: sc.Site, Devices: sc.Devices, Tries: sc.Tries, Proofs: sc.Proofs, facts: sc.Facts,
		byID: make(map[int64]int, len(sc.Devices)), status: map[int64]*channel.Recorder{}, holds: map[string]heldAt{}}
	for i, d := range v.Devices {
		v.byID[d.ID] = i
	}
	v.face()
	return v, nil
}

// face decodes the recorders' channel tables, once for all cameras of the view.
func (v *View) face() {
	for _, r := range v.Recorders() {
		v.around += r.Version
		status, ok := fact[channel.Recorder](v, r.ID, factRecorder)
		if !ok {
			continue
		}
		v.status[r.ID] = &status
		for i := range status.Slots {
			if s := &status.Slots[i]; v.holds[s.Address].slot == nil {
				v.holds[s.Address] = heldAt{r.ID, s}
			}
		}
	}
}

// Cameras of the view.
func (v *View) Cameras() []store.Device {
	return slices.DeleteFunc(slices.Clone(v.Devices), func(d store.Device) bool { return d.Kind != identity.Camera })
}

// Recorders of the view.
func (v *View) Recorders() []store.Device {
	return slices.DeleteFunc(slices.Clone(v.Devices), func(d store.Device) bool { return d.Kind != identity.Recorder })
}

// Device finds a device of the view.
func (v *View) Device(id int64) (store.Device, bool) {
	i, ok := v.byID[id]
	if !ok {
		return store.Device{}, false
	}
	return v.Devices[i], true
}

// fact decodes one fact; what can't be decoded is remembered and counts as absent.
func fact[T any](v *View, device int64, name string) (T, bool) {
	var out T
	ok, err := v.facts[device].Into(name, &out)
	if err != nil {
		v.bad = errors.Join(v.bad, err)
	}
	return out, ok && err == nil
}

// Seen is how a device was found.
func (v *View) Seen(id int64) (identity.Sighting, bool) {
	return fact[identity.Sighting](v, id, factSeen)
}

// Account is what opened a device.
func (v *View) Account(id int64) (access.Account, bool) {
	return fact[access.Account](v, id, factAccount)
}

// Info is what the device says of itself once signed in.
func (v *View) Info(id int64) (identity.Sighting, bool) {
	return fact[identity.Sighting](v, id, factInfo)
}

// Reading is the device's clock.
func (v *View) Reading(id int64) (clock.Reading, bool) { return fact[clock.Reading](v, id, factClock) }

// Recorder is what a recorder says of itself.
func (v *View) Recorder(id int64) (channel.Recorder, bool) {
	if r := v.status[id]; r != nil {
		return *r, true
	}
	return channel.Recorder{}, false
}

// RecorderTrouble is why a recorder couldn't be read at last, or "".
func (v *View) RecorderTrouble(id int64) string {
	l, _ := fact[Looked](v, id, factReached)
	return l.Trouble
}

// Rules of a camera's analytics, as it reads them.
func (v *View) Rules(id int64) []rule.Rule {
	r, _ := fact[[]rule.Rule](v, id, factRules)
	return r
}

// Services of a device, by namespace.
func (v *View) Services(id int64) map[string]string {
	s, _ := fact[map[string]string](v, id, factServices)
	return s
}

// FactAge tells when a fact was read, zero when it wasn't.
func (v *View) FactAge(id int64, name string) time.Time { return v.facts[id][name].ReadAt }

// Find gives the judge of Find what is known of a device.
func (v *View) Find(d store.Device) (identity.Facts, identity.Known) {
	var f identity.Facts
	l, _ := fact[Looked](v, d.ID, factLooked)
	f.LookedAt, f.Tried, f.Outcome = l.At, l.Tried, l.Outcome
	if s, ok := v.Seen(d.ID); ok {
		f.Seen = &s
	}
	k := d.Known()
	if d.ExpectedAt != nil {
		k.Address = *d.ExpectedAt
	}
	return f, k
}

// SignIn gives the judge of Sign-in what is known of a device.
func (v *View) SignIn(d store.Device) access.Facts {
	l, _ := fact[Looked](v, d.ID, factTried)
	f := access.Facts{LookedAt: l.At, Trouble: l.Trouble, NoSets: l.NoSets, Tries: v.Tries[d.ID]}
	if a, ok := v.Account(d.ID); ok {
		f.Account = &a
	}
	return f
}

// HolderOf is the recorder that holds a camera, or the planned one, and whether it
// holds it.
func (v *View) HolderOf(d store.Device) (rec store.Device, slot *channel.Slot, ok bool) {
	if d.Address != nil {
		if h, held := v.holds[d.Address.String()]; held {
			rec, ok = v.Device(h.recorder)
			return rec, h.slot, ok
		}
	}
	if d.RecorderID != nil {
		rec, ok = v.Device(*d.RecorderID)
	}
	return rec, nil, ok
}

// Clock gives the judge of Clock what is known of a camera.
func (v *View) Clock(d store.Device) (clock.Facts, clock.Wishes) {
	f := clock.Facts{Reference: clock.Reference{Name: "this server", Why: "no recorder yet"}}
	if r, ok := v.Reading(d.ID); ok {
		f.Camera = &r
	}
	if rec, slot, ok := v.HolderOf(d); ok {
		if r, read := v.Reading(rec.ID); read {
			f.Reference = clock.Reference{Name: rec.Place, Offset: r.Offset, Why: "planned"}
			if slot != nil {
				f.Reference.Why = "holds it"
			}
			if serves, _ := fact[bool](v, rec.ID, factNTP); serves && rec.Address != nil {
				f.Reference.Address = rec.Address.String()
			}
		}
	}
	return f, clock.Wishes{Zone: v.Site.ZonePosix}
}

// Streams gives the judge of Streams what is known of a camera.
func (v *View) Streams(d store.Device) (stream.Facts, stream.Wishes) {
	l, _ := fact[Looked](v, d.ID, factStreams)
	f := stream.Facts{LookedAt: l.At, Trouble: l.Trouble}
	f.Profiles, _ = fact[[]stream.Profile](v, d.ID, factProfiles)
	f.Measured, _ = fact[[]stream.Measured](v, d.ID, factMeasured)
	var w stream.Wishes
	if rec, _, ok := v.HolderOf(d); ok {
		w.Recorder = rec.Place
		if r, ok := v.Recorder(rec.ID); ok {
			w.Codecs = r.Limits.Codecs
		}
	}
	return f, w
}

// Channel gives the judge of Channels what is known of a camera.
func (v *View) Channel(d store.Device) (channel.Facts, channel.Wishes) {
	f := channel.Facts{}
	if d.Address != nil {
		f.Address = d.Address.String()
	}
	w := channel.Wishes{Channel: d.Channel, Name: d.Place}
	rec, slot, ok := v.HolderOf(d)
	sf, sw := v.Streams(d)
	if ok {
		w.Recorder, f.Planned, f.Trouble = rec.Place, rec.Place, v.RecorderTrouble(rec.ID)
		if r, known := v.Recorder(rec.ID); known {
			f.Recorder, f.Slot = &r, slot
		}
	}
	if sf.Trouble == "" && len(sf.Profiles) > 0 {
		w.Stream, w.View = stream.Roles(sf.Profiles, sw.Codecs)
		if p, _, ok := sf.Find(w.Stream); ok {
			w.Width, w.Height, w.Kbps = p.Width, p.Height, p.Kbps
		}
	}
	return f, w
}

// Routes gives the judge of Routes what is known of a camera.
func (v *View) Routes(d store.Device) route.Facts {
	l, _ := fact[Looked](v, d.ID, factRoutes)
	f := route.Facts{LookedAt: l.At, Trouble: l.Trouble}
	f.Topics, _ = fact[[]topic.Description](v, d.ID, factTopics)
	if in, ok := fact[Inputs](v, d.ID, factInputs); ok {
		f.Inputs, f.Pegs, f.Events = in.Names, in.Pegs, in.Events
	}
	if rec, slot, ok := v.HolderOf(d); ok {
		f.Recorder = rec.Place
		if slot != nil {
			f.Channel = slot.Number
			if slot.Events != "" && len(f.Pegs) > 0 {
				f.Events = slot.Events
			}
		}
	}
	return f
}

// Proof gives the judge of Prove what is known of a camera.
func (v *View) Proof(d store.Device) proof.Facts {
	f := proof.Facts{Basis: v.Basis(d)}
	if p, ok := v.Proofs[d.SourceID]; ok {
		f.Last = &p.Test
	}
	return f
}

// Basis is what a camera's proof rests on: who it is, where, how it is placed and
// pegged, where it takes its time from.
func (v *View) Basis(d store.Device) string {
	where, number := "", ""
	if d.Address != nil {
		where = d.Address.String()
	}
	rec, slot, _ := v.HolderOf(d)
	if slot != nil {
		number = strconv.Itoa(slot.Number) + " " + slot.Name
	}
	info, _ := v.Info(d.ID)
	r, _ := v.Reading(d.ID)
	in, _ := fact[Inputs](v, d.ID, factInputs)
	pegs := make([]string, len(in.Pegs))
	for i, p := range in.Pegs {
		pegs[i] = p.String()
	}
	slices.Sort(pegs)
	return proof.Basis(append([]string{d.UUID, where, info.Firmware, rec.Place, number, r.Source()}, pegs...)...)
}

// Proposals of a camera in a stage, as the rules propose them from the facts.
func (v *View) Proposals(now time.Time, d store.Device, st stage.Stage) []finding.Change {
	switch st {
	case stage.Clock:
		f, w := v.Clock(d)
		if _, open := v.Account(d.ID); !open {
			return nil // nothing can be written to a device that isn't open
		}
		return clock.Propose(now, f, w)
	case stage.Channels:
		f, w := v.Channel(d)
		return channel.Propose(now, f, w)
	case stage.Routes:
		return route.Propose(now, v.Routes(d), route.Wishes{})
	}
	return nil
}

// Judge derives all marks of one camera.
func (v *View) Judge(now time.Time, d store.Device) []store.Judged {
	cases := map[stage.Stage]stage.Case{}
	ff, known := v.Find(d)
	cases[stage.Find] = stage.Case{Read: ff.Seen != nil, Findings: identity.Judge(now, ff, known), Done: "It answers where it is expected."}
	sf := v.SignIn(d)
	cases[stage.SignIn] = stage.Case{Read: sf.Account != nil, Findings: access.Judge(now, sf, struct{}{}), Done: "An account opens it."}
	cf, cw := v.Clock(d)
	cases[stage.Clock] = stage.Case{Read: cf.Camera != nil, Findings: clock.Judge(now, cf, cw), Done: "Its time agrees with " + cf.Reference.Name + "'s."}
	tf, tw := v.Streams(d)
	cases[stage.Streams] = stage.Case{Read: !tf.LookedAt.IsZero(), Findings: stream.Judge(now, tf, tw), Done: "Every stream delivers what it declares."}
	hf, hw := v.Channel(d)
	cases[stage.Channels] = stage.Case{Read: hf.Slot != nil, Findings: channel.Judge(now, hf, hw), Done: "Its recorder receives it."}
	rf := v.Routes(d)
	cases[stage.Routes] = stage.Case{Read: len(rf.Pegs) > 0, Findings: route.Judge(now, rf, route.Wishes{}), Done: "Its events reach the recorder's inputs."}
	pf := v.Proof(d)
	found, stale := proof.JudgeSource(now, pf, d.Place)
	cases[stage.Prove] = stage.Case{Read: pf.Last != nil && !pf.Last.Ended.IsZero(), Findings: found, Stale: stale, Done: "Walked, and every leg was on time."}
	marks := map[stage.Stage]stage.State{}
	before := func(s stage.Stage) stage.State { return marks[s] }
	out := make([]store.Judged, 0, len(stage.All()))
	for _, st := range stage.All() {
		m := stage.Derive(st, cases[st], before)
		marks[st] = m.State
		j := store.Judged{Site: v.Site.ID, SourceID: d.SourceID, Stage: st, Version: d.Version + v.around, Mark: m, Findings: cases[st].Findings}
		if st == stage.SignIn {
			if left, until := access.Left(now, sf.Tries); left == 0 {
				j.ValidUntil = until
			}
		}
		j.Changes = len(v.Proposals(now, d, st))
		j.Act = stage.ActOf(st, m, j.Changes, stage.Free(st, before))
		out = append(out, j)
	}
	return out
}

// Err is set when a kept fact couldn't be read.
func (v *View) Err() error { return v.bad }

// judgeAround judges a device again, and with a recorder the cameras that hang on it.
func (o *Office) judgeAround(ctx context.Context, d store.Device) error {
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), 10*time.Second)
	defer cancel()
	only := []int64{d.ID}
	if d.Kind == identity.Recorder {
		facts, err := o.store.FactsOf(ctx, only)
		if err != nil {
			return err
		}
		var status channel.Recorder
		if _, err := facts[d.ID].Into(factRecorder, &status); err != nil {
			return err
		}
		var at []netip.Addr
		for _, s := range status.Slots {
			if a, err := netip.ParseAddr(s.Address); err == nil {
				at = append(at, a)
			}
		}
		if only, err = o.store.Hanging(ctx, d, at); err != nil {
			return err
		}
	}
	return o.judge(ctx, d.SiteID, only)
}

// portion is how many cameras are read and judged at once.
const portion = 500

// judge derives the marks of these devices again, a portion at a time.
func (o *Office) judge(ctx context.Context, site int64, only []int64) error {
	for part := range slices.Chunk(only, portion) {
		if err := o.judgePart(ctx, site, part); err != nil {
			return err
		}
	}
	o.touch(site)
	return nil
}

func (o *Office) judgePart(ctx context.Context, site int64, only []int64) error {
	v, err := Look(ctx, o.store, site, only)
	if err != nil {
		return err
	}
	var all []store.Judged
	for _, d := range v.Cameras() {
		all = append(all, v.Judge(time.Now(), d)...)
	}
	if v.bad != nil {
		o.opt.Log.Warn("a kept fact can't be read", "err", v.bad)
	}
	return o.store.KeepMarks(ctx, all)
}

// Judge derives every mark of a site again.
func (o *Office) Judge(ctx context.Context, site int64) error {
	all, err := o.store.Resolve(ctx, store.Selection{Site: site})
	if err != nil {
		return err
	}
	return o.judge(ctx, site, all)
}

// JudgeThese derives the marks of some devices again.
func (o *Office) JudgeThese(ctx context.Context, site int64, devices []int64) error {
	return o.judge(ctx, site, devices)
}

func addrOf(d store.Device) (netip.Addr, error) {
	if d.Address == nil {
		return netip.Addr{}, toldError(d.Place + " wasn't found yet: look for it first.")
	}
	return *d.Address, nil
}
