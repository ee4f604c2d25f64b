package stream

import "math"

// Bounds of what Times looks for.
const (
	mostTimes  = 4.0
	timesSteps = 56 // so many factors from 1 to the most, by equal ratios
	sureTimes  = 0.6
)

// Times is how many times larger what a print shows in its middle is seen in a later one, 1 to 4: the camera was
// zoomed in between, and turned no farther. It is the factor at which the earlier one's middle, enlarged, is most like
// the later one; ok is false where none is like it.
func (p Print) Times(later Print) (factor float64, ok bool) {
	if len(p.Luma) != printCols*printRows || len(later.Luma) != len(p.Luma) {
		return 0, false
	}
	best := sureTimes
	for i := range timesSteps + 1 {
		f := math.Pow(mostTimes, float64(i)/timesSteps)
		if like := correlation(p.enlarged(f), later.Luma); like > best {
			best, factor = like, f
		}
	}
	return factor, factor > 0
}

// enlarged is the middle of a print, so many times larger.
func (p Print) enlarged(by float64) []byte {
	out := make([]byte, len(p.Luma))
	for y := range printRows {
		for x := range printCols {
			// middles of fields, from the middle of the picture
			sx := (float64(x)+0.5-printCols/2)/by + printCols/2 - 0.5
			sy := (float64(y)+0.5-printRows/2)/by + printRows/2 - 0.5
			out[y*printCols+x] = byte(math.Round(p.between(sx, sy)))
		}
	}
	return out
}

// between is the luma between fields.
func (p Print) between(x, y float64) float64 {
	x, y = max(0, min(printCols-1, x)), max(0, min(printRows-1, y))
	x0, y0 := min(printCols-2, int(x)), min(printRows-2, int(y))
	at := func(x, y int) float64 { return float64(p.Luma[y*printCols+x]) }
	fx, fy := x-float64(x0), y-float64(y0)
	return (at(x0, y0)*(1-fx)+at(x0+1, y0)*fx)*(1-fy) + (at(x0, y0+1)*(1-fx)+at(x0+1, y0+1)*fx)*fy
}

// correlation is Pearson's, 0 where either is flat.
func correlation(a, b []byte) float64 {
	n := float64(len(a))
	var sa, sb, saa, sbb, sab float64
	for i := range a {
		x, y := float64(a[i]), float64(b[i])
		sa, sb, saa, sbb, sab = sa+x, sb+y, saa+x*x, sbb+y*y, sab+x*y
	}
	va, vb := saa-sa*sa/n, sbb-sb*sb/n
	if va < 1 || vb < 1 {
		return 0
	}
	return (sab - sa*sb/n) / math.Sqrt(va*vb)
}
