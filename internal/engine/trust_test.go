package engine_test

import (
	"context"
	"net/netip"
	"os"
	"strings"
	"testing"
	"time"

	"duskyharbor/internal/app"
	"duskyharbor/internal/core/access"
	"duskyharbor/internal/core/fact"
	"duskyharbor/internal/core/identity"
	"duskyharbor/internal/core/stage"
	"duskyharbor/internal/facts"
	"duskyharbor/internal/site"
	"duskyharbor/internal/standin/camera"
	"duskyharbor/internal/store"
	"duskyharbor/internal/testbed"
)

// An account that was refused after its password was changed elsewhere costs one try, and
// nothing sends it again by itself: no stage, no later run. A person may.
func TestARefusedAccountIsNotSentAgainByItself(t *testing.T) {
	t.Parallel()
	b := open(t, app.Options{})
	at, network := b.quayAt(".1.35")
	cam := b.beside(camera.Config{Place: "Winch", Make: "Ottervale", Model: "OTV 412", Serial: "WNC-1", MAC: "02:d5:1a:99:00:03", UUID: "7d7b8a10-0000-4000-8000-000000000035", Firmware: "4.1.7",
		Address: at, Network: network, Username: "otter", Password: b.Secrets.House, TakesDigest: true, NoAnalytics: true, Manners: camera.Manners{LockAfter: 99, LockFor: time.Hour}}, true)
	b.find()
	b.read(stage.SignIn, "Winch")
	b.read(stage.Clock, "Winch")
	b.want("Winch", stage.SignIn, stage.Ready)
	house := *b.device("Winch").OpenedSet
	cam.Repassword("otter", "changed by somebody else")

	b.read(stage.Clock, "Winch")
	if n := cam.Wrongs(); n != 1 {
		t.Errorf("reading the clock cost %d wrong tries, want 1", n)
	}
	if m := b.mark("Winch", stage.SignIn); m.State != stage.Blocked || !strings.Contains(m.Sentence, "House account opened it before and was refused (Clock,") {
		t.Errorf("Sign-in says %s: %q", m.State, m.Sentence)
	}
	tries, err := b.Store.Tries(t.Context(), b.device("Winch").ID)
	if err != nil || len(tries) == 0 || tries[len(tries)-1].Outcome != access.Wrong || tries[len(tries)-1].SetID != house {
		t.Errorf("the try isn't written down: %+v %v", tries, err)
	}
	for _, st := range []stage.Stage{stage.Clock, stage.Streams, stage.Routes, stage.Clock} {
		b.read(st, "Winch")
	}
	if n := cam.Wrongs(); n != 1 {
		t.Errorf("other stages sent it again: %d wrong tries", n)
	}
	b.triesAreOver()
	b.read(stage.SignIn, "Winch")
	tries, err = b.Store.Tries(t.Context(), b.device("Winch").ID)
	if err != nil {
		t.Fatal(err)
	}
	for _, x := range tries {
		if x.SetID == house {
			t.Errorf("signing in sent it again by itself: %+v", x)
		}
	}
	// A person asks for that set by name.
	cam.Repassword("otter", b.Secrets.House)
	b.triesAreOver()
	b.wait(b.app.Begin(context.Background(), store.NewRun{Site: b.Site, Stage: stage.SignIn, Act: store.Read, Title: "Once more",
		Of: store.OfDevices(b.device("Winch").ID), Set: house}, false))
	b.want("Winch", stage.SignIn, stage.Ready)
	if d := b.device("Winch"); len(d.Refused) != 0 && d.Refused[0] == house {
		t.Errorf("it opens, and is kept as refused: %v", d.Refused)
	}
}

// beside starts a camera of its own beside the harbour's, listed or not.
func (b *fixture) beside(cfg camera.Config, listed bool) *camera.Camera {
	b.t.Helper()
	c, err := camera.Start(b.t.Context(), cfg)
	if err != nil {
		b.t.Fatal(err)
	}
	b.t.Cleanup(c.Close)
	if listed {
		if _, err := b.Store.AddDevice(b.t.Context(), store.Device{SiteID: b.Site, Kind: identity.Camera, Place: cfg.Place, Make: cfg.Make,
			Model: cfg.Model, Address: &cfg.Address, ExpectedAt: &cfg.Address, Expected: true}); err != nil {
			b.t.Fatal(err)
		}
	}
	return c
}

