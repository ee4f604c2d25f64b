package recorder_test

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"net/url"
	"strconv"
	"strings"
	"testing"
	"time"

	"duskyharbor/internal/demo"
	"duskyharbor/internal/device/dial"
	client "duskyharbor/internal/device/recorder"
	"duskyharbor/internal/standin/camera"
	"duskyharbor/internal/standin/recorder"
	"duskyharbor/internal/testbed"
)

type bench struct {
	net demo.Net
	s   demo.Secrets
	rec *client.Client
	cfg recorder.Config
}

func open(t *testing.T, change func(*recorder.Config)) *bench {
	t.Helper()
	n, s := testbed.Net(t), demo.NewSecrets()
	for _, c := range demo.Cameras(n, s, "") {
		cam, err := camera.Start(context.Background(), c)
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(cam.Close)
	}
	cfg := demo.Recorders(n, s, t.TempDir())[0]
	if change != nil {
		change(&cfg)
	}
	_, c := started(t, cfg)
	return &bench{n, s, c, cfg}
}

// started is a running recorder, with a client that is signed in.
func started(t *testing.T, cfg recorder.Config) (*recorder.Recorder, *client.Client) {
	t.Helper()
	r, err := recorder.Start(context.Background(), cfg)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(r.Close)
	c := client.New((&dial.Dialer{}).At(cfg.Address), recorder.Port, "", dial.Login{Username: cfg.Username, Password: cfg.Password})
	t.Cleanup(c.Close)
	return r, c
}

func (b *bench) placement(rest, name string) client.Placement {
	at := b.net.At(rest)
	return client.Placement{Name: name, Address: at.String(),
		Service: fmt.Sprintf("http://%s:%d/onvif/device_service", at,
			camera.HTTPPort), Username: "otter", Password: b.s.House, Profile: "main"}
}

// A wrong clock refuses the recorder, with the right password; the recorder says so
// by its own time and tries again by itself.
func TestACameraWithAnotherClockRefusesTheRecorder(t *testing.T) {
	t.Parallel()
	b := open(t, nil)
	ctx := context.Background()
	if err := b.rec.Place(ctx, 3, b.placement(".1.12", "Berth 1 ramp")); err != nil {
		t.Fatal(err)
	}
	status, _, err := b.rec.Status(ctx)
	if err != nil || len(status.Slots) != 1 || status.Slots[0].State != "refused" || !strings.Contains(status.Slots[0].Detail, "ter:NotAuthorized") || !strings.Contains(status.Slots[0].Detail, "this recorder's clock") {
		t.Fatalf("%+v %v", status, err)
	}
	res, err := http.PostForm(fmt.Sprintf("http://%s:%d/clock", b.net.At(".1.12"), camera.ControlPort), url.Values{"skew": {"2s"}})
	if err != nil {
		t.Fatal(err)
	}
	_ = res.Body.Close()
	testbed.Until(t, 20*time.Second, "the recorder takes it", func() bool {
		status, _, err := b.rec.Status(ctx)
		return err == nil && status.Slots[0].State == "receiving" && status.Slots[0].Width == 1280
	})
}

func TestLimitsAreKeptAndNamed(t *testing.T) {
	t.Parallel()
	b := open(t, func(c *recorder.Config) { c.Limits.Licences, c.Limits.NameMax = 1, 8 })
	ctx := context.Background()
	for _, tc := range []struct {
		number int
		p      client.Placement
		part   string
		kind   error
	}{
		{1, b.placement(".1.11", "A name far too long"), "at most 8 characters", dial.ErrRefused},
		{99, b.placement(".1.11", "Slipway"), "channels 1 to 16", dial.ErrNotSupported},
		{1, b.placement(".1.11", "Slipway"), "", nil},
		{1, b.placement(".1.11", "Slipway"), "", nil}, // again: nothing changes
		{2, b.placement(".1.11", "Slipway"), "channel 1 holds that camera", dial.ErrRefused},
		{1, b.placement(".1.12", "Ramp"), "channel 1 holds Slipway", dial.ErrRefused},
		{2, b.placement(".1.12", "Ramp"), "all 1 licences are used", dial.ErrRefused},
	} {
		err := b.rec.Place(ctx, tc.number, tc.p)
		if tc.kind == nil && err != nil || tc.kind != nil && (!errors.Is(err, tc.kind) || !strings.Contains(err.Error(), tc.part)) {
			t.Errorf("%s on %d: %v, want %q", tc.p.Name, tc.number, err, tc.part)
		}
	}
	if err := b.rec.Remove(ctx, 1); err != nil {
		t.Fatal(err)
	}
	if status, _, err := b.rec.Status(ctx); err != nil || len(status.Slots) != 0 {
		t.Errorf("%+v %v", status, err)
	}
	if _, err := b.rec.Still(ctx, 1); !errors.Is(err, dial.ErrRefused) {
		t.Errorf("a still of a free channel: %v", err)
	}
}

