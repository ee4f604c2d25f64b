package known

import (
	"strconv"
	"time"

	"duskyharbor/internal/core/finding"
)

// Kinds of changes of what an analyser holds.
const (
	PutSet   = "known.set"
	PutEntry = "known.entry"
)

// Give are the changes that have an analyser hold a set as it is here on a day: the set, then what is to go, then what is new or
// otherwise. What has ended isn't given. It is named by its place.
func (s Set) Give(h Held, analyser string, today time.Time) (out []finding.Change) {
	if from, to := h.Reads(s.Key), s.Text(); from != to {
		out = append(out, s.change(from, to, analyser, "It was asked to hold the set."))
	}
	had, _ := h.Set(s.Key)
	wanted := map[int64]bool{}
	for _, e := range s.Entries {
		wanted[e.ID] = s.holds(e, today)
	}
	for _, e := range had.Entries {
		if !wanted[e.ID] {
			out = append(out, s.Drop(h, e.ID, analyser, "It isn't in the set any more, or its end has come."))
		}
	}
	for _, e := range s.Entries {
		from, to := h.ReadsEntry(s.Key, e.ID), e.Text()
		if !wanted[e.ID] || from == to {
			continue
		}
		undo := finding.Undo{Kind: finding.Irreversible, Note: "the pictures that it held before aren't kept there."}
		if from == None {
			undo = finding.Undo{Kind: finding.Reversible, Note: "it is deleted there again."}
		}
		out = append(out, finding.Change{Kind: PutEntry, Key: s.key() + "/entry/" + strconv.FormatInt(e.ID, 10), Title: analyser + " holds " + e.Name, From: from, To: to,
			Why: "It is in " + s.Name + ".", Risk: finding.NoRisk, Undo: undo, Args: s.args(e.ID)})
	}
	return out
}

// holds says whether an analyser is to hold an entry.
func (s Set) holds(e Entry, today time.Time) bool {
	return !e.Gone && !e.Ended(today) && len(e.Pictures) > 0
}

// Take are the changes that have an analyser hold nothing of a set.
func (s Set) Take(h Held, analyser string) (out []finding.Change) {
	if from := h.Reads(s.Key); from != None {
		c := s.change(from, None, analyser, "It was asked to hold the set no more: it is deleted there, with all its pictures.")
		c.Title = analyser + " holds " + s.Name + " no more"
		c.Removes, c.Undo = true, finding.Undo{Kind: finding.Compensating, Note: "have it hold the set again: all pictures are sent anew."}
		out = append(out, c)
	}
	return out
}

// Drop is the change that deletes an entry at an analyser.
func (s Set) Drop(h Held, entry int64, analyser, why string) finding.Change {
	return finding.Change{Kind: PutEntry, Key: s.key() + "/entry/" + strconv.FormatInt(entry, 10), Title: "Deleted at " + analyser, From: h.ReadsEntry(s.Key, entry), To: None,
		Why: why, Risk: finding.NoRisk, Removes: true, Undo: finding.Undo{Kind: finding.Irreversible, Note: "its pictures are deleted there, and here."}, Args: s.args(entry)}
}

func (s Set) change(from, to, analyser, why string) finding.Change {
	undo := finding.Undo{Kind: finding.Compensating, Note: "set it here as it was, and have it held so."}
	if from == None {
		undo = finding.Undo{Kind: finding.Reversible, Note: "it is deleted there again."}
	}
	return finding.Change{Kind: PutSet, Key: s.key(), Title: analyser + " holds " + s.Name, From: from, To: to, Why: why, Risk: finding.NoRisk, Undo: undo, Args: s.args(0)}
}

func (s Set) key() string { return "known/" + s.Key }

func (s Set) args(entry int64) map[string]string {
	out := map[string]string{"set": s.Key}
	if entry != 0 {
		out["entry"] = strconv.FormatInt(entry, 10)
	}
	return out
}
