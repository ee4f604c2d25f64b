package channels

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"duskyharbor/internal/act"
	"duskyharbor/internal/core/channel"
	"duskyharbor/internal/core/finding"
	"duskyharbor/internal/core/identity"
	"duskyharbor/internal/core/stage"
	"duskyharbor/internal/core/trouble"
	"duskyharbor/internal/site"
	"duskyharbor/internal/store"
)

// Acts of the stage.
func (c *Stage) Acts() []act.Any {
	const on = stage.Channels
	return slices.Concat([]act.Any{
		act.Act[Input]{Name: "channels/input", About: "switch an analog input of a recorder", Stage: on, Plan: planInput},
		act.Act[Room]{Name: "channels/room", About: "give a recorder channels, or restart it for what waits", Stage: on, Plan: planRoom},
		act.Act[Recorder]{Name: "channels/models", About: "have a recorder know newer models", Stage: on, Plan: planModels},
		act.Act[Others]{Name: "channels/others", About: "have a recorder take other makes than its list's, or not", Stage: on, Plan: planOthers},
		act.Act[Spot]{Name: "channels/place", About: "put a camera on a channel", Stage: on, Plan: planPlace},
		act.Act[Proposed]{Name: "channels/proposed", About: "plan cameras for recorders, and put them on channels there", Stage: on, Keep: keepProposed, Plan: planProposed},
		act.Act[Channel]{Name: "channels/out", About: "take out what holds a channel", Stage: on, Plan: planOut},
		act.Act[Move]{Name: "cameras/move", About: "move cameras to another recorder or channel: each is taken out where it was once it is received there", Stage: on, Plan: planMove},
		act.Act[Leaving]{Name: "cameras/leave", About: "take cameras off the channels that hold them", Stage: on, Plan: planLeave},
		act.Act[Wish]{Name: "channels/wish", About: "say that a camera goes to no other recorder, and with whom it goes", Stage: on, Keep: keepWish},
		act.Act[Pair]{Name: "channels/take-over", About: "have a recorder take over another's channels", Stage: on, Plan: planTakeOver},
		act.Act[Retired]{Name: "channels/retire", About: "take out of a recorder what another one receives, may record and keeps", Stage: on, More: c.readOthers, Plan: planRetire},
		act.Act[Cascading]{Name: "channels/cascading", About: "say whether a recorder takes other recorders' channels, or cameras", Stage: on, Keep: keepCascading},
		act.Act[Cascade]{Name: "channels/cascade", About: "have a recorder take channels of others, or bring it in step with them", Stage: on, Plan: planCascade},
	}, benchActs())
}

// Recorder names a recorder.
type Recorder struct {
	ID int64 `form:"recorder" json:"recorder_id"`
}

// of is the recorder, with what it told last.
func (x Recorder) of(s *site.Snapshot) (store.Device, channel.Recorder, error) {
	i := slices.IndexFunc(s.Recorders(), func(d store.Device) bool { return d.ID == x.ID })
	if i < 0 {
		return store.Device{}, channel.Recorder{}, store.ErrNotFound
	}
	d := s.Recorders()[i]
	r, known := site.Recorder.Of(s, d.ID)
	if !known {
		return d, r, trouble.UserError(d.Place + " wasn't read yet: read it first.")
	}
	return d, r, nil
}

// together are changes of a recorder as a whole.
func together(d store.Device, title string, all ...finding.Change) act.Planned {
	p := act.Planned{Title: title}
	p.Add(d.Whole(), all)
	return p
}

func nothing(says string, args ...any) act.Planned {
	return act.Planned{Says: fmt.Sprintf(says, args...)}
}

// Input is an analog input of a recorder, and how it is to be.
type Input struct {
	Recorder
	Input int  `form:"input" json:"input"`
	On    bool `form:"on" json:"on"`
}

func planInput(_ time.Time, s *act.Seen, x Input) (act.Planned, error) {
	d, r, err := x.of(s.Snapshot)
	if err != nil {
		return act.Planned{}, err
	}
	ch, ok := r.Switch(d.ID, x.Input, x.On)
	if !ok {
		return nothing("Analog input %d of %s is set so already.", x.Input, d.Place), nil
	}
	return together(d, ch.Title, ch), nil
}

// MaxSlots is how many channels of a recorder are reckoned with: no recorder of today has more.
const MaxSlots = 256

// Room is for how many more cameras a recorder is to have channels.
type Room struct {
	Recorder
	More int `form:"more" json:"more,omitempty"`
}

