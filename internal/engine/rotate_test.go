package engine_test

import (
	"context"
	"fmt"
	"os"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"duskyharbor/internal/app"
	"duskyharbor/internal/core/access"
	"duskyharbor/internal/core/channel"
	"duskyharbor/internal/core/stage"
	"duskyharbor/internal/demo"
	"duskyharbor/internal/engine"
	"duskyharbor/internal/facts"
	"duskyharbor/internal/site"
	"duskyharbor/internal/standin/camera"
	"duskyharbor/internal/standin/recorder"
	"duskyharbor/internal/store"
	"duskyharbor/internal/testbed"
)

// held says whether this server holds the password that opens a camera, and which set
// it takes it for.
func (b *fixture) held(v *site.Snapshot, d store.Device, c *camera.Camera) (string, bool) {
	b.t.Helper()
	a, ok := facts.Account.Of(v, d.ID)
	if !ok {
		return "no account", false
	}
	set, err := b.Store.Set(context.Background(), a.SetID)
	if err != nil {
		b.t.Fatal(err)
	}
	password, err := b.Vault.Open(set.Sealed, store.SetPlace(set.ID))
	if err != nil {
		b.t.Fatal(err)
	}
	return set.Name, c.Opens(set.Username, password)
}

// slot is how a recorder says that it holds a camera now.
func (b *fixture) slot(camera string) *channel.Slot {
	b.t.Helper()
	b.read(stage.Channels, camera)
	_, s, _ := b.view().HolderOf(b.source(b.device(camera)))
	return s
}

func (b *fixture) rotate(places ...string) (int64, error) {
	var ids []int64
	for _, p := range places {
		ids = append(ids, b.device(p).ID)
	}
	run, _, err := b.app.SignIn.Rotate(context.Background(), engine.Ask{Site: b.Site, Title: "New passwords"}, ids)
	return run, err
}

// receives waits until a recorder sees a camera again.
func (b *fixture) receives(place, when string) {
	b.t.Helper()
	var s *channel.Slot
	defer func() {
		if b.t.Failed() {
			b.t.Logf("%s: %+v%s", place, s, b.sentences(b.device(place)))
		}
	}()
	testbed.Until(b.t, 30*time.Second, when+": "+place+" is seen", func() bool {
		s = b.slot(place)
		return s != nil && s.State == "receiving" && !s.Paused
	})
}

func TestRotationTakesTheRecorderAlong(t *testing.T) {
	t.Parallel()
	b := open(t, app.Options{})
	b.place("Slipway")
	cam := b.Fleet.Camera("Slipway")
	if r := b.wait(b.rotate("Slipway")); r.Failed != 0 {
		steps, _ := b.Store.StepsOf(t.Context(), r.ID, 9)
		t.Fatalf("%+v", steps)
	}
	b.receives("Slipway", "after the rotation")
	name, ok := b.held(b.view(), b.device("Slipway"), cam)
	if !ok || !strings.Contains(name, "own") || cam.Opens("otter", b.Secrets.House) {
		t.Errorf("opens with %q: %v; the old password: %v", name, ok, cam.Opens("otter", b.Secrets.House))
	}
	all, err := b.Store.ChangesOf(t.Context(), b.source(b.device("Slipway")), 4)
	if err != nil || len(all) != 4 {
		t.Fatalf("%d changes, %v", len(all), err)
	}
	for i, kind := range []string{access.Resume, access.Hold, access.Change, access.Pause} {
		if all[i].Kind != kind || all[i].State != store.Verified || all[i].Writes != 1 {
			t.Errorf("%s is %s, written %d times, want %s verified once", all[i].Kind, all[i].State, all[i].Writes, kind)
		}
	}
}

