package analyser

import (
	"fmt"
	"math"
	"sort"
	"time"

	"duskyharbor/internal/core/scene"
)

const (
	lost    = 2500 * time.Millisecond // an object is gone that wasn't seen for so long
	mostWay = 0.45                    // of the picture's width that one moves between two stills a second apart
)

// tracker tells which of what is seen in a picture was seen in those of before.
type tracker struct {
	made   int
	tracks []*trace
}

type trace struct {
	id    string
	box   scene.Box
	at    time.Time
	votes map[string]float64
	score float64
	shown float64            // how well the picture that was told shows it: its area by its score
	held  map[string]float64 // how sure it was of who it is, by set
}

// find is the one of an id; nil: it is gone.
func (t *tracker) find(id string) *trace {
	for _, of := range t.tracks {
		if of.id == id {
			return of
		}
	}
	return nil
}

// follow names what is seen at a moment, and says what is gone. What it is less sure of than least isn't told.
func (t *tracker) follow(at time.Time, all []seen, least float64) (out []scene.Observation, gone []string) {
	type match struct {
		of   *trace
		i    int
		away float64
	}
	var matches []match
	for _, of := range t.tracks {
		may := 0.12 + mostWay*at.Sub(of.at).Seconds()
		for i, s := range all {
			if d := apart(of.box, s.box); d < 2*may {
				matches = append(matches, match{of, i, d})
			}
		}
	}
	sort.Slice(matches, func(i, j int) bool { return matches[i].away < matches[j].away })
	took, used := map[int]*trace{}, map[*trace]bool{}
	for _, m := range matches {
		if took[m.i] == nil && !used[m.of] {
			took[m.i], used[m.of] = m.of, true
		}
	}
	for i, s := range all {
		of := took[i]
		if of == nil {
			t.made++
			of = &trace{id: fmt.Sprint(t.made), votes: map[string]float64{}}
			t.tracks = append(t.tracks, of)
		}
		of.box, of.at = s.box, at
		of.votes[s.class] += s.score
		class, most := "", 0.0
		for c, v := range of.votes {
			if v > most || v == most && c < class {
				class, most = c, v
			}
		}
		if of.score = s.score; s.class != class {
			of.score *= 0.6 // the pictures of before say otherwise
		}
		if of.score >= least {
			out = append(out, scene.Observation{Object: of.id, Class: class, Box: s.box, Score: of.score})
		}
	}
	kept := t.tracks[:0]
	for _, of := range t.tracks {
		if at.Sub(of.at) > lost {
			gone = append(gone, of.id)
			continue
		}
		kept = append(kept, of)
	}
	t.tracks = kept
	return out, gone
}

func apart(a, b scene.Box) float64 {
	return math.Hypot((a.Left+a.Right-b.Left-b.Right)/2, (a.Bottom+a.Top-b.Bottom-b.Top)/2)
}
