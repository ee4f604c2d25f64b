// Package site reads a site from the database: its devices, what is wished of them,
// and the facts that are kept of them, decoded once by typed keys.
package site

import (
	"context"
	"errors"
	"net/netip"
	"slices"
	"time"

	"duskyharbor/internal/core/access"
	"duskyharbor/internal/core/channel"
	"duskyharbor/internal/core/clock"
	"duskyharbor/internal/core/finding"
	"duskyharbor/internal/core/identity"
	"duskyharbor/internal/core/netplan"
	"duskyharbor/internal/core/recording"
	"duskyharbor/internal/core/route"
	"duskyharbor/internal/core/stage"
	"duskyharbor/internal/core/stream"
	"duskyharbor/internal/core/topic"
	"duskyharbor/internal/core/view"
	"duskyharbor/internal/store"
)

// Source is one view of a device as it is enrolled, a row of the Board: what a stage judges
// and proposes for. A recorder has no view: as a Source it is its Device alone.
type Source = store.Source

// Snapshot is one reading of a site, or of a part of it: what the rules judge and what
// pages show. It takes a fixed number of queries. It isn't safe for several goroutines.
type Snapshot struct {
	Site    store.Site
	Devices []store.Device
	Sources []Source // views of these devices, in the list's order
	Tries   map[int64][]access.Try
	Proofs  map[int64]store.Proof
	Walks   map[int64][]store.Proof // the newest of each route
	Sets    map[int64]access.Set    // shared ones, and those that open these devices
	Plans   map[int64]store.RecordingPlan

	networks  []netplan.Network // of the site, single addresses left out
	sums      map[int64]recording.Sum
	least     []identity.Least
	accepted  map[store.Target]map[stage.Stage]map[string]finding.Acceptance
	behind    map[netip.Addr]identity.Behind // what hangs on recorders' own ports
	recorders []store.Device
	facts     map[int64]store.Facts
	ofView    map[int64]store.Facts
	views     map[int64][]Source // by device
	decoded   map[kept]any
	byID      map[int64]int
	holders   channel.Holders
	takers    map[string][]channel.Held // who takes the stream at an address, by channel.StreamKey
	taken     map[int64]string          // what else answers where the list expects a device
	around    int64                     // the recorders' versions: a camera's marks rest on them too
	bad       []error
}

// Load reads a site. only limits it to these devices and all recorders; nil reads all.
func Load(ctx context.Context, st *store.Store, site int64, only []int64) (*Snapshot, error) {
	read, err := st.ReadSite(ctx, site, only)
	if err != nil {
		return nil, err
	}
	s := &Snapshot{Site: read.Site, Devices: read.Devices, Sources: read.Sources, Tries: read.Tries,
		Proofs: read.Proofs, Walks: read.Walks, Sets: read.Sets, Plans: read.Plans, least: read.Leasts, accepted: read.Accepted,
		facts: read.Facts, ofView: read.OfView, views: make(map[int64][]Source,
			len(read.Devices)), taken: read.Taken, behind: map[netip.Addr]identity.Behind{}, decoded: map[kept]any{}, byID: make(map[int64]int, len(read.Devices))}
	for i, d := range s.Devices {
		s.byID[d.ID] = i
		if d.Kind == identity.Recorder {
			s.recorders = append(s.recorders, d)
		}
	}
	for _, v := range s.Sources {
		s.views[v.Device.ID] = append(s.views[v.Device.ID], v)
	}
	for _, n := range read.Nets {
		if !n.Single {
			s.networks = append(s.networks, n.Core())
		}
	}
	s.around = s.Site.Outlived
	for _, r := range s.recorders {
		s.around += r.Version
		if table, ok := Recorder.Of(s, r.ID); ok {
			s.holders.Add(r.ID, &table)
			s.takes(r.ID, &table)
			s.readPorts(r, &table)
		}
	}
	return s, nil
}

