package analytics

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"duskyharbor/internal/act"
	"duskyharbor/internal/core/clock"
	"duskyharbor/internal/core/fact"
	"duskyharbor/internal/core/finding"
	"duskyharbor/internal/core/identity"
	"duskyharbor/internal/core/pairing"
	"duskyharbor/internal/core/rule"
	"duskyharbor/internal/core/stage"
	"duskyharbor/internal/core/trouble"
	"duskyharbor/internal/engine"
	"duskyharbor/internal/facts"
	"duskyharbor/internal/site"
	"duskyharbor/internal/store"
)

// freshFor is how long what an analyser told serves who asks it again.
const freshFor = 20 * time.Second

// pairingOf is what is known of a view that an analyser looks at, or is to.
func pairingOf(s *site.Snapshot, of site.Source) pairing.Facts {
	f := pairing.Facts{ID: of.Key, Place: of.Place, Stills: Stills(s, of), Wish: pairing.Wish{PerSecond: pairing.UsualRate, LeastScore: pairing.UsualScore}}
	e, _ := facts.RuleSet.Of(s, of)
	asked, _ := facts.RulesRead.Of(s, of)
	f.Own, f.Asked = of.Paired == nil && e.Token != "", !asked.At.IsZero() && asked.Trouble == ""
	_, f.Opens = facts.Account.Of(s, of.Device.ID)
	if of.Paired == nil {
		return f
	}
	d, ok := s.Device(of.Paired.Analyser)
	if !ok {
		return f
	}
	f.Name, f.Wish, f.PairedAt, f.Trouble = d.Place, of.Paired.Wish, of.Paired.At, s.RecorderTrouble(d.ID)
	if told, known := facts.Analyser.Of(s, d.ID); known {
		f.Analyser = &told
	}
	holds, _ := facts.Known.Of(s, d.ID)
	for _, h := range holds.Sets {
		if h.Differs > 0 {
			f.References = append(f.References, h.Name)
		}
	}
	if sent, known := facts.Sending.Of(s, of); known && sent.At.After(of.Paired.At) {
		f.Sending = sent.Trouble
	}
	return f
}

// Looked is what is known of a view that an analyser looks at, or may.
func Looked(s *site.Snapshot, of site.Source) pairing.Facts { return pairingOf(s, of) }

// Stills are the stills that a view offers, by its profiles.
func Stills(s *site.Snapshot, of site.Source) (out []pairing.Still) {
	own, _ := s.ProfilesOf(of)
	for _, p := range own {
		if p.Snapshot != "" {
			out = append(out, pairing.Still{Profile: p.Token, Width: p.Width, Height: p.Height})
		}
	}
	return out
}

func (a *Stage) proposePairing(s *site.Snapshot, of site.Source) []finding.Change {
	if of.Paired == nil {
		return nil
	}
	return pairing.Propose(pairingOf(s, of), strconv.FormatInt(of.Paired.Analyser, 10))
}

// Paired asks that analysers look at views.
type Paired struct {
	act.Selection
	Analyser  int64   `form:"analyser" json:"analyser_id,omitempty"` // 0: any, as they have room
	PerSecond float64 `form:"rate" json:"per_second,omitempty"`      // stills; 0: 2
	Score     float64 `form:"score" json:"least_score,omitempty"`    // 0 to 1; 0: 0.3
	Within    string  `form:"within" json:"within,omitempty"`        // the area that is looked at, as a drawing's points are given; empty: the whole picture
}

func (x Paired) wish() pairing.Wish {
	return pairing.Wish{PerSecond: cmp.Or(x.PerSecond, pairing.UsualRate), LeastScore: cmp.Or(x.Score, pairing.UsualScore), Within: plainPoints(x.Within)}
}

// plainPoints are points as they are written everywhere; what can't be read stays as it is, to be refused.
func plainPoints(text string) string {
	if all, err := rule.ParsePoints(text); err == nil {
		return rule.FormatPoints(all)
	}
	return text
}

// Check is what is wrong with it.
func (x Paired) Check() error {
	w := x.wish()
	if why := w.Wrong(); why != "" {
		field := "rate"
		if w.Within = ""; w.Wrong() == "" {
			field = "within"
		}
		return act.Wrong(field, upper(why)+".")
	}
	return nil
}

// bins are the analysers of a site that were read, without what they look at of the views that are placed anew.
func bins(s *site.Snapshot, anew map[string]bool) (out []pairing.Bin) {
	for _, d := range s.Analysers() {
		told, known := facts.Analyser.Of(s, d.ID)
		if !known || s.RecorderTrouble(d.ID) != "" {
			continue
		}
		told.Name = d.Place
		told.Views = slices.DeleteFunc(slices.Clone(told.Views), func(v pairing.View) bool { return anew[v.ID] })
		out = append(out, pairing.Bin{ID: d.ID, Analyser: told})
	}
	return out
}

