package scene

import (
	"encoding/base64"
	"errors"
	"fmt"
	"strings"
)

// Grid is how a picture is parted into cells, each of the same size, counted row by row from the upper left one (tt:CellLayout,
// ONVIF Analytics, Annex B). The zero Grid is none.
type Grid struct {
	Columns int `json:"columns"`
	Rows    int `json:"rows"`
}

// mostCells is how many cells a side of a grid has.
const mostCells = 256

// Valid says whether there are cells, and no more than are kept.
func (g Grid) Valid() bool {
	return g.Columns > 0 && g.Rows > 0 && g.Columns <= mostCells && g.Rows <= mostCells
}

// Cells are those of a grid that count. The zero Cells are of no grid.
type Cells struct {
	Grid
	On []bool // row by row; of none that is on it may be nil
}

// Over is the same part of the picture in another grid: a cell of it is on where its middle lies in one that is.
func (c Cells) Over(g Grid) Cells {
	out := Cells{Grid: g}
	if !g.Valid() {
		return out
	}
	out.On = make([]bool, g.Columns*g.Rows)
	for i := range out.On {
		x, y := (2*(i%g.Columns)+1)*c.Columns/(2*g.Columns), (2*(i/g.Columns)+1)*c.Rows/(2*g.Rows)
		if at := y*c.Columns + x; at < len(c.On) {
			out.On[i] = c.On[at]
		}
	}
	return out
}

// Runs are the cells that are on as upright boxes, one of each run in a row.
func (c Cells) Runs() (out []Box) {
	for i := 0; i < len(c.On); i++ {
		if !c.On[i] {
			continue
		}
		x, y, n := i%c.Columns, i/c.Columns, 1
		for x+n < c.Columns && c.On[i+n] {
			n++
		}
		out = append(out, Box{Left: float64(x)/float64(c.Columns)*2 - 1, Right: float64(x+n)/float64(c.Columns)*2 - 1,
			Top: 1 - float64(y)/float64(c.Rows)*2, Bottom: 1 - float64(y+1)/float64(c.Rows)*2})
		i += n - 1
	}
	return out
}

// ErrCells is returned for what gives no cells of a grid.
var ErrCells = errors.New("no cells of a grid")

// Count is how many are on.
func (c Cells) Count() (n int) {
	for _, on := range c.On {
		if on {
			n++
		}
	}
	return n
}

// Touched is how many cells that are on a box covers a part of.
func (c Cells) Touched(b Box) (n int) {
	for i, on := range c.On {
		if !on {
			continue
		}
		x, y := i%c.Columns, i/c.Columns
		left, right := float64(x)/float64(c.Columns)*2-1, float64(x+1)/float64(c.Columns)*2-1
		top, bottom := 1-float64(y)/float64(c.Rows)*2, 1-float64(y+1)/float64(c.Rows)*2
		if b.Left < right && b.Right > left && b.Bottom < top && b.Top > bottom {
			n++
		}
	}
	return n
}

// Pack writes the cells as ONVIF has them: a bit a cell without gaps between rows, the first the highest of its byte, packed as
// PackBits (TIFF 6.0, section 9), in base64 (ONVIF Analytics, Annex B: ActiveCells).
func (c Cells) Pack() string {
	raw := make([]byte, (c.Columns*c.Rows+7)/8)
	for i, on := range c.On {
		if on {
			raw[i/8] |= 0x80 >> (i % 8)
		}
	}
	return base64.StdEncoding.EncodeToString(packBits(raw))
}

// packBits packs runs of three and more as (257 − n, byte), and the rest as (n − 1, bytes), n up to 128.
func packBits(raw []byte) (out []byte) {
	run := func(at int) (n int) {
		for n = 1; at+n < len(raw) && raw[at+n] == raw[at] && n < 128; n++ {
		}
		return n
	}
	for at := 0; at < len(raw); {
		if n := run(at); n >= 3 || n == 2 && at+2 == len(raw) {
			out = append(out, byte(257-n), raw[at])
			at += n
			continue
		}
		end := at + 1
		for end < len(raw) && end-at < 128 && run(end) < 3 {
			end++
		}
		out = append(append(out, byte(end-at-1)), raw[at:end]...)
		at = end
	}
	return out
}

// UnpackCells reads what Pack writes, of a grid. Bits beyond the grid's are left out, as some devices fill up rows; fewer than
// it has are ErrCells.
func UnpackCells(g Grid, text string) (Cells, error) {
	c := Cells{Grid: g}
	if !g.Valid() {
		return c, fmt.Errorf("%w: it has no grid", ErrCells)
	}
	packed, err := base64.StdEncoding.DecodeString(strings.TrimSpace(text))
	if err != nil {
		return c, fmt.Errorf("%w: they aren't base64", ErrCells)
	}
	need := (g.Columns*g.Rows + 7) / 8
	raw := make([]byte, 0, need)
	for at := 0; at < len(packed) && len(raw) < need; {
		switch n := int(int8(packed[at])); {
		case n == -128:
			at++
		case n < 0:
			if at+1 >= len(packed) {
				return c, fmt.Errorf("%w: they end in the middle", ErrCells)
			}
			for range 1 - n {
				raw = append(raw, packed[at+1])
			}
			at += 2
		default:
			if at+1+n >= len(packed) {
				return c, fmt.Errorf("%w: they end in the middle", ErrCells)
			}
			raw = append(raw, packed[at+1:at+2+n]...)
			at += 2 + n
		}
	}
	if len(raw) < need {
		return c, fmt.Errorf("%w: there are fewer than its grid has", ErrCells)
	}
	c.On = make([]bool, g.Columns*g.Rows)
	for i := range c.On {
		c.On[i] = raw[i/8]&(0x80>>(i%8)) != 0
	}
	return c, nil
}

// String writes cells for people: a row after the other, # what counts and . what doesn't, with / between.
func (c Cells) String() string {
	if !c.Valid() {
		return ""
	}
	var b strings.Builder
	for i := range c.Columns * c.Rows {
		if i > 0 && i%c.Columns == 0 {
			b.WriteByte('/')
		}
		if i < len(c.On) && c.On[i] {
			b.WriteByte('#')
		} else {
			b.WriteByte('.')
		}
	}
	return b.String()
}

// ParseCells reads what String writes. Nothing is no cells.
func ParseCells(text string) (Cells, error) {
	text = strings.TrimSpace(text)
	if text == "" {
		return Cells{}, nil
	}
	if len(text) > mostCells*(mostCells+1) {
		return Cells{}, fmt.Errorf("%w: there are too many", ErrCells)
	}
	rows := strings.Split(text, "/")
	c := Cells{Grid: Grid{Columns: len(rows[0]), Rows: len(rows)}}
	if !c.Valid() {
		return Cells{}, fmt.Errorf("%w: a grid has 1 to %d cells a side", ErrCells, mostCells)
	}
	for i, row := range rows {
		if len(row) != c.Columns || strings.Trim(row, "#.") != "" {
			return Cells{}, fmt.Errorf("%w: row %d isn't %d signs, each a # or a dot", ErrCells, i+1, c.Columns)
		}
		for _, r := range row {
			c.On = append(c.On, r == '#')
		}
	}
	return c, nil
}
