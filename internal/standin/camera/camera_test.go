package camera_test

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"net/http"
	"net/netip"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/icholy/digest"

	"duskyharbor/internal/core/access"
	"duskyharbor/internal/core/stream"
	"duskyharbor/internal/core/topic"
	"duskyharbor/internal/demo"
	"duskyharbor/internal/device/dial"
	"duskyharbor/internal/device/onvif"
	"duskyharbor/internal/device/recorder"
	"duskyharbor/internal/device/rtsp"
	"duskyharbor/internal/standin/camera"
	"duskyharbor/internal/testbed"
)

// fleet is the scenario's stand-ins alone.
func fleet(t *testing.T) (demo.Net, demo.Secrets) {
	t.Helper()
	n, s := testbed.Net(t), demo.NewSecrets()
	f, err := demo.StartFleet(context.Background(), n, s, t.TempDir(), 0)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(f.Close)
	if len(f.Failed) > 0 {
		t.Fatalf("stand-ins couldn't start: %+v", f.Failed)
	}
	return n, s
}

func client(t *testing.T, at netip.Addr, l onvif.Login) *onvif.Client {
	t.Helper()
	c, err := onvif.New((&dial.Dialer{}).At(at), fmt.Sprintf("http://%s:%d/onvif/device_service", at, camera.HTTPPort), l)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(c.Close)
	return c
}

func TestTokensAreHeldAgainstTheCamerasOwnClock(t *testing.T) {
	t.Parallel()
	n, s := fleet(t)
	ctx := context.Background()
	berth, slip := n.At(".1.12"), n.At(".1.11")
	for _, tc := range []struct {
		name  string
		at    netip.Addr
		login onvif.Login
		opens bool
	}{
		{"the recorder's own time", berth, onvif.Login{Username: "otter", Password: s.House, Scheme: access.Token}, false},
		{"the camera's own time", berth, onvif.Login{Username: "otter", Password: s.House, Scheme: access.Token, Ahead: time.Hour}, true},
		{"within the window", berth, onvif.Login{Username: "otter", Password: s.House, Scheme: access.Token,
			Ahead: time.Hour - 25*time.Second}, true},
		{"beyond the window", berth, onvif.Login{Username: "otter", Password: s.House, Scheme: access.Token,
			Ahead: time.Hour + 35*time.Second}, false},
		{"a wrong password", berth, onvif.Login{Username: "otter", Password: "wrong", Scheme: access.Token, Ahead: time.Hour}, false},
		{"Digest where only tokens are taken", berth, onvif.Login{Username: "otter", Password: s.House, Scheme: access.Digest}, false},
		{"Digest", slip, onvif.Login{Username: "otter", Password: s.House, Scheme: access.Digest}, true},
		{"Digest, wrong", slip, onvif.Login{Username: "otter", Password: "wrong", Scheme: access.Digest}, false},
		{"no account", slip, onvif.Login{}, false},
	} {
		_, err := client(t, tc.at, tc.login).Information(ctx)
		if tc.opens && err != nil || !tc.opens && !errors.Is(err, dial.ErrNotAuthorised) {
			t.Errorf("%s: %v", tc.name, err)
		}
	}
	for at, want := range map[netip.Addr]access.Scheme{slip: access.Digest, berth: access.Token} {
		got, err := client(t, at, onvif.Login{}).Schemes(ctx)
		if err != nil || len(got) != 1 || got[0] != want {
			t.Errorf("%v offers %v, %v; want %s", at, got, err, want)
		}
	}
}

// tries writes down what a client's tries came to.
type tries struct{ begun, opened, wrong int }

func (x *tries) Begin(context.Context) error { x.begun++; return nil }

func (x *tries) End(_ context.Context, sent bool, verdict error) error {
	switch {
	case sent && verdict == nil:
		x.opened++
	case errors.Is(verdict, dial.ErrNotAuthorised):
		x.wrong++
	}
	return nil
}

