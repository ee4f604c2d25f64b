package engine_test

import (
	"context"
	"fmt"
	"io"
	"log/slog"
	"os"
	"os/exec"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"duskyharbor/internal/app"
	"duskyharbor/internal/core/clock"
	"duskyharbor/internal/core/finding"
	"duskyharbor/internal/core/stage"
	"duskyharbor/internal/device/dial"
	"duskyharbor/internal/engine"
	"duskyharbor/internal/facts"
	"duskyharbor/internal/standin/camera"
	"duskyharbor/internal/store"
	"duskyharbor/internal/testbed"
	"duskyharbor/internal/vault"
)

// TestMain lets a test start this program again as a server of its own, which may be
// told to die, by SIGKILL, at a step of a change.
func TestMain(m *testing.M) {
	if dsn := os.Getenv("WORK_SERVER_DSN"); dsn != "" {
		serveAlone(dsn, os.Getenv("WORK_SERVER_KEY"), os.Getenv("WORK_SERVER_DIES_AT"))
	}
	os.Exit(m.Run())
}

// serveAlone works on a database until it is killed; diesAt is "step/nth".
func serveAlone(dsn, key, diesAt string) {
	slog.SetLogLoggerLevel(slog.LevelError)
	app.BoundMemory()
	ctx := context.Background()
	st, err := store.Open(ctx, dsn)
	if err != nil {
		panic(err)
	}
	v, err := vault.Load(key)
	if err != nil {
		panic(err)
	}
	step, nth, _ := strings.Cut(diesAt, "/")
	left, _ := strconv.Atoi(nth)
	var mu sync.Mutex
	o, err := app.New(st, v, &dial.Dialer{}, paused(func(at string) {
		mu.Lock()
		defer mu.Unlock()
		if at == step {
			if left--; left == 0 {
				_ = syscall.Kill(os.Getpid(), syscall.SIGKILL)
				select {}
			}
		}
	}))
	if err != nil {
		panic(err)
	}
	if err := o.Start(ctx); err != nil {
		panic(err)
	}
	fmt.Println("ready")
	_, _ = io.Copy(io.Discard, os.Stdin) // it ends with who started it
	os.Exit(3)
}

// server starts one; it is killed with the test at the latest.
func server(t *testing.T, h *testbed.Harbour, diesAt string) *exec.Cmd {
	t.Helper()
	cmd := exec.Command(os.Args[0], "-test.run=^$")
	cmd.Env = append(os.Environ(), "WORK_SERVER_DSN="+h.DSN, "WORK_SERVER_KEY="+h.Key, "WORK_SERVER_DIES_AT="+diesAt)
	cmd.Stderr = os.Stderr
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	held, err := cmd.StdinPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = cmd.Process.Kill(); _, _ = cmd.Process.Wait(); _ = held.Close() })
	return cmd
}

// dies waits until a server has killed itself, or until the run has ended without
// coming to that step so often.
func (b *fixture) dies(cmd *exec.Cmd, run int64) (died bool) {
	b.t.Helper()
	gone := make(chan struct{})
	go func() { _, _ = cmd.Process.Wait(); close(gone) }()
	for end := time.Now().Add(60 * time.Second); time.Now().Before(end); {
		select {
		case <-gone:
			return true
		case <-time.After(50 * time.Millisecond):
		}
		r, err := b.Store.Run(context.Background(), run)
		if err != nil {
			b.t.Fatal(err)
		}
		if r.EndedAt != nil {
			_ = cmd.Process.Kill()
			<-gone
			return false
		}
	}
	b.t.Fatal("the server neither died nor ended the run")
	return false
}

// rounds is how often the kill tests go round: make soak asks for many.
func rounds() int {
	n, err := strconv.Atoi(os.Getenv("KILL_ROUNDS"))
	if err != nil || n < 1 {
		return 1
	}
	return n
}

// idle makes an office that doesn't work, to ask for things.
func (b *fixture) idle() *app.App {
	b.t.Helper()
	o, err := app.New(b.Store, b.Vault, &dial.Dialer{}, app.Options{Listen: 900 * time.Millisecond})
	if err != nil {
		b.t.Fatal(err)
	}
	return o
}

// kind is one kind of undo, with a change of it and what it must leave behind.
type kind struct {
	undo  finding.UndoKind
	make  func(r clock.Reading, ntp string) finding.Change
	ready func(c *camera.Camera) // brings the camera to where the change is wanted
	left  store.State            // of the change, after the one behind it failed
	// ops is how often the camera was successfully written to: once for the change,
	// once for what takes it back. (A kill between the two calls that set a source has
	// the first, which alone changes nothing that is read, sent again.)
	ops   map[string]int
	short []string // steps that make test kills at
}

