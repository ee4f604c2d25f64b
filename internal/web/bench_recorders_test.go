package web_test

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"strings"
	"testing"
	"time"

	"duskyharbor/internal/core/channel"
	"duskyharbor/internal/core/identity"
	"duskyharbor/internal/core/recording"
	"duskyharbor/internal/site"
	"duskyharbor/internal/store"
	"duskyharbor/internal/testbed"
)

// full is what a recorder tells whose so many channels are all taken, by cameras of a bulk site from
// the first on.
func full(h *testbed.Harbour, name string, channels, first int) channel.Recorder {
	r := channel.Recorder{At: time.Now(), Name: name, Limits: channel.Limits{Channels: channels, Licences: channels, MbitIn: 1200, Codecs: []string{"H264"}},
		Storage: recording.Storage{Usable: 60e12, Buffer: 10}}
	plan := recording.Plan{Modes: []recording.Mode{
		{Name: "by day", Idle: recording.Keys, Event: recording.Record, Causes: []recording.Cause{recording.Motion, recording.Camera}, Lead: 5, Tail: 10},
		{Name: "by night", Idle: recording.View, Event: recording.Record, Causes: []recording.Cause{recording.Camera}, Lead: 5, Tail: 20}}}
	for d := range plan.Week {
		for half := range plan.Week[d] {
			plan.Week[d][half] = uint8(half / 24)
		}
	}
	rates := recording.Rate{Record: 3200, View: 420, Keys: 900}
	for i := range channels {
		at := first + i
		r.Slots = append(r.Slots, channel.Slot{Number: i + 1, Name: fmt.Sprint("Shed ", at), Address: h.Net.At(fmt.Sprintf(".%d.%d", 160+at/250, 2+at%250)).String(),
			Profile: "main", State: channel.Receiving, Detail: "since it signed in with its own clock", Codec: "H264", Width: 1280, Height: 720, FPS: 15, Kbps: 3200,
			LastKey: time.Now(), Events: "listening", HasStill: true, Way: channel.ONVIF, Over: "RTSP over TCP", Port: 8554, Firmware: "4.1.7",
			Recording: recording.Slot{Plan: &plan, Hears: []recording.Cause{recording.Motion, recording.Camera}, Rates: recording.Rates{Day: rates, Night: rates},
				Activity: []recording.Activity{{Cause: recording.Motion, Seconds: 86400, Active: 4000, Gaps: []recording.Gap{{UpTo: 60, Count: 90, Seconds: 3000}, {Count: 60, Seconds: 79400}}}}}})
	}
	return r
}

// ofRecorders is a bulk site with so many recorders of so many channels, all taken.
func ofRecorders(t testing.TB, recorders, channels int) (*testbed.Harbour, *store.Store, *counter, http.Handler, []int64) {
	h, st, count, handler := fullBoard(t)
	ctx := context.Background()
	var all []int64
	for i := range recorders {
		at := h.Net.At(fmt.Sprintf(".5.%d", 10+i))
		id, err := st.AddDevice(ctx, store.Device{SiteID: h.Site, Kind: identity.Recorder, Place: fmt.Sprint("Recorder ", i+1), Address: &at})
		if err != nil {
			t.Fatal(err)
		}
		if err := st.KeepFacts(ctx, site.Recorder.New(id, "bench", time.Now(), full(h, fmt.Sprint("Recorder ", i+1), channels, i*channels))); err != nil {
			t.Fatal(err)
		}
		all = append(all, id)
	}
	return h, st, count, handler, all
}

// Recorders of a thousand channels are shown with a fixed number of queries, 256 channels of one
// whole.
func TestPagesOfManyChannels(t *testing.T) {
	t.Parallel()
	h, _, count, handler, all := ofRecorders(t, 4, 256)
	get := signedIn(t, h, handler)
	for path, most := range map[string]int64{fmt.Sprintf("channels?recorder=%d", all[2]): 28, "recording": 30} {
		before := count.n.Load()
		w, _ := get(fmt.Sprintf("/sites/%d/%s", h.Site, path))
		if n := count.n.Load() - before; w.Code != http.StatusOK || n > most {
			t.Errorf("%s: %d with %d queries, want at most %d", path, w.Code, n, most)
		}
		if body := unzipped(t, w); strings.HasPrefix(path, "channels") && strings.Count(body, `class="slot taken"`) != 256 {
			t.Errorf("%d of 256 channels are drawn", strings.Count(body, `class="slot taken"`))
		}
	}
}

// Pages of 256 channels on one recorder, and of 16 recorders of 64, beside decoding what the
// recorders told once.
func BenchmarkManyChannels(b *testing.B) {
	for _, x := range []struct{ recorders, channels int }{{1, 256}, {16, 64}} {
		b.Run(fmt.Sprintf("%d of %d", x.recorders, x.channels), func(b *testing.B) {
			h, _, _, handler, all := ofRecorders(b, x.recorders, x.channels)
			get := signedIn(b, h, handler)
			raw, err := json.Marshal(full(h, "Recorder", x.channels, 0))
			if err != nil {
				b.Fatal(err)
			}
			var face, kept, bare time.Duration
			for b.Loop() {
				w, took := get(fmt.Sprintf("/sites/%d/channels?recorder=%d", h.Site, all[0]))
				face += took
				w2, took := get(fmt.Sprintf("/sites/%d/recording", h.Site))
				kept += took
				if w.Code != http.StatusOK || w2.Code != http.StatusOK {
					b.Fatal(w.Code, w2.Code)
				}
				begun := time.Now()
				for range x.recorders {
					var r channel.Recorder
					if err := json.Unmarshal(raw, &r); err != nil {
						b.Fatal(err)
					}
				}
				bare += time.Since(begun)
			}
			n := float64(b.N)
			b.ReportMetric(face.Seconds()*1000/n, "channels-ms")
			b.ReportMetric(kept.Seconds()*1000/n, "recording-ms")
			b.ReportMetric(bare.Seconds()*1000/n, "bare-ms")
		})
	}
}
