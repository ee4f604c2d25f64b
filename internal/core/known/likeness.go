package known

import (
	"cmp"
	"fmt"
	"math"
	"slices"
	"strings"

	"duskyharbor/internal/core/scene"
)

// Likeness is how alike pictures are, as an analyser reckons it: 0 to 1 of each two.
type Likeness struct {
	Pictures []int64     `json:"pictures,omitempty"`
	Scores   [][]float64 `json:"scores,omitempty"` // a row of each picture, a column of each
}

// lookup tells how alike two pictures are; ok is false where that wasn't told.
func (l Likeness) lookup() func(a, b int64) (score float64, ok bool) {
	at := make(map[int64]int, len(l.Pictures))
	for i, p := range l.Pictures {
		at[p] = i
	}
	return func(a, b int64) (float64, bool) {
		i, ok := at[a]
		j, ok2 := at[b]
		if !ok || !ok2 || i >= len(l.Scores) || j >= len(l.Scores[i]) {
			return 0, false
		}
		x := l.Scores[i][j]
		return x, x >= 0 && x <= 1
	}
}

// Outcome is what a picture would be taken for by all the others.
type Outcome string

// Outcomes.
const (
	Right   Outcome = "known"
	Mixed   Outcome = "taken for another"
	Near    Outcome = "nearly known"
	Missed  Outcome = "unknown"
	Alone   Outcome = "alone"        // its entry has no other picture
	Untried Outcome = "not compared" // no analyser told how alike it is to the others of its entry
)

// Wants says whether a picture of the outcome wants somebody.
func (o Outcome) Wants() bool { return o != Right && o != Alone }

// Judged is a picture held against all the others.
type Judged struct {
	Picture    int64
	Outcome    Outcome
	Own, Other float64 // likest of its own entry's others, and of other entries'; -1: none
	By         int64   // whose Other is
}

// Figure says how well an entry is known: of each picture, what it would be taken for had it not been among the references.
type Figure struct {
	Of       int // pictures
	Right    int
	Pictures []Judged
}

// Count is how many of its pictures have an outcome.
func (f Figure) Count(o Outcome) (n int) {
	for _, p := range f.Pictures {
		if p.Outcome == o {
			n++
		}
	}
	return n
}

// WorstFirst are the set's entries: those that are deleted here and not everywhere, those that would be taken for another, those that
// aren't all known, the rest; of each as they were.
func (s Set) WorstFirst(figures map[int64]Figure) []Entry {
	rank := func(e Entry) int {
		switch f := figures[e.ID]; {
		case e.Gone:
			return 0
		case f.Count(Mixed) > 0:
			return 1
		case f.Right < f.Of || f.Of == 0:
			return 2
		}
		return 3
	}
	out := slices.Clone(s.Entries)
	slices.SortStableFunc(out, func(a, b Entry) int { return cmp.Compare(rank(a), rank(b)) })
	return out
}

// LeaveOneOut judges each entry's pictures by all the others of the set: known where one of its own entry's is alike enough and more so
// than anybody else's. As alike as somebody else's it can't be told apart. What is gone is held against nobody.
func (s Set) LeaveOneOut(l Likeness) map[int64]Figure {
	like := l.lookup()
	out := map[int64]Figure{}
	for _, e := range s.Entries {
		if e.Gone {
			continue
		}
		f := Figure{Of: len(e.Pictures)}
		for _, p := range e.Pictures {
			j := s.judge(e, p, like)
			if j.Outcome == Right {
				f.Right++
			}
			f.Pictures = append(f.Pictures, j)
		}
		out[e.ID] = f
	}
	return out
}

func (s Set) judge(e Entry, p Picture, like func(a, b int64) (float64, bool)) Judged {
	j := Judged{Picture: p.ID, Own: -1, Other: -1}
	for _, of := range s.Entries {
		if of.Gone {
			continue
		}
		for _, q := range of.Pictures {
			x, told := like(p.ID, q.ID)
			switch {
			case !told || q.ID == p.ID:
			case of.ID == e.ID:
				j.Own = max(j.Own, x)
			case x > j.Other:
				j.Other, j.By = x, of.ID
			}
		}
	}
	switch {
	case j.Other >= s.Least && j.Other >= j.Own:
		j.Outcome = Mixed
	case len(e.Pictures) < 2:
		j.Outcome = Alone
	case j.Own < 0:
		j.Outcome = Untried
	case j.Own >= s.Least:
		j.Outcome = Right
	case j.Own >= s.Nearly:
		j.Outcome = Near
	default:
		j.Outcome = Missed
	}
	return j
}