// readPorts takes in what hangs on a recorder's own ports.
func (s *Snapshot) readPorts(r store.Device, table *channel.Recorder) {
	for _, p := range table.Ports {
		at, err := netip.ParseAddr(p.Address)
		if err != nil || !p.Linked {
			continue
		}
		b := identity.Behind{Recorder: r.Place, RecorderID: r.ID, Port: p.Number, At: table.At,
			HandsOut: table.HandsOut, Fixed: p.Fixed, Relays: table.Relays, Slot: p.Channel}
		for _, slot := range table.Slots {
			if slot.Number == p.Channel {
				b.SlotText, b.Dead = channel.SlotText(slot.Name, slot.Address), channel.DeadEntry(slot, p)
			}
		}
		s.behind[at] = b
	}
}

// Cameras of the snapshot.
func (s *Snapshot) Cameras() []store.Device {
	return slices.DeleteFunc(slices.Clone(s.Devices), func(d store.Device) bool { return d.Kind != identity.Camera })
}

// Views of a device, its first one first; a recorder has none.
func (s *Snapshot) Views(device int64) []Source { return s.views[device] }

// Of is a device as a source: a camera as its first view, a recorder as a whole.
func (s *Snapshot) Of(d store.Device) Source {
	if all := s.views[d.ID]; len(all) > 0 {
		return all[0]
	}
	return d.Whole()
}

// Source finds a view of the snapshot by its number.
func (s *Snapshot) Source(id int64) (Source, bool) {
	i := slices.IndexFunc(s.Sources, func(v Source) bool { return v.ID == id })
	if i < 0 {
		return Source{}, false
	}
	return s.Sources[i], true
}

// Recorders of the snapshot.
func (s *Snapshot) Recorders() []store.Device { return s.recorders }

// RecorderSets are the sets that are recorders' own accounts.
func (s *Snapshot) RecorderSets() map[int64]bool {
	out := map[int64]bool{}
	for _, r := range s.recorders {
		if r.SetID != nil {
			out[*r.SetID] = true
		}
	}
	return out
}

// Device finds a device of the snapshot.
func (s *Snapshot) Device(id int64) (store.Device, bool) {
	i, ok := s.byID[id]
	if !ok {
		return store.Device{}, false
	}
	return s.Devices[i], true
}

// Networks of the site, single addresses that are looked at besides left out.
func (s *Snapshot) Networks() []netplan.Network { return s.networks }

// Behind tells what a recorder says of the device at an address on one of its own
// ports; ok is false where none does.
func (s *Snapshot) Behind(at netip.Addr) (b identity.Behind, ok bool) {
	b, ok = s.behind[at]
	return b, ok
}

// Accepted are the findings of a source in a stage that a person lives with, by code; of
// its device where the stage is the device's.
func (s *Snapshot) Accepted(of Source, st stage.Stage) map[string]finding.Acceptance {
	at := store.Target{Device: of.Device.ID}
	if !st.OfDevice() {
		at.Source = of.ID
	}
	return s.accepted[at][st]
}

// Version of all that a device's marks rest on: it grows with every change of its own
// facts and of the recorders', and with each recorder that goes. It never falls.
func (s *Snapshot) Version(d store.Device) int64 { return d.Version + s.around }

// Err is set when a kept fact couldn't be decoded.
func (s *Snapshot) Err() error { return errors.Join(s.bad...) }

// RecorderTrouble is why a recorder couldn't be read at last, or "".
func (s *Snapshot) RecorderTrouble(id int64) string {
	asked, _ := Reached.Of(s, id)
	return asked.Trouble
}

// HolderOf is the recorder that holds a view, with the slot, or the planned one, with
// none.
func (s *Snapshot) HolderOf(of Source) (rec store.Device, slot *channel.Slot, ok bool) {
	planned := int64(0)
	if of.RecorderID != nil {
		planned = *of.RecorderID
	}
	held, ok := s.holders.Of(s.viewOf(of), planned)
	if !ok {
		return store.Device{}, nil, false
	}
	rec, ok = s.Device(held.Recorder)
	return rec, held.Slot, ok
}

// SlotOn is the slot of one recorder that holds a view; nil: none does.
func (s *Snapshot) SlotOn(of Source, recorder int64) *channel.Slot {
	return s.holders.At(s.viewOf(of), recorder)
}

