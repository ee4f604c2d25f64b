package stream

import (
	"math"
	"testing"
)

func TestWhatARateBecomes(t *testing.T) {
	p := Profile{Codec: "H264", Width: 1280, Height: 720, FPS: 15, Kbps: 2048, GOP: 15, Fine: Fine{Rate: Variable, Quality: 6, Level: "Main"}}
	for _, x := range []struct {
		name string
		was  Rating
		set  func(*Encoder)
		want Forecast
	}{
		{"as it is", Variable, func(*Encoder) {}, Forecast{Keys: 1, Rest: 1, Cap: 2048}},
		{"a third of the frames", Variable, func(e *Encoder) { e.FPS, e.GOP = 5, 5 }, Forecast{Keys: 1, Rest: 4. / 14, Cap: 2048}},
		{"a quarter of the pixels", Variable, func(e *Encoder) { e.Size = sd }, Forecast{Keys: 1, Rest: 1, Cap: 2048, Most: true}},
		{"both, key frames half as often", Variable, func(e *Encoder) { e.Size, e.FPS, e.GOP = sd, 7.5, 15 }, Forecast{Keys: .5, Rest: 7. / 14, Cap: 2048, Most: true}},
		{"four times the pixels", Variable, func(e *Encoder) { e.Size = Size{2560, 1440} }, Forecast{Keys: 4, Rest: 4, Cap: 2048, Most: true}},
		{"as many pixels in another form", Variable, func(e *Encoder) { e.Size = Size{720, 1280} }, Forecast{Keys: 1, Rest: 1, Cap: 2048, Most: true}},
		{"another size, constant", Variable, func(e *Encoder) { e.Size, e.Rate = sd, Constant }, Forecast{Keys: 1, Rest: 1, Cap: 2048, Fixed: true}},
		{"key frames half as often", Variable, func(e *Encoder) { e.GOP = 30 }, Forecast{Keys: .5, Rest: 14.5 / 14, Cap: 2048}},
		{"key frames not told", Variable, func(e *Encoder) { e.GOP = 0 }, Forecast{Keys: 1, Rest: 15. / 14, Cap: 2048}},
		{"frames not told", Variable, func(e *Encoder) { e.FPS, e.Kbps = 0, 0 }, Forecast{Keys: 1, Rest: 1}},
		{"every frame a key frame", Variable, func(e *Encoder) { e.GOP = 1 }, Forecast{Keys: 15, Rest: 1, Cap: 2048}},
		{"another limit", Variable, func(e *Encoder) { e.Kbps = 500 }, Forecast{Keys: 1, Rest: 1, Cap: 500}},
		{"constant", Variable, func(e *Encoder) { e.Rate, e.Kbps = Constant, 3000 }, Forecast{Keys: 1, Rest: 1, Cap: 3000, Fixed: true}},
		{"constant before and after", Constant, func(e *Encoder) { e.Kbps = 1024 }, Forecast{Keys: 1, Rest: 1, Cap: 1024, Fixed: true}},
		{"no longer constant", Constant, func(e *Encoder) { e.Rate = Variable }, Forecast{Keys: 1, Rest: 1, Cap: 2048, Unknown: true}},
		{"another codec", Variable, func(e *Encoder) { e.Codec = "H265" }, Forecast{Keys: 1, Rest: 1, Cap: 2048, Unknown: true}},
		{"another codec without a limit", Variable, func(e *Encoder) { e.Codec, e.Kbps = "H265", 0 }, Forecast{Keys: 1, Rest: 1, Unknown: true}},
		{"another quality", Variable, func(e *Encoder) { e.Quality = 9 }, Forecast{Keys: 1, Rest: 1, Cap: 2048, Unknown: true}},
		{"another level", Variable, func(e *Encoder) { e.Level = "High" }, Forecast{Keys: 1, Rest: 1, Cap: 2048, Unknown: true}},
	} {
		p.Rate = x.was
		set := p.Set()
		x.set(&set)
		got := p.Becomes(set)
		got.Keys, got.Rest = math.Round(got.Keys*1e9)/1e9, math.Round(got.Rest*1e9)/1e9
		x.want.Keys, x.want.Rest = math.Round(x.want.Keys*1e9)/1e9, math.Round(x.want.Rest*1e9)/1e9
		if got != x.want {
			t.Errorf("%s: %+v, want %+v", x.name, got, x.want)
		}
	}
}
