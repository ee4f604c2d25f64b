package work

import (
	"context"
	"errors"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"time"

	"duskyharbor/internal/core/access"
	"duskyharbor/internal/core/channel"
	"duskyharbor/internal/core/clock"
	"duskyharbor/internal/core/finding"
	"duskyharbor/internal/core/identity"
	"duskyharbor/internal/core/netplan"
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
	factInputs   = "route.inputs"     // route.Inputs
	factRoutes   = "route.looked"     // Looked
	factSeat     = "device.seat"      // netplan.IPConfig
	factHidden   = "device.hidden"    // bool: its discovery is off
	factViews    = "device.views"     // []stream.VideoSource
	factRule     = "access.rule"      // access.Rule
	factWeb      = "access.web"       // access.Account: what opens its page alone
	factUsers    = "access.users"     // []string
	factTLS      = "device.tls"       // string: fingerprint of the certificate that is trusted
	factShown    = "device.tls.shown" // string: the one that it showed at last
)

// Looked says when a stage's facts were last asked for and what hindered it.
type Looked struct {
	At         time.Time        `json:"at"`
	Trouble    string           `json:"trouble,omitempty"`
	Tried      string           `json:"tried,omitempty"`
	Outcome    identity.Outcome `json:"outcome,omitempty"`
	NoSets     bool             `json:"no_sets,omitempty"`
	WasUUID    string           `json:"was_uuid,omitempty"`
	NoPassword bool             `json:"virgin,omitempty"`
	Basic      bool             `json:"basic,omitempty"`  // it takes nothing but Basic over HTTP
	Locked     time.Time        `json:"locked,omitempty"` // until when it takes no sign-in
}

// View is one reading of a site, or of a part of it, from the database: what the
// rules judge and what pages show. It takes a fixed number of queries.
type View struct {
	Site    store.Site
	Devices []store.Device
	Tries   map[int64][]access.Try
	Proofs  map[int64]store.Proof
	Sets    map[int64]access.Set // shared ones, and those that open these devices
	nets    []netplan.Network    // of the site, benches left out
	leasts  []store.Least
	seal    map[int64]map[stage.Stage]map[string]finding.Acceptance
	ports   map[netip.Addr]identity.Behind
	toWrite map[int64]bool // see writes
	record  []store.Device // the recorders
	named   string         // see accountName
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
	v := &View{Site: sc.Site, Devices: sc.Devices, Tries: sc.Tries, Proofs: sc.Proofs, Sets: sc.Sets, leasts: sc.Leasts, seal: sc.Accepted, facts: sc.Facts, ports: map[netip.Addr]identity.Behind{}, toWrite: map[int64]bool{},
		byID: make(map[int64]int, len(sc.Devices)), status: map[int64]*channel.Recorder{}, holds: map[string]heldAt{}}
	for i, d := range v.Devices {
		v.byID[d.ID] = i
		if d.Kind == identity.Recorder {
			v.record = append(v.record, d)
		}
	}
	for _, n := range sc.Nets {
		if !n.Bench {
			v.nets = append(v.nets, netplan.Network{ID: n.ID, Name: n.Name, Prefix: n.Prefix})
		}
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
		v.facePorts(r, &status)
	}
}

// facePorts reads what hangs on a recorder's own ports.
func (v *View) facePorts(r store.Device, status *channel.Recorder) {
	for _, p := range status.Ports {
		at, err := netip.ParseAddr(p.Address)
		if err != nil || !p.Linked {
			continue
		}
		b := identity.Behind{Recorder: r.Place, RecorderID: r.ID, Port: p.Number, At: status.At, HandsOut: status.HandsOut, Fixed: p.Fixed, Relays: status.Relays, Slot: p.Channel}
		for _, s := range status.Slots {
			if s.Number == p.Channel {
				b.SlotText, b.Dead = channel.SlotText(s.Name, s.Address), channel.DeadEntry(s, p)
			}
		}
		v.ports[at] = b
	}
}

// Cameras of the view.
func (v *View) Cameras() []store.Device {
	return slices.DeleteFunc(slices.Clone(v.Devices), func(d store.Device) bool { return d.Kind != identity.Camera })
}