// quayAt is an address of the first network, with its prefix.
func (b *fixture) quayAt(rest string) (netip.Addr, netip.Prefix) {
	return b.Net.At(rest), b.Net.Prefix(1)
}

// thief is a camera that shows what Slipway shows, and takes any account to see it.
func (b *fixture) thief(rest string) camera.Config {
	cfg := b.Fleet.Camera("Slipway").Config()
	at, network := b.quayAt(rest)
	return camera.Config{Place: "Thief", Make: cfg.Make, Model: cfg.Model, Serial: cfg.Serial, MAC: cfg.MAC, UUID: cfg.UUID, Firmware: cfg.Firmware,
		Address: at, Network: network, Username: "otter", Password: "whatever it is told", TakesDigest: true, Quiet: true, Manners: camera.Manners{LockAfter: 99, LockFor: time.Hour}}
}

// What repeats a camera's marks is given no account: not while the camera answers, not once it
// is silent, not at its own address, and no name moves to it. A person's word moves it.
func TestAThiefIsGivenNoAccount(t *testing.T) {
	t.Parallel()
	b := open(t, app.Options{})
	all := func() {
		b.readAll(stage.SignIn)
		b.readAll(stage.Clock)
		b.readAll(stage.Streams)
	}
	b.find()
	b.read(stage.SignIn, "Slipway")
	b.want("Slipway", stage.SignIn, stage.Ready)
	was := b.device("Slipway")
	offered := func(d store.Device) int {
		n, err := b.Store.Count(t.Context(), store.Selection{Site: b.Site, IDs: []int64{b.source(d).ID}, Ready: stage.SignIn})
		if err != nil {
			t.Fatal(err)
		}
		return n
	}
	if offered(was) != 1 {
		t.Error("it isn't offered to be signed in to")
	}

	thief := b.beside(b.thief(".1.77"), false)
	b.find()
	if got := b.codes(b.device("Slipway")); !strings.Contains(got, "access.doubt") || !strings.Contains(got, "find.echoed") {
		t.Errorf("while both answer: %s", got)
	}
	row := b.device(b.Net.At(".1.77").String())
	if got := b.codes(row); !strings.Contains(got, "access.doubt") || !strings.Contains(got, "find.claims") {
		t.Errorf("the thief: %s", got)
	}
	if offered(was) != 0 || offered(row) != 0 {
		t.Error("what is in doubt is offered to be signed in to")
	}
	all()
	b.Fleet.Camera("Slipway").Close()
	for range 2 {
		b.find()
		d := b.device("Slipway")
		if d.Address == nil || *d.Address != *was.Address || d.UUID != was.UUID {
			t.Fatalf("its name went to %v", d.Address)
		}
		if got := b.codes(d); !strings.Contains(got, "find.moved-unproven") || !strings.Contains(got, "access.doubt") {
			t.Errorf("once it is silent: %s", got)
		}
		all()
	}
	if n := thief.Wrongs(); n != 0 {
		t.Errorf("%d accounts reached the thief", n)
	}
	tries, err := b.Store.Tries(t.Context(), row.ID)
	if err != nil || len(tries) != 0 {
		t.Errorf("tries on the thief: %+v %v", tries, err)
	}
}

// A thief that waits until the camera has been silent for some looks gets no more.
func TestAThiefThatWaitsIsGivenNoAccount(t *testing.T) {
	t.Parallel()
	b := open(t, app.Options{})
	b.find()
	b.read(stage.SignIn, "Slipway")
	was := b.device("Slipway")
	b.Fleet.Camera("Slipway").Close()
	b.find()
	b.find()
	thief := b.beside(b.thief(".1.78"), false)
	for range 2 {
		b.find()
		d := b.device("Slipway")
		if d.Address == nil || *d.Address != *was.Address || !strings.Contains(b.codes(d), "find.moved-unproven") {
			t.Fatalf("its name went to %v: %s", d.Address, b.codes(d))
		}
		b.readAll(stage.SignIn)
	}
	if n := thief.Wrongs(); n != 0 {
		t.Errorf("%d accounts reached the thief", n)
	}
}

