package find

import (
	"context"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"duskyharbor/internal/act"
	"duskyharbor/internal/core/finding"
	"duskyharbor/internal/core/identity"
	"duskyharbor/internal/core/netplan"
	"duskyharbor/internal/core/stage"
	"duskyharbor/internal/core/stream"
	"duskyharbor/internal/core/trouble"
	"duskyharbor/internal/facts"
	"duskyharbor/internal/setup"
	"duskyharbor/internal/site"
	"duskyharbor/internal/store"
)

// Acts of the stage.
func (f *Stage) Acts() []act.Any {
	return []act.Any{
		act.Act[At]{Name: "find/also", About: "look at one address, also where no network of the site holds it; takes an address of a stream too", Keep: lookAlso},
		act.Act[NetworkID]{Name: "find/also/:network/drop", About: "look at such an address no more", Keep: dropSingle},
		act.Act[Placement]{Name: "find/take-over", About: "give a place on the list to the device that answers in its stead", Keep: takeOver},
		act.Act[Place]{Name: "find/list", About: "put a device that nobody expected on the list", Keep: list},
		act.Act[Answering]{Name: "find/list-all", About: "put devices that nobody expected on the list, as they are called", Keep: listAll},
		act.Act[Ours]{Name: "find/ours", About: "say that what answers for a device is of this site", Keep: ours},
		act.Act[Answering]{Name: "find/taken", About: "say that devices are where something says to be them", Keep: takeAddresses},
		act.Act[act.Camera]{Name: "find/leave-out", About: "leave out a device that nobody expects", Keep: leaveOut},
		act.Act[Said]{Name: "find/say", About: "name a camera's place, plan a recorder for it, note something", Keep: say},
		act.Act[act.Camera]{Name: "find/expect", About: "expect a device where it answers", Keep: expectHere},
		act.Act[Sources]{Name: "find/views", About: "pick which video sources of a device the site uses", Keep: pickViews},
		act.Act[Move]{Name: "find/move", About: "give a device another address, or have its network give it one", Stage: stage.Find, More: atAddress, Plan: planMove},
	}
}

// At is an address, or an address of a stream.
type At struct {
	Address string `form:"address" json:"address"`
}

// NetworkID names a network, also one of a single address.
type NetworkID struct {
	ID int64 `param:"network" json:"-"`
}

// lookAlso lets one address be looked at that is in no network of the site, and looks there.
func lookAlso(ctx context.Context, c *act.Call, x At) (act.Kept, error) {
	at, err := netplan.ParseAddress(x.Address)
	if err != nil {
		return act.Kept{}, act.Wrong("address", err.Error())
	}
	if err := setup.Outside(ctx, c, "address", at, "Look at "+at.String()+" all the same"); err != nil {
		return act.Kept{}, err
	}
	if path := stream.PathIn(x.Address); path != "" {
		if err := c.Store.NamePath(ctx, c.Site.ID, at, path); err != nil {
			return act.Kept{}, err
		}
		c.Audit("named a stream", "rtsp://"+at.String()+path)
	}
	return act.Kept{Scan: &act.Scan{Stage: stage.Find, At: at}}, nil
}

// dropSingle takes such an address off again.
func dropSingle(ctx context.Context, c *act.Call, x NetworkID) (act.Kept, error) {
	name, err := c.Store.DropSingle(ctx, c.Site.ID, x.ID)
	return act.Kept{Says: name + " isn't looked at any more.", Did: "looks at an address no more", Detail: name}, err
}

// Placement gives a place to a device: its own, by what answers there, or that of another.
type Placement struct {
	act.Camera
	Place int64 `form:"place" json:"device_id,omitempty"` // whose place it takes; 0: its own
}

