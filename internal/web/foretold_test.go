package web_test

import (
	"context"
	"math"
	"net/http"
	"regexp"
	"strconv"
	"strings"
	"testing"
	"time"

	"duskyharbor/internal/standin/recorder"
	"duskyharbor/internal/testbed"
)

var keepsDays = regexp.MustCompile(`keeps ([0-9.]+) days instead of ([0-9.]+) days`)

// For how many days a recorder keeps once encoders are set otherwise is said before they are; then it keeps for as many:
// the recorder lives through them, and tells the oldest that it has.
func TestDaysAreForetoldAndKept(t *testing.T) {
	t.Parallel()
	b := testbed.StartOnly(t, "Slipway", "Terminal recorder")
	b.Fleet.Recorders[0].Close()
	cfg := b.Fleet.Recorders[0].Config()
	cfg.Usable = 12e9
	rec, err := recorder.Start(context.WithoutCancel(t.Context()), cfg)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(rec.Close)
	h := serveOn(t, b, nil)
	h.ready("find", "sign-in", "clock", "streams", "channels", "channels!")
	a := whole(t, h)
	a.received(t, "Terminal recorder", "Slipway")
	lives := func(days int) {
		t.Helper()
		var lines recorder.Lines
		testbed.Until(t, 90*time.Second, "each camera sent for long enough", func() bool {
			lines, err = rec.Lines()
			return err == nil && len(lines) == 1
		})
		rec.RunDays(rec.Now(), days, lines)
		h.ready("recording")
	}
	slipway := a.camera("Slipway")
	lives(3) // by day and by night it counted what comes
	shown := a.do("POST", a.site+"/acts/streams/encoders", jsonNumber(args{"cameras": []any{slipway}, "of": "record", "fps": 5, "key_frame_every": 1}), http.StatusCreated)
	says := keepsDays.FindStringSubmatch(words(shown, "makes"))
	if says == nil {
		t.Fatalf("it makes of the recorder %q", words(shown, "makes"))
	}
	smaller := a.do("POST", a.site+"/acts/streams/encoders", jsonNumber(args{"cameras": []any{slipway}, "of": "record", "size": "640x360"}), http.StatusCreated)
	if says := words(smaller, "makes"); !strings.Contains(says, "days or more") && !strings.Contains(says, "isn't known before it is measured") {
		t.Errorf("what a smaller picture makes isn't known before: %q", says)
	}
	foretold, _ := strconv.ParseFloat(says[1], 64)
	now, _ := strconv.ParseFloat(says[2], 64)
	a.wait(a.do("POST", a.site+"/previews/"+jsonNumber(shown["id"])+"/make", "", http.StatusAccepted))
	a.received(t, "Terminal recorder", "Slipway")
	rec.Close() // so that it holds nothing of what came before
	if rec, err = recorder.Start(context.WithoutCancel(t.Context()), cfg); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(rec.Close)
	lives(int(2 * foretold))
	kept, ok := a.the("recorders", "recorders", "place", "Terminal recorder")["storage"].(map[string]any)["oldest"].(float64)
	t.Logf("%.1f days before, %.1f foretold, %.1f kept", now, foretold, kept)
	if !ok || foretold <= now || math.Abs(kept-foretold) > 1+0.1*foretold {
		t.Errorf("%.1f days were foretold, in place of %.1f, and the oldest is %.1f days old", foretold, now, kept)
	}
}
