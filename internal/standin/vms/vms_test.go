package vms_test

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"testing"
	"time"

	"duskyharbor/internal/core/access"
	"duskyharbor/internal/core/channel"
	"duskyharbor/internal/core/recording"
	"duskyharbor/internal/demo"
	"duskyharbor/internal/device/dial"
	"duskyharbor/internal/device/onvif"
	client "duskyharbor/internal/device/recorder"
	"duskyharbor/internal/device/rtsp"
	"duskyharbor/internal/standin/camera"
	"duskyharbor/internal/standin/recorder"
	"duskyharbor/internal/standin/vms"
	"duskyharbor/internal/testbed"
)

// rig is a camera on a recorder, and the desk beside them.
type rig struct {
	n       demo.Net
	s       demo.Secrets
	cam     *camera.Camera
	rec     *recorder.Recorder
	own     *client.Client
	desk    *vms.VMS
	control *client.Control
	service string
}

func rigged(t *testing.T, change func(*vms.Config)) *rig {
	t.Helper()
	n, s, state := testbed.Net(t), demo.NewSecrets(), t.TempDir()
	f, err := demo.StartFleet(context.Background(), n, s, state, 0, "Slipway", "Terminal recorder")
	if err != nil || len(f.Failed) > 0 {
		t.Fatal(err, f.Failed)
	}
	t.Cleanup(f.Close)
	cfg := demo.Desk(n, s, state)
	if change != nil {
		change(&cfg)
	}
	d, err := vms.Start(context.Background(), cfg)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(d.Close)
	r := &rig{n: n, s: s, cam: f.Cameras[0], rec: f.Recorders[0], desk: d, service: fmt.Sprintf("https://%s:%d/onvif/device_service", cfg.Address, vms.Port)}
	r.own = client.New((&dial.Dialer{}).At(n.At(".2.5")), recorder.Port, "", dial.Login{Username: "install", Password: s.Terminal})
	t.Cleanup(r.own.Close)
	if r.control, err = client.NewControl((&dial.Dialer{}).At(cfg.Address), r.service, "", dial.Login{Username: cfg.Username, Password: cfg.Password}); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(r.control.Close)
	return r
}

// eventually polls until ok, and tells what stood last where that doesn't come.
func eventually(t *testing.T, what string, ok func() (bool, string)) {
	t.Helper()
	last := ""
	t.Cleanup(func() {
		if t.Failed() {
			t.Logf("%s: %s", what, last)
		}
	})
	testbed.Until(t, 20*time.Second, what, func() (done bool) {
		done, last = ok()
		return done
	})
}

func (r *rig) receives(t *testing.T, d client.Driver, number int, state string) channel.Slot {
	t.Helper()
	var slot channel.Slot
	eventually(t, fmt.Sprintf("channel %d is %s", number, state), func() (bool, string) {
		table, _, err := d.Status(t.Context())
		for _, s := range table.Slots {
			if s.Number == number {
				slot = s
			}
		}
		return err == nil && slot.State == state, fmt.Sprintf("%+v %v", slot, err)
	})
	return slot
}

// A channel of a recorder is taken over by a system that is spoken to over ONVIF recording control,
// which really pulls it, keeps it, plays it back, is named, paused and taken out, and says what it
// can't do.
func TestADeskTakesARecordersChannelOverONVIF(t *testing.T) {
	t.Parallel()
	r, ctx := rigged(t, nil), t.Context()
	at := r.n.At(".1.11")
	if err := r.own.Place(ctx, 4, client.Placement{Name: "Slipway", Address: at.String(), Service: fmt.Sprintf("http://%s:%d/onvif/device_service", at, camera.HTTPPort),
		Username: "otter", Password: r.s.House, Profile: "main"}); err != nil {
		t.Fatal(err)
	}
	held := r.receives(t, r.own, 4, channel.Receiving)
	if want := fmt.Sprintf("rtsp://%s:%d/channel/4", r.n.At(".2.5"), recorder.StreamPort); held.Serves != want {
		t.Fatalf("it gives channel 4 on at %q, want %q", held.Serves, want)
	}
	put := client.Placement{Name: "Slipway", Address: r.n.At(".2.5").String(), URI: held.Serves, Username: "install", Password: r.s.Terminal, Label: "set 7", Way: channel.RTSP}
	if err := r.control.Place(ctx, 9, put); err != nil {
		t.Fatal(err)
	}
	s := r.receives(t, r.control, 9, channel.Receiving)
	if s.Name != "Slipway" || s.From != held.Serves || s.Address != r.n.At(".2.5").String() || s.Account != "install" || s.Label != "set 7" || s.Way != channel.RTSP {
		t.Errorf("%+v", s)
	}
	if err := r.control.Place(ctx, 9, put); err != nil { // again: nothing new
		t.Fatal(err)
	}
	table, reading, err := r.control.Status(ctx)
	if err != nil || len(table.Slots) != 1 || table.Limits.Channels != 64 || table.Speech != channel.OverONVIF || !table.Lacks(channel.ActPlan) || table.Lacks(channel.ActPlace) {
		t.Fatalf("%+v %v", table, err)
	}
	if reading.Offset.Mid().Abs() > 2*time.Second {
		t.Errorf("its clock is off by %v", reading.Offset.Mid())
	}
	if err := r.control.SetPlan(ctx, 9, recording.Always(recording.Mode{})); !errors.Is(err, dial.ErrNotSupported) {
		t.Errorf("a plan was written: %v", err)
	}
	if err := r.control.Rename(ctx, 9, "Slipway north"); err != nil {
		t.Fatal(err)
	}
	if err := r.control.SetAge(ctx, 31); err != nil {
		t.Fatal(err)
	}
	if table, _, err = r.control.Status(ctx); err != nil || table.Slots[0].Name != "Slipway north" || table.Storage.Deletes != 31 || table.Slots[0].Number != 9 {
		t.Errorf("%+v %v", table, err)
	}
	r.playsBack(t)
	if err := r.control.Pause(ctx, 9, true); err != nil {
		t.Fatal(err)
	}
	r.receives(t, r.control, 9, channel.Paused)
	if err := r.control.Pause(ctx, 9, false); err != nil {
		t.Fatal(err)
	}
	r.receives(t, r.control, 9, channel.Receiving)
	if err := r.own.Remove(ctx, 4); err != nil { // the recorder lets the camera go: the desk goes dark
		t.Fatal(err)
	}
	r.receives(t, r.control, 9, channel.Lost)
	if err := r.control.Remove(ctx, 9); err != nil {
		t.Fatal(err)
	}
	if table, _, err = r.control.Status(ctx); err != nil || len(table.Slots) != 0 || r.desk.Receiving() != 0 {
		t.Errorf("%+v %v", table, err)
	}
}

