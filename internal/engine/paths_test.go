package engine_test

import (
	"strings"
	"testing"
	"time"

	"duskyharbor/internal/core/stage"
	"duskyharbor/internal/facts"
	"duskyharbor/internal/testbed"
)

// A camera that speaks RTSP alone goes the whole way once somebody said where its streams are
// had: they are read, played and placed by address, and the recorder receives them.
func TestRTSPAloneGoesTheWholeWay(t *testing.T) {
	t.Parallel()
	b := openWhole(t)
	const place = "Lifeboat house"
	b.find()
	b.read(stage.SignIn, place, "Terminal recorder")
	if m := b.mark(place, stage.Streams); m.State != stage.Needs || m.Words != "which address" {
		t.Errorf("nobody named its streams: %+v", m)
	}
	of := b.source(b.device(place))

	// Which usual addresses it has is asked because a person wants it; a wrong one costs itself.
	usual, err := b.app.Streams.Usual(t.Context(), of)
	if err != nil || strings.Join(usual, " ") != "/main /sub" {
		t.Fatalf("%q %v", usual, err)
	}
	if err := b.Store.SetPaths(t.Context(), b.Site, of.Device.ID, append(usual, "/nothing")); err != nil {
		t.Fatal(err)
	}
	b.read(stage.Streams, place)
	f, _ := facts.ForStreams(b.view(), b.source(b.device(place)))
	if len(f.Profiles) != 3 || f.Profiles[0].Width != 1280 || f.Profiles[2].Trouble == "" {
		t.Fatalf("%+v", f.Profiles)
	}
	for _, p := range f.Profiles[:2] {
		if _, m, _ := f.Find(p.Token); m == nil || m.Trouble != "" || m.Codec != "H264" || m.Width != p.Width || m.Frames < 10 {
			t.Errorf("%s delivers %+v", p.Token, m)
		}
	}
	if m := b.mark(place, stage.Streams); m.State != stage.Blocked || !strings.Contains(m.Sentence, "/nothing was asked for and didn't play") {
		t.Errorf("an address without a stream: %+v", m)
	}
	if err := b.Store.SetPaths(t.Context(), b.Site, of.Device.ID, usual); err != nil {
		t.Fatal(err)
	}
	b.read(stage.Streams, place)
	b.want(place, stage.Streams, stage.Ready)

	b.apply(stage.Channels, place)
	testbed.Until(t, 45*time.Second, "its channel receives", func() bool { return b.mark(place, stage.Channels).State == stage.Ready })
	slot := b.slot(place)
	if slot == nil || slot.Profile != "/main" || slot.Width != 1280 || !strings.HasPrefix(slot.Events, "none") {
		t.Errorf("%+v", slot)
	}
	if n := b.Fleet.Camera(place).Wrongs(); n != 0 {
		t.Errorf("it cost %d wrong passwords", n)
	}
}
