package recording

import (
	"encoding/json"
	"fmt"
	"math"
	"slices"
	"strings"
	"time"

	"duskyharbor/internal/core/finding"
)

// Slot is what a recorder says of the recording of one of its channels.
type Slot struct {
	Plan *Plan `json:"plan,omitempty"` // nil: it doesn't say
	// Hears lists what can reach this channel by its way in as something that happens.
	Hears      []Cause    `json:"hears,omitempty"`
	Rates      Rates      `json:"rates,omitzero"`
	Activity   []Activity `json:"activity,omitempty"`
	Unlicensed bool       `json:"unlicensed,omitempty"` // it is shown, and not recorded
	Now        string     `json:"now,omitempty"`        // what it keeps at this moment, as Keep; empty: not told
	KeptDay    float64    `json:"kept_day,omitempty"`   // bytes a day that it kept over Storage.KeptDays
	// Age is after how many hours its recordings are deleted, 0: never; nil: as the recorder's storage says.
	Age *float64 `json:"age,omitempty"`
}

// Facts is what the judge of one view's recording knows.
type Facts struct {
	Recorder string
	Channel  int
	At       time.Time // of the recorder's channel table
	Way      string    // in which the recorder takes it, in words; empty: not told
	Slot     *Slot     // nil: no channel holds it
	Storage  Storage
	Sum      Sum // of the recorder
	ByPlan   bool
	Pegged   int // topics that are pegged to the channel's inputs
	// Own says how the recorder is spoken to, where its plans can neither be read nor written so.
	Own string
	// State is how the recorder says that the channel stands, and Detail what it says of it.
	State, Detail string
	Trouble       string // why the recorder couldn't be read; empty: it could
}

// States of a channel in which something of it is recorded, or may be.
const (
	receiving  = "receiving"
	typed      = "typed in"
	connecting = "connecting"
)

// Read says whether what the stage is about is known: what its mark may be ready by.
func (f Facts) Read() bool { return f.Slot != nil && (f.Slot.Plan != nil || f.Own != "") }

// Wishes is what the site wants kept of a view.
type Wishes struct {
	Name string // of the plan; empty: nobody chose one
	Plan Plan
	Term Term
}

// SetPlan is the change that writes a channel's plan; SetAge how old recordings of a recorder get.
const (
	SetPlan = "recording.plan"
	SetAge  = "recording.age"
)

// Problem is why a plan doesn't do on a channel.
type Problem struct {
	finding.Finding
	Never bool // hours in which it would never keep anything: it isn't written
}

// Deaf are the modes of a plan, by name, in whose hours the recorder listens to no camera event, since they wait for none:
// of a recorder that listens by plan alone.
func (f Facts) Deaf(p Plan) (out []string) {
	for i, m := range p.Modes {
		if f.ByPlan && p.painted(i) > 0 && !slices.Contains(m.Causes, Camera) {
			out = append(out, m.Name)
		}
	}
	return out
}

