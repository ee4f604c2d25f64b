package rule

import (
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"duskyharbor/internal/core/finding"
	"duskyharbor/internal/core/scene"
)

// Twice is the finding that another view of the device watches for the same; accepted, one is a check of the other.
const Twice = "analytics.twice"

// Turned is the finding that a camera's analytics lie on its picture otherwise than its drawings are counted.
const Turned = "analytics.turned"

// Drawn is a rule that was drawn here for a view, whether or not its camera has it.
type Drawn struct {
	ID  int64
	Off bool   // it is kept, and isn't to be on the camera
	Was string // what it was called when the camera got it, where that was otherwise
	Rule
}

// Facts is what is known of a view's rules.
type Facts struct {
	LookedAt  time.Time
	Trouble   string
	Token     string // of its analytics configuration; empty: it has no analytics
	Supported Supported
	Configs   []Config
	Recorder  string   // that holds its channel
	Drops     bool     // the way in that it uses there passes no events
	Deaf      []string // names of the modes of its recording in whose hours the recorder listens to none
	Twin      string   // another view of the same device, by the place that it has
	TwinHas   []Config
	Second    bool         // that one comes before this one
	Checks    bool         // a person said that what both watch for is a check of one by the other
	Held      []Held       // how what it fired was held against what was foretold
	Sits      *scene.Sits  // how its boxes lie on what moves in the picture; nil: not known
	SatAt     time.Time    // when that was seen
	Turned    scene.Turned // how its analytics lie on its picture, as a person said: all of it is told as in the picture
}

// Known says whether what the camera has is known.
func (f Facts) Known() bool { return f.Token != "" && !f.LookedAt.IsZero() }

// Standing is how a rule stands: drawn here, on the camera, or both.
type Standing struct {
	Name   string
	Drawn  *Drawn
	On     *Config // as the camera has it
	OnSays Rule    // that, as a sentence
	Clear  bool    // there is one
	State  State
	Cant   []Cant // what the camera can't do of what is drawn
}

// State of a rule.
type State string

const (
	AsDrawn   State = "as on the camera"
	NotYet    State = "drawn here, not written"
	Otherwise State = "otherwise on the camera"
	Elsewhere State = "made elsewhere"
	Foreign   State = "shown, not touched" // there is no sentence for it
	Unknown   State = "not known"          // what the camera has wasn't read
	Off       State = "off"
	OnYet     State = "off here, on there yet"
	Renamed   State = "called otherwise here" // the camera has it by its name of before
)

// Stand says how each rule of a view stands: those drawn first, in their order, then those that only the camera has.
func Stand(f Facts, drawn []Drawn) (out []Standing) {
	room := f // once those before were written
	for i := range drawn {
		s := Standing{Name: drawn[i].Name, Drawn: &drawn[i], State: NotYet}
		if at := f.find(s.Name); at >= 0 {
			s.On = &f.Configs[at]
			s.OnSays, s.Clear = s.On.Says()
			s.State = Otherwise
			if s.Clear && Same(s.OnSays, drawn[i].Rule) {
				s.State = AsDrawn
			}
		}
		switch {
		case !f.Known():
			s.State = Unknown
		case drawn[i].Off && s.On != nil:
			s.State = OnYet
		case drawn[i].Off:
			s.State = Off
		}
		if f.Known() && (s.State == OnYet || s.State == Otherwise || s.State == NotYet) {
			changes, cant, _ := room.Writes(drawn[i], drawn) // a rule that isn't touched is told by its state
			s.Cant, room = cant, room.After(changes)
		}
		out = append(out, s)
	}
	for i := range f.Configs {
		c := &f.Configs[i]
		if slices.ContainsFunc(drawn, func(d Drawn) bool { return d.Name == c.Name }) {
			continue
		}
		s := Standing{Name: c.Name, On: c, State: Foreign}
		if s.OnSays, s.Clear = c.Says(); s.Clear {
			s.State = Elsewhere
		}
		if slices.ContainsFunc(drawn, func(d Drawn) bool { return d.Was == c.Name }) {
			s.State = Renamed
		}
		out = append(out, s)
	}
	return out
}

func (f Facts) find(name string) int {
	return slices.IndexFunc(f.Configs, func(c Config) bool { return c.Name == name })
}

// Kinds of change.
const (
	WriteRule  = "rule.write"
	RemoveRule = "rule.remove"
)

// None is what a rule reads that the camera hasn't.
const None = "no such rule"

// ErrForeign is returned for a rule that isn't to be touched: there is no sentence for it.
var ErrForeign = errors.New("a rule of the camera that there is no sentence for isn't touched")

