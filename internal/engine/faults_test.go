package engine_test

import (
	"cmp"
	"context"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"testing"
	"time"

	"duskyharbor/internal/app"
	"duskyharbor/internal/core/finding"
	"duskyharbor/internal/core/stage"
	"duskyharbor/internal/device/dial"
	"duskyharbor/internal/engine"
	"duskyharbor/internal/facts"
	"duskyharbor/internal/stages/find"
	"duskyharbor/internal/store"
	"duskyharbor/internal/testbed"
)

// openWhole is open with every device of the scenario.
func openWhole(t *testing.T) *fixture {
	t.Helper()
	return openOn(t, testbed.StartWhole(t), app.Options{})
}

func openOn(t *testing.T, h *testbed.Harbour, opt app.Options) *fixture {
	t.Helper()
	opt.Listen, opt.Measure, opt.WalkFor, opt.Away = 900*time.Millisecond, 2200*time.Millisecond, 25*time.Second, cmp.Or(opt.Away, 12*time.Second)
	o, err := app.New(h.Store, h.Vault, &dial.Dialer{}, opt)
	if err != nil {
		t.Fatal(err)
	}
	if err := o.Start(context.Background()); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		ctx, cancel := context.WithTimeout(context.Background(), 10*time.Second)
		defer cancel()
		if err := o.Stop(ctx); err != nil {
			t.Error(err)
		}
	})
	return &fixture{h, t, o}
}

// readAll reads a stage of everything that it can be read of, as its page does.
func (b *fixture) readAll(st stage.Stage) store.Run {
	b.t.Helper()
	ctx := context.Background()
	n := store.NewRun{Site: b.Site, Stage: st, Act: store.Read, Title: "Read"}
	var err error
	if n.Of, err = b.Store.Resolve(ctx, store.Selection{Site: b.Site, Ready: st}, st); err != nil {
		b.t.Fatal(err)
	}
	recorders, err := b.Store.RecordersHeard(ctx, b.Site)
	if err != nil {
		b.t.Fatal(err)
	}
	n.Of = append(n.Of, store.OfDevices(recorders...)...)
	return b.wait(b.app.Begin(ctx, n, false))
}

// bench lets an address that is in no network of the site be looked at.
func (b *fixture) alsoLookAt(at netip.Addr) {
	b.t.Helper()
	if err := b.Store.AddSingle(context.Background(), b.Site, at.String(), netip.PrefixFrom(at, 32)); err != nil {
		b.t.Fatal(err)
	}
}

// codes lists a device's findings that need a person, and the notes, by stage.
func (b *fixture) codes(d store.Device) string {
	v := b.view()
	var out []string
	for _, st := range []stage.Stage{stage.Find, stage.SignIn, stage.Clock} {
		for _, f := range b.app.Findings(time.Now(), v, v.Of(d), st) {
			mark := ""
			if f.Severity == finding.Note {
				mark = "?"
			}
			out = append(out, f.Code+mark)
		}
	}
	slices.Sort(out)
	return strings.Join(out, " ")
}

// planted is what stages 1 to 3 must say of each device of the scenario; notes have a
// question mark. What stays after the ways out is behind the arrow.
var planted = map[string]string{
	"Slipway":                "",
	"Berth 1 ramp":           "clock.refused clock.zone",
	"Berth 2 ramp":           "access.first-password find.first-password?",
	"Gangway":                "access.former",
	"Ice plant":              "",
	"Net loft":               "",
	"Fuel jetty":             "clock.at-risk",
	"Lifeboat house":         "find.rtsp-only → find.rtsp-only?",
	"Ticket hall":            "access.onvif-account",
	"Customs shed":           "clock.text find.sources",
	"Bonded store":           "find.sources",
	"Freight scale":          "clock.drift",
	"Crew mess":              "",
	"Weather deck stair":     "clock.at-risk",
	"Signal mast":            "find.silent",
	"at the factory":         "access.doubt clock.refused find.factory-address find.unexpected",
	"Quay recorder port 3":   "find.behind-port? find.dead-entry → find.behind-port?",
	"Quay recorder":          "",
	"at the desk":            "find.unlisted-recorder → find.unlisted-recorder",
	"at the first analyser":  "find.unlisted-analyser → find.unlisted-analyser",
	"at the second analyser": "find.unlisted-analyser → find.unlisted-analyser",
	"Terminal recorder":      "",
	"Store recorder":         "find.own-screen? → find.own-screen?",
}

