package web_test

import (
	"encoding/json"
	"fmt"
	"testing"
	"time"

	"duskyharbor/internal/testbed"
)

// Harbour desk is found by what it speaks, named and given its account, takes over a recorder's channels, and is kept
// in step with them: one that was renamed, one that is gone, one that nobody asked for; and a camera's one name goes
// everywhere.
func TestADeskIsKeptInStep(t *testing.T) {
	t.Parallel()
	h := serveOn(t, testbed.StartOnly(t, "Slipway", "Crew mess", "Terminal recorder", "Harbour desk"), nil)
	a := whole(t, h)
	h.ready("find", "sign-in", "streams")
	desk, old := h.deskListed(a), a.recorder("Terminal recorder")
	h.ready("channels", "channels!")
	const both = "1 Slipway receiving, 2 Crew mess receiving"
	a.holds("Terminal recorder", both)
	face := "channels?recorder=" + string(desk)
	h.says(face, "Spoken to over ONVIF recording control", "keep by a plan", "let it take other recorders’ channels instead")
	a.keeps("channels/cascading", args{"recorder_id": desk, "takes_channels": true})
	h.says(face, "Channels of other recorders", "1 · Slipway", "2 · Crew mess", "not taken")
	take := args{"recorder_id": desk, "take": []any{pick(old, 1), pick(old, 2)}}
	a.makes("channels/cascade", take)
	a.holds("Harbour desk", both)
	h.says(face, "on channel 1, called the same, and it receives", "on channel 2, called the same, and it receives")

	// Behind the product's back one channel is renamed there, and one is taken out.
	if err := h.Fleet.Desk.Rename(1, "CAM 1"); err != nil {
		t.Fatal(err)
	}
	if err := h.Fleet.Desk.Forget(2); err != nil {
		t.Fatal(err)
	}
	a.holds("Harbour desk", "1 CAM 1 receiving")
	h.says(face, "Harbour desk is out of step with 2 channels", "renamed", "missing", "Bring it in step")
	a.makes("channels/cascade", args{"recorder_id": desk, "mend": "1"})
	a.holds("Harbour desk", both)

	// What is taken out of it by hand isn't missed any more; what is taken over again is held again.
	a.makes("channels/out", args{"recorder_id": desk, "channel": 2})
	a.holds("Harbour desk", "1 Slipway receiving")
	h.says(face, "not taken")
	a.makes("channels/cascade", take)
	a.holds("Harbour desk", both)

	// One name: the place is renamed, and one change has the recorder, the desk and the camera say it.
	slip := a.camera("Slipway")
	a.keeps("find/say", args{"camera_id": slip, "place": "Slipway foot"})
	h.ready("channels")
	h.says("channels?sheet="+string(slip), `It is called "Slipway" on Terminal recorder, "Slipway" on Harbour desk and "Slipway foot" here.`,
		"The camera's own name", "Give one name to")
	h.ready("channels!")
	const renamed = "1 Slipway foot receiving, 2 Crew mess receiving"
	a.holds("Terminal recorder", renamed)
	a.holds("Harbour desk", renamed)
	if n := count(h, `select count(*) from fact where name = 'device.info' and value->>'name' = 'Slipway foot'`); n != 1 {
		t.Error("the camera doesn't say its new name")
	}
}

// deskListed gives the desk, which was found and nobody listed, a name and an account.
func (h *harbour) deskListed(a *acts) json.Number {
	h.t.Helper()
	own := a.keeps("settings/set", args{"name": "Desk account", "username": "install", "password": h.Secrets.Desk})["id"]
	desk := a.id("recorders", "recorders", "address", h.Net.At(".2.8"))
	a.keeps("settings/recorder/"+string(desk), args{"place": "Harbour desk", "set_id": own})
	return desk
}

// listDesk gives the desk, which was found and nobody listed, a name and an account on Settings.
func (h *harbour) listDesk(p *testbed.Page) {
	h.t.Helper()
	h.list(p, "recorder", "Desk account", h.Secrets.Desk, map[string]string{".2.8": "Harbour desk"})
}

// listAnalysers gives the analysers, which were found and nobody listed, names and an account on Settings.
func (h *harbour) listAnalysers(p *testbed.Page) {
	h.t.Helper()
	h.list(p, "analyser", "Analysers' account", h.Secrets.Look, map[string]string{".2.30": "Analyser 1", ".2.31": "Analyser 2"})
}

// list gives what was found at addresses, and nobody listed, names and an account on Settings.
func (h *harbour) list(p *testbed.Page, kind, account, password string, names map[string]string) {
	h.t.Helper()
	h.on(p, "settings")
	p.Sees(30*time.Second, "Add a recorder", "Add an analyser")
	fill := func(form, script string) {
		testbed.Eval[bool](p, fmt.Sprintf(`(() => { const f = document.querySelector('form[action$=%q]'); const e = f.elements; %s; f.requestSubmit(); return true; })()`, form, script))
	}
	fill("/settings/set", fmt.Sprintf("e.name.value = %q; e.username.value = 'install'; e.password.value = %q", account, password))
	testbed.Until(h.t, 30*time.Second, "the set is kept", func() bool { return count(h, `select count(*) from credential_set where name = $1`, account) == 1 })
	for at, name := range names {
		found := h.Net.At(at).String() // it is called so until someone names it
		h.on(p, "settings")
		p.Sees(30*time.Second, account, found)
		fill(fmt.Sprintf("/settings/%s/%d", kind, count(h, `select id from device where place = $1`, found)), fmt.Sprintf("e.place.value = %q; e.set.value = [...e.set.options].find((o) => o.text.includes(%q)).value", name, account))
		testbed.Until(h.t, 30*time.Second, "it is named", func() bool {
			return count(h, `select count(*) from device where place = $1 and set_id is not null`, name) == 1
		})
	}
}

// cascades says on its channel face, once it was read, that the desk takes other recorders' channels.
func (h *harbour) cascades(p *testbed.Page, face string) {
	h.t.Helper()
	h.on(p, face)
	p.Sees(30*time.Second, "Spoken to over ONVIF recording control", "keep by a plan")
	h.opens(p, "It takes cameras; let it take other recorders’ channels instead")
	p.PressIn(".cascading", "Harbour desk takes other recorders’ channels")
	p.Sees(30*time.Second, "Channels of other recorders")
}
