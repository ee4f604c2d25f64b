package camera_test

import (
	"bytes"
	"errors"
	"image"
	"image/jpeg"
	"math"
	"strings"
	"testing"
	"time"

	"duskyharbor/internal/core/picture"
	"duskyharbor/internal/core/scene"
	"duskyharbor/internal/core/stream"
	"duskyharbor/internal/device/dial"
	"duskyharbor/internal/device/rtsp"
	"duskyharbor/internal/standin/camera"
)

func newDome(t *testing.T) *studio {
	return newStudio(t, func(c *camera.Config) {
		c.Manners.PTZ, c.Manners.Masks, c.Manners.Imaging = true, 2, true
	})
}

func (s *studio) setup() picture.Setup {
	s.t.Helper()
	got, err := s.cl.Setup(s.t.Context(), s.services, s.profile("main"))
	if err != nil {
		s.t.Fatal(err)
	}
	return got
}

func (s *studio) picture() image.Image {
	s.t.Helper()
	data, err := s.still("main")
	if err != nil {
		s.t.Fatal(err)
	}
	img, err := jpeg.Decode(bytes.NewReader(data))
	if err != nil {
		s.t.Fatal(err)
	}
	return img
}

// light is the mean luma of a part of a picture, in hundredths of its sides.
func light(img image.Image, left, top, right, bottom int) float64 {
	b := img.Bounds()
	sum, n := 0.0, 0
	for y := top * b.Dy() / 100; y < bottom*b.Dy()/100; y++ {
		for x := left * b.Dx() / 100; x < right*b.Dx()/100; x++ {
			r, g, bl, _ := img.At(x, y).RGBA()
			sum += 0.3*float64(r>>8) + 0.59*float64(g>>8) + 0.11*float64(bl>>8)
			n++
		}
	}
	return sum / float64(n)
}

func TestMasksAndTextAppearInThePicture(t *testing.T) {
	s := newDome(t)
	setup := s.setup()
	if setup.Masks == nil || setup.Masks.Most != 2 || setup.Texts == nil || !setup.Texts.Plain || setup.Texts.State(picture.Time) != "dd/MM/yyyy HH:mm:ss upper left" {
		t.Fatalf("%+v, %+v", setup.Masks, setup.Texts)
	}
	bright := light(s.picture(), 62, 12, 78, 28)
	sky, _ := picture.Rectangle(60, 10, 80, 30)
	other, _ := picture.Rectangle(10, 60, 20, 70)
	for _, areas := range [][]scene.Polygon{{sky}, {sky, other}, {other}, {sky}} {
		if err := s.cl.Hide(t.Context(), s.services, "vsc0", areas); err != nil {
			t.Fatal(err)
		}
		if now, err := s.cl.Hidden(t.Context(), s.services, "vsc0"); err != nil || !picture.SameAreas(now, areas) {
			t.Fatalf("hides %v, %v", now, err)
		}
	}
	if now := light(s.picture(), 62, 12, 78, 28); now > 30 || bright < 100 {
		t.Errorf("what is hidden is %.0f bright, it was %.0f", now, bright)
	}
	if err := s.cl.Hide(t.Context(), s.services, "vsc0", []scene.Polygon{sky, other, {{X: 0, Y: 0}, {X: 0.5, Y: 0}, {X: 0, Y: 0.5}}}); !errors.Is(err, dial.ErrRefused) {
		t.Errorf("a third mask: %v", err)
	}
	corner := light(s.picture(), 76, 1, 98, 5)
	name := picture.Text{Kind: picture.Name, Words: "Slip & way", Corner: "UpperRight"}
	for range 2 { // writing twice changes nothing
		if err := s.cl.PutText(t.Context(), s.services, "vsc0", name); err != nil {
			t.Fatal(err)
		}
	}
	if now, err := s.cl.TextsNow(t.Context(), s.services, "vsc0"); err != nil || now.State(picture.Name) != "“Slip & way” upper right" {
		t.Errorf("%v, %v", now, err)
	}
	if now := light(s.picture(), 88, 1, 98, 5); now > corner-40 {
		t.Errorf("the corner is as bright as before: %.0f, %.0f", now, corner)
	}
	if err := s.cl.PutText(t.Context(), s.services, "vsc0", picture.Text{Kind: picture.Name}); err != nil {
		t.Fatal(err)
	}
	if now, err := s.cl.TextsNow(t.Context(), s.services, "vsc0"); err != nil || now.State(picture.Name) != "no name" {
		t.Errorf("%v, %v", now, err)
	}
}

