package identity

import "fmt"

// EnrolledSource is a view of a device that has a row, with the video source that it shows;
// empty where nobody picked: then it is the device's first.
type EnrolledSource struct {
	ID    int64
	Video string
	Input int // that the expected list gives it, from 1 in the device's order; 0: none
}

// Enroll says which row shows which of the picked video sources, which are in the person's
// order, and which rows go: a row keeps what it shows, and one that shows nothing in
// particular takes the first that has no row yet. rows are in their order. rowOf has a
// number for each token, 0 for one that gets a row of its own.
func Enroll(rows []EnrolledSource, tokens []string) (rowOf []int64, gone []int64) {
	byVideo := map[string]int64{}
	var open []int64
	for _, r := range rows {
		if r.Video == "" {
			open = append(open, r.ID)
		} else if byVideo[r.Video] == 0 {
			byVideo[r.Video] = r.ID
		}
	}
	rowOf = make([]int64, len(tokens))
	used := map[int64]bool{}
	for i, t := range tokens {
		if id := byVideo[t]; id != 0 && !used[id] {
			rowOf[i], used[id] = id, true
		}
	}
	for i := range tokens {
		if rowOf[i] == 0 && len(open) > 0 {
			rowOf[i], used[open[0]] = open[0], true
			open = open[1:]
		}
	}
	for _, r := range rows {
		if !used[r.ID] {
			gone = append(gone, r.ID)
		}
	}
	return rowOf, gone
}

// Listed says which rows are to show another video source than they do because the expected
// list names their inputs: tokens are the device's, in its own order. A row whose input the
// device hasn't got shows nothing; one whose input nobody named stays as it is.
func Listed(rows []EnrolledSource, tokens []string) (shows map[int64]string) {
	shows = map[int64]string{}
	for _, r := range rows {
		want := r.Video
		switch {
		case r.Input == 0:
		case lacks(r.Input, len(tokens)):
			want = noInput(r.Input)
		default:
			want = tokens[r.Input-1]
		}
		if want != r.Video {
			shows[r.ID] = want
		}
	}
	return shows
}

// Lacking are those of the inputs that the list names which a device with so many video
// sources hasn't got; none where it isn't known how many it has.
func Lacking(inputs []int, sources int) (out []int) {
	for _, n := range inputs {
		if sources > 0 && lacks(n, sources) {
			out = append(out, n)
		}
	}
	return out
}

func lacks(input, sources int) bool { return input > sources }

// noInput is what a row shows whose input its device hasn't got: no token that a device gives.
func noInput(input int) string { return fmt.Sprintf("input %d of none", input) }

// viewMost is how many characters of a view's own name are taken into its place.
const viewMost = 32

// ViewPlace is what a further view of a device is called at first: after its device and
// after what the device calls it, which may be long.
func ViewPlace(place, view string) string {
	if name := []rune(view); len(name) > viewMost {
		view = string(name[:viewMost-1]) + "…"
	}
	return place + " · " + view
}