func planRoom(_ time.Time, s *act.Seen, x Room) (act.Planned, error) {
	d, r, err := x.of(s.Snapshot)
	if err != nil {
		return act.Planned{}, err
	}
	all, _ := r.Room(d.ID, max(0, min(x.More, MaxSlots)))
	if waits := len(r.Pending()); len(all) == 0 && waits > 0 {
		all = []finding.Change{r.Restart(d.ID, waits)}
	}
	if len(all) == 0 {
		return nothing("Nothing waits for a restart of %s, and no analog input without a picture gives it more channels.", d.Place), nil
	}
	return together(d, "Channels of "+d.Place, all...), nil
}

func planModels(_ time.Time, s *act.Seen, x Recorder) (act.Planned, error) {
	d, r, err := x.of(s.Snapshot)
	if err != nil {
		return act.Planned{}, err
	}
	all := r.Renew(d.ID)
	if len(all) == 0 {
		return nothing("%s runs by the newest list of models already.", d.Place), nil
	}
	return together(d, "Models of "+d.Place, all...), nil
}

// Others says whether a recorder takes other makes than those of its list.
type Others struct {
	Recorder
	Allow bool `form:"allow" json:"allow"`
}

func planOthers(_ time.Time, s *act.Seen, x Others) (act.Planned, error) {
	d, r, err := x.of(s.Snapshot)
	if err != nil {
		return act.Planned{}, err
	}
	ch, ok := r.Others(d.ID, x.Allow)
	if !ok {
		return nothing("%s does so already.", d.Place), nil
	}
	return together(d, ch.Title, ch), nil
}

// Spot is a channel for a camera.
type Spot struct {
	act.Camera
	Recorder
	Channel int `form:"channel" json:"channel"`
}

// planPlace puts one source on the channel that a person chose; where a limit keeps it off, it is named.
func planPlace(now time.Time, s *act.Seen, x Spot) (act.Planned, error) {
	rec, r, err := x.Recorder.of(s.Snapshot)
	if err != nil {
		return act.Planned{}, err
	}
	if why := r.Chosen(x.Channel, rec.Place); why != "" {
		return nothing("%s", why), nil
	}
	of, err := s.The()
	if err != nil {
		return nothing("It isn't one of the site's any more."), nil
	}
	if holder, slot, ok := s.HolderOf(of); ok && slot != nil {
		return nothing("Channel %d of %s holds %s already.", slot.Number, holder.Place, of.Place), nil
	}
	f, w := factsOn(s.Snapshot, of, rec)
	w.Channel = x.Channel
	changes, limit := new(channel.Planner).On(now, f, w)
	p := act.Planned{Title: fmt.Sprintf("Channel %d of %s", x.Channel, rec.Place), Says: fmt.Sprintf("%s doesn't go on %s: %s.", of.Place, rec.Place, limit)}
	p.Add(of, changes)
	return p, nil
}

// Proposed are placements that are taken of a proposal.
type Proposed struct {
	Take []Taking `form:"take" json:"take"`
}

// Taking is a channel that a proposal gives a camera.
type Taking struct {
	Source   int64 `json:"camera_id"`
	Recorder int64 `json:"recorder_id"`
	Channel  int   `json:"channel"`
}

// UnmarshalParam reads a form's "camera:recorder:channel".
func (t *Taking) UnmarshalParam(text string) error {
	_, err := fmt.Sscanf(text, "%d:%d:%d", &t.Source, &t.Recorder, &t.Channel)
	return err
}

// Check is what is wrong with them.
func (x Proposed) Check() error {
	if len(x.Take) == 0 {
		return act.Wrong("take", "Tick which of them to place.")
	}
	if len(x.Take) > act.MaxPicks || len(x.by()) != len(x.Take) {
		return act.Wrongf("take", "Each camera is placed once, and at most %d are at once.", act.MaxPicks)
	}
	return nil
}

func (x Proposed) by() map[int64]Taking {
	out := map[int64]Taking{}
	for _, t := range x.Take {
		out[t.Source] = t
	}
	return out
}

// Selects are the cameras that are placed.
func (x Proposed) Selects(siteID int64) (store.Selection, error) {
	return store.Selection{Site: siteID, IDs: slices.Sorted(maps.Keys(x.by()))}, nil
}