// What is laid over a view is in its stream too, which is coded as it is sent, within its limit.
func TestAStreamThatIsCodedAsItIsSent(t *testing.T) {
	s := newDome(t)
	sky, _ := picture.Rectangle(60, 10, 80, 30)
	if err := s.cl.Hide(t.Context(), s.services, "vsc0", []scene.Polygon{sky}); err != nil {
		t.Fatal(err)
	}
	for _, token := range []string{"main", "sub"} {
		p := s.profile(token)
		m := rtsp.Measure(t.Context(), s.host, p, s.login, 3*time.Second)
		if m.Trouble != "" || m.Codec != "H264" || m.Width != p.Width || m.Height != p.Height || m.Lost > 0 || stream.RateDiffers(p.FPS, m.FPS) ||
			stream.OverLimit(float64(p.Kbps), m.MeanKbps) || stream.KeysTooFar(m.KeyEvery) {
			t.Errorf("%s: %+v", token, m)
		}
	}
}

func TestImagingShowsInThePicture(t *testing.T) {
	s := newDome(t)
	set := func(p picture.Property, value string) {
		t.Helper()
		if err := s.cl.SetImaging(t.Context(), s.services, "vs0", p, value); err != nil {
			t.Fatal(err)
		}
		i, err := s.cl.Imaging(t.Context(), s.services, "vs0")
		if err != nil || i == nil {
			t.Fatal(i, err)
		}
		if now, ok := i.Value(p); !ok || !picture.SameValue(now, value) {
			t.Errorf("%s reads %q after %q", p, now, value)
		}
	}
	before := stream.PrintOf(s.picture())
	set(picture.DayNight, "OFF")
	if p := stream.PrintOf(s.picture()); p.Colour > 0.7*before.Colour {
		t.Errorf("by night it has colours: %.2f, it had %.2f", p.Colour, before.Colour)
	}
	set(picture.DayNight, "AUTO")
	if err := s.cl.SetImaging(t.Context(), s.services, "vs0", picture.Focus, "0.9"); !errors.Is(err, dial.ErrRefused) {
		t.Errorf("moving the focus of one that focuses by itself: %v", err)
	}
	set(picture.Focusing, "MANUAL")
	set(picture.Focus, "0.9")
	if p := stream.PrintOf(s.picture()); p.Sharp > before.Sharp/2 {
		t.Errorf("out of focus it is as sharp: %.2f, it was %.2f", p.Sharp, before.Sharp)
	}
	set(picture.Focusing, "AUTO")
	set(picture.Exposure, "MANUAL")
	set(picture.ExposeFor, "2000")
	if dark, was := light(s.picture(), 0, 0, 100, 100), 128.0; dark > was/2 {
		t.Errorf("a fifth of the exposure is %.0f bright", dark)
	}
}

func TestTheDomeTurnsAndRemembers(t *testing.T) {
	s := newDome(t)
	setup := s.setup()
	p := setup.PTZ
	if p == nil || p.At == nil || len(p.Axes()) != 3 || p.Tilts.Max != 0.6 {
		t.Fatalf("%+v", p)
	}
	before := stream.PrintOf(s.picture())
	for _, axis := range p.Axes() {
		if err := s.cl.Turn(t.Context(), s.services, p.Profile, p.Nudged(picture.Aim{}, axis), p.Axes()); err != nil {
			t.Fatal(err)
		}
		if now := stream.PrintOf(s.picture()); now.Likeness(before) >= picture.Stands {
			t.Errorf("%s was moved and the picture stayed: %.2f", axis, now.Likeness(before))
		}
	}
	quay := picture.Aim{Pan: 0.3, Tilt: -0.2, Zoom: 0.25}
	if err := s.cl.Turn(t.Context(), s.services, p.Profile, quay, p.Axes()); err != nil {
		t.Fatal(err)
	}
	for range 2 { // saving again by the same name makes no second one
		if err := s.cl.Remember(t.Context(), s.services, p.Profile, "Quay"); err != nil {
			t.Fatal(err)
		}
	}
	if err := s.cl.Turn(t.Context(), s.services, p.Profile, picture.Aim{}, p.Axes()); err != nil {
		t.Fatal(err)
	}
	p = s.setup().PTZ
	if len(p.Presets) != 1 || p.PresetState("Quay") != "“Quay”: "+quay.Text() {
		t.Fatalf("%+v", p.Presets)
	}
	if now := stream.PrintOf(s.picture()); now.Likeness(before) < picture.Stands {
		t.Errorf("put back it looks otherwise: %.2f", now.Likeness(before))
	}
	if err := s.cl.Call(t.Context(), s.services, p.Profile, p.Presets[0].Token, quay); err != nil {
		t.Fatal(err)
	}
	if err := s.cl.Forget(t.Context(), s.services, p.Profile, "Quay"); err != nil || len(s.setup().PTZ.Presets) != 0 {
		t.Errorf("%v: %+v", err, s.setup().PTZ.Presets)
	}
	err := s.cl.Turn(t.Context(), s.services, p.Profile, picture.Aim{Tilt: 0.9}, p.Axes())
	if !errors.Is(err, dial.ErrRefused) || !strings.Contains(err.Error(), "doesn't go there") {
		t.Errorf("beyond its end: %v", err)
	}
}