// Problems of a plan on a channel: of one that is there, or of one that would be (would words it
// so), before it is written.
func (f Facts) Problems(p Plan, would bool) []Problem {
	var out []Problem
	add := func(never bool, sev finding.Severity, code, words, sentence, wayOut string) {
		out = append(out, Problem{finding.Finding{Code: code, Severity: sev, Words: words, Sentence: sentence, WayOut: wayOut, Evidence: f.evidence()}, never})
	}
	does, keeps := "records", "waits"
	if would {
		does, keeps = "would record", "would wait"
	}
	buffer, deaf := f.Storage.Buffer, f.Deaf(p)
	if !p.keeps() {
		add(false, finding.Needs, "recording.nothing", "keeps nothing", "Its plan keeps nothing at any hour.", "Say what is kept, or take the camera off the recorder.")
	}
	for i, m := range p.Modes {
		if p.painted(i) == 0 {
			continue
		}
		if m.Idle == Nothing && len(m.Causes) == 0 {
			continue
		}
		var dead []Cause
		for _, c := range m.Causes {
			if !slices.Contains(f.Slot.Hears, c) {
				dead = append(dead, c)
			}
		}
		switch {
		case len(m.Causes) > 0 && len(dead) == len(m.Causes) && m.Idle == Nothing:
			add(true, finding.Blocks, "recording.never", "never records",
				fmt.Sprintf("%s it %s for %s, and %s passes none: it never %s.", hours(m.Name), keeps, causesText(m.Causes), f.way(), does),
				"Keep something when nothing happens too, or take the camera in another way.")
		case len(m.Causes) > 0 && len(dead) == len(m.Causes) && m.Event != m.Idle:
			add(false, finding.Needs, "recording.never-more", "no events",
				fmt.Sprintf("%s it %s for %s before it keeps %s, and %s passes none.", hours(m.Name), keeps, causesText(m.Causes), m.Event, f.way()),
				"Keep the better stream at all times, or take the camera in another way.")
		case len(dead) > 0:
			add(false, finding.Note, "recording.part-deaf", "some unheard",
				fmt.Sprintf("%s %s passes no %s: that counts for nothing.", hours(m.Name), f.way(), strings.TrimPrefix(causesText(dead), "a ")),
				"Leave it, or take the camera in another way.")
		}
		if f.Pegged > 0 && slices.Contains(deaf, m.Name) {
			add(false, finding.Needs, "recording.deaf", "events unheard",
				fmt.Sprintf("%s %s listens to no camera event, since the plan waits for none: %s that are pegged to channel %d go unheard.",
					hours(m.Name), f.Recorder, plural(f.Pegged, "topic"), f.Channel),
				"Count camera events as something in these hours too; the same stream may be kept all the time.")
		}
		if len(m.Causes) > 0 && buffer > 0 && m.Lead > buffer && m.Event != m.Idle {
			add(false, finding.Needs, "recording.lead", "lead too long",
				fmt.Sprintf("%s %d s are to be kept from before something happens, and %s holds back %d s.", hours(m.Name), m.Lead, f.Recorder, buffer),
				fmt.Sprintf("Keep %d s before, or the better stream at all times.", buffer))
		}
	}
	return out
}

// keeps says whether a plan keeps anything at any hour.
func (p Plan) keeps() bool {
	for i, m := range p.Modes {
		if p.painted(i) > 0 && (m.Idle != Nothing || len(m.Causes) > 0) {
			return true
		}
	}
	return false
}

func hours(name string) string { return Title(name) + ":" }

func plural(n int, one string) string {
	if n == 1 {
		return "1 " + one
	}
	return fmt.Sprintf("%d %ss", n, one)
}

func (f Facts) way() string {
	if f.Way == "" {
		return "this way in"
	}
	return "its way in (" + f.Way + ")"
}

func (f Facts) evidence() []finding.Evidence {
	return []finding.Evidence{{Name: fmt.Sprintf("Channel %d of %s", f.Channel, f.Recorder), Value: f.Slot.Plan.text(), Via: "channel table", At: f.At}}
}

func (p *Plan) text() string {
	if p == nil {
		return NotTold
	}
	return p.String()
}

// NotTold is what a channel reads that doesn't tell its plan.
const NotTold = "not told"

// Judge says how a view's recording stands.
func Judge(_ time.Time, f Facts, w Wishes) []finding.Finding {
	if f.Slot == nil {
		return nil
	}
	out := f.nothingComes()
	if f.Slot.Unlicensed {
		out = append(out, finding.Finding{Code: "recording.licence", Severity: finding.Blocks, Words: "no licence",
			Sentence: fmt.Sprintf("%s shows channel %d and doesn't record it: it has no licence left for it.", f.Recorder, f.Channel),
			WayOut:   "Add a licence on the recorder, or take another camera off it.", Evidence: f.evidence()})
	}
	if f.Slot.Plan == nil && f.Own != "" {
		out = append(out, finding.Finding{Code: "recording.own-plan", Severity: finding.Needs, Words: "its own plan",
			Sentence: fmt.Sprintf("%s keeps by a plan of its own: it is spoken to %s, and plans can neither be read nor written so.", f.Recorder, f.Own),
			WayOut:   "Look at its own screen what it keeps, and accept it.", Evidence: f.evidence()})
		if fi, bad := JudgeTerm(f.Recorder, f.At, f.storage(), f.Sum, w.Term); bad {
			out = append(out, fi)
		}
		return out
	}
	if f.Slot.Plan == nil {
		return out
	}
	for _, p := range f.Problems(*f.Slot.Plan, false) {
		out = append(out, p.Finding)
	}
	switch {
	case w.Name == "":
		out = append(out, finding.Finding{Code: "recording.undecided", Severity: finding.Needs, Words: "no plan",
			Sentence: fmt.Sprintf("Nobody chose what is kept of it: %s keeps by its own default, %s.", f.Recorder, f.Slot.Plan),
			WayOut:   "Choose a plan for it.", Evidence: f.evidence()})
	case !f.Slot.Plan.Equal(w.Plan):
		fi := finding.Finding{Code: "recording.differs", Severity: finding.Needs, Words: "other plan",
			Sentence: fmt.Sprintf("Channel %d of %s doesn't keep what %q asks for: %s.", f.Channel, f.Recorder, w.Name, differences(*f.Slot.Plan, w.Plan)),
			WayOut:   "Write the plan to it.", Evidence: f.evidence()}
		for _, p := range f.Problems(w.Plan, true) {
			if p.Never {
				fi = p.Finding
				fi.Code, fi.Sentence = "recording.would-never", fmt.Sprintf("%q isn't written to it. %s", w.Name, fi.Sentence)
			}
		}
		out = append(out, fi)
	}
	if fi, bad := JudgeTerm(f.Recorder, f.At, f.storage(), f.Sum, w.Term); bad {
		out = append(out, fi)
	}
	return out
}

