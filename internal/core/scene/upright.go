package scene

// Upright is how high in the picture what stands upright on flat ground is: a metre of it takes up so many frame units where its
// foot is at the middle row, and so many more for each frame unit further up. The zero Upright is not known.
type Upright struct {
	Middle float64 `json:"middle"`
	Rise   float64 `json:"rise"`
}

// Known says whether it is known.
func (u Upright) Known() bool { return u != Upright{} }

// Metre is how high a metre is in the frame where its foot is at a row; 0 from the horizon on, where nothing stands.
func (u Upright) Metre(foot float64) float64 { return max(0, u.Middle+u.Rise*foot) }

// Tall is how tall what a box is about is, in metres; ok is false where that isn't known, or where nothing stands.
func (u Upright) Tall(b Box) (metres float64, ok bool) {
	m := u.Metre(b.Bottom)
	if m <= 0 {
		return 0, false
	}
	return (b.Top - b.Bottom) / m, true
}
