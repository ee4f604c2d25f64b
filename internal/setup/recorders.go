package setup

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"duskyharbor/internal/act"
	"duskyharbor/internal/core/channel"
	"duskyharbor/internal/core/identity"
	"duskyharbor/internal/core/netplan"
	"duskyharbor/internal/core/stage"
	"duskyharbor/internal/core/trouble"
	"duskyharbor/internal/facts"
	"duskyharbor/internal/site"
	"duskyharbor/internal/store"
)

// maxRecorders is how many recorders a site has at most.
const maxRecorders = 64

func recorders() []act.Any {
	return []act.Any{
		act.Act[Recorder]{Name: "settings/recorder", About: "expect a recorder at an address, and look there", Keep: adding(aRecorder)},
		act.Act[ChangedRecorder]{Name: "settings/recorder/:recorder", About: "give a recorder another name, account or note", Keep: setting(aRecorder)},
		act.Act[RecorderID]{Name: "settings/recorder/:recorder/remove", About: "take a recorder off the site; nothing is written to it", Keep: removing(aRecorder)},
		act.Act[Recorder]{Name: "settings/analyser", About: "expect an analyser at an address, and look there", Keep: adding(anAnalyser)},
		act.Act[ChangedRecorder]{Name: "settings/analyser/:recorder", About: "give an analyser another name, account or note", Keep: setting(anAnalyser)},
		act.Act[RecorderID]{Name: "settings/analyser/:recorder/remove", About: "take an analyser off the site; nothing is written to it", Keep: removing(anAnalyser)},
	}
}

// owned is a kind of device that has an account of its own in a site.
type owned struct {
	kind        identity.Kind
	noun, named string // "recorder", "A recorder"
	read        string // where it is signed in to
	most        int
}

var (
	aRecorder  = owned{identity.Recorder, "recorder", "A recorder", "Read it on Channels", maxRecorders}
	anAnalyser = owned{identity.Analyser, "analyser", "An analyser", "Read the analysers on Analytics", maxAnalysers}
)

// article is the noun with its article: "a recorder".
func (o owned) article() string { return strings.ToLower(o.named[:1]) + o.named[1:] }

// maxAnalysers is how many analysers a site has at most.
const maxAnalysers = 64

// Recorder is a recorder, or an analyser, that is expected.
type Recorder struct {
	Place   string `form:"place" json:"place"`
	Address string `form:"address" json:"address"`
	Set     int64  `form:"set" json:"set_id,omitempty"` // its account; 0: none yet
}

// ChangedRecorder is a recorder that is changed.
type ChangedRecorder struct {
	ID    int64   `param:"recorder" json:"-"`
	Place string  `form:"place" json:"place"`
	Set   *int64  `form:"set" json:"set_id,omitempty"` // 0: none; absent: as it is
	Note  *string `form:"note" json:"note,omitempty"`  // absent: as it is
}

// RecorderID names a recorder.
type RecorderID struct {
	ID int64 `param:"recorder" json:"-"`
}

func adding(o owned) func(context.Context, *act.Call, Recorder) (act.Kept, error) {
	return func(ctx context.Context, c *act.Call, x Recorder) (act.Kept, error) { return o.add(ctx, c, x) }
}

func (o owned) add(ctx context.Context, c *act.Call, x Recorder) (act.Kept, error) {
	place := strings.TrimSpace(x.Place)
	if err := named("place", place, o.named); err != nil {
		return act.Kept{}, err
	}
	at, err := netplan.ParseAddress(x.Address)
	if err != nil {
		return act.Kept{}, act.Wrong("address", err.Error())
	}
	there, err := c.Store.Devices(ctx, c.Site.ID)
	if err != nil {
		return act.Kept{}, err
	}
	count := 0
	for _, d := range there {
		switch {
		case d.Place == place:
			return act.Kept{}, act.Wrongf("place", "%s is there already: give it another name.", place)
		case d.Address != nil && *d.Address == at, d.ExpectedAt != nil && *d.ExpectedAt == at:
			return act.Kept{}, act.Wrongf("address", "%s is expected or was found at %s already.", d.Place, at)
		case d.Kind == o.kind:
			count++
		}
	}
	if count >= o.most {
		return act.Kept{}, act.Wrongf("", "A site has at most %d %ss.", o.most, o.noun)
	}
	if err := Outside(ctx, c, "address", at, "Add the "+o.noun+" and look there"); err != nil {
		return act.Kept{}, err
	}
	d := store.Device{SiteID: c.Site.ID, Kind: o.kind, Place: place, Address: &at, ExpectedAt: &at, Expected: true}
	if d.SetID, err = account(ctx, c, x.Set); err != nil {
		return act.Kept{}, err
	}
	id, err := c.Store.AddDevice(ctx, d)
	return act.Kept{ID: id, Says: place + " was added. It is looked for at " + at.String() + ".", Did: "added " + o.article(), Detail: place + " at " + at.String(),
		Scan: &act.Scan{Stage: stage.Find, At: at}}, err
}

// find is one of the site's, with all of them.
func (o owned) find(ctx context.Context, c *act.Call, id int64) (store.RecorderRow, []store.RecorderRow, error) {
	all, err := c.Store.Owned(ctx, c.Site.ID, o.kind)
	if err != nil {
		return store.RecorderRow{}, nil, err
	}
	i := slices.IndexFunc(all, func(r store.RecorderRow) bool { return r.ID == id })
	if i < 0 {
		return store.RecorderRow{}, nil, store.ErrNotFound
	}
	return all[i], all, nil
}

