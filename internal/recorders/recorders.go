// Package recorders reads recorders for all stages: one reading serves all who ask at
// the same time, and what a recorder tells of its own ports becomes known with it.
package recorders

import (
	"cmp"
	"context"
	"fmt"
	"net/netip"
	"slices"
	"strconv"
	"time"

	"golang.org/x/sync/singleflight"

	"duskyharbor/internal/account"
	"duskyharbor/internal/core/channel"
	"duskyharbor/internal/core/clock"
	"duskyharbor/internal/core/fact"
	"duskyharbor/internal/core/identity"
	"duskyharbor/internal/core/trouble"
	"duskyharbor/internal/device/dial"
	"duskyharbor/internal/device/ntp"
	"duskyharbor/internal/device/recorder"
	"duskyharbor/internal/engine"
	"duskyharbor/internal/facts"
	"duskyharbor/internal/site"
	"duskyharbor/internal/store"
)

// Reader reads recorders. It is safe for several goroutines.
type Reader struct {
	Store    *store.Store
	Accounts *account.Clients
	Dialer   *dial.Dialer
	Engine   *engine.Engine
	fresh    singleflight.Group
}

// freshFor is how long a reading of a recorder serves who asks for a fresh one, and
// freshLimit how long one may take.
const (
	freshFor   = 20 * time.Second
	freshLimit = 12 * time.Second
)

// Fresh reads a recorder unless that is being done already, or was a moment ago by
// another that waited for the same.
func (r *Reader) Fresh(ctx context.Context, d store.Device) error {
	_, err, _ := r.fresh.Do(fmt.Sprint(d.ID), func() (any, error) {
		ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), freshLimit)
		defer cancel()
		had, err := r.Store.FactsOf(ctx, []int64{d.ID})
		if err != nil || time.Since(had[d.ID][site.Reached.Name].ReadAt) < freshFor {
			return nil, err
		}
		_, err = r.Read(ctx, d)
		return nil, err
	})
	return err
}

// Read reads a recorder's status and clock. What was known stays when it doesn't answer.
func (r *Reader) Read(ctx context.Context, d store.Device) (string, error) {
	asked := fact.LastRead{At: time.Now().UTC()}
	says, err := r.ask(ctx, d)
	if err != nil && engine.Ours(err) {
		return "", err
	}
	if err != nil {
		asked.Trouble = trouble.Sentence(err)
	}
	if err := r.Store.KeepFacts(ctx, site.Reached.New(d.ID, "GET /api/status", asked.At, asked)); err != nil {
		return "", err
	}
	return says, err
}

func (r *Reader) ask(ctx context.Context, d store.Device) (string, error) {
	c, err := r.Accounts.Recorder(ctx, d)
	if err != nil {
		return "", err
	}
	defer c.Close()
	table, reading, err := c.Status(ctx)
	if err != nil {
		return "", err
	}
	via := c.Via()
	table.Make, table.Model, table.Serial = cmp.Or(d.Make, table.Make), cmp.Or(d.Model, table.Model), cmp.Or(d.Serial, table.Serial)
	table.Name = d.Place // whatever it calls itself, here it has one name
	if err := r.placedAs(ctx, d, &table); err != nil {
		return "", err
	}
	read := []store.NewFact{site.Recorder.New(d.ID, via, table.At, table)}
	if pin := c.Pin(); pin != "" {
		read = append(read, facts.RecorderPin.New(d.ID, via, table.At, pin))
	}
	if !reading.At.IsZero() {
		times, err := r.clock(ctx, d, reading, via)
		if err != nil {
			return "", err
		}
		read = append(read, times...)
	}
	if err := r.Store.KeepFacts(ctx, read...); err != nil {
		return "", err
	}
	if err := r.keepPorts(ctx, d, table); err != nil {
		return "", err
	}
	return table.Summary(), nil
}

