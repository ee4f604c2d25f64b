package engine_test

import (
	"context"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"testing"
	"time"

	"duskyharbor/internal/app"
	"duskyharbor/internal/core/access"
	"duskyharbor/internal/core/finding"
	"duskyharbor/internal/core/identity"
	"duskyharbor/internal/core/netplan"
	"duskyharbor/internal/core/stage"
	"duskyharbor/internal/demo"
	"duskyharbor/internal/engine"
	"duskyharbor/internal/facts"
	"duskyharbor/internal/standin/camera"
	"duskyharbor/internal/store"
	"duskyharbor/internal/testbed"
)

// codesOf is what stages 1 to 3 must say of each odd camera; notes have a question mark.
var codesOf = map[string]string{
	"Basic alone":            "access.basic",
	"Clone A":                "find.shared-endpoint",
	"Clone B":                "find.shared-endpoint",
	"Locks at once":          "access.locked",
	"Maker's default":        "access.factory",
	"Old firmware":           "find.firmware",
	"ONVIF off":              "find.onvif-off",
	"Old page":               "find.old-page?",
	"Wrong mask":             "find.mask",
	"Wrong gateway":          "find.gateway",
	"Two on one":             "access.doubt find.two-on-one",
	"Hidden":                 "find.only-directed?",
	"Loses its clock":        "",
	"New certificate":        "",
	"Streams apart":          "",
	"Very slow":              "",
	"Hangs up":               "",
	"Moves and is lost":      "",
	"Takes what it is given": "",
	"Prefixes":               "",
	"Default namespaces":     "",
	"Comments":               "",
	"Older than GetServices": "",
	"Spells its zone":        "clock.zone",
}

// startNonconforming has the odd cameras run beside the thin scenario, on a network of the site.
func startNonconforming(t *testing.T) (*fixture, map[string]*camera.Camera) {
	t.Helper()
	h := testbed.Start(t)
	ctx := context.Background()
	cams := map[string]*camera.Camera{}
	var fresh []store.NewDevice
	for _, cfg := range demo.Nonconforming(h.Net, h.Secrets) {
		c, err := camera.Start(ctx, cfg)
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(c.Close)
		cams[cfg.Place] = c
		at := cfg.Address
		fresh = append(fresh, store.NewDevice{Device: store.Device{SiteID: h.Site, Kind: identity.Camera,
			Place: cfg.Place, Make: cfg.Make, Model: cfg.Model, Address: &at, ExpectedAt: &at, Expected: true}})
	}
	if err := h.Store.AddNetwork(ctx, h.Site, "Odd ones", h.Net.NonconformingPrefix()); err != nil {
		t.Fatal(err)
	}
	if _, err := h.Store.AddDevices(ctx, h.Site, fresh); err != nil {
		t.Fatal(err)
	}
	for _, s := range []access.Set{{Name: "Makers' default", Username: "maker", Factory: true, Make: "Ottervale"},
		{Name: "Streams", Username: "streams"}} {
		if _, err := h.Store.AddSet(ctx, h.Site, s, func(place string) ([]byte,
			error) {
			return h.Vault.Seal(s.Username+"-1234", place)
		}); err != nil {
			t.Fatal(err)
		}
	}
	if err := h.Store.SetLeast(ctx, h.Site, identity.Least{Make: "Ottervale", Model: "OTV 412", Least: "4.0"}); err != nil {
		t.Fatal(err)
	}
	return openOn(t, h, app.Options{}), cams
}

func (b *fixture) wantCodes(want map[string]string) {
	b.t.Helper()
	for place, codes := range want {
		if got := b.codes(b.device(place)); got != codes {
			b.t.Errorf("%s: %q, want %q%s", place, got, codes, b.sentences(b.device(place)))
		}
	}
}