// Write is the change that has the camera's rule as it is drawn, or what the camera can't do of it; neither where it is so.
func (f Facts) Write(d Drawn) (*finding.Change, []Cant, error) {
	c, cant := f.Supported.Write(d.Rule)
	if len(cant) > 0 {
		return nil, cant, nil
	}
	from, old := None, ""
	if at := f.find(d.Name); at >= 0 {
		is, told := f.Configs[at].Says()
		if !told {
			return nil, nil, ErrForeign
		}
		if Same(is, d.Rule) {
			return nil, nil, nil
		}
		from, old = is.Text(), f.Configs[at].encode()
	} else if f.full() {
		return nil, []Cant{{"room", fmt.Sprintf("it keeps %d, and has as many", f.Supported.Most)}}, nil
	}
	return &finding.Change{Kind: WriteRule, Key: f.key(d.Name), Title: "Rule " + d.Name, From: from, To: d.Text(), Why: "It was drawn here.", Risk: finding.NoRisk,
		Args: map[string]string{"token": f.Token, "name": d.Name, "rule": c.encode(), "old_rule": old},
		Undo: finding.Undo{Kind: finding.Reversible, Note: "have it as it was."}}, nil, nil
}

// Writes are the changes that have the camera be as a rule is drawn: it is written, the one by its name of before taken off;
// one that is off is taken off. A name of before that another of those that are drawn has by now is that one's. What the
// camera can't do of it is told instead.
func (f Facts) Writes(d Drawn, drawn []Drawn) (out []finding.Change, cant []Cant, err error) {
	if slices.ContainsFunc(drawn, func(x Drawn) bool { return x.Name == d.Was }) {
		d.Was = ""
	}
	add := func(c *finding.Change, err error) error {
		if c != nil {
			out = append(out, *c)
		}
		return err
	}
	if d.Off {
		return out, nil, add(f.Remove(d.Name))
	}
	c, cant, err := f.Write(d)
	if err != nil || len(cant) > 0 && !(d.Was != "" && f.find(d.Was) >= 0 && f.full()) {
		return nil, cant, err
	}
	if d.Was != "" {
		if err := add(f.Remove(d.Was)); err != nil {
			return nil, nil, err
		}
	}
	if len(cant) > 0 { // one goes, so one can come
		f.Supported.Most++
		if c, cant, err = f.Write(d); err != nil || len(cant) > 0 {
			return nil, cant, err
		}
	}
	return out, nil, add(c, nil)
}

// After is what is known once changes are made: what comes takes up room, what goes gives it back.
func (f Facts) After(all []finding.Change) Facts {
	f.Configs = slices.Clone(f.Configs)
	for _, c := range all {
		name := c.Args["name"]
		is, err := ConfigOf(c.Args["rule"])
		at := f.find(name)
		switch {
		case err != nil:
		case is == nil && at >= 0:
			f.Configs = slices.Delete(f.Configs, at, at+1)
		case is != nil && at >= 0:
			f.Configs[at] = *is
		case is != nil:
			f.Configs = append(f.Configs, *is)
		}
	}
	return f
}

func (f Facts) full() bool { return f.Supported.Most > 0 && len(f.Configs) >= f.Supported.Most }

// Remove is the change that takes a rule off the camera. ErrForeign where it isn't to be touched.
func (f Facts) Remove(name string) (*finding.Change, error) {
	at := f.find(name)
	if at < 0 {
		return nil, nil
	}
	is, told := f.Configs[at].Says()
	if !told {
		return nil, ErrForeign
	}
	return &finding.Change{Kind: RemoveRule, Key: f.key(name), Title: "Rule " + name, From: is.Text(), To: None, Why: "It isn't wanted any more.", Risk: finding.NoRisk,
		Args: map[string]string{"token": f.Token, "name": name, "rule": "", "old_rule": f.Configs[at].encode()},
		Undo: finding.Undo{Kind: finding.Reversible, Note: "make it again."}}, nil
}

func (f Facts) key(name string) string { return "rule/" + f.Token + "/" + name }

func (c Config) encode() string {
	out, err := json.Marshal(c)
	if err != nil { // numbers that JSON has no words for
		return ""
	}
	return string(out)
}

// ConfigOf reads what a change has a rule be; nil: it isn't to be there.
func ConfigOf(text string) (*Config, error) {
	if text == "" {
		return nil, nil
	}
	var c Config
	if err := json.Unmarshal([]byte(text), &c); err != nil || c.Name == "" || c.Type == "" {
		return nil, fmt.Errorf("rule: a change's rule can't be read: %.80q", text)
	}
	return &c, nil
}