// A recorder that can't be given the new password, because it is gone in the middle:
// everything is put back, and nobody is locked out.
func TestRotationIsTakenBackWhereAPartFails(t *testing.T) {
	t.Parallel()
	for _, part := range []string{"the camera restarts", "the camera answers nothing", "the recorder is away", "the camera refuses", "the recorder stays away"} {
		t.Run(part, func(t *testing.T) {
			t.Parallel()
			h := testbed.Start(t)
			cam, rec := h.Fleet.Camera("Slipway"), h.Fleet.Recorders[0]
			var b *fixture
			sent := 0
			opt := paused(func(step string) {
				if step != engine.PointSent {
					return
				}
				switch sent++; {
				case part == "the camera restarts" && sent == 2:
					cam.Restart()
				case part == "the camera answers nothing" && sent == 2:
					cam.Stall("SetUser")
				case part == "the recorder stays away" && sent == 3:
					rec.Close()
				case part == "the recorder is away" && sent == 3: // pausing, changing, and holding it
					rec.Close()
					go func() {
						time.Sleep(4 * time.Second)
						again, err := recorder.Start(context.Background(), rec.Config())
						if err == nil {
							h.Fleet.Recorders[0] = again
						}
					}()
				case part == "the camera refuses" && sent == 2:
					cam.Refuse("SetUser")
				}
			})
			if part == "the camera answers nothing" {
				opt.ChangeLimit = 5 * time.Second
			}
			b = openOn(t, h, opt)
			b.place("Slipway")
			sent = 0
			b.wait(b.rotate("Slipway"))
			if strings.HasPrefix(part, "the camera ") && part != "the camera refuses" { // a try may have gone with it: as a person would, in half an hour
				cam.Stall("")
				b.putRight("Slipway", part)
			}
			if name, ok := b.held(b.view(), b.device("Slipway"), cam); !ok || cam.Locked() {
				t.Fatalf("nobody holds its password: it is taken for %s%s", name, b.sentences(b.device("Slipway")))
			}
			if (part == "the camera refuses" || part == "the recorder stays away") && !cam.Opens("otter", h.Secrets.House) {
				t.Error("it doesn't open with the old password any more")
			}
			if part == "the recorder stays away" { // it comes back, paused: the way out is a button
				again, err := recorder.Start(context.Background(), rec.Config())
				if err != nil {
					t.Fatal(err)
				}
				h.Fleet.Recorders[0] = again
				if s := b.slot("Slipway"); s == nil || !s.Paused {
					t.Fatalf("%+v", s)
				}
				b.apply(stage.Channels, "Slipway")
			}
			b.receives("Slipway", part)
		})
	}
}

