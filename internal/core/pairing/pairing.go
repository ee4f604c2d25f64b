// Package pairing shares views out among analysers: boxes or services that look at the pictures of cameras that have no analytics of
// their own. It says which goes to which under their limits, and what stands between a pairing as it is wished and as it is.
package pairing

import (
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"
	"time"

	"duskyharbor/internal/core/known"
	"duskyharbor/internal/core/rule"
	"duskyharbor/internal/core/scene"
)

// Analyser is what one tells of itself and of the views that it looks at.
type Analyser struct {
	At       time.Time `json:"at"` // when it told, by this server's clock
	Name     string    `json:"name"`
	Make     string    `json:"make,omitempty"`
	Model    string    `json:"model,omitempty"`
	Firmware string    `json:"firmware,omitempty"`
	Serial   string    `json:"serial,omitempty"`
	Limits   Limits    `json:"limits"`
	Classes  []string  `json:"classes,omitempty"` // what it tells apart
	Views    []View    `json:"views,omitempty"`
	// Knows is of what it takes reference pictures.
	Knows   []known.Kind `json:"knows,omitempty"`
	Running Running      `json:"running"`
}

// Running is how an analyser does just now. It is kept as it was read last alone: of it there is no history.
type Running struct {
	Timed bool             `json:"timed"` // it tells its clock
	Ahead time.Duration    `json:"ahead"` // that, less this server's
	Load  float64          `json:"load"`  // 0 to 1, of what it can do
	Views map[string]Queue `json:"views,omitempty"`
}

// Queue is what an analyser did of a view's stills, and what waits.
type Queue struct {
	Waiting int           `json:"waiting"` // stills that it took and didn't look at yet
	Behind  time.Duration `json:"behind"`  // how long the oldest of these waits
	Taken   int           `json:"taken"`
	Looked  int           `json:"looked"`
	Refused int           `json:"refused"`
	LastAt  time.Time     `json:"last_at,omitzero"` // of the still that it looked at last, by who put it there
}

// Limits are how much an analyser takes; what is 0 isn't limited, or isn't told.
type Limits struct {
	Views     int     `json:"views,omitempty"`
	Licences  int     `json:"licences,omitempty"` // a view takes one
	Width     int     `json:"width,omitempty"`    // of a still, in pixels
	Height    int     `json:"height,omitempty"`
	PerSecond float64 `json:"per_second,omitempty"` // stills of all views in a second
	Bytes     int     `json:"bytes,omitempty"`      // of a still
}

// View is one view that an analyser looks at, as it tells it.
type View struct {
	ID         string  `json:"id"` // that it was paired by
	Name       string  `json:"name"`
	PerSecond  float64 `json:"per_second"`  // stills that it takes in a second at the most
	LeastScore float64 `json:"least_score"` // what it is less sure of it doesn't tell
	Within     string  `json:"within,omitempty"`
	Token      string  `json:"token"`    // of its analytics configuration (ONVIF)
	Metadata   string  `json:"metadata"` // where what it sees is streamed, over RTSP
}

// Wish is how a view is to be looked at.
type Wish struct {
	PerSecond  float64 `json:"per_second"`
	LeastScore float64 `json:"least_score"`
	// Within is the area that is looked at, as rule.FormatPoints writes it; empty: the whole picture.
	Within string `json:"within,omitempty"`
}

// Bounds of a Wish.
const (
	LeastRate = 0.1 // stills a second
	MostRate  = 5
	UsualRate = 2
	// UsualScore is the least score of a view for which nobody chose one.
	UsualScore = 0.3
)

// Wrong says what of a wish can't be; empty where it can.
func (w Wish) Wrong() string {
	switch {
	case !(w.PerSecond >= LeastRate && w.PerSecond <= MostRate):
		return fmt.Sprintf("a view has from %g to %d stills looked at in a second", LeastRate, MostRate)
	case !(w.LeastScore >= 0 && w.LeastScore <= 1):
		return "a score is from 0 to 1"
	case w.Within == "":
		return ""
	}
	area, err := rule.ParsePoints(w.Within)
	switch {
	case err != nil:
		return "the area that is looked at can't be: " + err.Error()
	case len(area) < 3 || !scene.Polygon(area).Simple():
		return "the area that is looked at has three corners or more, and its edges don't cross"
	case rule.FormatPoints(area) != w.Within:
		return "the area that is looked at is written as " + rule.FormatPoints(area)
	}
	return ""
}

// None is the text of a view that an analyser doesn't look at.
const None = "not looked at"

// Text is the wish as a change says it.
func (w Wish) Text() string {
	out := fmt.Sprintf("%s a second, told from a score of %.2f", stills(w.PerSecond), w.LeastScore)
	if w.Within != "" {
		out += within + w.Within
	}
	return out
}

const within = ", within "

