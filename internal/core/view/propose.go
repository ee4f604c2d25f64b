package view

import (
	"cmp"
	"encoding/json"
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"duskyharbor/internal/core/finding"
	"duskyharbor/internal/core/scene"
	"duskyharbor/internal/core/trouble"
)

// Kinds of change.
const (
	SetText    = "view.text"    // what of a kind is burned in
	SetMasks   = "view.masks"   // all that is hidden
	SetImaging = "view.imaging" // one property
	SetAim     = "view.aim"     // where it looks
	SetPreset  = "view.preset"  // what it remembers by a name
	TryPTZ     = "view.try"     // nudges each axis and puts it back
)

// Corners in which a text may stand, in the words of tt:OSDPosConfiguration.
var cornerNames = map[string]string{"UpperLeft": "upper left", "UpperRight": "upper right", "LowerLeft": "lower left", "LowerRight": "lower right"}

// NoText is what a picture reads without a text of a kind.
func NoText(k Kind) string { return "no " + string(k) }

// State is in words what of a kind is burned in.
func (t Texts) State(k Kind) string {
	var parts []string
	for _, x := range t.of(k) {
		says := "“" + x.Words + "”"
		if k == Time {
			says = strings.TrimSpace(x.Dates + " " + x.Times)
		}
		if corner := cornerNames[x.Corner]; corner != "" {
			says += " " + corner
		}
		parts = append(parts, says)
	}
	if len(parts) == 0 {
		return NoText(k)
	}
	return strings.Join(parts, " and ")
}

// put is the texts as one of a kind is wanted: none where words and formats are empty.
func (t Texts) put(k Kind, want Text) Texts {
	out := Texts{Most: t.Most, Corners: t.Corners, Plain: t.Plain}
	for _, x := range t.All {
		if x.Kind != k {
			out.All = append(out.All, x)
		}
	}
	if want.Words != "" || want.Dates != "" || want.Times != "" {
		want.Kind = k
		out.All = append(out.All, want)
	}
	return out
}

// Args are a text's.
func (x Text) args() map[string]string {
	return map[string]string{"words": x.Words, "dates": x.Dates, "times": x.Times, "corner": x.Corner}
}

// TextOf is the text that a change writes.
func TextOf(args map[string]string) Text {
	return Text{Kind: Kind(args["kind"]), Words: args["words"], Dates: args["dates"], Times: args["times"], Corner: args["corner"]}
}

// change burns in one text of a kind, or none, where it is otherwise now.
func (s Setup) change(k Kind, want Text, why string) (finding.Change, bool) {
	from, to := s.Texts.State(k), s.Texts.put(k, want).State(k)
	if from == to {
		return finding.Change{}, false
	}
	undo := finding.Undo{Kind: finding.Reversible, Note: "burn in what was."}
	was := s.Texts.of(k)
	if len(was) > 1 {
		undo = finding.Undo{Kind: finding.Irreversible, Note: "of several texts only one comes back."}
	}
	args := want.args()
	if len(was) > 0 {
		for key, v := range was[0].args() {
			args["old_"+key] = v
		}
	} else {
		for key := range (Text{}).args() {
			args["old_"+key] = ""
		}
	}
	args["config"], args["kind"] = s.Config, string(k)
	return finding.Change{Kind: SetText, Key: SetText + "/" + s.Config + "/" + string(k), Title: "The " + string(k) + " in its picture",
		From: from, To: to, Why: why, Risk: finding.NoRisk, Args: args, Undo: undo}, true
}

// corner is where a new text stands: the first free one.
func (t Texts) corner() string {
	for _, c := range t.Corners {
		if !slices.ContainsFunc(t.All, func(x Text) bool { return x.Corner == c }) && cornerNames[c] != "" {
			return c
		}
	}
	return "LowerLeft"
}