// keepProposed plans the recorders that the placements are of.
func keepProposed(ctx context.Context, c *act.Call, x Proposed) (out act.Kept, err error) {
	by := map[int64][]int64{}
	for _, t := range x.Take {
		by[t.Recorder] = append(by[t.Recorder], t.Source)
	}
	for _, recorder := range slices.Sorted(maps.Keys(by)) { // one statement a recorder, of which there are a few
		judge, err := c.Store.Plan(ctx, c.Site.ID, recorder, by[recorder])
		if err != nil {
			return out, err
		}
		out.Judge = append(out.Judge, judge...)
		c.Audit("planned a recorder", fmt.Sprintf("%s for recorder %d", act.Count(len(by[recorder]), "camera"), recorder))
	}
	return out, nil
}

// planProposed puts those on their channels that can be placed now.
func planProposed(now time.Time, s *act.Seen, x Proposed) (p act.Planned, err error) {
	taken := x.by()
	var planner channel.Planner
	for _, of := range s.Of {
		rec, ok := s.Device(taken[of.ID].Recorder)
		if !ok {
			continue // it went from the site meanwhile, and what was planned for it with it
		}
		f, w := factsOn(s.Snapshot, of, rec)
		w.Channel = taken[of.ID].Channel
		changes, why := planner.On(now, f, w)
		if why != "" {
			p.Refuse(of.Place, why)
		}
		p.Add(of, changes)
	}
	p.Title = "Place " + act.Count(len(p.Of), "camera")
	p.Says = "They are planned so. None can be placed now: " + strings.Join(p.Cant[:min(len(p.Cant), 4)], " ")
	return p, nil
}

// Channel is a channel of a recorder.
type Channel struct {
	Recorder
	Channel int `form:"channel" json:"channel"`
}

// planOut takes off what holds a channel.
func planOut(_ time.Time, s *act.Seen, x Channel) (act.Planned, error) {
	d, r, err := x.of(s.Snapshot)
	if err != nil {
		return act.Planned{}, err
	}
	ch, ok := r.Out(d.ID, x.Channel)
	if !ok {
		return nothing("Channel %d of %s is free already.", x.Channel, d.Place), nil
	}
	steps, _, _ := CascadeSteps(s.Snapshot, d)
	if i := slices.IndexFunc(steps, func(o channel.Step) bool { return o.Held != nil && o.Held.Number == x.Channel }); i >= 0 {
		ch = steps[i].Unpicks(ch)
	}
	return together(d, "Take out: "+ch.Title, ch), nil
}

// maxTogether is how long the name of those that go together may be, in characters.
const maxTogether = 40

// Wish is where a camera may go.
type Wish struct {
	act.Camera
	Locked   bool   `form:"locked" json:"locked,omitempty"`     // to the planned recorder alone
	Together string `form:"together" json:"together,omitempty"` // the name of those that go to one recorder
}

func keepWish(ctx context.Context, c *act.Call, x Wish) (act.Kept, error) {
	together := strings.TrimSpace(x.Together)
	if len([]rune(together)) > maxTogether {
		return act.Kept{}, act.Wrongf("together", "Name those that go together in up to %d characters.", maxTogether)
	}
	_, of, err := c.Camera(ctx, x.Source)
	if err != nil {
		return act.Kept{}, err
	}
	return act.Kept{Says: "Kept.", Did: "said where it may go", Detail: fmt.Sprintf("%s: locked %t, together %q", of.Place, x.Locked, together),
		Judge: []int64{of.Device.ID}}, c.Store.SetPlacing(ctx, c.Site.ID, of.ID, x.Locked, together)
}

// Pair is a recorder, and the one that it takes over from.
type Pair struct {
	Recorder
	From int64 `form:"from" json:"from_id"`
}

// Devices are all: any camera may be on either.
func (Pair) Devices() []int64 { return nil }

func planTakeOver(now time.Time, s *act.Seen, x Pair) (p act.Planned, err error) {
	to, ok := s.Device(x.ID)
	from, ok2 := s.Device(x.From)
	if !ok || !ok2 || x.ID == x.From || to.Kind != identity.Recorder || from.Kind != identity.Recorder {
		return p, store.ErrNotFound
	}
	all, err := TakeOver(now, s.Snapshot, from, to)
	if err != nil {
		return p, err
	}
	p.Title = fmt.Sprintf("%s takes over from %s", to.Place, from.Place)
	for _, t := range all {
		if t.Why != "" {
			p.Refuse(t.Source.Place, t.Why)
			continue
		}
		p.Add(t.Source, t.Changes)
	}
	if len(all) == 0 {
		p.Says = fmt.Sprintf("%s holds none of this site's cameras that %s doesn't.", from.Place, to.Place)
	}
	return p, nil
}