// placedAs fills in what each channel counts as, also while nothing comes of it: the stream that it asks
// for as its camera declares it, else what came of it when it was read before.
func (r *Reader) placedAs(ctx context.Context, d store.Device, table *channel.Recorder) error {
	if len(table.Slots) == 0 {
		return nil
	}
	var at []netip.Addr
	for _, s := range table.Slots {
		if a, err := netip.ParseAddr(s.Address); err == nil {
			at = append(at, a)
		}
	}
	sources, err := r.Store.SourcesAt(ctx, d.SiteID, at)
	if err != nil {
		return err
	}
	ids := []int64{d.ID}
	for _, of := range sources {
		ids = append(ids, of.Device.ID)
	}
	known, err := site.Load(ctx, r.Store, d.SiteID, ids)
	if err != nil {
		return err
	}
	before, _ := site.Recorder.Of(known, d.ID)
	zone, err := time.LoadLocation(known.Site.Zone)
	if err != nil {
		zone = time.UTC
	}
	for i := range table.Slots {
		s := &table.Slots[i]
		of, profiles := facts.Holds(known, *s)
		s.As = channel.PlacedAs(*s, before, profiles)
		s.Measured = facts.ViewRates(known, of, zone)
	}
	return nil
}

// clock is what is kept of a recorder's time; its NTP service is asked too.
func (r *Reader) clock(ctx context.Context, d store.Device, reading clock.Reading, via string) ([]store.NewFact, error) {
	offset, err := ntp.Ask(ctx, r.Dialer.At(*d.Address))
	serves := err == nil
	if serves {
		if narrow, ok := reading.Offset.Meet(offset); ok {
			reading.Offset, via = narrow, via+", NTP"
		}
	}
	if err := facts.FitDrift(ctx, r.Store, d.ID, &reading); err != nil {
		return nil, err
	}
	return []store.NewFact{facts.Clock.New(d.ID, via, reading.At, reading), facts.ServesNTP.New(d.ID, "NTP", time.Now().UTC(), serves)}, nil
}

// keepPorts keeps what a recorder tells of the devices on its own ports: those that
// nothing here reaches are known by it alone.
func (r *Reader) keepPorts(ctx context.Context, rec store.Device, table channel.Recorder) error {
	if len(table.Ports) == 0 {
		return nil
	}
	devices, err := r.Store.Devices(ctx, rec.SiteID)
	if err != nil {
		return err
	}
	known := make(map[netip.Addr]int64, len(devices))
	for _, d := range slices.Backward(devices) {
		if d.Kind == identity.Camera && d.Address != nil {
			known[*d.Address] = d.ID
		}
	}
	var hang []int64
	for _, p := range table.Ports {
		if at, err := netip.ParseAddr(p.Address); err == nil && p.Linked && known[at] != 0 {
			hang = append(hang, known[at])
		}
	}
	had, err := r.Store.FactsOf(ctx, hang)
	if err != nil {
		return err
	}
	var judge []int64
	var told store.Writes
	var fresh []store.NewDevice
	var freshSeen []identity.Sighting
	for _, p := range table.Ports {
		at, err := netip.ParseAddr(p.Address)
		if err != nil || !p.Linked {
			continue
		}
		s := identity.Sighting{Address: at, At: table.At, Ways: []identity.Way{identity.OnAPort},
			UUID: identity.CleanUUID(p.UUID), MAC: identity.CleanMAC(p.MAC), Make: p.Make, Model: p.Model, Kind: identity.Camera}
		id := known[at]
		if id == 0 {
			fresh = append(fresh, store.NewDevice{RecorderID: &rec.ID,
				Device: store.Device{SiteID: rec.SiteID, Kind: identity.Camera,
					Place: fmt.Sprintf("%s port %d", rec.Place, p.Number), Make: p.Make, Model: p.Model, Address: &at}})
			freshSeen = append(freshSeen, s)
			continue
		}
		was, heard, err := facts.Seen.From(had[id])
		if err != nil {
			return err
		}
		if heard && !was.Heard(identity.OnAPort) {
			continue // it was heard from here, which tells more
		}
		judge = append(judge, id)
		told.Said, told.Facts = append(told.Said, store.Identity{Device: id, Seen: s}), append(told.Facts,
			facts.Seen.New(id, "channel table", table.At, s))
	}
	ids, err := r.Store.AddDevices(ctx, rec.SiteID, fresh)
	if err != nil {
		return err
	}
	for i, id := range ids {
		judge = append(judge, id)
		told.Said, told.Facts = append(told.Said, store.Identity{Device: id, Seen: freshSeen[i]}), append(told.Facts,
			facts.Seen.New(id, "channel table", table.At, freshSeen[i]))
	}
	if err := r.Store.Write(ctx, told); err != nil {
		return err
	}
	return r.Engine.Judge(ctx, rec.SiteID, append([]int64{}, judge...))
}