// takeOver gives a place on the list to the device that answers in its stead.
func takeOver(ctx context.Context, c *act.Call, x Placement) (act.Kept, error) {
	s, of, err := c.Camera(ctx, x.Source)
	if err != nil {
		return act.Kept{}, err
	}
	place, newcomer := of.Device, int64(0)
	if x.Place != 0 { // the camera is the newcomer
		newcomer = of.Device.ID
		if place, err = c.Store.Device(ctx, x.Place); err != nil {
			return act.Kept{}, err
		}
		if place.SiteID != c.Site.ID {
			return act.Kept{}, store.ErrNotFound
		}
	}
	was, _ := facts.Seen.Of(s, of.Device.ID)
	if err := TakeOver(ctx, c.Store, place, newcomer); err != nil {
		return act.Kept{}, err
	}
	row, err := c.Store.Source(ctx, store.Target{Device: place.ID})
	return act.Kept{Did: "let a device take over a place", Detail: fmt.Sprintf("%s, by what answers at %s", place.Place, was.Address), Judge: []int64{place.ID},
		Says: fmt.Sprintf("What answers at %s is %s from now on. Sign in to it next.", was.Address, place.Place), To: fmt.Sprintf("find?sheet=%d", row.ID)}, err
}

// Place names the place of a camera.
type Place struct {
	act.Camera
	Place string `form:"place" json:"place"`
}

// Check is what is wrong with it.
func (x Place) Check() error {
	if place := strings.TrimSpace(x.Place); place == "" || !act.Fits(place, 64) {
		return act.Wrong("place", "A place has a name of at most 64 characters.")
	}
	return nil
}

// list puts a device that nobody expected on the list, under a place of its own.
func list(ctx context.Context, c *act.Call, x Place) (act.Kept, error) {
	s, of, err := c.Camera(ctx, x.Source)
	if err != nil {
		return act.Kept{}, err
	}
	place := strings.TrimSpace(x.Place)
	if err := c.Store.Name(ctx, of.ID, place); err != nil {
		return act.Kept{}, err
	}
	if seen, ok := facts.Seen.Of(s, of.Device.ID); ok {
		if err := c.Store.SetOurs(ctx, c.Site.ID, map[int64]identity.Word{of.Device.ID: identity.WordOn(seen)}); err != nil {
			return act.Kept{}, err
		}
	}
	return act.Kept{Says: place + " is on the list.", Did: "put a device on the list", Detail: place, Judge: []int64{of.Device.ID}}, nil
}

// Shown is a device with the address at which it was shown.
type Shown struct {
	Device  int64      `json:"device_id"`
	Address netip.Addr `json:"address"`
}

// UnmarshalParam reads a form's "12 192.0.2.7".
func (s *Shown) UnmarshalParam(text string) error {
	var at string
	if _, err := fmt.Sscanf(text, "%d %s", &s.Device, &at); err != nil {
		return err
	}
	a, err := netip.ParseAddr(at)
	s.Address = a
	return err
}

// SettledMost is how many devices are settled at once.
const SettledMost = 200

// Answering are devices, each with where it was shown: what isn't there any more is settled anew.
type Answering struct {
	Devices []Shown `form:"device" json:"devices"`
}

// Check is what is wrong with them.
func (x Answering) Check() error {
	switch {
	case len(x.Devices) == 0:
		return act.Wrong("device", "Nothing was picked.")
	case len(x.Devices) > SettledMost:
		return act.Wrongf("device", "At most %d are settled at once.", SettledMost)
	}
	return nil
}

func (x Answering) at() map[int64]netip.Addr {
	out := map[int64]netip.Addr{}
	for _, d := range x.Devices {
		out[d.Device] = d.Address
	}
	return out
}

// changedMeanwhile is told where a row isn't any more what was shown.
const changedMeanwhile = "%s isn't any more what was shown: nothing was kept. Look at it again."

// words are a person's words on what was seen of devices, where that is as it was shown.
func words(ctx context.Context, c *act.Call, rows map[int64]netip.Addr) (all map[int64]identity.Word, only []int64, places []string, err error) {
	for id := range rows {
		only = append(only, id)
	}
	slices.Sort(only)
	s, err := site.Load(ctx, c.Store, c.Site.ID, only)
	if err != nil {
		return nil, nil, nil, err
	}
	all = map[int64]identity.Word{}
	for _, id := range only {
		d, ok := s.Device(id)
		seen, heard := facts.Seen.Of(s, id)
		if !ok || !heard || seen.Address != rows[id] {
			return nil, nil, nil, trouble.UserErrorf(changedMeanwhile, "One of them")
		}
		all[id] = identity.WordOn(seen)
		places = append(places, d.Place)
	}
	return all, only, places, nil
}