// A client's first request with an account is its try, and the only one while it is taken: a
// clock that was set since it was read costs none, and what may not be done isn't taken for a
// wrong password.
func TestAClientsTries(t *testing.T) {
	t.Parallel()
	n, s := fleet(t)
	ctx := t.Context()
	berth, slip := n.At(".1.12"), n.At(".1.11")
	for _, tc := range []struct {
		name  string
		at    netip.Addr
		login onvif.Login
		want  tries
	}{
		{"a token with the camera's time", berth, onvif.Login{Username: "otter", Password: s.House, Scheme: access.Token, Ahead: time.Hour}, tries{1, 1, 0}},
		{"a token, and the clock was set since", berth, onvif.Login{Username: "otter", Password: s.House, Scheme: access.Token}, tries{1, 1, 0}},
		{"a token with a wrong password", berth, onvif.Login{Username: "otter", Password: "wrong", Scheme: access.Token, Ahead: time.Hour}, tries{1, 0, 1}},
		{"Digest", slip, onvif.Login{Username: "otter", Password: s.House, Scheme: access.Digest}, tries{1, 1, 0}},
		{"Digest, wrong", slip, onvif.Login{Username: "otter", Password: "wrong", Scheme: access.Digest}, tries{1, 0, 1}},
		{"Digest where only tokens are taken: nothing is sent", berth, onvif.Login{Username: "otter", Password: s.House, Scheme: access.Digest}, tries{1, 0, 0}},
	} {
		var got tries
		tc.login.Try = &got
		c := client(t, tc.at, tc.login)
		if _, err := c.Time(ctx); err != nil || got.begun != 0 {
			t.Errorf("%s: its time costs a try: %+v %v", tc.name, got, err)
		}
		_, ierr := c.Information(ctx)
		if ierr == nil { // what follows is no try any more
			if _, err := c.Users(ctx); err != nil {
				t.Errorf("%s: %v", tc.name, err)
			}
		}
		if got != tc.want {
			t.Errorf("%s: %+v, want %+v (%v)", tc.name, got, tc.want, ierr)
		}
	}
}

func TestPullPoints(t *testing.T) {
	t.Parallel()
	n, s := fleet(t)
	ctx := context.Background()
	c := client(t, n.At(".1.11"), onvif.Login{Username: "otter", Password: s.House, Scheme: access.Digest})
	services, _, err := c.Services(ctx)
	if err != nil {
		t.Fatal(err)
	}
	topics, err := c.Topics(ctx, services)
	if err != nil || len(topics) != 3 || topics[0].Topic != "tns1:RuleEngine/LineDetector/Crossed" || !topics[1].Property {
		t.Fatalf("%+v %v", topics, err)
	}
	p, err := c.Subscribe(ctx, services)
	if err != nil {
		t.Fatal(err)
	}
	events, err := p.Pull(ctx, time.Second)
	if err != nil || len(events) != 2 {
		t.Fatalf("how things stand: %+v %v", events, err)
	}
	for _, e := range events {
		if e.Operation != topic.Initialized {
			t.Errorf("%+v", e)
		}
	}
	begun := time.Now()
	if events, err = p.Pull(ctx, time.Second); err != nil || len(events) != 0 || time.Since(begun) < 900*time.Millisecond {
		t.Errorf("a long poll ended after %v with %v, %v", time.Since(begun), events, err)
	}
	if err := p.Renew(ctx); err != nil {
		t.Error(err)
	}
	for range 3 {
		if _, err := c.Subscribe(ctx, services); err != nil {
			t.Fatal(err)
		}
	}
	if _, err := c.Subscribe(ctx, services); !errors.Is(err, dial.ErrRefused) {
		t.Errorf("a fifth pull point: %v", err)
	}
	if err := p.Close(ctx); err != nil {
		t.Error(err)
	}
	if _, err := p.Pull(ctx, time.Second); !errors.Is(err, dial.ErrRefused) {
		t.Errorf("a closed pull point answers: %v", err)
	}
}

func TestRulesAndStreamsAsDeclared(t *testing.T) {
	t.Parallel()
	n, s := fleet(t)
	ctx := context.Background()
	c := client(t, n.At(".1.12"), onvif.Login{Username: "otter", Password: s.House, Scheme: access.Token, Ahead: time.Hour})
	services, _, err := c.Services(ctx)
	if err != nil {
		t.Fatal(err)
	}
	rules, err := c.Rules(ctx, services, "vac0")
	if err != nil || len(rules) != 2 || rules[0].Name != "Ramp edge" || len(rules[0].Line) != 2 {
		t.Errorf("%+v %v", rules, err)
	}
	profiles, err := c.Profiles(ctx, services)
	if err == nil {
		err = c.Addresses(ctx, services, &profiles[0])
	}
	if err != nil || len(profiles) != 2 || profiles[0].URI == "" || profiles[0].Width != 1280 || profiles[0].GOP != 15 || profiles[0].Analytics != "vac0" || profiles[0].Repaired {
		t.Errorf("%+v %v", profiles, err)
	}
}

