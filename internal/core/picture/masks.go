package picture

import (
	"encoding/json"
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"

	"duskyharbor/internal/core/finding"
	"duskyharbor/internal/core/scene"
	"duskyharbor/internal/core/trouble"
)

// Masks are the parts of the picture that are hidden.
type Masks struct {
	All       []Mask `json:"all"`
	Most      int    `json:"most"`      // how many there may be; 0: not told
	Corners   int    `json:"corners"`   // how many one may have; 0: not told
	Rectangle bool   `json:"rectangle"` // nothing but rectangles
}

// Mask is one of them, in ONVIF's normalised frame: −1 to 1, y up.
type Mask struct {
	Token string        `json:"token,omitempty"`
	Area  scene.Polygon `json:"area"`
	On    bool          `json:"on"`
}

// Areas are the polygons of those that hide something.
func (m Masks) Areas() (out []scene.Polygon) {
	for _, x := range m.All {
		if x.On {
			out = append(out, x.Area)
		}
	}
	return out
}

// Ground is what is hidden, in words, and to the thousandth of the frame's half in whatever order it is told.
func (m Masks) Ground() (words, exact string) {
	areas := m.Areas()
	parts := make([]string, len(areas))
	for i, a := range areas {
		corners := make([]string, len(a)) // cameras begin where they like, and go either way round
		for j, p := range a {
			corners[j] = fmt.Sprintf("%d,%d", int(math.Round(p.X*1000)), int(math.Round(p.Y*1000)))
		}
		slices.Sort(corners)
		parts[i] = strings.Join(corners, " ")
	}
	slices.Sort(parts)
	return AreasText(areas), fmt.Sprintf("%d:%s", len(areas), strings.Join(parts, ";"))
}

// AreasText words what is hidden: each by the box around it, in hundredths of the picture from
// its upper left corner.
func AreasText(all []scene.Polygon) string {
	if len(all) == 0 {
		return "nothing hidden"
	}
	parts := make([]string, len(all))
	for i, a := range all {
		l, t, r, b := bounds(a)
		parts[i] = fmt.Sprintf("%.0f–%.0f %% across, %.0f–%.0f %% down", l, r, t, b)
		if !rectangle(a) {
			parts[i] += fmt.Sprintf(" (%d corners)", len(a))
		}
	}
	slices.Sort(parts)
	return strings.Join(parts, "; ")
}

// bounds is the box around an area in hundredths of the picture, from its upper left corner.
func bounds(a scene.Polygon) (left, top, right, bottom float64) {
	left, top, right, bottom = 100, 100, 0, 0
	for _, p := range a {
		x, y := (p.X+1)*50, (1-p.Y)*50
		left, right, top, bottom = min(left, x), max(right, x), min(top, y), max(bottom, y)
	}
	return left, top, right, bottom
}

func rectangle(a scene.Polygon) bool {
	l, t, r, b := bounds(a)
	for _, p := range a {
		x, y := (p.X+1)*50, (1-p.Y)*50
		if near := func(v, w float64) bool { return math.Abs(v-w) < 0.01 }; !(near(x, l) || near(x, r)) || !(near(y, t) || near(y, b)) {
			return false
		}
	}
	return len(a) == 4
}

// SameAreas says whether the same is hidden, as well as cameras keep it: corners may be 1.5 % of
// the picture off.
func SameAreas(a, b []scene.Polygon) bool {
	if len(a) != len(b) {
		return false
	}
	taken := make([]bool, len(b))
	for _, x := range a {
		i := slices.IndexFunc(b, func(y scene.Polygon) bool { return sameArea(x, y) })
		for i >= 0 && taken[i] {
			next := slices.IndexFunc(b[i+1:], func(y scene.Polygon) bool { return sameArea(x, y) })
			if next < 0 {
				return false
			}
			i += 1 + next
		}
		if i < 0 {
			return false
		}
		taken[i] = true
	}
	return true
}

func sameArea(a, b scene.Polygon) bool {
	if len(a) != len(b) {
		return false
	}
	back := slices.Clone(b)
	slices.Reverse(back)
	for _, round := range []scene.Polygon{b, back} { // a device may go the other way round
		for shift := range round { // and begin at another corner
			same := true
			for i, p := range a {
				q := round[(i+shift)%len(round)]
				same = same && math.Abs(p.X-q.X) <= 0.03 && math.Abs(p.Y-q.Y) <= 0.03
			}
			if same {
				return true
			}
		}
	}
	return false
}

