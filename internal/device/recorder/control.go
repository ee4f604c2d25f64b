package recorder

import (
	"cmp"
	"context"
	"errors"
	"net/netip"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"duskyharbor/internal/core/access"
	"duskyharbor/internal/core/channel"
	"duskyharbor/internal/core/clock"
	"duskyharbor/internal/core/recording"
	"duskyharbor/internal/device/dial"
	"duskyharbor/internal/device/onvif"
)

// Control speaks to a recorder over ONVIF recording control: a channel is a recording that a job fills
// from a receiver, which takes the RTSP address of a stream. ONVIF numbers none of them: a recording
// that was made from here says its number in its source's identifier, which is its client's own
// (Recording Control, 5.3.1); others take the numbers that are left, in the order of their tokens.
type Control struct {
	unable
	c        *onvif.Client
	once     sync.Mutex
	services map[string]string
}

// controlLacks is what ONVIF recording control has no call for.
var controlLacks = []channel.Act{channel.ActPlan, channel.ActInputs, channel.ActStill, channel.ActLog}

// NewControl makes a driver of the device service at service.
func NewControl(host dial.Host, service, pin string, login dial.Login) (*Control, error) {
	c, err := onvif.New(host, service, onvif.Login{Username: login.Username, Password: login.Password, Scheme: access.Digest, Pin: pin, Try: login.Try})
	if err != nil {
		return nil, err
	}
	return &Control{unable: unable{host.Addr.String(), "ONVIF recording control has no call for it"}, c: c}, nil
}

// Via is the call of Status.
func (d *Control) Via() string { return "GetRecordings" }

// Pin is the fingerprint of the certificate that it showed.
func (d *Control) Pin() string { return d.c.Pin() }

// Close lets idle connections go.
func (d *Control) Close() { d.c.Close() }

func (d *Control) where(ctx context.Context) (map[string]string, error) {
	d.once.Lock()
	defer d.once.Unlock()
	if d.services != nil {
		return d.services, nil
	}
	all, _, err := d.c.Services(ctx)
	if err == nil && !onvif.RecordsOthers(all) {
		err = &dial.Error{Tried: "GetServices", On: d.on, Kind: dial.ErrNotSupported, Says: "it has no recording control and receivers (any more)"}
	}
	if err == nil {
		d.services = all
	}
	return all, err
}

// held is one channel as ONVIF tells it, in three parts.
type held struct {
	number int
	label  string
	marks  url.Values // that came with it from here
	rec    onvif.Recording
	job    onvif.Job
	from   onvif.Receiver
}

// ours begins a source's identifier that was given here.
const ours = "x-channel:"

// identifier is what a recording says of its channel, as its source's identifier.
func identifier(number int, profile, label string) string {
	return ours + url.Values{"number": {strconv.Itoa(number)}, "profile": {profile}, "label": {label}}.Encode()
}

// maxNumber is the highest channel number that is taken from an identifier.
const maxNumber = 4096

// table reads what it holds, by number.
func (d *Control) table(ctx context.Context) (services map[string]string, out []held, err error) {
	if services, err = d.where(ctx); err != nil {
		return nil, nil, err
	}
	recordings, err := d.c.Recordings(ctx, services)
	if err != nil {
		return nil, nil, err
	}
	jobs, err := d.c.Jobs(ctx, services)
	if err != nil {
		return nil, nil, err
	}
	receivers, err := d.c.Receivers(ctx, services)
	if err != nil {
		return nil, nil, err
	}
	return services, number(recordings, jobs, receivers), nil
}

// number joins recordings with what fills them, and numbers them: each number once.
func number(recordings []onvif.Recording, jobs []onvif.Job, receivers []onvif.Receiver) []held {
	slices.SortFunc(recordings, func(a, b onvif.Recording) int { return cmp.Compare(a.Token, b.Token) })
	taken := map[int]bool{}
	out := make([]held, len(recordings))
	for i, r := range recordings {
		h := held{rec: r}
		if text, ok := strings.CutPrefix(r.SourceID, ours); ok {
			h.marks, _ = url.ParseQuery(text)
			h.label = dial.CleanText(h.marks.Get("label"), 64)
			if n, err := strconv.Atoi(h.marks.Get("number")); err == nil && n > 0 && n <= maxNumber && !taken[n] {
				h.number, taken[n] = n, true
			}
		}
		if k := slices.IndexFunc(jobs, func(j onvif.Job) bool { return j.Recording == r.Token }); k >= 0 {
			h.job = jobs[k]
			if m := slices.IndexFunc(receivers, func(x onvif.Receiver) bool { return x.Token == h.job.Receiver }); m >= 0 {
				h.from = receivers[m]
			}
		}
		out[i] = h
	}
	next := 1
	for i := range out {
		for ; out[i].number == 0; next++ {
			if !taken[next] {
				out[i].number, taken[next] = next, true
			}
		}
	}
	slices.SortFunc(out, func(a, b held) int { return a.number - b.number })
	return out
}

// statesAtOnce is how many jobs are asked at a time how they stand.
const statesAtOnce = 8