// Propose lists what mends the text of a view.
func Propose(s Setup, w Wishes) (out []finding.Change) {
	if s.Texts == nil {
		return nil
	}
	add := func(c finding.Change, ok bool) {
		if ok {
			out = append(out, c)
		}
	}
	names, times := s.Texts.of(Name), s.Texts.of(Time)
	switch {
	case len(names) > 0 && slices.Contains(w.Burns, string(Name)):
		add(s.change(Name, Text{}, w.Recorder+" burns it in itself."))
	case distinctTwice(names), len(names) == 1 && !sameName(names[0].Words, w.Place):
		want := names[0]
		want.Words = w.Place
		add(s.change(Name, want, "One name everywhere."))
	}
	switch {
	case len(times) > 0 && slices.Contains(w.Burns, string(Time)):
		add(s.change(Time, Text{}, w.Recorder+" burns it in itself."))
	case len(times) > 1:
		add(s.change(Time, times[0], "Once is enough."))
	}
	return out
}

// Want is how a person wants the text of many views.
type Want struct {
	Name string // "place": the name that each has here; "none"; empty: as it is
	Time string // "date": date and time in the recorder's order; "none"; empty: as it is
}

// Asked is what sets a view's text so, and why not.
func Asked(s *Setup, w Wishes, want Want) (out []finding.Change, cant []string) {
	if s == nil || s.Texts == nil {
		return nil, []string{"it doesn't tell what it burns in"}
	}
	t := *s.Texts
	full := t.Most > 0 && len(t.All) >= t.Most
	add := func(k Kind, text Text) {
		if c, ok := s.change(k, text, "Asked for."); ok {
			out = append(out, c)
		}
	}
	switch had := t.of(Name); {
	case want.Name == "none":
		add(Name, Text{})
	case want.Name == "":
	case !t.Plain && len(had) == 0:
		cant = append(cant, "it burns in no words of one's own")
	case full && len(had) == 0:
		cant = append(cant, fmt.Sprintf("it burns in %d texts at the most", t.Most))
	default:
		text := Text{Corner: t.corner()}
		if len(had) > 0 {
			text = had[0]
		}
		text.Words = cut(w.Place)
		add(Name, text)
	}
	switch had := t.of(Time); {
	case want.Time == "none":
		add(Time, Text{})
	case want.Time == "" || len(had) == 1:
	case len(had) > 1:
		add(Time, had[0])
	case full:
		cant = append(cant, fmt.Sprintf("it burns in %d texts at the most", t.Most))
	default:
		add(Time, Text{Dates: cmp.Or(w.Dates, "dd/MM/yyyy"), Times: cmp.Or(w.Times, "HH:mm:ss"), Corner: t.corner()})
	}
	return out, cant
}

func cut(name string) string {
	for utf8.RuneCountInString(name) > MaxName {
		_, n := utf8.DecodeLastRuneInString(name)
		name = name[:len(name)-n]
	}
	return name
}

// Areas are the polygons of those that hide something.
func (m Masks) Areas() (out []scene.Polygon) {
	for _, x := range m.All {
		if x.On {
			out = append(out, x.Area)
		}
	}
	return out
}

// AreasText words what is hidden: each by the box around it, in hundredths of the picture from
// its upper left corner.
func AreasText(all []scene.Polygon) string {
	if len(all) == 0 {
		return "nothing hidden"
	}
	parts := make([]string, len(all))
	for i, a := range all {
		l, t, r, b := bounds(a)
		parts[i] = fmt.Sprintf("%.0f–%.0f %% across, %.0f–%.0f %% down", l, r, t, b)
		if !rectangle(a) {
			parts[i] += fmt.Sprintf(" (%d corners)", len(a))
		}
	}
	slices.Sort(parts)
	return strings.Join(parts, "; ")
}