// Recorders of the view.
func (v *View) Recorders() []store.Device { return v.record }

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
func (v *View) Find(d store.Device) (identity.Facts, identity.Wishes) {
	var f identity.Facts
	l, _ := fact[Looked](v, d.ID, factLooked)
	f.LookedAt, f.Tried, f.Outcome, f.WasUUID = l.At, l.Tried, l.Outcome, l.WasUUID
	w := identity.Wishes{Known: d.Known()}
	if d.ExpectedAt != nil {
		w.Address = *d.ExpectedAt
	}
	s, ok := v.Seen(d.ID)
	if !ok {
		return f, w
	}
	f.Seen = &s
	if n, in := netplan.Of(v.nets, s.Address); in {
		f.Inside, f.Network = true, n.Prefix
	}
	if seat, ok := fact[netplan.IPConfig](v, d.ID, factSeat); ok {
		f.IPConfig = &seat
	}
	f.Hidden, _ = fact[bool](v, d.ID, factHidden)
	if b, behind := v.ports[s.Address]; behind {
		f.Behind = &b
	}
	if info, ok := v.Info(d.ID); ok {
		f.Firmware = info.Firmware
	}
	views, _ := fact[[]stream.VideoSource](v, d.ID, factViews)
	for _, x := range views {
		f.Sources = append(f.Sources, x.Name)
	}
	f.Chosen = d.Views
	w.Least = v.least(d)
	// Outside every network, and the place where it is expected is free.
	if n, in := netplan.Of(v.nets, w.Address); !f.Inside && in && w.Expected {
		w.MoveTo = &netplan.IPConfig{Address: w.Address, Bits: n.Prefix.Bits(), Gateway: netplan.First(n.Prefix)}
	}
	return f, w
}

// least is the firmware that the site asks of a device: of its model before its make.
func (v *View) least(d store.Device) string {
	found := ""
	for _, l := range v.leasts {
		switch {
		case !strings.EqualFold(l.Make, d.Make):
		case strings.EqualFold(l.Model, d.Model):
			return l.Least
		case l.Model == "":
			found = l.Least
		}
	}
	return found
}

// ServesNTP says whether a recorder answered as a time server.
func (v *View) ServesNTP(id int64) bool {
	serves, _ := fact[bool](v, id, factNTP)
	return serves
}

// Views lists a device's video sources.
func (v *View) Views(id int64) []stream.VideoSource {
	all, _ := fact[[]stream.VideoSource](v, id, factViews)
	return all
}

// Networks of the site, benches left out.
func (v *View) Networks() []netplan.Network { return v.nets }

// SignIn gives the judge of Sign-in what is known of a device.
func (v *View) SignIn(d store.Device) (access.Facts, access.Wishes) {
	l, _ := fact[Looked](v, d.ID, factTried)
	f := access.Facts{LookedAt: l.At, Trouble: l.Trouble, NoSets: l.NoSets, NoPassword: l.NoPassword, Basic: l.Basic, LockedTo: l.Locked, Tries: v.Tries[d.ID]}
	if a, ok := v.Account(d.ID); ok {
		f.Account = &a
		f.Factory, f.Former = v.Sets[a.SetID].Factory, v.Sets[a.SetID].Former
	}
	if a, ok := fact[access.Account](v, d.ID, factWeb); ok {
		f.Web = &a
	}
	if r, ok := fact[access.Rule](v, d.ID, factRule); ok {
		f.Rule = &r
	}
	f.Users, _ = fact[[]string](v, d.ID, factUsers)
	f.Pinned, _ = fact[string](v, d.ID, factTLS)
	f.Shown, _ = fact[string](v, d.ID, factShown)
	f.Knocks = v.knocks(d)
	return f, access.Wishes{AllowBasic: d.AllowBasic, Writes: v.writes(d), Name: v.accountName()}
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
	f := clock.Facts{Reference: clock.Reference{Name: "this server", Why: clock.Nobody}}
	if r, ok := v.Reading(d.ID); ok {
		f.Camera = &r
	}
	if rec, slot, ok := v.HolderOf(d); ok {
		if r, read := v.Reading(rec.ID); read {
			f.Reference = clock.Reference{ID: rec.ID, Name: rec.Place, Offset: r.Offset, Why: clock.Planned}
			if slot != nil {
				f.Reference.Why = clock.Holds
				f.Window = v.shownWindow(d, f, slot)
			}
			if serves, _ := fact[bool](v, rec.ID, factNTP); serves && rec.Address != nil {
				f.Reference.Address = rec.Address.String()
			}
			status, _ := v.Recorder(rec.ID)
			f.Reference.Dates, f.Reference.Times = status.Dates, status.Times
		}
	}
	return f, clock.Wishes{Zone: v.Site.ZonePosix, Source: v.Site.TimeSource}
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
		w.RecorderID = rec.ID
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
	if in, ok := fact[route.Inputs](v, d.ID, factInputs); ok {
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
	in, _ := fact[route.Inputs](v, d.ID, factInputs)
	pegs := make([]string, len(in.Pegs))
	for i, p := range in.Pegs {
		pegs[i] = p.String()
	}
	slices.Sort(pegs)
	return proof.Basis(append([]string{d.UUID, where, info.Firmware, rec.Place, number, r.Source()}, pegs...)...)
}