// Status reads limits, recordings and how their jobs stand, and its clock.
func (d *Control) Status(ctx context.Context) (channel.Recorder, clock.Reading, error) {
	none := channel.Recorder{}
	services, all, err := d.table(ctx)
	if err != nil {
		return none, clock.Reading{}, err
	}
	info, err := d.c.Information(ctx)
	if err != nil {
		return none, clock.Reading{}, err
	}
	l, err := d.c.RecordingLimits(ctx, services)
	if err != nil {
		return none, clock.Reading{}, err
	}
	since, err := d.c.RecordedSince(ctx, services)
	if err != nil {
		return none, clock.Reading{}, err
	}
	reading, err := d.c.Time(ctx)
	if err != nil {
		return none, clock.Reading{}, err
	}
	states, err := d.states(ctx, services, all)
	if err != nil {
		return none, clock.Reading{}, err
	}
	r := channel.Recorder{At: reading.At, Name: info.Model, Make: info.Make, Model: info.Model, Serial: info.Serial, Firmware: info.Firmware, Slots: []channel.Slot{}, SetsTime: true, Speech: channel.OverONVIF, Cannot: controlLacks}
	most := l.Recordings
	for _, x := range []int{l.Jobs, l.Receivers} {
		if x > 0 && (x < most || most == 0) {
			most = x
		}
	}
	r.Limits = channel.Limits{Channels: min(most, maxNumber), MbitIn: l.TotalKbps / 1000, Codecs: l.Codecs,
		Ways: []channel.Way{{Name: channel.RTSP, Passes: []string{channel.PassVideo}}}}
	if !l.Dynamic && most > 0 {
		r.Cannot = append([]channel.Act{channel.ActPlace}, controlLacks...)
	}
	var ages []float64
	for i, h := range all {
		slot, age := h.slot(states[i], reading.Device), min(amount(h.rec.Hours), 876_000)
		slot.Recording.Age = &age
		r.Slots, ages = append(r.Slots, slot), append(ages, age)
	}
	r.Storage.Ages(ages)
	if !since.IsZero() {
		r.Storage.Oldest = amount(reading.Device.Sub(since).Hours() / 24)
	}
	return r, reading, nil
}

func (d *Control) states(ctx context.Context, services map[string]string, all []held) ([]onvif.JobState, error) {
	out, failed := make([]onvif.JobState, len(all)), make([]error, len(all))
	gate := make(chan struct{}, statesAtOnce)
	var wg sync.WaitGroup
	for i, h := range all {
		if h.job.Token == "" {
			continue
		}
		wg.Go(func() {
			gate <- struct{}{}
			defer func() { <-gate }()
			out[i], failed[i] = d.c.JobState(ctx, services, h.job.Token)
		})
	}
	wg.Wait()
	return out, errors.Join(failed...)
}

// slot is a channel as the table of channels has it.
func (h held) slot(s onvif.JobState, now time.Time) channel.Slot {
	out := channel.Slot{Number: h.number, Name: dial.CleanText(h.rec.Name, 64), Account: h.from.Username, Label: h.label, Since: now, Way: channel.RTSP,
		Over: "RTSP", Events: "none: a receiver takes pictures", Profile: dial.CleanText(h.marks.Get("profile"), 64), From: h.from.URI}
	if u, err := url.Parse(h.from.URI); err == nil {
		if at, err := netip.ParseAddr(u.Hostname()); err == nil {
			out.Address = at.String()
		}
		out.Port, _ = strconv.Atoi(cmp.Or(u.Port(), "554"))
	}
	switch {
	case h.job.Token == "":
		out.State, out.Detail = channel.Lost, "no job fills it"
	case !h.from.Connects || !h.job.Active:
		out.State, out.Paused, out.Detail = channel.Paused, true, "its receiver doesn't connect until it is told to"
	case s.State == "Active":
		out.State, out.Detail = channel.Receiving, "its job says that it is active"
	case s.State == "Error":
		out.State, out.Detail = channel.Lost, cmp.Or(s.Trouble, "its job says that it failed")
		if strings.Contains(s.Trouble, "401") {
			out.State = channel.Refused
		}
	case s.State == "Idle" || s.State == "PartiallyActive":
		out.State, out.Detail = channel.Connecting, cmp.Or(s.Trouble, "its job waits for pictures")
	default:
		out.State, out.Detail = channel.Lost, cmp.Or(s.Trouble, "its job says "+strconv.Quote(s.State))
	}
	out.Recording = recording.Slot{Now: map[bool]string{true: "record", false: "nothing"}[out.State == channel.Receiving]}
	return out
}

// at is the channel of a number.
func (d *Control) at(ctx context.Context, n int) (services map[string]string, h held, ok bool, err error) {
	services, all, err := d.table(ctx)
	i := slices.IndexFunc(all, func(h held) bool { return h.number == n })
	if err != nil || i < 0 {
		return services, h, false, err
	}
	return services, all[i], true, nil
}

