package prove

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/netip"
	"sync"
	"time"

	"duskyharbor/internal/core/ground"
	"duskyharbor/internal/core/proof"
	"duskyharbor/internal/core/topic"
	"duskyharbor/internal/core/trouble"
	"duskyharbor/internal/device/dial"
	"duskyharbor/internal/device/onvif"
	"duskyharbor/internal/device/recorder"
	"duskyharbor/internal/engine"
	"duskyharbor/internal/facts"
	"duskyharbor/internal/site"
	"duskyharbor/internal/store"
)

// controlPort is where a stand-in of a demo site takes orders.
const controlPort = 8099

// grace is how long after both legs a second arrival is waited for.
const grace = 2500 * time.Millisecond

// walkTest is one walk test as it runs.
type walkTest struct {
	p    *Stage
	v    *engine.Visit
	id   int64
	of   site.Source
	step int64
	mu   sync.Mutex
	test proof.Test
	off  time.Duration // the camera's clock − this server's
}

// Read times one walk over both legs on this server's clock.
func (p *Stage) Read(ctx context.Context, v *engine.Visit) (string, error) {
	of := v.Source
	if old, err := p.Store.ProofOfStep(ctx, v.Step); err == nil {
		return p.interrupted(ctx, v, old)
	} else if !errors.Is(err, store.ErrNotFound) {
		return "", err
	}
	run, err := p.Store.RunOfStep(ctx, v.Step)
	if err != nil {
		return "", err
	}
	s, err := v.Snapshot(ctx)
	if err != nil {
		return "", err
	}
	on := p.Engine.Grounds(ground.Proof, s, of)
	peg, ok := Next(time.Now(), s, of, on)
	if !ok {
		return "", trouble.UserError("No route of " + of.Place + " can be walked: peg its line or area first.")
	}
	w := &walkTest{p: p, v: v, of: of, step: v.Step,
		test: proof.Test{Started: time.Now().UTC(), Topic: peg.Topic, Input: peg.Input, By: run.Who, Grounds: on, Walk: "a person"}}
	if v.Walk {
		w.test.Walk = "the stand-in was told to"
	}
	if w.id, err = p.Store.KeepProof(ctx, 0, of.ID, v.Step, w.test); err != nil {
		return "", err
	}
	werr := w.run(ctx, s, v.Walk)
	if werr != nil && engine.Ours(werr) && ctx.Err() == nil {
		return "", werr
	}
	return w.end(ctx, werr)
}

// interrupted settles a walk that was under way when its server stopped: what was
// walked can't be heard again.
func (p *Stage) interrupted(ctx context.Context, v *engine.Visit, old store.Proof) (string, error) {
	w := &walkTest{p: p, v: v, of: v.Source, id: old.ID, step: v.Step, test: old.Test}
	if old.EndedAt != nil {
		return "walked", nil
	}
	return w.end(ctx, trouble.UserError("The server stopped in the middle of this walk: walk again"))
}

func (w *walkTest) end(ctx context.Context, terr error) (string, error) {
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), 10*time.Second)
	defer cancel()
	w.mu.Lock()
	w.test.Ended = time.Now().UTC()
	if terr != nil {
		w.test.Trouble = trouble.Sentence(terr)
	}
	bars := proof.Judge(w.test.Ended, w.test, w.of.Place)
	w.mu.Unlock()
	if _, err := w.p.Store.KeepProof(ctx, w.id, w.of.ID, w.step, w.test); err != nil {
		return "", err
	}
	if err := w.v.JudgeAround(ctx); err != nil {
		return "", err
	}
	if terr != nil {
		return "", terr
	}
	says := ""
	for _, b := range bars {
		says += fmt.Sprintf("%s %s; ", b.Leg, b.Verdict)
	}
	return says[:len(says)-2], nil
}

func (w *walkTest) run(ctx context.Context, s *site.Snapshot, tell bool) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	cam, err := w.p.Accounts.Open(ctx, w.of.Device, s, w.p.ID().String())
	if err != nil {
		return err
	}
	defer cam.Close()
	reading, err := cam.NarrowTime(ctx, narrowError)
	if err != nil {
		return err
	}
	w.off, w.test.Error = reading.Offset.Mid(), reading.Offset.Error()
	services, _ := facts.Services.Of(s, w.of.Device.ID)
	point, err := cam.Subscribe(ctx, services)
	if err != nil {
		return err
	}
	defer func() {
		ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), 2*time.Second)
		defer cancel()
		_ = point.Close(ctx)
	}()
	rec, slot, ok := s.HolderOf(w.of)
	if !ok || slot == nil {
		return trouble.UserError("No recorder holds " + w.of.Place + ".")
	}
	rc, err := w.p.Accounts.Recorder(ctx, rec)
	if err != nil {
		return err
	}
	defer rc.Close()
	_, after, err := rc.Events(ctx, -1, 0)
	if err != nil {
		return err
	}
	failed := make(chan error, 2)
	var wg sync.WaitGroup
	view := facts.EventsOf(s, w.of)
	wg.Go(func() { failed <- w.hearCamera(ctx, point, view) })
	wg.Go(func() { failed <- w.hearRecorder(ctx, rc, slot.Number, after) })
	defer wg.Wait()
	defer cancel()
	if tell {
		if err := w.tellStandIn(ctx); err != nil {
			return err
		}
	}
	return w.wait(ctx, failed)
}