// Helps says whether another picture of an entry helps. names are the entries', for who it is taken for.
func (f Figure) Helps(names map[int64]string) string {
	switch mixed, untried := f.Count(Mixed), f.Count(Untried); {
	case f.Of == 0:
		return "It has no picture yet, and is known to nobody."
	case mixed > 0:
		return fmt.Sprintf("%d of %d would be taken for %s: take out what is alike, or add pictures that differ more.", mixed, f.Of, f.mixedWith(names))
	case f.Of == 1:
		return "With one picture alone nothing tells whether it is known by another: add a second."
	case untried > 0:
		return fmt.Sprintf("%d of %d aren't compared yet: have an analyser hold the set.", untried, f.Of)
	case f.Right == f.Of:
		return "Each is known by the others: another picture won't help."
	}
	return fmt.Sprintf("%d of %d are known by the others: another picture helps, taken as the others are seen: %s.", f.Right, f.Of, f.weak())
}

func (f Figure) mixedWith(names map[int64]string) string {
	var all []string
	seen := map[int64]bool{}
	for _, p := range f.Pictures {
		if p.Outcome == Mixed && !seen[p.By] {
			seen[p.By] = true
			all = append(all, names[p.By])
		}
	}
	return strings.Join(all, ", ")
}

func (f Figure) weak() string {
	var all []string
	for i, p := range f.Pictures {
		if p.Outcome == Near || p.Outcome == Missed {
			all = append(all, fmt.Sprintf("picture %d (%.2f)", i+1, p.Own))
		}
	}
	return strings.Join(all, ", ")
}

// Effect is what a picture changes for the others of its entry: how alike the likest of their own is on the mean, without it and with
// it. ok is false where there are fewer than two others, or where one of them wasn't compared.
func (s Set) Effect(l Likeness, picture int64) (before, after float64, ok bool) {
	like := l.lookup()
	for _, e := range s.Entries {
		n := 0
		var has bool
		for _, p := range e.Pictures {
			has = has || p.ID == picture
		}
		if !has {
			continue
		}
		for _, p := range e.Pictures {
			if p.ID == picture {
				continue
			}
			without, with := math.Inf(-1), math.Inf(-1)
			for _, q := range e.Pictures {
				x, told := like(p.ID, q.ID)
				switch {
				case q.ID == p.ID:
					continue
				case !told:
					return 0, 0, false
				case q.ID != picture:
					without = max(without, x)
				}
				with = max(with, x)
			}
			if math.IsInf(without, -1) {
				return 0, 0, false
			}
			before, after, n = before+without, after+with, n+1
		}
		if n == 0 {
			return 0, 0, false
		}
		return before / float64(n), after / float64(n), true
	}
	return 0, 0, false
}

// same is from which likeness on two pictures are one: taken twice, or copied.
const same = 0.995

// Double is two of a set that are hard to tell apart: two entries, or one entry that has a picture twice (both are it then).
type Double struct {
	A, B  int64 // entries
	P, Q  int64 // the pictures that are likest
	Score float64
}

// Doubles finds entries that would be taken for each other, and pictures that an entry has twice, the likest first.
func (s Set) Doubles(l Likeness) (out []Double) {
	like := l.lookup()
	for i, a := range s.Entries {
		for _, b := range s.Entries[i:] {
			if a.Gone || b.Gone {
				continue
			}
			most := s.Least
			if a.ID == b.ID {
				most = same
			}
			if d, ok := likest(a, b, like); ok && d.Score >= most {
				out = append(out, d)
			}
		}
	}
	slices.SortStableFunc(out, func(a, b Double) int { return cmp.Compare(b.Score, a.Score) })
	return out
}

func likest(a, b Entry, like func(a, b int64) (float64, bool)) (d Double, ok bool) {
	for i, p := range a.Pictures {
		for k, q := range b.Pictures {
			if a.ID == b.ID && k <= i {
				continue
			}
			x, told := like(p.ID, q.ID)
			if p.Digest != "" && p.Digest == q.Digest {
				x, told = 1, true
			}
			if told && (!ok || x > d.Score) {
				d, ok = Double{a.ID, b.ID, p.ID, q.ID, x}, true
			}
		}
	}
	return d, ok
}

// Told is what an analyser tells that somebody is, or something.
type Told string

// What it tells.
const (
	IsKnown   Told = "known"
	IsNearly  Told = "nearly known"
	IsUnknown Told = "unknown"
)

// Says words what an object was held to be by the set, as it is now.
func (s Set) Says(h scene.Recognised) string {
	if h.Entry == 0 {
		return fmt.Sprintf("unknown to %s (%.2f)", s.Name, h.Score)
	}
	i := slices.IndexFunc(s.Entries, func(e Entry) bool { return e.ID == h.Entry && !e.Gone })
	if i < 0 {
		return "somebody of " + s.Name + " who was deleted since"
	}
	return fmt.Sprintf("%s as %s (%.2f)", h.As, s.Entries[i].Name, h.Score)
}
