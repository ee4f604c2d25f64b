package engine_test

import (
	"strings"
	"testing"
	"time"

	"duskyharbor/internal/app"
	"duskyharbor/internal/core/finding"
	"duskyharbor/internal/core/scene"
	"duskyharbor/internal/core/stage"
	"duskyharbor/internal/core/stream"
	"duskyharbor/internal/demo"
	"duskyharbor/internal/engine"
	"duskyharbor/internal/facts"
	"duskyharbor/internal/standin/footage"
	"duskyharbor/internal/store"
	"duskyharbor/internal/testbed"
)

// seen opens a harbour of some places, found and signed in to.
func seen(t *testing.T, places ...string) *fixture {
	t.Helper()
	b := openOn(t, testbed.StartOnly(t, append(places, "Terminal recorder", "Quay recorder")...), app.Options{})
	b.find()
	b.read(stage.SignIn, places...)
	b.readAll(stage.Clock) // the recorders with them
	return b
}

// asked makes what sets a view's encoders as wanted.
func (b *fixture) asked(place string, want stream.Want) store.Run {
	b.t.Helper()
	of := b.source(b.device(place))
	changes, cant := b.app.Streams.Asked(b.view(), of, want)
	if len(cant) > 0 {
		b.t.Fatalf("%s: %v", place, cant)
	}
	return b.wait(b.app.Apply(b.t.Context(), engine.Ask{Site: b.Site, Stage: stage.Streams, Title: "Encoders alike"}, []engine.Pick{{Source: of, Changes: changes}}))
}

// Encoders are set as a person wants it, read back, played again, and taken back; key frames
// that are rare, and a codec that the recorder can't take, are found and mended.
func TestEncodersAreSetReadBackAndPlayedAgain(t *testing.T) {
	t.Parallel()
	const place = "Slipway"
	b := seen(t, place)
	b.read(stage.Streams, place)
	b.want(place, stage.Streams, stage.Ready)
	b.asked(place, stream.Want{Codecs: []string{"H265"}, KeyEvery: 4 * time.Second / 3})
	f, _ := facts.ForStreams(b.view(), b.source(b.device(place)))
	for _, p := range f.Profiles {
		if _, m, _ := f.Find(p.Token); p.Codec != "H265" || m == nil || m.Codec != "H265" || m.Trouble != "" {
			t.Errorf("%s is %s, and sends %+v", p.Name, p.Set().Text(), m)
		}
	}
	// Its recorder takes both; one that takes H.264 alone doesn't.
	b.want(place, stage.Streams, stage.Ready)
	quay := b.device("Quay recorder").ID
	if err := b.Store.SetPlanned(t.Context(), b.Site, b.source(b.device(place)).ID, quay); err != nil {
		t.Fatal(err)
	}
	if err := b.app.Judge(t.Context(), b.Site, []int64{b.device(place).ID}); err != nil {
		t.Fatal(err)
	}
	if m := b.mark(place, stage.Streams); m.State != stage.Needs || m.Words != "H.265" {
		t.Fatalf("%+v", m)
	}
	if all := b.proposals(b.device(place), stage.Streams); len(all) != 1 || all[0].Kind != stream.SetEncoder || !strings.HasPrefix(all[0].To, "H.264 1280 × 720") || all[0].Risk != finding.NoRisk {
		t.Fatalf("%+v", all)
	}
	b.apply(stage.Streams, place)
	b.want(place, stage.Streams, stage.Ready)

	// A change that was made is taken back as it was.
	changes, err := b.Store.ChangesOf(t.Context(), b.source(b.device(place)), 5)
	if err != nil || len(changes) == 0 {
		t.Fatal(err)
	}
	b.wait(b.undo(t.Context(), changes[0]))
	if m := b.mark(place, stage.Streams); m.Words != "H.265" {
		t.Errorf("taken back: %+v", m)
	}
}