// bounds is the box around an area in hundredths of the picture, from its upper left corner.
func bounds(a scene.Polygon) (left, top, right, bottom float64) {
	left, top, right, bottom = 100, 100, 0, 0
	for _, p := range a {
		x, y := (p.X+1)*50, (1-p.Y)*50
		left, right, top, bottom = min(left, x), max(right, x), min(top, y), max(bottom, y)
	}
	return left, top, right, bottom
}

func rectangle(a scene.Polygon) bool {
	l, t, r, b := bounds(a)
	for _, p := range a {
		x, y := (p.X+1)*50, (1-p.Y)*50
		if near := func(v, w float64) bool { return math.Abs(v-w) < 0.01 }; !(near(x, l) || near(x, r)) || !(near(y, t) || near(y, b)) {
			return false
		}
	}
	return len(a) == 4
}

// SameAreas says whether the same is hidden, as well as cameras keep it: corners may be 1.5 % of
// the picture off.
func SameAreas(a, b []scene.Polygon) bool {
	if len(a) != len(b) {
		return false
	}
	taken := make([]bool, len(b))
	for _, x := range a {
		i := slices.IndexFunc(b, func(y scene.Polygon) bool { return sameArea(x, y) })
		for i >= 0 && taken[i] {
			next := slices.IndexFunc(b[i+1:], func(y scene.Polygon) bool { return sameArea(x, y) })
			if next < 0 {
				return false
			}
			i += 1 + next
		}
		if i < 0 {
			return false
		}
		taken[i] = true
	}
	return true
}

func sameArea(a, b scene.Polygon) bool {
	if len(a) != len(b) {
		return false
	}
	for shift := range b { // a device may begin at another corner
		same := true
		for i, p := range a {
			q := b[(i+shift)%len(b)]
			same = same && math.Abs(p.X-q.X) <= 0.03 && math.Abs(p.Y-q.Y) <= 0.03
		}
		if same {
			return true
		}
	}
	return false
}

// Rectangle is the area between two corners given in hundredths of the picture, from its upper
// left.
func Rectangle(left, top, right, bottom float64) (scene.Polygon, error) {
	for _, v := range []float64{left, top, right, bottom} {
		if !(v >= 0 && v <= 100) {
			return nil, trouble.Told("A mask lies between 0 and 100 % of the picture, across and down.")
		}
	}
	left, right, top, bottom = min(left, right), max(left, right), min(top, bottom), max(top, bottom)
	if right-left < 1 || bottom-top < 1 {
		return nil, trouble.Told("A mask is at least 1 % of the picture wide and high.")
	}
	x := func(v float64) float64 { return v/50 - 1 }
	y := func(v float64) float64 { return 1 - v/50 }
	return scene.Polygon{{X: x(left), Y: y(top)}, {X: x(right), Y: y(top)}, {X: x(right), Y: y(bottom)}, {X: x(left), Y: y(bottom)}}, nil
}

// ParseAreas reads what a change hides.
func ParseAreas(text string) (out []scene.Polygon, err error) {
	if err := json.Unmarshal([]byte(text), &out); err != nil || len(out) > 64 {
		return nil, trouble.Told("Those are no masks.")
	}
	for _, a := range out {
		if a.Check() != nil || len(a) > 64 {
			return nil, trouble.Told("A mask has three corners or more, and encloses something.")
		}
	}
	return out, nil
}

