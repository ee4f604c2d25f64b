// Package site reads a site from the database: its devices, what is wished of them,
// and the facts that are kept of them, decoded once by typed keys.
package site

import (
	"context"
	"errors"
	"net/netip"
	"slices"

	"duskyharbor/internal/core/access"
	"duskyharbor/internal/core/channel"
	"duskyharbor/internal/core/finding"
	"duskyharbor/internal/core/identity"
	"duskyharbor/internal/core/netplan"
	"duskyharbor/internal/core/rule"
	"duskyharbor/internal/core/stage"
	"duskyharbor/internal/core/stream"
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
	// Settings of encoders that were chosen for a view.
	Settings map[int64][]stream.Setting
	Drawn    map[int64][]rule.Drawn // rules that were drawn for a view
	Least    []identity.Least       // firmware that the site asks

	networks  []netplan.Network // of the site, single addresses left out
	accepted  map[store.Target]map[stage.Stage]map[string]finding.Acceptance
	behind    map[netip.Addr]identity.Behind // what hangs on recorders' own ports
	recorders []store.Device
	analysers []store.Device
	facts     map[int64]store.Facts
	ofView    map[int64]store.Facts
	views     map[int64][]Source // by device
	decoded   map[kept]any
	byID      map[int64]int
	holders   channel.Holders
	takenFrom map[string][]channel.Held // who takes the stream at an address, by channel.StreamKey
	taken     map[int64]string          // what else answers where the list expects a device
	around    int64                     // the recorders' versions: a camera's marks rest on them too
	bad       []error
	had       *Snapshot // read before; see Beside
}

// Load reads a site. only limits it to these devices, all recorders and all analysers; nil reads all.
func Load(ctx context.Context, st *store.Store, site int64, only []int64) (*Snapshot, error) {
	return load(ctx, st, site, only, nil)
}

// Beside reads a site once more, for other devices. What is as it was in the snapshot that was read before isn't
// decoded again.
func Beside(ctx context.Context, st *store.Store, had *Snapshot, only []int64) (*Snapshot, error) {
	return load(ctx, st, had.Site.ID, only, had)
}

func load(ctx context.Context, st *store.Store, site int64, only []int64, had *Snapshot) (*Snapshot, error) {
	read, err := st.ReadSite(ctx, site, only)
	if err != nil {
		return nil, err
	}
	s := &Snapshot{Site: read.Site, Devices: read.Devices, Sources: read.Sources, Tries: read.Tries,
		Proofs: read.Proofs, Walks: read.Walks, Sets: read.Sets, Plans: read.Plans, Settings: read.Settings, Drawn: read.Drawn, Least: read.Leasts, accepted: read.Accepted,
		facts: read.Facts, ofView: read.OfView, views: make(map[int64][]Source,
			len(read.Devices)), taken: read.Taken, behind: map[netip.Addr]identity.Behind{}, decoded: map[kept]any{}, byID: make(map[int64]int, len(read.Devices)), had: had}
	for i, d := range s.Devices {
		s.byID[d.ID] = i
		if d.Kind == identity.Recorder {
			s.recorders = append(s.recorders, d)
		} else if d.Kind == identity.Analyser {
			s.analysers = append(s.analysers, d)
			s.around += d.Version
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
	s.around += s.Site.Outlived
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

// Analysers of the snapshot.
func (s *Snapshot) Analysers() []store.Device { return s.analysers }

// RecorderSets are the sets that are recorders' and analysers' own accounts.
func (s *Snapshot) RecorderSets() map[int64]bool {
	out := map[int64]bool{}
	for _, r := range slices.Concat(s.recorders, s.analysers) {
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

// Taken tells what else answers where the list expects a device, or "".
func (s *Snapshot) Taken(device int64) string { return s.taken[device] }

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
func (s *Snapshot) viewOf(of Source) channel.SourceProfiles {
	v := channel.SourceProfiles{First: of.First()}
	if of.Device.Address != nil {
		v.Address = of.Device.Address.String()
	}
	if of.Video == "" || !s.holders.Hold(v.Address) {
		return v
	}
	own, others := s.ProfilesOf(of)
	for _, p := range own {
		v.Own = append(v.Own, p.Token)
	}
	for _, p := range others {
		v.Others = append(v.Others, p.Token)
	}
	return v
}

// ProfilesOf are the profiles that show a view, with what a person wants each for, and those that show its device's
// others.
func (s *Snapshot) ProfilesOf(of Source) (own, others []stream.Profile) {
	all, _ := Profiles.Of(s, of.Device.ID)
	own, others = stream.OfSource(all, of.Video)
	return of.Uses.Mark(own), others
}