// storage is the recorder's as it is for this channel.
func (f Facts) storage() Storage {
	st := f.Storage
	if f.Slot.Age != nil {
		st.Ages([]float64{*f.Slot.Age})
	}
	return st
}

// nothingComes is the finding that nothing is recorded since nothing comes, or that it isn't known.
func (f Facts) nothingComes() []finding.Finding {
	switch {
	case f.Trouble != "":
		return []finding.Finding{{Code: "recording.recorder", Severity: finding.Blocks, Words: "recorder silent",
			Sentence: f.Trouble + " Whether anything is recorded isn't known.",
			WayOut:   "Look whether the recorder is powered and its account is right, then read it again.", Evidence: f.evidence()}}
	case f.State == "" || f.State == receiving || f.State == typed:
		return nil
	case f.State == connecting:
		return []finding.Finding{{Code: "recording.no-picture", Severity: finding.Needs, Words: "connecting",
			Sentence: fmt.Sprintf("%s is still connecting to channel %d: nothing of it is recorded yet.", f.Recorder, f.Channel),
			WayOut:   "Read its channel again in a moment.", Evidence: f.evidence()}}
	}
	says := fmt.Sprintf("Channel %d of %s is %s, and nothing of it is recorded.", f.Channel, f.Recorder, f.State)
	if f.Detail != "" {
		says = fmt.Sprintf("Channel %d of %s is %s, and nothing of it is recorded: %s", f.Channel, f.Recorder, f.State, f.Detail)
	}
	return []finding.Finding{{Code: "recording.no-picture", Severity: finding.Blocks, Words: "not recorded", Sentence: says,
		WayOut: "See Channels: what keeps its picture away keeps its recording away.", Evidence: f.evidence()}}
}

// Done is what a view's recording is when nothing is wrong with it.
func Done(f Facts, w Wishes) string {
	switch {
	case f.Own != "" && f.Slot != nil && f.Slot.Plan == nil:
		return "Its recorder keeps it by its own plan, as was accepted."
	case w.Term == Term{}:
		return "Its recorder keeps what was chosen; for how many days isn't asked."
	case f.Sum.Lived >= WeekDays:
		return fmt.Sprintf("Its recorder keeps what was chosen, for as long as was asked: by what it kept over %s, %s.", DaysText(f.Sum.Lived), DaysText(f.Sum.Days))
	case f.Sum.Assumed:
		return fmt.Sprintf("Its recorder keeps what was chosen, and will for as long as was asked: %s, partly by what was assumed.", DaysText(f.Sum.Days))
	}
	return fmt.Sprintf("Its recorder keeps what was chosen, and will for as long as was asked: %s.", DaysText(f.Sum.Days))
}