func planPaired(_ time.Time, s *act.Seen, x Paired) (p act.Planned, err error) {
	w := x.wish()
	if x.Analyser != 0 {
		if d, ok := s.Device(x.Analyser); !ok || d.Kind != identity.Analyser {
			return p, act.Wrong("analyser", "Pick an analyser of this site.")
		}
	}
	var all []pairing.Placing
	anew := map[string]bool{}
	of := map[int64]site.Source{}
	for _, v := range s.Of {
		f := pairingOf(s.Snapshot, v)
		if why := f.Hinders(); why != "" {
			p.Refuse(v.Place, why)
			continue
		}
		all = append(all, pairing.Placing{ID: v.ID, Rate: w.PerSecond, Stills: f.Stills, Wish: x.Analyser})
		anew[v.Key], of[v.ID] = true, v
	}
	room := bins(s.Snapshot, anew)
	got := pairing.Assign(all, room)
	for _, want := range all {
		v := of[want.ID]
		id, fits := got.To[want.ID]
		if !fits {
			p.Refuse(v.Place, got.Why[want.ID])
			continue
		}
		told, _ := facts.Analyser.Of(s.Snapshot, id)
		if d, ok := s.Device(id); ok {
			told.Name = d.Place
		}
		from := ""
		if v.Paired != nil {
			from = strconv.FormatInt(v.Paired.Analyser, 10)
		}
		if changes := pairingOf(s.Snapshot, v).Moves(from, strconv.FormatInt(id, 10), told, w); len(changes) > 0 {
			p.Add(v, changes)
			p.Of[len(p.Of)-1].Ordered = true
		} else {
			p.Idle++
		}
	}
	p.Title = "Have analysers look at " + act.Count(len(p.Of), "view")
	return p, nil
}

func planUnpaired(_ time.Time, s *act.Seen, x act.Selection) (p act.Planned, err error) {
	for _, v := range s.Of {
		f := pairingOf(s.Snapshot, v)
		switch {
		case v.Paired == nil:
			p.Idle++
		case f.Analyser == nil:
			p.Refuse(v.Place, f.Name+" wasn't read yet: read the analysers first")
		default:
			p.Add(v, []finding.Change{f.Off(strconv.FormatInt(v.Paired.Analyser, 10), f.Name, *f.Analyser, "It was asked for. What it saw stays here.")})
		}
	}
	p.Title = "Have analysers look at " + act.Count(len(p.Of), "view") + " no more"
	return p, nil
}

// pairEditor reads and writes whether an analyser looks at a view, and how.
func (a *Stage) pairEditor(ctx context.Context, v *engine.Visit, c store.Change) (engine.Editor, error) {
	s, err := v.Snapshot(ctx)
	if err != nil {
		return nil, err
	}
	d, err := analyserNamed(s, c.Args["analyser"])
	if err != nil {
		return nil, err
	}
	client, err := a.Accounts.Analyser(ctx, d)
	if err != nil {
		return nil, err
	}
	id, name := c.Args["view"], v.Source.Place
	return engine.EditorFuncs{
		ReadFunc: func(ctx context.Context) (string, error) {
			told, _, err := client.Status(ctx)
			return told.Reads(id), err
		},
		WriteFunc: func(ctx context.Context) error {
			if c.ToText == pairing.None {
				return client.Unpair(ctx, id)
			}
			w, ok := pairing.ParseWish(c.ToText)
			if !ok {
				return fmt.Errorf("change %d says no way to look at a view: %q", c.ID, c.ToText)
			}
			return client.Pair(ctx, id, name, w)
		},
		Shut: client.Close,
	}, nil
}

func analyserNamed(s *site.Snapshot, id string) (store.Device, error) {
	n, err := strconv.ParseInt(id, 10, 64)
	if err != nil {
		return store.Device{}, fmt.Errorf("analytics: a change names no analyser: %w", err)
	}
	d, ok := s.Device(n)
	if !ok || d.Kind != identity.Analyser {
		return d, trouble.UserError("That analyser was taken off the site.")
	}
	return d, nil
}

// pairingsMade keeps what changes of pairings made of a view, and reads the analysers that they are about.
func (a *Stage) pairingsMade(ctx context.Context, v *engine.Visit, changes []store.Change) error {
	touched := false
	for _, c := range changes {
		if c.Kind != pairing.Pair && c.Kind != pairing.Unpair || !c.Made() {
			continue
		}
		touched = true
		s, err := v.Snapshot(ctx)
		if err != nil {
			return err
		}
		d, err := analyserNamed(s, c.Args["analyser"])
		if err != nil {
			return err
		}
		of, err := a.Store.SourceByID(ctx, v.Source.ID)
		if err != nil {
			return err
		}
		// It is read before that is kept: who begins to send stills then finds the view among what it told.
		_, failed := a.askAnalyser(ctx, d)
		w, on := pairing.ParseWish(c.ToText)
		switch {
		case on:
			err = a.Store.Pair(ctx, v.Site, of.ID, d.ID, w)
		case of.Paired != nil && of.Paired.Analyser == d.ID:
			err = a.Store.Unpair(ctx, v.Site, of.ID)
		}
		if err := errors.Join(err, failed); err != nil {
			return err
		}
	}
	if !touched {
		return nil
	}
	of, err := a.Store.SourceByID(ctx, v.Source.ID)
	if err != nil {
		return err
	}
	v.Source = of
	return errors.Join(a.Store.DropFactOf(ctx, fact.Rules, of.ID), a.Store.DropFactOf(ctx, fact.Held, of.ID), a.Store.DropFactOf(ctx, fact.Sits, of.ID))
}

