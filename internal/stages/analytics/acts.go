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
	"duskyharbor/internal/core/finding"
	"duskyharbor/internal/core/rule"
	"duskyharbor/internal/core/scene"
	"duskyharbor/internal/core/stage"
	"duskyharbor/internal/core/trouble"
	"duskyharbor/internal/facts"
	"duskyharbor/internal/site"
	"duskyharbor/internal/store"
)

// Acts of the stage.
func (a *Stage) Acts() []act.Any {
	const on = stage.Analytics
	return []act.Any{
		act.Act[Drawing]{Name: "analytics/draw", About: "keep a rule that is drawn for a camera; nothing is written to it", Stage: on, Keep: keepDrawing},
		act.Act[One]{Name: "analytics/drop", About: "take a drawn rule off the list; what the camera has stays", Stage: on, Keep: dropDrawing},
		act.Act[Switch]{Name: "analytics/switch", About: "have a drawn rule be off, or on again; nothing is written to the camera", Stage: on, Keep: switchDrawing},
		act.Act[KeptSet]{Name: "analytics/keep-set", About: "keep the rules that are drawn for a camera as a set of the site", Stage: on, Keep: keepSet},
		act.Act[DrawnSet]{Name: "analytics/draw-set", About: "draw the rules of a set for cameras", Stage: on, Keep: drawSet},
		act.Act[ASet]{Name: "analytics/drop-set", About: "forget a set of rules; what is drawn stays", Stage: on, Keep: dropSet},
		act.Act[Named]{Name: "analytics/take", About: "take a rule of the camera into the drawing, as it is there", Stage: on, Keep: takeRule},
		act.Act[Copy]{Name: "analytics/copy", About: "draw a camera's rules for other cameras as well", Stage: on, Keep: copyRules},
		act.Act[Watch]{Name: "analytics/watch", About: "have what cameras' analytics see be gathered, or not any more", Stage: on, Keep: keepWatch},
		act.Act[act.Selection]{Name: "analytics/look-again", About: "look anew how boxes sit on what moves", Stage: on, Keep: forgetSits},
		act.Act[Turn]{Name: "analytics/turn", About: "say how a camera's analytics lie on its picture; nothing is written to it", Stage: on, Keep: keepTurn},
		act.Act[Check]{Name: "analytics/check", About: "say of a firing whether it was right or wrong", Stage: on, Keep: keepCheck},
		act.Act[Written]{Name: "analytics/write", About: "write what is drawn to cameras", Stage: on, Plan: planWritten},
		act.Act[Sensitivity]{Name: "analytics/sensitivity", About: "set how little must change in the pictures of cameras for their cells to move", Stage: on, Plan: planSensitivity},
		act.Act[Paired]{Name: "analytics/pair", About: "have analysers look at views that have no analytics of their own, as they have room", Stage: on, Plan: planPaired},
		act.Act[act.Selection]{Name: "analytics/unpair", About: "have analysers look at views no more; what they saw stays", Stage: on, Plan: planUnpaired},
		act.Act[Analysers]{Name: "analytics/analysers", About: "read the site's analysers: limits, views, queues, clocks", Stage: on, Runs: true, Keep: a.readAnalysers},
		act.Act[KnownSet]{Name: "known/set", About: "keep a set of reference pictures, of faces, vehicles or things; nothing is written to an analyser", Stage: on, Keep: keepKnownSet},
		act.Act[AKnownSet]{Name: "known/set/drop", About: "forget a set of reference pictures that is empty", Stage: on, Keep: dropKnownSet},
		act.Act[Known]{Name: "known/entry", About: "keep by what name, on what ground and until when somebody or something is known", Stage: on, Keep: keepKnown},
		act.Act[Unknown]{Name: "known/entry/drop", About: "delete somebody or something that is known, here; analysers are told by known/at", Stage: on, Keep: dropKnown},
		act.Act[KnownPicture]{Name: "known/picture", About: "keep a reference picture of somebody or something that is known", Stage: on, Keep: a.keepKnownPicture},
		act.Act[AKnownPicture]{Name: "known/picture/drop", About: "delete a reference picture here", Stage: on, Keep: dropKnownPicture},
		act.Act[KnownAt]{Name: "known/at", About: "have an analyser hold a set of references as it is here, or hold it no more", Stage: on, More: a.readKnown, Plan: planKnownAt},
		act.Act[Named]{Name: "analytics/remove", About: "take a rule off a camera", Stage: on, Plan: planRemoved},
	}
}

