package store

import (
	"context"
	"encoding/json"
	"fmt"
	"time"
)

// Fact is one fact of a device, or of one of its views, as read: its value in JSON, when,
// and by which call.
type Fact struct {
	DeviceID int64
	View     int64 // the source's number; 0: the device's own
	Name     string
	Value    json.RawMessage
	Via      string
	ReadAt   time.Time
}

// Facts is a device's current facts by name.
type Facts map[string]Fact

// Into decodes a fact; false when it isn't there.
func (f Facts) Into(name string, v any) (bool, error) {
	x, ok := f[name]
	if !ok {
		return false, nil
	}
	if err := json.Unmarshal(x.Value, v); err != nil {
		return false, fmt.Errorf("store: fact %s of device %d: %w", name, x.DeviceID, err)
	}
	return true, nil
}

// NewFact is a fact to be kept.
type NewFact struct {
	Device int64
	View   int64 // the source that it is of; 0: the device itself
	Name   string
	Via    string // the call that read it
	At     time.Time
	Value  any
}

// KeepFact writes a fact: the current row always, a row of history when the value
// changed (when it was read, "at", aside). The device's version grows with it.
func (s *Store) KeepFact(ctx context.Context, device int64, name, via string, at time.Time, value any) error {
	return s.KeepFacts(ctx, NewFact{Device: device, Name: name, Via: via, At: at, Value: value})
}

// KeepFacts writes many facts whole or not at all, as KeepFact does.
func (s *Store) KeepFacts(ctx context.Context, all ...NewFact) error {
	return s.Write(ctx, Writes{Facts: all})
}

// DropFactOf forgets a current fact of views; its history stays.
func (s *Store) DropFactOf(ctx context.Context, name string, sources ...int64) error {
	_, err := s.db.Exec(ctx, `delete from fact f using source s where s.id = any($1) and f.device_id = s.device_id and f.view = s.id and f.name = $2`, sources, name)
	return err
}

// FactsOf reads the current facts of devices, without those of their views, in one query.
func (s *Store) FactsOf(ctx context.Context, devices []int64) (map[int64]Facts, error) {
	rows, err := queryAll[Fact](ctx, s.db, `select device_id, view, name, value, via, read_at from fact where device_id = any($1) and view = 0`, devices)
	if err != nil {
		return nil, err
	}
	out := map[int64]Facts{}
	for _, id := range devices {
		out[id] = Facts{}
	}
	for _, r := range rows {
		out[r.DeviceID][r.Name] = r
	}
	return out, nil
}

// FactsOfSource reads the current facts of one view and of its device, by name; ErrNotFound where the site has no
// such view.
func (s *Store) FactsOfSource(ctx context.Context, site, source int64) ([]Fact, error) {
	of, err := s.SourceByID(ctx, source)
	if err == nil && of.Device.SiteID != site {
		err = ErrNotFound
	}
	if err != nil {
		return nil, err
	}
	return queryAll[Fact](ctx, s.db, `select device_id, view, name, value, via, read_at from fact where device_id = $1 and view in (0, $2) order by name, view`, of.Device.ID, source)
}

// History reads how a fact of a device changed, newest first, at most limit rows.
func (s *Store) History(ctx context.Context, device int64, name string, limit int) ([]Fact, error) {
	return s.coalesced.past.Call(ctx, pastOf{device, name, limit})
}

// Named is one fact of every device of a site that has it, by device.
func Named[T any](ctx context.Context, s *Store, site int64, name string) (map[int64]T, error) {
	type row struct {
		DeviceID int64
		Value    json.RawMessage
	}
	rows, err := queryAll[row](ctx, s.db, `select f.device_id, f.value from fact f join device d on d.id = f.device_id where d.site_id = $1 and f.name = $2 and f.view = 0`, site, name)
	if err != nil {
		return nil, err
	}
	out := make(map[int64]T, len(rows))
	for _, r := range rows {
		var v T
		if err := json.Unmarshal(r.Value, &v); err != nil {
			return nil, fmt.Errorf("store: fact %s of device %d: %w", name, r.DeviceID, err)
		}
		out[r.DeviceID] = v
	}
	return out, nil
}
