package engine_test

import (
	"context"
	"fmt"
	"io"
	"net"
	"net/http"
	"strings"
	"sync"
	"testing"
	"time"

	"duskyharbor/internal/app"
	"duskyharbor/internal/core/access"
	"duskyharbor/internal/core/finding"
	"duskyharbor/internal/core/identity"
	"duskyharbor/internal/core/netplan"
	"duskyharbor/internal/core/stage"
	"duskyharbor/internal/engine"
	"duskyharbor/internal/facts"
	"duskyharbor/internal/store"
	"duskyharbor/internal/testbed"
)

// ipChange is the change of a camera's address, as it has settings now.
func (b *fixture) ipChange(place, rest string) finding.Change {
	b.t.Helper()
	f, _ := facts.ForIdentity(b.view(), b.device(place))
	if f.IPConfig == nil {
		b.t.Fatalf("the address settings of %s weren't read", place)
	}
	to := netplan.IPConfig{Address: b.Net.At(rest), Bits: f.IPConfig.Bits, Gateway: f.IPConfig.Gateway}
	return identity.ChangeIPConfig(*f.IPConfig, to)
}

// Servers died twice in a try: nothing is sent until the time is over, and then what
// opened the camera before goes first.
func TestWhatOpenedItGoesFirstOnceATryIsLeft(t *testing.T) {
	t.Parallel()
	b := open(t, app.Options{})
	b.find()
	b.read(stage.SignIn, "Slipway")
	was, cam := b.device("Slipway"), b.Fleet.Camera("Slipway")
	if was.OpenedSet == nil {
		t.Fatal("nothing opens it")
	}
	if _, err := b.Store.Pool.Exec(t.Context(), `with c as (update device set tries = tries + 2 where id = $1)
		insert into try (device_id, set_id, set_name, scheme) select $1, s.id, s.name, 'HTTP Digest'
		from credential_set s, generate_series(1, 2) where s.site_id = $2 and s.id = (select min(id) from credential_set where id <> $3)`,
		was.ID, b.Site, *was.OpenedSet); err != nil {
		t.Fatal(err)
	}
	signed := cam.Served("GetDeviceInformation")
	b.read(stage.SignIn, "Slipway")
	if n := cam.Served("GetDeviceInformation"); n != signed {
		t.Errorf("it was signed in to %d times", n-signed)
	}
	if got := b.sentences(was); b.codes(was) != "access.budget" || !strings.Contains(got, "2 tries that were wrong or had no plain answer within 30 minutes") {
		t.Errorf("%s", got)
	}
	if d := b.device("Slipway"); d.OpenedSet == nil || *d.OpenedSet != *was.OpenedSet {
		t.Error("what opened it is forgotten, and was never refused")
	}
	b.triesAreOver()
	b.read(stage.SignIn, "Slipway")
	tries, err := b.Store.Tries(t.Context(), was.ID)
	if err != nil || len(tries) != 2 || tries[0].SetID != *was.OpenedSet || tries[0].Outcome != access.Opened {
		t.Errorf("%+v %v", tries, err)
	}
}

