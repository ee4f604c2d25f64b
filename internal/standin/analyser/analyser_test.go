package analyser_test

import (
	"bytes"
	"context"
	"errors"
	"image"
	"image/jpeg"
	"net/http"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"duskyharbor/internal/core/pairing"
	client "duskyharbor/internal/device/analyser"
	"duskyharbor/internal/device/dial"
	"duskyharbor/internal/device/recorder"
	"duskyharbor/internal/standin/analyser"
	"duskyharbor/internal/testbed"
)

func picture(t *testing.T, w, h int) []byte {
	t.Helper()
	var b bytes.Buffer
	if err := jpeg.Encode(&b, image.NewRGBA(image.Rect(0, 0, w, h)), nil); err != nil {
		t.Fatal(err)
	}
	return b.Bytes()
}

// start brings one up with a client that is signed in to it.
func start(t *testing.T, cfg analyser.Config) (*analyser.Analyser, *client.Client) {
	t.Helper()
	n := testbed.Net(t)
	cfg.Place, cfg.Model, cfg.Address, cfg.Network, cfg.Username, cfg.Password = "Analyser", "CRM L4", n.At(".2.30"), n.Prefix(2), "install", "right-one"
	a, err := analyser.Start(context.Background(), cfg)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(a.Close)
	c := client.New((&dial.Dialer{}).At(cfg.Address), "", dial.Login{Username: "install", Password: "right-one"})
	t.Cleanup(c.Close)
	return a, c
}

func refused(t *testing.T, err error, says string) {
	t.Helper()
	var e *dial.Error
	if !errors.As(err, &e) || !strings.Contains(e.Says, says) {
		t.Errorf("%v, want a refusal that says %q", err, says)
	}
}

func TestItTakesNoMoreThanItsLimits(t *testing.T) {
	t.Parallel()
	_, c := start(t, analyser.Config{Limits: analyser.Limits{Views: 2, Width: 640, Height: 360, PerSecond: 4, Bytes: 64 << 10}})
	ctx := t.Context()
	now := time.Now()
	for _, id := range []string{"one", "two"} {
		if err := c.Pair(ctx, id, "Crew mess / "+id, pairing.Wish{PerSecond: 2, LeastScore: 0.3}); err != nil {
			t.Fatal(err)
		}
	}
	refused(t, c.Pair(ctx, "three", "Third", pairing.Wish{PerSecond: 0.1}), "4 stills a second")
	if err := c.Pair(ctx, "two", "Second", pairing.Wish{PerSecond: 1}); err != nil {
		t.Error(err)
	}
	refused(t, c.Pair(ctx, "three", "Third", pairing.Wish{PerSecond: 0.1}), "2 views")
	refused(t, c.Still(ctx, "none", now, picture(t, 64, 36)), "no such view")
	refused(t, c.Still(ctx, "one", now, picture(t, 641, 360)), "640 × 360")
	refused(t, c.Still(ctx, "one", now, append(picture(t, 640, 360), make([]byte, 64<<10)...)), "bytes at the most")
	refused(t, c.Still(ctx, "one", now, []byte("no picture")), "JPEG picture")
	if err := c.Still(ctx, "one", now, picture(t, 640, 360)); err != nil {
		t.Error(err)
	}
	refused(t, c.Still(ctx, "one", now, picture(t, 640, 360)), "later still")
	for i := 1; i < 10; i++ {
		if err := c.Still(ctx, "one", now.Add(time.Duration(i)), picture(t, 64, 36)); err != nil {
			refused(t, err, "2 stills a second")
			break
		} else if i == 9 {
			t.Error("ten stills at once are taken")
		}
	}
	told, _, err := c.Status(ctx)
	if _, ok := told.View("one"); err != nil || !ok || told.Running.Views["one"].Taken == 0 || told.Running.Views["one"].Refused < 5 || told.Limits.Views != 2 || len(told.Classes) != 4 {
		t.Errorf("it tells %+v, %v", told, err)
	}
}

func TestWhoIsntSignedInGetsNothing(t *testing.T) {
	t.Parallel()
	a, _ := start(t, analyser.Config{})
	c := client.New((&dial.Dialer{}).At(a.Config().Address), "", dial.Login{Username: "install", Password: "wrong"})
	defer c.Close()
	if _, _, err := c.Status(t.Context()); !errors.Is(err, dial.ErrNotAuthorised) {
		t.Error(err)
	}
	if err := c.Unpair(t.Context(), "one"); !errors.Is(err, dial.ErrNotAuthorised) {
		t.Error(err)
	}
	if a.Views() != 0 {
		t.Error("a view is there")
	}
}

// One that is too slow falls behind, and says so; what waits is lost when it starts again, and one that forgets knows its views no more.
func TestItFallsBehindAndForgets(t *testing.T) {
	t.Parallel()
	for _, forgets := range []bool{false, true} {
		a, c := start(t, analyser.Config{Takes: time.Hour, Forgets: forgets, StateFile: filepath.Join(t.TempDir(), "state.json")})
		if err := c.Pair(t.Context(), "one", "Crew mess", pairing.Wish{PerSecond: 5}); err != nil {
			t.Fatal(err)
		}
		for i := range 3 {
			if err := c.Still(t.Context(), "one", time.Now().Add(time.Duration(i)), picture(t, 64, 36)); err != nil {
				t.Fatal(err)
			}
		}
		testbed.Until(t, 10*time.Second, "it says that it falls behind", func() bool {
			told, _, err := c.Status(t.Context())
			v := told.Running.Views["one"]
			return err == nil && v.Waiting == 2 && v.Behind > 20*time.Millisecond
		})
		a.Restart()
		testbed.Until(t, 20*time.Second, "it is back", func() bool {
			told, _, err := c.Status(t.Context())
			_, knows := told.View("one")
			return err == nil && knows == !forgets && told.Running.Views["one"].Waiting == 0
		})
		a.Close()
	}
}

// It says to anyone what it is, and nothing else; a picture it has none.
func TestItSaysWhatItIsToAnyone(t *testing.T) {
	t.Parallel()
	a, c := start(t, analyser.Config{})
	if _, _, err := c.Status(t.Context()); err != nil || c.Pin() == "" {
		t.Fatal(err, c.Pin())
	}
	hello := recorder.New((&dial.Dialer{}).At(a.Config().Address), analyser.Port, c.Pin(), dial.Login{})
	defer hello.Close()
	if h, err := hello.Hello(t.Context()); err != nil || h.Kind != "analyser" || h.Model != "CRM L4" {
		t.Errorf("%+v, %v", h, err)
	}
	res, err := http.Get("http://" + a.Config().Address.String() + ":8080/snapshot?profile=main")
	if err != nil {
		t.Fatal(err)
	}
	res.Body.Close()
	if res.StatusCode == http.StatusOK {
		t.Error("an analyser has a still of its own")
	}
}
