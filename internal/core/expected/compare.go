package expected

import (
	"fmt"
	"net/netip"
	"slices"
	"strconv"
)

// Cell is one value of a row with what it takes the place of.
type Cell struct {
	Was, Is string
}

// Changed says whether taking the row changes the value.
func (c Cell) Changed() bool { return c.Was != c.Is }

// Taking is what taking one row of a list means: a new camera, or a known one with what changes
// of it, cell by cell. An empty cell of a list takes nothing away.
type Taking struct {
	Row
	New   bool
	Cells map[Field]Cell
	// Taken says which view that the list doesn't name has the row's channel; empty: none.
	Taken string
}

// Clash is what is wrong with a row whose channel is another view's; nil: nothing.
func (l Taking) Clash() *Message {
	if l.Taken == "" {
		return nil
	}
	return &Message{Line: l.Line, Field: Channel, Says: fmt.Sprintf("%s, which this list doesn't name, has channel %s of %s.", l.Taken, l.Cells[Channel].Is, l.Cells[Recorder].Is)}
}

// Changes says whether taking the row changes anything.
func (l Taking) Changes() bool {
	for _, c := range l.Cells {
		if c.Changed() {
			return true
		}
	}
	return l.New
}

// Compare holds each row against what is expected of the view that it is about: was is by
// view, about as Match answers. gone are the views that no row is about, in the order of
// their numbers: they stay as they are.
func Compare(rows []Row, about []About, was map[int64]Entry) (lines []Taking, gone []int64) {
	met := map[int64]bool{}
	for i, r := range rows {
		old, known := was[about[i].View]
		met[about[i].View] = true
		l := Taking{Row: r, New: !known, Cells: map[Field]Cell{}}
		for f, c := range map[Field][2]string{Place: {old.Place, r.Place}, Address: {addressText(old.Address), addressText(r.Address)}, MAC: {old.MAC, r.MAC},
			Make: {old.Make, r.Make}, Model: {old.Model, r.Model}, Recorder: {old.Recorder, r.Recorder}, Channel: {numberText(old.Channel), numberText(r.Channel)}, Input: {numberText(old.Input), numberText(r.Input)}} {
			switch {
			case c[1] == "":
				c[1] = c[0]
			case known && !old.First && (f == Address || f == MAC || f == Make || f == Model): // its device is told by another row
				c[1] = c[0]
			case f == MAC && c[0] != "": // what is known of a device isn't overwritten by a list
				c[1] = c[0]
			}
			l.Cells[f] = Cell{c[0], c[1]}
		}
		lines = append(lines, l)
	}
	for id := range was {
		if !met[id] {
			gone = append(gone, id)
		}
	}
	slices.Sort(gone)
	for i := range lines {
		is := Row{Recorder: lines[i].Cells[Recorder].Is}
		is.Channel, _ = strconv.Atoi(lines[i].Cells[Channel].Is)
		for _, id := range gone {
			if is.sameChannel(was[id].Row) {
				lines[i].Taken = was[id].Place
				break
			}
		}
	}
	return lines, gone
}

func addressText(a netip.Addr) string {
	if !a.IsValid() {
		return ""
	}
	return a.String()
}

func numberText(n int) string {
	if n == 0 {
		return ""
	}
	return strconv.Itoa(n)
}

// Cell is the value of a field.
func (l Taking) Cell(f string) Cell { return l.Cells[Field(f)] }
