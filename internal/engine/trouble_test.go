package engine_test

import (
	"context"
	"io"
	"net"
	"net/http"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"duskyharbor/internal/app"
	"duskyharbor/internal/core/finding"
	"duskyharbor/internal/core/netplan"
	"duskyharbor/internal/core/route"
	"duskyharbor/internal/core/stage"
	"duskyharbor/internal/core/trouble"
	"duskyharbor/internal/engine"
	"duskyharbor/internal/facts"
	"duskyharbor/internal/site"
	"duskyharbor/internal/store"
)

// listen serves a hostile device at an address of the harbour.
func (b *fixture) listen(rest string, port int, f func(net.Conn)) {
	b.t.Helper()
	l, err := net.ListenTCP("tcp4", &net.TCPAddr{IP: b.Net.At(rest).AsSlice(), Port: port})
	if err != nil {
		b.t.Fatal(err)
	}
	b.t.Cleanup(func() { _ = l.Close() })
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go func() { defer c.Close(); f(c) }()
		}
	}()
}

// Bad devices beside good ones: each ends in a sentence of its own, the good ones
// are found all the same, and the look ends in time.
func TestBadDevicesHoldNothingUp(t *testing.T) {
	t.Parallel()
	b := open(t, app.Options{})
	b.listen(".1.13", 8080, func(c net.Conn) { time.Sleep(20 * time.Second) })
	b.listen(".1.14", 8080, func(c net.Conn) {
		_, _ = c.Read(make([]byte, 4096))
		_, _ = io.WriteString(c, "HTTP/1.1 200 OK\r\nConnection: close\r\n\r\n")
		for range 50 {
			if _, err := c.Write(make([]byte, 1<<20)); err != nil {
				return
			}
		}
	})
	b.listen(".1.17", 8080, func(c net.Conn) { _, _ = io.WriteString(c, "\x00\x01 garbage") })
	b.listen(".1.18", 8554, func(c net.Conn) { time.Sleep(20 * time.Second) })
	b.listen(".1.20", 8554, func(c net.Conn) {
		_, _ = c.Read(make([]byte, 4096))
		_, _ = io.WriteString(c, "RTSP/1.0 200 OK\r\nCSeq: 1\r\n\r\n")
	})
	for _, port := range netplan.Ports() { // silent on every port: it costs only itself
		b.listen(".1.19", port, func(c net.Conn) { _, _ = io.Copy(io.Discard, c) })
	}
	begun := time.Now()
	if r := b.find(); r.Failed > 0 {
		t.Fatalf("%+v", r)
	}
	if took := time.Since(begun); took > 15*time.Second {
		t.Errorf("the look took %v", took)
	}
	b.want("Slipway", stage.Find, stage.Ready)
	for place, part := range map[string]string{
		"Berth 2 ramp":   "the time allowed ran out",
		"Gangway":        "can't be read",
		"Ice plant":      "got no answer",
		"Lifeboat house": "speaks RTSP and no ONVIF",
		"Net loft":       "answers to nothing that was asked",
	} {
		if m := b.mark(place, stage.Find); m.State == stage.Ready || m.State == stage.NotYet || !strings.Contains(m.Sentence, part) {
			t.Errorf("%s: %s %q, want a sentence with %q", place, m.State, m.Sentence, part)
		}
	}
}

// A device that falls silent loses nothing that was known of it.
func TestWhatIsKnownStaysWhenADeviceFallsSilent(t *testing.T) {
	t.Parallel()
	b := open(t, app.Options{})
	b.find()
	b.read(stage.SignIn, "Slipway", "Terminal recorder")
	b.read(stage.Clock, "Slipway")
	before := b.device("Slipway")
	b.Fleet.Close()
	for _, st := range []stage.Stage{stage.SignIn, stage.Clock, stage.Streams} {
		r := b.read(st, "Slipway")
		if r.Failed != 1 {
			t.Errorf("%v of a silent camera: %+v", st, r)
		}
	}
	b.find()
	b.want("Slipway", stage.Find, stage.Blocked)
	v := b.view()
	if _, ok := facts.Account.Of(v, before.ID); !ok {
		t.Error("its account is forgotten")
	}
	if _, ok := facts.Clock.Of(v, before.ID); !ok {
		t.Error("its clock is forgotten")
	}
	if after := b.device("Slipway"); after.UUID != before.UUID || after.Serial != before.Serial || after.UUID == "" {
		t.Errorf("its identity was %q and is %q", before.UUID, after.UUID)
	}
	r := b.read(stage.Channels, "Terminal recorder")
	if r.Failed != 1 || v.RecorderTrouble(b.device("Terminal recorder").ID) != "" && r.Done != 0 {
		t.Errorf("%+v", r)
	}
	if _, ok := site.Recorder.Of(b.view(), b.device("Terminal recorder").ID); !ok {
		t.Error("the recorder's table is forgotten")
	}
}