// readAnalyser reads an analyser that is read by itself.
func (a *Stage) readAnalyser(ctx context.Context, v *engine.Visit) (string, error) {
	told, err := a.askAnalyser(ctx, v.Device)
	if err == nil {
		err = a.forgetGone(ctx, v.Site)
	}
	if err != nil {
		return "", err
	}
	return act.Count(len(told.Views), "view") + " looked at", nil
}

// askAnalyser reads what an analyser tells of itself and its clock, and keeps it. What was known stays when it doesn't answer.
func (a *Stage) askAnalyser(ctx context.Context, d store.Device) (told pairing.Analyser, err error) {
	asked := fact.LastRead{At: time.Now().UTC()}
	keep := []store.NewFact{}
	c, err := a.Accounts.Analyser(ctx, d)
	if err == nil {
		defer c.Close()
		var r clock.Reading
		if told, r, err = c.Status(ctx); err == nil {
			const via = "GET /api/status"
			keep = append(keep, facts.Analyser.New(d.ID, via, told.At, told))
			if !r.At.IsZero() {
				keep = append(keep, facts.Clock.New(d.ID, via, r.At, r))
			}
			if pin := c.Pin(); pin != "" {
				keep = append(keep, facts.RecorderPin.New(d.ID, via, told.At, pin))
			}
			var held []store.NewFact
			held, err = a.heldBy(ctx, c, d, told)
			keep = append(keep, held...)
		}
	}
	if err != nil && engine.Ours(err) {
		return told, err
	}
	if err != nil {
		asked.Trouble = trouble.Sentence(err)
	}
	keep = append(keep, site.Reached.New(d.ID, "GET /api/status", asked.At, asked))
	return told, errors.Join(err, a.Store.KeepFacts(ctx, keep...))
}

// Health reads the analyser that looks at a view, unless that was done a moment ago, and has the views that it looks at be judged by it.
func (a *Stage) Health(ctx context.Context, source int64) error {
	of, err := a.Store.SourceByID(ctx, source)
	if err != nil || of.Paired == nil {
		return err
	}
	id := of.Paired.Analyser
	had, err := a.Store.FactsOf(ctx, []int64{id})
	if err != nil || time.Since(had[id][site.Reached.Name].ReadAt) < freshFor {
		return err
	}
	d, err := a.Store.Device(ctx, id)
	if err != nil {
		return err
	}
	if _, err := a.askAnalyser(ctx, d); err != nil && engine.Ours(err) {
		return err
	}
	devices, err := a.Store.LookedAtBy(ctx, id)
	if err != nil {
		return err
	}
	return a.Engine.Judge(ctx, d.SiteID, devices)
}

// Sent keeps how sending a view's stills to its analyser goes, where that is news, and has it be judged.
func (a *Stage) Sent(ctx context.Context, source int64, hindered error) error {
	of, err := a.Store.SourceByID(ctx, source)
	if err != nil {
		return err
	}
	s, err := site.Load(ctx, a.Store, of.Device.SiteID, []int64{of.Device.ID})
	if err != nil {
		return err
	}
	now := fact.LastRead{At: time.Now().UTC()}
	if hindered != nil {
		if engine.Ours(hindered) {
			return nil // it is tried again, and says nothing of the analyser
		}
		now.Trouble = trouble.Sentence(hindered)
	}
	was, known := facts.Sending.Of(s, of)
	if known && was.Trouble == now.Trouble && of.Paired != nil && was.At.After(of.Paired.At) {
		return nil
	}
	if err := a.Store.KeepFacts(ctx, facts.Sending.New(of, "POST /api/views/…/stills", now.At, now)); err != nil {
		return err
	}
	return a.Engine.Judge(ctx, of.Device.SiteID, []int64{of.Device.ID})
}

// Analysers asks for the reading of a site's analysers.
type Analysers struct{}

func (a *Stage) readAnalysers(ctx context.Context, c *act.Call, _ Analysers) (act.Kept, error) {
	s, err := site.Load(ctx, c.Store, c.Site.ID, []int64{})
	if err != nil {
		return act.Kept{}, err
	}
	var ids []int64
	var names []string
	for _, d := range s.Analysers() {
		ids, names = append(ids, d.ID), append(names, d.Place)
	}
	if len(ids) == 0 {
		return act.Kept{}, trouble.UserError("This site has no analyser: add one in Settings.")
	}
	n := store.NewRun{Site: c.Site.ID, Stage: stage.Analytics, Act: store.Read, Person: c.Person, Token: c.Token, Of: store.OfDevices(ids...), Title: "Read " + act.Count(len(ids), "analyser")}
	return act.Kept{Says: "Reading " + strings.Join(names, ", ") + ".", After: func(ctx context.Context) (int64, error) { return a.Engine.Begin(ctx, n, false) }}, nil
}
