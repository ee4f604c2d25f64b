package work

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/netip"
	"slices"
	"sync"
	"time"

	"duskyharbor/internal/core/proof"
	"duskyharbor/internal/core/route"
	"duskyharbor/internal/core/topic"
	"duskyharbor/internal/device/dial"
	"duskyharbor/internal/device/onvif"
	"duskyharbor/internal/device/recorder"
	"duskyharbor/internal/store"
)

// controlPort is where a stand-in of a demo site takes orders.
const controlPort = 8099

// grace is how long after both legs a second arrival is waited for.
const grace = 2500 * time.Millisecond

// walkTest is one walk test as it runs.
type walkTest struct {
	o    *Office
	id   int64
	d    store.Device
	step int64
	mu   sync.Mutex
	test proof.Test
	off  time.Duration // the camera's clock − this server's
}

// prove times one walk over both legs on this server's clock.
func (o *Office) prove(ctx context.Context, d store.Device, a stepArgs) (string, error) {
	if old, err := o.store.ProofOfStep(ctx, a.Step); err == nil {
		return o.interrupted(ctx, d, a, old)
	} else if !errors.Is(err, store.ErrNotFound) {
		return "", err
	}
	run, err := o.store.Run(ctx, o.runOf(ctx, a.Step))
	if err != nil {
		return "", err
	}
	v, err := Look(ctx, o.store, d.SiteID, []int64{d.ID})
	if err != nil {
		return "", err
	}
	peg, ok := chosen(v.Routes(d))
	if !ok {
		return "", toldError("No route of " + d.Place + " can be walked: peg its line or area first.")
	}
	w := &walkTest{o: o, d: d, step: a.Step, test: proof.Test{Started: time.Now().UTC(), Topic: peg.Topic, Input: peg.Input, By: run.Who, Basis: v.Basis(d), Walk: "a person"}}
	if a.Walk {
		w.test.Walk = "the stand-in was told to"
	}
	if w.id, err = o.store.KeepProof(ctx, 0, d.SourceID, a.Step, w.test); err != nil {
		return "", err
	}
	terr := w.run(ctx, v, a.Walk)
	if terr != nil && ours(terr) {
		return "", terr
	}
	return w.end(ctx, terr)
}

func (o *Office) runOf(ctx context.Context, step int64) int64 {
	var id int64
	_ = o.store.Pool.QueryRow(ctx, `select run_id from run_step where id = $1`, step).Scan(&id)
	return id
}

// interrupted settles a walk that was under way when its server stopped: what was
// walked can't be heard again.
func (o *Office) interrupted(ctx context.Context, d store.Device, a stepArgs, old store.Proof) (string, error) {
	w := &walkTest{o: o, d: d, id: old.ID, step: a.Step, test: old.Test}
	if old.EndedAt != nil {
		return "walked", nil
	}
	return w.end(ctx, toldError("The server stopped in the middle of this walk: walk again"))
}

// chosen is the route that is walked: the first with a line, else an area.
func chosen(f route.Facts) (route.Peg, bool) {
	for _, kind := range []string{"line", "area"} {
		if i := slices.IndexFunc(f.Pegs, func(p route.Peg) bool { return p.Input == kind }); i >= 0 {
			return f.Pegs[i], true
		}
	}
	return route.Peg{}, false
}

func (w *walkTest) end(ctx context.Context, terr error) (string, error) {
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), 10*time.Second)
	defer cancel()
	w.mu.Lock()
	w.test.Ended = time.Now().UTC()
	if terr != nil {
		w.test.Trouble = sentence(terr)
	}
	bars := proof.Judge(w.test.Ended, w.test, w.d.Place)
	w.mu.Unlock()
	if _, err := w.o.store.KeepProof(ctx, w.id, w.d.SourceID, w.step, w.test); err != nil {
		return "", err
	}
	if err := w.o.judgeAround(ctx, w.d); err != nil {
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

func (w *walkTest) run(ctx context.Context, v *View, tell bool) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	cam, _, err := w.o.open(ctx, w.d, v)
	if err != nil {
		return err
	}
	defer cam.Close()
	reading, err := cam.NarrowTime(ctx, clockError)
	if err != nil {
		return err
	}
	w.off, w.test.Error = reading.Offset.Mid(), reading.Offset.Error()
	point, err := cam.Subscribe(ctx, v.Services(w.d.ID))
	if err != nil {
		return err
	}
	defer func() {
		ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), 2*time.Second)
		defer cancel()
		_ = point.Close(ctx)
	}()
	rec, slot, ok := v.HolderOf(w.d)
	if !ok || slot == nil {
		return toldError("No recorder holds " + w.d.Place + ".")
	}
	rc, err := w.o.recorderClient(ctx, rec)
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
	wg.Go(func() { failed <- w.hearCamera(ctx, point) })
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
	limit := time.After(w.o.opt.WalkFor)
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
			if stop, err := w.o.store.Stopped(ctx, w.step); err != nil || stop {
				return cmp.Or[error](err, toldError("The walk was stopped"))
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
	if _, err := w.o.store.KeepProof(ctx, w.id, w.d.SourceID, w.step, t); err != nil && ctx.Err() == nil {
		w.o.opt.Log.Warn("an arrival wasn't written down", "err", err)
	}
	w.o.touch(w.d.SiteID)
}

func (w *walkTest) hearCamera(ctx context.Context, point *onvif.PullPoint) error {
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
			if e.Topic != w.test.Topic {
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
				t.Camera = append(t.Camera, proof.Arrival{At: now, Name: e.Rule()})
			})
		}
	}
}

func (w *walkTest) hearRecorder(ctx context.Context, rc *recorder.Client, number int, after int64) error {
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
			w.heard(ctx, func(t *proof.Test) { t.Recorder = append(t.Recorder, proof.Arrival{At: now, Name: e.Name}) })
		}
	}
}

// tellStandIn has a person walk before a stand-in camera of a demo site.
func (w *walkTest) tellStandIn(ctx context.Context) error {
	site, err := w.o.store.Site(ctx, w.d.SiteID)
	if err != nil {
		return err
	}
	if !site.Demo {
		return toldError("Only a demo site's stand-ins can be told to walk")
	}
	ctx, cancel := context.WithTimeout(ctx, 3*time.Second)
	defer cancel()
	on := netip.AddrPortFrom(*w.d.Address, controlPort).String()
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, "http://"+on+"/walk", nil)
	if err != nil {
		return err
	}
	res, err := w.o.dialer.At(*w.d.Address).Client(nil).Do(req)
	if err != nil {
		return &dial.Error{Tried: "telling the stand-in to walk", On: on, Kind: dial.ErrUnreachable, Says: "its control port doesn't answer"}
	}
	return res.Body.Close()
}
