package stream

import (
	"math"
	"math/rand/v2"
	"testing"
)

// door is a mark that stands on a row: a thing of so many metres, so many pixels high.
func door(row, pixels, metres float64) Mark {
	return Mark{X1: 0.4, Y1: row - pixels/720, X2: 0.4, Y2: row, Metres: metres}
}

func TestPixelsPerMetre(t *testing.T) {
	// Near: 200 pixels for 2 m on row 0.9; far: 50 pixels for 2 m on row 0.5. So 100 and 25, and
	// the horizon on row 0.5 − 25 × 0.4 ÷ 75.
	s := Scale{Marks: [2]Mark{door(0.5, 50, 2), door(0.9, 200, 2)}, Size: hd}
	if err := s.Check(); err != nil {
		t.Fatal(err)
	}
	for row, want := range map[float64]float64{0.9: 100, 0.5: 25, 0.7: 62.5, 0.2: 0, 0.5 - 25*0.4/75: 0, 1: 118.75} {
		if got := s.At(row); math.Abs(got-want) > 1e-9 {
			t.Errorf("at %.3f: %.3f, want %.3f", row, got, want)
		}
	}
	if l, ok := levelFor(s.At(0.7)); !ok || l.Name != "observe" {
		t.Errorf("%+v", l)
	}
	if _, ok := levelFor(12); ok {
		t.Error("12 reaches a level")
	}
	bands := s.Bands()
	names := ""
	for _, b := range bands {
		names += b.Level.Name + ";"
	}
	if names != ";monitor;detect;observe;" || bands[2].Top != 0.5 || math.Abs(bands[3].Top-0.7) > 1e-9 || bands[3].End != 1 {
		t.Errorf("%s %+v", names, bands)
	}
	width, longer, ok := s.Needs(Level{"identify", 250}, 0.9)
	if !ok || width != 3200 || math.Abs(longer-2.5) > 1e-9 {
		t.Errorf("%d %.2f", width, longer)
	}
	if _, _, ok := s.Needs(Levels[0], 0.1); ok {
		t.Error("the sky can be identified")
	}
	if s.Stale(hd, "", nil) != "" || s.Stale(Size{}, "", nil) != "" || s.Stale(sd, "", nil) == "" {
		t.Error("what makes it stale")
	}
}

func TestMarksThatTellNothing(t *testing.T) {
	good := Scale{Marks: [2]Mark{door(0.5, 50, 2), door(0.9, 200, 2)}, Size: hd}
	for name, change := range map[string]func(*Scale){
		"outside":       func(s *Scale) { s.Marks[0].X1 = 1.01 },
		"no number":     func(s *Scale) { s.Marks[0].Y1 = math.NaN() },
		"too short":     func(s *Scale) { s.Marks[0] = door(0.5, 7, 2) },
		"no length":     func(s *Scale) { s.Marks[1].Metres = 0 },
		"no such thing": func(s *Scale) { s.Marks[1].Metres = math.Inf(1) },
		"one row":       func(s *Scale) { s.Marks[0] = door(0.85, 50, 2) },
		"inside out":    func(s *Scale) { s.Marks[0].Metres = 0.1 },
	} {
		s := good
		change(&s)
		if s.Check() == nil {
			t.Errorf("%s is taken", name)
		}
	}
}

