package site

import (
	"bytes"
	"fmt"
	"strconv"
	"time"

	json "github.com/go-json-experiment/json/v1"

	"duskyharbor/internal/core/channel"
	"duskyharbor/internal/core/fact"
	"duskyharbor/internal/core/stream"
	"duskyharbor/internal/store"
)

// Fact is the typed key of a device's fact: its name, and the type that its value has as JSON.
// A stage of one's own makes its own keys:
//
//	var lens = site.Fact[Lens]{Name: "lens.reading"}
//	err := st.KeepFacts(ctx, lens.New(d.ID, "GetLens", now, l)) // when it was read
//	l, ok := lens.Of(snapshot, d.ID)                            // when it is judged
type Fact[T any] struct{ Name string }

// SourceFact is the typed key of a fact of one view of a device. Each of a device's views
// has its own.
type SourceFact[T any] struct{ Name string }

// Keys of the facts that a reading itself rests on: who holds what, and by which of its profiles.
var (
	Profiles = Fact[[]stream.Profile]{Name: fact.Profiles}
	Recorder = Fact[channel.Recorder]{Name: fact.Recorder} // a recorder's status and channel table
	Reached  = Fact[fact.LastRead]{Name: fact.Reached}     // the last reading of a recorder
)

// kept names a decoded fact of one device, or of one of its views.
type kept struct {
	device, view int64
	name         string
}

// Of is the fact of a device, decoded at its first reading of the snapshot and kept
// from then on: it is shared and must not be written. ok is false where it isn't there,
// or can't be decoded, which Snapshot.Err tells.
func (f Fact[T]) Of(s *Snapshot, device int64) (value T, ok bool) {
	return decoded[T](s, s.facts[device], f.Name)
}

// Of is the fact of a view, as Fact.Of.
func (f SourceFact[T]) Of(s *Snapshot, of Source) (value T, ok bool) {
	return decoded[T](s, s.ofView[of.ID], f.Name)
}

func decoded[T any](s *Snapshot, facts store.Facts, name string) (value T, ok bool) {
	raw, there := facts[name]
	if !there {
		return value, false
	}
	key := kept{raw.DeviceID, raw.View, name}
	if had, decoded := s.decoded[key]; decoded {
		value, ok = had.(T)
		return value, ok
	}
	if had, ok := before[T](s.had, key, raw); ok {
		s.decoded[key] = had
		return had, true
	}
	if err := json.Unmarshal(raw.Value, &value); err != nil {
		s.bad = append(s.bad, fmt.Errorf("site: fact %s of device %d: %w", name, raw.DeviceID, err))
		s.decoded[key] = nil
		var zero T
		return zero, false
	}
	s.decoded[key] = value
	return value, true
}

// before is a fact as an earlier snapshot decoded it, where it is the same.
func before[T any](had *Snapshot, key kept, raw store.Fact) (value T, ok bool) {
	if had == nil {
		return value, false
	}
	if value, ok = had.decoded[key].(T); !ok {
		return value, false
	}
	was := had.facts[key.device][key.name]
	if key.view != 0 {
		was = had.ofView[key.view][key.name]
	}
	return value, bytes.Equal(was.Value, raw.Value)
}

// From decodes the fact from what was read of one device without a snapshot.
func (f Fact[T]) From(facts store.Facts) (value T, ok bool, err error) {
	raw, there := facts[f.Name]
	if !there {
		return value, false, nil
	}
	if err := json.Unmarshal(raw.Value, &value); err != nil {
		return value, false, fmt.Errorf("site: fact %s of device %d: %w", f.Name, raw.DeviceID, err)
	}
	return value, true, nil
}

// ReadAt tells when the fact was read, zero when it wasn't.
func (f Fact[T]) ReadAt(s *Snapshot, device int64) time.Time { return s.facts[device][f.Name].ReadAt }

// ReadAt tells when the fact was read, zero when it wasn't.
func (f SourceFact[T]) ReadAt(s *Snapshot, of Source) time.Time {
	return s.ofView[of.ID][f.Name].ReadAt
}

// New is the fact with a value, to be kept: via is the call that read it at at.
func (f Fact[T]) New(device int64, via string, at time.Time, value T) store.NewFact {
	return store.NewFact{Device: device, Name: f.Name, Via: via, At: at, Value: value}
}

// New is the fact with a value, to be kept of a view, as Fact.New.
func (f SourceFact[T]) New(of Source, via string, at time.Time, value T) store.NewFact {
	return store.NewFact{Device: of.Device.ID, View: of.ID, Name: f.Name, Via: via, At: at, Value: value}
}

// As reckons something of a device as the snapshot has it once, as Once does; of a device that was read at another time, or is
// looked at as if it were elsewhere, it is reckoned anew.
func As[T any](s *Snapshot, name string, d store.Device, reckon func() T) T {
	own, ok := s.Device(d.ID)
	if !ok || own.Version != d.Version || own.Tries != d.Tries || (own.Address == nil) != (d.Address == nil) || d.Address != nil && *own.Address != *d.Address {
		return reckon()
	}
	return Once(s, name, d.ID, reckon)
}

// OfSource is As of one view.
func OfSource[T any](s *Snapshot, name string, of Source, reckon func() T) T {
	return As(s, name+" "+strconv.FormatInt(of.ID, 10), of.Device, reckon)
}

// Once reckons something of a device at its first use in a snapshot and keeps it from then on: it is shared and must
// not be written. What it is has a name of its own, which no fact has.
func Once[T any](s *Snapshot, name string, device int64, reckon func() T) T {
	key := kept{device: device, name: name}
	if had, ok := s.decoded[key].(T); ok {
		return had
	}
	value := reckon()
	s.decoded[key] = value
	return value
}