// listAll puts devices that nobody expected on the list, as they are called now.
func listAll(ctx context.Context, c *act.Call, x Answering) (act.Kept, error) {
	all, only, places, err := words(ctx, c, x.at())
	if err != nil {
		return act.Kept{}, err
	}
	return act.Kept{Says: act.Count(len(all), "camera") + " on the list: this site's sets may be sent there. Sign in next.", Did: "put devices on the list",
		Detail: strings.Join(places, ", "), Judge: only}, c.Store.List(ctx, c.Site.ID, all)
}

// Ours says that what answers at an address for a camera is of this site.
type Ours struct {
	act.Camera
	At netip.Addr `form:"at" json:"address"`
}

// ours keeps a person's word that what answers for a device is of this site.
func ours(ctx context.Context, c *act.Call, x Ours) (act.Kept, error) {
	_, of, err := c.Camera(ctx, x.Source)
	if err != nil {
		return act.Kept{}, err
	}
	all, only, _, err := words(ctx, c, map[int64]netip.Addr{of.Device.ID: x.At})
	if err != nil {
		return act.Kept{}, err
	}
	return act.Kept{Says: "Accounts may be sent to " + of.Place + " while it shows itself as it does now. Sign in next.", Did: "said that a device is ours",
		Detail: of.Place + ": at " + x.At.String(), Judge: only}, c.Store.SetOurs(ctx, c.Site.ID, all)
}

// seenOf is a sighting with the device that it is kept of.
type seenOf struct {
	identity.Sighting
	Device store.Device
}

// SeenAt is what was seen at each address.
func SeenAt(s *site.Snapshot) map[netip.Addr]seenOf {
	out := map[netip.Addr]seenOf{}
	for _, d := range s.Devices {
		if x, ok := facts.Seen.Of(s, d.ID); ok {
			out[x.Address] = seenOf{x, d}
		}
	}
	return out
}

// Agreement says in what a device that is known agrees with what was seen.
func Agreement(s *site.Snapshot, d store.Device, seen identity.Sighting) string {
	if !seen.Address.IsValid() { // it is beyond what was read
		return "see what answers there"
	}
	k := d.Known()
	k.Pin, _ = facts.Pin.Of(s, d.ID)
	return identity.Agreement(k, seen)
}

// takeAddresses moves devices, in the site's record, to where a person says that they are now: all that were picked
// or none. Nothing is written to any.
func takeAddresses(ctx context.Context, c *act.Call, x Answering) (act.Kept, error) {
	s, err := site.Load(ctx, c.Store, c.Site.ID, nil)
	if err != nil {
		return act.Kept{}, err
	}
	all, says, err := taken(c.Now.UTC(), s, x.at())
	if err != nil {
		return act.Kept{}, err
	}
	devices := make([]int64, len(all))
	for i, t := range all {
		devices[i] = t.Device
	}
	return act.Kept{Says: act.Count(len(all), "camera") + " known at the new address from now on. Sign in next: what opened it goes first.", Did: "took new addresses",
		Detail: strings.Join(says, "; "), Judge: devices}, c.Store.TakeAddresses(ctx, c.Site.ID, all)
}