// Drawing is a rule as a person draws it: a sentence over points that are given across and down, in hundredths of the
// picture from its upper left corner, as "20 10, 40.5 10, 30 30".
type Drawing struct {
	act.Camera
	ID        int64    `form:"rule" json:"id,omitempty"` // 0: a new one
	Name      string   `form:"name" json:"name"`
	Kind      string   `form:"kind" json:"kind" enum:"Crosses,ComesInto,GoesOut,Inside,FirstSeen,LastSeen,Stays,Left,Taken,Crowd,Faster,Moves"`
	Points    string   `form:"points" json:"points,omitempty"`                             // of its line, of its area
	Cells     string   `form:"cells" json:"cells,omitempty"`                               // of Moves: rows of # and . with / between
	Without   []string `form:"without" json:"without,omitempty"`                           // areas that are left out; a form gives them in one, with ; between
	Direction string   `form:"direction" json:"direction,omitempty" enum:"Any,Left,Right"` // seen along the line, of Crosses
	Classes   []string `form:"class" json:"classes,omitempty"`                             // none: any
	Colours   []string `form:"colour" json:"colours,omitempty"`                            // none: any; else any of them
	Has       []string `form:"has" json:"has,omitempty"`                                   // Bag, Hat, FaceCover
	Lacks     []string `form:"lacks" json:"lacks,omitempty"`                               // what it is told to be without
	Score     float64  `form:"score" json:"least_score,omitempty"`                         // 0 to 1
	For       float64  `form:"for" json:"for_seconds,omitempty"`
	Break     float64  `form:"break" json:"break_seconds,omitempty"`   // 0: 1 s
	Count     int      `form:"count" json:"count,omitempty"`           // of Crowd; 0: 2. Of Moves in cells; 0: 1
	Speed     float64  `form:"speed" json:"speed,omitempty"`           // of Faster, in pictures a second
	Share     float64  `form:"share" json:"share_percent,omitempty"`   // of a box that must be in; 0: 50
	Margin    float64  `form:"margin" json:"margin_percent,omitempty"` // of Crosses: how far from the line it must have been, in % of the picture's side; 0: 1
	Lowest    float64  `form:"lowest" json:"least_height_percent,omitempty"`
	Highest   float64  `form:"highest" json:"greatest_height_percent,omitempty"`
	Shortest  float64  `form:"shortest" json:"least_metres_tall,omitempty"` // reckoned from the two marks of known size on its picture
	Tallest   float64  `form:"tallest" json:"greatest_metres_tall,omitempty"`
	From      string   `form:"from" json:"from,omitempty"` // "21:00"
	To        string   `form:"to" json:"to,omitempty"`
}

// mostName is how long a rule's name may be, in characters.
const mostName = 64