func setting(o owned) func(context.Context, *act.Call, ChangedRecorder) (act.Kept, error) {
	return func(ctx context.Context, c *act.Call, x ChangedRecorder) (act.Kept, error) { return o.set(ctx, c, x) }
}

// set gives one another name, account or note. Nothing is written to it.
func (o owned) set(ctx context.Context, c *act.Call, x ChangedRecorder) (act.Kept, error) {
	r, all, err := o.find(ctx, c, x.ID)
	if err != nil {
		return act.Kept{}, err
	}
	place, set, note := strings.TrimSpace(x.Place), r.SetID, r.Note
	if x.Set != nil {
		set = *x.Set
	}
	if x.Note != nil {
		note = strings.TrimSpace(*x.Note)
	}
	if err := named("place", place, o.named); err != nil {
		return act.Kept{}, err
	}
	switch {
	case !act.Fits(note, 500):
		return act.Kept{}, act.Wrong("note", "A note has at most 500 characters.")
	case slices.ContainsFunc(all, func(o store.RecorderRow) bool { return o.ID != r.ID && o.Place == place }):
		return act.Kept{}, act.Wrongf("place", "%s is there already: give it another name.", place)
	}
	if _, err := account(ctx, c, set); err != nil {
		return act.Kept{}, err
	}
	if place != r.Place {
		err = c.Store.Rename(ctx, c.Site.ID, r.ID, place)
	}
	if err == nil && set != r.SetID {
		err = c.Store.SetAccount(ctx, c.Site.ID, r.ID, set)
	}
	if err == nil && note != r.Note {
		err = c.Store.SetNote(ctx, c.Site.ID, r.ID, note)
	}
	out := act.Kept{Says: place + " was changed; nothing was written to it.", Did: "changed " + o.article(), Detail: r.Place + " → " + place, All: true} // cameras are told by its name
	if set != r.SetID {
		out.Detail += ", another account"
		if set != 0 {
			out.Says = place + " was changed. " + o.read + ": it is signed in to with its account then."
		}
	}
	return out, err
}

func removing(o owned) func(context.Context, *act.Call, RecorderID) (act.Kept, error) {
	return func(ctx context.Context, c *act.Call, x RecorderID) (act.Kept, error) { return o.remove(ctx, c, x) }
}

// remove takes one off the site.
func (o owned) remove(ctx context.Context, c *act.Call, x RecorderID) (act.Kept, error) {
	r, _, err := o.find(ctx, c, x.ID)
	if err != nil {
		return act.Kept{}, err
	}
	if !c.Sure {
		return act.Kept{}, o.askRemoval(ctx, c, r)
	}
	if o.kind == identity.Analyser {
		if _, err := c.Store.LetGo(ctx, c.Site.ID, r.ID); err != nil {
			return act.Kept{}, err
		}
	}
	switch _, err := c.Store.Remove(ctx, c.Site.ID, []int64{r.ID}); {
	case errors.Is(err, store.ErrBusy):
		return act.Kept{}, trouble.UserError("A change of " + r.Place + " is being made: let it end, or stop its run first.")
	case err != nil:
		return act.Kept{}, err
	}
	return act.Kept{Says: r.Place + " is off the site. Nothing was written to it; a look that hears it shows it again.", Did: "removed " + o.article(),
		Detail: fmt.Sprintf("%s, with %s", r.Place, act.Count(r.Planned, "view")), All: true}, nil
}

// askRemoval asks once more, with what it was seen to do.
func (o owned) askRemoval(ctx context.Context, c *act.Call, r store.RecorderRow) error {
	if o.kind == identity.Recorder {
		return askRecorderRemoval(ctx, c, r)
	}
	s, err := site.Load(ctx, c.Store, c.Site.ID, []int64{})
	if err != nil {
		return err
	}
	var holds string
	if held, _ := facts.Known.Of(s, r.ID); len(held.Sets) > 0 {
		holds = fmt.Sprintf(" It goes on holding %s of reference pictures too, which nobody can delete from here then: have it hold them no more first.", act.Count(len(held.Sets), "set"))
	}
	return act.AskError{Heading: "Remove " + r.Place + "?", Do: "Remove " + r.Place,
		Text: fmt.Sprintf("%s goes from this site, with what was read of it. It looks at %s: no stills are sent to it then, and what it saw stays. It goes on knowing them: take the pairings off first where it is to forget them. Nothing is written to it.",
			r.Place, act.Count(r.Planned, "view")) + holds}
}

func askRecorderRemoval(ctx context.Context, c *act.Call, r store.RecorderRow) error {
	s, err := site.Load(ctx, c.Store, c.Site.ID, []int64{})
	if err != nil {
		return err
	}
	table, _ := site.Recorder.Of(s, r.ID)
	records := "It isn't known to record anything."
	if n := len(table.Slots); n > 0 {
		coming := 0
		for _, slot := range table.Slots {
			if slot.State == channel.Receiving {
				coming++
			}
		}
		records = fmt.Sprintf("As it was read last it holds %s and receives %d: it goes on with that, and nobody here sees it then.", act.Count(n, "channel"), coming)
	}
	return act.AskError{Heading: "Remove " + r.Place + "?", Do: "Remove " + r.Place,
		Text: fmt.Sprintf("%s goes from this site, with what was read of it; %s planned for it are planned for none then. %s The log keeps what was changed. Nothing is written to it.",
			r.Place, act.Count(r.Planned, "view"), records)}
}
