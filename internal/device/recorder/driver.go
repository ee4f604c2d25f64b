package recorder

import (
	"context"
	"time"

	"duskyharbor/internal/core/channel"
	"duskyharbor/internal/core/clock"
	"duskyharbor/internal/core/recording"
	"duskyharbor/internal/core/route"
	"duskyharbor/internal/device/dial"
)

// Driver speaks to one recorder in the way in which it can be spoken to: Client over the recorder
// interface, Control over ONVIF recording control, Sheet not at all, by what a person typed there and
// what can be seen from outside. What a recorder can't do so stands in its table (Recorder.Cannot),
// and its call gives an error of the kind dial.ErrNotSupported, so that a page says it before:
//
//	table, reading, err := d.Status(ctx)
//	if !table.Lacks(channel.ActPlan) {
//		err = d.SetPlan(ctx, 3, plan)
//	}
//
// A Driver may be used by several goroutines.
type Driver interface {
	// Status reads name, limits and channel table; the reading is of its clock, and zero where it
	// doesn't tell that.
	Status(context.Context) (channel.Recorder, clock.Reading, error)
	// Place puts a camera on a channel; doing it again with the same camera changes nothing.
	Place(ctx context.Context, number int, p Placement) error
	// Remove takes a camera off a channel.
	Remove(ctx context.Context, number int) error
	// Rename gives a channel another name.
	Rename(ctx context.Context, number int, name string) error
	// SetAccount gives a channel another account; label comes back in the channel table.
	SetAccount(ctx context.Context, number int, username, password, label string) error
	// Pause keeps a channel from signing in until it is resumed; on false resumes it.
	Pause(ctx context.Context, number int, on bool) error
	// SetPlan has a channel keep by a plan, SetAge the recorder delete what is older than so many
	// days; 0: it keeps until it is full.
	SetPlan(ctx context.Context, number int, p recording.Plan) error
	SetAge(ctx context.Context, days int) error
	// Still is the last picture of a channel, as bytes that must still be checked.
	Still(ctx context.Context, number int) ([]byte, error)
	// Inputs reads what a channel can hear and what is pegged to it; SetInput pegs exactly these.
	Inputs(ctx context.Context, number int) (route.Inputs, error)
	SetInput(ctx context.Context, number int, input string, topics []string) error
	// Events waits up to wait for log entries after a sequence number; −1 asks only where it stands.
	Events(ctx context.Context, after int64, wait time.Duration) (entries []Entry, next int64, err error)

	SetAnalog(ctx context.Context, number int, on bool) error
	SetClock(ctx context.Context, utc time.Time) error
	Restart(context.Context) error
	RestartServices(context.Context) error
	RenewList(context.Context) error
	AllowOthers(ctx context.Context, allow bool) error

	// Via names the call by which Status reads, Pin the certificate that was shown; empty: none.
	Via() string
	Pin() string
	Close()
}

// Via is the call of Status.
func (c *Client) Via() string { return "GET /api/status" }

// unable is a recorder that can't be told anything: what a driver embeds.
type unable struct {
	on   string
	says string
}

func (u unable) no(what string) error {
	return &dial.Error{Tried: what, On: u.on, Kind: dial.ErrNotSupported, Says: u.says}
}

func (u unable) Place(context.Context, int, Placement) error        { return u.no("placing a camera") }
func (u unable) Remove(context.Context, int) error                  { return u.no("taking a camera out") }
func (u unable) Rename(context.Context, int, string) error          { return u.no("naming a channel") }
func (u unable) Pause(context.Context, int, bool) error             { return u.no("pausing a channel") }
func (u unable) SetPlan(context.Context, int, recording.Plan) error { return u.no("writing a plan") }
func (u unable) SetAge(context.Context, int) error                  { return u.no("deleting by age") }
func (u unable) SetInput(context.Context, int, string, []string) error {
	return u.no("pegging an input")
}
func (u unable) SetAnalog(context.Context, int, bool) error { return u.no("switching an input") }
func (u unable) SetClock(context.Context, time.Time) error  { return u.no("setting its clock") }
func (u unable) Restart(context.Context) error              { return u.no("starting it again") }
func (u unable) RestartServices(context.Context) error      { return u.no("starting its services again") }
func (u unable) RenewList(context.Context) error            { return u.no("renewing its list of models") }
func (u unable) AllowOthers(context.Context, bool) error    { return u.no("allowing other makes") }

func (u unable) SetAccount(context.Context, int, string, string, string) error {
	return u.no("changing a channel's account")
}

func (u unable) Still(context.Context, int) ([]byte, error) {
	return nil, u.no("reading a channel's picture")
}

func (u unable) Inputs(context.Context, int) (route.Inputs, error) {
	return route.Inputs{}, u.no("reading what a channel hears")
}

func (u unable) Events(context.Context, int64, time.Duration) ([]Entry, int64, error) {
	return nil, 0, u.no("reading what it heard")
}
