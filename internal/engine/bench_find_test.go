package engine_test

import (
	"context"
	"fmt"
	"maps"
	"net"
	"net/netip"
	"slices"
	"sync"
	"testing"
	"time"

	"duskyharbor/internal/app"
	"duskyharbor/internal/core/netplan"
	"duskyharbor/internal/core/stage"
	"duskyharbor/internal/demo"
	"duskyharbor/internal/device/dial"
	"duskyharbor/internal/device/discovery"
	"duskyharbor/internal/device/onvif"
	"duskyharbor/internal/device/page"
	"duskyharbor/internal/device/rtsp"
	"duskyharbor/internal/standin/camera"
	"duskyharbor/internal/store"
	"duskyharbor/internal/testbed"
)

// look looks at all networks of the site.
func (y *bulk) look() {
	y.b.Helper()
	networks, err := y.h.Store.Networks(context.Background(), y.h.Site)
	if err != nil {
		y.b.Fatal(err)
	}
	n := store.NewRun{Site: y.h.Site, Stage: stage.Find, Act: store.Read, Title: "Look"}
	for _, w := range networks {
		n.Networks = append(n.Networks, w.ID)
	}
	y.run(n)
}

// bareLook asks the same addresses the same things, side by side like the look, and
// keeps nothing.
func (y *bulk) bareLook() {
	ctx := context.Background()
	networks, err := y.h.Store.Networks(ctx, y.h.Site)
	if err != nil {
		y.b.Fatal(err)
	}
	var all sync.WaitGroup
	for _, n := range networks {
		all.Go(func() { bareLookAt(ctx, n.Prefix) })
	}
	all.Wait()
}

var sweptPorts = []int{80, 443, 554, 8080, 8443, 8554}

func bareLookAt(ctx context.Context, p netip.Prefix) {
	source, err := discovery.Source(p)
	if err != nil {
		return
	}
	hosts := netplan.Hosts(p)
	var open map[netip.Addr][]int
	var wg sync.WaitGroup
	wg.Go(func() { _, _ = discovery.Multicast(ctx, source, 900*time.Millisecond) })
	wg.Go(func() { _, _ = discovery.Directed(ctx, source, hosts, 900*time.Millisecond) })
	wg.Go(func() { open = discovery.Sweep(ctx, &dial.Dialer{}, hosts, sweptPorts, 300*time.Millisecond) })
	wg.Wait()
	discovery.Sweep(ctx, &dial.Dialer{}, slices.Collect(maps.Keys(open)), sweptPorts, time.Second)
	gate := make(chan struct{}, concurrency)
	for a := range open {
		gate <- struct{}{}
		wg.Go(func() {
			defer func() { <-gate }()
			host := (&dial.Dialer{}).At(a)
			if c, err := onvif.New(host, page.At(a, camera.HTTPPort)+"onvif/device_service", onvif.Login{}); err == nil {
				_, _ = c.Time(ctx)
				_, _ = c.Schemes(ctx)
				_, _, _ = c.Services(ctx)
				c.Close()
			}
			_, _ = page.Fetch(ctx, host, page.At(a, camera.HTTPPort), nil)
			if c, err := rtsp.Open(ctx, host, fmt.Sprintf("rtsp://%s:%d/", a, camera.RTSPPort), rtsp.Login{}); err == nil {
				_ = c.Options()
				c.Close()
			}
		})
	}
	wg.Wait()
}

// BenchmarkFind looks at four /24 with 200 live cameras: against the time that it must
// listen for answers, and against a plain connect loop over the same addresses and
// ports.
func BenchmarkFind(b *testing.B) {
	const live, listen = 200, 900 * time.Millisecond
	h := testbed.Start(b)
	ctx := context.Background()
	var addresses []netip.Addr
	run := store.NewRun{Site: h.Site, Stage: stage.Find, Act: store.Read, Title: "Look"}
	for third := 10; third < 14; third++ {
		if err := h.Store.AddNetwork(ctx, h.Site, fmt.Sprint("Net ", third), h.Net.Prefix(third)); err != nil {
			b.Fatal(err)
		}
		addresses = append(addresses, netplan.Hosts(h.Net.Prefix(third))...)
	}
	for i, c := range demo.BulkCameras(h.Net, h.Secrets, "", live) {
		third := 10 + i%4
		c.Address, c.Network = h.Net.At(fmt.Sprintf(".%d.%d", third, 20+i/4)), h.Net.Prefix(third)
		cam, err := camera.Start(ctx, c)
		if err != nil {
			b.Fatal(err)
		}
		b.Cleanup(cam.Close)
	}
	networks, err := h.Store.Networks(ctx, h.Site)
	if err != nil {
		b.Fatal(err)
	}
	for _, n := range networks[len(networks)-4:] {
		run.Networks = append(run.Networks, n.ID)
	}
	o, err := app.New(h.Store, h.Vault, &dial.Dialer{}, app.Options{Listen: listen})
	if err != nil {
		b.Fatal(err)
	}
	if err := o.Start(ctx); err != nil {
		b.Fatal(err)
	}
	b.Cleanup(func() { _ = o.Stop(context.Background()) })
	y := &bulk{b: b, h: h, app: o}
	for b.Loop() {
		begun := time.Now()
		if r := y.run(run); r.Failed > 0 {
			b.Fatalf("%+v", r)
		}
		through := time.Since(begun)
		begun = time.Now()
		connectLoop(addresses, sweptPorts)
		plain := time.Since(begun)
		var heard int
		if err := h.Store.Pool.QueryRow(ctx, `select count(*) from fact where name = 'find.seen'`).Scan(&heard); err != nil || heard != live {
			b.Fatalf("%d of %d were found: %v", heard, live, err)
		}
		b.ReportMetric(through.Seconds(), "s/find")
		b.ReportMetric(plain.Seconds(), "s/connect")
		b.ReportMetric(through.Seconds()/listen.Seconds(), "ratio-to-listening")
		b.ReportMetric(through.Seconds()/plain.Seconds(), "ratio-to-connect")
	}
}

// connectLoop is what anyone would write first: a connect to each port of each address,
// 512 at once.
func connectLoop(addresses []netip.Addr, ports []int) {
	gate := make(chan struct{}, 512)
	var wg sync.WaitGroup
	for _, a := range addresses {
		for _, p := range ports {
			gate <- struct{}{}
			wg.Go(func() {
				defer func() { <-gate }()
				if c, err := net.DialTimeout("tcp4", netip.AddrPortFrom(a, uint16(p)).String(), 300*time.Millisecond); err == nil {
					_ = c.Close()
				}
			})
		}
	}
	wg.Wait()
}
