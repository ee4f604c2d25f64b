package clock

import (
	"fmt"
	"math"
	"strings"
	"time"

	"duskyharbor/internal/core/clock"
)

// trend is a clock's readings over time.
type trend struct {
	Points                   string
	Dots                     []trendDot
	Zero                     float64
	Top, Bottom, Span, Label string
}

type trendDot struct {
	X, Y  float64
	Label string
}

// trendOf draws readings 356 wide and 90 high; fewer than two are no trend.
func trendOf(all []clock.Reading, zone *time.Location) trend {
	if len(all) < 2 {
		return trend{}
	}
	first, last := all[0].At, all[len(all)-1].At
	low, high := math.Inf(1), math.Inf(-1)
	for _, r := range all {
		o := r.Offset.Mid().Seconds()
		low, high = min(low, o), max(high, o)
	}
	if high-low < 0.2 { // what is less than the error of a reading isn't blown up
		middle := (high + low) / 2
		low, high = middle-0.1, middle+0.1
	}
	y := func(o float64) float64 { return 18 + 54*(high-o)/(high-low) }
	t := trend{Zero: -10, Top: offsetText(high), Bottom: offsetText(low),
		Span: first.In(zone).Format("15:04:05") + " – " + last.In(zone).Format("15:04:05")}
	if low <= 0 && high >= 0 {
		t.Zero = y(0)
	}
	var b strings.Builder
	for i, r := range all {
		x := 178.0
		if last.After(first) {
			x = 8 + 340*r.At.Sub(first).Seconds()/last.Sub(first).Seconds()
		}
		v := y(r.Offset.Mid().Seconds())
		if i > 0 {
			b.WriteByte(' ')
		}
		fmt.Fprintf(&b, "%.1f,%.1f", x, v)
		t.Dots = append(t.Dots, trendDot{x, v, r.At.In(zone).Format("02 Jan 15:04:05") + ": " + r.Offset.String()})
	}
	t.Points = b.String()
	t.Label = fmt.Sprintf("%d readings from %s to %s, against this server", len(all), t.Bottom, t.Top)
	return t
}

func offsetText(seconds float64) string {
	d := time.Duration(seconds * float64(time.Second))
	if d.Abs() >= 2*time.Minute {
		return clock.Brief(d)
	}
	return clock.Offset{Low: d, High: d}.Seconds() + " s"
}
