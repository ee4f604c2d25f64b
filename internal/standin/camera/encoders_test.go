package camera_test

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"image/jpeg"
	"io"
	"math"
	"net/http"
	"os/exec"
	"strings"
	"testing"
	"time"

	"github.com/icholy/digest"
	"github.com/pion/rtp"

	"duskyharbor/internal/core/access"
	"duskyharbor/internal/core/stream"
	"duskyharbor/internal/demo"
	"duskyharbor/internal/device/dial"
	"duskyharbor/internal/device/onvif"
	"duskyharbor/internal/device/rtsp"
	"duskyharbor/internal/standin/camera"
	"duskyharbor/internal/standin/footage"
	"duskyharbor/internal/testbed"
)

// studio is one stand-in camera with its clients.
type studio struct {
	t        *testing.T
	cam      *camera.Camera
	cl       *onvif.Client
	services map[string]string
	host     dial.Host
	login    rtsp.Login
	cfg      camera.Config
}

func newStudio(t *testing.T, change func(*camera.Config)) *studio {
	t.Helper()
	n, s := testbed.Net(t), demo.NewSecrets()
	cfg := demo.Cameras(n, s, t.TempDir())[0]
	cfg.NoAnalytics, cfg.Scene = true, footage.Slipway
	if change != nil {
		change(&cfg)
	}
	c, err := camera.Start(t.Context(), cfg)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(c.Close)
	st := &studio{t: t, cam: c, cl: client(t, cfg.Address, onvif.Login{Username: "otter", Password: s.House, Scheme: access.Digest}),
		host: (&dial.Dialer{}).At(cfg.Address), login: rtsp.Login{Username: "otter", Password: s.House}, cfg: cfg}
	if st.services, _, err = st.cl.Services(t.Context()); err != nil {
		t.Fatal(err)
	}
	return st
}

// profile reads a profile with what it can be set to.
func (s *studio) profile(token string) stream.Profile {
	s.t.Helper()
	all, err := s.cl.Profiles(s.t.Context(), s.services)
	if err != nil {
		s.t.Fatal(err)
	}
	for i := range all {
		if all[i].Token == token {
			if err := errors.Join(s.cl.Addresses(s.t.Context(), s.services, &all[i]), s.cl.Options(s.t.Context(), s.services, &all[i])); err != nil {
				s.t.Fatal(err)
			}
			return all[i]
		}
	}
	s.t.Fatalf("no profile %s", token)
	return stream.Profile{}
}

func (s *studio) play(p stream.Profile, length time.Duration) stream.Measured {
	return rtsp.MeasureOver(s.t.Context(), s.host, p, s.login, length, rtsp.WithSound)
}

// What is set is what is sent: each codec, size and distance of key frames that a camera offers
// reads back as it was set, is measured as it reads, and is what ffprobe sees.
func TestAnEncoderSendsWhatItIsSetTo(t *testing.T) {
	t.Parallel()
	for _, media1 := range []bool{false, true} {
		for _, set := range []stream.Encoder{
			{Codec: "H264", Size: stream.Size{Width: 640, Height: 360}, FPS: 15, Kbps: 1024, GOP: 15},
			{Codec: "H265", Size: stream.Size{Width: 1280, Height: 720}, FPS: 15, Kbps: 2048, GOP: 15},
			{Codec: "JPEG", Size: stream.Size{Width: 640, Height: 360}, FPS: 5, Kbps: 4096},
			{Codec: "H264", Size: stream.Size{Width: 1280, Height: 720}, FPS: 15, Kbps: 2048, GOP: 60},
		} {
			t.Run(fmt.Sprintf("%s %d, media1 %t", set.Codec, set.GOP, media1), func(t *testing.T) {
				t.Parallel()
				newStudio(t, func(c *camera.Config) { c.Manners.JPEG, c.Manners.Media1 = true, media1 }).sendsAsSet(media1, set)
			})
		}
	}
}