// moved is a stand-in's memory with another address, as its network gave it.
func moved(t *testing.T, state string, was, at netip.Addr) string {
	t.Helper()
	raw, err := os.ReadFile(state)
	if err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(state, []byte(strings.ReplaceAll(string(raw), was.String(), at.String())), 0o600); err != nil {
		t.Fatal(err)
	}
	return state
}

// A camera that was moved shows itself by its certificate, and keeps its name; where it has
// none, a person says so, and what opened it goes first.
func TestAMovedCameraIsKnownByItsCertificateOrAPersonsWord(t *testing.T) {
	t.Parallel()
	b := open(t, app.Options{})
	at, network := b.quayAt(".1.31")
	state := t.TempDir() + "/state"
	cfg := camera.Config{Place: "Proven", Make: "Ottervale", Model: "OTV 412", Serial: "PRV-1", MAC: "02:d5:1a:99:00:01", UUID: "7d7b8a10-0000-4000-8000-000000000031", Firmware: "4.1.7",
		Address: at, Network: network, Username: "otter", Password: b.Secrets.House, TakesDigest: true, Quiet: true, StateFile: state, Manners: camera.Manners{TLS: true}}
	cam := b.beside(cfg, true)
	b.find()
	b.read(stage.SignIn, "Proven", "Slipway")
	b.want("Proven", stage.SignIn, stage.Ready)

	// Its network gives it another address: its certificate goes with it.
	cam.Close()
	cfg.Address, cfg.StateFile = b.Net.At(".1.32"), moved(t, state, b.Net.At(".1.31"), b.Net.At(".1.32"))
	b.beside(cfg, false)
	b.find()
	if d := b.device("Proven"); d.Address == nil || *d.Address != cfg.Address {
		t.Errorf("its certificate shows who it is, and it is kept at %v: %s", d.Address, b.sentences(d))
	}
	if got := b.codes(b.device("Proven")); !strings.Contains(got, "find.moved?") {
		t.Errorf("that it moved isn't said: %s", got)
	}
	b.find() // and holds until somebody settles it, not for one look
	if got := b.codes(b.device("Proven")); !strings.Contains(got, "find.moved?") {
		t.Errorf("that it moved is forgotten at the second look: %s", got)
	}
	b.read(stage.SignIn, "Proven")
	b.want("Proven", stage.SignIn, stage.Ready)

	// Slipway has none.
	slip := b.Fleet.Camera("Slipway")
	plain := slip.Config()
	slip.Close()
	plain.Address, plain.StateFile = b.Net.At(".1.33"), ""
	b.beside(plain, false)
	b.find()
	d := b.device("Slipway")
	if got := b.codes(d); !strings.Contains(got, "find.moved-unproven") {
		t.Errorf("without a certificate: %s", got)
	}
	v := b.view()
	row := b.device(b.Net.At(".1.33").String())
	seen, _ := facts.Seen.Of(v, row.ID)
	now := time.Now().UTC()
	if err := b.Store.TakeAddresses(t.Context(), b.Site, []store.TakenAddress{{Device: d.ID, Seen: seen, Newcomer: row.ID,
		LookFacts: []store.NewFact{facts.Seen.New(d.ID, "look", now, seen), facts.Scanned.New(d.ID, "a person", now, identity.Scan{At: now, Outcome: identity.Matched})}}}); err != nil {
		t.Fatal(err)
	}
	b.read(stage.SignIn, "Slipway")
	b.want("Slipway", stage.SignIn, stage.Ready)
	if d := b.device("Slipway"); d.Address == nil || *d.Address != plain.Address {
		t.Errorf("it is kept at %v", d.Address)
	}
}