// Rule is the drawing as the rule that it is, or what is wrong with it.
func (x Drawing) Rule() (r rule.Rule, err error) {
	seconds := func(v float64) time.Duration { return time.Duration(v * float64(time.Second)) }
	r = rule.Rule{Name: strings.TrimSpace(x.Name), Kind: rule.Kind(x.Kind), Classes: x.Classes, MinScore: x.Score, For: seconds(x.For), Break: seconds(x.Break),
		Count: x.Count, Speed: x.Speed, Share: x.Share / 100, Margin: x.Margin / 50, Lowest: x.Lowest / 100, Highest: x.Highest / 100, Shortest: x.Shortest, Tallest: x.Tallest,
		Traits: rule.Traits{Colours: as[scene.Colour](x.Colours), Has: as[scene.Carried](x.Has), Lacks: as[scene.Carried](x.Lacks)}}
	if r.Name == "" || !act.Fits(r.Name, mostName) {
		return r, act.Wrongf("name", "Name the rule, in up to %d characters.", mostName)
	}
	if !(x.For >= 0 && x.For <= 86400 && x.Break >= 0 && x.Break <= 3600) {
		return r, act.Wrong("for", "Times are a day at the most, breaks an hour.")
	}
	points, err := rule.ParsePoints(x.Points)
	if err != nil {
		return r, act.Wrong("points", upper(err.Error())+".")
	}
	for _, text := range strings.Split(strings.Join(x.Without, ";"), ";") {
		out, err := rule.ParsePoints(text)
		if err != nil {
			return r, act.Wrong("without", upper(err.Error())+".")
		}
		if len(out) > 0 {
			r.Without = append(r.Without, out)
		}
	}
	if r.Kind == rule.Moves {
		if r.Cells, err = scene.ParseCells(x.Cells); err != nil {
			return r, act.Wrong("cells", upper(err.Error())+".")
		}
		r.Without = nil
	} else if r.Kind == rule.Crosses {
		r.Line, r.Direction = points, rule.Direction(x.Direction)
		if x.Direction != "" && x.Direction != "Any" && x.Direction != "Left" && x.Direction != "Right" {
			return r, act.Wrong("direction", "A line is crossed to the left of it, to the right of it, or either way.")
		}
	} else {
		r.Area = points
	}
	if r.Hours, err = parseHours(x.From, x.To); err != nil {
		return r, err
	}
	if len(r.Classes) > 16 || slices.ContainsFunc(r.Classes, func(c string) bool { return c == "" || len(c) > 32 || strings.ContainsAny(c, " \t\r\n") }) {
		return r, act.Wrong("class", "A class is one word, as Human.")
	}
	err = r.Check()
	switch {
	case errors.Is(err, scene.ErrShape):
		return r, act.Wrong("points", "Draw it on the picture: "+err.Error()+".")
	case err != nil && r.Traits.Wrong() != "":
		return r, act.Wrong("colour", upper(r.Traits.Wrong())+".")
	case err != nil && r.Kind == rule.Moves && r.Cells.Count() == 0:
		return r, act.Wrong("cells", "Paint the cells in which motion counts.")
	case err != nil:
		return r, act.Wrong("kind", upper(strings.TrimPrefix(err.Error(), rule.ErrRule.Error()+": "))+".")
	}
	for _, area := range append([]scene.Polygon{r.Area}, r.Without...) {
		if len(area) > 0 && !area.Simple() {
			return r, act.Wrong("points", "An area's edges don't cross.")
		}
	}
	return r, nil
}

// DrawingOf is a rule as a person, or a program, draws it: Rule makes the rule of it again.
func DrawingOf(source int64, d rule.Drawn) Drawing {
	x := Drawing{Camera: act.Camera{Source: source}, ID: d.ID, Name: d.Name, Kind: string(d.Kind), Classes: d.Classes, Score: d.MinScore, For: d.For.Seconds(),
		Break: d.Break.Seconds(), Count: d.Count, Speed: d.Speed, Share: 100 * d.Share, Margin: 50 * d.Margin, Lowest: 100 * d.Lowest, Highest: 100 * d.Highest, Shortest: d.Shortest, Tallest: d.Tallest,
		Colours: as[string](d.Colours), Has: as[string](d.Has), Lacks: as[string](d.Lacks)}
	if d.Kind == rule.Moves {
		x.Cells = d.Cells.String()
	} else if d.Kind == rule.Crosses {
		x.Points, x.Direction = rule.FormatPoints(d.Line), string(cmp.Or(d.Direction, rule.Either))
	} else {
		x.Points = rule.FormatPoints(d.Area)
	}
	for _, w := range d.Without {
		x.Without = append(x.Without, rule.FormatPoints(w))
	}
	if h := d.Hours; h.From != h.To {
		x.From, x.To = clockText(h.From), clockText(h.To)
	}
	return x
}

// as are the same words as another kind of text.
func as[T, F ~string](all []F) (out []T) {
	for _, x := range all {
		out = append(out, T(x))
	}
	return out
}

func clockText(minute int) string { return fmt.Sprintf("%02d:%02d", minute/60, minute%60) }

// Standing is a rule of a view as programs see it.
type Standing struct {
	Name    string     `json:"name"`
	State   rule.State `json:"state"`
	Drawing *Drawing   `json:"drawing,omitempty"`   // as it is drawn here, as analytics/draw takes it
	There   string     `json:"on_camera,omitempty"` // as the camera has it, in a line
	Cant    []string   `json:"cant,omitempty"`      // what the camera can't do of what is drawn
}

// Rules are a view's rules, those that are drawn and those of its camera.
func (a *Stage) Rules(ctx context.Context, siteID, source int64) ([]Standing, error) {
	of, s, err := a.view(ctx, siteID, source)
	if err != nil {
		return nil, err
	}
	out := []Standing{}
	for _, x := range rule.Stand(facts.ForRules(s, of)) {
		r := Standing{Name: x.Name, State: x.State}
		if x.Drawn != nil {
			d := DrawingOf(of.ID, *x.Drawn)
			r.Drawing = &d
		}
		switch {
		case x.Clear:
			r.There = x.OnSays.Text()
		case x.On != nil:
			r.There = "a " + x.On.Type
		}
		for _, c := range x.Cant {
			r.Cant = append(r.Cant, c.Why)
		}
		out = append(out, r)
	}
	return out, nil
}