// A camera that takes its new password and falls silent before it is read back: nobody
// knows which one it has, so its channel stays paused rather than knock with the old
// one. Once it is back, buttons alone bring it to its end.
func TestAChannelStaysPausedWhileThePasswordIsNotKnown(t *testing.T) {
	t.Parallel()
	h := testbed.Start(t)
	cam := h.Fleet.Camera("Slipway")
	var b *fixture
	written := 0
	b = openOn(t, h, paused(func(step string) {
		if step == engine.PointWritten {
			if written++; written == 2 { // paused, and changed
				cam.Close()
			}
		}
	}))
	b.place("Slipway")
	b.receives("Slipway", "placed")
	written = 0
	if r := b.wait(b.rotate("Slipway")); r.Failed != 1 {
		t.Fatalf("%+v", r)
	}
	if s := b.slot("Slipway"); s == nil || !s.Paused {
		t.Fatalf("its channel isn't paused: %+v", s)
	}
	var open []string
	rows, err := b.Store.Pool.Query(t.Context(), `select kind || ': ' || state || ', ' || says from change where device_id = $1 and stage = $2 order by id`, b.device("Slipway").ID, int(stage.SignIn))
	if err == nil {
		open, err = pgx.CollectRows(rows, pgx.RowTo[string])
	}
	if all := strings.Join(open, "\n"); err != nil || !strings.Contains(all,
		"rotate.pause: verified, it stays until it is known") || !strings.Contains(all, "rotate.password: asks") || strings.Count(all, "rotate.pause") != 1 {
		t.Errorf("%s %v", all, err)
	}
	again, err := camera.Start(context.Background(), cam.Config())
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(again.Close)
	if again.Opens("otter", h.Secrets.House) {
		t.Fatal("it forgot its new password: the test shows nothing")
	}
	b.read(stage.SignIn, "Slipway")
	if name, ok := b.held(b.view(), b.device("Slipway"), again); !ok || again.Locked() {
		tries, err := b.Store.Tries(t.Context(), b.device("Slipway").ID)
		t.Fatalf("nobody holds its password: it is taken for %s%s\n%+v %v", name, b.sentences(b.device("Slipway")), tries, err)
	}
	if got := b.codes(b.device("Slipway")); !strings.Contains(got, "access.held") {
		t.Errorf("%q%s", got, b.sentences(b.device("Slipway")))
	}
	if r := b.apply(stage.SignIn, "Slipway"); r.Failed > 0 {
		t.Fatalf("%+v", r)
	}
	b.slot("Slipway")
	b.apply(stage.Channels, "Slipway")
	b.receives("Slipway", "resumed")
	if s := b.slot("Slipway"); s.AuthFailures != 0 {
		t.Errorf("it knocked %d times", s.AuthFailures)
	}
	b.read(stage.SignIn, "Slipway")
	if got := b.codes(b.device("Slipway")); got != "" {
		t.Errorf("%q%s", got, b.sentences(b.device("Slipway")))
	}
}

// points are steps of a rotation's parts, as "sent/2": these, or in make soak all.
func points(short ...string) []string {
	if os.Getenv("KILL_ROUNDS") == "" {
		return short
	}
	var all []string
	for _, step := range []string{engine.PointAsked, engine.PointRead, engine.PointSent, engine.PointWritten,
		engine.PointBack, engine.PointSettled} {
		for part := range 4 {
			all = append(all, fmt.Sprintf("%s/%d", step, part+1))
		}
	}
	return all
}

// The camera, or the recorder, dies at a step of a rotation and comes back some seconds
// later: whatever became of it, somebody holds the password, nobody is locked out, and
// buttons bring the picture back.
func TestRotationWhereADeviceDies(t *testing.T) {
	t.Parallel()
	for who, at := range map[string][]string{"camera": points(engine.PointWritten+"/2", engine.PointAsked+"/3"),
		"recorder": points(engine.PointSent+"/3", engine.PointWritten+"/4")} {
		for _, point := range at {
			t.Run(who+" at "+point, func(t *testing.T) {
				t.Parallel()
				h := testbed.Start(t)
				var b *fixture
				die, seen := "", map[string]int{}
				opt := paused(func(step string) {
					if seen[step]++; fmt.Sprintf("%s/%d", step, seen[step]) != die {
						return
					}
					die = ""
					if who == "camera" {
						h.Fleet.Camera("Slipway").Close()
					} else {
						h.Fleet.Recorders[0].Close()
					}
				})
				opt.ChangeLimit = 12 * time.Second // of each that is tried on who is dead
				b = openOn(t, h, opt)
				b.place("Slipway")
				b.receives("Slipway", "placed")
				die, seen = point, map[string]int{}
				b.wait(b.rotate("Slipway"))
				if die != "" {
					t.Fatalf("the %s didn't die", who)
				}
				b.revive(who)
				b.putRight("Slipway", who+" died at "+point)
			})
		}
	}
}

// revive starts a stand-in that was closed once more; its memory is its own.
func (b *fixture) revive(who string) {
	b.t.Helper()
	if who == "recorder" {
		again, err := recorder.Start(context.Background(), b.Fleet.Recorders[0].Config())
		if err != nil {
			b.t.Fatal(err)
		}
		b.Fleet.Recorders[0] = again
		return
	}
	cam := b.Fleet.Camera("Slipway")
	again, err := camera.Start(context.Background(), cam.Config())
	if err != nil {
		b.t.Fatal(err)
	}
	b.Fleet.Cameras[slices.Index(b.Fleet.Cameras, cam)] = again
}

