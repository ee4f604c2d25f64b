package channel

import (
	"fmt"
	"strings"

	"duskyharbor/internal/core/finding"
)

// NameDevice is the change that gives a camera itself the name of its place.
const NameDevice = "channel.name.device"

// Named is somewhere else where a camera has a name: another recorder that holds it, or a system that
// takes its channel.
type Named struct {
	RecorderID int64
	Recorder   Recorder
	Slot       Slot
}

// Own is the name that a camera has itself (the scope "name"; ONVIF Core, 7.3.2.2).
type Own struct {
	Name    string
	Settled bool // it can't be changed
	Made    bool // it is the make's own: nobody named it
}

// OwnName is a camera's own name, as its scopes say it. A name that holds no more than make and model
// is the make's.
func OwnName(name, maker, model string, fixed bool) *Own {
	if name == "" {
		return nil
	}
	bare := strings.ToLower(strings.Join(strings.Fields(name), " "))
	o := &Own{Name: name, Settled: fixed}
	for _, made := range []string{maker + " " + model, model, maker} {
		o.Made = o.Made || bare == strings.ToLower(strings.TrimSpace(made))
	}
	return o
}

// elsewhere lists where the camera has another name than its place, besides the recorder that holds it,
// in words.
func (f Facts) elsewhere(name string) (says []string) {
	for _, n := range f.Others {
		if n.Slot.Name != name {
			says = append(says, fmt.Sprintf("%q on %s", n.Slot.Name, n.Recorder.Name))
		}
	}
	if f.Own != nil && !f.Own.Made && f.Own.Name != name {
		says = append(says, fmt.Sprintf("%q on the camera itself", f.Own.Name))
	}
	return says
}

// names is the finding that a camera has several names; ok is false where it has one.
func (f Facts) names(w Wishes, ev []finding.Evidence) (out finding.Finding, ok bool) {
	if w.Name == "" {
		return out, false
	}
	says := f.elsewhere(w.Name)
	if f.Slot.Name != w.Name {
		says = append([]string{fmt.Sprintf("%q on %s", f.Slot.Name, f.Recorder.Name)}, says...)
	}
	if len(says) == 0 {
		return out, false
	}
	return finding.Finding{Code: "channel.name", Severity: finding.Needs, Words: "other name",
		Sentence: fmt.Sprintf("It is called %s and %q here.", strings.Join(says, ", "), w.Name),
		WayOut:   "Give it one name everywhere.", Evidence: ev}, true
}

// renames are the changes that give a camera one name: on the recorder that holds it, on others that do
// or that take its channel, and on the camera. A name that its make gave it is changed with the others,
// and not for its own sake.
func (f Facts) renames(w Wishes) (out []finding.Change) {
	if f.Recorder == nil || f.Slot == nil || f.Trouble != "" || w.Name == "" {
		return nil
	}
	add := func(id int64, r Recorder, s Slot, key string) {
		if s.Name == w.Name || r.Lacks(ActName) || r.nameTrouble(w.Name) != "" {
			return
		}
		c := finding.Change{Kind: Rename, Key: key, Title: fmt.Sprintf("Name of channel %d of %s", s.Number, r.Name), From: s.Name, To: w.Name,
			Why: "One name everywhere.", Risk: finding.NoRisk, Undo: finding.Undo{Kind: finding.Reversible, Note: "Give it its former name back."},
			Args: map[string]string{"channel": fmt.Sprint(s.Number), "name": w.Name, "old_name": s.Name}}
		if id != 0 {
			c.Args["recorder"] = fmt.Sprint(id)
		}
		out = append(out, c)
	}
	add(0, *f.Recorder, *f.Slot, Rename)
	for _, n := range f.Others {
		add(n.RecorderID, n.Recorder, n.Slot, fmt.Sprintf("%s/%d", Rename, n.RecorderID))
	}
	if o := f.Own; o != nil && o.Name != w.Name && !o.Settled && (!o.Made || len(out) > 0) {
		out = append(out, finding.Change{Kind: NameDevice, Key: NameDevice, Title: "The camera's own name", From: o.Name, To: w.Name,
			Why: "One name everywhere: it tells it to whoever looks for it.", Risk: finding.NoRisk,
			Undo: finding.Undo{Kind: finding.Reversible, Note: "Give it its former name back."}, Args: map[string]string{"name": w.Name, "old_name": o.Name}})
	}
	return out
}
