package recording

import (
	"fmt"
	"slices"
	"strconv"

	"duskyharbor/internal/core/recording"
	"duskyharbor/internal/web/shell"
)

// modeView is one kind of hours as its sentence is filled in.
type modeView struct {
	recording.Mode
	At     int
	Title  string
	Idles  []option
	Events []option
	Causes []option
}

type option struct {
	Value, Says string
	On          bool
}

// cell is one half hour of the week as it is drawn.
type cell struct {
	Day, Half, Mode int
	X, Y            float64
	Title           string
}

type runLabel struct {
	X, Y float64
	Mode int
	Text string
}

type hourLabel struct {
	X    float64
	Text string
}

func drawWeek(p recording.Plan) (cells []cell, runs []runLabel, hours []hourLabel) {
	for d := range recording.WeekDays {
		for h := range recording.HalfHours {
			m := int(p.Week[d][h])
			x, y := labelWidth+cellWidth*float64(h), headHeight+cellHeight*float64(d)
			cells = append(cells, cell{d, h, m, x, y, fmt.Sprintf("%s %02d:%02d %s", recording.DayNames[d], h/2, h%2*30, p.At(d, h).Name)})
			if h == 0 || int(p.Week[d][h-1]) != m {
				runs = append(runs, runLabel{x + 3, y + 18, m, strconv.Itoa(m + 1)})
			}
		}
	}
	for h := 0; h <= 24; h += 3 {
		hours = append(hours, hourLabel{labelWidth + 2*cellWidth*float64(h), fmt.Sprintf("%02d", h)})
	}
	return cells, runs, hours
}

// Draws is how a change of a plan is drawn: as two weeks.
func (*Page) Draws() map[string]shell.Draw {
	return map[string]shell.Draw{recording.SetPlan: func(args map[string]string) (from, to shell.Sketch, ok bool) {
		was, err := recording.Decode(args["old_plan"])
		is, err2 := recording.Decode(args["plan"])
		return sketchWeek(was), sketchWeek(is), err == nil && err2 == nil
	}}
}

// sketchWeek is a plan as a small week: a row a day, a run a part.
func sketchWeek(p recording.Plan) shell.Sketch {
	s := shell.Sketch{Name: p.Short(), Width: recording.HalfHours, Height: 2 * recording.WeekDays}
	for d, day := range p.Week {
		for from := 0; from < recording.HalfHours; {
			end := from + 1
			for end < recording.HalfHours && day[end] == day[from] {
				end++
			}
			s.Parts = append(s.Parts, shell.SketchPart{X: float64(from), Y: 2 * float64(d), W: float64(end - from), H: 1.7, Class: "m" + strconv.Itoa(int(day[from]))})
			from = end
		}
	}
	return s
}

func modesOf(p recording.Plan) (out []modeView) {
	for i, m := range p.Modes {
		v := modeView{Mode: m, At: i, Title: recording.Title(m.Name)}
		for _, k := range recording.Levels() {
			v.Idles = append(v.Idles, option{string(k), k.String(), k == m.Idle})
			if k != recording.Nothing {
				v.Events = append(v.Events, option{string(k), k.String(), k == m.Event})
			}
		}
		for _, c := range recording.Causes() {
			v.Causes = append(v.Causes, option{string(c), c.String(), slices.Contains(m.Causes, c)})
		}
		out = append(out, v)
	}
	return out
}