// playsBack plays what the desk kept, over RTSP, as its Replay service says.
func (r *rig) playsBack(t *testing.T) {
	t.Helper()
	ctx, host := t.Context(), (&dial.Dialer{}).At(r.n.At(".2.8"))
	c, err := onvif.New(host, r.service, onvif.Login{Username: "install", Password: r.s.Desk, Scheme: access.Digest})
	if err != nil {
		t.Fatal(err)
	}
	defer c.Close()
	services, _, err := c.Services(ctx)
	if err != nil {
		t.Fatal(err)
	}
	all, err := c.Recordings(ctx, services)
	if err != nil || len(all) != 1 {
		t.Fatalf("%+v %v", all, err)
	}
	uri, err := c.ReplayURI(ctx, services, all[0].Token)
	if err != nil {
		t.Fatal(err)
	}
	eventually(t, "it plays back", func() (bool, string) {
		conn, err := rtsp.Open(ctx, host, uri, rtsp.Login{Username: "install", Password: r.s.Desk})
		if err != nil {
			t.Fatal(err)
		}
		defer conn.Close()
		track, err := conn.Describe()
		if err == nil {
			err = conn.Play(track)
		}
		if err != nil || track.Codec != "H264" || len(track.Sets) < 2 {
			t.Fatalf("%+v %v", track, err)
		}
		n := 0
		for ; n < 20 && err == nil; n++ {
			_, err = conn.Packet()
		}
		return n == 20, fmt.Sprintf("%d packets: %v", n, err)
	})
}

// A camera that changes its password goes dark on the desk too, which says that it was refused; a
// receiver that is given the new one sees it again. The password is in nothing that the desk tells.
func TestADeskThatTakesACameraGoesDarkWithItsPassword(t *testing.T) {
	t.Parallel()
	r, ctx := rigged(t, func(c *vms.Config) { c.Most = 1 }), t.Context()
	at := r.n.At(".1.11")
	uri := fmt.Sprintf("rtsp://%s:%d/main", at, camera.RTSPPort)
	wrong := client.Placement{Name: "Slipway", Address: at.String(), URI: uri, Username: "otter", Password: "not/it@all"}
	if err := r.control.Place(ctx, 2, wrong); err != nil {
		t.Fatal(err)
	}
	if s := r.receives(t, r.control, 2, channel.Refused); strings.Contains(fmt.Sprintf("%+v", s), "not/it") {
		t.Errorf("it tells the password: %+v", s)
	}
	if err := r.control.SetAccount(ctx, 2, "otter", r.s.House, "set 3"); err != nil {
		t.Fatal(err)
	}
	if s := r.receives(t, r.control, 2, channel.Receiving); s.Label != "set 3" || s.Number != 2 {
		t.Errorf("%+v", s)
	}
	err := r.control.Place(ctx, 3, client.Placement{Name: "Berth", Address: at.String(), URI: uri + "?x=1", Username: "otter", Password: r.s.House})
	if err == nil || !strings.Contains(err.Error(), "at most") || strings.Contains(err.Error(), r.s.House) {
		t.Errorf("a full one took another: %v", err)
	}
	if table, _, err := r.control.Status(ctx); err != nil || len(table.Slots) != 1 {
		t.Errorf("what was begun stands: %+v %v", table.Slots, err)
	}
}

// What it holds it holds over a restart.
func TestADeskForgetsNothing(t *testing.T) {
	t.Parallel()
	r, ctx := rigged(t, nil), t.Context()
	at := r.n.At(".1.11")
	if err := r.control.Place(ctx, 5, client.Placement{Name: "Slipway", Address: at.String(), URI: fmt.Sprintf("rtsp://%s:%d/main", at, camera.RTSPPort),
		Username: "otter", Password: r.s.House, Profile: "main"}); err != nil {
		t.Fatal(err)
	}
	r.receives(t, r.control, 5, channel.Receiving)
	if err := r.control.Restart(ctx); err != nil {
		t.Fatal(err)
	}
	eventually(t, "it goes away", func() (bool, string) {
		_, _, err := r.control.Status(ctx)
		return err != nil, "it answers"
	})
	if s := r.receives(t, r.control, 5, channel.Receiving); s.Profile != "main" || s.Number != 5 {
		t.Errorf("%+v", s)
	}
}
