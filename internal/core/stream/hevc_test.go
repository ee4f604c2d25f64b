package stream

import (
	"errors"
	"testing"

	"duskyharbor/internal/core/finding"
	"duskyharbor/internal/testbed/moment"
)

// Parameter sets written by x265 for a picture of known size, and made by bitWriter.
var known265 = []struct {
	name string
	nal  []byte
	w, h int
}{
	{"720p", unhex("42010101600000030090000003000003005da00280802d165959a4932b80400000fa4000177002"), 1280, 720},
	{"1080p, cropped", sps265(0, 1, 1920, 1088, 0, 0, 0, 4), 1920, 1080},
	{"4:2:2, cropped", sps265(0, 2, 1920, 1088, 0, 0, 0, 8), 1920, 1080},
	{"4:4:4, cropped", sps265(0, 3, 646, 362, 2, 4, 1, 1), 640, 360},
	{"monochrome", sps265(0, 0, 640, 360), 640, 360},
	{"three layers", sps265(2, 1, 640, 360), 640, 360},
	{"seven layers", sps265(6, 1, 3840, 2160), 3840, 2160},
}

// bitWriter writes what bitReader reads.
type bitWriter struct {
	out []byte
	n   int
}

func (w *bitWriter) bits(n int, v uint) {
	for i := n - 1; i >= 0; i-- {
		if w.n%8 == 0 {
			w.out = append(w.out, 0)
		}
		if i < 64 && v>>i&1 == 1 {
			w.out[w.n/8] |= 1 << (7 - w.n%8)
		}
		w.n++
	}
}

func (w *bitWriter) ue(v uint) {
	n := 0
	for (v+1)>>(n+1) > 0 {
		n++
	}
	w.bits(n, 0)
	w.bits(n+1, v+1)
}

// sps265 is a parameter set; crop is left, right, top, bottom in units of chroma samples.
func sps265(layers, chroma, width, height uint, crop ...uint) []byte {
	w := &bitWriter{}
	w.bits(4, 0)
	w.bits(3, layers)
	w.bits(1, 1)
	w.bits(layerBits, 0)
	w.bits(8, 93)
	if layers > 0 {
		for range layers {
			w.bits(2, 3)
		}
		for range 8 - layers {
			w.bits(2, 0)
		}
		for range layers {
			w.bits(layerBits, 0)
			w.bits(8, 90)
		}
	}
	w.ue(0)
	w.ue(chroma)
	if chroma == 3 {
		w.bits(1, 0)
	}
	w.ue(width)
	w.ue(height)
	if len(crop) == 4 {
		w.bits(1, 1)
		for _, c := range crop {
			w.ue(c)
		}
	} else {
		w.bits(1, 0)
	}
	w.bits(16, 0xffff)
	out := []byte{nalSPS265 << 1, 1}
	zeros := 0
	for _, b := range w.out { // emulation prevention (H.265, 7.4.2)
		if zeros >= 2 && b <= 3 {
			out, zeros = append(out, 3), 0
		}
		if out = append(out, b); b == 0 {
			zeros++
		} else {
			zeros = 0
		}
	}
	return out
}

func TestParseHEVC(t *testing.T) {
	for _, k := range known265 {
		s, err := ParseHEVC(k.nal)
		if err != nil || s.Width != k.w || s.Height != k.h {
			t.Errorf("%s: %+v %v, want %d × %d", k.name, s, err, k.w, k.h)
		}
		for n := range 14 {
			if _, err := ParseHEVC(k.nal[:n]); !errors.Is(err, ErrHEVC) {
				t.Errorf("%s: its first %d bytes pass", k.name, n)
			}
		}
	}
	for name, bad := range map[string][]byte{"nothing": nil, "H.264": unhex(knownSPS[0].hex), "a picture of none": sps265(0, 1, 0, 360), "cropped to nothing": sps265(0, 1, 640, 360, 160, 160, 0, 0),
		"too wide": sps265(0, 1, 20000, 360), "eight layers": sps265(7, 1, 640, 360), "another chroma": sps265(0, 4, 640, 360), "too long": make([]byte, 5000)} {
		if s, err := ParseHEVC(bad); !errors.Is(err, ErrHEVC) {
			t.Errorf("%s: %+v %v", name, s, err)
		}
	}
}

func FuzzParseHEVC(f *testing.F) {
	for _, k := range known265 {
		f.Add(k.nal)
	}
	f.Fuzz(func(t *testing.T, nal []byte) {
		if s, err := ParseHEVC(nal); err == nil && (s.Width <= 0 || s.Height <= 0 || s.Width > maxPicture265 || s.Height > maxPicture265) {
			t.Errorf("%x gives %d × %d", nal, s.Width, s.Height)
		}
	})
}

// What isn't known isn't compared, and never stands as 0 × 0.
func TestAnUnknownSizeIsNotCompared(t *testing.T) {
	now := moment.Now()
	p := Profile{Token: "main", Name: "Main", Codec: "H265", Width: 640, Height: 360}
	m := Measured{Profile: "main", At: now, Seconds: 4, Codec: "H265", FPS: 15}
	judged := func(p Profile, m Measured) []finding.Finding {
		return Judge(now, Facts{LookedAt: now, Profiles: []Profile{p}, Measured: []Measured{m}}, Wishes{})
	}
	if got := judged(p, m); len(got) != 0 {
		t.Errorf("%+v", got)
	}
	undeclared := p
	undeclared.Width, undeclared.Height, m.Width, m.Height = 0, 0, 1280, 720
	if got := judged(undeclared, m); len(got) != 0 {
		t.Errorf("%+v", got)
	}
	if got := judged(p, m); len(got) != 1 || got[0].Words != "size differs" || got[0].Evidence[0].Value != "H.265 1280 × 720, 15.0 frames/s, 0 kbit/s over 4.0 s" {
		t.Errorf("%+v", got)
	}
	m.Width, m.Lost = 0, 2
	if got := judged(p, m); len(got) != 1 || got[0].Evidence[0].Value != "H.265 size not told, 15.0 frames/s, 0 kbit/s over 4.0 s" {
		t.Errorf("%+v", got)
	}
}