// sendsAsSet sets the main encoder, and holds what is read, measured and seen by ffprobe against it.
func (s *studio) sendsAsSet(media1 bool, set stream.Encoder) {
	t := s.t
	p := s.profile("main")
	set.Token = p.Encoder
	can, why := stream.Nearest(set, p.Options, stream.Want{})
	if media1 && set.Codec == "H265" {
		if why == "" || s.cl.SetEncoder(t.Context(), s.services, set) == nil {
			t.Error("Media ver10 has no word for H.265")
		}
		return
	}
	if set.Codec == "JPEG" && media1 {
		can.GOP, set.GOP = 0, 0
	}
	if why != "" || can != set {
		t.Errorf("%s: %s, offered is %s %s", set.Codec, set.Text(), can.Text(), why)
	}
	if err := s.cl.SetEncoder(t.Context(), s.services, set); err != nil {
		t.Fatal(err)
	}
	if now, err := s.cl.Encoder(t.Context(), s.services, p.Encoder); err != nil || now.Text() != set.Text() {
		t.Errorf("set to %s, reads %s, %v", set.Text(), now.Text(), err)
	}
	p = s.profile("main")
	length := 2200 * time.Millisecond
	if set.GOP == 60 {
		length = 5 * time.Second
	}
	m := s.play(p, length)
	f := stream.Facts{LookedAt: time.Now(), Profiles: []stream.Profile{p}, Measured: []stream.Measured{m}}
	for _, found := range stream.Judge(time.Now(), f, stream.Wishes{}) {
		if (found.Code == "stream.key-frames") != (set.GOP == 60) {
			t.Errorf("%s: %s", set.Text(), found.Sentence)
		}
	}
	if m.Trouble != "" || m.Codec != set.Codec || m.Width != set.Width || m.Height != set.Height || math.Abs(m.FPS-set.FPS) > 0.5 || m.Lost != 0 {
		t.Errorf("set to %s, we measure %+v", set.Text(), m)
	}
	if seen := s.probe("main"); seen.Width != set.Width || !strings.EqualFold(strings.Replace(seen.Codec, "hevc", "h265", 1), strings.Replace(set.Codec, "JPEG", "mjpeg", 1)) {
		t.Errorf("set to %s, ffprobe sees %+v", set.Text(), seen)
	}
}

type seenStream struct {
	Type  string `json:"codec_type"`
	Codec string `json:"codec_name"`
	Width int    `json:"width"`
	Rate  string `json:"sample_rate"`
}

// probe is the picture that ffprobe sees, or, of "sound", the sound.
func (s *studio) probe(profile string) seenStream { return s.probeOf(profile, "video") }

func (s *studio) probeOf(profile, kind string) seenStream {
	s.t.Helper()
	if _, err := exec.LookPath("ffprobe"); err != nil {
		s.t.Skip("ffprobe isn't installed: make test installs it")
	}
	ctx, cancel := context.WithTimeout(s.t.Context(), 60*time.Second)
	defer cancel()
	out, err := exec.CommandContext(ctx, "ffprobe", "-v", "error", "-rtsp_transport", "tcp", "-analyzeduration", "1500000", "-show_streams", "-of", "json",
		fmt.Sprintf("rtsp://otter:%s@%s:%d/%s", s.login.Password, s.cfg.Address, camera.RTSPPort, profile)).Output()
	var p struct {
		Streams []seenStream `json:"streams"`
	}
	if err := errors.Join(err, json.Unmarshal(out, &p)); err != nil {
		s.t.Fatal(err)
	}
	for _, x := range p.Streams {
		if x.Type == kind {
			return x
		}
	}
	return seenStream{}
}

// What an encoder can't do it refuses, and stays as it is.
func TestAnEncoderRefusesWhatItDoesNotOffer(t *testing.T) {
	t.Parallel()
	s := newStudio(t, func(c *camera.Config) { c.Scene = footage.IcePlant })
	p := s.profile("main")
	if p.Codec != "H265" || len(p.Options) != 1 || p.Options[0].Codec != "H265" {
		t.Fatalf("%+v", p)
	}
	for _, set := range []stream.Encoder{
		{Token: p.Encoder, Codec: "H264", Size: stream.Size{Width: 640, Height: 360}, FPS: 15, Kbps: 512, GOP: 15},
		{Token: p.Encoder, Codec: "H265", Size: stream.Size{Width: 1920, Height: 1080}, FPS: 15, Kbps: 512, GOP: 15},
		{Token: p.Encoder, Codec: "H265", Size: stream.Size{Width: 640, Height: 360}, FPS: 25, Kbps: 512, GOP: 25},
	} {
		if err := s.cl.SetEncoder(t.Context(), s.services, set); !errors.Is(err, dial.ErrRefused) {
			t.Errorf("%s: %v", set.Text(), err)
		}
	}
	if _, why := stream.Nearest(p.Set(), p.Options, stream.Want{Codecs: []string{"H264"}}); why != "its encoder knows H.265 only" {
		t.Error(why)
	}
	if now := s.profile("main"); now.Set() != p.Set() {
		t.Errorf("it is %s now", now.Set().Text())
	}
}