// JudgeTerm says whether a recorder keeps for too few days, or for too many, or that it isn't known.
func JudgeTerm(recorder string, at time.Time, st Storage, sum Sum, t Term) (fi finding.Finding, bad bool) {
	ev := []finding.Evidence{{Name: recorder, Value: fmt.Sprintf("%s usable, %s a day%s", Size(st.Usable), Size(sum.Bytes), guess(sum)), Via: "channel table", At: at}}
	longest, shortest := st.limits()
	switch t.Of(sum, st) {
	case notKnown:
		says := fmt.Sprintf("%s doesn't say how much it can hold: for how many days it keeps isn't known.", recorder)
		way := "See on its own screen how much its disks hold, and accept it."
		if sum.Days > 0 {
			says = fmt.Sprintf("For how many days %s keeps isn't known: not every stream's rate is, by day and by night; it is %s at most.", recorder, DaysText(sum.Days))
			way = "Let it record for a day and a night, then read it again; or play the streams on Streams."
			if math.IsInf(sum.Days, 1) {
				says = fmt.Sprintf("For how many days %s keeps isn't known: no stream's rate is.", recorder)
			}
		}
		return finding.Finding{Code: "recording.days-unknown", Severity: finding.Needs, Words: "days unknown", Sentence: says, WayOut: way, Evidence: ev}, true
	case tooFew:
		days, way := sum.Days, "See on Recording what would bring it to the contract's days, or add disks."
		if shortest < days || days <= 0 {
			days, way = shortest, "Let it keep for longer: there is room."
		}
		return finding.Finding{Code: "recording.few-days", Severity: finding.Needs, Words: daysWord(days, t.Least),
			Sentence: fmt.Sprintf("%s will keep %s of the %d days that the contract asks for.", recorder, DaysText(days), t.Least), WayOut: way, Evidence: ev}, true
	case TooMany:
		return finding.Finding{Code: "recording.many-days", Severity: finding.Needs, Words: "too long",
			Sentence: fmt.Sprintf("%s has room for %s and keeps %s; the privacy rule allows %d days.", recorder, DaysText(sum.Days), untilText(longest), t.Most),
			WayOut:   fmt.Sprintf("Have it delete what is older than %d days.", t.Most), Evidence: ev}, true
	}
	return finding.Finding{}, false
}

// untilText says until when a recorder keeps, as part of a sentence.
func untilText(days float64) string {
	if math.IsInf(days, 1) {
		return "until it is full"
	}
	return "for " + DaysText(days)
}

func guess(s Sum) string {
	switch {
	case s.Lived >= WeekDays:
		return ", as it kept over " + DaysText(s.Lived)
	case s.Unknown:
		return " and more: not every stream's rate is known"
	case s.Assumed:
		return ", partly assumed"
	}
	return ""
}

// DaysText is for how many days a sum lasts, in words, as sure as it is.
func (s Sum) DaysText() string {
	switch {
	case s.Days <= 0, s.Unknown && math.IsInf(s.Days, 1):
		return "not known"
	case s.Unknown:
		return "at most " + DaysText(s.Days)
	}
	return DaysText(s.Days)
}

// Basis says what a sum rests on, as the end of a sentence.
func (s Sum) Basis() string {
	switch {
	case s.Unknown:
		return " at the least: not every stream's rate is known, by day and by night"
	case s.Lived >= WeekDays:
		return ", as it kept over " + DaysText(s.Lived)
	case s.Lived > 0:
		return fmt.Sprintf(", by what it kept over %s: not a whole week yet", DaysText(s.Lived))
	case s.Assumed:
		return ", partly assumed: not everything was counted for long enough"
	}
	return ", by what was counted"
}

// DaysText is a number of days in words, whole ones: what isn't over doesn't count.
func DaysText(days float64) string {
	switch {
	case math.IsInf(days, 1):
		return "any number of days"
	case days > 3650:
		return "over ten years"
	}
	return plural(int(math.Floor(days+1e-9)), "day")
}

// daysWord is so many days of so many, as a mark says it.
func daysWord(days float64, of int) string {
	return fmt.Sprintf("%.0f of %d d", math.Floor(days+1e-9), of)
}

// Size is an amount of bytes in the units that disks are sold in: powers of 1,000.
func Size(bytes float64) string {
	for _, u := range []struct {
		of   float64
		name string
	}{{1e12, "TB"}, {1e9, "GB"}, {1e6, "MB"}, {1e3, "kB"}} {
		if bytes >= u.of {
			if bytes >= 99.95*u.of {
				return fmt.Sprintf("%.0f %s", bytes/u.of, u.name)
			}
			return fmt.Sprintf("%.1f %s", bytes/u.of, u.name)
		}
	}
	return fmt.Sprintf("%.0f B", bytes)
}

// differences says in what two plans differ, in a few words: kinds of hours by name, and days.
func differences(has, wants Plan) string {
	var out []string
	for i, m := range wants.Modes {
		if wants.painted(i) == 0 {
			continue
		}
		k := slices.IndexFunc(has.Modes, func(o Mode) bool { return o.Name == m.Name })
		switch {
		case k < 0 || has.painted(k) == 0:
			out = append(out, "it has no hours "+m.Name)
		case has.Modes[k].String() != m.String():
			out = append(out, fmt.Sprintf("%s it keeps %s", m.Name, has.Modes[k]))
		}
	}
	var days []string
	for d := range WeekDays {
		if has.Day(d) != wants.Day(d) {
			days = append(days, DayNames[d])
		}
	}
	if len(days) > 0 {
		out = append(out, "other hours on "+strings.Join(days, ", "))
	}
	if len(out) == 0 {
		return "nothing"
	}
	return strings.Join(out, "; ")
}

