package stream

import (
	"math"
	"testing"
)

func TestWhatARateBecomes(t *testing.T) {
	p := Profile{Codec: "H264", Width: 1280, Height: 720, FPS: 15, Kbps: 2048, GOP: 15, Fine: Fine{Rate: Variable, Quality: 6, Level: "Main"}}
	played := &Measured{Codec: "H264", MeanKbps: 1000}
	for _, x := range []struct {
		name string
		m    *Measured
		set  func(*Encoder)
		was  Rating
		want Forecast
	}{
		{"as it is", played, func(*Encoder) {}, Variable, Forecast{Times: 1, Keys: 1}},
		{"a third of the frames", played, func(e *Encoder) { e.FPS, e.GOP = 5, 5 }, Variable, Forecast{Times: 1. / 3, Keys: 1}},
		{"a quarter of the pixels", played, func(e *Encoder) { e.Size = sd }, Variable, Forecast{Times: .25, Keys: .25}},
		{"both", played, func(e *Encoder) { e.Size, e.FPS, e.GOP = sd, 7.5, 15 }, Variable, Forecast{Times: .125, Keys: .125}},
		{"key frames half as often", played, func(e *Encoder) { e.GOP = 30 }, Variable, Forecast{Times: 1, Keys: .5}},
		{"a limit above what it sends", played, func(e *Encoder) { e.Kbps = 1024 }, Variable, Forecast{Times: 1, Keys: 1}},
		{"a limit below", played, func(e *Encoder) { e.Kbps = 500 }, Variable, Forecast{Times: .5, Keys: 1}},
		{"a limit, nothing measured", nil, func(e *Encoder) { e.Kbps = 500 }, Variable, Forecast{Times: 1, Keys: 1}},
		{"constant", played, func(e *Encoder) { e.Rate, e.Kbps = Constant, 3000 }, Variable, Forecast{Times: 3, Keys: 1}},
		{"constant, nothing measured", nil, func(e *Encoder) { e.Rate, e.Kbps = Constant, 3000 }, Variable, Forecast{}},
		{"constant before and after", nil, func(e *Encoder) { e.Kbps = 1024 }, Constant, Forecast{Times: .5, Keys: .5}},
		{"no longer constant", played, func(e *Encoder) { e.Rate = Variable }, Constant, Forecast{Times: 2.048, Keys: 2.048, Most: true}},
		{"another codec", played, func(e *Encoder) { e.Codec = "H265" }, Variable, Forecast{Times: 2.048, Keys: 2.048, Most: true}},
		{"another codec without a limit", played, func(e *Encoder) { e.Codec, e.Kbps = "H265", 0 }, Variable, Forecast{Most: true}},
		{"another codec, nothing measured", nil, func(e *Encoder) { e.Codec = "H265" }, Variable, Forecast{Most: true}},
		{"another quality", played, func(e *Encoder) { e.Quality = 9 }, Variable, Forecast{Times: 2.048, Keys: 2.048, Most: true}},
		{"what was played came in another codec", &Measured{Codec: "H265", MeanKbps: 400}, func(e *Encoder) { e.Kbps = 500 }, Variable, Forecast{Times: 1, Keys: 1}},
		{"what was played had trouble", &Measured{Codec: "H264", MeanKbps: 400, Trouble: "it stalled"}, func(e *Encoder) { e.Kbps = 200 }, Variable, Forecast{Times: 1, Keys: 1}},
	} {
		p.Rate = x.was
		set := p.Set()
		x.set(&set)
		got := p.Becomes(x.m, set)
		if math.Abs(got.Times-x.want.Times) > 1e-9 || math.Abs(got.Keys-x.want.Keys) > 1e-9 || got.Most != x.want.Most {
			t.Errorf("%s: %+v, want %+v", x.name, got, x.want)
		}
	}
}
