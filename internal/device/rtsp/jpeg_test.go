package rtsp

import (
	"bytes"
	"image"
	"image/color"
	"image/jpeg"
	"testing"

	"github.com/pion/rtp"
)

// sent is a picture as a server sends it: its file taken apart into packets, with its own tables.
func sent(t testing.TB, stamp uint32, q byte, tables bool) ([]*rtp.Packet, image.Image) {
	t.Helper()
	img := image.NewYCbCr(image.Rect(0, 0, 64, 48), image.YCbCrSubsampleRatio420)
	for i := range img.Y {
		img.Y[i] = byte(i * 3 / 2)
	}
	var file bytes.Buffer
	if err := jpeg.Encode(&file, img, &jpeg.Options{Quality: int(min(q, 99))}); err != nil {
		t.Fatal(err)
	}
	data := file.Bytes()
	var quant, scan []byte
	for i := 2; scan == nil; {
		n := int(data[i+2])<<8 | int(data[i+3])
		switch data[i+1] {
		case 0xdb:
			for b := data[i+4 : i+2+n]; len(b) >= 65; b = b[65:] {
				quant = append(quant, b[1:65]...)
			}
		case 0xda:
			scan = data[i+2+n : len(data)-2]
		}
		i += 2 + n
	}
	var out []*rtp.Packet
	for at := 0; at < len(scan); at += 100 {
		end := min(at+100, len(scan))
		b := []byte{0, byte(at >> 16), byte(at >> 8), byte(at), jpeg420, q, 8, 6}
		if at == 0 && q >= 128 {
			if tables {
				b = append(append(b, 0, 0, 0, 128), quant...)
			} else {
				b = append(b, 0, 0, 0, 0)
			}
		}
		out = append(out, &rtp.Packet{Header: rtp.Header{Timestamp: stamp, Marker: end == len(scan)}, Payload: append(b, scan[at:end]...)})
	}
	want, err := jpeg.Decode(&file)
	if err != nil {
		t.Fatal(err)
	}
	return out, want
}

func TestPicturesArePutTogether(t *testing.T) {
	var j JPEG
	for i, x := range []struct {
		name   string
		q      byte
		tables bool
		lose   int // this packet; −1: none
		want   bool
	}{
		{"with its tables", 200, true, -1, true},
		{"with those of before", 200, false, -1, true},
		{"with others that never came", 201, false, -1, false},
		{"a part is lost", 200, true, 1, false},
		{"the beginning is lost", 200, true, 0, false},
		{"by its quality", 75, false, -1, true},
		{"by a coarse one", 20, false, -1, true},
		{"a quality that is none", 0, false, -1, false},
	} {
		packets, want := sent(t, uint32(i), max(x.q, 1), x.tables)
		for _, p := range packets {
			p.Payload[5] = x.q
		}
		var file []byte
		done := false
		for k, p := range packets {
			if k != x.lose {
				if f, ok := j.Add(p); ok {
					file, done = f, true
				}
			}
		}
		if done != x.want {
			t.Errorf("%s: whole %v", x.name, done)
			continue
		}
		if !done {
			continue
		}
		got, err := jpeg.Decode(bytes.NewReader(file))
		if err != nil || got.Bounds() != want.Bounds() {
			t.Errorf("%s: %v", x.name, err)
			continue
		}
		for y := range 48 {
			for k := range 64 {
				a, b := color.GrayModel.Convert(got.At(k, y)).(color.Gray), color.GrayModel.Convert(want.At(k, y)).(color.Gray)
				if d := int(a.Y) - int(b.Y); d > 6 || d < -6 {
					t.Fatalf("%s: %d, %d is %d and was %d", x.name, k, y, a.Y, b.Y)
				}
			}
		}
	}
}

func FuzzJPEG(f *testing.F) {
	packets, _ := sent(f, 1, 200, true)
	for _, p := range packets {
		f.Add(p.Payload, p.Marker)
	}
	f.Fuzz(func(t *testing.T, payload []byte, marker bool) {
		var j JPEG
		for _, p := range packets[:1] {
			j.Add(p)
		}
		if file, ok := j.Add(&rtp.Packet{Header: rtp.Header{Timestamp: 1, Marker: marker}, Payload: payload}); ok {
			if len(file) < 600 || len(file) > maxJPEG+1000 {
				t.Fatalf("%d bytes", len(file))
			}
			_, _ = jpeg.Decode(bytes.NewReader(file))
		}
	})
}