// Hide is the change that hides these areas and no others.
func (s Setup) Hide(areas []scene.Polygon) (finding.Change, error) {
	m := s.Masks
	switch {
	case m == nil:
		return finding.Change{}, trouble.Told("It hides no parts of its picture, as far as it tells.")
	case m.Most > 0 && len(areas) > m.Most:
		return finding.Change{}, trouble.Told(fmt.Sprintf("It hides %d parts of its picture at the most.", m.Most))
	case slices.ContainsFunc(areas, func(a scene.Polygon) bool { return m.Corners > 0 && len(a) > m.Corners }):
		return finding.Change{}, trouble.Told(fmt.Sprintf("Its masks have %d corners at the most.", m.Corners))
	case SameAreas(areas, m.Areas()) && len(m.All) == len(areas):
		return finding.Change{}, trouble.Told("That is hidden already.")
	}
	text := func(all []scene.Polygon) string {
		raw, err := json.Marshal(slices.Clone(all))
		if err != nil || all == nil {
			return "[]"
		}
		return string(raw)
	}
	return finding.Change{Kind: SetMasks, Key: SetMasks + "/" + s.Config, Title: "Masks in its picture", From: AreasText(m.Areas()), To: AreasText(areas),
		Why: "Drawn by hand.", Risk: finding.NoRisk, Args: map[string]string{"config": s.Config, "masks": text(areas), "old_masks": text(m.Areas())},
		Undo: finding.Undo{Kind: finding.Reversible, Note: "hide what was hidden."}}, nil
}

// Property is one property of Imaging.
type Property string

const (
	DayNight   Property = "day and night"
	Exposure   Property = "exposure"
	ExposeFor  Property = "exposure time"
	Brightness Property = "brightness"
	Focusing   Property = "focusing"
	Focus      Property = "focus"
)

// Properties lists those that a camera tells, with what each can be.
func (i Imaging) Properties() (out []Choice) {
	words := func(p Property, now string, all []string) {
		if now != "" && len(all) > 0 {
			out = append(out, Choice{Property: p, Now: now, Words: all})
		}
	}
	number := func(p Property, now *float64, r Range) {
		if now != nil && r.Known() {
			out = append(out, Choice{Property: p, Now: strconv.FormatFloat(*now, 'g', 6, 64), Range: r})
		}
	}
	words(DayNight, i.DayNight, i.DayNights)
	words(Exposure, i.Exposure, i.Exposures)
	if i.Exposure == "MANUAL" {
		number(ExposeFor, &i.Time, i.Times)
	}
	number(Brightness, i.Brightness, i.Brights)
	words(Focusing, i.Focusing, i.Focusings)
	if i.Focusing != "AUTO" {
		number(Focus, i.Focus, i.Focuses)
	}
	return out
}

// Choice is one property with what it is now and what it can be: words, or a number in a range.
type Choice struct {
	Property Property
	Now      string
	Words    []string
	Range    Range
}

// Says words a value of it.
func (c Choice) Says(value string) string { return Says(c.Property, value) }

// Says words a value of a property.
func Says(p Property, value string) string {
	switch {
	case p == DayNight:
		return map[string]string{"ON": "as by day", "OFF": "as by night", "AUTO": "switches by itself"}[value]
	case value == "AUTO":
		return "by itself"
	case value == "MANUAL":
		return "by hand"
	}
	v, err := strconv.ParseFloat(value, 64)
	if err != nil {
		return value
	}
	if p == ExposeFor {
		return micros(v)
	}
	return strconv.FormatFloat(v, 'g', 3, 64)
}

// Value is a property as it is now; ok is false where it isn't told.
func (i Imaging) Value(p Property) (string, bool) {
	for _, c := range i.Properties() {
		if c.Property == p {
			return c.Now, true
		}
	}
	return "", false
}

// SameValue says whether two values of a property are the same, as well as cameras keep them.
func SameValue(a, b string) bool {
	x, err := strconv.ParseFloat(a, 64)
	y, err2 := strconv.ParseFloat(b, 64)
	if err != nil || err2 != nil {
		return a == b
	}
	return math.Abs(x-y) <= 0.01*math.Max(1, math.Abs(y))
}