// view is a view of a site, with what is known of it.
func (a *Stage) view(ctx context.Context, siteID, source int64) (site.Source, *site.Snapshot, error) {
	of, err := a.Store.SourceByID(ctx, source)
	if err == nil && of.Device.SiteID != siteID {
		err = store.ErrNotFound
	}
	if err != nil {
		return of, nil, err
	}
	s, err := site.Load(ctx, a.Store, siteID, []int64{of.Device.ID})
	return of, s, err
}

func upper(s string) string {
	if s == "" {
		return s
	}
	return strings.ToUpper(s[:1]) + s[1:]
}

// parseHours reads "21:00" and "05:30"; neither is all hours.
func parseHours(from, to string) (h rule.Hours, err error) {
	if from == "" && to == "" {
		return h, nil
	}
	for _, x := range []struct {
		text, field string
		to          *int
	}{{from, "from", &h.From}, {to, "to", &h.To}} {
		text := strings.TrimSpace(x.text)
		if text == "24:00" {
			text = "00:00"
		}
		at, err := time.Parse("15:04", text)
		if err != nil {
			return h, act.Wrong(x.field, "Hours are from one time of the day to another, as 21:00 to 05:30.")
		}
		*x.to = at.Hour()*60 + at.Minute()
	}
	return h, nil
}

// Check is what is wrong with it.
func (x Drawing) Check() error {
	_, err := x.Rule()
	return err
}

func keepDrawing(ctx context.Context, c *act.Call, x Drawing) (act.Kept, error) {
	r, err := x.Rule()
	if err != nil {
		return act.Kept{}, err
	}
	_, of, err := c.Camera(ctx, x.Source)
	if err != nil {
		return act.Kept{}, err
	}
	id, err := c.Store.KeepRule(ctx, c.Site.ID, of.ID, rule.Drawn{ID: x.ID, Rule: r})
	switch {
	case errors.Is(err, store.ErrTaken):
		err = act.Wrongf("name", "Another rule of %s is called %q: give this one another name.", of.Place, r.Name)
	case errors.Is(err, store.ErrFull):
		err = trouble.UserError("No more rules are kept for " + of.Place + ": take one off the list.")
	}
	return act.Kept{ID: id, Says: fmt.Sprintf("%s is drawn for %s. Nothing was written to it.", r.Name, of.Place), Did: "drew a rule",
		Detail: of.Place + ": " + r.Name + ": " + r.Text(), Judge: []int64{of.Device.ID}, To: at(of.ID, id)}, err
}

// at is the page with a camera's rule in hand.
func at(source, id int64) string {
	to := "analytics?camera=" + strconv.FormatInt(source, 10)
	if id != 0 {
		to += "&rule=" + strconv.FormatInt(id, 10)
	}
	return to
}

// One is a drawn rule of a camera.
type One struct {
	act.Camera
	ID int64 `form:"rule" json:"id"`
}

func dropDrawing(ctx context.Context, c *act.Call, x One) (act.Kept, error) {
	_, of, err := c.Camera(ctx, x.Source)
	if err != nil {
		return act.Kept{}, err
	}
	name, err := c.Store.DropRule(ctx, c.Site.ID, of.ID, x.ID)
	return act.Kept{Says: name + " is off the list. What the camera has stays as it is.", Did: "took a drawn rule off", Detail: of.Place + ": " + name,
		Judge: []int64{of.Device.ID}, To: at(of.ID, 0)}, err
}

// Named is a rule of a camera by its name there.
type Named struct {
	act.Camera
	Name string `form:"name" json:"name"`
}

