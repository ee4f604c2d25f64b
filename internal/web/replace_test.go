package web_test

import (
	"context"
	"fmt"
	"net/http"
	"strings"
	"testing"
	"time"

	"duskyharbor/internal/core/identity"
	"duskyharbor/internal/demo"
	"duskyharbor/internal/standin/recorder"
	"duskyharbor/internal/store"
	"duskyharbor/internal/testbed"
)

// slots words the channels that a recorder told last: number, name and state of each.
func (h *harbour) slots(recorder int) (says string) {
	h.t.Helper()
	err := h.Store.Pool.QueryRow(context.Background(), `select coalesce((select string_agg((s->>'number') || ' ' || (s->>'name') || ' ' || (s->>'state'), ', ' order by (s->>'number')::int) from fact, jsonb_array_elements(value->'slots') s
		where name = 'recorder.status' and device_id = $1), '')`, recorder).Scan(&says)
	if err != nil {
		h.t.Fatal(err)
	}
	return says
}

// opens opens the fold of a page that holds a button, once the page is there.
func (h *harbour) opens(p *testbed.Page, holding string) {
	h.t.Helper()
	p.Sees(30*time.Second, "What goes where")
	testbed.Until(h.t, 30*time.Second, "the fold of "+holding, func() bool {
		return testbed.Glance[bool](p, fmt.Sprintf(`(() => { const d = [...document.querySelectorAll("details.replacing, details.cascading")].find((d) => d.textContent.replace(/\s+/g, " ").includes(%q)); if (d) d.open = true; return !!d; })()`, holding))
	})
}

// A new recorder takes over an old one's twelve channels, numbers and names kept; both receive until the
// old one is retired, none of its channels goes dark before, and only what the new one receives is taken
// out of it.
func TestARecorderTakesOverFromAnOldOne(t *testing.T) {
	t.Parallel()
	h := serveOn(t, testbed.StartBulkOnly(t, 12, "Terminal recorder"), nil)
	h.Fleet.Cameras[9].Step(0) // its clock was an hour ahead
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
	a := whole(t, h)
	h.ready("find", "sign-in", "streams", "channels", "channels!")
	var want []string
	for i := range 12 {
		want = append(want, fmt.Sprintf("%d %s receiving", i+1, demo.BulkPlace(i)))
	}
	all := strings.Join(want, ", ")
	a.holds("Terminal recorder", all)
	from, pier := a.recorder("Terminal recorder"), a.recorder("Pier recorder")
	// Nothing is taken out of it while nobody else holds it, and the page says which and why.
	why := a.do("POST", a.site+"/acts/channels/retire", jsonNumber(args{"recorder_id": from}), http.StatusConflict)["error"]
	if says := fmt.Sprint(why); !strings.Contains(says, "Nothing is taken out of Terminal recorder:") || !strings.Contains(says, "no other recorder holds it") {
		t.Errorf("it says %s", says)
	}
	h.says("channels?recorder="+string(from), "Retire Terminal recorder")
	h.says("channels?recorder="+string(pier), "takes over from")
	since := h.since(old)
	a.makes("channels/take-over", args{"recorder_id": pier, "from_id": from})
	a.holds("Pier recorder", all)
	if h.slots(old) != all || h.since(old) != since { // each is in the state that it was in before
		t.Errorf("the old one went dark: %s since %s, before since %s", h.slots(old), h.since(old), since)
	}
	a.makes("channels/retire", args{"recorder_id": from})
	a.holds("Terminal recorder", "")
	a.holds("Pier recorder", all)
	h.says("channels?sheet="+string(a.camera(demo.BulkPlace(0))), "Planned for", "Pier recorder", "receiving")
}

// since words since when each channel of a recorder is in its state, by the recorder's clock.
func (h *harbour) since(recorder int) (says string) {
	h.t.Helper()
	err := h.Store.Pool.QueryRow(context.Background(), `select coalesce((select string_agg(s->>'since', ' ' order by (s->>'number')::int) from fact, jsonb_array_elements(value->'slots') s
		where name = 'recorder.status' and device_id = $1), '')`, recorder).Scan(&says)
	if err != nil {
		h.t.Fatal(err)
	}
	return says
}