// putRight reads a camera and makes what is proposed, as a person would, until its
// recorder receives it. What died in the middle of an answer took a try with it: where none
// is left, half an hour passes.
func (b *fixture) putRight(place, when string) {
	b.t.Helper()
	for round, halves := 0, 0; round < 4; round++ {
		b.read(stage.Channels, place)
		steps, err := b.Store.StepsOf(b.t.Context(), b.read(stage.SignIn, place).ID, 1)
		if err != nil {
			b.t.Fatal(err)
		}
		_, slot, _ := b.view().HolderOf(b.source(b.device(place)))
		b.t.Logf("%s, round %d: %s; %s; %+v", when, round, steps[0].Says, b.codes(b.device(place)), slot)
		if strings.Contains(strings.ToLower(steps[0].Says), "no try is left") && halves < 3 {
			b.triesAreOver()
			halves, round = halves+1, round-1
			continue
		}
		for _, st := range []stage.Stage{stage.SignIn, stage.Channels} {
			if d := b.device(place); len(b.proposals(d, st)) > 0 {
				b.apply(st, place)
			}
		}
		if s := b.slot(place); s != nil && s.State == "receiving" && !s.Paused {
			break
		}
	}
	b.receives(place, when)
	b.read(stage.SignIn, place)
	cam := b.Fleet.Camera(place)
	if name, ok := b.held(b.view(), b.device(place), cam); !ok || cam.Locked() {
		b.t.Fatalf("%s: nobody holds its password, or it is locked: it is taken for %s%s", when, name, b.sentences(b.device(place)))
	}
}

// The server is killed at a step of a rotation, whichever of its parts that is; what
// takes over brings it to its end: the recorder sees the camera with the new password.
func TestRotationKilledAtItsSteps(t *testing.T) {
	t.Parallel()
	b, cam := rotating(t, 0)
	rotateUnderKills(t, b, cam, points(engine.PointSent+"/2", engine.PointWritten+"/2", engine.PointWritten+"/3", engine.PointSettled+"/3"))
}

// rotating is a placed camera whose recorder takes so long to sign in.
func rotating(t *testing.T, slowly time.Duration) (*fixture, *camera.Camera) {
	t.Helper()
	h := testbed.Start(t)
	b := &fixture{h, t, nil}
	b.atWork(func() { b.place("Slipway") })
	h.Fleet.Recorders[0].Slowly(slowly)
	return b, h.Fleet.Camera("Slipway")
}

// rotateUnderKills rotates its password once for each point at which the server is killed.
func rotateUnderKills(t *testing.T, b *fixture, cam *camera.Camera, kills []string) {
	t.Helper()
	last := ""
	for _, at := range kills {
		b.app = b.idle()
		run, err := b.rotate("Slipway")
		if err != nil {
			t.Fatal(err)
		}
		if !b.dies(server(t, b.Harbour, at), run) {
			t.Errorf("the server didn't die at %q", at)
		}
		b.atWork(func() {
			if r := b.wait(run, nil); r.Failed > 0 {
				steps, _ := b.Store.StepsOf(context.Background(), run, 1)
				t.Errorf("killed at %q: %+v", at, steps)
			}
			b.receives("Slipway", "killed at "+at)
		})
		name, ok := b.held(b.view(), b.device("Slipway"), cam)
		if !ok || name == last || cam.Locked() {
			t.Errorf("killed at %q it opens with %q: %v", at, name, ok)
		}
		last = name
	}
}

