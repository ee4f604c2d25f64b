package stream

// Forecast is what becomes of a stream's rate once its encoder is set otherwise: of what its key frames make of it, and
// of the rest.
type Forecast struct {
	Keys, Rest float64 // to what they are now
	Cap        float64 // the most that the whole can be, in kbit/s; 0: not told
	Fixed      bool    // it is Cap, constantly
	Unknown    bool    // nothing but Cap is known before it is measured
	Most       bool    // it is this at the most: how much less comes isn't known before it is measured
}

// Becomes reckons what a profile's rate will be once its encoder is set so. With the same codec and size a variable rate
// goes with the key frames a second and the other frames a second, up to the limit; a constant one is its limit; another
// codec, quality or level is told by the limit alone. Of another size it is known what comes at the most: no more than
// before for a smaller picture, and no more than the pixels say for a larger one. How much less depends on what is seen:
// a smooth wall takes hardly less in a quarter of the pixels.
func (p Profile) Becomes(set Encoder) Forecast {
	was := p.Set()
	pixels := max(1, ratio(float64(set.pixels()), float64(was.pixels())))
	out := Forecast{Cap: float64(set.Kbps), Most: set.Size != was.Size, Keys: pixels * ratio(was.keyEvery(), set.keyEvery()),
		Rest: pixels * ratio(set.others(), was.others())}
	switch {
	case set.Rate == Constant:
		out.Fixed, out.Most = true, false
	case set.Codec != was.Codec, set.Quality != was.Quality, set.Level != was.Level, was.Rate == Constant:
		out.Unknown = true
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

// others is how many frames a second aren't key frames; 0: not known, or none.
func (e Encoder) others() float64 {
	if every := e.keyEvery(); every > 0 {
		return max(0, e.FPS-1/every)
	}
	return e.FPS
}

// ratio is one to the other; 1 where one of them isn't known.
func ratio(of, to float64) float64 {
	if of <= 0 || to <= 0 {
		return 1
	}
	return of / to
}