// ReadsAs is what a change of a rule reads while the camera has it so (nil: it hasn't it): what was or what is wanted where
// it is near, else as it is.
func ReadsAs(now *Config, args map[string]string, from, to string) (string, error) {
	want, err := ConfigOf(args["rule"])
	if err != nil {
		return "", err
	}
	was, err := ConfigOf(args["old_rule"])
	if err != nil {
		return "", err
	}
	is := func(x *Config) bool { return x == nil && now == nil || x != nil && now != nil && x.Same(*now) }
	switch {
	case is(want):
		return to, nil
	case is(was):
		return from, nil
	case now == nil:
		return None, nil
	}
	if r, ok := now.Says(); ok {
		return r.Text(), nil
	}
	return "a " + now.Type + " that there is no sentence for", nil
}

// Judge says what stands between a view's rules as they are drawn and those of its camera.
func Judge(f Facts, drawn []Drawn) (out []finding.Finding) {
	if !f.Known() {
		return nil
	}
	for _, s := range Stand(f, drawn) {
		if s.Drawn == nil {
			continue
		}
		switch {
		case len(s.Cant) == 1 && s.Cant[0].Part == "room":
			out = append(out, finding.Finding{Code: "analytics.full", Severity: finding.Needs, Words: "no room",
				Sentence: fmt.Sprintf("The camera has no room for %q: of rules %s.", s.Name, s.Cant[0].Why), WayOut: "Take another off it, or this one off the list."})
		case len(s.Cant) > 0:
			out = append(out, finding.Finding{Code: "analytics.cant", Severity: finding.Needs, Words: "can't do it",
				Sentence: fmt.Sprintf("It can't do %q as it is drawn: %s.", s.Name, Whys(s.Cant)), WayOut: "Draw it so that the camera can, or take it off the list."})
		case s.State == OnYet:
			out = append(out, finding.Finding{Code: "analytics.on", Severity: finding.Needs, Words: "on yet",
				Sentence: fmt.Sprintf("%q was switched off here, and the camera has it yet.", s.Name), WayOut: "Take it off the camera, or switch it on again here."})
		case s.State == NotYet && s.Drawn.Was != "" && f.find(s.Drawn.Was) >= 0 && !slices.ContainsFunc(drawn, func(d Drawn) bool { return d.Name == s.Drawn.Was }):
			out = append(out, finding.Finding{Code: "analytics.renamed", Severity: finding.Needs, Words: "old name there",
				Sentence: fmt.Sprintf("%q is called %q on the camera yet.", s.Name, s.Drawn.Was), WayOut: "Write it: the camera gets the new name, and loses the old one."})
		case s.State == NotYet:
			out = append(out, finding.Finding{Code: "analytics.unwritten", Severity: finding.Needs, Words: "not written",
				Sentence: fmt.Sprintf("%q was drawn here, and the camera hasn't it.", s.Name), WayOut: "Write it to the camera, or take it off the list."})
		case s.State == Otherwise:
			is := "a rule that there is no sentence for"
			if s.Clear {
				is = s.OnSays.Text()
			}
			out = append(out, finding.Finding{Code: "analytics.otherwise", Severity: finding.Needs, Words: "otherwise there",
				Sentence: fmt.Sprintf("The camera's %q isn't as it was drawn here: it is %s.", s.Name, is),
				WayOut:   "Take the camera's into the drawing, or write what is drawn."})
		}
	}
	for _, h := range f.Held {
		if d, ok := h.differs(); ok && f.find(h.Rule) >= 0 {
			out = append(out, d)
		}
	}
	if d, ok := f.sits(); ok {
		out = append(out, d)
	}
	if twice := f.twice(); len(twice) > 0 {
		told := finding.Finding{Code: Twice, Severity: finding.Note, Words: "told twice",
			Sentence: fmt.Sprintf("%s watch for the same in this view and in %s: each happening is told twice.", strings.Join(twice, ", "), f.Twin),
			WayOut:   "Take them off one of the two, or let one be a check of the other and route one alone."}
		if f.Second {
			told.Severity = finding.Needs
			told.WayOut = "Take them off here, as is proposed, or off " + f.Twin + "; where one is to be a check of the other accept it, and route one alone."
		}
		out = append(out, told)
	}
	if has := len(f.Configs) > 0 || len(drawn) > 0; has && f.Drops {
		out = append(out, finding.Finding{Code: "analytics.dropped", Severity: finding.Needs, Words: "dropped",
			Sentence: fmt.Sprintf("%s takes its picture and drops the analytics: its way in there passes no events, so no rule of it rings anything.", f.Recorder),
			WayOut:   "Place it by a way that passes events, or plan it for a recorder that does."})
	} else if has && len(f.Deaf) > 0 {
		out = append(out, finding.Finding{Code: "analytics.deaf", Severity: finding.Needs, Words: "unheard",
			Sentence: fmt.Sprintf("In the hours of %s %s listens to no camera event, since its recording waits for none: what a rule fires then reaches nothing.", quoted(f.Deaf), f.Recorder),
			WayOut:   "Count camera events as something in its recording; the same stream may be kept all the time."})
	}
	return out
}