// Nothing is moved onto an address that answers: it isn't proposed, and where a person
// asks for it all the same, the address is asked first, and nobody there is signed in to.
func TestNothingIsMovedOntoATakenAddress(t *testing.T) {
	t.Parallel()
	b := open(t, app.Options{})
	b.find()
	b.read(stage.SignIn, "Slipway", "Berth 1 ramp")
	there := b.Fleet.Camera("Berth 1 ramp")
	signed := there.Served("GetNetworkInterfaces")
	r := b.once(stage.Find, "Slipway", b.ipChange("Slipway", ".1.12"))
	all, err := b.Store.ChangesOf(t.Context(), b.source(b.device("Slipway")), 1)
	if err != nil || r.Failed != 1 || len(all) != 1 || all[0].State != store.Failed || !strings.Contains(all[0].Says,
		"127") || !strings.Contains(all[0].Says, "is taken: another device answers there") {
		t.Fatalf("%+v: %+v, %v", r, all, err)
	}
	if cam := b.Fleet.Camera("Slipway"); cam.At() != b.Net.At(".1.11") || *b.device("Slipway").Address != cam.At() {
		t.Errorf("it is at %s", cam.At())
	}
	if n := there.Served("GetNetworkInterfaces"); n != signed || there.Wrongs() > 0 {
		t.Errorf("the other was signed in to: %d calls, %d wrong", n-signed, there.Wrongs())
	}
	// Outside every network, and its place on the list is held by another.
	mast := b.device("Net loft")
	if _, err := b.Store.Pool.Exec(t.Context(), `update device set expected_at = $2, address = $3, expected = true where id = $1`, mast.ID, b.Net.At(".1.11"), b.Net.At(".250.64")); err != nil {
		t.Fatal(err)
	}
	seen := identity.Sighting{Address: b.Net.At(".250.64"), At: time.Now(), Ways: []identity.Way{identity.Directed}, Service: "http://x/"}
	if err := b.Store.KeepFacts(t.Context(), facts.Seen.New(mast.ID, "test", time.Now(), seen),
		facts.Scanned.New(mast.ID, "test", time.Now(), identity.Scan{At: time.Now(), Outcome: identity.Moved})); err != nil {
		t.Fatal(err)
	}
	v := b.view()
	if got := b.app.Proposals(time.Now(), v, v.Of(b.device("Net loft")), stage.Find); len(got) != 0 {
		t.Errorf("proposed: %+v", got)
	}
	if says := b.sentences(b.device("Net loft")); !strings.Contains(says, "find.factory-address") {
		t.Error(says)
	}
	for _, f := range b.app.Findings(time.Now(), v, v.Of(b.device("Net loft")), stage.Find) {
		if f.Code == "find.factory-address" && !strings.Contains(f.WayOut, "is taken: Slipway answers there") {
			t.Error(f.WayOut)
		}
	}
}

// Somebody else comes to the new address while the device is on its way: no account is
// sent there, and a person is asked.
func TestWhoeverAnswersAtTheNewAddressGetsNoAccount(t *testing.T) {
	t.Parallel()
	b, cams := startNonconforming(t)
	place := "Moves and is lost"
	b.find()
	b.read(stage.SignIn, place)
	var mu sync.Mutex
	var heard []string
	thief := &http.Server{Handler: http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		body, _ := io.ReadAll(io.LimitReader(r.Body, 1<<20))
		mu.Lock()
		heard = append(heard, r.Header.Get("Authorization")+string(body))
		mu.Unlock()
		w.Header().Set("WWW-Authenticate", `Digest realm="x", nonce="y"`)
		w.WriteHeader(http.StatusUnauthorized)
	})}
	t.Cleanup(func() { _ = thief.Close() })
	ch := b.ipChange(place, ".3.78")
	run, err := b.app.Once(t.Context(), engine.Ask{Stage: stage.Find}, b.source(b.device(place)), ch)
	if err != nil {
		t.Fatal(err)
	}
	testbed.Until(t, 20*time.Second, "it was told to move", func() bool { return cams[place].Served("SetNetworkInterfaces") > 0 })
	l, err := net.Listen("tcp4", net.JoinHostPort(b.Net.At(".3.78").String(), "8080"))
	if err != nil {
		t.Fatal(err)
	}
	go func() { _ = thief.Serve(l) }()
	if r := b.wait(run, nil); r.Failed != 1 {
		t.Errorf("%+v", r)
	}
	all, err := b.Store.ChangesOf(t.Context(), b.source(b.device(place)), 1)
	if err != nil || len(all) != 1 || all[0].State != store.Asks {
		t.Errorf("%+v %v", all, err)
	}
	mu.Lock()
	defer mu.Unlock()
	for _, h := range heard {
		if strings.Contains(h, "Digest ") || strings.Contains(h, "Password") || strings.Contains(h, "otter") {
			t.Errorf("an account was sent to it: %.200s", h)
		}
	}
}