func TestOddDevicesAreNamedAndMended(t *testing.T) {
	t.Parallel()
	b, cams := startNonconforming(t)
	ctx := context.Background()
	places := make([]string, 0, len(codesOf))
	for p := range codesOf {
		places = append(places, p)
	}
	slices.Sort(places)
	b.find()
	b.read(stage.SignIn, slices.DeleteFunc(slices.Clone(places), func(p string) bool { return p == "Maker's default" })...)
	b.wait(b.app.Begin(ctx, store.NewRun{Site: b.Site, Stage: stage.SignIn, Act: store.Read, Title: "With defaults",
		Of: store.OfDevices(b.device("Maker's default").ID), Factory: true}, false))
	b.readAll(stage.Clock)
	b.wantCodes(codesOf)
	if a, _ := facts.Account.Of(b.view(), b.device("Streams apart").ID); a.RTSPSet == 0 || a.RTSP != "opens with Streams" {
		t.Errorf("its streams take another account: %+v", a)
	}
	hangs := b.device("Hangs up").ID
	_, views := facts.VideoSources.Of(b.view(), hangs)
	_, ip := facts.IPConfig.Of(b.view(), hangs)
	users, _ := facts.Users.Of(b.view(), hangs)
	if !views || !ip || len(users) == 0 || cams["Hangs up"].Wrongs() > 0 {
		t.Errorf("what hangs up on every fifth request isn't read to its end: views %v, address %v, users %v", views, ip, users)
	}
	if cams["Locks at once"].Opens("otter", b.Secrets.House) || !cams["Locks at once"].Locked() {
		t.Error("it isn't locked")
	}
	tries, err := b.Store.Tries(ctx, b.device("Locks at once").ID)
	if err != nil || len(tries) != 2 || tries[1].Outcome != access.Locked {
		t.Errorf("%+v %v: a locked device isn't asked on", tries, err)
	}
	if t.Failed() {
		return
	}

	// The ways out.
	for _, p := range []string{"Wrong mask", "Wrong gateway", "Hidden"} {
		if r := b.apply(stage.Find, p); r.Failed > 0 {
			t.Errorf("%s: %+v", p, r)
		}
	}
	// A rule that the device spells in its own way is kept all the same, and taken back.
	if r := b.apply(stage.Clock, "Spells its zone"); r.Failed > 0 {
		steps, _ := b.Store.StepsOf(ctx, r.ID, 1)
		t.Errorf("%+v", steps)
	}
	b.wantCodes(map[string]string{"Spells its zone": ""})
	made, err := b.Store.ChangesOf(ctx, b.source(b.device("Spells its zone")), 1)
	if err != nil || len(made) != 1 || made[0].State != store.Verified {
		t.Fatalf("%+v %v", made, err)
	}
	if r := b.wait(b.undo(ctx, made[0])); r.Failed > 0 {
		steps, _ := b.Store.StepsOf(ctx, r.ID, 1)
		t.Errorf("%+v", steps)
	}
	b.wantCodes(map[string]string{"Spells its zone": "clock.zone"})
	// What it takes besides what opened it is known from its own word.
	if a, _ := facts.Account.Of(b.view(), b.device("Prefixes").ID); a.Scheme != access.Digest || !slices.Equal(a.Takes, []access.Scheme{access.Digest, access.Token}) {
		t.Errorf("it takes %v, opened by %s", a.Takes, a.Scheme)
	}
	cams["Two on one"].Alone()
	basic := b.device("Basic alone")
	alone, _ := facts.Seen.Of(b.view(), basic.ID)
	leave := identity.WordOn(alone)
	if err := b.Store.AllowBasic(ctx, basic.ID, &leave); err != nil {
		t.Fatal(err)
	}
	if run, _, err := b.app.SignIn.Rotate(ctx, engine.Ask{Site: b.Site, Title: "New password"},
		[]int64{b.device("Maker's default").ID}); b.wait(run, err).Failed > 0 {
		t.Error("the maker's password isn't exchanged")
	}
	post(t, cams["New certificate"], "/certificate")
	testbed.Until(t, 20*time.Second, "another certificate is a finding", func() bool {
		b.read(stage.SignIn, "New certificate")
		return b.codes(b.device("New certificate")) == "access.certificate"
	})
	f, _ := facts.ForAccess(b.view(), time.Now(), b.device("New certificate"))
	if err := b.Store.KeepFacts(ctx, facts.Pin.New(b.device("New certificate").ID, "a person trusted it", time.Now().UTC(), f.Shown)); err != nil {
		t.Fatal(err)
	}
	// A soft reset makes a new endpoint on this make; its first password is set anew.
	b.once(stage.SignIn, "Clone B", access.ResetNow())
	b.wantCodes(map[string]string{"Clone B": "access.first-password clock.refused clock.zone find.shared-endpoint"})
	if r := b.apply(stage.SignIn, "Clone B"); r.Failed > 0 {
		t.Errorf("%+v", r)
	}
	b.apply(stage.Clock, "Clone B")
	b.find()
	b.read(stage.SignIn, "Basic alone", "New certificate", "Clone B")
	b.read(stage.Clock, "Clone B", "New certificate")
	after := map[string]string{"Wrong mask": "", "Wrong gateway": "", "Hidden": "", "Two on one": "",
		"Basic alone": "access.clear?", "Maker's default": "", "New certificate": "", "Clone A": "", "Clone B": "find.endpoint-changed?"}
	b.wantCodes(after)

	// Automatic, and found again where its network put it; one that is lost is said to be.
	lease := b.Net.At(".3.200")
	given := b.device("Takes what it is given")
	fv, _ := facts.ForIdentity(b.view(), given)
	if r := b.once(stage.Find, given.Place, identity.ChangeIPConfig(*fv.IPConfig,
		netplan.IPConfig{Automatic: true})); r.Failed > 0 || *b.device(given.Place).Address != lease {
		t.Errorf("%+v: it is at %s", r, b.device(given.Place).Address)
	}
	lost := b.device("Moves and is lost")
	fv, _ = facts.ForIdentity(b.view(), lost)
	r := b.once(stage.Find, lost.Place, identity.ChangeIPConfig(*fv.IPConfig,
		netplan.IPConfig{Address: b.Net.At(".3.77"), Bits: 24, Gateway: b.Net.At(".3.1")}))
	steps, err := b.Store.StepsOf(ctx, r.ID, 1)
	if err != nil || r.Failed != 1 || !strings.Contains(steps[0].Says,
		"answers neither there nor at") || !strings.Contains(steps[0].Says, "To get it back") {
		t.Errorf("%+v %v", steps, err)
	}
	b.find()
	var kinds []string
	news, err := b.Store.Notices(ctx, b.Site, time.Now().Add(-time.Hour), 50)
	for _, h := range news {
		if h.Place == lost.Place || h.Place == given.Place {
			kinds = append(kinds, h.Place+" "+h.Kind)
		}
	}
	slices.Sort(kinds)
	if got := strings.Join(kinds, ", "); err != nil || got != "Moves and is lost lost, Moves and is lost vanished, Takes what it is given moved" {
		t.Errorf("what happened: %s (%v)", got, err)
	}

	// What loses its clock over a restart is found out by the restart.
	if r := b.once(stage.Clock, "Loses its clock", access.RestartNow()); r.Failed > 0 {
		t.Errorf("%+v", r)
	}
	testbed.Until(t, 30*time.Second, "its clock is read after the restart", func() bool {
		all, err := b.Store.ChangesOf(ctx, b.source(b.device("Loses its clock")), 1)
		return err == nil && all[0].State == store.Failed && strings.Contains(all[0].Says, "it is still")
	})
	if got := b.codes(b.device("Loses its clock")); got != "clock.refused" {
		t.Errorf("%q", got)
	}
}

