package engine_test

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"net"
	"net/netip"
	"net/url"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"duskyharbor/internal/app"
	"duskyharbor/internal/core/access"
	"duskyharbor/internal/core/clock"
	"duskyharbor/internal/core/finding"
	"duskyharbor/internal/core/identity"
	"duskyharbor/internal/core/netplan"
	"duskyharbor/internal/core/stage"
	"duskyharbor/internal/demo"
	"duskyharbor/internal/device/dial"
	"duskyharbor/internal/device/discovery"
	"duskyharbor/internal/device/onvif"
	"duskyharbor/internal/device/page"
	"duskyharbor/internal/device/rtsp"
	"duskyharbor/internal/engine"
	"duskyharbor/internal/site"
	"duskyharbor/internal/standin/camera"
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
	opt.Listen, opt.Measure, opt.Options.Most = 900*time.Millisecond, 50*time.Millisecond, store.Limits{Network: concurrency}
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

// BenchmarkReadThousand finds 1,000 cameras, signs in to them and reads their clocks,
// through the whole product; and makes the same calls bare, at the same concurrency,
// with nothing kept.
func BenchmarkReadThousand(b *testing.B) {
	y := openBulk(b, 1000, app.Options{})
	for b.Loop() {
		begun := time.Now()
		y.look()
		found := time.Since(begun)
		y.read(stage.SignIn)
		y.read(stage.Clock)
		through := time.Since(begun)
		begun = time.Now()
		y.bareLook()
		y.bare()
		bare := time.Since(begun)
		b.ReportMetric(found.Seconds(), "s/find")
		b.ReportMetric(through.Seconds(), "s/through")
		b.ReportMetric(bare.Seconds(), "s/bare")
		b.ReportMetric(through.Seconds()/bare.Seconds(), "ratio")
	}
}

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
				c.Close()
			}
			_, _ = page.Fetch(ctx, host, page.At(a, camera.HTTPPort), nil)
			if c, err := rtsp.Open(ctx, host, fmt.Sprintf("rtsp://%s:%d/", a, camera.RTSPPort), "", ""); err == nil {
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

// bare makes the calls that the three readings make.
func (y *bulk) bare() {
	configs := map[netip.Addr]camera.Config{}
	for _, c := range y.h.Fleet.Cameras {
		configs[c.Config().Address] = c.Config()
	}
	gate := make(chan struct{}, concurrency)
	var wg sync.WaitGroup
	for _, c := range configs {
		gate <- struct{}{}
		wg.Go(func() {
			defer func() { <-gate }()
			if err := bareOne(c); err != nil {
				y.b.Error(err)
			}
		})
	}
	wg.Wait()
}

func bareOne(c camera.Config) error {
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	host := (&dial.Dialer{}).At(c.Address)
	service := fmt.Sprintf("http://%s:%d/onvif/device_service", c.Address, camera.HTTPPort)
	login := onvif.Login{Username: c.Username, Password: c.Password, Scheme: access.Token}
	if c.TakesDigest {
		login.Scheme = access.Digest
	}
	plain, err := onvif.New(host, service, onvif.Login{})
	if err != nil {
		return err
	}
	defer plain.Close()
	r, err := plain.Time(ctx)
	if err != nil {
		return err
	}
	if _, err := plain.Schemes(ctx); err != nil {
		return err
	}
	login.Ahead = r.Offset.Mid()
	signed, err := onvif.New(host, service, login)
	if err != nil {
		return err
	}
	defer signed.Close()
	if _, err := signed.Information(ctx); err != nil {
		return err
	}
	services, err := signed.Services(ctx)
	if err != nil {
		return err
	}
	if _, err := signed.Users(ctx); err != nil {
		return err
	}
	if _, _, err := signed.IPConfig(ctx); err != nil {
		return err
	}
	_, _ = signed.Rule(ctx)
	if _, err := signed.Discoverable(ctx); err != nil {
		return err
	}
	if _, err := signed.VideoSources(ctx, services); err != nil {
		return err
	}
	describe, err := rtsp.Open(ctx, host, fmt.Sprintf("rtsp://%s:%d/", c.Address, camera.RTSPPort), c.Username, c.Password)
	if err != nil {
		return err
	}
	_, _ = describe.Describe()
	describe.Close()
	// Clock
	if _, err := plain.Time(ctx); err != nil {
		return err
	}
	if _, _, err := signed.NTP(ctx); err != nil {
		return err
	}
	if _, err := signed.Texts(ctx, services); err != nil {
		return err
	}
	return nil
}

// BenchmarkGoodBesideHostile reads 400 good cameras alone, and beside 400 hostile ones
// in the same run: the share by which the good ones are slowed.
func BenchmarkGoodBesideHostile(b *testing.B) {
	const each = 400
	y := openBulk(b, each, app.Options{})
	good := y.ids
	var hostile []int64
	bad := []func(net.Conn){
		func(c net.Conn) { time.Sleep(20 * time.Second) }, // never answers
		func(c net.Conn) { // 50 MB
			_, _ = c.Read(make([]byte, 4096))
			_, _ = io.WriteString(c, "HTTP/1.1 200 OK\r\nConnection: close\r\n\r\n<s:Envelope>")
			for range 50 {
				if _, err := c.Write(make([]byte, 1<<20)); err != nil {
					return
				}
			}
		},
		func(c net.Conn) { _, _ = io.WriteString(c, "\x00\x01 garbage") },
		func(c net.Conn) { _, _ = c.Read(make([]byte, 4096)) }, // closes in the middle
		func(c net.Conn) { // deep nesting
			_, _ = c.Read(make([]byte, 4096))
			_, _ = io.WriteString(c, "HTTP/1.1 200 OK\r\nConnection: close\r\n\r\n"+strings.Repeat("<a>", 100_000))
		},
		func(c net.Conn) { // an entity bomb
			_, _ = c.Read(make([]byte, 4096))
			_, _ = io.WriteString(c, "HTTP/1.1 200 OK\r\nConnection: close\r\n\r\n<!DOCTYPE a [<!ENTITY x \"xxxxxxxx\"><!ENTITY y \"&x;&x;&x;&x;\">]><a>&y;&y;</a>")
		},
		func(c net.Conn) { // sends elsewhere
			_, _ = c.Read(make([]byte, 4096))
			_, _ = io.WriteString(c, "HTTP/1.1 302 Found\r\nLocation: http://192.0.2.1/\r\nContent-Length: 0\r\n\r\n")
		},
		func(c net.Conn) { // begins and stalls
			_, _ = c.Read(make([]byte, 4096))
			_, _ = io.WriteString(c, "HTTP/1.1 200 OK\r\nContent-Length: 5000\r\n\r\n<s:Env")
			time.Sleep(20 * time.Second)
		},
	}
	ctx := context.Background()
	var fresh []store.NewDevice
	for i := range each {
		at := y.h.Net.At(fmt.Sprintf(".%d.%d", 170+i/200, 2+i%200))
		l, err := net.ListenTCP("tcp4", &net.TCPAddr{IP: at.AsSlice(), Port: camera.HTTPPort})
		if err != nil {
			b.Fatal(err)
		}
		b.Cleanup(func() { _ = l.Close() })
		go func() {
			for {
				c, err := l.Accept()
				if err != nil {
					return
				}
				go func() { defer c.Close(); bad[i%len(bad)](c) }()
			}
		}()
		fresh = append(fresh, store.NewDevice{Device: store.Device{SiteID: y.h.Site, Kind: identity.Camera,
			Place: "Hostile " + strconv.Itoa(i), Address: &at}})
	}
	hostile, err := y.h.Store.AddDevices(ctx, y.h.Site, fresh)
	if err != nil {
		b.Fatal(err)
	}
	for i, id := range hostile {
		s := identity.Sighting{Address: *fresh[i].Address, Ways: []identity.Way{identity.Directed},
			Kind: identity.Camera, Service: fmt.Sprintf("http://%s:%d/onvif/device_service", fresh[i].Address, camera.HTTPPort)}
		if err := y.h.Store.KeepFact(ctx, id, "find.seen", "directed", time.Now(), s); err != nil {
			b.Fatal(err)
		}
	}
	// took is how long it takes until the good ones of a run are done.
	took := func(ids []int64) time.Duration {
		begun := time.Now()
		run, err := y.app.Begin(ctx, store.NewRun{Site: y.h.Site, Stage: stage.SignIn, Act: store.Read, Title: "Read",
			Of: store.OfDevices(ids...)}, false)
		if err != nil {
			b.Fatal(err)
		}
		testbed.Until(b, 2*time.Minute, "the good ones are done", func() bool {
			var left int
			err := y.h.Store.Pool.QueryRow(ctx, `select count(*) from run_step where run_id = $1 and device_id = any($2) and ended_at is null`, run, good).Scan(&left)
			return err == nil && left == 0
		})
		d := time.Since(begun)
		if len(ids) > len(good) {
			if err := y.h.Store.StopRun(ctx, y.h.Site, run); err != nil {
				b.Fatal(err)
			}
			y.ended(run)
		}
		return d
	}
	both := make([]int64, 0, 2*each)
	for i := range each { // one of each, so that none goes before the others
		both = append(both, hostile[i], good[i])
	}
	took(good) // so that both find the same account first
	for b.Loop() {
		alone, beside := took(good), took(both)
		b.ReportMetric(alone.Seconds(), "s/alone")
		b.ReportMetric(beside.Seconds(), "s/beside")
		b.ReportMetric(beside.Seconds()/alone.Seconds(), "ratio")
	}
}

// BenchmarkChanges makes a change on each of 300 cameras through the engine: written
// down, read, sent, read back, settled, judged. Its bound is what the same database
// does in bare transactions of pgbench at the same concurrency.
func BenchmarkChanges(b *testing.B) {
	const cameras = 300
	y := openBulk(b, cameras, app.Options{})
	y.read(stage.SignIn)
	y.read(stage.Clock)
	ctx := context.Background()
	for b.Loop() {
		v, err := site.Load(ctx, y.h.Store, y.h.Site, y.ids)
		if err != nil {
			b.Fatal(err)
		}
		var picks []engine.Pick
		for _, d := range v.Cameras() {
			r, ok := site.Clock.Of(v, d.ID)
			if !ok {
				continue
			}
			to, daylight := "UTC0", "off"
			if r.Zone == to {
				to, daylight = "WET0", "off"
			}
			picks = append(picks, engine.Pick{Source: v.Of(d),
				Changes: []finding.Change{{Kind: clock.SetZone, Key: clock.SetZone, Title: "Zone rule",
					From: r.ZoneText(), To: clock.ZoneText(to, false), Risk: finding.NoRisk,
					Undo: finding.Undo{Kind: finding.Reversible}, Args: map[string]string{"zone": to, "daylight": daylight}}}})
		}
		begun := time.Now()
		run, err := y.app.Apply(ctx, engine.Ask{Site: y.h.Site, Stage: stage.Clock, Title: "Zones"}, picks)
		if err != nil {
			b.Fatal(err)
		}
		if r := y.ended(run); r.Failed > 0 {
			b.Fatalf("%+v", r)
		}
		rate := float64(len(picks)) / time.Since(begun).Seconds()
		bound, err := pgbench(y.h.DSN)
		if err != nil {
			b.Skip(err)
		}
		b.ReportMetric(rate, "changes/s")
		b.ReportMetric(bound, "pgbench-tx/s")
		b.ReportMetric(bound/rate, "tx/change")
	}
}

// pgbench is how many of its standard transactions the database does in a second.
func pgbench(dsn string) (float64, error) {
	dirs, _ := filepath.Glob("/usr/lib/postgresql/*/bin/pgbench")
	if len(dirs) == 0 {
		return 0, errors.New("pgbench isn't installed")
	}
	u, err := url.Parse(dsn)
	if err != nil {
		return 0, err
	}
	for _, args := range [][]string{{"-i", "-q", "-s", "4"}, {"-c", "16", "-j", "2", "-T", "4"}} {
		out, err := exec.Command(dirs[len(dirs)-1], append(args, u.String())...).CombinedOutput()
		if err != nil {
			return 0, fmt.Errorf("pgbench: %w: %s", err, out)
		}
		if _, after, ok := strings.Cut(string(out), "tps = "); ok {
			number, _, _ := strings.Cut(after, " ")
			return strconv.ParseFloat(number, 64)
		}
	}
	return 0, errors.New("pgbench says no rate")
}