// Sound is measured beside the picture where it is listened to, in each coding, and goes when it
// is taken out of the profile; ffprobe hears the same.
func TestSoundIsHeardAsItIsCoded(t *testing.T) {
	t.Parallel()
	for _, x := range []struct{ codec, theirs string }{{"AAC", "aac"}, {"PCMU", "pcm_mulaw"}, {"PCMA", "pcm_alaw"}} {
		t.Run(x.codec, func(t *testing.T) {
			t.Parallel()
			newStudio(t, func(c *camera.Config) { c.Manners.Sound = "MP4A-LATM" }).soundsAs(x.codec, x.theirs)
		})
	}
	s := newStudio(t, func(c *camera.Config) { c.Manners.Sound = "MP4A-LATM" })
	p := s.profile("main")
	for _, on := range []bool{false, true} {
		if err := s.cl.SetHasSound(t.Context(), s.services, "main", p.Sound.Encoder, on); err != nil {
			t.Fatal(err)
		}
		has, err := s.cl.HasSound(t.Context(), s.services, "main")
		if m := rtsp.Measure(t.Context(), s.host, p, s.login, 600*time.Millisecond); err != nil || has != on || (m.Sound != nil) != on {
			t.Errorf("sound %v: reads %v, %v, %+v", on, has, err, m)
		}
	}
}

// A tone that is sent to the speaker comes out of it, in both laws; a camera without one says
// so before anything is sent.
func TestAToneComesOutOfTheSpeaker(t *testing.T) {
	t.Parallel()
	s := newStudio(t, func(c *camera.Config) { c.Manners.Sound, c.Manners.Speaker = "PCMU", true })
	p := s.profile("main")
	if strings.Join(p.Sound.Takes, " ") != "PCMU PCMA" {
		t.Fatalf("%+v", p.Sound)
	}
	c, err := rtsp.Open(t.Context(), s.host, p.URI, s.login)
	if err != nil {
		t.Fatal(err)
	}
	defer c.Close()
	track, err := c.DescribeTalk()
	if err != nil || track.Back == nil || track.Sound == nil || track.Back.Control == track.Sound.Control {
		t.Fatalf("%+v %v", track, err)
	}
	if err := c.Talk(track); err != nil {
		t.Fatal(err)
	}
	const hz = 440
	for n := range 60 {
		body := make([]byte, 160)
		for i := range body {
			body[i] = rtsp.EncodeULaw(0.4 * math.Sin(2*math.Pi*hz*float64(n*160+i)/8000))
		}
		raw, err := (&rtp.Packet{Header: rtp.Header{Version: 2, SequenceNumber: uint16(n), Timestamp: uint32(n * 160), SSRC: 7}, Payload: body}).Marshal()
		if err := errors.Join(err, c.Say(raw)); err != nil {
			t.Fatal(err)
		}
	}
	testbed.Until(t, 5*time.Second, "the tone is heard", func() bool {
		h := s.cam.Heard()
		return h.Seconds > 1.1 && math.Abs(h.Hz-hz) < 5 && math.Abs(h.Level-0.4/math.Sqrt2) < 0.02 && h.Codec == "PCMU"
	})
	mute := newStudio(t, nil)
	c2, err := rtsp.Open(t.Context(), mute.host, mute.profile("main").URI, mute.login)
	if err != nil {
		t.Fatal(err)
	}
	defer c2.Close()
	if _, err := c2.DescribeTalk(); !errors.Is(err, dial.ErrRefused) || !strings.Contains(err.Error(), "551") {
		t.Errorf("a camera without a speaker: %v", err)
	}
}