// viewOf is a view as recorders' slots are compared with it.
func (s *Snapshot) viewOf(of Source) channel.View {
	v := channel.View{First: of.First()}
	if of.Device.Address != nil {
		v.Address = of.Device.Address.String()
	}
	if of.Video == "" || !s.holders.Hold(v.Address) {
		return v
	}
	own, others := s.profilesOf(of)
	for _, p := range own {
		v.Own = append(v.Own, p.Token)
	}
	for _, p := range others {
		v.Others = append(v.Others, p.Token)
	}
	return v
}

// profilesOf are the profiles that show a view, and those that show its device's others.
func (s *Snapshot) profilesOf(of Source) (own, others []stream.Profile) {
	all, _ := Profiles.Of(s, of.Device.ID)
	return stream.OfView(all, of.Video)
}

// EventsOf is a view as its device's events name it.
func (s *Snapshot) EventsOf(of Source) topic.View {
	own, others := s.profilesOf(of)
	return topic.View{Own: stream.SourceTokens(own), Others: stream.SourceTokens(others)}
}

// Find is what Find's rules are asked of a device.
func (s *Snapshot) Find(d store.Device) (identity.Facts, identity.Wishes) {
	asked, _ := FindAsked.Of(s, d.ID)
	f := identity.Facts{LookedAt: asked.At, Tried: asked.Tried, Outcome: asked.Outcome, WasUUID: asked.WasUUID,
		Elsewhere: asked.Elsewhere, Claims: asked.Claims, MovedFrom: asked.MovedFrom}
	w := identity.Wishes{Known: d.Known(), Account: d.SetID != nil}
	w.Pin, _ = Pin.Of(s, d.ID)
	if d.Ours != nil {
		w.Ours = *d.Ours
	}
	if d.ExpectedAt != nil {
		w.Address = *d.ExpectedAt
	}
	seen, ok := Seen.Of(s, d.ID)
	if !ok {
		return f, w
	}
	if a, ok := Account.Of(s, d.ID); ok {
		seen = seen.Since(a.At)
	}
	f.Seen = &seen
	if n, in := netplan.Of(s.networks, seen.Address); in {
		f.Inside, f.Network, f.Networks = true, n, s.networks
	}
	if c, ok := IPConfig.Of(s, d.ID); ok {
		f.IPConfig = &c
	}
	if c, ok := DNS.Of(s, d.ID); ok {
		f.DNS = &c
	}
	f.Hidden, _ = Hidden.Of(s, d.ID)
	if b, behind := s.behind[seen.Address]; behind {
		f.Behind = &b
	}
	if info, ok := Info.Of(s, d.ID); ok {
		f.Firmware, f.Info = info.Firmware, &info
	}
	views, listed := VideoSources.Of(s, d.ID)
	if a, open := Account.Of(s, d.ID); open && a.Scheme != access.RTSP && !listed && d.Kind == identity.Camera && seen.Service != "" {
		asked, _ := SignInAsked.Of(s, d.ID)
		f.Unlisted, f.Unread = true, asked.Unread
	}
	for _, x := range views {
		f.Sources = append(f.Sources, x.Name)
	}
	f.Chosen = d.Views
	var inputs []int
	for _, of := range s.views[d.ID] {
		inputs = append(inputs, of.Input)
	}
	f.NoInputs = identity.Lacking(inputs, len(views))
	w.Least = identity.LeastFor(s.least, d.Make, d.Model)
	f.Taken = s.taken[d.ID]
	if n, in := netplan.Of(s.networks, w.Address); in && w.Expected {
		w.MoveTo = identity.MoveTo(f, w.Address, n)
	}
	return f, w
}

