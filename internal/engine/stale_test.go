package engine_test

import (
	"strings"
	"testing"
	"time"

	"duskyharbor/internal/app"
	"duskyharbor/internal/core/stage"
	"duskyharbor/internal/device/dial"
	"duskyharbor/internal/device/recorder"
	"duskyharbor/internal/facts"
	"duskyharbor/internal/testbed"
)

// Placing makes a clock's reading stale: what places a camera from here reads it again
// at once, and what someone does on the recorder's own screen is told.
func TestPlacingMakesTheClockStale(t *testing.T) {
	t.Parallel()
	b := open(t, app.Options{})
	b.find()
	b.read(stage.SignIn, "Slipway", "Terminal recorder")
	b.read(stage.Clock, "Slipway")
	b.want("Slipway", stage.Clock, stage.Ready)
	before, _ := facts.Clock.Of(b.view(), b.device("Slipway").ID)
	b.read(stage.Streams, "Slipway")
	b.apply(stage.Channels, "Slipway")
	b.want("Slipway", stage.Clock, stage.Ready)
	after, _ := facts.Clock.Of(b.view(), b.device("Slipway").ID)
	if !after.At.After(before.At) || after.Against == nil || after.Against.Why != "holds it" || before.Against.Why != "planned" {
		t.Errorf("placed from here it wasn't read again: %+v, before %+v", after.Against, before.Against)
	}

	cfg := b.Fleet.Recorders[0].Config()
	c := recorder.New((&dial.Dialer{}).At(cfg.Address), recorder.Port, "", dial.Login{Username: cfg.Username, Password: cfg.Password})
	defer c.Close()
	if err := c.Remove(t.Context(), b.slot("Slipway").Number); err != nil {
		t.Fatal(err)
	}
	b.read(stage.Channels, "Slipway")
	b.want("Slipway", stage.Clock, stage.Stale)
	if m := b.mark("Slipway", stage.Clock); !strings.Contains(m.Sentence, "Terminal recorder is planned for it now: read it again") {
		t.Errorf("%+v", m)
	}
	b.read(stage.Clock, "Slipway")
	b.want("Slipway", stage.Clock, stage.Ready)
}

// A camera that takes its recorder an hour off has shown that its window is wider, and
// one that refuses it, with the right password, half a minute off, a narrower one.
func TestASignInWindowIsShown(t *testing.T) {
	t.Parallel()
	b := open(t, app.Options{})
	b.place("Slipway")
	b.receives("Slipway", "placed")
	cam := b.Fleet.Camera("Slipway")
	for _, x := range []struct {
		window, off     time.Duration
		before, after   string
		state, sentence string
	}{
		{time.Minute, 45 * time.Second, "clock.refused", "clock.at-risk", "receiving", "Its sign-in window is at least 4"},
		{10 * time.Second, 20 * time.Second, "clock.at-risk", "clock.refused", "refused",
			"of difference, as it has shown: the recorder is refused"},
	} {
		cam.Windowed(x.window)
		cam.Step(x.off)
		b.read(stage.Clock, "Slipway")
		if got := b.codes(b.device("Slipway")); got != x.before {
			t.Fatalf("%v off before it has shown anything: %q%s", x.off, got, b.sentences(b.device("Slipway")))
		}
		cam.Restart() // the recorder signs in once more
		testbed.Until(t, 30*time.Second, "the recorder tells "+x.state, func() bool {
			s := b.slot("Slipway")
			read, _ := facts.Clock.Of(b.view(), b.device("Slipway").ID)
			return s != nil && s.State == x.state && s.Since.After(read.At)
		})
		if got := b.codes(b.device("Slipway")); got != x.after || !strings.Contains(b.sentences(b.device("Slipway")), x.sentence) {
			t.Errorf("%v off: %q, want %q and %q%s", x.off, got, x.after, x.sentence, b.sentences(b.device("Slipway")))
		}
	}
}
