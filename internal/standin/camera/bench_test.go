package camera_test

import (
	"fmt"
	"sync"
	"syscall"
	"testing"
	"time"

	"duskyharbor/internal/core/stream"
	"duskyharbor/internal/demo"
	"duskyharbor/internal/device/dial"
	"duskyharbor/internal/device/rtsp"
	"duskyharbor/internal/standin/camera"
	"duskyharbor/internal/testbed"
)

// spent is the processor time of this process so far, stand-ins and clients together.
func spent(b *testing.B) time.Duration {
	var u syscall.Rusage
	if err := syscall.Getrusage(syscall.RUSAGE_SELF, &u); err != nil {
		b.Fatal(err)
	}
	return time.Duration(u.Utime.Nano() + u.Stime.Nano())
}

// BenchmarkMeasureManyStreams plays and measures 200 streams at once, in turn with reading the
// same bare: processor time of both, with what the stand-ins take to send, and the ratio.
func BenchmarkMeasureManyStreams(b *testing.B) {
	const streams, length = 200, 2 * time.Second
	n, s := testbed.Net(b), demo.NewSecrets()
	for _, cfg := range demo.BulkCameras(n, s, "", streams) {
		cfg.Username, cfg.Password = "otter", s.House
		cam, err := camera.Start(b.Context(), cfg)
		if err != nil {
			b.Fatal(err)
		}
		b.Cleanup(cam.Close)
	}
	all := demo.BulkCameras(n, s, "", streams)
	login := rtsp.Login{Username: "otter", Password: s.House}
	each := func(play func(host dial.Host, p stream.Profile) error) time.Duration {
		before := spent(b)
		var wg sync.WaitGroup
		for _, cfg := range all {
			wg.Go(func() {
				p := stream.Profile{Token: "main", URI: fmt.Sprintf("rtsp://%s:%d/main", cfg.Address, camera.RTSPPort)}
				if err := play((&dial.Dialer{Connect: 10 * time.Second}).At(cfg.Address), p); err != nil {
					b.Error(err)
				}
			})
		}
		wg.Wait()
		return spent(b) - before
	}
	measure := func(host dial.Host, p stream.Profile) error {
		if m := rtsp.Measure(b.Context(), host, p, login, length); m.Trouble != "" || m.Lost > 0 {
			return fmt.Errorf("%+v", m)
		}
		return nil
	}
	bare := func(host dial.Host, p stream.Profile) error {
		c, err := rtsp.Open(b.Context(), host, p.URI, login)
		if err != nil {
			return err
		}
		defer c.Close()
		t, err := c.Describe()
		if err == nil {
			err = c.Play(t)
		}
		for end := time.Now().Add(length + 500*time.Millisecond); err == nil && time.Now().Before(end); {
			_, err = c.Packet()
		}
		return err
	}
	var measured, read time.Duration
	for b.Loop() {
		measured += each(measure)
		read += each(bare)
	}
	b.ReportMetric(measured.Seconds()/float64(b.N), "cpu-s/measured")
	b.ReportMetric(read.Seconds()/float64(b.N), "cpu-s/bare")
	b.ReportMetric(measured.Seconds()/read.Seconds(), "ratio")
}