// What a recorder plays stays with it while streams are measured; a camera that plays no more
// is told as full, and its recorder goes on receiving.
func TestMeasuringTakesNothingFromARecorder(t *testing.T) {
	t.Parallel()
	const place = "Slipway"
	h := testbed.StartOnly(t, place, "Terminal recorder")
	b := openOn(t, h, app.Options{})
	b.find()
	b.read(stage.SignIn, place)
	b.read(stage.Clock, place)
	b.read(stage.Streams, place)
	b.place(place)
	cam := b.Fleet.Camera(place)
	testbed.Until(t, 45*time.Second, "its channel receives", func() bool { return b.mark(place, stage.Channels).State == stage.Ready })
	before := b.slot(place)
	cam.Limit(cam.Sessions())
	b.read(stage.Streams, place)
	if m := b.mark(place, stage.Streams); m.State != stage.Needs || m.Words != "limit" || !strings.Contains(m.Sentence, "Terminal recorder plays it; nothing was taken from there") {
		t.Errorf("%+v", m)
	}
	b.read(stage.Channels, place)
	if after := b.slot(place); after == nil || after.State != before.State || !after.Since.Equal(before.Since) {
		t.Errorf("before %+v, after %+v", before, after)
	}
}

// A picture that was accepted is held against what comes later: turned, by night, dark.
func TestAViewThatWasTurnedIsTold(t *testing.T) {
	t.Parallel()
	const place = "Slipway"
	b := seen(t, place)
	b.read(stage.Streams, place)
	of := b.source(b.device(place))
	maren, _, err := b.Store.PersonByLogin(t.Context(), demo.Lead)
	if err != nil {
		t.Fatal(err)
	}
	if err := b.app.Streams.Accept(t.Context(), of, stream.Night, maren.ID, "Maren Ostby"); err == nil || !strings.Contains(err.Error(), "one by day now") {
		t.Errorf("by night in daylight: %v", err)
	}
	if err := b.app.Streams.Accept(t.Context(), of, stream.Day, maren.ID, "Maren Ostby"); err != nil {
		t.Fatal(err)
	}
	was, err := b.Store.AcceptedPicture(t.Context(), b.Site, of.ID, stream.Day)
	if err != nil || len(was) < 1000 {
		t.Fatalf("%d bytes, %v", len(was), err)
	}
	if _, err := b.Store.AcceptedPicture(t.Context(), b.Site+1, of.ID, stream.Day); err == nil {
		t.Error("another site sees it")
	}
	cam := b.Fleet.Camera(place)
	for _, x := range []struct {
		look  footage.Scene
		night bool
		words string
	}{{footage.Slipway, false, ""}, {footage.NetLoft, false, "view moved"}, {footage.NoSignal, false, "no view"}, {footage.NetLoft, true, ""}, {footage.Slipway, false, ""}} {
		cam.Look(x.look)
		cam.ByNight(x.night)
		b.read(stage.Streams, place)
		if m := b.mark(place, stage.Streams); m.Words != x.words || (m.State == stage.Ready) != (x.words == "") {
			t.Errorf("%s, by night %v: %+v", x.look.Name, x.night, m)
		}
	}
	if s, ok := facts.Still.Of(b.view(), b.source(b.device(place))); !ok || s.Print.LightOf() != stream.Day {
		t.Errorf("%+v", s)
	}
	// What is hidden since is no longer what was accepted, until that is taken back.
	setup, _ := facts.ForPicture(b.view(), b.source(b.device(place)))
	masked, err := setup.Hide([]scene.Polygon{{{X: -1, Y: 1}, {X: 0, Y: 1}, {X: 0, Y: 0}, {X: -1, Y: 0}}})
	if err != nil {
		t.Fatal(err)
	}
	run := b.wait(b.app.Apply(t.Context(), engine.Ask{Site: b.Site, Stage: stage.Streams, Title: "Masks"}, []engine.Pick{{Source: b.source(b.device(place)), Changes: []finding.Change{masked}}}))
	if m := b.mark(place, stage.Streams); m.Words != "accept anew" || !strings.Contains(m.Sentence, "its privacy masks changed from nothing hidden to ") {
		t.Errorf("a mask over what was accepted: %+v, run %+v", m, run)
	}
	if err := b.app.Streams.Accept(t.Context(), of, stream.Day, maren.ID, "Maren Ostby"); err != nil {
		t.Fatal(err)
	}
	b.read(stage.Streams, place)
	// A masked picture is coded as it is sent, which a busy machine may not keep up with: that much is told, and no more.
	if m := b.mark(place, stage.Streams); m.State != stage.Ready && m.Words != "little seen" {
		t.Errorf("accepted anew: %+v", m)
	}
}