type probed struct {
	Streams []struct {
		Codec  string `json:"codec_name"`
		Width  int    `json:"width"`
		Height int    `json:"height"`
		Rate   string `json:"avg_frame_rate"` // r_frame_rate is a guess among usual ones: 15 or 15000/1001
	} `json:"streams"`
	Packets []struct {
		Size  json.Number `json:"size"`
		Time  json.Number `json:"pts_time"`
		Flags string      `json:"flags"`
	} `json:"packets"`
}

// about says whether the first stream's frame rate is within 2 % of one.
func (p probed) about(fps float64) bool {
	var a, b float64
	n, err := fmt.Sscanf(p.Streams[0].Rate, "%f/%f", &a, &b)
	return err == nil && n == 2 && b > 0 && math.Abs(a/b/fps-1) < 0.02
}

// kbps is the rate over whole groups of pictures, as the recorder counts it.
func (p probed) kbps(t *testing.T) float64 {
	t.Helper()
	var from, to, bytes, run float64
	for _, k := range p.Packets {
		at, err := k.Time.Float64()
		size, err2 := k.Size.Float64()
		if err != nil || err2 != nil {
			continue
		}
		if strings.HasPrefix(k.Flags, "K") {
			if from == 0 {
				from = at
				run = 0
			} else {
				to, bytes = at, run
			}
		}
		run += size
	}
	if to <= from {
		t.Fatalf("ffprobe saw no whole group in %d packets", len(p.Packets))
	}
	return bytes * 8 / 1000 / (to - from)
}

// A player that isn't ours plays the streams, and the recorder says the same of them.
func TestFFprobeAgreesWithTheRecorder(t *testing.T) {
	t.Parallel()
	if _, err := exec.LookPath("ffprobe"); err != nil {
		t.Skip("ffprobe isn't installed: make test installs it")
	}
	n, s := fleet(t)
	ctx, cancel := context.WithTimeout(context.Background(), 60*time.Second)
	defer cancel()
	at := n.At(".1.11")
	rec := recorder.New((&dial.Dialer{}).At(n.At(".2.5")), recorder.Port, "", dial.Login{Username: "install", Password: s.Terminal})
	defer rec.Close()
	err := rec.Place(ctx, 1, recorder.Placement{Name: "Slipway", Address: at.String(),
		Service: fmt.Sprintf("http://%s:%d/onvif/device_service", at,
			camera.HTTPPort), Username: "otter", Password: s.House, Profile: "main"})
	if err != nil {
		t.Fatal(err)
	}
	out, err := exec.CommandContext(ctx, "ffprobe", "-v", "error", "-rtsp_transport", "tcp", "-select_streams", "v", "-read_intervals", "%+5",
		"-show_streams", "-show_packets", "-of", "json",
		fmt.Sprintf("rtsp://otter:%s@%s:%d/main", s.House, at, camera.RTSPPort)).Output()
	if err != nil {
		t.Fatalf("ffprobe: %v", err)
	}
	var p probed
	if err := json.Unmarshal(out, &p); err != nil || len(p.Streams) != 1 {
		t.Fatalf("%v: %s", err, out)
	}
	status, _, err := rec.Status(ctx)
	if err != nil || len(status.Slots) != 1 {
		t.Fatalf("%+v %v", status, err)
	}
	slot, v := status.Slots[0], p.Streams[0]
	if slot.State != "receiving" || v.Codec != "h264" || slot.Codec != "H264" || slot.Width != v.Width || slot.Height != v.Height || !p.about(15) || slot.FPS < 14.5 || slot.FPS > 15.5 {
		t.Errorf("the recorder says %+v, ffprobe %+v", slot, v)
	}
	// ffprobe counts coded bytes, the recorder RTP packets: headers add a little.
	if theirs := p.kbps(t); slot.Kbps < theirs*0.85 || slot.Kbps > theirs*1.35+10 {
		t.Errorf("the recorder says %.0f kbit/s, ffprobe %.0f", slot.Kbps, theirs)
	}
	m := rtsp.Measure(ctx, (&dial.Dialer{}).At(at),
		profileOf(ctx, t, client(t, at, onvif.Login{Username: "otter", Password: s.House,
			Scheme: access.Digest})), rtsp.Login{Username: "otter", Password: s.House}, 2200*time.Millisecond)
	if m.Trouble != "" || m.Width != v.Width || m.Height != v.Height || m.KeyEvery != time.Second {
		t.Errorf("we measure %+v", m)
	}
	still, err := rec.Still(ctx, 1)
	if err != nil || len(still) < 1000 {
		t.Errorf("still of %d bytes: %v", len(still), err)
	}
}

