package store

import (
	"context"
	"net/netip"
	"strconv"
	"time"

	"github.com/jackc/pgx/v5"

	"duskyharbor/internal/core/channel"
	"duskyharbor/internal/core/fact"
	"duskyharbor/internal/core/identity"
)

func itoa(n int64) string { return strconv.FormatInt(n, 10) }

// Device is a camera or recorder of a site.
type Device struct {
	ID         int64
	SiteID     int64
	Kind       identity.Kind
	Place      string
	Make       string
	Model      string
	Address    *netip.Addr
	ExpectedAt *netip.Addr
	Expected   bool
	UUID       string
	MAC        string
	Serial     string
	SetID      *int64
	OpenedSet  *int64         // what opened it
	Ours       *identity.Word // a person's word that what answers is of this site; nil: none
	BasicFor   *identity.Word // what a person allowed a password in clear; nil: nothing
	Refused    []int64        // sets that it refused at last: nothing sends them again by itself
	Paths      []string       // where its streams are had by RTSP, as a person named them, see stream.ParsePaths
	Views      int            // how many of its video sources were picked; 0: nobody decided
	Tries      int64          // sign-ins that were ever begun, see BeginTry
	Version    int64
	Bench      *channel.Bench   // a recorder that is set up by hand; nil: it has an interface
	Cascade    *channel.Cascade // a recorder that takes other recorders' channels; nil: it takes cameras
}

// Known is the device as identity reconciles it.
func (d Device) Known() identity.Known {
	k := identity.Known{ID: d.ID, Place: d.Place, UUID: d.UUID, MAC: d.MAC, Serial: d.Serial, Make: d.Make,
		Model: d.Model, Kind: d.Kind, Expected: d.Expected}
	switch {
	case d.Address != nil:
		k.Address = *d.Address
	case d.ExpectedAt != nil:
		k.Address = *d.ExpectedAt
	}
	return k
}

// AllowsBasic says whether a person allowed a password in clear to what is seen.
func (d Device) AllowsBasic(s identity.Sighting) bool {
	return d.BasicFor != nil && d.BasicFor.Holds(s)
}

const deviceColumns = `d.id, d.site_id, d.kind, d.place, d.make, d.model, d.address, d.expected_at, d.expected, d.uuid, d.mac, d.serial, d.set_id, d.opened_set, d.ours, d.basic_for, d.refused, d.paths, d.views, d.tries, d.version, d.bench, d.cascade`

// Devices lists a site's devices, cameras in the list's order.
func (s *Store) Devices(ctx context.Context, site int64) ([]Device, error) {
	return queryAll[Device](ctx, s.db, `select `+deviceColumns+` from device d where d.site_id = $1 order by d.position, d.id`, site)
}

// CameraIDs lists the numbers of a site's cameras in the list's order.
func (s *Store) CameraIDs(ctx context.Context, site int64) ([]int64, error) {
	return ids(ctx, s.db, `select id from device where site_id = $1 and kind = 'camera' order by position, id`, site)
}

// Missing lists cameras that are expected and didn't answer, at most limit.
func (s *Store) Missing(ctx context.Context, site int64, limit int) ([]Device, error) {
	return queryAll[Device](ctx, s.db, `select `+deviceColumns+` from device d where d.site_id = $1 and d.kind = 'camera' and d.expected
		and not `+has(fact.Seen, "")+` order by d.position, d.id limit $2`, site, limit)
}

// Hanging lists the cameras that hang on a recorder: one of their views is planned for it,
// or they are at one of these addresses.
func (s *Store) Hanging(ctx context.Context, recorder Device, at []netip.Addr) ([]int64, error) {
	return ids(ctx, s.db, `select d.id from device d where d.site_id = $1 and d.kind = 'camera' and (d.address = any($3)
		or exists (select 1 from source s where s.device_id = d.id and s.recorder_id = $2))`, recorder.SiteID, recorder.ID, at)
}

// SourcesAt lists the views of a site's cameras at these addresses.
func (s *Store) SourcesAt(ctx context.Context, site int64, at []netip.Addr) ([]Source, error) {
	return querySources(ctx, s.db, `where d.site_id = $1 and d.kind = 'camera' and d.address = any($2) order by d.position, d.id, s.nth`, site, at)
}

// OpenedAlike lists the sets that opened others of a make, and others in a network,
// the newest first, at most eight each.
func (s *Store) OpenedAlike(ctx context.Context, site int64, maker string, near netip.Prefix) (ofMake, inNetwork []int64, err error) {
	got, err := s.coalesced.alike.Call(ctx, alike{site, maker, near})
	return got[0], got[1], err
}

// Device finds one device.
func (s *Store) Device(ctx context.Context, id int64) (Device, error) {
	v, err := s.Source(ctx, Target{Device: id})
	return v.Device, err
}

// NewDevice is a device to be added; a camera with the recorder and channel that are
// planned for its first view.
type NewDevice struct {
	Device
	RecorderID *int64
	Channel    int
	Input      int // see Source
}

// AddDevice adds a device; a camera gets its first view.
func (s *Store) AddDevice(ctx context.Context, d Device) (int64, error) {
	all, err := s.AddDevices(ctx, d.SiteID, []NewDevice{{Device: d}})
	if err != nil {
		return 0, err
	}
	return all[0], nil
}

// AddDevices adds many devices in one batch and returns their numbers in order.
func (s *Store) AddDevices(ctx context.Context, site int64, all []NewDevice) ([]int64, error) {
	if len(all) == 0 {
		return nil, nil
	}
	out := make([]int64, len(all))
	return out, s.InTx(ctx, func(tx pgx.Tx) error {
		var last int
		if err := tx.QueryRow(ctx, `select coalesce(max(position), 0) from device where site_id = $1`, site).Scan(&last); err != nil {
			return err
		}
		b := &pgx.Batch{}
		for i, d := range all {
			b.Queue(`with d as (insert into device (site_id, kind, place, make, model, address, expected_at, expected, uuid, mac, serial, set_id, position)
				values ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12, $13) returning id),
				src as (insert into source (device_id, site_id, name, recorder_id, channel, input) select id, $1, $3, $14, $15, $16 from d where $2 = 'camera')
				select id from d`, site, d.Kind, d.Place, d.Make, d.Model, d.Address, d.ExpectedAt, d.Expected, d.UUID, d.MAC, d.Serial, d.SetID, last+1+i, d.RecorderID, d.Channel, d.Input).
				QueryRow(func(row pgx.Row) error { return row.Scan(&out[i]) })
		}
		return tx.SendBatch(ctx, b).Close()
	})
}

// Identity is what a device says of itself, to be written where it wasn't known, and
// where it was reached.
type Identity struct {
	Device int64
	Seen   identity.Sighting
}

// KeepSummary writes what a look at a network heard.
func (s *Store) KeepSummary(ctx context.Context, network int64, at time.Time, l Summary) error {
	_, err := s.db.Exec(ctx, `update network set looked_at = $2, look = $3 where id = $1`, network, at, l)
	return err
}