// ParseWish reads Text; false where it says something else.
func ParseWish(text string) (w Wish, ok bool) {
	rate, score, ok := strings.Cut(text, " a second, told from a score of ")
	if !ok {
		return w, false
	}
	rate, _, _ = strings.Cut(rate, " ")
	score, w.Within, _ = strings.Cut(score, within)
	var err, err2 error
	w.PerSecond, err = strconv.ParseFloat(rate, 64)
	w.LeastScore, err2 = strconv.ParseFloat(score, 64)
	return w, err == nil && err2 == nil && w.Wrong() == ""
}

func stills(n float64) string {
	if n == 1 {
		return "1 still"
	}
	return strings.TrimSuffix(strings.TrimRight(fmt.Sprintf("%.2f", n), "0"), ".") + " stills"
}

// Reads is how the view stands on an analyser, as a change says it.
func (a Analyser) Reads(id string) string {
	v, ok := a.View(id)
	if !ok {
		return None
	}
	return Wish{v.PerSecond, v.LeastScore, v.Within}.Text()
}

// View finds a view by what it was paired by.
func (a Analyser) View(id string) (View, bool) {
	i := slices.IndexFunc(a.Views, func(v View) bool { return v.ID == id })
	if i < 0 {
		return View{}, false
	}
	return a.Views[i], true
}

// Most is how many views it can look at, by whichever limit is met first; 0: nothing is told of one.
func (l Limits) Most() int {
	if l.Views == 0 || l.Licences != 0 && l.Licences < l.Views {
		return l.Licences
	}
	return l.Views
}

// Sends is how many stills a second are sent of a view: no more than are wished, nor than the analyser says that it takes of it.
func (w Wish) Sends(v View) float64 {
	if v.PerSecond > 0 {
		return min(w.PerSecond, v.PerSecond)
	}
	return w.PerSecond
}

// Behind is for how long the oldest still waits of all its views, and how many do.
func (a Analyser) Behind() (waiting int, oldest time.Duration) {
	for _, q := range a.Running.Views {
		waiting, oldest = waiting+q.Waiting, max(oldest, q.Behind)
	}
	return waiting, oldest
}

// Rate is how many stills a second its views have it look at.
func (a Analyser) Rate() (sum float64) {
	for _, v := range a.Views {
		sum += v.PerSecond
	}
	return sum
}

// Still is a picture that a view offers.
type Still struct {
	Profile       string
	Width, Height int // 0: not known
}

// Fitting is the still that an analyser is sent of a view: the largest that it takes, of those whose size is known; else the first
// whose size isn't. ok is false where none is small enough.
func (l Limits) Fitting(all []Still) (best Still, ok bool) {
	for _, s := range all {
		if l.Width > 0 && s.Width > l.Width || l.Height > 0 && s.Height > l.Height {
			continue
		}
		if !ok || s.Width*s.Height > best.Width*best.Height {
			best, ok = s, true
		}
	}
	return best, ok
}

// slack is by how much a sum of rates may be over its limit: they are typed in decimals.
const slack = 1e-6

// Binds names the limits that keep one more view off an analyser, with their figures; empty where it fits. Where several do, lifting
// one alone wouldn't help: all are named.
func (a Analyser) Binds(rate float64, offered []Still) string {
	var says []string
	n, l := len(a.Views), a.Limits
	if l.Views > 0 && n >= l.Views {
		says = append(says, fmt.Sprintf("all %d views that it can look at are taken", l.Views))
	}
	if l.Licences > 0 && n >= l.Licences {
		says = append(says, fmt.Sprintf("all %d licences are used", l.Licences))
	}
	if sum := a.Rate(); l.PerSecond > 0 && sum+rate > l.PerSecond+slack {
		says = append(says, fmt.Sprintf("it looks at %s a second, %s are taken already and this view would add %s",
			stills(l.PerSecond), short(sum), short(rate)))
	}
	if why := l.refuses(offered); why != "" {
		says = append(says, why)
	}
	return listed(says)
}

// refuses says why none of the stills that a view offers is one that is taken; empty where one is.
func (l Limits) refuses(offered []Still) string {
	if _, ok := l.Fitting(offered); ok {
		return ""
	}
	if len(offered) == 0 {
		return "it offers no still that was read"
	}
	least := offered[0]
	for _, s := range offered {
		if s.Width*s.Height < least.Width*least.Height {
			least = s
		}
	}
	width, height := l.Width, l.Height
	if width == 0 || height == 0 {
		width, height = max(width, math.MaxUint16), max(height, math.MaxUint16)
	}
	return fmt.Sprintf("it takes stills of up to %d × %d, and the smallest of this view is %d × %d: set its view stream smaller on Streams", width, height, least.Width, least.Height)
}

func short(n float64) string {
	return strings.TrimSuffix(strings.TrimRight(fmt.Sprintf("%.2f", n), "0"), ".")
}

func listed(all []string) string {
	if len(all) < 2 {
		return strings.Join(all, "")
	}
	return strings.Join(all[:len(all)-1], ", ") + " and " + all[len(all)-1]
}
