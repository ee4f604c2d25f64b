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
}
