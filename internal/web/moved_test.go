package web_test

import (
	"testing"
	"time"

	"duskyharbor/internal/core/stage"
	"duskyharbor/internal/standin/camera"
)

// Cameras whose network gave them other addresses are shown with what agrees, and are taken
// together by one act; until then nothing is sent to them.
func TestMovedCamerasAreTakenTogether(t *testing.T) {
	t.Parallel()
	h := serve(t)
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
	h.ready("find")
	h.says("find", "At a new address?", "same endpoint, MAC", "nothing goes there by itself", "They were moved: take the ticked new addresses")
	a := whole(t, h)
	slip := a.camera("Slipway")
	h.says("find?sheet="+string(slip), "It is silent at "+h.Net.At(".1.11").String(), "shows its identity")
	h.says("sign-in?sheet="+string(slip), "No account is sent to it.", "Settle on Find who it is")
	for i, c := range moved {
		if c.Wrongs() != 0 || c.Served("GetUsers") != 0 {
			t.Errorf("moved camera %d was sent an account", i)
		}
	}
	var rows []any
	for place, at := range map[string]string{"Slipway": ".1.33", "Berth 1 ramp": ".1.34"} {
		rows = append(rows, args{"device_id": a.the("cameras", "cameras", "place", place)["device_id"], "address": h.Net.At(at).String()})
	}
	if said := a.keeps("find/taken", args{"devices": rows})["says"]; said != "2 cameras known at the new address from now on. Sign in next: what opened it goes first." {
		t.Errorf("it says %q", said)
	}
	h.ready("sign-in")
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