// A camera at a height, tilted, sees upright things on flat ground: the marks give the pixels per
// metre that the camera has at every row.
func TestTheScaleIsThatOfALens(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	for range 500 {
		height := 2 + 8*r.Float64()       // metres
		horizon := -0.5 + r.Float64()*0.6 // row
		// Pixels per metre are focal length ÷ distance, and the distance of what stands on a row
		// is height × focal length ÷ rows below the horizon: the focal length cancels out.
		at := func(row float64) float64 { return (row - horizon) * 720 / height }
		near, far := 0.85+0.1*r.Float64(), math.Max(horizon+0.2, 0.4)
		if near-far < 0.15 {
			continue
		}
		s := Scale{Marks: [2]Mark{door(near, at(near), 1), door(far, at(far), 1)}, Size: hd}
		if at(far) > far*720 || at(near) > near*720 || s.Check() != nil {
			continue
		}
		for range 10 {
			row := r.Float64()
			if want := max(0, at(row)); math.Abs(s.At(row)-want) > 1e-6 {
				t.Fatalf("row %.3f: %.4f, the lens has %.4f", row, s.At(row), want)
			}
		}
		last := -1.0
		for _, b := range s.Bands() {
			if b.End <= b.Top || last >= 0 && b.Top != last {
				t.Fatalf("%+v", s.Bands())
			}
			last = b.End
			mid := (b.Top + b.End) / 2
			if l, _ := levelFor(s.At(mid)); l != b.Level {
				t.Fatalf("row %.3f has %.2f: in the band %q", mid, s.At(mid), b.Level.Name)
			}
		}
	}
}

func TestParseMark(t *testing.T) {
	for text, want := range map[string]Mark{"42 80, 42 55": {X1: 0.42, Y1: 0.8, X2: 0.42, Y2: 0.55}, " 0% 0%; 100% 12.5% ": {X2: 1, Y2: 0.125}} {
		if got, err := ParseMark(text); got != want || err != nil {
			t.Errorf("%q: %+v, %v", text, got, err)
		}
	}
	for _, text := range []string{"", "1 2 3", "1 2 3 4 5", "1 2 3 101", "-1 2 3 4", "a b c d", "NaN 1 2 3"} {
		if got, err := ParseMark(text); err == nil {
			t.Errorf("%q: %+v", text, got)
		}
	}
}

// Marks don't tell any more once the camera looks elsewhere, by what it says or by what it shows.
func TestMarksGoStaleWhenTheViewMoves(t *testing.T) {
	printOf := func(shift int) Print {
		p := Print{Luma: make([]byte, printCols*printRows), Colour: 0.4, Sharp: 0.3, Size: Size{1280, 720}}
		for i := range p.Luma {
			p.Luma[i] = byte((i%printCols + shift) / 4 * 97 % 140)
		}
		return p
	}
	seen, size := printOf(0), Size{1280, 720}
	s := Scale{Size: size, Aim: "pan 0.00", Seen: &seen}
	for _, tc := range []struct {
		name  string
		aim   string
		still *Seen
		stale bool
	}{
		{"as it was", "pan 0.00", &Seen{Print: printOf(0)}, false},
		{"turned", "pan 0.20", &Seen{Print: printOf(0)}, true},
		{"its aim isn't told now", "", nil, false},
		{"its picture shows something else", "pan 0.00", &Seen{Print: printOf(2)}, true},
		{"by night nothing is compared", "pan 0.00", &Seen{Print: func() Print { p := printOf(2); p.Colour = 0; return p }()}, false},
	} {
		if got := s.Stale(size, tc.aim, tc.still); (got != "") != tc.stale {
			t.Errorf("%s: %q", tc.name, got)
		}
	}
}

// What stands upright is as high in the frame as the marks say, at each of them and between.
func TestUprightIsAsTheMarksSay(t *testing.T) {
	s := Scale{Size: Size{1280, 720}, Marks: [2]Mark{{0.3, 0.9, 0.3, 0.4, 1.8}, {0.6, 0.5, 0.6, 0.3, 1.8}}}
	if err := s.Check(); err != nil {
		t.Fatal(err)
	}
	u := s.Upright()
	for row, want := range map[float64]float64{0.9: 1, 0.5: 0.4, 0.7: 0.7} { // of 1.8 m, in frame units
		if got := 1.8 * u.Metre(1-2*row); math.Abs(got-want) > 1e-9 {
			t.Errorf("at row %g someone is %g high, want %g", row, got, want)
		}
		if at := s.At(row) / 720 * 2; math.Abs(at-u.Metre(1-2*row)) > 1e-9 {
			t.Errorf("at row %g a metre has %g of the frame by pixels, %g by the frame", row, at, u.Metre(1-2*row))
		}
	}
}