// A device takes a change and says nothing more: the change is settled, those after it
// aren't sent, and it can be asked for again.
func TestAChangeThatHangsIsSettled(t *testing.T) {
	t.Parallel()
	b := open(t, app.Options{Options: engine.Options{ChangeLimit: 8 * time.Second}})
	b.find()
	b.read(stage.SignIn, "Berth 1 ramp", "Terminal recorder")
	b.read(stage.Clock, "Berth 1 ramp")
	cam := b.Fleet.Camera("Berth 1 ramp")
	cam.Stall("SetSystemDateAndTime")
	if r := b.apply(stage.Clock, "Berth 1 ramp"); r.Failed != 1 {
		t.Fatalf("%+v", r)
	}
	all, err := b.Store.ChangesOf(t.Context(), b.source(b.device("Berth 1 ramp")), 9)
	if err != nil || len(all) < 2 {
		t.Fatalf("%+v %v", all, err)
	}
	asks := 0
	for _, c := range all {
		if c.Open() {
			t.Errorf("%s is still %s", c.Title, c.State)
		}
		if c.State == store.Asks {
			asks++
		}
		if strings.Contains(c.Says, "context") {
			t.Errorf("told in Go's words: %s", c.Says)
		}
	}
	if asks != 1 {
		t.Errorf("%d changes ask a person: %+v", asks, all)
	}
	cam.Stall("")
	if r := b.apply(stage.Clock, "Berth 1 ramp"); r.Failed != 0 {
		t.Errorf("asked for again: %+v", r)
	}
}

// A table of ours is locked for longer than our own limits: nothing of that is told as
// the device's, and the step is done once the lock is gone.
func TestALockedTableIsOursAndTriedAgain(t *testing.T) {
	t.Parallel()
	b := open(t, app.Options{})
	b.find()
	b.read(stage.SignIn, "Slipway")
	ctx := t.Context()
	tx, err := b.Store.Pool.Begin(ctx)
	if err != nil {
		t.Fatal(err)
	}
	defer tx.Rollback(context.WithoutCancel(ctx))
	if _, err := tx.Exec(ctx, `lock table mark in access exclusive mode`); err != nil {
		t.Fatal(err)
	}
	n := store.NewRun{Site: b.Site, Stage: stage.Clock, Act: store.Read, Title: "Read", Of: store.OfDevices(b.device("Slipway").ID)}
	run, err := b.app.Begin(ctx, n, false)
	if err != nil {
		t.Fatal(err)
	}
	testbed.Until(t, 40*time.Second, "it is held up", func() bool {
		steps, err := b.Store.StepsOf(ctx, run, 1)
		return err == nil && len(steps) == 1 && strings.Contains(steps[0].Says, "something in this server held it up")
	})
	if err := tx.Rollback(ctx); err != nil {
		t.Fatal(err)
	}
	if r := b.wait(run, nil); r.Done != 1 {
		steps, _ := b.Store.StepsOf(ctx, run, 1)
		t.Errorf("%+v %+v", r, steps)
	}
}

