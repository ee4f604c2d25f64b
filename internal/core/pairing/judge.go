package pairing

import (
	"fmt"
	"time"

	"duskyharbor/internal/core/finding"
)

// Kinds of changes of pairings.
const (
	Pair   = "analytics.pair"
	Unpair = "analytics.unpair"
)

// Facts are what is known of a view that is to be looked at.
type Facts struct {
	ID       string // that it is paired by
	Place    string
	Name     string    // of the analyser that it is paired with; empty: with none
	Analyser *Analyser // as it told last; nil: it was never read
	Trouble  string    // of its last reading
	Stills   []Still
	Own      bool // it has analytics of its own
	Opens    bool // an account opens its stills
	Asked    bool // its own analytics were asked for
	Wish     Wish
	PairedAt time.Time
	// Sending says what keeps its stills from going there, or what is seen from coming; empty: nothing does, or nobody tried yet.
	Sending string
	// References are the sets of references that the analyser held otherwise than here when it was read.
	References []string
}

// behindBy is how old the oldest still may be that waits, before it is told.
const behindBy = 10 * time.Second

// KnownFor is for how long what an analyser told is taken for what it does: it is read three times a minute while somebody listens.
const KnownFor = 3 * time.Minute

// Hinders says why no analyser can look at a view; empty where one may.
func (f Facts) Hinders() string {
	switch {
	case f.Name == "" && f.Own:
		return "it has analytics of its own"
	case len(f.Stills) == 0:
		return "it offers no still that was read: read its streams"
	case !f.Opens:
		return "no account opens its stills"
	case f.Name != "" && f.Analyser == nil:
		return f.Name + " looks at it, and wasn't read yet: read the analysers first"
	}
	return ""
}

// Blind says that nothing looks at a view: it was asked for analytics of its own and has none, and no analyser looks.
func (f Facts) Blind() bool { return f.Asked && !f.Own && f.Name == "" }

// Otherwise says that the analyser doesn't look at the view as was asked.
func (f Facts) Otherwise() bool {
	return f.Name != "" && f.Analyser != nil && f.Analyser.Reads(f.ID) != f.Wish.Text()
}

// clockWithin is how far an analyser's clock may be off: within it its own times and this server's are one.
const clockWithin = time.Second

// Judge says what stands between a pairing as it is wished and as it is. A view that is paired with none has no findings.
func Judge(now time.Time, f Facts) (out []finding.Finding) {
	if f.Name == "" {
		return nil
	}
	if f.Trouble != "" {
		out = append(out, finding.Finding{Code: "analyser.unread", Severity: finding.Needs, Words: "not read",
			Sentence: fmt.Sprintf("%s looks at it, and wasn't read: %s", f.Name, f.Trouble), WayOut: "See that it is on its network, and read the analysers again."})
	}
	if f.Analyser == nil {
		return out
	}
	a := *f.Analyser
	if since := now.Sub(a.At); since > KnownFor && f.Trouble == "" {
		out = append(out, finding.Finding{Code: "analyser.unheard", Severity: finding.Needs, Words: "not known",
			Sentence: fmt.Sprintf("Whether %s looks at it isn't known: it was read last at %s UTC.", f.Name, a.At.UTC().Format("15:04 on 2 Jan")), WayOut: "Read the analysers again; a server that gathers what analytics see reads them by itself."})
	}
	v, there := a.View(f.ID)
	if !there {
		return append(out, finding.Finding{Code: "analyser.forgot", Severity: finding.Needs, Words: "not looked at",
			Sentence: fmt.Sprintf("%s was told to look at it, and doesn't know it any more.", f.Name), WayOut: "Pair it again, or take the pairing off."})
	}
	q := a.Running.Views[v.ID]
	if f.Otherwise() {
		out = append(out, finding.Finding{Code: "analyser.otherwise", Severity: finding.Needs, Words: "otherwise there",
			Sentence: fmt.Sprintf("%s looks at it otherwise than was asked: %s.", f.Name, a.Reads(f.ID)), WayOut: "Have it look as was asked: " + f.Wish.Text() + "."})
	}
	if q.Behind > behindBy {
		out = append(out, finding.Finding{Code: "analyser.behind", Severity: finding.Needs, Words: "falls behind",
			Sentence: fmt.Sprintf("%s falls behind by %d s: %d stills of this view wait to be looked at, and what it fires comes so late.", f.Name, int(q.Behind.Seconds()), q.Waiting),
			WayOut:   "Have it look at fewer stills a second, or move a view to another analyser."})
	}
	if len(f.References) > 0 {
		out = append(out, finding.Finding{Code: "analyser.references", Severity: finding.Needs, Words: "other references",
			Sentence: fmt.Sprintf("%s holds the reference pictures of %s otherwise than they are here.", f.Name, listed(f.References)),
			WayOut:   "Have it hold them as they are here: what was deleted here is known there until then."})
	}
	if f.Sending != "" {
		out = append(out, finding.Finding{Code: "analyser.unsent", Severity: finding.Needs, Words: "nobody looks",
			Sentence: fmt.Sprintf("%s can't look at it now: %s", f.Name, f.Sending), WayOut: "It is tried again by itself; see that the analyser is on its network, and takes the view's stills."})
	}
	if off := a.Running.Ahead.Abs(); a.Running.Timed && off > clockWithin {
		way := "ahead of"
		if a.Running.Ahead < 0 {
			way = "behind"
		}
		out = append(out, finding.Finding{Code: "analyser.clock", Severity: finding.Note, Words: "clock off",
			Sentence: fmt.Sprintf("The clock of %s is %s %s this server's. What it sees keeps the times of the stills; its own log doesn't.", f.Name, off.Round(time.Second), way),
			WayOut:   "Give it the site's time server on its own page."})
	}
	return out
}