func TestAWalkIsSeenInTheEventsAndKeptOverARestart(t *testing.T) {
	t.Parallel()
	n, s := testbed.Net(t), demo.NewSecrets()
	dir := t.TempDir()
	cfg := demo.Cameras(n, s, dir)[1]
	c, err := camera.Start(context.Background(), cfg)
	if err != nil {
		t.Fatal(err)
	}
	cl := client(t, cfg.Address, onvif.Login{Username: "otter", Password: s.House, Scheme: access.Token, Ahead: time.Hour})
	if err := cl.SetTime(context.Background(), false, "CET-1CEST,M3.5.0,M10.5.0/3", true, time.Now().Add(-time.Minute)); err != nil {
		t.Fatal(err)
	}
	if err := cl.SetTime(context.Background(), false, "nowhere", true, time.Time{}); !errors.Is(err,
		dial.ErrNotAuthorised) && !errors.Is(err, dial.ErrRefused) {
		t.Errorf("a zone that is none: %v", err)
	}
	c.Close()
	if _, err := filepath.Glob(dir + "/*.json"); err != nil {
		t.Fatal(err)
	}
	again, err := camera.Start(context.Background(), cfg)
	if err != nil {
		t.Fatal(err)
	}
	defer again.Close()
	r, err := client(t, cfg.Address, onvif.Login{}).Time(context.Background())
	if err != nil || r.Zone != "CET-1CEST,M3.5.0,M10.5.0/3" || !r.Daylight || r.Offset.Mid() > -55*time.Second || r.Offset.Mid() < -65*time.Second {
		t.Errorf("after a restart it reads %+v, %v", r, err)
	}
}

func profileOf(ctx context.Context, t *testing.T, c *onvif.Client) stream.Profile {
	t.Helper()
	services, _, err := c.Services(ctx)
	if err != nil {
		t.Fatal(err)
	}
	profiles, err := c.Profiles(ctx, services)
	if err == nil && len(profiles) > 0 {
		err = c.Addresses(ctx, services, &profiles[0])
	}
	if err != nil || len(profiles) == 0 {
		t.Fatalf("%v %v", profiles, err)
	}
	return profiles[0]
}

// Rules are written as a whole request or not at all, fire on the next walk, and
// are there again after a restart.
func TestRulesAreWritten(t *testing.T) {
	t.Parallel()
	n, s := testbed.Net(t), demo.NewSecrets()
	cfg := demo.Cameras(n, s, t.TempDir())[0]
	c, err := camera.Start(context.Background(), cfg)
	if err != nil {
		t.Fatal(err)
	}
	send := func(op, inner string) int {
		t.Helper()
		raw := fmt.Sprintf(`<e:Envelope xmlns:e="http://www.w3.org/2003/05/soap-envelope" xmlns:tan="http://www.onvif.org/ver20/analytics/wsdl" xmlns:tt="http://www.onvif.org/ver10/schema"><e:Body><tan:%s><tan:ConfigurationToken>vac0</tan:ConfigurationToken>%s</tan:%s></e:Body></e:Envelope>`, op, inner, op)
		req, err := http.NewRequest(http.MethodPost,
			fmt.Sprintf("http://%s:%d/onvif/analytics", cfg.Address, camera.HTTPPort), strings.NewReader(raw))
		if err != nil {
			t.Fatal(err)
		}
		res, err := (&http.Client{Transport: &digest.Transport{Username: "otter", Password: s.House}}).Do(req)
		if err != nil {
			t.Fatal(err)
		}
		_ = res.Body.Close()
		return res.StatusCode
	}
	line := func(name, points string) string {
		return `<tan:Rule Name="` + name + `" Type="tt:LineDetector"><tt:Parameters><tt:SimpleItem Name="Direction" Value="Any"/><tt:ElementItem Name="Segments"><tt:Polyline>` + points + `</tt:Polyline></tt:ElementItem></tt:Parameters></tan:Rule>`
	}
	good := `<tt:Point x="-0.5" y="-0.9"/><tt:Point x="0.2" y="0.1"/>`
	for _, tc := range []struct {
		op, inner string
		want      int
	}{
		{"CreateRules", line("New", good), 200},
		{"CreateRules", line("New", good), 400},
		{"CreateRules", line("Other", good) + line("Bad", `<tt:Point x="0" y="0"/>`), 400},
		{"ModifyRules", line("Nowhere", good), 400},
		{"ModifyRules", line("New", good), 200},
		{"DeleteRules", "<tan:RuleName>Seaward line</tan:RuleName>", 200},
		{"DeleteRules", "<tan:RuleName>Seaward line</tan:RuleName>", 400},
	} {
		if got := send(tc.op, tc.inner); got != tc.want {
			t.Errorf("%s %.60s: %d, want %d", tc.op, tc.inner, got, tc.want)
		}
	}
	names := func() string {
		t.Helper()
		cl := client(t, cfg.Address, onvif.Login{Username: "otter", Password: s.House, Scheme: access.Digest})
		services, _, err := cl.Services(context.Background())
		if err != nil {
			t.Fatal(err)
		}
		rules, err := cl.Rules(context.Background(), services, "vac0")
		if err != nil {
			t.Fatal(err)
		}
		out := ""
		for _, r := range rules {
			out += r.Name + ";"
		}
		return out
	}
	if got := names(); got != "Slip apron;New;" {
		t.Errorf("rules: %s", got)
	}
	c.Close()
	again, err := camera.Start(context.Background(), cfg)
	if err != nil {
		t.Fatal(err)
	}
	defer again.Close()
	if got := names(); got != "Slip apron;New;" {
		t.Errorf("after a restart: %s", got)
	}
}