// A camera that hides nothing, tells nothing of its pictures and can't be turned is read all the same.
func TestASetupThatIsNotTold(t *testing.T) {
	s := newStudio(t, func(c *camera.Config) { c.Manners.Media1, c.Manners.Imaging = true, false })
	setup := s.setup()
	if setup.Masks != nil || setup.Imaging != nil || setup.PTZ != nil || setup.Texts == nil {
		t.Errorf("%+v", setup)
	}
}

// By hand it moves until its time is over, at the speed that was asked, and by parts of what it sees.
func TestTheDomeIsMovedByHand(t *testing.T) {
	s := newDome(t)
	p := s.setup().PTZ
	if err := p.MayHold(); err != nil || !p.Presses() || p.ZoomSpeeds != (picture.Range{Min: -1, Max: 1}) {
		t.Fatalf("%+v: %v", p, err)
	}
	steered := func(v picture.Push, limit time.Duration) picture.Aim {
		t.Helper()
		if err := s.cl.Steer(t.Context(), s.services, p.Profile, v, limit); err != nil {
			t.Fatal(err)
		}
		at, err := s.cl.Settled(t.Context(), s.services, p.Profile, 5*time.Second)
		if err != nil || at == nil {
			t.Fatal(at, err)
		}
		return *at
	}
	if at := steered(picture.Push{Pan: 0.5}, 500*time.Millisecond); math.Abs(at.Pan-0.2) > 0.01 || at.Tilt != 0 {
		t.Errorf("half a second at half its speed: %v", at)
	}
	if at := steered(picture.Push{Tilt: 1, Zoom: 1}, 5*time.Second); at.Tilt != 0.6 || at.Zoom != 1 {
		t.Errorf("at its ends: %v", at)
	}
	if err := s.cl.Across(t.Context(), s.services, p.Profile, 0.5, -1); err != nil {
		t.Fatal(err)
	}
	at, err := s.cl.Settled(t.Context(), s.services, p.Profile, 5*time.Second)
	if err != nil || math.Abs(at.Pan-0.45) > 0.01 || math.Abs(at.Tilt-0.1) > 0.01 { // four times nearer, a fourth of the way
		t.Errorf("it looks at %v, %v", at, err)
	}
	if err := s.cl.Steer(t.Context(), s.services, p.Profile, picture.Push{Pan: -1}, 5*time.Second); err != nil {
		t.Fatal(err)
	}
	if err := s.cl.Halt(t.Context(), s.services, p.Profile); err != nil {
		t.Fatal(err)
	}
	if at, err = s.cl.Settled(t.Context(), s.services, p.Profile, 5*time.Second); err != nil || at.Pan < 0 {
		t.Errorf("stopped at once it looks at %v, %v", at, err)
	}
	for name, err := range map[string]error{
		"faster than it goes": s.cl.Steer(t.Context(), s.services, p.Profile, picture.Push{Pan: 1.5}, time.Second),
		"for an hour":         s.cl.Steer(t.Context(), s.services, p.Profile, picture.Push{Pan: 1}, time.Hour),
		"off the picture":     s.cl.Across(t.Context(), s.services, p.Profile, 2, 0),
	} {
		if !errors.Is(err, dial.ErrRefused) {
			t.Errorf("%s: %v", name, err)
		}
	}
}