// Set is the change that sets a property.
func (s Setup) Set(p Property, value string) (finding.Change, error) {
	if s.Imaging == nil {
		return finding.Change{}, trouble.Told("It doesn't tell how it takes its pictures.")
	}
	all := s.Imaging.Properties()
	i := slices.IndexFunc(all, func(c Choice) bool { return c.Property == p })
	if i < 0 {
		return finding.Change{}, trouble.Told(fmt.Sprintf("Its %s can't be set now.", p))
	}
	c := all[i]
	if c.Range.Known() {
		v, err := strconv.ParseFloat(strings.Replace(strings.TrimSpace(value), ",", ".", 1), 64)
		if err != nil || !c.Range.Holds(v) {
			return finding.Change{}, trouble.Told(fmt.Sprintf("Its %s goes from %g to %g.", p, c.Range.Min, c.Range.Max))
		}
		value = strconv.FormatFloat(v, 'g', 6, 64)
	} else if !slices.Contains(c.Words, value) {
		return finding.Change{}, trouble.Told(fmt.Sprintf("Its %s can't be that.", p))
	}
	if SameValue(value, c.Now) {
		return finding.Change{}, trouble.Told(fmt.Sprintf("Its %s is so already.", p))
	}
	return finding.Change{Kind: SetImaging, Key: SetImaging + "/" + s.Source + "/" + string(p), Title: "Its " + string(p), From: c.Says(c.Now), To: c.Says(value),
		Why: "Asked for.", Risk: finding.NoRisk, Args: map[string]string{"source": s.Source, "property": string(p), "value": value, "old_value": c.Now},
		Undo: finding.Undo{Kind: finding.Reversible, Note: "set it as it was."}}, nil
}

// Turn is the change that sends the camera to an aim, by a preset where that is one.
func (s Setup) Turn(to Aim, preset Preset) (finding.Change, error) {
	p := s.PTZ
	switch {
	case p == nil || p.At == nil || len(p.Axes()) == 0:
		return finding.Change{}, trouble.Told("It can't be sent to a place from here.")
	case p.At.Near(to):
		return finding.Change{}, trouble.Told("It looks there already.")
	}
	for _, a := range []struct {
		axis Axis
		v    float64
	}{{Pan, to.Pan}, {Tilt, to.Tilt}, {Zoom, to.Zoom}} {
		if r := p.rangeOf(a.axis); r.Known() && !r.Holds(a.v) {
			return finding.Change{}, trouble.Told(fmt.Sprintf("Its %s goes from %s to %s.", a.axis, figure(r.Min), figure(r.Max)))
		}
	}
	why := "Asked for."
	if preset.Token != "" {
		why = "Its preset “" + preset.Name + "”."
	}
	return finding.Change{Kind: SetAim, Key: SetAim + "/" + p.Profile, Title: "Where it looks", From: p.At.Text(), To: to.Text(), Why: why, Risk: finding.NoRisk,
		Args: map[string]string{"profile": p.Profile, "aim": aimArg(to), "old_aim": aimArg(*p.At), "preset": preset.Token, "old_preset": ""}, Undo: finding.Undo{Kind: finding.Reversible, Note: "send it back to where it looked."}}, nil
}

// Recall is the change that sends the camera to one of its presets, by its token.
func (s Setup) Recall(token string) (finding.Change, error) {
	if s.PTZ == nil {
		return finding.Change{}, trouble.Told("It can't be sent to a place from here.")
	}
	i := slices.IndexFunc(s.PTZ.Presets, func(p Preset) bool { return p.Token == token })
	switch {
	case i < 0:
		return finding.Change{}, trouble.Told("It remembers no such place any more: read the streams again.")
	case s.PTZ.Presets[i].At == nil:
		return finding.Change{}, trouble.Told("It doesn't tell where that preset looks, so it couldn't be seen whether it went there: call it on its own page.")
	}
	return s.Turn(*s.PTZ.Presets[i].At, s.PTZ.Presets[i])
}

func aimArg(a Aim) string {
	raw, err := json.Marshal(a)
	if err != nil {
		return ""
	}
	return string(raw)
}

// AimOf is the aim that a change sends it to.
func AimOf(text string) (a Aim, err error) {
	if json.Unmarshal([]byte(text), &a) != nil {
		return a, trouble.Told("That is no place to look at.")
	}
	return a, nil
}