// A camera that sends over UDP alone is measured over that; ports on both sides are a pair,
// and what others send to them counts for nothing. ffprobe plays the same.
func TestStreamsOverUDP(t *testing.T) {
	t.Parallel()
	n, s := testbed.Net(t), demo.NewSecrets()
	cfg := demo.Cameras(n, s, t.TempDir())[0]
	cfg.Manners.OnlyUDP = true
	c, err := camera.Start(t.Context(), cfg)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(c.Close)
	host, login := (&dial.Dialer{}).At(cfg.Address), rtsp.Login{Username: "otter", Password: s.House}
	p := profileOf(t.Context(), t, client(t, cfg.Address, onvif.Login{Username: "otter", Password: s.House, Scheme: access.Digest}))
	m := rtsp.Measure(t.Context(), host, p, login, 2200*time.Millisecond)
	if m.Trouble != "" || m.Over != "UDP" || m.Width != p.Width || m.Height != p.Height || m.KeyEvery != time.Second || m.Lost != 0 || m.FPS < 14.5 || m.FPS > 15.5 || m.First <= 0 {
		t.Errorf("we measure %+v", m)
	}
	over := func(o rtsp.Over) func(*rtsp.Conn, rtsp.Track) error {
		return func(c *rtsp.Conn, t rtsp.Track) error { return c.PlayOver(t, o) }
	}
	if m := rtsp.MeasureOver(t.Context(), host, p, login, time.Second, over(rtsp.TCP)); !strings.Contains(m.Trouble, "461") {
		t.Errorf("over TCP: %+v", m)
	}
	if c.Wrongs() != 0 {
		t.Errorf("%d wrong passwords", c.Wrongs())
	}
	if _, err := exec.LookPath("ffprobe"); err != nil {
		t.Skip("ffprobe isn't installed: make test installs it")
	}
	ctx, cancel := context.WithTimeout(t.Context(), 60*time.Second)
	defer cancel()
	out, err := exec.CommandContext(ctx, "ffprobe", "-v", "error", "-rtsp_transport", "udp", "-select_streams", "v", "-read_intervals", "%+3", "-show_streams", "-of", "json",
		fmt.Sprintf("rtsp://otter:%s@%s:%d/main", s.House, cfg.Address, camera.RTSPPort)).Output()
	if err != nil {
		t.Fatalf("ffprobe: %v", err)
	}
	var seen probed
	if err := json.Unmarshal(out, &seen); err != nil || len(seen.Streams) != 1 || seen.Streams[0].Codec != "h264" || seen.Streams[0].Width != m.Width || !seen.about(15) {
		t.Errorf("ffprobe says %s (%v), we %+v", out, err, m)
	}
}
