package web_test

import (
	"fmt"
	"testing"
	"time"

	"duskyharbor/internal/demo"
	"duskyharbor/internal/testbed"
)

// Harbour desk is found by what it speaks, named and given its account on the pages, takes over a
// recorder's channels, and is kept in step with them: one that was renamed, one that is gone, one that
// nobody asked for; and a camera's one name goes everywhere.
func TestADeskIsKeptInStep(t *testing.T) {
	t.Parallel()
	h := serveOn(t, testbed.StartOnly(t, "Slipway", "Crew mess", "Terminal recorder", "Harbour desk"), nil)
	p := testbed.Browser(t, 1280, 800)
	h.signIn(p, demo.Lead, h.Secrets.Lead)
	h.ready("find", "sign-in", "streams")
	h.listDesk(p)
	desk, old := h.recorder("Harbour desk"), h.recorder("Terminal recorder")
	h.on(p, "channels")
	h.run(p, "body", "Read 2 recorders")
	h.on(p, "channels")
	h.run(p, "body", "Place 2 cameras")
	testbed.Until(t, 30*time.Second, "the recorder holds both", func() bool { return h.slots(old) == "1 Slipway receiving, 2 Crew mess receiving" })
	face := fmt.Sprintf("channels?recorder=%d", desk)
	h.feedsDesk(p, face)
	p.Sees(30*time.Second, "1 · Slipway", "2 · Crew mess", "not taken")
	testbed.Eval[bool](p, `document.querySelectorAll('.feeds input[name=take]').forEach((x) => x.click()); true`)
	h.run(p, ".feeds", "Take over the ticked channels")
	testbed.Until(t, 30*time.Second, "the desk holds both", func() bool { return h.slots(desk) == "1 Slipway receiving, 2 Crew mess receiving" })
	h.on(p, face)
	p.Sees(30*time.Second, "on channel 1, called the same, and it receives", "on channel 2, called the same, and it receives")
	p.Accessible("a desk")

	h.driftApart(p, desk, old)
	h.on(p, face)
	p.Sees(30*time.Second, "Harbour desk is out of step with 2 channels", "renamed", "missing")
	h.run(p, ".feeds", "Bring it in step")
	testbed.Until(t, 30*time.Second, "it is in step again", func() bool { return h.slots(desk) == "1 Slipway receiving, 2 Crew mess receiving" })

	// What is taken out on its face isn't missed any more; what is taken over again is held again.
	h.on(p, face)
	h.run(p, ".front li:nth-child(2)", "Take out")
	testbed.Until(t, 30*time.Second, "one is taken out", func() bool { return h.slots(desk) == "1 Slipway receiving" })
	h.on(p, face)
	p.Sees(30*time.Second, "not taken")
	testbed.Eval[bool](p, `document.querySelectorAll('.feeds input[name=take]').forEach((x) => x.click()); true`)
	h.run(p, ".feeds", "Take over the ticked channels")
	testbed.Until(t, 30*time.Second, "both are held again", func() bool { return h.slots(desk) == "1 Slipway receiving, 2 Crew mess receiving" })

	// One name: the place is renamed, and one press has the recorder, the desk and the camera say it.
	if _, err := h.Store.Pool.Exec(t.Context(), `update source set name = 'Slipway foot' where name = 'Slipway'`); err != nil {
		t.Fatal(err)
	}
	if _, err := h.Store.Pool.Exec(t.Context(), `update device set version = version + 1`); err != nil {
		t.Fatal(err)
	}
	h.on(p, "channels")
	h.run(p, "body", "Read 2 recorders")
	h.sheet(p, "channels", "Slipway foot")
	p.Sees(30*time.Second, `It is called "Slipway" on Terminal recorder, "Slipway" on Harbour desk and "Slipway foot" here.`, "The camera's own name")
	h.run(p, ".sheet", "Give one name to Slipway foot")
	testbed.Until(t, 30*time.Second, "all say it", func() bool {
		return h.slots(desk) == "1 Slipway foot receiving, 2 Crew mess receiving" && h.slots(old) == "1 Slipway foot receiving, 2 Crew mess receiving" &&
			count(h, `select count(*) from fact where name = 'device.info' and value->>'name' = 'Slipway foot'`) == 1
	})
}

// driftApart changes what the desk holds behind the product's back: one channel is renamed there, one is
// taken out.
func (h *harbour) driftApart(p *testbed.Page, desk, _ int) {
	h.t.Helper()
	if err := h.Fleet.Desk.Rename(1, "CAM 1"); err != nil {
		h.t.Fatal(err)
	}
	if err := h.Fleet.Desk.Forget(2); err != nil {
		h.t.Fatal(err)
	}
	h.on(p, "channels")
	h.run(p, "body", "Read 2 recorders")
	testbed.Until(h.t, 30*time.Second, "it is known", func() bool { return h.slots(desk) == "1 CAM 1 receiving" })
}

// listDesk gives the desk, which was found and nobody listed, a name and an account on Settings.
func (h *harbour) listDesk(p *testbed.Page) {
	h.t.Helper()
	found := h.Net.At(".2.8").String() // it is called so until someone names it
	h.on(p, "settings")
	p.Sees(30*time.Second, "Add a recorder", found)
	fill := func(form, script string) {
		testbed.Eval[bool](p, fmt.Sprintf(`(() => { const f = document.querySelector('form[action$=%q]'); const e = f.elements; %s; f.requestSubmit(); return true; })()`, form, script))
	}
	fill("/settings/set", fmt.Sprintf("e.name.value = 'Desk account'; e.username.value = 'install'; e.password.value = %q", h.Secrets.Desk))
	testbed.Until(h.t, 30*time.Second, "the set is kept", func() bool { return count(h, `select count(*) from credential_set where name = 'Desk account'`) == 1 })
	h.on(p, "settings")
	p.Sees(30*time.Second, "Desk account")
	fill(fmt.Sprintf("/settings/recorder/%d", h.recorder(found)), "e.place.value = 'Harbour desk'; e.set.value = [...e.set.options].find((o) => o.text.includes('Desk account')).value")
	testbed.Until(h.t, 30*time.Second, "it is named", func() bool {
		return count(h, `select count(*) from device where place = 'Harbour desk' and set_id is not null`) == 1
	})
}

// feedsDesk says on its channel face, once it was read, that the desk takes other recorders' channels.
func (h *harbour) feedsDesk(p *testbed.Page, face string) {
	h.t.Helper()
	h.on(p, face)
	p.Sees(30*time.Second, "Spoken to over ONVIF recording control", "keep by a plan")
	h.opens(p, "It takes cameras; let it take other recorders’ channels instead")
	p.PressIn(".feeding", "Harbour desk takes other recorders’ channels")
	p.Sees(30*time.Second, "Channels of other recorders")
}