func quoted(all []string) string {
	out := make([]string, len(all))
	for i, x := range all {
		out[i] = strconv.Quote(x)
	}
	return strings.Join(out, " and ")
}

// muchLate is from when on boxes are told to be late: a second after, an alarm is late by half of what it may be.
const muchLate = time.Second

// sits says whether its boxes lie beside, or come after, what they are about.
func (f Facts) sits() (out finding.Finding, ok bool) {
	if f.Sits == nil {
		return out, false
	}
	if f.Sits.Turned != f.Turned {
		out = finding.Finding{Code: Turned, Severity: finding.Needs, Words: "boxes turned",
			Sentence: fmt.Sprintf("Its analytics look at the picture %s, and its drawings are counted %s: what is written lies elsewhere than it was drawn.", f.Sits.Turned.Words(), f.Turned.Words()),
			WayOut:   fmt.Sprintf("Count its drawings %s, or have the camera's analytics look at the picture that it sends.", f.Sits.Turned.Words())}
		return out, true
	}
	off, late := f.Sits.Off(), f.Sits.Late >= muchLate && f.Sits.Least >= muchLate/2
	if !off && !late {
		return out, false
	}
	out = finding.Finding{Code: "analytics.shifted", Severity: finding.Needs, Words: "boxes beside",
		Sentence: "Its boxes don't sit on what moves: " + f.Sits.Words() + ".",
		WayOut:   "Have its analytics look at the same part and shape of the picture as its streams (rotation, mirroring, crop). Until then draw its rules so far beside."}
	if !off {
		out.Words = "boxes late"
		out.WayOut = "Let its analytics look at more pictures a second, or take work off it. Until then its alarms are late by that."
	}
	return out, true
}

// twice are the names of rules that another view of the device has just so.
func (f Facts) twice() (out []string) {
	for _, c := range f.Configs {
		if slices.ContainsFunc(f.TwinHas, func(x Config) bool { return x.Same(c) }) {
			out = append(out, c.Name)
		}
	}
	return out
}

// Whys are the reasons in a line.
func Whys(all []Cant) string {
	words := make([]string, len(all))
	for i, c := range all {
		words[i] = c.Why
	}
	return strings.Join(words, "; ")
}

// Propose writes what is drawn and can be, and takes off what another view of the device watches for as well.
func Propose(f Facts, drawn []Drawn) []finding.Change {
	if !f.Known() {
		return nil
	}
	out, f := f.writeAll(drawn)
	return append(out, f.once(drawn)...)
}

// Unwritten are the changes that have the camera be as it is drawn, as far as it can.
func Unwritten(f Facts, drawn []Drawn) (out []finding.Change) {
	if f.Known() {
		out, _ = f.writeAll(drawn)
	}
	return out
}

func (f Facts) writeAll(drawn []Drawn) (out []finding.Change, after Facts) {
	for _, d := range drawn {
		if all, _, err := f.Writes(d, drawn); err == nil {
			out, f = append(out, all...), f.After(all)
		}
	}
	return out, f
}

// once takes off what an earlier view of the device watches for as well, but what was drawn for this view or is to be a check.
func (f Facts) once(drawn []Drawn) (out []finding.Change) {
	if !f.Second || f.Checks {
		return nil
	}
	for _, name := range f.twice() {
		if slices.ContainsFunc(drawn, func(d Drawn) bool { return d.Name == name || d.Was == name }) {
			continue
		}
		if c, err := f.Remove(name); err == nil && c != nil {
			c.Why = f.Twin + " watches for the same: each happening is told twice."
			out = append(out, *c)
		}
	}
	return out
}

// verbs are a kind in a sentence.
var verbs = map[Kind]string{Crosses: "crosses", Inside: "is in", ComesInto: "comes into", GoesOut: "goes out of", FirstSeen: "is first seen in",
	LastSeen: "is last seen in", Stays: "stays in", Left: "is left in", Taken: "is taken from", Crowd: "are at once in", Faster: "is faster in", Moves: "moves in"}

// Verb of a kind.
func (k Kind) Verb() string { return verbs[k] }