// SignIn is what Sign-in's rules are asked of a device.
func (s *Snapshot) SignIn(now time.Time, d store.Device) (access.Facts, access.Wishes) {
	asked, _ := SignInAsked.Of(s, d.ID)
	f := access.Facts{LookedAt: asked.At, Trouble: asked.Trouble, NoSets: asked.NoSets, NoPassword: asked.NoPassword,
		Basic: asked.Basic, LockedTo: asked.Locked, Open: asked.Open, Tries: s.Tries[d.ID], NoLonger: asked.Refused, NoLongerAt: asked.RefusedBy}
	if a, ok := Account.Of(s, d.ID); ok {
		f.Account = &a
		f.Factory, f.Former = s.Sets[a.SetID].Factory, s.Sets[a.SetID].Former
	}
	if a, ok := WebAccount.Of(s, d.ID); ok {
		f.Web = &a
	}
	if r, ok := PasswordRule.Of(s, d.ID); ok {
		f.Rule = &r
	}
	f.Users, _ = Users.Of(s, d.ID)
	f.Pinned, _ = Pin.Of(s, d.ID)
	f.Shown, _ = ShownPin.Of(s, d.ID)
	f.AuthFailures = s.authFailures(d)
	f.Doubt = identity.Doubt(s.Find(d))
	var sets []access.Set
	for _, x := range s.Sets {
		sets = append(sets, x)
	}
	seen, _ := Seen.Of(s, d.ID)
	seen.Cert = f.Shown
	return f, access.Wishes{AllowBasic: d.AllowsBasic(seen), Writes: s.writes(now, d),
		Name: access.AccountName(access.ForCameras(sets, s.RecorderSets()))}
}

// authFailures lists the recorders that sign in with another password than the device has.
func (s *Snapshot) authFailures(d store.Device) []access.AuthFailure {
	opened := int64(0)
	if a, ok := Account.Of(s, d.ID); ok {
		opened = a.SetID
	}
	var out []access.AuthFailure
	for _, of := range s.Views(d.ID) {
		rec, slot, ok := s.HolderOf(of)
		if !ok || slot == nil {
			continue
		}
		f, _ := s.Clock(d)
		table, _ := Recorder.Of(s, rec.ID)
		out = append(out, access.AuthFailuresOf(access.Holder{Recorder: rec.Place, RecorderID: rec.ID,
			Channel: slot.Number, State: slot.State, Paused: slot.Paused, Label: slot.Label, AuthFailures: slot.AuthFailures, TableAt: table.At},
			opened, f.Camera == nil || clock.BandOf(f.Offset(), f.Window) == clock.Refused)...)
	}
	return out
}

// writes says whether something of the device's system is to be written, which takes an
// administrator.
func (s *Snapshot) writes(now time.Time, d store.Device) bool {
	f, w := s.Clock(d)
	ff, fw := s.Find(d)
	return len(clock.Propose(now, f, w)) > 0 || len(identity.Propose(now, ff, fw, true)) > 0
}

// Clock is what Clock's rules are asked of a camera, whose first view's recorder is the
// one that its time is held against. What its sign-in window has shown is left to who
// knows its account.
func (s *Snapshot) Clock(d store.Device) (clock.Facts, clock.Wishes) {
	var f clock.Facts
	if r, ok := Clock.Of(s, d.ID); ok {
		f.Camera = &r
	}
	holder := clock.Holder{}
	if rec, slot, ok := s.HolderOf(s.Of(d)); ok {
		holder = clock.Holder{ID: rec.ID, Name: rec.Place, Holds: slot != nil}
		if r, read := Clock.Of(s, rec.ID); read {
			holder.Reading = &r
		}
		if serves, _ := ServesNTP.Of(s, rec.ID); serves && rec.Address != nil {
			holder.NTP = rec.Address.String()
		}
		table, _ := Recorder.Of(s, rec.ID)
		holder.Dates, holder.Times = table.Dates, table.Times
		f.Reference = clock.ReferenceOf(holder)
		if slot != nil && f.Reference.ID != 0 {
			f.Window = s.shownWindow(d, f, slot)
		}
	} else {
		f.Reference = clock.ReferenceOf(holder)
	}
	w := clock.Wishes{Zone: s.Site.ZonePosix, Source: s.Site.TimeSource}
	if d.Address != nil {
		if n, in := netplan.Of(s.networks, *d.Address); in && n.TimeServer.IsValid() {
			w.Source, w.Network = n.TimeServer.String(), n.Name
		}
	}
	return f, w
}

