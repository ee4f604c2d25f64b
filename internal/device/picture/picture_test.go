package picture

import (
	"bytes"
	"context"
	"errors"
	"image"
	"image/color"
	"image/jpeg"
	"testing"
	"time"
)

// coded is a grey picture, baseline.
func coded(t testing.TB, width, height int) []byte {
	t.Helper()
	img := image.NewGray(image.Rect(0, 0, width, height))
	for x := range width {
		img.SetGray(x, height/2, color.Gray{uint8(x)})
	}
	var b bytes.Buffer
	if err := jpeg.Encode(&b, img, nil); err != nil {
		t.Fatal(err)
	}
	return b.Bytes()
}

// bomb is a progressive picture of so many pixels in so many scans, each of a few bytes.
func bomb(width, height, scans int) []byte {
	out := []byte{0xff, 0xd8, 0xff, 0xc2, 0, 11, 8, byte(height >> 8), byte(height), byte(width >> 8), byte(width), 1, 1, 0x11, 0}
	for range scans {
		out = append(out, 0xff, 0xda, 0, 8, 1, 1, 0, 0, 0, 0, 0x12, 0xff, 0, 0x34)
	}
	return append(out, 0xff, 0xd9)
}

func TestMeasureBeforeDecoding(t *testing.T) {
	plain := coded(t, 320, 240)
	for name, x := range map[string]struct {
		data []byte
		ok   bool
	}{
		"a picture":                  {plain, true},
		"bytes after its end":        {append(bytes.Clone(plain), 1, 2, 3), true},
		"nothing":                    {nil, false},
		"its beginning alone":        {plain[:4], false},
		"cut in its headers":         {plain[:60], false},
		"a page":                     {[]byte("<html>"), false},
		"no scan":                    {bomb(640, 480, 0), false},
		"as cameras make them":       {bomb(3840, 2160, 10), true},
		"just in bounds":             {bomb(4000, 3000, 10), true},
		"a scan too many":            {bomb(4000, 3000, 11), false},
		"40 megapixels in 250 scans": {bomb(8000, 5000, 250), false},
		"many scans of little":       {bomb(64, 64, 65), false},
		"two frames":                 {append(bomb(64, 64, 1)[:15], bomb(64, 64, 1)[2:]...), false},
		"too many bytes":             {append(bytes.Clone(plain), make([]byte, MostBytes)...), false},
		"as large as it says it is":  {bomb(65535, 65535, 1), false},
	} {
		_, err := Measure(x.data)
		if (err == nil) != x.ok || err != nil && !errors.Is(err, ErrPicture) {
			t.Errorf("%s: %v", name, err)
		}
	}
	s, err := Measure(plain)
	if err != nil || s.Width != 320 || s.Height != 240 || s.Scans != 1 || s.Progressive {
		t.Errorf("%+v %v", s, err)
	}
}

// One is decoded at a time; who waits goes when they don't want it any more.
func TestOneDecodesAtATime(t *testing.T) {
	img, err := Decode(t.Context(), coded(t, 64, 48))
	if err != nil || img.Bounds().Dx() != 64 {
		t.Fatal(err)
	}
	turn <- struct{}{}
	ctx, cancel := context.WithTimeout(t.Context(), 20*time.Millisecond)
	defer cancel()
	if _, err := Decode(ctx, coded(t, 64, 48)); !errors.Is(err, context.DeadlineExceeded) {
		t.Error(err)
	}
	<-turn
	if _, err := Decode(t.Context(), bomb(64, 64, 2)); !errors.Is(err, ErrPicture) {
		t.Error(err)
	}
}

// Whatever is measured as a picture is decoded, or refused, within its bounds.
func FuzzDecode(f *testing.F) {
	f.Add(coded(f, 64, 48))
	f.Add(bomb(64, 64, 3))
	f.Fuzz(func(t *testing.T, data []byte) {
		s, err := Measure(data)
		if err != nil {
			return
		}
		if s.Width*s.Height > 1<<20 {
			return // it takes long, and is within the bounds
		}
		if img, err := Decode(t.Context(), data); err == nil && (img.Bounds().Dx() != s.Width || img.Bounds().Dy() != s.Height) {
			t.Errorf("%+v is decoded as %v", s, img.Bounds())
		}
	})
}