// PresetState words what a camera remembers by a name.
func (p PTZ) PresetState(name string) string {
	for _, x := range p.Presets {
		if x.Name == name {
			if x.At == nil {
				return "“" + name + "”"
			}
			return "“" + name + "”: " + x.At.Text()
		}
	}
	return "no preset “" + name + "”"
}

// MaxPreset is how long a preset's name may be, in characters.
const MaxPreset = 32

// Remember is the change that saves where the camera looks by a name.
func (s Setup) Remember(name string) (finding.Change, error) {
	name = strings.Join(strings.Fields(name), " ")
	p := s.PTZ
	switch {
	case p == nil || p.At == nil:
		return finding.Change{}, trouble.Told("It remembers no places, as far as it tells.")
	case name == "" || utf8.RuneCountInString(name) > MaxPreset:
		return finding.Change{}, trouble.Told(fmt.Sprintf("A preset has a name of 1 to %d characters.", MaxPreset))
	}
	had := slices.IndexFunc(p.Presets, func(x Preset) bool { return x.Name == name })
	if had < 0 && p.Most > 0 && len(p.Presets) >= p.Most {
		return finding.Change{}, trouble.Told(fmt.Sprintf("It remembers %d places at the most: forget one first.", p.Most))
	}
	undo := finding.Undo{Kind: finding.Reversible, Note: "forget it again."}
	c := finding.Change{Kind: SetPreset, Key: SetPreset + "/" + p.Profile + "/" + name, Title: "Preset “" + name + "”", From: p.PresetState(name),
		Why: "Asked for.", Risk: finding.NoRisk, Args: map[string]string{"profile": p.Profile, "name": name, "do": "save", "old_do": "forget"}}
	if had >= 0 {
		if p.Presets[had].At != nil && p.Presets[had].At.Near(*p.At) {
			return finding.Change{}, trouble.Told("It looks there already.")
		}
		undo = finding.Undo{Kind: finding.Irreversible, Note: "where it looked before is forgotten."}
	}
	c.To, c.Undo = "“"+name+"”: "+p.At.Text(), undo
	return c, nil
}

// Forget is the change that has it forget a preset.
func (s Setup) Forget(name string) (finding.Change, error) {
	p := s.PTZ
	if p == nil || !slices.ContainsFunc(p.Presets, func(x Preset) bool { return x.Name == name }) {
		return finding.Change{}, trouble.Told("It remembers no place by that name.")
	}
	none := PTZ{}
	return finding.Change{Kind: SetPreset, Key: SetPreset + "/" + p.Profile + "/" + name, Title: "Preset “" + name + "”", From: p.PresetState(name), To: none.PresetState(name),
		Why: "Asked for.", Risk: finding.NoRisk, Args: map[string]string{"profile": p.Profile, "name": name, "do": "forget"},
		Undo: finding.Undo{Kind: finding.Irreversible, Note: "a preset is saved where the camera looks: send it there and save it anew."}}, nil
}

// Try is the change that nudges each axis and puts it back, so that it is seen to move.
func (s Setup) Try(now time.Time) (finding.Change, error) {
	p := s.PTZ
	if p == nil || p.At == nil || len(p.Axes()) == 0 {
		return finding.Change{}, trouble.Told("It can't be sent to a place from here, and so not be put back: move it on its own page.")
	}
	return finding.Change{Kind: TryPTZ, Key: TryPTZ + "/" + p.Profile, Title: "Nudge " + axesText(p.Axes()), From: p.At.Text(),
		To: "the same, each axis nudged", Why: "It is seen whether the picture moves.", Risk: finding.NoRisk,
		Args: map[string]string{"profile": p.Profile, "aim": aimArg(*p.At), "since": now.UTC().Format(time.RFC3339Nano)},
		Undo: finding.Undo{Kind: finding.Irreversible, Note: "it is put back by itself."}}, nil
}