// Propose pairs a view anew with the analyser that it is paired with, where that forgot it or looks at it otherwise.
func Propose(f Facts, analyser string) []finding.Change {
	if !f.Otherwise() {
		return nil
	}
	why := "It was asked to, and doesn't know the view any more."
	if _, there := f.Analyser.View(f.ID); there {
		why = "It looks at it otherwise than was asked."
	}
	return []finding.Change{f.To(analyser, f.Name, *f.Analyser, f.Wish, why)}
}

// Moves are the changes that have an analyser look at a view as is wished, and the one that did no more. from and to are the numbers by
// which changes name them.
func (f Facts) Moves(from string, to string, a Analyser, w Wish) (out []finding.Change) {
	if f.Name == "" || from != to || a.Reads(f.ID) != w.Text() {
		which := "its stills"
		if s, ok := a.Limits.Fitting(f.Stills); ok && s.Width > 0 {
			which = fmt.Sprintf("its stills of %d × %d", s.Width, s.Height)
		}
		out = append(out, f.To(to, a.Name, a, w, "It was asked for: "+which+" go there."))
	}
	if f.Name != "" && from != to {
		out = append(out, f.Off(from, f.Name, *f.Analyser, a.Name+" looks at it instead."))
	}
	return out
}

// To is the change that has an analyser look at a view.
func (f Facts) To(id, name string, a Analyser, w Wish, why string) finding.Change {
	return finding.Change{Kind: Pair, Key: "analyser/" + id + "/" + f.ID, Title: name + " looks at it", From: a.Reads(f.ID), To: w.Text(), Why: why, Risk: finding.NoRisk,
		Undo: finding.Undo{Kind: finding.Reversible, Note: "have it as it was before."}, Args: args(id, f, w)}
}

// Off is the change that has an analyser look at a view no more. What it saw stays here.
func (f Facts) Off(id, name string, a Analyser, why string) finding.Change {
	return finding.Change{Kind: Unpair, Key: "analyser/" + id + "/" + f.ID, Title: name + " looks at it no more", From: a.Reads(f.ID), To: None, Why: why, Risk: finding.NoRisk,
		Undo: finding.Undo{Kind: finding.Compensating, Note: "pair it again: rules that were written to it there must be written again."}, Args: args(id, f, f.Wish)}
}

func args(id string, f Facts, w Wish) map[string]string {
	return map[string]string{"analyser": id, "view": f.ID, "rate": short(w.PerSecond), "score": short(w.LeastScore)}
}
