package picture

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"unicode/utf8"

	"duskyharbor/internal/core/finding"
)

// Texts is what is burned into the picture.
type Texts struct {
	All     []Text   `json:"all"`
	Most    int      `json:"most"`    // how many there may be; 0: not told
	Corners []string `json:"corners"` // where one may stand
	Plain   bool     `json:"plain"`   // words of one's own may be burned in
	// What else it tells of what may be burned in: how many of a kind (0: not told), and in which formats.
	MostNames int      `json:"most_names,omitempty"`
	MostTimes int      `json:"most_times,omitempty"`
	Dates     []string `json:"dates,omitempty"` // tt:DateFormat; none: not told
	Times     []string `json:"times,omitempty"` // tt:TimeFormat
}

// Text is one of them.
type Text struct {
	Token  string `json:"token"`
	Kind   Kind   `json:"kind"`
	Words  string `json:"words,omitempty"`
	Dates  string `json:"dates,omitempty"` // tt:DateFormat, of a Time
	Times  string `json:"times,omitempty"` // tt:TimeFormat
	Corner string `json:"corner"`          // tt:OSDPosConfiguration's type: "UpperLeft"
}

// Kind says what a text tells.
type Kind string

const (
	Name Kind = "name" // words: tt:OSDTextConfiguration "Plain"
	Time Kind = "time" // "Date", "Time", "DateAndTime"
)

// maxName is how many characters of a name are burned in at most.
const maxName = 64

func judgeTexts(t Texts, w Wishes) (out []finding.Finding) {
	names, times := t.of(Name), t.of(Time)
	if len(names) == 1 && !sameName(names[0].Words, w.Place) {
		out = append(out, finding.Finding{Code: "view.name", Severity: finding.Needs, Words: "other name",
			Sentence: fmt.Sprintf("Its picture says “%s”, and this is %s.", names[0].Words, w.Place),
			WayOut:   "Burn in the name that it has here, as is proposed."})
	}
	twice := func(what, how string) {
		out = append(out, finding.Finding{Code: "view.twice", Severity: finding.Needs, Words: what + " twice",
			Sentence: fmt.Sprintf("The %s stands in its picture twice: %s.", what, how), WayOut: "Take one of them out, as is proposed."})
	}
	for _, of := range []struct {
		kind Kind
		has  []Text
	}{{Name, names}, {Time, times}} {
		switch {
		case len(of.has) > 1 && of.kind == Time || distinctTwice(of.has):
			twice(string(of.kind), fmt.Sprintf("the camera burns it in %d times", len(of.has)))
		case len(of.has) > 0 && slices.Contains(w.Burns, string(of.kind)):
			twice(string(of.kind), "the camera burns it in, and so does "+w.Recorder)
		}
	}
	return out
}

// distinctTwice says whether the same words stand more than once.
func distinctTwice(all []Text) bool {
	for i, t := range all {
		if slices.ContainsFunc(all[:i], func(o Text) bool { return sameName(o.Words, t.Words) }) {
			return true
		}
	}
	return false
}

func sameName(a, b string) bool {
	return strings.EqualFold(strings.Join(strings.Fields(a), " "), strings.Join(strings.Fields(b), " "))
}

func (t Texts) of(k Kind) (out []Text) {
	for _, x := range t.All {
		if x.Kind == k {
			out = append(out, x)
		}
	}
	return out
}

// Corners in which a text may stand, in the words of tt:OSDPosConfiguration.
var cornerNames = map[string]string{"UpperLeft": "upper left", "UpperRight": "upper right", "LowerLeft": "lower left", "LowerRight": "lower right"}

// noText is what a picture reads without a text of a kind.
func noText(k Kind) string { return "no " + string(k) }

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
		return noText(k)
	}
	return strings.Join(parts, " and ")
}

// put is the texts as one of a kind is wanted: none where words and formats are empty.
func (t Texts) put(k Kind, want Text) Texts {
	out := t
	out.All = nil
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

// corner is where a new text stands: the first free one; empty where each holds one.
func (t Texts) corner() string {
	all := t.Corners
	if len(all) == 0 { // it doesn't tell: any
		all = []string{"LowerLeft", "UpperLeft", "UpperRight", "LowerRight"}
	}
	for _, c := range all {
		if !slices.ContainsFunc(t.All, func(x Text) bool { return x.Corner == c }) && cornerNames[c] != "" {
			return c
		}
	}
	return ""
}

// full says why no further text of a kind can be burned in; empty where one can.
func (t Texts) full(k Kind) string {
	most := map[Kind]int{Name: t.MostNames, Time: t.MostTimes}[k]
	switch {
	case t.Most > 0 && len(t.All) >= t.Most:
		return fmt.Sprintf("it burns in %d texts at the most", t.Most)
	case most > 0 && len(t.of(k)) >= most:
		return fmt.Sprintf("it burns in %d texts of that kind at the most", most)
	case k == Name && !t.Plain:
		return "it burns in no words of one's own"
	case t.corner() == "":
		return "each of its corners holds a text already"
	}
	return ""
}

// formats says why a time can't be written so; empty where it can.
func (t Texts) formats(want Text) string {
	switch {
	case len(t.Dates) > 0 && want.Dates != "" && !slices.Contains(t.Dates, want.Dates):
		return fmt.Sprintf("it doesn't write dates as %s (%s)", want.Dates, strings.Join(t.Dates, ", "))
	case len(t.Times) > 0 && want.Times != "" && !slices.Contains(t.Times, want.Times):
		return fmt.Sprintf("it doesn't write times as %s (%s)", want.Times, strings.Join(t.Times, ", "))
	}
	return ""
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
	t := *s.Texts // as it becomes
	add := func(k Kind, text Text) {
		if c, ok := s.change(k, text, "Asked for."); ok {
			out = append(out, c)
		}
		t = t.put(k, text)
	}
	switch had := t.of(Name); {
	case want.Name == "none":
		add(Name, Text{})
	case want.Name == "":
	case len(had) == 0 && t.full(Name) != "":
		cant = append(cant, t.full(Name))
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
	case want.Time == "":
	case len(had) == 0 && t.full(Time) != "":
		cant = append(cant, t.full(Time))
	default:
		text := Text{Dates: "dd/MM/yyyy", Times: "HH:mm:ss"}
		if len(had) > 0 {
			text = had[0]
		} else {
			text.Corner = t.corner()
		}
		text.Dates, text.Times = cmp.Or(w.Dates, text.Dates), cmp.Or(w.Times, text.Times)
		switch why := t.formats(text); {
		case why != "":
			cant = append(cant, why)
		case len(had) == 1 && w.Dates == "" && w.Times == "":
			cant = append(cant, "no recorder that holds it, or is planned, tells how it writes dates")
		default:
			add(Time, text)
		}
	}
	return out, cant
}

func cut(name string) string {
	for utf8.RuneCountInString(name) > maxName {
		_, n := utf8.DecodeLastRuneInString(name)
		name = name[:len(name)-n]
	}
	return name
}
