package web_test

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"duskyharbor/internal/core/stage"
	"duskyharbor/internal/demo"
	"duskyharbor/internal/standin/camera"
	"duskyharbor/internal/testbed"
)

// Cameras whose network gave them other addresses are shown with what agrees, and are taken
// together by one button; until then nothing is sent to them.
func TestMovedCamerasAreTakenTogether(t *testing.T) {
	t.Parallel()
	h := serve(t)
	p := testbed.Browser(t, 1280, 800)
	shoot := func(name string) {
		if dir := os.Getenv("SHOTS_OF_MOVES"); dir != "" {
			if err := os.WriteFile(filepath.Join(dir, name+".png"), p.Shot(), 0o600); err != nil {
				t.Fatal(err)
			}
		}
	}
	h.signIn(p, demo.Lead, h.Secrets.Lead)
	h.ready("find", "sign-in")
	var moved []*camera.Camera
	for i, place := range []string{"Slipway", "Berth 1 ramp"} {
		c := h.Fleet.Camera(place)
		cfg := c.Config()
		c.Close()
		cfg.Address, cfg.StateFile, cfg.Quiet = h.Net.At([]string{".1.33", ".1.34"}[i]), "", true
		cfg.Manners.LockAfter, cfg.Manners.LockFor = 99, time.Hour
		n, err := camera.Start(t.Context(), cfg)
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(n.Close)
		moved = append(moved, n)
	}
	h.on(p, "find")
	h.run(p, "body", "Look at 3 networks")
	h.on(p, "find")
	p.Sees(30*time.Second, "At a new address?", "same endpoint, MAC", "nothing goes there by itself")
	shoot("moved")
	p.Accessible("new addresses in light")
	p.Theme("dark")
	p.Legible("new addresses in dark")
	p.Theme("light")
	for _, width := range []int64{1024, 390} {
		p.Resize(width, 800)
		if testbed.Eval[bool](p, "document.documentElement.scrollWidth > document.documentElement.clientWidth") {
			t.Errorf("the page scrolls sideways at %d", width)
		}
		shoot("moved-narrow")
	}
	p.Resize(1280, 800)
	h.sheet(p, "find", "Slipway")
	p.Sees(30*time.Second, "It is silent at "+h.Net.At(".1.11").String(), "shows its identity")
	shoot("moved-sheet")
	h.sheet(p, "sign-in", "Slipway")
	p.Sees(30*time.Second, "No account is sent to it.", "Settle on Find who it is")
	shoot("moved-sign-in")
	for i, c := range moved {
		if c.Wrongs() != 0 || c.Served("GetUsers") != 0 {
			t.Errorf("moved camera %d was sent an account", i)
		}
	}
	h.on(p, "find")
	p.Press("They were moved: take the ticked new addresses")
	p.Sees(30*time.Second, "2 cameras known at the new address from now on")
	shoot("moved-taken")
	h.on(p, "sign-in")
	h.run(p, "body", "Sign in to 2 cameras")
	v := h.snapshot(t, h.Site)
	for _, d := range v.Cameras() {
		if d.Place == "Slipway" || d.Place == "Berth 1 ramp" {
			of := v.Of(d)
			if m := markOf(t, h, of.ID, stage.SignIn); m != "ready" {
				t.Errorf("%s at %v: Sign-in is %s", d.Place, d.Address, m)
			}
		}
	}
}

// markOf is how a view stands in a stage.
func markOf(t *testing.T, h *harbour, view int64, st stage.Stage) (state string) {
	t.Helper()
	if err := h.Store.Pool.QueryRow(t.Context(), `select state from mark where source_id = $1 and stage = $2`, view, int(st)).Scan(&state); err != nil {
		t.Fatal(err)
	}
	return state
}