// A camera that plays as many streams as it can says so, and goes on with those; one that loses
// packets is measured losing them.
func TestSessionsAndLosses(t *testing.T) {
	t.Parallel()
	s := newStudio(t, func(c *camera.Config) { c.Manners.Sessions = 1 })
	p := s.profile("main")
	first, err := rtsp.Open(t.Context(), s.host, p.URI, s.login)
	if err != nil {
		t.Fatal(err)
	}
	defer first.Close()
	track, err := first.Describe()
	if err := errors.Join(err, first.Play(track)); err != nil {
		t.Fatal(err)
	}
	if m := s.play(p, time.Second); !m.Full || !strings.Contains(m.Trouble, "453") {
		t.Errorf("a second one: %+v", m)
	}
	if _, err := first.Packet(); err != nil || s.cam.Sessions() != 1 {
		t.Errorf("the first: %v, %d play", err, s.cam.Sessions())
	}
	first.Close()
	testbed.Until(t, 5*time.Second, "its session is free again", func() bool { return s.cam.Sessions() == 0 })
	s.cam.Lose(20)
	if m := s.play(p, 2200*time.Millisecond); m.Full || m.Lost < 2 {
		t.Errorf("one of twenty lost: %+v", m)
	}
}

// Each source of a camera shows a scene of its own, and the night is dark.
func TestEachSourceAndLightHasItsPicture(t *testing.T) {
	t.Parallel()
	s := newStudio(t, func(c *camera.Config) {
		c.Manners.Sources = []string{"One", "Two"}
		c.Scenes = []footage.Scene{footage.NetLoft}
	})
	bright := func(profile string) (sum int) {
		t.Helper()
		res, err := s.still(profile)
		if err != nil {
			t.Fatal(err)
		}
		img, err := jpeg.Decode(bytes.NewReader(res))
		if err != nil {
			t.Fatal(err)
		}
		for y := 0; y < img.Bounds().Dy(); y += 8 {
			for x := 0; x < img.Bounds().Dx(); x += 8 {
				r, g, b, _ := img.At(x, y).RGBA()
				sum += int(r>>8 + g>>8 + b>>8)
			}
		}
		return sum
	}
	one, two := bright("sub"), bright("sub2")
	s.cam.ByNight(true)
	if dark := bright("sub"); one == two || dark > one*3/4 {
		t.Errorf("one %d, two %d, by night %d", one, two, dark)
	}
}

// still fetches a profile's still as a page does.
func (s *studio) still(profile string) ([]byte, error) {
	client := &http.Client{Transport: &digest.Transport{Username: s.login.Username, Password: s.login.Password}, Timeout: 10 * time.Second}
	res, err := client.Get(fmt.Sprintf("http://%s:%d/snapshot?profile=%s", s.cfg.Address, camera.HTTPPort, profile))
	if err != nil {
		return nil, err
	}
	defer res.Body.Close()
	return io.ReadAll(res.Body)
}