func TestAPeggedTopicReachesTheLogOnce(t *testing.T) {
	t.Parallel()
	b := open(t, nil)
	ctx := context.Background()
	if err := b.rec.Place(ctx, 1, b.placement(".1.11", "Slipway")); err != nil {
		t.Fatal(err)
	}
	const line = "tns1:RuleEngine/LineDetector/Crossed"
	if err := b.rec.SetInput(ctx, 1, "line", []string{line}); err != nil {
		t.Fatal(err)
	}
	if err := b.rec.SetInput(ctx, 1, "no such input", nil); !errors.Is(err, dial.ErrRefused) {
		t.Errorf("%v", err)
	}
	testbed.Until(t, 10*time.Second, "it listens", func() bool {
		in, err := b.rec.Inputs(ctx, 1)
		return err == nil && in.Events == "listening" && len(in.Pegs) == 1 && in.Pegs[0].Topic == line
	})
	_, after, err := b.rec.Events(ctx, -1, 0)
	if err != nil {
		t.Fatal(err)
	}
	res, err := http.Post(fmt.Sprintf("http://%s:%d/walk", b.net.At(".1.11"), camera.ControlPort), "", nil)
	if err != nil {
		t.Fatal(err)
	}
	_ = res.Body.Close()
	entries, next, err := b.rec.Events(ctx, after, 15*time.Second)
	if err != nil || len(entries) != 1 || entries[0].Input != "line" || entries[0].Name != "Slipway" || next != entries[0].Seq {
		t.Fatalf("%+v %d %v", entries, next, err)
	}
	if more, _, err := b.rec.Events(ctx, next, 2*time.Second); err != nil || len(more) != 0 {
		t.Errorf("one crossing is logged more than once: %+v %v", more, err)
	}
}

func TestAWrongAccountOrCertificateIsTold(t *testing.T) {
	t.Parallel()
	b := open(t, nil)
	ctx := context.Background()
	host := (&dial.Dialer{}).At(b.cfg.Address)
	wrong := client.New(host, recorder.Port, "", dial.Login{Username: "install", Password: "not it"})
	defer wrong.Close()
	if _, _, err := wrong.Status(ctx); !errors.Is(err, dial.ErrNotAuthorised) {
		t.Errorf("%v", err)
	}
	if h, err := wrong.Hello(ctx); err != nil || h.Model != "TRN N16" || len(wrong.Pin()) != 64 {
		t.Errorf("%+v %v %q", h, err, wrong.Pin())
	}
	other := client.New(host, recorder.Port, strings.Repeat("0", 64), dial.Login{Username: b.cfg.Username, Password: b.cfg.Password})
	defer other.Close()
	if _, _, err := other.Status(ctx); err == nil || !strings.Contains(err.Error(), "another certificate") {
		t.Errorf("%v", err)
	}
}

// What a bad recorder answers ends in a sentence of the right kind.
func TestBadRecorderAnswers(t *testing.T) {
	t.Parallel()
	for name, tc := range map[string]struct {
		h    http.HandlerFunc
		kind error
	}{
		"no JSON": {func(w http.ResponseWriter, _ *http.Request) { _, _ = io.WriteString(w, "<html>") }, dial.ErrMalformed},
		"another thing": {func(w http.ResponseWriter, _ *http.Request) {
			_ = json.NewEncoder(w).Encode(map[string]string{"kind": "toaster"})
		}, dial.ErrMalformed},
		"3 MB": {func(w http.ResponseWriter, _ *http.Request) { _, _ = w.Write(make([]byte, 3<<20)) }, dial.ErrMalformed},
		"points away": {func(w http.ResponseWriter, r *http.Request) {
			http.Redirect(w, r, "https://127.0.0.9/", http.StatusFound)
		}, dial.ErrRefused},
		"isn't there":   {http.NotFound, dial.ErrNotSupported},
		"never answers": {func(_ http.ResponseWriter, r *http.Request) { <-r.Context().Done() }, dial.ErrUnreachable},
		"refuses kindly": {func(w http.ResponseWriter, _ *http.Request) {
			http.Error(w, `{"error":"not today"}`, http.StatusConflict)
		}, dial.ErrRefused},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			srv := httptest.NewTLSServer(tc.h)
			defer srv.Close()
			u, _ := url.Parse(srv.URL)
			port, _ := strconv.Atoi(u.Port())
			c := client.New((&dial.Dialer{}).At(netip.MustParseAddr("127.0.0.1")), port, "", dial.Login{Username: "u", Password: "p"})
			defer c.Close()
			if _, err := c.Hello(context.Background()); !errors.Is(err, tc.kind) || !strings.Contains(err.Error(),
				"GET /api/hello on 127.0.0.1") {
				t.Errorf("%v, want %v", err, tc.kind)
			}
		})
	}
}