func TestEveryPlantedFaultIsNamedAndGoneAfterItsWayOut(t *testing.T) {
	t.Parallel()
	b := openWhole(t)
	ctx := context.Background()
	b.alsoLookAt(b.Net.At(".250.64"))
	b.Fleet.Camera("Freight scale").Hurry(1000)
	b.find()
	b.readAll(stage.SignIn)
	b.readAll(stage.Clock)
	testbed.Until(t, time.Minute, "its drift is known, which takes some readings", func() bool {
		b.read(stage.Clock, "Freight scale")
		return strings.Contains(b.codes(b.device("Freight scale")), "clock.drift")
	})
	check := func(when string, want func(string) string) {
		t.Helper()
		seen := 0
		for _, d := range b.view().Devices {
			place := d.Place
			switch d.Place {
			case b.Net.At(".250.64").String():
				place = "at the factory"
			case b.Net.At(".2.8").String():
				place = "at the desk"
			case b.Net.At(".2.30").String():
				place = "at the first analyser"
			case b.Net.At(".2.31").String():
				place = "at the second analyser"
			}
			rule, known := planted[place]
			seen++
			if got := b.codes(d); !known || got != want(rule) {
				t.Errorf("%s, %s: %q, want %q%s", when, place, got, want(rule), b.sentences(d))
			}
		}
		if want := len(planted) - strings.Count(when, "after"); seen != want {
			t.Errorf("%s: %d devices, want %d", when, seen, want)
		}
	}
	check("at first", func(rule string) string { first, _, _ := strings.Cut(rule, " → "); return first })
	if t.Failed() {
		return
	}
	// The ways out, as buttons ask for them.
	mast, newcomer := b.device("Signal mast"), b.device(b.Net.At(".250.64").String())
	if err := find.TakeOver(ctx, b.Store, mast, newcomer.ID); err != nil {
		t.Fatal(err)
	}
	if err := b.app.Judge(ctx, b.Site, []int64{mast.ID}); err != nil {
		t.Fatal(err)
	}
	b.read(stage.SignIn, "Signal mast") // it is on the list now, and is given an account
	if err := b.Store.Accept(ctx, b.source(b.device("Lifeboat house")), stage.Find, "find.rtsp-only", 0); err != nil {
		t.Fatal(err)
	}
	done := func(r store.Run) {
		t.Helper()
		if r.Failed > 0 {
			steps, err := b.Store.StepsOf(ctx, r.ID, 50)
			t.Fatalf("%s: %+v %v", r.Title, steps, err)
		}
	}
	run, left, err := b.app.SignIn.Rotate(ctx, engine.Ask{Site: b.Site, Title: "New password"}, []int64{b.device("Gangway").ID})
	if left != 0 {
		t.Errorf("%d were left out", left)
	}
	done(b.wait(run, err))
	done(b.apply(stage.Find, "Signal mast"))
	done(b.apply(stage.Find, "Quay recorder port 3"))
	for _, p := range []string{"Berth 2 ramp", "Ticket hall"} {
		done(b.apply(stage.SignIn, p))
	}
	for _, p := range []string{"Berth 1 ramp", "Fuel jetty", "Customs shed", "Freight scale", "Weather deck stair", "Signal mast"} {
		done(b.apply(stage.Clock, p))
	}
	for place, n := range map[string]int{"Ticket hall": 1, "Customs shed": 2, "Bonded store": 2} {
		d := b.device(place)
		views, _ := facts.VideoSources.Of(b.view(), d.ID)
		var tokens, names []string
		for _, v := range views[:n] {
			tokens, names = append(tokens, v.Token), append(names, v.Name)
		}
		if err := b.Store.PickViews(ctx, d.ID, tokens, names); err != nil {
			t.Fatal(err)
		}
	}
	b.find()
	b.readAll(stage.SignIn)
	b.readAll(stage.Clock)
	check("after the ways out", func(rule string) string { _, rest, _ := strings.Cut(rule, " → "); return rest })
	if at := b.Fleet.Camera("Signal mast").At(); at != b.Net.At(".1.28") {
		t.Errorf("the mast is at %s", at)
	}
}

func (b *fixture) sentences(d store.Device) string {
	v, out := b.view(), ""
	for _, st := range []stage.Stage{stage.Find, stage.SignIn, stage.Clock} {
		for _, f := range b.app.Findings(time.Now(), v, v.Of(d), st) {
			out += fmt.Sprintf("\n\t%s: %s", f.Code, f.Sentence)
		}
	}
	return out
}