// The work dies at each step of a change; whatever the step, it ends verified and
// the device was written to once.
func TestAChangeIsMadeOnceWhereverTheWorkDies(t *testing.T) {
	t.Parallel()
	for _, step := range []string{"asked", "sent", "written"} {
		t.Run(step, func(t *testing.T) {
			t.Parallel()
			var died atomic.Bool
			b := open(t, paused(func(at string) {
				if at == step && died.CompareAndSwap(false, true) {
					panic("the work dies here")
				}
			}))
			b.find()
			b.read(stage.SignIn, "Slipway", "Terminal recorder")
			b.read(stage.Streams, "Slipway")
			if r := b.apply(stage.Channels, "Slipway"); r.Failed > 0 || r.Done != 1 {
				t.Fatalf("%+v", r)
			}
			if !died.Load() {
				t.Fatal("the work didn't die")
			}
			all, err := b.Store.Changes(context.Background(), b.Site, 0, 0, 200)
			if err != nil || len(all) != 1 {
				t.Fatalf("%+v %v", all, err)
			}
			want := 1
			if step == "sent" {
				want = 2 // it was marked as sent and never left: it reads as before and is sent again
			}
			if c := all[0]; c.State != "verified" || c.Writes != want {
				t.Errorf("%s: state %s, %d writes, says %q", step, c.State, c.Writes, c.Says)
			}
			status, _ := site.Recorder.Of(b.view(), b.device("Terminal recorder").ID)
			if len(status.Slots) != 1 || status.Slots[0].Name != "Slipway" {
				t.Errorf("the recorder holds %+v", status.Slots)
			}
		})
	}
}

// A change that someone else has made otherwise in the meantime asks a person.
func TestAThingThatReadsNeitherFromNorToIsAsked(t *testing.T) {
	t.Parallel()
	b := open(t, app.Options{})
	b.find()
	b.read(stage.SignIn, "Berth 1 ramp", "Terminal recorder")
	b.read(stage.Clock, "Berth 1 ramp")
	d := b.device("Berth 1 ramp")
	picks := []engine.Pick{{Source: b.source(d), Changes: b.proposals(d, stage.Clock)[:1]}}
	picks[0].Changes[0].From, picks[0].Changes[0].Args["old_zone"] = "UTC+5 · daylight off", "UTC+5" // which it never read
	b.wait(b.app.Apply(context.Background(), engine.Ask{Site: b.Site, Stage: stage.Clock, Title: "Apply"}, picks))
	all, err := b.Store.Changes(context.Background(), b.Site, 0, 0, 200)
	if err != nil || len(all) != 1 || all[0].State != "asks" || all[0].Writes != 0 {
		t.Fatalf("%+v %v", all, err)
	}
}

// A stopped run sends nothing more.
func TestAStoppedRunSendsNothing(t *testing.T) {
	t.Parallel()
	release := make(chan struct{})
	b := open(t, paused(func(at string) {
		if at == "asked" {
			<-release
		}
	}))
	b.find()
	b.read(stage.SignIn, "Slipway", "Terminal recorder")
	b.read(stage.Streams, "Slipway")
	d := b.device("Slipway")
	run, err := b.app.Apply(context.Background(), engine.Ask{Site: b.Site, Stage: stage.Channels, Title: "Apply"},
		[]engine.Pick{{Source: b.source(d), Changes: b.proposals(d, stage.Channels)}})
	if err != nil {
		t.Fatal(err)
	}
	if _, err := b.app.Apply(context.Background(), engine.Ask{Site: b.Site, Stage: stage.Channels, Title: "Apply"},
		[]engine.Pick{{Source: b.source(d), Changes: b.proposals(d, stage.Channels)}}); !trouble.IsUserError(err) {
		t.Errorf("the same change is asked for twice: %v", err)
	}
	if picks, underWay, err := b.app.Propose(context.Background(), b.Site, stage.Channels,
		[]store.Target{{Device: d.ID, Source: b.source(d).ID}}); err != nil || len(picks) != 0 || underWay != 1 {
		t.Errorf("what is under way is proposed again: %+v, %d, %v", picks, underWay, err)
	}
	if err := b.Store.StopRun(context.Background(), b.Site, run); err != nil {
		t.Fatal(err)
	}
	close(release)
	b.wait(run, nil)
	all, err := b.Store.Changes(context.Background(), b.Site, 0, 0, 200)
	if err != nil || len(all) != 1 || all[0].Writes != 0 || all[0].State != "failed" || !strings.Contains(all[0].Says, "stopped") {
		t.Errorf("%+v %v", all, err)
	}
}

