package stream

// Forecast is what a stream's rate will be to what it is now, once its encoder is set otherwise. A part that isn't
// known is 0.
type Forecast struct {
	Times float64 // of the whole stream's rate
	Keys  float64 // of that of its key frames alone
	Most  bool    // they are the most that it can be: what it will send isn't known before it is measured
}

// Becomes reckons what a profile's rate will be once its encoder is set so. m is what was measured of it; nil: nothing.
// With the same codec a variable rate goes with the pixels and frames a second, up to the limit; a constant one is
// its limit; another codec, quality or level is told by the limit alone.
func (p Profile) Becomes(m *Measured, set Encoder) Forecast {
	was, mean := p.Set(), 0.0
	if m != nil && m.Trouble == "" && m.Codec == was.Codec {
		mean = m.MeanKbps
	}
	if mean == 0 && was.Rate == Constant {
		mean = float64(was.Kbps)
	}
	most := 0.0 // its limit to what it sends now; 0: not known
	if mean > 0 && set.Kbps > 0 {
		most = float64(set.Kbps) / mean
	}
	pixels, frames := ratio(float64(set.pixels()), float64(was.pixels())), ratio(set.FPS, was.FPS)
	keys := pixels * ratio(was.keyEvery(), set.keyEvery())
	switch {
	case set.Rate == Constant:
		return Forecast{Times: most, Keys: min(most, keys)}
	case set.Codec != was.Codec, set.Quality != was.Quality, set.Level != was.Level, was.Rate == Constant:
		return Forecast{Times: most, Keys: most, Most: true}
	}
	out := Forecast{Times: pixels * frames, Keys: keys}
	if most > 0 {
		out.Times = min(out.Times, most)
	}
	return out
}

// keyEvery is how far its key frames are apart, in seconds; 0: not known.
func (e Encoder) keyEvery() float64 {
	if e.FPS <= 0 || e.GOP <= 0 {
		return 0
	}
	return float64(e.GOP) / e.FPS
}

// ratio is one to the other; 1 where one of them isn't known.
func ratio(of, to float64) float64 {
	if of <= 0 || to <= 0 {
		return 1
	}
	return of / to
}
