package camera_test

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"os/exec"
	"strconv"
	"sync"
	"testing"
	"time"

	"duskyharbor/internal/core/stream"
	"duskyharbor/internal/device/rtsp"
	"duskyharbor/internal/standin/camera"
)

// figures are a stream's as ffprobe counts them, over whole groups of pictures.
type figures struct{ fps, kbps, keyEvery float64 }

func (s *studio) figures(profile, transport string, length time.Duration) (figures, error) {
	ctx, cancel := context.WithTimeout(s.t.Context(), length+30*time.Second)
	defer cancel()
	out, err := exec.CommandContext(ctx, "ffprobe", "-v", "error", "-rtsp_transport", transport, "-analyzeduration", "1500000", "-select_streams", "v", "-show_entries", "packet=pts_time,size,flags",
		"-read_intervals", fmt.Sprintf("%%+%g", length.Seconds()), "-of", "json", fmt.Sprintf("rtsp://otter:%s@%s:%d/%s", s.login.Password, s.cfg.Address, camera.RTSPPort, profile)).Output()
	var p struct {
		Packets []struct {
			At    string `json:"pts_time"`
			Size  string `json:"size"`
			Flags string `json:"flags"`
		} `json:"packets"`
	}
	if err := errors.Join(err, json.Unmarshal(out, &p)); err != nil {
		return figures{}, err
	}
	var first, last, bytes, whole float64
	frames, upTo, gap := 0, 0, 0.0
	for _, x := range p.Packets {
		at, err := strconv.ParseFloat(x.At, 64)
		size, err2 := strconv.ParseFloat(x.Size, 64)
		if err != nil || err2 != nil {
			continue
		}
		if x.Flags[0] == 'K' {
			if frames > 0 {
				gap = max(gap, at-last)
			} else {
				first = at
			}
			last, whole, upTo = at, bytes, frames
		} else if frames == 0 {
			continue
		}
		bytes += size
		frames++
	}
	if last == first {
		return figures{}, fmt.Errorf("%d packets, and no two key frames", len(p.Packets))
	}
	return figures{float64(upTo) / (last - first), whole * 8 / 1000 / (last - first), gap}, nil
}

// What is measured agrees with ffprobe's figures within 2 %, over a whole round of the scene, by
// TCP and by UDP.
func TestFiguresAgreeWithFFprobe(t *testing.T) {
	t.Parallel()
	if _, err := exec.LookPath("ffprobe"); err != nil {
		t.Skip("ffprobe isn't installed: make test installs it")
	}
	s := newStudio(t, nil)
	const round = 12400 * time.Millisecond
	var all sync.WaitGroup
	for _, token := range []string{"main", "sub"} {
		p := s.profile(token)
		for transport, over := range map[string]rtsp.Over{"tcp": rtsp.TCP, "udp": rtsp.UDP} {
			var ours stream.Measured
			var theirs figures
			var err error
			var both sync.WaitGroup
			both.Go(func() {
				ours = rtsp.MeasureOver(t.Context(), s.host, p, s.login, round, func(c *rtsp.Conn, t rtsp.Track) error { return c.PlayOver(t, over) })
			})
			both.Go(func() { theirs, err = s.figures(token, transport, round) })
			all.Go(func() {
				both.Wait()
				if err != nil || ours.Trouble != "" {
					t.Errorf("%s by %s: %v, %s", token, transport, err, ours.Trouble)
					return
				}
				for name, pair := range map[string][2]float64{"frames a second": {ours.FPS, theirs.fps}, "kbit/s": {ours.MeanKbps, theirs.kbps}, "seconds between key frames": {ours.KeyEvery.Seconds(), theirs.keyEvery}} {
					if math.Abs(pair[0]-pair[1]) > 0.02*pair[1] {
						t.Errorf("%s by %s: %.3f %s, and ffprobe counts %.3f", token, transport, pair[0], name, pair[1])
					}
				}
			})
		}
	}
	all.Wait()
}

// What the analytics see comes in the session of the picture, by TCP and by UDP, with the sound
// beside it.
func TestMetadataComesBesideThePicture(t *testing.T) {
	t.Parallel()
	s := newStudio(t, func(c *camera.Config) { c.NoAnalytics, c.Manners.Sound = false, "PCMU" })
	p := s.profile("main")
	if !p.Metadata || s.profile("sub").Metadata {
		t.Fatalf("metadata is declared by main %v, by sub %v", p.Metadata, s.profile("sub").Metadata)
	}
	for _, over := range []rtsp.Over{rtsp.TCP, rtsp.UDP} {
		m := rtsp.MeasureOver(t.Context(), s.host, p, s.login, 2*time.Second, func(c *rtsp.Conn, t rtsp.Track) error {
			c.Hears, c.Reads = true, true
			return c.PlayOver(t, over)
		})
		if m.Trouble != "" || m.Frames < 25 || m.Metadata == nil || m.Metadata.Documents < 8 || math.Abs(m.Metadata.PerSecond-5) > 0.6 || m.Metadata.Lost != 0 || m.Sound == nil || !m.Sound.Measured {
			t.Errorf("%s: %+v, %+v, %+v", over, m, m.Metadata, m.Sound)
		}
	}
	if n := s.cam.Sessions(); n > 2 {
		t.Errorf("%d sessions are left", n)
	}
}

// Pictures that come unevenly are measured as such, and nothing of them is lost. How much it is exactly is held where time is
// an argument (rtsp.TestJitter): here the machine's own delays come on top.
func TestJitterIsMeasured(t *testing.T) {
	t.Parallel()
	s := newStudio(t, nil)
	p := s.profile("sub")
	s.cam.Waver(60 * time.Millisecond)
	m := s.play(p, 3*time.Second)
	if m.Trouble != "" || m.Lost != 0 || m.Jitter < 10*time.Millisecond || stream.RateDiffers(p.FPS, m.FPS) {
		t.Errorf("%+v", m)
	}
}
