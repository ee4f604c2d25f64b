package stages

import (
	"duskyharbor/internal/act"
	"duskyharbor/internal/core/finding"
	"duskyharbor/internal/core/trouble"
	"duskyharbor/internal/facts"
	"duskyharbor/internal/store"
)

// Device names a device, in an act's arguments.
type Device struct {
	ID int64 `form:"device" json:"device_id"`
}

// Devices is the one.
func (x Device) Devices() []int64 { return []int64{x.ID} }

// Opened plans one change of a device that an account opens; where none does, it says so.
func (x Device) Opened(s *act.Seen, c finding.Change) (p act.Planned, err error) {
	d, ok := s.Device(x.ID)
	if !ok {
		return p, store.ErrNotFound
	}
	if _, open := facts.Account.Of(s.Snapshot, d.ID); !open {
		return p, trouble.UserError("No account opens " + d.Place + ": sign in to it first.")
	}
	p.Title = d.Place + ": " + c.Title
	p.Add(s.Snapshot.Of(d), []finding.Change{c})
	return p, nil
}