// Basic gives the password away to whoever answers: also over HTTPS it takes a person's leave,
// which ends when the certificate is another.
func TestBasicTakesALeaveThatEnds(t *testing.T) {
	t.Parallel()
	b := open(t, app.Options{})
	at, network := b.quayAt(".1.34")
	cam := b.beside(camera.Config{Place: "In clear", Make: "Ottervale", Model: "OTV 412", Serial: "BSC-1", MAC: "02:d5:1a:99:00:02", UUID: "7d7b8a10-0000-4000-8000-000000000034", Firmware: "4.1.7",
		Address: at, Network: network, Username: "otter", Password: b.Secrets.House, TakesBasic: true, NoAnalytics: true, Manners: camera.Manners{TLS: true, LockAfter: 99, LockFor: time.Hour}}, true)
	b.find()
	b.read(stage.SignIn, "In clear")
	if got := b.codes(b.device("In clear")); !strings.Contains(got, "access.basic") {
		t.Errorf("without a leave: %s", got)
	}
	allow := func() {
		v, d := b.view(), b.device("In clear")
		seen, _ := facts.Seen.Of(v, d.ID)
		seen.Cert, _ = facts.ShownPin.Of(v, d.ID)
		w := identity.WordOn(seen)
		if err := b.Store.AllowBasic(t.Context(), d.ID, &w); err != nil {
			t.Fatal(err)
		}
	}
	allow()
	b.read(stage.SignIn, "In clear")
	b.want("In clear", stage.SignIn, stage.Ready)

	post(t, cam, "/certificate")
	cam.Repassword("otter", "another")
	b.read(stage.SignIn, "In clear")
	if got := b.codes(b.device("In clear")); !strings.Contains(got, "access.certificate") {
		t.Errorf("with another certificate: %s", got)
	}
	f, _ := facts.ForAccess(b.view(), time.Now(), b.device("In clear"))
	if err := b.Store.KeepFacts(t.Context(), facts.Pin.New(b.device("In clear").ID, "a person trusted it", time.Now().UTC(), f.Shown)); err != nil {
		t.Fatal(err)
	}
	wrong := cam.Wrongs()
	b.read(stage.SignIn, "In clear")
	if n := cam.Wrongs(); n != wrong {
		t.Errorf("the leave outlived the certificate: %d sign-ins", n-wrong)
	}
}

// Streams that take another account than ONVIF are asked once, at signing in: no later reading
// sends it again. What opens every few seconds keeps one try.
func TestStreamsAndStillsAreAskedOnce(t *testing.T) {
	t.Parallel()
	b := open(t, app.Options{})
	at, network := b.quayAt(".1.36")
	cam := b.beside(camera.Config{Place: "Apart", Make: "Ottervale", Model: "OTV 412", Serial: "APT-1", MAC: "02:d5:1a:99:00:04", UUID: "7d7b8a10-0000-4000-8000-000000000036", Firmware: "4.1.7",
		Address: at, Network: network, Username: "otter", Password: b.Secrets.House, TakesDigest: true, NoAnalytics: true,
		Manners: camera.Manners{LockAfter: 99, LockFor: time.Hour, RTSPUser: "streams", RTSPPassword: "nobody here knows it"}}, true)
	b.find()
	b.read(stage.SignIn, "Apart", "Slipway")
	wrong := cam.Wrongs()
	if got := b.codes(b.device("Apart")); !strings.Contains(got, "access.rtsp") {
		t.Errorf("that its streams take another account isn't said: %s", got)
	}
	for range 2 {
		if r := b.read(stage.Streams, "Apart"); r.Failed != 1 {
			t.Errorf("its streams are read: %+v", r)
		}
	}
	if n := cam.Wrongs(); n != wrong {
		t.Errorf("Streams sent it %d times more", n-wrong)
	}
	b.want("Apart", stage.SignIn, stage.Needs) // ONVIF takes it all the same

	b.read(stage.Streams, "Slipway")
	of := b.source(b.device("Slipway"))
	count := func() (n int) {
		t.Helper()
		if err := b.Store.Pool.QueryRow(t.Context(), `select count(*) from try where device_id = $1`, of.Device.ID).Scan(&n); err != nil {
			t.Fatal(err)
		}
		return n
	}
	if _, err := b.app.Streams.Still(t.Context(), of); err != nil {
		t.Fatal(err)
	}
	before := count()
	for range 5 {
		if _, err := b.app.Streams.Still(t.Context(), of); err != nil {
			t.Fatal(err)
		}
	}
	if n := count(); n != before {
		t.Errorf("five stills left %d tries more", n-before)
	}
}