// Where a camera streams over TLS its pictures and sound come so, to who trusts its certificate
// alone; what was told in clear isn't asked for.
func TestStreamsOverTLS(t *testing.T) {
	t.Parallel()
	s := newStudio(t, func(c *camera.Config) { c.Manners.Sound = "PCMU" })
	if p := s.profile("main"); p.Secure != "" || p.Best() != p.URI {
		t.Errorf("a camera without TLS has %q", p.Secure)
	}
	n, sec := testbed.Net(t), demo.NewSecrets()
	cfg := demo.Cameras(n, sec, t.TempDir())[0]
	cfg.NoAnalytics, cfg.Manners.TLS, cfg.Manners.Sound = true, true, "PCMU"
	cam, err := camera.Start(t.Context(), cfg)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(cam.Close)
	p := stream.Profile{Token: "main", Name: "Main", URI: fmt.Sprintf("rtsp://%s:%d/main", cfg.Address, camera.RTSPPort),
		Secure: fmt.Sprintf("rtsps://%s:%d/main", cfg.Address, camera.RTSPSPort)}
	login := rtsp.Login{Username: "otter", Password: sec.House}
	pin := ""
	host := (&dial.Dialer{}).At(cfg.Address)
	for range 2 { // the first shows the certificate, the second must show the same
		m := rtsp.MeasureOver(t.Context(), host.Pinned(&pin), p, login, 1200*time.Millisecond, rtsp.WithSound)
		if m.Trouble != "" || !m.Encrypted || m.Over != "TCP" || m.Width != 1280 || m.Sound == nil || !m.Sound.Measured || pin == "" {
			t.Errorf("%+v %+v %q", m, m.Sound, pin)
		}
	}
	other := strings.Repeat("0", 64)
	if m := rtsp.Measure(t.Context(), host.Pinned(&other), p, login, time.Second); !strings.Contains(m.Trouble, "another certificate") || other != strings.Repeat("0", 64) {
		t.Errorf("another certificate: %+v", m)
	}
	if m := rtsp.Measure(t.Context(), host, p, login, time.Second); !strings.Contains(m.Trouble, "no certificate of it is trusted") {
		t.Errorf("no certificate: %+v", m)
	}
	if w := cam.Wrongs(); w != 0 {
		t.Errorf("%d wrong passwords", w)
	}
	f := stream.Facts{LookedAt: time.Now(), Profiles: []stream.Profile{p}, Measured: []stream.Measured{{Profile: "main", Codec: "H264"}}}
	for encrypted, says := range map[bool]string{false: "Main came here in clear, and this site asks for encryption.", true: ""} {
		f.Measured[0].Encrypted = encrypted
		got := ""
		for _, x := range stream.Judge(time.Now(), f, stream.Wishes{Encrypt: true}) {
			got += x.Sentence
		}
		if got != says {
			t.Errorf("encrypted %v: %q", encrypted, got)
		}
	}
}

// soundsAs sets the sound's codec, and holds what is measured and heard by ffprobe against it.
func (s *studio) soundsAs(codec, theirs string) {
	t := s.t
	p := s.profile("main")
	if p.Sound.Codec != codec {
		if err := s.cl.SetSoundCodec(t.Context(), s.services, p.Sound.Encoder, codec); err != nil {
			t.Fatal(err)
		}
		p = s.profile("main")
	}
	m := s.play(p, 2200*time.Millisecond)
	if m.Trouble != "" || m.Codec != "H264" || m.Sound == nil || !m.Sound.Measured || m.Sound.Codec != codec || m.Sound.Lost != 0 {
		t.Fatalf("%s: %+v %+v", codec, m, m.Sound)
	}
	if g711 := codec != "AAC"; g711 && (math.Abs(m.Sound.Kbps-64) > 2 || m.Sound.Level > -15 || m.Sound.Level < -30) {
		t.Errorf("%s: %+v", codec, m.Sound)
	}
	overUDP := func(c *rtsp.Conn, t rtsp.Track) error {
		c.Hears = true
		return c.PlayOver(t, rtsp.UDP)
	}
	if u := rtsp.MeasureOver(t.Context(), s.host, p, s.login, 2200*time.Millisecond, overUDP); u.Trouble != "" || u.Over != "UDP" || u.Frames < 25 ||
		u.Sound == nil || !u.Sound.Measured || u.Sound.Lost != 0 || math.Abs(u.Sound.Kbps-m.Sound.Kbps) > 4 {
		t.Errorf("%s over UDP: %+v %+v", codec, u, u.Sound)
	}
	if silent := rtsp.Measure(t.Context(), s.host, p, s.login, time.Second); silent.Sound == nil || silent.Sound.Measured {
		t.Errorf("what isn't listened to: %+v", silent.Sound)
	}
	if got := s.probeOf("main", "audio"); got.Codec != theirs {
		t.Errorf("%s: ffprobe hears %+v", codec, got)
	}
}

