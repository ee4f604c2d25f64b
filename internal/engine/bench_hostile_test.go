package engine_test

import (
	"context"
	"fmt"
	"io"
	"net"
	"strconv"
	"strings"
	"testing"
	"time"

	"duskyharbor/internal/app"
	"duskyharbor/internal/core/identity"
	"duskyharbor/internal/core/stage"
	"duskyharbor/internal/standin/camera"
	"duskyharbor/internal/store"
	"duskyharbor/internal/testbed"
)

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