// The server is killed while a channel is resumed, and its recorder is slow to sign in: between paused and
// receiving it reads neither, which is waited for and is nobody's doing.
func TestRotationKilledWhileAChannelIsResumed(t *testing.T) {
	t.Parallel()
	b, cam := rotating(t, 4*time.Second)
	rotateUnderKills(t, b, cam, []string{engine.PointSent + "/4", engine.PointWritten + "/4"})
}

// Two servers died in a rotation: the camera hadn't taken the new password when the first
// did, and the second died in a try of it. No third wrong one is sent; the channel stays
// paused, a person is told until when, and signing in then finds what opens it.
func TestRotationWithoutATryLeftIsFinishedLater(t *testing.T) {
	t.Parallel()
	h := testbed.Start(t)
	b := &fixture{h, t, nil}
	b.atWork(func() { b.place("Slipway") })
	cam := h.Fleet.Camera("Slipway")
	b.app = b.idle()
	run, err := b.rotate("Slipway")
	if err != nil {
		t.Fatal(err)
	}
	if !b.dies(server(t, h, engine.PointSent+"/2"), run) {
		t.Fatal("the server didn't die before the password was sent")
	}
	if tag, err := b.Store.Pool.Exec(t.Context(), `with c as (update device set tries = tries + 1 where id = $1)
		insert into try (device_id, set_id, set_name, scheme) select $1, s.id, s.name, 'HTTP Digest' from credential_set s
		where s.id = (select (args ->> 'set')::bigint from change where device_id = $1 and kind = $2)`,
		b.device("Slipway").ID, access.Change); err != nil || tag.RowsAffected() != 1 {
		t.Fatal(tag, err)
	}
	b.atWork(func() {
		r := b.wait(run, nil)
		steps, err := b.Store.StepsOf(t.Context(), run, 1)
		if err != nil || r.Failed != 1 || !strings.Contains(steps[0].Says, "No try is left on Slipway until ") || cam.Wrongs() > 1 {
			t.Errorf("%+v %+v %v, %d wrong tries", r, steps, err, cam.Wrongs())
		}
		if s := b.slot("Slipway"); s == nil || !s.Paused {
			t.Errorf("the channel isn't paused: %+v", s)
		}
		b.triesAreOver()
		b.read(stage.SignIn, "Slipway")
		b.putRight("Slipway", "the tries were over")
	})
}

// bulkCount is how many bulk cameras the bulk test takes: make soak asks for four hundred.
func bulkCount() int {
	if n, err := strconv.Atoi(os.Getenv("BULK_CAMERAS")); err == nil && n > 0 {
		return min(n, demo.BulkMost)
	}
	return 60
}