var kinds = []kind{
	{finding.Reversible, func(r clock.Reading, _ string) finding.Change {
		return finding.Change{Kind: clock.SetZone, Key: clock.SetZone, Title: "Zone rule", From: r.ZoneText(),
			To: clock.ZoneText("UTC0", false), Risk: finding.NoRisk,
			Undo: finding.Undo{Kind: finding.Reversible,
				Note: "Put the old rule back."}, Args: map[string]string{"zone": "UTC0", "daylight": "off", "old_zone": r.Zone, "old_daylight": strings.TrimPrefix(r.ZoneText(), r.Zone+" · daylight ")}}
	}, func(*camera.Camera) {}, store.Undone, map[string]int{"SetSystemDateAndTime": 2}, []string{engine.PointAsked, engine.PointSent, engine.PointWritten, engine.PointUndoing}},
	{finding.Compensating, func(r clock.Reading, ntp string) finding.Change {
		return finding.Change{Kind: clock.SetSource, Key: clock.SetSource, Title: "Takes time from", From: r.Source(),
			To: "NTP " + ntp, Risk: finding.NoRisk, Later: []time.Duration{5 * time.Second},
			Undo: finding.Undo{Kind: finding.Compensating, Note: "Set by hand again.", Act: clock.SetManual,
				To: clock.ByHandText}, Args: map[string]string{"server": ntp}}
	}, func(*camera.Camera) {}, store.Undone, map[string]int{"SetSystemDateAndTime": 2}, []string{engine.PointBack, engine.PointUndoing}},
	{finding.Irreversible, func(clock.Reading, string) finding.Change {
		return finding.Change{Kind: clock.SetTime, Key: clock.SetTime, Title: "Time, once", From: "off by +1 h",
			To: "in step", Risk: finding.NoRisk,
			Undo: finding.Undo{Kind: finding.Irreversible, Note: "A wrong time isn't worth putting back."}}
	}, func(c *camera.Camera) { c.Step(time.Hour) }, store.Verified, map[string]int{"SetSystemDateAndTime": 1}, []string{engine.PointRead, engine.PointSettled}},
}

// The server is killed at each step of a change, and what takes over is killed again;
// then every camera is settled: what was made was made once, what failed after it
// took it back once, and what can't be taken back stands and says why.
func TestKilledAtEveryStepItSettles(t *testing.T) {
	for _, k := range kinds {
		t.Run(string(k.undo), func(t *testing.T) {
			t.Parallel()
			const per = 5 // cameras of one kill
			steps := engine.Points()
			h := testbed.StartBulk(t, per*len(steps))
			b := &fixture{h, t, nil}
			b.atWork(func() { b.find(); b.readBulk(stage.SignIn); b.readBulk(stage.Clock) })
			for round := range rounds() {
				for i, step := range steps {
					if os.Getenv("KILL_ROUNDS") == "" && !slices.Contains(k.short, step) {
						continue // make soak has them all
					}
					b.killed(k, step, round, h.Fleet.Cameras[2+i*per:][:per])
				}
			}
		})
	}
}

// atWork has an office work while f runs.
func (b *fixture) atWork(f func()) {
	b.t.Helper()
	b.app = b.idle()
	if err := b.app.Start(context.Background()); err != nil {
		b.t.Fatal(err)
	}
	f()
	ctx, cancel := context.WithTimeout(context.Background(), 20*time.Second)
	defer cancel()
	if err := b.app.Stop(ctx); err != nil {
		b.t.Error(err)
	}
}

func (b *fixture) readBulk(st stage.Stage) {
	b.t.Helper()
	ids, err := b.Store.Resolve(context.Background(), store.Selection{Site: b.Site, Ready: st}, st)
	if err != nil {
		b.t.Fatal(err)
	}
	if r := b.wait(b.app.Begin(context.Background(),
		store.NewRun{Site: b.Site, Stage: st, Act: store.Read, Title: "Read", Of: ids}, false)); r.Failed > 0 {
		b.t.Fatalf("%v: %+v", st, r)
	}
}

func (b *fixture) killed(k kind, step string, round int, cameras []*camera.Camera) {
	b.t.Helper()
	ctx := context.Background()
	v, ntp := b.view(), b.Net.At(".2.5").String()
	var picks []engine.Pick
	written := map[int64]map[string]int{}
	byID := map[int64]*camera.Camera{}
	for _, c := range cameras {
		k.ready(c)
		d := b.device(c.Config().Place)
		r, ok := facts.Clock.Of(v, d.ID)
		if !ok {
			b.t.Fatalf("%s wasn't read", d.Place)
		}
		r.NTP = false // each round ends by hand
		first := k.make(r, ntp)
		zone := r.ZoneText()
		if first.Kind == clock.SetZone {
			zone = first.To
		}
		// A zone that no camera takes: it fails after the first one was made.
		second := finding.Change{Kind: clock.SetZone, Key: "clock.zone/nonsense", Title: "A zone that is none",
			From: zone, To: "nonsense · daylight on", Risk: finding.NoRisk,
			Undo: finding.Undo{Kind: finding.Reversible}, Args: map[string]string{"zone": "9nonsense9", "daylight": "on"}}
		picks = append(picks, engine.Pick{Source: b.source(d), Changes: []finding.Change{first, second}})
		byID[d.ID], written[d.ID] = c, map[string]int{}
		for op := range k.ops {
			written[d.ID][op] = c.Served(op)
		}
	}
	run, err := b.idle().Apply(ctx, engine.Ask{Site: b.Site, Stage: stage.Clock, Title: "Kill at " + step}, picks)
	if err != nil {
		b.t.Fatal(err)
	}
	died := b.dies(server(b.t, b.Harbour, fmt.Sprintf("%s/%d", step, 1+round%len(cameras))), run)
	if !died && !(step == engine.PointUndoing && k.undo == finding.Irreversible) {
		b.t.Errorf("%s: the server didn't die at %q", k.undo, step)
	}
	b.dies(server(b.t, b.Harbour, step+"/2"), run)
	b.atWork(func() { b.wait(run, nil) })
	for _, p := range picks {
		b.settled(k, step, p, byID[p.Source.Device.ID], written[p.Source.Device.ID])
	}
}

