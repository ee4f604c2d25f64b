package streams

import (
	"testing"
	"time"

	"duskyharbor/internal/core/stream"
)

func TestBarsTellDeclaredFromMeasured(t *testing.T) {
	p := stream.Profile{Width: 1280, Height: 720, FPS: 15, Kbps: 2048, GOP: 15}
	good := bars(p, stream.Measured{Width: 1280, Height: 720, FPS: 14.9, MeanKbps: 77, KeyEvery: time.Second})
	for _, b := range good {
		if b.Off || b.D < 0 || b.D > 100 || b.M < 0 || b.M > 100 {
			t.Errorf("%+v", b)
		}
	}
	for i, b := range bars(p, stream.Measured{Width: 640, Height: 360, FPS: 5, MeanKbps: 9000, KeyEvery: 8 * time.Second}) {
		if !b.Off || b.M > 100 || b.D > 100 {
			t.Errorf("bar %d isn't off, or runs over: %+v", i, b)
		}
	}
	if b := bars(p, stream.Measured{FPS: 15, KeyEvery: time.Second})[0]; b.Off || b.Measured != "size not told" {
		t.Errorf("a size that isn't known: %+v", b)
	}
}

func TestWhatAStreamSendsInWords(t *testing.T) {
	m := stream.Measured{Codec: "H265", FPS: 14.9, MeanKbps: 77, KeyEvery: time.Second, Lost: 2, Jitter: 3 * time.Millisecond, First: 420 * time.Millisecond, Over: "UDP"}
	if got, want := sends(m), "H.265 size not told, 14.9/s, 77 kbit/s, key frame every 1.0 s, 2 lost, jitter 3 ms, first picture after 0.4 s, over UDP in clear"; got != want {
		t.Errorf("%q, want %q", got, want)
	}
	if got := sends(stream.Measured{Trouble: "It stalled."}); got != "nothing: It stalled." {
		t.Errorf("%q", got)
	}
}

func TestWhatIsNotDeclaredIsNotCompared(t *testing.T) {
	p := stream.Profile{Codec: "H264"}
	for _, b := range bars(p, stream.Measured{Width: 640, Height: 360, FPS: 15, MeanKbps: 60, KeyEvery: time.Second}) {
		if b.Off || b.Declared != "not told" || b.D != 0 || b.M <= 0 || b.M > 100 {
			t.Errorf("%+v", b)
		}
	}
	if got := p.Declares(); got != "H.264" {
		t.Errorf("%q", got)
	}
}