// Text is the rule in a line: what is watched for, and its drawing in hundredths of the picture from its upper left corner.
func (r Rule) Text() string {
	who := "anything"
	if len(r.Classes) > 0 {
		who = strings.ToLower(strings.Join(r.Classes, ", "))
	}
	if asks := r.Traits.Words(); asks != "" {
		who += " (" + asks + ")"
	}
	says := who + " " + r.Kind.Verb()
	switch r.Kind {
	case Crosses:
		says += map[Direction]string{LeftToRight: " to the right of it", RightToLeft: " to the left of it"}[r.Direction] + " line " + FormatPoints(r.Line)
	case Moves:
		says = fmt.Sprintf("motion in %d or more of %d cells of %d by %d", r.count(), r.Cells.Count(), r.Cells.Columns, r.Cells.Rows)
	case Crowd:
		says = fmt.Sprintf("%d of %s or more are at once in area %s", r.count(), who, FormatPoints(r.Area))
	default:
		says += " area " + FormatPoints(r.Area)
	}
	if r.For > 0 {
		says += " for " + strconv.FormatFloat(r.For.Seconds(), 'g', 6, 64) + " s"
	}
	if r.Kind == Moves {
		says += fmt.Sprintf(", until %g s without", r.pause().Seconds())
	}
	if r.Kind == Faster {
		says += fmt.Sprintf(" than %g pictures a second", r.Speed)
	}
	if r.MinScore > 0 {
		says += fmt.Sprintf(", score at least %g", r.MinScore)
	}
	if r.Share > 0 && r.Share != Share && r.Kind != Crosses {
		says += fmt.Sprintf(", by %g %% of it", 100*r.Share)
	}
	if r.Margin > 0 && r.Margin != margin && r.Kind == Crosses {
		says += fmt.Sprintf(", again after %g %% away", 50*r.Margin)
	}
	if r.Lowest > 0 {
		says += fmt.Sprintf(", at least %g %% high", 100*r.Lowest)
	}
	if r.Highest > 0 {
		says += fmt.Sprintf(", at most %g %% high", 100*r.Highest)
	}
	if r.Shortest > 0 {
		says += fmt.Sprintf(", at least %g m tall", r.Shortest)
	}
	if r.Tallest > 0 {
		says += fmt.Sprintf(", at most %g m tall", r.Tallest)
	}
	for _, w := range r.Without {
		says += ", without " + FormatPoints(w)
	}
	if h := r.Hours.Text(); h != "" {
		says += ", during " + h
	}
	return says
}

// FormatPoints writes points as people do: across and down in hundredths of the picture from its upper left corner.
func FormatPoints(all []scene.Point) string {
	words := make([]string, len(all))
	for i, p := range all {
		words[i] = strconv.FormatFloat(round((p.X+1)*50), 'f', -1, 64) + " " + strconv.FormatFloat(round((1-p.Y)*50), 'f', -1, 64)
	}
	return strings.Join(words, ", ")
}

// round to a hundredth of a hundredth.
func round(v float64) float64 {
	v, _ = strconv.ParseFloat(strconv.FormatFloat(v, 'f', 2, 64), 64)
	return v + 0 // −0 is 0
}

// mostPoints of a drawing.
const mostPoints = 64

// ErrPoints is returned for text that gives no points of a drawing, with what is wrong with it.
var ErrPoints = errors.New("no points of a drawing")

// ParsePoints reads what FormatPoints writes: "20 10, 40.5 10, 30 30". Nothing is no points.
func ParsePoints(text string) ([]scene.Point, error) {
	if strings.TrimSpace(text) == "" {
		return nil, nil
	}
	parts := strings.Split(text, ",")
	if len(parts) > mostPoints {
		return nil, fmt.Errorf("%w: there are more than %d", ErrPoints, mostPoints)
	}
	out := make([]scene.Point, 0, len(parts))
	for _, part := range parts {
		f := strings.Fields(part)
		if len(f) != 2 {
			return nil, fmt.Errorf("%w: a point is two figures, across and down, and %.20q isn't", ErrPoints, strings.TrimSpace(part))
		}
		var at [2]float64
		for i, s := range f {
			v, err := strconv.ParseFloat(s, 64)
			if err != nil || !(v >= 0 && v <= 100) {
				return nil, fmt.Errorf("%w: a drawing lies between 0 and 100 %% of the picture, across and down, and %.20q doesn't", ErrPoints, s)
			}
			at[i] = v
		}
		out = append(out, scene.Point{X: at[0]/50 - 1, Y: 1 - at[1]/50})
	}
	return out, nil
}
