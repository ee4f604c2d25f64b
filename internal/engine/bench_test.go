package engine_test

import (
	"cmp"
	"context"
	"encoding/json"
	"testing"
	"time"

	"duskyharbor/internal/app"
	"duskyharbor/internal/core/stage"
	"duskyharbor/internal/device/dial"
	"duskyharbor/internal/site"
	"duskyharbor/internal/store"
	"duskyharbor/internal/testbed"
)

const concurrency = 64

// bulk is an office at work on bulk cameras that were found.
type bulk struct {
	b   *testing.B
	h   *testbed.Harbour
	app *app.App
	ids []int64
}

func openBulk(b *testing.B, cameras int, opt app.Options) *bulk {
	b.Helper()
	h := testbed.StartBulk(b, cameras)
	opt.Listen, opt.Measure, opt.Options.Most = 900*time.Millisecond, cmp.Or(opt.Measure, 50*time.Millisecond), store.Limits{Network: concurrency}
	o, err := app.New(h.Store, h.Vault, &dial.Dialer{}, opt)
	if err != nil {
		b.Fatal(err)
	}
	if err := o.Start(context.Background()); err != nil {
		b.Fatal(err)
	}
	b.Cleanup(func() {
		ctx, cancel := context.WithTimeout(context.Background(), 20*time.Second)
		defer cancel()
		_ = o.Stop(ctx)
	})
	y := &bulk{b: b, h: h, app: o}
	networks, err := h.Store.Networks(context.Background(), h.Site)
	if err != nil {
		b.Fatal(err)
	}
	n := store.NewRun{Site: h.Site, Stage: stage.Find, Act: store.Read, Title: "Look"}
	for _, w := range networks {
		n.Networks = append(n.Networks, w.ID)
	}
	y.run(n)
	found, err := h.Store.Resolve(context.Background(), store.Selection{Site: h.Site, Ready: stage.Clock}, stage.Clock)
	if err != nil || len(found) < cameras {
		b.Fatalf("%d cameras were found: %v", len(found), err)
	}
	for _, t := range found {
		y.ids = append(y.ids, t.Device)
	}
	return y
}

func (y *bulk) run(n store.NewRun) store.Run {
	y.b.Helper()
	id, err := y.app.Begin(context.Background(), n, false)
	if err != nil {
		y.b.Fatal(err)
	}
	return y.ended(id)
}

func (y *bulk) ended(id int64) store.Run {
	y.b.Helper()
	var r store.Run
	testbed.Until(y.b, 5*time.Minute, "the run ends", func() bool {
		var err error
		r, err = y.h.Store.Run(context.Background(), id)
		return err == nil && r.EndedAt != nil
	})
	return r
}

func (y *bulk) read(st stage.Stage) {
	y.b.Helper()
	if r := y.run(store.NewRun{Site: y.h.Site, Stage: st, Act: store.Read, Title: "Read",
		Of: store.OfDevices(y.ids...)}); r.Failed > len(y.ids)/100 {
		y.b.Fatalf("%v: %+v", st, r)
	}
}

// BenchmarkJudge judges 200 cameras in all stages, as they come from the database; the
// bound decodes each of their facts once.
func BenchmarkJudge(b *testing.B) {
	y := openBulk(b, 200, app.Options{})
	y.read(stage.SignIn)
	y.read(stage.Clock)
	ctx := context.Background()
	facts, err := y.h.Store.FactsOf(ctx, y.ids)
	if err != nil {
		b.Fatal(err)
	}
	var judging, bare time.Duration
	marks := 0
	for b.Loop() {
		s, err := site.Load(ctx, y.h.Store, y.h.Site, y.ids)
		if err != nil {
			b.Fatal(err)
		}
		begun := time.Now()
		for _, d := range s.Cameras() {
			marks += len(y.app.Marks(begun, s, d))
		}
		judging += time.Since(begun)
		begun = time.Now()
		for _, all := range facts {
			for _, f := range all {
				var into any
				if err := json.Unmarshal(f.Value, &into); err != nil {
					b.Fatal(err)
				}
			}
		}
		bare += time.Since(begun)
	}
	if marks == 0 {
		b.Fatal("nothing was judged")
	}
	b.ReportMetric(float64(judging.Microseconds())/float64(b.N*len(y.ids)), "µs/camera")
	b.ReportMetric(float64(bare.Microseconds())/float64(b.N*len(y.ids)), "µs/decoding")
	b.ReportMetric(judging.Seconds()/bare.Seconds(), "ratio")
}
