package setup

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"duskyharbor/internal/act"
	"duskyharbor/internal/core/identity"
	"duskyharbor/internal/core/stage"
	"duskyharbor/internal/core/trouble"
	"duskyharbor/internal/site"
	"duskyharbor/internal/store"
)

func cameras() []act.Any {
	return []act.Any{
		act.Act[PlannedFor]{Name: "cameras/plan", About: "plan a recorder for cameras; nothing is written to it", Keep: plan},
		act.Act[Naming]{Name: "cameras/name", About: "give cameras names by a pattern or a list; nothing is written to any", Keep: name},
		act.Act[Cameras]{Name: "cameras/remove", About: "take cameras off the site, with what was read of them; nothing is written to any", Keep: removeCameras},
	}
}

// Cameras are those that are meant.
type Cameras struct{ act.Selection }

// selectedMost is how many views are taken off at once: all of the largest site.
const selectedMost = 10000

// removeCameras takes cameras off the site, with what was read of them. Nothing is written to any.
func removeCameras(ctx context.Context, c *act.Call, x Cameras) (act.Kept, error) {
	rows, err := selected(ctx, c, x.Selection)
	if err != nil {
		return act.Kept{}, err
	}
	var devices []int64
	for _, r := range rows {
		if !slices.Contains(devices, r.Device.ID) {
			devices = append(devices, r.Device.ID)
		}
	}
	if !c.Sure {
		text, err := goesText(ctx, c, rows, devices)
		if err != nil {
			return act.Kept{}, err
		}
		return act.Kept{}, act.AskError{Heading: "Remove " + places(rows) + "?", Text: text, Do: "Remove " + act.Count(len(devices), "camera")}
	}
	goes, err := c.Store.GoesWith(ctx, c.Site.ID, devices)
	if err != nil {
		return act.Kept{}, err
	}
	n, err := c.Store.Remove(ctx, c.Site.ID, devices)
	if errors.Is(err, store.ErrBusy) {
		err = trouble.UserError("A change of one of them is being made: let it end, or stop its run first.")
	}
	says := fmt.Sprintf("%s with %s, %s, %s and %s", act.Count(n, "camera"), act.Count(goes.Views, "view"), act.Count(goes.Readings, "reading"), act.Count(goes.Changes, "change"), act.Count(goes.Proofs, "proof"))
	return act.Kept{Says: says + " went from the site. Nothing was written to any; a look that hears one shows it again.", Did: "removed cameras",
		Detail: places(rows) + ": " + says, To: "board"}, err
}

// selected are the views of a selection, in the site's order; a UserError where none is there.
func selected(ctx context.Context, c *act.Call, x act.Selection) ([]store.Source, error) {
	sel, err := x.Selects(c.Site.ID)
	if err != nil {
		return nil, err
	}
	rows, _, err := c.Store.Window(ctx, sel, store.Sort{}, 0, selectedMost)
	if err == nil && len(rows) == 0 {
		err = trouble.UserError("None of them is there any more.")
	}
	return rows, err
}

// goesText says what goes with cameras that are removed, and which a recorder goes on recording.
func goesText(ctx context.Context, c *act.Call, rows []store.Source, devices []int64) (string, error) {
	s, err := site.Load(ctx, c.Store, c.Site.ID, devices)
	if err != nil {
		return "", err
	}
	var held []string
	for _, r := range rows {
		if rec, slot, ok := s.HolderOf(r); ok && slot != nil {
			held = append(held, fmt.Sprintf("%s is on channel %d of %s", r.Place, slot.Number, rec.Place))
		}
	}
	text := fmt.Sprintf("%s with all views, readings and proofs of each: this goes from this site. The log keeps what was changed. Nothing is written to them; a look that hears one shows it again.", places(rows))
	if len(held) > 0 {
		more := ""
		if n := len(held) - namedMost; n > 0 {
			more = fmt.Sprintf(", and %d more are held", n)
		}
		text += " " + strings.Join(held[:min(len(held), namedMost)], "; ") + more + ", as was read last: they stay there, and what is recorded of them nobody here sees then."
	}
	return text, nil
}

// namedMost is how many places the log names.
const namedMost = 5

func places(rows []store.Source) string {
	var names []string
	for _, r := range rows[:min(len(rows), namedMost)] {
		names = append(names, r.Place)
	}
	s := strings.Join(names, ", ")
	if more := len(rows) - namedMost; more > 0 {
		s += fmt.Sprintf(" and %d more", more)
	}
	return s
}

// PlannedFor is a recorder that is planned for cameras; 0: none is.
type PlannedFor struct {
	act.Selection
	Recorder int64 `form:"recorder" json:"recorder_id"`
}

func plan(ctx context.Context, c *act.Call, x PlannedFor) (act.Kept, error) {
	sel, err := x.Selects(c.Site.ID)
	if err != nil {
		return act.Kept{}, err
	}
	targets, err := c.Store.Resolve(ctx, sel, stage.Channels)
	if err != nil {
		return act.Kept{}, err
	}
	if len(targets) == 0 {
		return act.Kept{}, act.Wrong("pick", "Tick which cameras are to go there.")
	}
	sources := make([]int64, len(targets))
	for i, t := range targets {
		sources[i] = t.Source
	}
	name := "no recorder"
	if x.Recorder != 0 {
		rec, err := c.Store.Device(ctx, x.Recorder)
		if err == nil && (rec.SiteID != c.Site.ID || rec.Kind != identity.Recorder) {
			err = store.ErrNotFound
		}
		if err != nil {
			return act.Kept{}, err
		}
		name = rec.Place
	}
	judge, err := c.Store.Plan(ctx, c.Site.ID, x.Recorder, sources)
	if err == nil && len(judge) == 0 {
		return act.Kept{Says: "They are planned for " + name + " already."}, nil
	}
	views := act.Count(len(sources), "view")
	return act.Kept{Says: views + " planned for " + name + ". Place them on Channels; nothing was written to a recorder.", Did: "planned a recorder",
		Detail: views + " for " + name, Judge: judge}, err
}