// shownWindow is the sign-in window that a camera has shown to the recorder that
// holds it.
func (s *Snapshot) shownWindow(d store.Device, f clock.Facts, slot *channel.Slot) time.Duration {
	account, open := Account.Of(s, d.ID)
	if f.Camera == nil || !open {
		return 0
	}
	asked, _ := SignInAsked.Of(s, d.ID)
	since := slot.Since.Add(-f.Reference.Offset.Mid())
	return clock.ShownWindow(f.Offset(), f.Camera.At, clock.Tried{Since: since, Receives: slot.State == "receiving",
		Refused: slot.State == "refused" && slot.Label == access.Label(account.SetID) && !asked.Locked.After(since)})
}

// Streams is what Streams' rules are asked of a view.
func (s *Snapshot) Streams(of Source) (stream.Facts, stream.Wishes) {
	asked, _ := StreamsAsked.Of(s, of)
	f := stream.Facts{LookedAt: asked.At, Trouble: asked.Trouble}
	own, others := s.profilesOf(of)
	f.Profiles, f.Elsewhere = own, len(others)
	f.Measured, _ = Measured.Of(s, of)
	f.Touched, _ = Touched.Of(s, of.Device.ID)
	if of.Device.Address != nil {
		f.At = *of.Device.Address
	}
	if seen, ok := Seen.Of(s, of.Device.ID); ok && len(of.Device.Paths) == 0 {
		_, opened := Account.Of(s, of.Device.ID)
		f.Unnamed = opened && seen.RTSPAlone()
	}
	if seen, ok := Still.Of(s, of); ok {
		f.Still = &seen
	}
	w := stream.Wishes{Encrypt: s.Site.Encrypt, Consent: of.Consent.Given(), Accepted: of.Accepted}
	rec, slot, planned := s.HolderOf(of)
	if planned {
		w.Recorder, w.Held = rec.Place, slot != nil
		if r, ok := Recorder.Of(s, rec.ID); ok {
			w.Codecs, w.Talkback = r.Limits.Codecs, r.Limits.Talkback
		}
	}
	for _, other := range s.recorders {
		if r, ok := Recorder.Of(s, other.ID); ok && planned && other.ID != rec.ID && other.Feeds == nil && stream.Takes(own, r.Limits.Codecs) {
			w.Takers = append(w.Takers, other.Place)
		}
	}
	return f, w
}

// Picture is what the rules about a view's picture are asked: nil where it wasn't read.
func (s *Snapshot) Picture(of Source) (*view.Setup, view.Wishes) {
	w := view.Wishes{Place: of.Place}
	if rec, _, planned := s.HolderOf(of); planned {
		w.Recorder = rec.Place
		if r, ok := Recorder.Of(s, rec.ID); ok {
			w.Burns, w.Dates, w.Times = r.Burns, r.Dates, r.Times
		}
	}
	if tried, ok := TriedPTZ.Of(s, of); ok {
		w.Tried = &tried
	}
	setup, ok := Setup.Of(s, of)
	if !ok {
		return nil, w
	}
	return &setup, w
}

// Routes is what Routes' rules are asked of a view.
func (s *Snapshot) Routes(of Source) route.Facts {
	asked, _ := RoutesAsked.Of(s, of)
	f := route.Facts{LookedAt: asked.At, Trouble: asked.Trouble}
	f.Topics, _ = Topics.Of(s, of.Device.ID)
	if in, ok := Inputs.Of(s, of); ok {
		f.Inputs, f.Pegs, f.Events = in.Names, in.Pegs, in.Events
	}
	if rec, slot, ok := s.HolderOf(of); ok {
		f.Recorder = rec.Place
		if slot != nil {
			f.Channel = slot.Number
			f.Events = route.Hears(f, slot.Events)
			f.Motion = slot.Recording.Plan != nil && slot.Recording.Plan.WaitsFor(recording.Motion)
		}
	}
	return f
}
