package recording

import (
	"context"
	"errors"
	"fmt"
	"net/url"
	"strconv"
	"strings"
	"time"

	"duskyharbor/internal/act"
	"duskyharbor/internal/core/finding"
	"duskyharbor/internal/core/recording"
	"duskyharbor/internal/core/stage"
	"duskyharbor/internal/facts"
	"duskyharbor/internal/site"
	"duskyharbor/internal/store"
)

// Acts of the stage.
func (*Stage) Acts() []act.Any {
	const on = stage.Recording
	return []act.Any{
		act.Act[Plan]{Name: "recording/plan", About: "keep a recording plan; nothing is written to a recorder", Stage: on, Keep: keepPlan},
		act.Act[PlanID]{Name: "recording/plan/remove", About: "take a plan off the site; channels keep by it until another is written", Stage: on, Keep: dropPlan},
		act.Act[Write]{Name: "recording/write", About: "keep a plan, choose it for cameras, and write it to their channels", Stage: on, Keep: choosePlan, Plan: planWrite},
		act.Act[Retention]{Name: "recording/keeping", About: "say for how many days the site keeps", Stage: on, Keep: setRetention},
		act.Act[Age]{Name: "recording/age", About: "have a recorder delete what is older than so many days", Stage: on, Plan: planAge},
	}
}

// maxName is how long a plan's name may be, in characters.
const maxName = 60

// Plan is a recording plan. A form gives it in fields of its own, see recording.ParseForm.
type Plan struct {
	ID     int64          `json:"id,omitempty"` // 0: a new one
	Name   string         `json:"name"`
	Plan   recording.Plan `json:"plan"`
	ticked []string       // cameras that stay ticked on the page
}

// ReadForm reads the plan in hand.
func (x *Plan) ReadForm(f act.Form) (err error) {
	if key := f.Get("plan"); key != "new" {
		if x.ID, err = strconv.ParseInt(key, 10, 64); err != nil {
			return store.ErrNotFound
		}
	}
	x.Name, x.ticked = strings.TrimSpace(f.Get("name")), f.Values["pick"]
	if x.Plan, _, err = recording.ParseForm(f.Values); err != nil {
		return act.Wrong("plan", err.Error())
	}
	return nil
}

// page is where a person sees the plan that was kept, with what they had ticked.
func (x Plan) page(id int64) string {
	v := url.Values{"plan": {strconv.FormatInt(id, 10)}}
	if len(x.ticked) > 0 {
		v["pick"] = x.ticked[:min(len(x.ticked), act.MaxPicks)]
	}
	return "recording?" + v.Encode()
}

// Check is what is wrong with it.
func (x Plan) Check() error {
	if name := strings.TrimSpace(x.Name); name == "" || len([]rune(name)) > maxName {
		return act.Wrongf("name", "Name the plan, in up to %d characters.", maxName)
	}
	if err := x.Plan.Check(); err != nil {
		return act.Wrong("plan", err.Error())
	}
	return nil
}

// keep keeps the plan under its name.
func (x Plan) keep(ctx context.Context, c *act.Call) (int64, error) {
	id, err := c.Store.KeepRecordingPlan(ctx, c.Site.ID, store.RecordingPlan{ID: x.ID, Name: strings.TrimSpace(x.Name), Plan: x.Plan})
	if errors.Is(err, store.ErrTaken) {
		err = act.Wrongf("name", "Another plan is called %q: give this one another name, or choose that one.", x.Name)
	}
	c.Audit("kept a recording plan", x.Name+": "+x.Plan.String())
	return id, err
}

func keepPlan(ctx context.Context, c *act.Call, x Plan) (act.Kept, error) {
	id, err := x.keep(ctx, c)
	return act.Kept{ID: id, Says: x.Name + " is kept. Nothing was written to a recorder.", All: true, To: x.page(id)}, err
}

// PlanID names a plan.
type PlanID struct {
	ID int64 `form:"plan" json:"id"`
}

func dropPlan(ctx context.Context, c *act.Call, x PlanID) (act.Kept, error) {
	name, devices, err := c.Store.DropRecordingPlan(ctx, c.Site.ID, x.ID)
	return act.Kept{Says: name + " is gone. What channels keep stays as it is.", Did: "took a recording plan off", Detail: name, Judge: devices, To: "recording"}, err
}