// taken works out what a person's word on new addresses means, and in which words it is logged.
func taken(now time.Time, s *site.Snapshot, rows map[int64]netip.Addr) (all []store.TakenAddress, says []string, err error) {
	seen := SeenAt(s)
	for _, d := range s.Devices {
		at, ok := rows[d.ID]
		if !ok {
			continue
		}
		f, w := facts.ForIdentity(s, d)
		shown := seen[at]
		if is, ok := identity.NewAddress(f); !ok || is != at || shown.Device.ID == 0 {
			return nil, nil, trouble.UserErrorf(changedMeanwhile, d.Place)
		}
		m := store.TakenAddress{Device: d.ID, Seen: shown.Sighting, LookFacts: []store.NewFact{
			facts.Seen.New(d.ID, shown.WaysText(), now, shown.Sighting),
			facts.Scanned.New(d.ID, "a person settled it", now, identity.Scan{At: now, Outcome: identity.Matched, Tried: f.Tried})}}
		if !shown.Device.Expected {
			m.Newcomer = shown.Device.ID
		}
		all = append(all, m)
		says = append(says, fmt.Sprintf("%s from %s to %s (%s)", d.Place, w.Known.Address, at, Agreement(s, d, shown.Sighting)))
	}
	if len(all) != len(rows) {
		return nil, nil, trouble.UserErrorf(changedMeanwhile, "One of them")
	}
	return all, says, nil
}

// leaveOut removes a device that nobody expects; a look that hears it finds it again.
func leaveOut(ctx context.Context, c *act.Call, x act.Camera) (act.Kept, error) {
	_, of, err := c.Camera(ctx, x.Source)
	if err != nil {
		return act.Kept{}, err
	}
	place := of.Device.Place
	return act.Kept{Says: place + " is left out; the next look that hears it shows it again.", Did: "left a device out", Detail: place, To: "find"},
		c.Store.LeaveOut(ctx, c.Site.ID, of.Device.ID)
}

// Said is what a person says of a camera.
type Said struct {
	act.Camera
	Place    string  `form:"place" json:"place"`
	Recorder *int64  `form:"recorder" json:"recorder_id,omitempty"` // that its view is planned for; 0: none; absent: as it is
	Note     *string `form:"note" json:"note,omitempty"`            // absent: as it is
}

// say keeps what a person says of a camera. Nothing is written to it.
func say(ctx context.Context, c *act.Call, x Said) (act.Kept, error) {
	_, of, err := c.Camera(ctx, x.Source)
	if err != nil {
		return act.Kept{}, err
	}
	place := strings.TrimSpace(x.Place)
	if place == "" || !act.Fits(place, 64) || x.Note != nil && !act.Fits(*x.Note, 500) {
		return act.Kept{}, act.Wrong("place", "A place has a name of at most 64 characters, and a note at most 500.")
	}
	if x.Recorder != nil {
		if _, err := c.Store.Plan(ctx, c.Site.ID, *x.Recorder, []int64{of.ID}); err != nil {
			return act.Kept{}, err
		}
	}
	if x.Note != nil {
		if err := c.Store.SetNote(ctx, c.Site.ID, of.Device.ID, strings.TrimSpace(*x.Note)); err != nil {
			return act.Kept{}, err
		}
	}
	if place != of.Place {
		if err := c.Store.Name(ctx, of.ID, place); err != nil {
			return act.Kept{}, err
		}
	}
	return act.Kept{Says: "Kept. Nothing was written to " + place + ".", Did: "said what a camera is", Detail: place + ": before " + of.Place, Judge: []int64{of.Device.ID}}, nil
}

// expectHere corrects the list: the device is expected where it answers.
func expectHere(ctx context.Context, c *act.Call, x act.Camera) (act.Kept, error) {
	s, of, err := c.Camera(ctx, x.Source)
	if err != nil {
		return act.Kept{}, err
	}
	seen, ok := facts.Seen.Of(s, of.Device.ID)
	if !ok {
		return act.Kept{}, trouble.UserError("It doesn't answer now: look first.")
	}
	if err := c.Store.ExpectAt(ctx, of.Device.ID, seen.Address); err != nil {
		return act.Kept{}, err
	}
	if asked, ok := facts.Scanned.Of(s, of.Device.ID); ok && asked.MovedFrom.IsValid() { // that it moved is settled
		asked.Outcome, asked.MovedFrom = identity.Matched, netip.Addr{}
		if err := c.Store.KeepFacts(ctx, facts.Scanned.New(of.Device.ID, "a person settled it", c.Now.UTC(), asked)); err != nil {
			return act.Kept{}, err
		}
	}
	return act.Kept{Says: of.Device.Place + " is expected at " + seen.Address.String() + " from now on.", Did: "corrected the list",
		Detail: of.Place + ": expected at " + seen.Address.String(), Judge: []int64{of.Device.ID}}, nil
}