// takeRule takes a camera's rule into the drawing.
func takeRule(ctx context.Context, c *act.Call, x Named) (act.Kept, error) {
	s, of, err := c.Camera(ctx, x.Source)
	if err != nil {
		return act.Kept{}, err
	}
	f, drawn := facts.ForRules(s, of)
	i := slices.IndexFunc(f.Configs, func(c rule.Config) bool { return c.Name == x.Name })
	if i < 0 {
		return act.Kept{}, trouble.UserErrorf("%s has no rule %q any more: read its analytics again.", of.Place, x.Name)
	}
	r, told := f.Configs[i].Says()
	if !told {
		return act.Kept{}, trouble.UserErrorf("There is no sentence for %q: it stays as it is, untouched.", x.Name)
	}
	d := rule.Drawn{Rule: r}
	for _, had := range drawn {
		if had.Name == x.Name {
			d.ID = had.ID
		}
	}
	id, err := c.Store.KeepRule(ctx, c.Site.ID, of.ID, d)
	return act.Kept{ID: id, Says: x.Name + " is drawn here as the camera has it.", Did: "took a camera's rule into the drawing", Detail: of.Place + ": " + r.Text(),
		Judge: []int64{of.Device.ID}, To: at(of.ID, id)}, err
}

// Copy is rules that are drawn for other cameras as well.
type Copy struct {
	act.Selection
	From int64  `form:"from" json:"from_camera_id"`
	Name string `form:"name" json:"name,omitempty"` // of the one that is meant; empty: all
}

// copyRules draws them for the selection; one that has a rule of the name keeps its own, and is named.
func copyRules(ctx context.Context, c *act.Call, x Copy) (act.Kept, error) {
	s, from, err := c.Camera(ctx, x.From)
	if err != nil {
		return act.Kept{}, err
	}
	_, all := facts.ForRules(s, from)
	all = slices.DeleteFunc(slices.Clone(all), func(d rule.Drawn) bool { return x.Name != "" && d.Name != x.Name })
	if len(all) == 0 {
		return act.Kept{}, act.Wrong("name", "Nothing of that name is drawn for "+from.Place+".")
	}
	_, selected, err := c.Selected(ctx, x.Selection, stage.Analytics)
	if err != nil {
		return act.Kept{}, err
	}
	selected = slices.DeleteFunc(selected, func(of site.Source) bool { return of.ID == from.ID })
	drawn, err := c.Store.CopyRules(ctx, c.Site.ID, from.ID, x.Name, numbers(selected))
	if err != nil {
		return act.Kept{}, err
	}
	return drew(from.Place, len(all), selected, drawn)
}

// Written is what is drawn for cameras, and is to be on them.
type Written struct {
	act.Selection
	Name string `form:"name" json:"name,omitempty"` // of the one that is meant; empty: all
}

func planWritten(_ time.Time, s *act.Seen, x Written) (p act.Planned, err error) {
	rules := 0
	for _, of := range s.Of {
		f, drawn := facts.ForRules(s.Snapshot, of)
		switch {
		case len(drawn) == 0:
			p.Idle++
			continue
		case !writable(s.Snapshot, of):
			p.Refuse(of.Place, "no account opens its settings")
			continue
		case !f.Known():
			p.Refuse(of.Place, "what its rules are wasn't read, or it has no analytics")
			continue
		}
		var all []finding.Change
		for _, d := range drawn {
			if x.Name != "" && d.Name != x.Name {
				continue
			}
			changes, cant, err := f.Writes(d, drawn)
			switch {
			case err != nil:
				p.Refuse(of.Place, fmt.Sprintf("its %q is a rule that there is no sentence for: it isn't touched", d.Name))
			case len(cant) > 0:
				p.Refuse(of.Place, d.Name+": "+rule.Whys(cant))
			default:
				all = append(all, changes...)
				f = f.After(changes)
			}
		}
		rules += len(all)
		p.Add(of, all)
	}
	p.Title = fmt.Sprintf("Write %s to %s", act.Count(rules, "rule"), act.Count(len(p.Of), "camera"))
	return p, nil
}

func planRemoved(_ time.Time, s *act.Seen, x Named) (p act.Planned, err error) {
	of, err := s.The()
	if err != nil {
		return p, err
	}
	f, _ := facts.ForRules(s.Snapshot, of)
	change, err := f.Remove(x.Name)
	switch {
	case errors.Is(err, rule.ErrForeign):
		return p, trouble.UserErrorf("There is no sentence for %q: it stays as it is, untouched.", x.Name)
	case change == nil:
		return p, trouble.UserErrorf("%s has no rule %q any more: read its analytics again.", of.Place, x.Name)
	}
	p.Title = fmt.Sprintf("Take %s off %s", x.Name, of.Place)
	p.Add(of, []finding.Change{*change})
	return p, nil
}