// Write is a plan for cameras.
type Write struct {
	act.Selection
	Plan
}

// Check is what is wrong with it.
func (x Write) Check() error { return x.Plan.Check() }

// choosePlan keeps the plan, and chooses it for the selection.
func choosePlan(ctx context.Context, c *act.Call, x Write) (act.Kept, error) {
	sel, err := x.Selects(c.Site.ID)
	if err != nil {
		return act.Kept{}, err
	}
	targets, err := c.Store.Resolve(ctx, sel, stage.Recording)
	if err != nil {
		return act.Kept{}, err
	}
	id, err := x.keep(ctx, c)
	if err != nil {
		return act.Kept{}, err
	}
	sources := make([]int64, len(targets))
	for i, t := range targets {
		sources[i] = t.Source
	}
	_, err = c.Store.ChoosePlan(ctx, c.Site.ID, id, sources)
	return act.Kept{ID: id, Did: "chose a recording plan", Detail: x.Name + " for " + act.Count(len(sources), "camera"), All: true, To: fmt.Sprintf("recording?plan=%d", id)}, err
}

// planWrite says what choosing a plan changes on channels, and whose can't be changed.
func planWrite(now time.Time, s *act.Seen, x Write) (p act.Planned, err error) {
	for _, of := range s.Of {
		f, w := facts.ForRecording(s.Snapshot, of)
		changes := recording.Propose(now, f, w)
		p.Add(of, changes)
		if len(changes) > 0 {
			continue
		}
		why, idle := f.Hinders(w)
		if idle {
			p.Idle++
		}
		for _, why := range why {
			p.Refuse(of.Place, why)
		}
	}
	p.Title = x.Name + " on " + act.Count(len(p.Of), "channel")
	p.Says = x.Name + " is chosen for " + act.Count(len(s.Of), "camera") + "."
	if len(p.Cant) == 0 {
		p.Says += " Their channels keep by it already."
	} else {
		p.Says += " Nothing is changed. " + p.Few()
	}
	return p, nil
}

// Retention is for how many days a site keeps; 0: nobody says.
type Retention struct {
	Least  int `form:"least" json:"least_days,omitempty"`      // the contract's
	Most   int `form:"most" json:"most_days,omitempty"`        // the privacy rule's
	Active int `form:"active" json:"active_percent,omitempty"` // of the time something happens, where nobody counted
}

// Check is what is wrong with it.
func (x Retention) Check() error {
	for _, n := range []struct {
		name    string
		n, most int
	}{{"least", x.Least, 3650}, {"most", x.Most, 3650}, {"active", x.Active, 100}} {
		if n.n < 0 || n.n > n.most {
			return act.Wrongf(n.name, "A whole number from 0 to %d; empty: none.", n.most)
		}
	}
	if x.Most > 0 && x.Least > x.Most {
		return act.Wrong("least", "The contract's least is more than the privacy rule's most.")
	}
	return nil
}

func setRetention(ctx context.Context, c *act.Call, x Retention) (act.Kept, error) {
	return act.Kept{Says: "Kept; every recording is judged by it.", Did: "said for how long recordings are kept", All: true,
			Detail: fmt.Sprintf("at least %d days, at most %d; something for %d %% where nobody counted", x.Least, x.Most, x.Active)},
		c.Store.SetRetention(ctx, c.Site.ID, store.Retention{Least: x.Least, Most: x.Most, Active: x.Active})
}

// Age is after how many days a recorder deletes; 0: it keeps until it is full.
type Age struct {
	Recorder int64 `form:"recorder" json:"recorder_id"`
	Days     int   `form:"days" json:"days"`
}

func planAge(_ time.Time, s *act.Seen, x Age) (p act.Planned, err error) {
	if x.Days < 0 || x.Days > 3650 {
		return p, act.Wrong("days", "Say after how many days it is to delete, 0 to 3650.")
	}
	rec, ok := s.Device(x.Recorder)
	r, known := site.Recorder.Of(s.Snapshot, x.Recorder)
	if !ok || !known {
		return p, store.ErrNotFound
	}
	if r.Storage.Deletes == x.Days {
		p.Says = rec.Place + " does so already."
		return p, nil
	}
	ch := recording.Age(rec.Place, rec.ID, r.Storage, x.Days)
	p.Title = ch.Title
	p.Add(rec.Whole(), []finding.Change{ch})
	return p, nil
}