// Sources are video sources of a device, by token.
type Sources struct {
	act.Camera
	Views []string `form:"view" json:"views"`
	Every bool     `form:"every" json:"every,omitempty"` // all that it has, whatever is named
}

// pickViews keeps which video sources of a device the site uses.
func pickViews(ctx context.Context, c *act.Call, x Sources) (act.Kept, error) {
	s, of, err := c.Camera(ctx, x.Source)
	if err != nil {
		return act.Kept{}, err
	}
	var tokens, names []string
	there, _ := facts.VideoSources.Of(s, of.Device.ID)
	for _, v := range there {
		if x.Every || slices.Contains(x.Views, v.Token) {
			tokens, names = append(tokens, v.Token), append(names, v.Name)
		}
	}
	if len(x.Views) == 0 && len(tokens) == 0 {
		return act.Kept{}, act.Wrong("view", "Pick at least one view.")
	}
	if i := slices.IndexFunc(x.Views, func(t string) bool { return !slices.Contains(tokens, t) }); i >= 0 {
		return act.Kept{}, act.Wrongf("view", "%s has no view %.40q any more: sign in to it again, and pick anew.", of.Device.Place, x.Views[i])
	}
	return act.Kept{Says: act.Count(len(tokens), "view") + " of " + of.Device.Place + " picked: " + strings.Join(names, ", ") + ".", Did: "picked views",
		Detail: of.Place + ": " + strings.Join(names, ", "), Judge: []int64{of.Device.ID}}, c.Store.PickViews(ctx, of.Device.ID, tokens, names)
}

// Move gives a device another address.
type Move struct {
	act.Camera
	Address   string `form:"address" json:"address,omitempty"`
	Automatic bool   `form:"automatic" json:"automatic,omitempty"` // its network gives it one
	at        netip.Addr
	there     []netplan.At // who is known there
}

// atAddress reads who is known at the address.
func atAddress(ctx context.Context, c *act.Call, x *Move) error {
	if x.Automatic {
		return nil
	}
	var err error
	if x.at, err = netplan.ParseAddress(x.Address); err != nil {
		return act.Wrong("address", err.Error())
	}
	dots, err := c.Store.Dots(ctx, c.Site.ID, stage.Find, []netip.Prefix{netip.PrefixFrom(x.at, x.at.BitLen())})
	for _, d := range dots {
		x.there = append(x.there, netplan.At{ID: d.ID, Place: d.Place, Answer: d.Heard})
	}
	return err
}

// planMove gives a device another address, or has its network give it one.
func planMove(_ time.Time, s *act.Seen, x Move) (p act.Planned, err error) {
	of, err := s.The()
	if err != nil {
		return p, err
	}
	f, _ := facts.ForIdentity(s.Snapshot, of.Device)
	if f.IPConfig == nil || f.Seen == nil {
		return p, trouble.UserError("Its address settings weren't read: sign in to it first.")
	}
	to := netplan.IPConfig{Automatic: true}
	if !x.Automatic {
		if to, err = netplan.SettingsAt(s.Networks(), x.at); err != nil {
			return p, act.Wrong("address", err.Error())
		}
		if why := netplan.Taken(s.Snapshot.Of(of.Device).ID, x.at, x.there); why != "" {
			return p, act.Wrong("address", why)
		}
	}
	if to == *f.IPConfig {
		p.Says = "It has that address already."
		return p, nil
	}
	ch := identity.ChangeIPConfig(*f.IPConfig, to)
	p.Title = of.Device.Place + ": " + ch.Title
	p.Add(s.Snapshot.Of(of.Device), []finding.Change{ch})
	return p, nil
}