// Rectangle is the area between two corners given in hundredths of the picture, from its upper
// left.
func Rectangle(left, top, right, bottom float64) (scene.Polygon, error) {
	for _, v := range []float64{left, top, right, bottom} {
		if !(v >= 0 && v <= 100) {
			return nil, trouble.UserError("A mask lies between 0 and 100 % of the picture, across and down.")
		}
	}
	left, right, top, bottom = min(left, right), max(left, right), min(top, bottom), max(top, bottom)
	if right-left < 1 || bottom-top < 1 {
		return nil, trouble.UserError("A mask is at least 1 % of the picture wide and high.")
	}
	x := func(v float64) float64 { return v/50 - 1 }
	y := func(v float64) float64 { return 1 - v/50 }
	return scene.Polygon{{X: x(left), Y: y(top)}, {X: x(right), Y: y(top)}, {X: x(right), Y: y(bottom)}, {X: x(left), Y: y(bottom)}}, nil
}

// mostCorners is how many corners a mask may be given.
const mostCorners = 64

// ParseCorners reads the corners of an area in hundredths of the picture, from its upper left: "20 10, 40 10, 30 30".
func ParseCorners(text string) (scene.Polygon, error) {
	parts := strings.Split(text, ",")
	if len(parts) < 3 || len(parts) > mostCorners {
		return nil, trouble.UserErrorf("A mask has 3 to %d corners: across and down of each, as 20 10, 40 10, 30 30.", mostCorners)
	}
	var a scene.Polygon
	for _, part := range parts {
		var at [2]float64
		f := strings.Fields(part)
		if len(f) != 2 {
			return nil, trouble.UserErrorf("A corner is two figures, across and down: %.20q isn't.", strings.TrimSpace(part))
		}
		for i, s := range f {
			v, err := strconv.ParseFloat(s, 64)
			if err != nil || !(v >= 0 && v <= 100) {
				return nil, trouble.UserErrorf("A mask lies between 0 and 100 %% of the picture, across and down: %.20q doesn't.", s)
			}
			at[i] = v
		}
		a = append(a, scene.Point{X: at[0]/50 - 1, Y: 1 - at[1]/50})
	}
	if a.Check() != nil || !a.Simple() {
		return nil, trouble.UserError("A mask's edges don't cross, and it encloses something.")
	}
	if l, t, r, b := bounds(a); r-l < 1 || b-t < 1 {
		return nil, trouble.UserError("A mask is at least 1 % of the picture wide and high.")
	}
	return a, nil
}

// ParseAreas reads what a change hides.
func ParseAreas(text string) (out []scene.Polygon, err error) {
	if err := json.Unmarshal([]byte(text), &out); err != nil || len(out) > 64 {
		return nil, trouble.UserError("Those are no masks.")
	}
	for _, a := range out {
		if a.Check() != nil || len(a) > 64 {
			return nil, trouble.UserError("A mask has three corners or more, and encloses something.")
		}
	}
	return out, nil
}

// Hide is the change that hides these areas and no others.
func (s Setup) Hide(areas []scene.Polygon) (finding.Change, error) {
	m := s.Masks
	switch {
	case m == nil:
		return finding.Change{}, trouble.UserError("It hides no parts of its picture, as far as it tells.")
	case m.Most > 0 && len(areas) > m.Most:
		return finding.Change{}, trouble.UserError(fmt.Sprintf("It hides %d parts of its picture at the most.", m.Most))
	case slices.ContainsFunc(areas, func(a scene.Polygon) bool { return m.Corners > 0 && len(a) > m.Corners }):
		return finding.Change{}, trouble.UserError(fmt.Sprintf("Its masks have %d corners at the most.", m.Corners))
	case m.Rectangle && slices.ContainsFunc(areas, func(a scene.Polygon) bool { return !rectangle(a) }):
		return finding.Change{}, trouble.UserError("It hides nothing but upright rectangles.")
	case SameAreas(areas, m.Areas()) && len(m.All) == len(areas):
		return finding.Change{}, trouble.UserError("That is hidden already.")
	}
	text := func(all []scene.Polygon) string {
		raw, err := json.Marshal(slices.Clone(all))
		if err != nil || all == nil {
			return "[]"
		}
		return string(raw)
	}
	return finding.Change{Kind: SetMasks, Key: SetMasks + "/" + s.Config, Title: "Masks in its picture", From: AreasText(m.Areas()), To: AreasText(areas),
		Why: "Drawn by hand.", Risk: finding.NoRisk, Args: map[string]string{"config": s.Config, "masks": text(areas), "old_masks": text(m.Areas())},
		Undo: finding.Undo{Kind: finding.Reversible, Note: "hide what was hidden."}}, nil
}