// A person takes a peg and a placement back: the recorder hears nothing of the camera
// any more, and the channel is free. What was changed again since can't be taken back.
func TestAPersonTakesChangesBack(t *testing.T) {
	t.Parallel()
	b := open(t, app.Options{})
	ctx := context.Background()
	b.place("Slipway")
	b.read(stage.Routes, "Slipway")
	b.apply(stage.Routes, "Slipway")
	all, err := b.Store.Changes(ctx, b.Site, 0, 0, 10)
	if err != nil || len(all) != 3 {
		t.Fatalf("%+v %v", all, err)
	}
	for _, c := range all { // newest first: the pegs, then the channel
		if r := b.wait(b.undo(ctx, c)); r.Failed > 0 {
			t.Fatalf("%s isn't taken back: %+v", c.Title, r)
		}
		if c, err = b.Store.Change(ctx, c.ID); err != nil || c.State != store.Undone {
			t.Errorf("%s is %s", c.Title, c.State)
		}
		if _, err := b.undo(ctx, c); !trouble.IsUserError(err) {
			t.Errorf("%s is taken back twice: %v", c.Title, err)
		}
	}
	status, _ := site.Recorder.Of(b.view(), b.device("Terminal recorder").ID)
	if len(status.Slots) != 0 {
		t.Errorf("the recorder still holds %+v", status.Slots)
	}
	b.want("Slipway", stage.Channels, stage.Needs)
}

// Wrong sets cost at most two tries, each written down, and the camera is left alone.
func TestWrongPasswordsEndAtTheBudget(t *testing.T) {
	t.Parallel()
	b := open(t, app.Options{})
	ctx := context.Background()
	if _, err := b.Store.Pool.Exec(ctx, `update credential_set set sealed = $1 where name = 'House account'`,
		b.seal("not it", "House account")); err != nil {
		t.Fatal(err)
	}
	b.find()
	for range 3 {
		b.read(stage.SignIn, "Slipway")
	}
	tries, err := b.Store.Tries(ctx, b.device("Slipway").ID)
	if err != nil || len(tries) != 2 {
		t.Errorf("%d tries were sent: %+v %v", len(tries), tries, err)
	}
	if m := b.mark("Slipway", stage.SignIn); m.Words != "0 tries left" {
		t.Errorf("%+v", m)
	}
	if res, err := http.Get("http://" + b.Net.At(".1.11").String() + ":8080/"); err != nil || res.StatusCode != http.StatusOK {
		t.Errorf("the camera isn't well: %v", err)
	}
}

func (b *fixture) seal(secret, name string) []byte {
	b.t.Helper()
	var id int64
	if err := b.Store.Pool.QueryRow(context.Background(), `select id from credential_set where name = $1`, name).Scan(&id); err != nil {
		b.t.Fatal(err)
	}
	sealed, err := b.Vault.Seal(secret, store.SetPlace(id))
	if err != nil {
		b.t.Fatal(err)
	}
	return sealed
}

// Nobody walks: both legs are missed, and that is what is shown. Then what the proof
// rests on changes, and it goes stale.
func TestAWalkThatNobodyWalks(t *testing.T) {
	t.Parallel()
	b := open(t, app.Options{})
	ctx := context.Background()
	b.place("Slipway")
	d := b.device("Slipway")
	walk := store.NewRun{Site: b.Site, Stage: stage.Prove, Act: store.Prove, Title: "Walk", Of: store.OfDevices(d.ID)}
	if r := b.wait(b.app.Begin(ctx, walk, true)); r.Failed != 1 {
		t.Errorf("a camera without a route was walked: %+v", r)
	}
	b.read(stage.Routes, "Slipway")
	b.apply(stage.Routes, "Slipway")
	b.wait(b.app.Begin(ctx, walk, false))
	if m := b.mark("Slipway", stage.Prove); m.State != stage.Blocked || m.Words != "missed" {
		t.Errorf("%+v", m)
	}
	b.wait(b.app.Begin(ctx, walk, true)) // by its line
	if m := b.mark("Slipway", stage.Prove); m.State != stage.Needs || m.Words != "1 of 2" {
		t.Errorf("one of two routes was walked: %+v", m)
	}
	b.wait(b.app.Begin(ctx, walk, true)) // and by its area
	b.want("Slipway", stage.Prove, stage.Ready)
	f := facts.ForRoutes(b.view(), b.source(d))
	pull := route.Change(f, f.Pegs[0].Topic, f.Pegs[0].Input, "", false)
	b.wait(b.app.Apply(ctx, engine.Ask{Site: b.Site, Stage: stage.Routes, Title: "Pull"},
		[]engine.Pick{{Source: b.source(d), Changes: []finding.Change{pull}}}))
	b.want("Slipway", stage.Prove, stage.Stale)
}