// ReadOf reads the visit's recorder; of a camera the one that holds its view, or is planned for it.
func (r *Reader) ReadOf(ctx context.Context, v *engine.Visit) (string, error) {
	if v.Device.Kind == identity.Recorder {
		return r.Read(ctx, v.Device)
	}
	s, err := v.Snapshot(ctx)
	if err != nil {
		return "", err
	}
	rec, _, ok := s.HolderOf(v.Source)
	if !ok {
		return "", trouble.UserError("No recorder is planned for " + v.Source.Place + ".")
	}
	return r.Read(ctx, rec)
}

// Holding reads the recorder of the visit's view afresh and finds the slot that holds it; nil where
// none does.
func (r *Reader) Holding(ctx context.Context, v *engine.Visit) (store.Device, *channel.Slot, error) {
	s, err := v.Snapshot(ctx)
	if err != nil {
		return store.Device{}, nil, err
	}
	rec, _, ok := s.HolderOf(v.Source)
	if !ok {
		return store.Device{}, nil, trouble.UserError("No recorder is planned for " + v.Source.Place + ".")
	}
	if _, err := r.Read(ctx, rec); err != nil {
		return rec, nil, err
	}
	if s, err = v.Snapshot(ctx); err != nil {
		return rec, nil, err
	}
	rec, slot, _ := s.HolderOf(v.Source)
	return rec, slot, nil
}

// KeepInputs reads what a view's channel hears; where no channel holds it there is
// nothing to read.
func (r *Reader) KeepInputs(ctx context.Context, v *engine.Visit) error {
	rec, slot, err := r.Holding(ctx, v)
	if err != nil || slot == nil {
		return err
	}
	c, err := r.Accounts.Recorder(ctx, rec)
	if err != nil {
		return err
	}
	defer c.Close()
	in, err := c.Inputs(ctx, slot.Number)
	if err != nil {
		return err
	}
	return r.Store.KeepFacts(ctx, facts.Inputs.New(v.Source, "GET /api/channels/n/inputs", time.Now().UTC(), in))
}

// Slot reads one channel of a recorder now; taken is false where nothing holds it.
func Slot(ctx context.Context, c recorder.Driver, number int) (s channel.Slot, taken bool, err error) {
	table, _, err := c.Status(ctx)
	if i := slices.IndexFunc(table.Slots, func(s channel.Slot) bool { return s.Number == number }); i >= 0 {
		return table.Slots[i], true, err
	}
	return channel.Slot{}, false, err
}

// Named opens the recorder that a change's argument names.
func (r *Reader) Named(ctx context.Context, s *site.Snapshot, id string) (recorder.Driver, error) {
	n, err := strconv.ParseInt(id, 10, 64)
	if err != nil {
		return nil, fmt.Errorf("recorders: a change names no recorder: %w", err)
	}
	rec, ok := s.Device(n)
	if !ok || rec.Kind != identity.Recorder {
		return nil, trouble.UserError("That recorder was taken off the site.")
	}
	return r.Accounts.Recorder(ctx, rec)
}
