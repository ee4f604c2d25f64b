package camera_test

import (
	"errors"
	"fmt"
	"testing"
	"time"

	"duskyharbor/internal/demo"
	"duskyharbor/internal/device/dial"
	"duskyharbor/internal/device/rtsp"
	"duskyharbor/internal/standin/camera"
	"duskyharbor/internal/testbed"
)

// A recorder that keeps a session for long doesn't lock the camera: neither one that asks
// for a new nonce, nor one that counts an old one as a wrong password.
func TestALongSessionLocksNobodyOut(t *testing.T) {
	t.Parallel()
	n, s := testbed.Net(t), demo.NewSecrets()
	for _, counts := range []bool{false, true} {
		cfg := demo.Cameras(n, s, "")[0]
		cfg.Manners.NonceLife, cfg.Manners.CountsStale, cfg.Manners.LockAfter, cfg.Manners.LockFor = time.Second, counts, 3, time.Minute
		cam, err := camera.Start(t.Context(), cfg)
		if err != nil {
			t.Fatal(err)
		}
		c, err := rtsp.Open(t.Context(), (&dial.Dialer{}).At(cam.At()),
			fmt.Sprintf("rtsp://%s:%d/main", cam.At(), camera.RTSPPort), rtsp.Login{Username: cfg.Username, Password: cfg.Password})
		if err != nil {
			t.Fatal(err)
		}
		c.Fresh = 400 * time.Millisecond
		track, err := c.Describe()
		if err == nil {
			err = c.Play(track)
		}
		for end, kept := time.Now().Add(4*time.Second), time.Now(); err == nil && time.Now().Before(end); {
			if _, err = c.Packet(); err == nil && time.Since(kept) > 1200*time.Millisecond {
				kept = time.Now()
				err = c.KeepAlive()
			}
		}
		if err != nil || cam.Wrongs() != 0 {
			t.Errorf("counts old nonces: %v: %v, %d wrong sign-ins", counts, err, cam.Wrongs())
		}
		c.Close()
		// And a wrong password is one all the same.
		bad, err := rtsp.Open(t.Context(), (&dial.Dialer{}).At(cam.At()),
			fmt.Sprintf("rtsp://%s:%d/main", cam.At(), camera.RTSPPort), rtsp.Login{Username: cfg.Username, Password: "another"})
		if err != nil {
			t.Fatal(err)
		}
		if _, err := bad.Describe(); !errors.Is(err, dial.ErrNotAuthorised) || cam.Wrongs() != 1 {
			t.Errorf("a wrong password: %v, %d counted", err, cam.Wrongs())
		}
		bad.Close()
		cam.Close()
	}
}