// A recorder's own clock is held against this server's and set from here; the cameras
// that follow it come after.
func TestARecordersOwnClockIsNamedAndSet(t *testing.T) {
	t.Parallel()
	b := open(t, app.Options{})
	b.find()
	b.Fleet.Recorders[0].Step(-20 * time.Second)
	b.readAll(stage.Clock)
	rec := b.device("Terminal recorder")
	if got := b.codes(rec); got != "clock.recorder" {
		t.Fatalf("%q", got)
	}
	if got := b.codes(b.device("Slipway")); got != "clock.at-risk" { // a camera is held against its recorder, wrong or not
		t.Errorf("Slipway: %q%s", got, b.sentences(b.device("Slipway")))
	}
	changes := b.proposals(rec, stage.Clock)
	if len(changes) != 1 || changes[0].Risk != finding.Gap {
		t.Fatalf("%+v", changes)
	}
	if r := b.once(stage.Clock, rec.Place, changes[0]); r.Failed > 0 {
		t.Errorf("%+v", r)
	}
	b.readAll(stage.Clock)
	if got := b.codes(rec) + b.codes(b.device("Slipway")); got != "" {
		t.Errorf("%q", got)
	}
}

// Networks are looked at by themselves, as often as the site asks, by one of the servers.
func TestNetworksAreLookedAtByThemselves(t *testing.T) {
	t.Parallel()
	b := open(t, app.Options{})
	ctx := context.Background()
	if due, err := b.Store.LooksDue(ctx, stage.Find); err != nil || len(due) != 0 {
		t.Fatalf("nothing was asked for, and %v is due: %v", due, err)
	}
	b.find()
	if err := b.Store.SetWishes(ctx, b.Site, store.Wishes{LookEvery: 5, TimeSource: "recorder",
		AtOnce: store.Limits{Network: 64, Recorder: 4}}); err != nil {
		t.Fatal(err)
	}
	if due, err := b.Store.LooksDue(ctx, stage.Find); err != nil || len(due) != 0 {
		t.Errorf("a look was just made, and %v is due: %v", due, err)
	}
	if _, err := b.Store.Pool.Exec(ctx, `update run set started_at = now() - interval '6 minutes'; update site set look_asked_at = null`); err != nil {
		t.Fatal(err)
	}
	due, err := b.Store.LooksDue(ctx, stage.Find)
	again, err2 := b.Store.LooksDue(ctx, stage.Find)
	if err != nil || err2 != nil || len(due) != 1 || len(again) != 0 {
		t.Errorf("due: %v, and for another server: %v (%v %v)", due, again, err, err2)
	}
}

