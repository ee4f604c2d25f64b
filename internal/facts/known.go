package facts

import (
	"time"

	"duskyharbor/internal/core/known"
	"duskyharbor/internal/site"
	"duskyharbor/internal/store"
)

// LikenessOf is how alike the pictures of a set of references are by the analyser that holds the most of them, with when that told it.
// The device is zero where none holds any.
func LikenessOf(s *site.Snapshot, set string) (l known.Likeness, by store.Device, at time.Time) {
	for _, d := range s.Analysers() {
		held, _ := Known.Of(s, d.ID)
		if h, ok := held.Set(set); ok && len(h.Likeness.Pictures) > len(l.Pictures) {
			l, by, at = h.Likeness, d, held.At
		}
	}
	return l, by, at
}

// HeldAt are the analysers that hold an entry of a set of references, as they told last.
func HeldAt(s *site.Snapshot, set string, entry int64) (out []store.Device) {
	for _, d := range s.Analysers() {
		if held, _ := Known.Of(s, d.ID); held.ReadsEntry(set, entry) != known.None {
			out = append(out, d)
		}
	}
	return out
}