// A change that is held up since the database's connections are all in use is no word on the camera: what is told is this
// server's own trouble, and it is made once there is room again.
func TestAStarvedPoolIsOurs(t *testing.T) {
	t.Parallel()
	var b *fixture
	starve := make(chan struct{}, 1)
	said := make(chan string, 1)
	opt := paused(func(at string) {
		if at != engine.PointRead {
			return
		}
		select {
		case <-starve:
		default:
			return
		}
		ctx, cancel := context.WithTimeout(context.Background(), 20*time.Second)
		defer cancel()
		var held []interface{ Release() }
		for range b.Store.Pool.Config().MaxConns {
			c, err := b.Store.Pool.Acquire(ctx)
			if err != nil {
				break
			}
			held = append(held, c)
		}
		go func() { // for longer than a change may take
			<-time.After(6 * time.Second)
			for _, c := range held {
				c.Release()
			}
			said <- fmt.Sprint(len(held))
		}()
	})
	opt.ChangeLimit = 3 * time.Second
	b = openOn(t, testbed.StartOnly(t, "Fuel jetty", "Quay recorder"), opt)
	b.find()
	b.read(stage.SignIn, "Fuel jetty")
	b.readAll(stage.Clock)
	starve <- struct{}{}
	run := b.apply(stage.Clock, "Fuel jetty")
	select {
	case n := <-said:
		if n != fmt.Sprint(b.Store.Pool.Config().MaxConns) {
			t.Fatalf("%s connections were held", n)
		}
	case <-time.After(20 * time.Second):
		t.Fatal("the pool was never starved: no change was read")
	}
	steps, err := b.Store.StepsOf(t.Context(), run.ID, 5)
	if err != nil {
		t.Fatal(err)
	}
	changes, err := b.Store.Changes(t.Context(), b.Site, 0, 0, 5)
	if err != nil {
		t.Fatal(err)
	}
	for _, says := range []string{steps[0].Says, changes[0].Says} {
		if strings.Contains(says, "no answer") || strings.Contains(says, "too slow") {
			t.Errorf("the camera is blamed: %q", says)
		}
	}
	t.Logf("step %s: %s; change %s: %s", steps[0].State, steps[0].Says, changes[0].State, changes[0].Says)
	if run.Failed > 0 { // it says so, and is offered again
		b.read(stage.Clock, "Fuel jetty")
		run = b.apply(stage.Clock, "Fuel jetty")
	}
	if m := b.mark("Fuel jetty", stage.Clock); run.Failed > 0 || m.State != stage.Ready {
		t.Errorf("%+v, %+v", run, m)
	}
}

// A rotation writes to the recorder that holds the camera: its limit counts for it.
func TestARotationTakesTheRecordersSlot(t *testing.T) {
	t.Parallel()
	b := open(t, app.Options{})
	b.place("Slipway")
	b.wait(b.rotate("Slipway"))
	var taken bool
	if err := b.Store.Pool.QueryRow(t.Context(), `select (args->>'recorder')::boolean from river_job where args->>'act' = 'apply' order by id desc limit 1`).Scan(&taken); err != nil || !taken {
		t.Errorf("the recorder's slot: %v %v", taken, err)
	}
	var slots int
	if err := b.Store.Pool.QueryRow(t.Context(), `select count(*) from claim where scope = 'recorder/' || $1::bigint`,
		b.device("Terminal recorder").ID).Scan(&slots); err != nil || slots == 0 {
		t.Errorf("no slot of the recorder was ever taken: %v", err)
	}
}

// What a step left open is settled when it has ended.
func TestOpenChangesOfEndedStepsAreSwept(t *testing.T) {
	t.Parallel()
	b := open(t, app.Options{})
	ctx := t.Context()
	d := b.device("Slipway")
	states := map[string]string{"asked": "failed", "sent": "asks", "undoing": "asks"}
	for was := range states {
		if _, err := b.Store.Pool.Exec(ctx, `with r as (insert into run (site_id, stage, act, title, ended_at) values ($1, 3, 'apply', 'x', now()) returning id),
			t as (insert into run_step (run_id, device_id, state, ended_at) select id, $2, 'failed', now() - interval '1 hour' from r returning id)
			insert into change (site_id, device_id, step_id, stage, kind, key, title, from_text, to_text, why, risk, undo, args, state)
			select $1, $2, id, 3, 'x', $3, $3, 'a', 'b', '', 'none', '{}', '{}', $3 from t`, b.Site, d.ID, was); err != nil {
			t.Fatal(err)
		}
	}
	if _, err := b.Store.SweepChanges(ctx); err != nil { // the engine may have swept them before
		t.Fatal(err)
	}
	all, err := b.Store.ChangesOf(ctx, b.source(d), 9)
	if err != nil || len(all) != 3 {
		t.Fatalf("%+v %v", all, err)
	}
	for _, c := range all {
		if string(c.State) != states[c.Title] || c.Says == "" {
			t.Errorf("%s is %s: %q", c.Title, c.State, c.Says)
		}
	}
}