func (d *Control) need(ctx context.Context, n int, tried string) (map[string]string, held, error) {
	services, h, ok, err := d.at(ctx, n)
	if err == nil && !ok {
		err = &dial.Error{Tried: tried, On: d.on, Kind: dial.ErrRefused, Says: "channel " + strconv.Itoa(n) + " is free", Beyond: true}
	}
	return services, h, err
}

// Place makes a recording, a receiver and a job; what was made of them goes again where one fails.
func (d *Control) Place(ctx context.Context, n int, p Placement) (err error) {
	if p.URI == "" {
		return &dial.Error{Tried: "placing a camera", On: d.on, Kind: dial.ErrNotSupported, Says: "a receiver takes the address of a stream, and none is known"}
	}
	services, h, taken, err := d.at(ctx, n)
	if err != nil {
		return err
	}
	rec := onvif.Recording{Token: h.rec.Token, SourceID: identifier(n, p.Profile, p.Label), Name: p.Name, Location: p.Name, Address: p.Address, Content: p.Name, Hours: h.rec.Hours}
	from := onvif.Receiver{Token: h.from.Token, URI: p.URI, Connects: true}
	login := onvif.ReceiverLogin{Username: p.Username, Password: p.Password}
	if taken && h.from.Token != "" && h.from.URI == p.URI {
		if err := d.c.ConfigureReceiver(ctx, services, from, login); err != nil {
			return err
		}
		return d.c.SetRecording(ctx, services, rec)
	}
	if taken {
		return &dial.Error{Tried: "placing a camera", On: d.on, Kind: dial.ErrRefused, Says: "channel " + strconv.Itoa(n) + " holds " + h.rec.Name, Beyond: true}
	}
	var made held
	defer func() {
		if err != nil {
			ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), onvif.CallLimit)
			defer cancel()
			_ = d.drop(ctx, services, made)
		}
	}()
	if made.from.Token, err = d.c.CreateReceiver(ctx, services, from, login); err != nil {
		return err
	}
	if made.rec.Token, err = d.c.CreateRecording(ctx, services, rec); err != nil {
		return err
	}
	made.job.Token, err = d.c.CreateJob(ctx, services, onvif.Job{Recording: made.rec.Token, Receiver: made.from.Token, Active: true})
	return err
}

// drop deletes what a channel is made of; the first that fails is told, the others are tried.
func (d *Control) drop(ctx context.Context, services map[string]string, h held) error {
	var failed []error
	for _, x := range []struct {
		token string
		by    func(context.Context, map[string]string, string) error
	}{{h.job.Token, d.c.DeleteJob}, {h.rec.Token, d.c.DeleteRecording}, {h.from.Token, d.c.DeleteReceiver}} {
		if x.token != "" {
			failed = append(failed, x.by(ctx, services, x.token))
		}
	}
	return errors.Join(failed...)
}

// Remove deletes a channel's job, recording and receiver: what was recorded goes too.
func (d *Control) Remove(ctx context.Context, n int) error {
	services, h, ok, err := d.at(ctx, n)
	if err != nil || !ok {
		return err
	}
	return d.drop(ctx, services, h)
}

// Rename gives a recording's source another name.
func (d *Control) Rename(ctx context.Context, n int, name string) error {
	services, h, err := d.need(ctx, n, "naming a channel")
	if err != nil {
		return err
	}
	h.rec.Name, h.rec.Location, h.rec.Content = name, name, name
	return d.c.SetRecording(ctx, services, h.rec)
}

// SetAccount gives a receiver another account.
func (d *Control) SetAccount(ctx context.Context, n int, username, password, label string) error {
	services, h, err := d.need(ctx, n, "changing a channel's account")
	if err != nil {
		return err
	}
	if err := d.c.ConfigureReceiver(ctx, services, h.from, onvif.ReceiverLogin{Username: username, Password: password}); err != nil {
		return err
	}
	h.rec.SourceID = identifier(n, h.marks.Get("profile"), label)
	return d.c.SetRecording(ctx, services, h.rec)
}

// Pause keeps a receiver from connecting, or lets it connect again.
func (d *Control) Pause(ctx context.Context, n int, on bool) error {
	services, h, err := d.need(ctx, n, "pausing a channel")
	if err != nil {
		return err
	}
	return d.c.SetReceiverMode(ctx, services, h.from.Token, !on)
}

// SetAge has each recording keep so many days at most.
func (d *Control) SetAge(ctx context.Context, days int) error {
	services, all, err := d.table(ctx)
	if err != nil {
		return err
	}
	for _, h := range all {
		h.rec.Hours = 24 * float64(days)
		if err := d.c.SetRecording(ctx, services, h.rec); err != nil {
			return err
		}
	}
	return nil
}

// SetClock sets its clock once (SetSystemDateAndTime).
func (d *Control) SetClock(ctx context.Context, utc time.Time) error {
	now, err := d.c.Time(ctx)
	if err != nil {
		return err
	}
	return d.c.SetTime(ctx, false, now.Zone, now.Daylight, utc)
}

// Restart starts it again.
func (d *Control) Restart(ctx context.Context) error { return d.c.Reboot(ctx) }