// wait ends the test when both legs were heard and the grace is over, when it is
// stopped, or when the time is.
func (w *walkTest) wait(ctx context.Context, failed <-chan error) error {
	limit := time.After(w.p.WalkFor)
	tick := time.NewTicker(250 * time.Millisecond)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return ctx.Err()
		case err := <-failed:
			return err
		case <-limit:
			return nil
		case <-tick.C:
			if stop, err := w.p.Store.Stopped(ctx, w.step); err != nil || stop {
				return cmp.Or[error](err, trouble.UserError("The walk was stopped"))
			}
			w.mu.Lock()
			last := time.Time{}
			if len(w.test.Camera) > 0 && len(w.test.Recorder) > 0 {
				last = w.test.Camera[0].At
				if r := w.test.Recorder[0].At; r.After(last) {
					last = r
				}
			}
			w.mu.Unlock()
			if !last.IsZero() && time.Since(last) > grace {
				return nil
			}
		}
	}
}

// heard writes an arrival down at once, so that the page fills by itself.
func (w *walkTest) heard(ctx context.Context, f func(t *proof.Test)) {
	w.mu.Lock()
	f(&w.test)
	t := w.test
	w.mu.Unlock()
	if _, err := w.p.Store.KeepProof(ctx, w.id, w.of.ID, w.step, t); err != nil && ctx.Err() == nil {
		w.p.Log.Warn("an arrival wasn't written down", "err", err)
	}
	w.v.Tell(store.OnProof)
}

func (w *walkTest) hearCamera(ctx context.Context, point *onvif.PullPoint, view topic.SourceTokens) error {
	state := map[string]topic.State{}
	for {
		events, err := point.Pull(ctx, 5*time.Second)
		now := time.Now().UTC()
		if err != nil {
			if ctx.Err() != nil {
				return ctx.Err()
			}
			return err
		}
		for _, e := range events {
			if e.Topic != w.test.Topic || !view.Concerns(e.Source) {
				continue
			}
			phase := topic.Once
			if e.Operation != "" {
				value, _ := e.True()
				state[e.Rule()], phase = topic.Next(state[e.Rule()], e.Operation, value, false)
			}
			if phase != topic.Once && phase != topic.Begins {
				continue
			}
			w.heard(ctx, func(t *proof.Test) {
				if len(t.Camera) == 0 {
					t.Happened = e.At.Add(-w.off)
				}
				t.Camera = proof.Arrived(t.Camera, proof.Arrival{At: now, Name: e.Rule()})
			})
		}
	}
}

func (w *walkTest) hearRecorder(ctx context.Context, rc recorder.Driver, number int, after int64) error {
	for {
		entries, next, err := rc.Events(ctx, after, 5*time.Second)
		now := time.Now().UTC()
		if err != nil {
			if ctx.Err() != nil {
				return ctx.Err()
			}
			return err
		}
		after = next
		for _, e := range entries {
			if e.Channel != number || e.Input != w.test.Input || e.Topic != w.test.Topic || e.Phase == string(topic.Ends) {
				continue
			}
			w.heard(ctx, func(t *proof.Test) { t.Recorder = proof.Arrived(t.Recorder, proof.Arrival{At: now, Name: e.Name}) })
		}
	}
}

// tellStandIn has a person walk before a stand-in camera of a demo site.
func (w *walkTest) tellStandIn(ctx context.Context) error {
	of, err := w.p.Store.Site(ctx, w.of.Device.SiteID)
	if err != nil {
		return err
	}
	if !of.Demo {
		return trouble.UserError("Only a demo site's stand-ins can be told to walk")
	}
	ctx, cancel := context.WithTimeout(ctx, 3*time.Second)
	defer cancel()
	on := netip.AddrPortFrom(*w.of.Device.Address, controlPort).String()
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, "http://"+on+"/walk", nil)
	if err != nil {
		return err
	}
	res, err := w.p.Dialer.At(*w.of.Device.Address).Client(nil).Do(req)
	if err != nil {
		return &dial.Error{Tried: "telling the stand-in to walk", On: on, Kind: dial.ErrUnreachable,
			Says: "its control port doesn't answer"}
	}
	return res.Body.Close()
}
