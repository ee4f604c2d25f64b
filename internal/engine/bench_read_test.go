package engine_test

import (
	"context"
	"fmt"
	"net/netip"
	"sync"
	"testing"
	"time"

	"duskyharbor/internal/app"
	"duskyharbor/internal/core/access"
	"duskyharbor/internal/core/stage"
	"duskyharbor/internal/device/dial"
	"duskyharbor/internal/device/onvif"
	"duskyharbor/internal/device/rtsp"
	"duskyharbor/internal/standin/camera"
)

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
	if _, _, err := signed.Name(ctx); err != nil {
		return err
	}
	services, _, err := signed.Services(ctx)
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
	describe, err := rtsp.Open(ctx, host, fmt.Sprintf("rtsp://%s:%d/", c.Address, camera.RTSPPort), rtsp.Login{Username: c.Username, Password: c.Password})
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