// Frames and bits a second are set and sent: a third of the frames, a constant rate that is filled up; over both
// services. Where a size goes to fewer frames alone the camera says so, where it knows no limit none is told, and one
// that takes what it doesn't keep reads otherwise.
func TestFramesAndBitsASecondAreSet(t *testing.T) {
	t.Parallel()
	hd, sd := stream.Size{Width: 1280, Height: 720}, stream.Size{Width: 640, Height: 360}
	for _, media1 := range []bool{false, true} {
		t.Run(fmt.Sprintf("media1 %t", media1), func(t *testing.T) {
			t.Parallel()
			s := newStudio(t, func(c *camera.Config) { c.Manners.Media1 = media1 })
			p := s.profile("main")
			before := s.play(p, 3*time.Second)
			set, why := stream.Nearest(p.Set(), p.Options, stream.Want{FPS: 5, KeyEvery: time.Second})
			if err := s.cl.SetEncoder(t.Context(), s.services, set); why != "" || err != nil {
				t.Fatal(why, err)
			}
			now, err := s.cl.Encoder(t.Context(), s.services, p.Encoder)
			if p = s.profile("main"); err != nil || now != set || p.Set() != set || p.FPS != 5 || p.GOP != 5 {
				t.Errorf("set to %+v, reads %+v and %+v, %v", set, now, p.Set(), err)
			}
			m := s.play(p, 4*time.Second)
			if m.Trouble != "" || m.FPS < 4.5 || m.FPS > 5.5 || m.KeyEvery < 900*time.Millisecond || m.KeyEvery > 1100*time.Millisecond || m.MeanKbps > before.MeanKbps {
				t.Errorf("it sends %+v, and before %+v", m, before)
			}
			if media1 {
				return
			}
			set.Rate, set.Kbps, set.Quality = stream.Constant, 1024, 8
			if err := s.cl.SetEncoder(t.Context(), s.services, set); err != nil {
				t.Fatal(err)
			}
			p = s.profile("main")
			if m := s.play(p, 4*time.Second); p.Set() != set || m.MeanKbps < 900 || m.MeanKbps > 1150 || m.Lost > 0 {
				t.Errorf("constant: %+v sends %+v", p.Set(), m)
			}
		})
	}
	t.Run("depends", func(t *testing.T) {
		t.Parallel()
		s := newStudio(t, func(c *camera.Config) { c.Quirks.Depends = true })
		p := s.profile("main")
		if p.FPS != 5 || p.Set().Size != hd {
			t.Fatalf("its large picture goes to %+v", p.Set())
		}
		set, _ := stream.Nearest(p.Set(), p.Options, stream.Want{FPS: 15})
		if err := s.cl.SetEncoder(t.Context(), s.services, set); err == nil || !strings.Contains(err.Error(), "1280 x 720 goes to 5 frames a second") {
			t.Errorf("15 a second of its large picture: %v", err)
		}
		set.Size = sd
		if err := s.cl.SetEncoder(t.Context(), s.services, set); err != nil {
			t.Errorf("15 a second of its small one: %v", err)
		}
		free, why := stream.Nearest(set, p.Options, stream.Want{Codecs: []string{"H265"}})
		if err := s.cl.SetEncoder(t.Context(), s.services, free); why != "" || err != nil {
			t.Fatal(why, err)
		}
		now, err := s.cl.Encoder(t.Context(), s.services, p.Encoder)
		if err != nil || now.Kbps != 0 || now.FPS != 0 || !strings.Contains(now.Text(), "no limit of bit rate") {
			t.Errorf("without a limit it reads %s, %v", now.Text(), err)
		}
		p = s.profile("main")
		if again, why := stream.Nearest(p.Set(), p.Options, stream.Want{Size: sd}); why != "" || again != p.Set() {
			t.Errorf("asked for what is so: %+v %s", again, why)
		}
		if _, why := stream.Nearest(p.Set(), p.Options, stream.Want{Kbps: 512}); why != "it tells no limit of its bit rate" {
			t.Errorf("asked for a limit: %q", why)
		}
	})
	t.Run("lies", func(t *testing.T) {
		t.Parallel()
		s := newStudio(t, func(c *camera.Config) { c.Quirks.Lies = true })
		p := s.profile("main")
		set, _ := stream.Nearest(p.Set(), p.Options, stream.Want{Kbps: 256})
		if err := s.cl.SetEncoder(t.Context(), s.services, set); err != nil {
			t.Fatal(err)
		}
		if now, err := s.cl.Encoder(t.Context(), s.services, p.Encoder); err != nil || now.Kbps != 1024 {
			t.Errorf("it keeps %+v, %v", now, err)
		}
	})
}