// settled checks one camera after the kills.
func (b *fixture) settled(k kind, step string, p engine.Pick, c *camera.Camera, before map[string]int) {
	b.t.Helper()
	all, err := b.Store.ChangesOf(context.Background(), p.Source, 3)
	if err != nil {
		b.t.Fatal(err)
	}
	want := map[string]store.State{p.Changes[0].Title: k.left, p.Changes[1].Title: store.Failed}
	if k.left == store.Undone {
		want["Undo: "+p.Changes[0].Title] = store.Verified
	}
	seen := 0
	for _, x := range all {
		if w, ok := want[x.Title]; ok && x.AskedAt.After(time.Now().Add(-5*time.Minute)) {
			delete(want, x.Title)
			seen++
			if x.State != w {
				b.t.Errorf("%s, killed at %q: %s: %q is %s (%s, reads %q), want %s", k.undo, step,
					p.Source.Device.Place, x.Title, x.State, x.Says, x.Reads, w)
			}
			if x.Title == p.Changes[0].Title && k.undo == finding.Irreversible && !strings.Contains(x.Says, "isn't worth putting back") {
				b.t.Errorf("%s: what stands doesn't say why: %q", p.Source.Device.Place, x.Says)
			}
		}
	}
	if len(want) > 0 {
		b.t.Errorf("%s, killed at %q: %s: no row for %v", k.undo, step, p.Source.Device.Place, want)
	}
	for op, n := range k.ops {
		if made := c.Served(op) - before[op]; made != n {
			b.t.Errorf("%s, killed at %q: %s was written to by %s %d times, want %d", k.undo, step, p.Source.Device.Place, op, made, n)
		}
	}
}

// Two servers share a run over a thousand cameras; one is killed in the middle. The
// other ends the run, each camera done once.
func TestTwoServersShareARunAndOneIsKilled(t *testing.T) {
	t.Parallel()
	const cameras = 1000
	h := testbed.StartBulk(t, cameras)
	b := &fixture{h, t, nil}
	var targets []store.Target
	var err error
	b.atWork(func() {
		// A thousand that share two busy cores with other tests don't all answer within one
		// look's patience: what it missed the next one hears, and what was found stays.
		for looks := 0; looks < 4 && len(targets) < cameras; looks++ {
			b.find()
			if targets, err = b.Store.Resolve(t.Context(), store.Selection{Site: b.Site, Ready: stage.Clock}, stage.Clock); err != nil {
				t.Fatal(err)
			}
		}
	})
	if len(targets) < cameras {
		t.Fatalf("%d cameras were found", len(targets))
	}
	ids := make([]int64, len(targets))
	for i, of := range targets {
		ids[i] = of.Device
	}
	run, err := b.idle().Begin(t.Context(), store.NewRun{Site: b.Site, Stage: stage.Clock, Act: store.Read,
		Title: "Read", Of: targets}, false)
	if err != nil {
		t.Fatal(err)
	}
	one, two := server(t, h, ""), server(t, h, "")
	testbed.Until(t, 60*time.Second, "a third is done", func() bool {
		r, err := b.Store.Run(t.Context(), run)
		return err == nil && r.Done > len(ids)/3
	})
	if err := one.Process.Kill(); err != nil {
		t.Fatal(err)
	}
	_, _ = one.Process.Wait()
	r := b.wait(run, nil)
	_ = two.Process.Kill()
	if r.Done != len(ids) || r.Failed != 0 || r.Stopped != 0 {
		t.Errorf("%+v, want %d done", r, len(ids))
	}
	var once, read, servers int
	err = b.Store.Pool.QueryRow(t.Context(), `select (select count(*) from run_step where run_id = $1 and state = 'done' and ended_at is not null), (select count(distinct device_id) from fact where name = 'clock.reading' and device_id = any($2)),
		(select count(distinct split_part(a, '/', 2)) from river_job, unnest(attempted_by) a where kind = 'step' and (args->>'stage')::int = $3)`, run, ids, int(stage.Clock)).Scan(&once, &read, &servers)
	if err != nil || once != len(ids) || read != len(ids) || servers < 2 {
		t.Errorf("%d steps done, %d cameras read, by %d servers: %v", once, read, servers, err)
	}
}
