package engine_test

import (
	"context"
	"fmt"
	"sync"
	"testing"
	"time"

	"duskyharbor/internal/app"
	"duskyharbor/internal/core/identity"
	"duskyharbor/internal/core/stage"
	"duskyharbor/internal/device/dial"
	"duskyharbor/internal/device/ntp"
	client "duskyharbor/internal/device/recorder"
	"duskyharbor/internal/facts"
	"duskyharbor/internal/standin/recorder"
	"duskyharbor/internal/store"
	"duskyharbor/internal/testbed"
)

// BenchmarkReadRecorders reads 16 recorders of 64 channels each over the wire, through the whole product;
// and makes the same calls bare, side by side, with nothing kept.
func BenchmarkReadRecorders(b *testing.B) {
	const recorders, channels = 16, 64
	h := testbed.StartOnly(b, "none of the scenario")
	o, err := app.New(h.Store, h.Vault, &dial.Dialer{}, app.Options{Listen: 900 * time.Millisecond})
	if err != nil {
		b.Fatal(err)
	}
	if err := o.Start(b.Context()); err != nil {
		b.Fatal(err)
	}
	b.Cleanup(func() {
		ctx, cancel := context.WithTimeout(context.Background(), 20*time.Second)
		defer cancel()
		_ = o.Stop(ctx)
	})
	all, of := manyRecorders(b, h, recorders, channels)
	y := &bulk{b: b, h: h, app: o}
	for b.Loop() {
		begun := time.Now()
		if r := y.run(store.NewRun{Site: h.Site, Stage: stage.Channels, Act: store.Read, Title: "Read", Of: of}); r.Failed > 0 {
			b.Fatalf("%d failed", r.Failed)
		}
		through := time.Since(begun)
		begun = time.Now()
		var wg sync.WaitGroup
		for _, cfg := range all {
			wg.Go(func() {
				host := (&dial.Dialer{}).At(cfg.Address)
				c := client.New(host, recorder.Port, "", dial.Login{Username: cfg.Username, Password: cfg.Password})
				defer c.Close()
				if table, _, err := c.Status(b.Context()); err != nil || len(table.Slots) != channels {
					b.Error(len(table.Slots), err)
				}
				_, _ = ntp.Ask(b.Context(), host)
			})
		}
		wg.Wait()
		bare := time.Since(begun)
		b.ReportMetric(through.Seconds(), "s/through")
		b.ReportMetric(bare.Seconds(), "s/bare")
		b.ReportMetric(through.Seconds()/bare.Seconds(), "ratio")
	}
}

// manyRecorders starts recorders whose channels somebody set up before, of cameras that aren't there, and
// has the site know them.
func manyRecorders(b *testing.B, h *testbed.Harbour, recorders, channels int) (all []recorder.Config, of []store.Target) {
	b.Helper()
	ctx := b.Context()
	var set int64
	if err := h.Store.Pool.QueryRow(ctx, `select set_id from device where place = 'Terminal recorder'`).Scan(&set); err != nil {
		b.Fatal(err)
	}
	for i := range recorders {
		at := h.Net.At(fmt.Sprintf(".2.%d", 60+i))
		cfg := recorder.Config{Place: fmt.Sprintf("Recorder %d", i+1), Make: "Tarnlight", Model: "TRN N64", Serial: fmt.Sprintf("N64-%d", i), Address: at,
			Username: "install", Password: h.Secrets.Terminal, Limits: recorder.Limits{Channels: channels, Licences: channels, Codecs: []string{"H264"}}}
		for n := range channels {
			cfg.Entries = append(cfg.Entries, recorder.Entry{Number: n + 1, Name: fmt.Sprintf("View %d of %d", n+1, i+1), Address: h.Net.At(fmt.Sprintf(".%d.%d", 200+i, n+1)).String(), User: "otter", Secret: "x"})
		}
		r, err := recorder.Start(context.Background(), cfg)
		if err != nil {
			b.Fatal(err)
		}
		b.Cleanup(r.Close)
		id, err := h.Store.AddDevice(ctx, store.Device{SiteID: h.Site, Kind: identity.Recorder, Place: cfg.Place, Address: &at, ExpectedAt: &at, Expected: true, SetID: &set})
		if err != nil {
			b.Fatal(err)
		}
		now := time.Now()
		if err := h.Store.KeepFacts(ctx, facts.Seen.New(id, "GET /api/hello", now, identity.Sighting{Address: at, At: now, Kind: identity.Recorder, Ways: []identity.Way{identity.SaidHello}})); err != nil {
			b.Fatal(err)
		}
		all, of = append(all, cfg), append(of, store.Target{Device: id})
	}
	return all, of
}