// All clocks are set and all passwords exchanged, with the server killed in the middle,
// twice each: all is settled, nothing is locked, every password is held here. A camera
// on which both servers died in a try has no try left by the rule, and asks a person,
// who signs in once more when the time is over.
func TestBulkClocksAndPasswordsSurviveTwoKills(t *testing.T) {
	t.Parallel()
	n := bulkCount()
	h := testbed.StartBulk(t, n)
	b := &fixture{h, t, nil}
	ctx := context.Background()
	cams := map[string]*camera.Camera{}
	for _, c := range h.Fleet.Cameras {
		if c.Config().Network == h.Net.BulkPrefix() {
			c.Step(40 * time.Second)
			cams[c.Config().Place] = c
		}
	}
	var ids []int64
	b.atWork(func() {
		b.find()
		b.readBulk(stage.SignIn)
		b.readBulk(stage.Clock)
		for _, d := range b.view().Cameras() {
			if cams[d.Place] != nil {
				ids = append(ids, d.ID)
			}
		}
	})
	if len(ids) != n {
		t.Fatalf("%d bulk cameras, want %d", len(ids), n)
	}
	picks, _, err := b.idle().Propose(ctx, b.Site, stage.Clock, store.OfDevices(ids...))
	if err != nil || len(picks) != n {
		t.Fatalf("%d cameras have something proposed: %v", len(picks), err)
	}
	run, err := b.idle().Apply(ctx, engine.Ask{Site: b.Site, Stage: stage.Clock, Title: "Set the clock"}, picks)
	if left := b.killTwice(run, err); left > 0 {
		t.Errorf("%d clocks found no try left, and none is needed", left)
	}
	for place, c := range cams {
		if off := time.Until(c.Now()); off.Abs() > 5*time.Second {
			t.Errorf("%s is %v off", place, off)
		}
	}
	run, left, err := b.idle().SignIn.Rotate(ctx, engine.Ask{Site: b.Site, Title: "New passwords"}, ids)
	if left != 0 {
		t.Errorf("%d were left out", left)
	}
	spent := b.killTwice(run, err)
	var open int
	if err := b.Store.Pool.QueryRow(ctx, `select count(*) from change where state in ('asked', 'sent', 'asks', 'undoing')`).Scan(&open); err != nil || open > spent {
		t.Errorf("%d changes are open, %d found no try left: %v", open, spent, err)
	}
	if spent > 0 {
		t.Logf("two servers died in a try at %d cameras", spent)
		b.triesAreOver()
		b.atWork(func() { b.readBulk(stage.SignIn) })
	}
	v := b.view()
	seen := map[string]bool{}
	for _, d := range v.Cameras() {
		c := cams[d.Place]
		if c == nil {
			continue
		}
		name, ok := b.held(v, d, c)
		if ok && !c.Locked() && name == "House account" && spent > 0 { // no try was left before it was written
			spent--
			continue
		}
		if !ok || c.Locked() || !strings.HasPrefix(name, d.Place+" · own") || seen[name] {
			t.Errorf("%s opens with %q: %v, locked: %v", d.Place, name, ok, c.Locked())
		}
		seen[name] = true
	}
}

// triesAreOver lets the time pass over which tries are counted.
func (b *fixture) triesAreOver() {
	b.t.Helper()
	if _, err := b.Store.Pool.Exec(context.Background(), `update try set at = at - $1::interval`, access.Period); err != nil {
		b.t.Fatal(err)
	}
}

// killTwice lets a run be worked on by servers that are killed after a fourth and after
// a half of it, and then to its end. It answers how many devices had no try left.
func (b *fixture) killTwice(run int64, err error) (spent int) {
	b.t.Helper()
	if err != nil {
		b.t.Fatal(err)
	}
	total := 0
	for _, part := range []int{4, 2} {
		cmd := server(b.t, b.Harbour, "")
		testbed.Until(b.t, 120*time.Second, fmt.Sprintf("1/%d is done", part), func() bool {
			r, err := b.Store.Run(context.Background(), run)
			total = r.Total
			return err == nil && (r.Done+r.Failed)*part >= r.Total || r.EndedAt != nil
		})
		_ = cmd.Process.Kill()
		_, _ = cmd.Process.Wait()
	}
	var r store.Run
	b.atWork(func() {
		testbed.Until(b.t, 240*time.Second, "the run ends", func() bool {
			r, err = b.Store.Run(context.Background(), run)
			return err == nil && r.EndedAt != nil
		})
	})
	steps, err := b.Store.StepsOf(context.Background(), run, 400)
	if err != nil {
		b.t.Fatal(err)
	}
	for _, s := range steps {
		switch {
		case s.State == "failed" && strings.Contains(s.Says, "No try is left on "):
			spent++
			tries, err := b.Store.Tries(context.Background(), *s.DeviceID)
			if left, _ := access.Left(time.Now(), tries); err != nil || left > 0 {
				b.t.Errorf("%s, with %+v %v", s.Says, tries, err)
			}
		case s.State == "failed":
			b.t.Errorf("failed: %s", s.Says)
		}
	}
	if r.Failed != spent || r.Done+spent != total || spent > total/10 {
		b.t.Errorf("%s: %d of %d done, %d failed", r.Title, r.Done, total, r.Failed)
	}
	return spent
}