// Retired is a recorder that is retired.
type Retired struct {
	Recorder
	silent map[int64]bool // of the others, those that couldn't be read just now
}

// Devices are all: any camera may be on it.
func (Retired) Devices() []int64 { return nil }

// readOthers reads the other recorders just now.
func (c *Stage) readOthers(ctx context.Context, call *act.Call, x *Retired) (err error) {
	x.silent, err = readOthers(ctx, c.Services, call.Site.ID, x.ID)
	return err
}

func planRetire(_ time.Time, s *act.Seen, x Retired) (act.Planned, error) {
	d, _, err := x.of(s.Snapshot)
	if err != nil {
		return act.Planned{}, err
	}
	all, left := Retire(s.Snapshot, d, x.silent)
	if len(all) == 0 {
		return nothing("Nothing is taken out of %s: %s.", d.Place, cmp.Or(strings.Join(left[:min(len(left), 4)], "; "), "it holds nothing")), nil
	}
	p := together(d, "Retire "+d.Place, all...)
	for _, why := range left {
		p.Cant = append(p.Cant, d.Place+", "+why+".")
	}
	return p, nil
}

// Cascading says what a recorder takes.
type Cascading struct {
	Recorder
	On bool `form:"on" json:"takes_channels"` // other recorders' channels; else cameras
}

func keepCascading(ctx context.Context, c *act.Call, x Cascading) (act.Kept, error) {
	s, err := site.Load(ctx, c.Store, c.Site.ID, []int64{})
	if err != nil {
		return act.Kept{}, err
	}
	d, _, err := x.of(s)
	if err != nil {
		return act.Kept{}, err
	}
	out := act.Kept{Says: d.Place + " takes cameras.", Did: "said what a recorder takes", Detail: d.Place + " takes cameras"}
	planned, err := c.Store.PlannedFor(ctx, c.Site.ID, d.ID)
	if err != nil {
		return out, err
	}
	if why := d.Cascade.Turned(d.Place, x.On, planned); why != "" {
		return out, trouble.UserError(why)
	}
	var f *channel.Cascade
	if x.On {
		f = &channel.Cascade{Picks: []channel.Pick{}}
		out.Says, out.Detail = d.Place+" takes other recorders' channels: tick which.", d.Place+" takes other recorders' channels"
	}
	return out, c.Store.SetCascade(ctx, c.Site.ID, d.ID, f)
}

// Cascade are channels of other recorders that one takes; or it is brought in step with those that it was told of.
type Cascade struct {
	Recorder
	Take []Pick `form:"take" json:"take,omitempty"`
	Mend string `form:"mend" json:"mend,omitempty"` // anything: it is brought in step
}

// Pick is a channel of a recorder.
type Pick struct {
	Recorder int64 `json:"recorder_id"`
	Channel  int   `json:"channel"`
}

// UnmarshalParam reads a form's "recorder:channel".
func (p *Pick) UnmarshalParam(text string) error {
	_, err := fmt.Sscanf(text, "%d:%d", &p.Recorder, &p.Channel)
	return err
}

func picksOf(taken []Pick) []channel.Pick {
	out := make([]channel.Pick, len(taken))
	for i, p := range taken {
		out[i] = channel.Pick(p)
	}
	return out
}

func planCascade(_ time.Time, s *act.Seen, x Cascade) (p act.Planned, err error) {
	d, _, err := x.of(s.Snapshot)
	if err != nil {
		return p, err
	}
	steps, plan, ok := CascadeSteps(s.Snapshot, d)
	if !ok {
		return nothing("%s takes cameras: say first that it takes other recorders' channels.", d.Place), nil
	}
	all, not := plan.Takes(steps, picksOf(x.Take))
	if x.Mend != "" {
		all, not = plan.Mends(steps)
	}
	for _, r := range not {
		p.Refuse(r.Whose, r.Why)
	}
	p.Title = d.Place + " takes over channels"
	if x.Mend != "" {
		p.Title = d.Place + " in step"
	}
	switch {
	case len(all) == 0 && len(p.Cant) == 0 && x.Mend == "":
		p.Says = "Tick which channels it is to take."
	case len(all) == 0:
		p.Says = "Nothing of it can be done from here: " + strings.Join(p.Cant, " ")
	}
	p.Add(d.Whole(), all)
	return p, nil
}
