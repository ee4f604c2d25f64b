package engine_test

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"os"
	"strconv"
	"sync"
	"testing"
	"time"

	"github.com/icholy/digest"

	"duskyharbor/internal/app"
	"duskyharbor/internal/core/stage"
	"duskyharbor/internal/core/stream"
	"duskyharbor/internal/device/dial"
	"duskyharbor/internal/device/rtsp"
	"duskyharbor/internal/facts"
	"duskyharbor/internal/site"
	"duskyharbor/internal/stages/streams"
	"duskyharbor/internal/standin/camera"
	"duskyharbor/internal/store"
)

// BenchmarkStreamsOfThousands reads and plays both streams of 3,000 cameras (BULK_CAMERAS: of so
// many) through the whole product, for a second each. Its bound is what playing them must take at
// as many cameras at once as the site allows: two streams a camera, each as long as it takes alone.
func BenchmarkStreamsOfThousands(b *testing.B) {
	cameras := 3000
	if n, err := strconv.Atoi(os.Getenv("BULK_CAMERAS")); err == nil {
		cameras = n
	}
	const length = time.Second
	y := openBulk(b, cameras, app.Options{Measure: length})
	y.read(stage.SignIn)
	var alone time.Duration
	const sample = 8
	for _, c := range y.h.Fleet.Cameras[:sample] {
		cfg := c.Config()
		p := stream.Profile{Token: "main", URI: fmt.Sprintf("rtsp://%s:%d/main", c.At(), camera.RTSPPort)}
		begun := time.Now()
		m := rtsp.Measure(b.Context(), (&dial.Dialer{}).At(c.At()), p, rtsp.Login{Username: cfg.Username, Password: cfg.Password}, length)
		if m.Trouble == "" {
			alone += time.Since(begun)
		} else {
			b.Log(m.Trouble)
		}
	}
	bound := alone / sample * 2 * time.Duration(cameras) / concurrency
	for b.Loop() {
		begun := time.Now()
		y.readViews()
		through := time.Since(begun)
		b.ReportMetric(through.Seconds(), "s/through")
		b.ReportMetric(bound.Seconds(), "s/bound")
		b.ReportMetric(through.Seconds()/bound.Seconds(), "ratio")
	}
}

// readViews reads and plays all streams that can be.
func (y *bulk) readViews() {
	y.b.Helper()
	of, err := y.h.Store.Resolve(context.Background(), store.Selection{Site: y.h.Site, Ready: stage.Streams}, stage.Streams)
	if err != nil {
		y.b.Fatal(err)
	}
	if r := y.run(store.NewRun{Site: y.h.Site, Stage: stage.Streams, Act: store.Read, Title: "Read", Of: of}); r.Failed > len(of)/100 || len(of) == 0 {
		y.b.Fatalf("%d views: %+v", len(of), r)
	}
}

// BenchmarkWall fetches 64 stills through the product, as many at once as a browser does; its
// bound is fetching the same from the cameras.
func BenchmarkWall(b *testing.B) {
	const stills, atOnce = 64, 6
	y := openBulk(b, 80, app.Options{Measure: 50 * time.Millisecond})
	y.read(stage.SignIn)
	y.readViews()
	ctx := context.Background()
	s, err := site.Load(ctx, y.h.Store, y.h.Site, nil)
	if err != nil {
		b.Fatal(err)
	}
	type picture struct {
		of   store.Source
		from string
	}
	var all []picture
	for _, of := range s.Sources {
		f, _ := facts.ForStreams(s, of)
		_, view := stream.Roles(f.Profiles, nil)
		if p, _, ok := f.Find(view); ok && p.Snapshot != "" && len(all) < stills {
			all = append(all, picture{of, p.Snapshot})
		}
	}
	if len(all) < stills {
		b.Fatalf("%d cameras offer a still", len(all))
	}
	accounts := map[string]camera.Config{}
	for _, c := range y.h.Fleet.Cameras {
		accounts[c.At().String()] = c.Config()
	}
	each := func(fetch func(picture) (int, error)) (time.Duration, int) {
		begun, gate, bytes := time.Now(), make(chan struct{}, atOnce), 0
		var wg sync.WaitGroup
		var mu sync.Mutex
		for _, p := range all {
			gate <- struct{}{}
			wg.Go(func() {
				defer func() { <-gate }()
				n, err := fetch(p)
				if err != nil {
					b.Errorf("%s: %v", p.of.Place, err)
				}
				mu.Lock()
				bytes += n
				mu.Unlock()
			})
		}
		wg.Wait()
		return time.Since(begun), bytes
	}
	var through, bare time.Duration
	bytes := 0
	for b.Loop() {
		album := streams.New(y.app.Services) // which keeps none yet
		took, n := each(func(p picture) (int, error) {
			data, err := album.Still(ctx, p.of)
			return len(data), err
		})
		through, bytes = through+took, bytes+n
		took, _ = each(func(p picture) (int, error) {
			cfg := accounts[p.of.Device.Address.String()]
			client := &http.Client{Transport: &digest.Transport{Username: cfg.Username, Password: cfg.Password, Transport: &http.Transport{DisableKeepAlives: true}}}
			res, err := client.Get(p.from)
			if err != nil {
				return 0, err
			}
			defer res.Body.Close()
			data, err := io.ReadAll(res.Body)
			return len(data), err
		})
		bare += took
	}
	b.ReportMetric(through.Seconds()/float64(b.N), "s/wall")
	b.ReportMetric(bare.Seconds()/float64(b.N), "s/bare")
	b.ReportMetric(float64(bytes)/float64(b.N)/1000, "kB")
	b.ReportMetric(through.Seconds()/bare.Seconds(), "ratio")
}