// once makes one change of a camera.
func (b *fixture) once(st stage.Stage, place string, c finding.Change) store.Run {
	b.t.Helper()
	return b.wait(b.app.Once(context.Background(), engine.Ask{Stage: st}, b.source(b.device(place)), c))
}

func post(t *testing.T, c *camera.Camera, path string) {
	t.Helper()
	res, err := http.Post(fmt.Sprintf("http://%s:%d%s", c.At(), camera.ControlPort, path), "", nil)
	if err != nil {
		t.Fatal(err)
	}
	_ = res.Body.Close()
}

// A recorder that holds an old password knocks: each knock counts, it is paused by a
// button, and given the account that opens the camera it is seen again.
func TestARecorderThatKnocksIsNamedPausedAndGivenTheAccount(t *testing.T) {
	t.Parallel()
	b := open(t, app.Options{})
	b.place("Slipway")
	b.read(stage.Clock, "Slipway") // so that the clock isn't taken for the cause
	cam := b.Fleet.Camera("Slipway")
	cam.Repassword("otter", "Another-1234")
	cam.Restart()
	testbed.Until(t, 60*time.Second, "the recorder knocks", func() bool {
		s := b.slot("Slipway")
		return s != nil && s.State == "refused" && s.AuthFailures >= 2
	})
	b.read(stage.SignIn, "Slipway")
	if got := b.codes(b.device("Slipway")); !strings.Contains(got, "access.knocking") || !strings.Contains(got, "access.budget") {
		t.Fatalf("%q%s", got, b.sentences(b.device("Slipway")))
	}
	if tries, _ := b.Store.Tries(t.Context(), b.device("Slipway").ID); slices.ContainsFunc(tries, func(x access.Try) bool { return x.Outcome == access.Wrong }) {
		t.Errorf("it was tried though the recorder had spent the budget: %+v", tries)
	}
	fresh, err := b.Store.AddSet(t.Context(), b.Site,
		access.Set{Name: "Exchanged", Username: "otter"}, func(place string) ([]byte, error) { return b.Vault.Seal("Another-1234", place) })
	if err != nil {
		t.Fatal(err)
	}
	pause := b.proposals(b.device("Slipway"), stage.SignIn)
	if len(pause) != 1 || pause[0].Kind != access.Pause {
		t.Fatalf("%+v", pause)
	}
	b.Fleet.Recorders[0].PauseAll() // as its button does, and without a sign-in after it
	b.slot("Slipway")
	only := store.NewRun{Site: b.Site, Stage: stage.SignIn, Act: store.Read, Title: "That set alone",
		Of: store.OfDevices(b.device("Slipway").ID), Set: fresh}
	b.wait(b.app.Begin(t.Context(), only, false))
	if a, ok := facts.Account.Of(b.view(), b.device("Slipway").ID); !ok || a.Set != "Exchanged" {
		t.Fatalf("%+v%s", a, b.sentences(b.device("Slipway")))
	}
	b.apply(stage.Channels, "Slipway") // resumed, it knocks once more
	testbed.Until(t, 30*time.Second, "it knocks again", func() bool { s := b.slot("Slipway"); return s != nil && s.State == "refused" })
	if r := b.apply(stage.SignIn, "Slipway"); r.Failed > 0 {
		t.Fatalf("%+v", r)
	}
	b.receives("Slipway", "given the account")
}
