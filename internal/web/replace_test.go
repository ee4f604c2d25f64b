package web_test

import (
	"fmt"
	"testing"
	"time"

	"duskyharbor/internal/core/identity"
	"duskyharbor/internal/demo"
	"duskyharbor/internal/standin/recorder"
	"duskyharbor/internal/store"
	"duskyharbor/internal/testbed"
)

// A new recorder takes over an old one's channels, numbers and names kept; both receive until the old
// one is retired, and only what the new one receives is taken out of it.
func TestARecorderTakesOverFromAnOldOne(t *testing.T) {
	t.Parallel()
	h := serveOn(t, testbed.StartOnly(t, "Slipway", "Crew mess", "Terminal recorder"), nil)
	cfg := demo.Recorders(h.Net, h.Secrets, "")[0]
	cfg.Place, cfg.Serial, cfg.MAC, cfg.Address = "Pier recorder", "TRNN16-0207", "02:d5:1a:40:02:07", h.Net.At(".2.7")
	fresh, err := recorder.Start(t.Context(), cfg)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(fresh.Close)
	old := h.recorder("Terminal recorder")
	set := int64(count(h, `select set_id from device where id = $1`, old))
	if _, err := h.Store.AddDevice(t.Context(), store.Device{SiteID: h.Site, Kind: identity.Recorder, Place: cfg.Place, Address: &cfg.Address, ExpectedAt: &cfg.Address, Expected: true, SetID: &set}); err != nil {
		t.Fatal(err)
	}
	p := testbed.Browser(t, 1280, 800)
	h.signIn(p, demo.Lead, h.Secrets.Lead)
	p.Sees(30*time.Second, "Nothing was looked for yet")
	for _, step := range [][2]string{{"find", "Look at 3 networks"}, {"sign-in", "Sign in to 2 cameras"}, {"streams", "Read and play 2 cameras"}, {"channels", "Read 2 recorders"}} {
		h.on(p, step[0])
		h.run(p, "body", step[1])
	}
	h.on(p, "channels")
	h.run(p, "body", "Place 2 cameras")
	slots := func(recorder int) string {
		var says string
		err := h.Store.Pool.QueryRow(t.Context(), `select coalesce((select string_agg((s->>'number') || ' ' || (s->>'name') || ' ' || (s->>'state'), ', ' order by (s->>'number')::int) from fact, jsonb_array_elements(value->'slots') s
			where name = 'recorder.status' and device_id = $1), '')`, recorder).Scan(&says)
		if err != nil {
			t.Fatal(err)
		}
		return says
	}
	const both = "1 Slipway receiving, 2 Crew mess receiving"
	testbed.Until(t, 30*time.Second, "the old one holds both", func() bool { return slots(old) == both })
	pier := h.recorder("Pier recorder")
	h.on(p, fmt.Sprintf("channels?recorder=%d", old))
	p.Sees(30*time.Second, "Replace a recorder")
	testbed.Eval[bool](p, "document.querySelector('.replacing').open = true; true")
	p.PressIn(".replacing", "Retire Terminal recorder")
	p.Sees(30*time.Second, "No other recorder receives what Terminal recorder holds: nothing is taken out of it.")
	h.on(p, fmt.Sprintf("channels?recorder=%d", pier))
	p.Sees(30*time.Second, "Replace a recorder")
	testbed.Eval[bool](p, "document.querySelector('.replacing').open = true; true")
	p.Set("#take-from", fmt.Sprint(old))
	h.run(p, ".replacing", "Take over its channels")
	h.idle()
	testbed.Until(t, 30*time.Second, "the new one holds both by the same numbers and names", func() bool { return slots(pier) == both && slots(old) == both })
	h.on(p, fmt.Sprintf("channels?recorder=%d", old))
	p.Sees(30*time.Second, "Replace a recorder")
	testbed.Eval[bool](p, "document.querySelector('.replacing').open = true; true")
	h.run(p, ".replacing", "Retire Terminal recorder")
	h.idle()
	testbed.Until(t, 30*time.Second, "the old one is retired", func() bool { return slots(old) == "" && slots(pier) == both })
	h.sheet(p, "channels", "Slipway")
	p.Sees(30*time.Second, "Planned for", "Pier recorder", "receiving")
}