// A recorder's account is a try like any other: what it refuses isn't sent again by whatever
// reads it, until a person gives it another account or password; what opens is no try more
// than once, and a recorder in doubt gets none.
func TestARecordersAccountIsATry(t *testing.T) {
	t.Parallel()
	b := open(t, app.Options{})
	ctx := t.Context()
	b.find()
	rec := b.device("Terminal recorder")
	set := access.Set{ID: *rec.SetID}
	all, err := b.Store.Sets(ctx, b.Site)
	if err != nil {
		t.Fatal(err)
	}
	for _, x := range all {
		if x.ID == set.ID {
			set = x.Set
		}
	}
	seal := func(password string) {
		t.Helper()
		if _, err := b.Store.SetSet(ctx, b.Site, set, func(place string) ([]byte, error) { return b.Vault.Seal(password, place) }); err != nil {
			t.Fatal(err)
		}
	}
	tries := func(o access.Outcome) (n int) {
		t.Helper()
		all, err := b.Store.Tries(ctx, rec.ID)
		if err != nil {
			t.Fatal(err)
		}
		for _, x := range all {
			if x.Outcome == o {
				n++
			}
		}
		return n
	}
	seal("not the recorder's password")
	for range 3 {
		b.read(stage.Channels, "Slipway", "Terminal recorder")
	}
	if n := tries(access.Wrong); n != 1 {
		t.Errorf("what was refused was sent %d times", n)
	}
	asked, _ := site.Reached.Of(b.view(), rec.ID)
	if !strings.Contains(asked.Trouble, "isn't sent again by itself") {
		t.Errorf("it is told: %q", asked.Trouble)
	}
	seal(b.Secrets.Terminal)
	for range 3 {
		b.read(stage.Channels, "Slipway", "Terminal recorder")
	}
	if asked, _ := site.Reached.Of(b.view(), rec.ID); asked.Trouble != "" {
		t.Errorf("with its own password: %s", asked.Trouble)
	}
	testbed.Until(t, 20*time.Second, "no try is open", func() bool { return tries(access.Pending) == 0 })
	if wrong, opened := tries(access.Wrong), tries(access.Opened); wrong != 1 || opened != 1 {
		t.Errorf("%d wrong, %d opened", wrong, opened)
	}
	// Another certificate at its address is another device until a person says otherwise.
	testbed.Until(t, 30*time.Second, "it shows another certificate", func() bool { // a reading under way may keep the one that it saw
		if err := b.Store.KeepFacts(ctx, facts.RecorderPin.New(rec.ID, "test", time.Now().UTC(), "00")); err != nil {
			t.Fatal(err)
		}
		b.read(stage.Channels, "Slipway", "Terminal recorder")
		asked, _ := site.Reached.Of(b.view(), rec.ID)
		return strings.Contains(asked.Trouble, "certificate")
	})
	// A reading of the product's own may be under way: it ends, and sent nothing either.
	testbed.Until(t, 20*time.Second, "no try is open", func() bool { return tries(access.Pending) == 0 })
	if wrong, opened := tries(access.Wrong), tries(access.Opened); wrong != 1 || opened != 1 {
		t.Errorf("what shows another certificate was sent an account: %d wrong, %d opened", wrong, opened)
	}
}

// A clock that is watched is read again and again without anybody pressing; two who ask at once
// get one watching.
func TestAWatchedClockIsReadAgainAndAgain(t *testing.T) {
	t.Parallel()
	b := open(t, app.Options{})
	ctx := t.Context()
	b.find()
	b.read(stage.SignIn, "Slipway")
	b.read(stage.Clock, "Slipway")
	of := b.source(b.device("Slipway"))
	readings := func() int {
		t.Helper()
		past, err := b.Store.History(ctx, of.Device.ID, fact.Clock, 40)
		if err != nil {
			t.Fatal(err)
		}
		return len(past)
	}
	before := readings()
	first, err := b.app.Clock.Watch(ctx, of, 50*time.Millisecond, 200)
	if err != nil {
		t.Fatal(err)
	}
	again, err := b.app.Clock.Watch(ctx, of, 50*time.Millisecond, 200)
	if err != nil || !again.Equal(first.Truncate(time.Microsecond)) && again.Sub(first).Abs() > time.Millisecond {
		t.Errorf("asked twice it ends at %s and at %s, %v", first, again, err)
	}
	var jobs int
	if err := b.Store.Pool.QueryRow(ctx, `select count(*) from river_job where kind = 'follow' and finalized_at is null`).Scan(&jobs); err != nil || jobs > 1 {
		t.Errorf("%d watchings are under way, %v", jobs, err)
	}
	testbed.Until(t, 30*time.Second, "it is read four times more", func() bool { return readings() >= before+4 })
}