// Propose writes the plan that was chosen, where the channel keeps by another one. One by which it
// would never record isn't written.
func Propose(_ time.Time, f Facts, w Wishes) []finding.Change {
	if !f.Read() || f.Slot.Plan == nil || w.Name == "" || f.Slot.Plan.Equal(w.Plan) || w.Plan.Check() != nil {
		return nil
	}
	why := fmt.Sprintf("%q was chosen for it.", w.Name)
	for _, p := range f.Problems(w.Plan, true) {
		if p.Never {
			return nil
		}
		if p.Severity > finding.Note {
			why += " But: " + p.Sentence
		}
	}
	return []finding.Change{{Kind: SetPlan, Key: SetPlan, Title: fmt.Sprintf("Recording plan of channel %d of %s", f.Channel, f.Recorder),
		From: f.Slot.Plan.String(), To: w.Plan.String(), Why: why, Risk: finding.NoRisk,
		Undo: finding.Undo{Kind: finding.Reversible, Note: "Write the former plan back; what was kept meanwhile stays."},
		Args: map[string]string{"channel": fmt.Sprint(f.Channel), "plan": encode(w.Plan), "old_plan": encode(*f.Slot.Plan)}}}
}

// Hinders is why the chosen plan can't be written to the channel now, in words that go after the camera's name; idle: the
// channel keeps by it already. Both are empty where Propose writes it.
func (f Facts) Hinders(w Wishes) (why []string, idle bool) {
	switch {
	case f.Slot == nil:
		return []string{"no channel holds it yet; the plan is chosen, and is proposed once it is placed"}, false
	case f.Slot.Plan == nil:
		return []string{f.Recorder + " doesn't tell what it keeps, and takes no plan from here"}, false
	case f.Slot.Plan.Equal(w.Plan):
		return nil, true
	}
	for _, p := range f.Problems(w.Plan, true) {
		if p.Never {
			why = append(why, strings.TrimSuffix(p.Sentence, "."))
		}
	}
	return why, false
}

// encode is a plan as a change's argument.
func encode(p Plan) string {
	b, err := json.Marshal(p)
	if err != nil {
		return ""
	}
	return string(b)
}

// Decode reads a plan that encode wrote.
func Decode(text string) (p Plan, err error) {
	if err = json.Unmarshal([]byte(text), &p); err == nil {
		err = p.Check()
	}
	return p, err
}

// ageText is the canonical text of how old recordings of a recorder get.
func ageText(deletes int) string { return Storage{Deletes: deletes}.AgeText() }

// AgeText is the canonical text of how old recordings get.
func (s Storage) AgeText() string {
	says := "until it is full"
	switch {
	case s.Hours > 0:
		says = fmt.Sprintf("deleted after %g h", s.Hours)
	case s.Deletes > 0:
		says = "deleted after " + plural(s.Deletes, "day")
	}
	if s.Shortest > 0 {
		says += ", some after " + DaysText(s.Shortest)
	}
	return says
}

// Age is the change by which a recorder deletes what is older than so many days; 0: it keeps until
// it is full.
func Age(recorder string, id int64, st Storage, days int) finding.Change {
	why := "What is older is kept no longer than the privacy rule allows."
	if days == 0 {
		why = "It keeps for as long as there is room."
	}
	undo := finding.Undo{Kind: finding.Reversible, Note: "Let it keep as before; what was deleted meanwhile is gone."}
	if st.Hours > 0 || st.Shortest > 0 {
		undo = finding.Undo{Kind: finding.Irreversible, Note: "Its channels kept for times of their own, which aren't whole days or differ."}
	}
	return finding.Change{Kind: SetAge, Key: SetAge, Title: "How long " + recorder + " keeps", From: st.AgeText(), To: ageText(days), Why: why,
		Risk: finding.NoRisk, Removes: days > 0 && st.Oldest > float64(days),
		Undo: undo,
		Args: map[string]string{"recorder": fmt.Sprint(id), "days": fmt.Sprint(days), "old_days": fmt.Sprint(st.Deletes)}}
}
