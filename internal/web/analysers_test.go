package web_test

import (
	"fmt"
	"net/http"
	"strings"
	"testing"
	"time"

	"duskyharbor/internal/app"
	"duskyharbor/internal/demo"
	"duskyharbor/internal/standin/camera"
	"duskyharbor/internal/testbed"
)

// analysersListed gives the analysers, which were found and nobody listed, names and an account.
func (h *harbour) analysersListed(a *acts) (one, two any) {
	h.t.Helper()
	own := a.keeps("settings/set", args{"name": "Analysers", "username": "install", "password": h.Secrets.Look})["id"]
	one = a.the("analysers", "analysers", "address", h.Net.At(".2.30"))["id"]
	two = a.the("analysers", "analysers", "address", h.Net.At(".2.31"))["id"]
	a.keeps(fmt.Sprintf("settings/analyser/%v", one), args{"place": "Analyser 1", "set_id": own})
	a.keeps(fmt.Sprintf("settings/analyser/%v", two), args{"place": "Analyser 2", "set_id": own})
	return one, two
}

// readAnalysers reads them all.
func (h *harbour) readAnalysers(a *acts) {
	h.t.Helper()
	a.wait(map[string]any{"id": a.keeps("analytics/analysers", args{})["run_id"]})
}

// finds says which findings of a camera's analytics there are.
func (h *harbour) finds(place string) string {
	h.t.Helper()
	var out string
	_ = h.Store.Pool.QueryRow(h.t.Context(), `select coalesce(string_agg(f.code, ' ' order by f.code), '') from finding f join source s on s.id = f.source_id where s.name = $1 and f.stage = 7`, place).Scan(&out)
	return out
}

// A camera that has no analytics is looked at by an analyser: from nothing to a rule that fires as it was foretold, by presses alone.
// What the analyser forgets is told and put right; the view moves to another, and what was seen stays; one that is gone is told, and
// nothing that it had said is lost.
func TestAnAnalyserLooksForACameraThatCant(t *testing.T) {
	t.Parallel()
	h := serveWith(t, testbed.StartOnly(t, "Crew mess", "Analyser 1", "Analyser 2"), app.Options{Gather: true, Live: "127.0.0.1:0"})
	a := whole(t, h)
	h.ready("find", "sign-in", "streams", "analytics")
	one, two := h.analysersListed(a)
	mess := a.camera("Crew mess")
	if says := a.refused("analytics/pair", args{"cameras": []any{mess}}, http.StatusConflict); !strings.Contains(says, "no analyser was read yet") {
		t.Errorf("before one was read: %s", says)
	}
	p := testbed.Browser(t, 1280, 800)
	h.signIn(p, demo.Lead, h.Secrets.Lead)
	h.on(p, "analytics")
	p.Sees(20*time.Second, "Nobody looks at", "Crew mess", "Analyser 1", "Not read yet.")
	h.run(p, "#analysers", "Read 2 analysers")
	h.on(p, "analytics")
	p.Sees(20*time.Second, "0 of 4", "0 of 2")
	testbed.Eval[bool](p, `(() => { const f = document.querySelector(".pairing"); f.elements.analyser.value = [...f.elements.analyser.options].find((o) => o.text.includes("Analyser 2")).value; f.querySelector("[name=pick]").click(); return true })()`)
	h.run(p, ".pairing", "Have the ticked ones looked at")
	slow, small := h.Fleet.Analyser("Analyser 1"), h.Fleet.Analyser("Analyser 2")
	if small.Views() != 1 || slow.Views() != 0 {
		t.Fatalf("they look at %d and %d views", slow.Views(), small.Views())
	}
	h.on(p, "analytics?camera="+string(mess))
	p.Sees(20*time.Second, "Analyser 2 looks at it: 2 stills a second, told from a score of 0.30.", "The camera has no rule, and none is drawn.")
	p.Accessible("a camera that an analyser looks at")

	line := args{"camera_id": mess, "name": "Middle", "kind": "Crosses", "points": "50 100, 50 40", "classes": []string{"Human"}}
	a.keeps("analytics/draw", line)
	a.makes("analytics/write", args{"cameras": []any{mess}})
	if all := small.ONVIF().Rules(); len(all) != 1 || all[0].Name != "Middle" {
		t.Fatalf("the analyser has %+v", all)
	}
	testbed.Until(t, 60*time.Second, "stills are looked at", func() bool { return count(h, `select count(*) from gathering where documents > 4`) == 1 })
	cam := h.Fleet.Camera("Crew mess")
	walks := func() {
		t.Helper()
		if res, err := http.Post(fmt.Sprintf("http://%s:%d/walk", cam.At(), camera.ControlPort), "", nil); err != nil || res.StatusCode != http.StatusOK {
			t.Fatal(res, err)
		}
	}
	// What it sees lies over the moving picture, and comes with the pictures that it was seen in.
	h.on(p, fmt.Sprintf("streams?camera=%v", mess))
	p.Sees(20*time.Second, "Boxes")
	p.Press("Boxes")
	walks()
	testbed.Until(t, 60*time.Second, "who walks is boxed", func() bool {
		return strings.HasPrefix(testbed.Glance[string](p, "document.querySelector('.seenboxes span b')?.textContent || ''"), "Human ")
	})
	p.Press("Boxes")
	testbed.Until(t, 60*time.Second, "someone was seen, and is gone", func() bool {
		return count(h, `select count(*) from seen where class = 'Human'`) > 0 && count(h, `select count(*) from seen where ended_at > now() - interval '6 seconds'`) == 0
	})
	got := a.do("POST", fmt.Sprintf("%s/cameras/%v/rehearsal", a.site, mess), jsonNumber(args{"minutes": 10, "name": "Middle", "kind": "Crosses", "points": "50 100, 50 40", "classes": []string{"Human"}}), http.StatusOK)
	if n := count(h, `select count(*) from seen where class = 'Human' and length(crop) > 400`); n == 0 {
		t.Error("no picture of who was seen was kept")
	}
	if fired := small.ONVIF().Fired("Middle"); fired != 1 || got["fires"] != float64(1) || len(got["fired"].([]any)) != 1 {
		t.Errorf("it fired %d times, %v were foretold, %v heard of", fired, got["fires"], got["fired"])
	}

	// Once it starts again it knows the view no more: that is told, and put right.
	small.Restart()
	testbed.Until(t, 60*time.Second, "it is told that it forgot", func() bool {
		if r := a.do("POST", a.site+"/acts/analytics/analysers", "{}", http.StatusOK); r["run_id"] != nil {
			a.ends(map[string]any{"id": r["run_id"]})
		}
		return strings.Contains(h.finds("Crew mess"), "analyser.forgot")
	})
	h.ready("analytics!")
	if small.Views() != 1 {
		t.Errorf("it looks at %d views once it was paired again", small.Views())
	}
	if says := h.finds("Crew mess"); !strings.Contains(says, "analytics.unwritten") || strings.Contains(says, "analyser.forgot") {
		t.Errorf("its rules went with it: %s", says)
	}

	// On the page it is looked at otherwise: within an area that is drawn, of more that is less sure.
	a.keeps("analytics/draw", args{"camera_id": mess, "name": "Floor", "kind": "Inside", "points": "0 50, 100 50, 100 100, 0 100"})
	h.on(p, "analytics?camera="+string(mess))
	testbed.Eval[bool](p, `(() => { const d = document.querySelector("details.otherwise"); d.open = true; const e = d.querySelector("form").elements; e.score.value = "0.2"; e.within.value = [...e.within.options].find((o) => o.text.includes("Floor")).value; return true })()`)
	h.run(p, "details.otherwise", "Have it looked at so")
	h.on(p, "analytics?camera="+string(mess))
	p.Sees(20*time.Second, "2 stills a second, told from a score of 0.20, within 0 50, 100 50, 100 100, 0 100.")

	// It moves to the other, and what was seen stays.
	before := count(h, `select count(*) from seen`)
	a.makes("analytics/pair", args{"cameras": []any{mess}, "analyser_id": one, "per_second": 1})
	if slow.Views() != 1 || small.Views() != 0 {
		t.Errorf("they look at %d and %d views", slow.Views(), small.Views())
	}
	if now := count(h, `select count(*) from seen`); now < before {
		t.Errorf("%d pieces of what was seen are left of %d", now, before)
	}
	a.makes("analytics/write", args{"cameras": []any{mess}})
	docs := count(h, `select coalesce(max(documents), 0)::int from gathering`)
	testbed.Until(t, 60*time.Second, "the other one's are heard", func() bool {
		return count(h, `select coalesce(max(documents), 0)::int from gathering where held_until > now()`) > docs+2
	})
	if x := a.the("analysers", "analysers", "id", two); x["views"] != nil {
		t.Errorf("%v", x)
	}

	// One that is gone is told, and nothing is sent into the dark.
	slow.Close()
	testbed.Until(t, 90*time.Second, "it is told that nobody looks", func() bool { return strings.Contains(h.finds("Crew mess"), "analyser.unsent") })
	if now := count(h, `select count(*) from seen`); now < before {
		t.Error("what was seen is lost with the analyser")
	}
	h.on(p, "analytics?camera="+string(mess))
	p.Sees(20*time.Second, "Analyser 1 can't look at it now:")
}

// askAnalysers asks for every act of analysers.
func askAnalysers(h *harbour, a *acts) {
	h.ready("find", "sign-in", "streams", "analytics")
	one, two := h.analysersListed(a)
	mess, slip := a.camera("Crew mess"), a.camera("Slipway")
	h.readAnalysers(a)
	for field, bad := range map[string]args{"rate": {"per_second": 5.1}, "analyser": {"analyser_id": 1 << 40}, "within": {"within": "10 10, 90 10"}} {
		bad["cameras"] = []any{mess}
		if got := a.do("POST", a.site+"/acts/analytics/pair", jsonNumber(bad), http.StatusUnprocessableEntity); got["field"] != field {
			h.t.Errorf("%s: %v", field, got)
		}
	}
	if says := a.refused("analytics/pair", args{"cameras": []any{slip}}, http.StatusConflict); !strings.Contains(says, "it has analytics of its own") {
		h.t.Errorf("%s", says)
	}
	a.makes("analytics/pair", args{"cameras": []any{mess, slip}, "analyser_id": two})
	a.refused("analytics/pair", args{"cameras": []any{mess}, "analyser_id": two}, http.StatusConflict)
	a.makes("analytics/pair", args{"cameras": []any{mess}, "analyser_id": two, "within": "0 50,100 50, 100 100,0 100"})
	if v := a.the("analysers", "analysers", "id", two)["views"].([]any)[0].(map[string]any); v["within"] != "0 50, 100 50, 100 100, 0 100" {
		h.t.Errorf("it looks within %v", v["within"])
	}
	a.makes("analytics/pair", args{"cameras": []any{mess}, "analyser_id": two})
	x := a.the("analysers", "analysers", "id", two)
	if views, _ := x["views"].([]any); len(views) != 1 || fmt.Sprint(views[0].(map[string]any)["view"]) != string(mess) {
		h.t.Errorf("%v", x)
	}
	if says := a.refused("analytics/watch", args{"cameras": []any{mess}, "off": true}, http.StatusConflict); !strings.Contains(says, "have it look no more first") {
		h.t.Errorf("%s", says)
	}
	a.makes("analytics/unpair", args{"cameras": []any{mess}})
	a.refused("analytics/unpair", args{"cameras": []any{mess}}, http.StatusConflict)
	if n := h.Fleet.Analyser("Analyser 2").Views(); n != 0 {
		h.t.Errorf("it looks at %d views yet", n)
	}
	askKnown(h, a, two)
	made := a.keeps("settings/analyser", args{"place": "Loft analyser", "address": h.Net.At(".2.32").String()})
	a.wait(map[string]any{"id": made["run_id"]})
	a.refused("settings/analyser", args{"place": "Loft analyser", "address": h.Net.At(".2.33").String()}, http.StatusUnprocessableEntity)
	a.sure(fmt.Sprintf("settings/analyser/%v/remove", made["id"]), nil)
	// With an analyser that goes, so does what was read of rules there, and nothing is gathered of what it looked at.
	a.makes("analytics/pair", args{"cameras": []any{mess}, "analyser_id": one})
	if n := count(h, `select count(*) from gathering`); n != 1 {
		h.t.Errorf("%d views are gathered", n)
	}
	a.sure(fmt.Sprintf("settings/analyser/%v/remove", one), nil)
	if n := count(h, `select count(*) from gathering`) + count(h, `select count(*) from source where analyser_id is not null or paired_at is not null`); n != 0 {
		h.t.Errorf("%d views are looked at by nobody", n)
	}
	if n := count(h, `select count(*) from fact f join source s on s.id = f.source_id where s.name = 'Crew mess' and f.name = 'camera.ruleset'`); n != 0 {
		h.t.Error("its rules are known yet")
	}
}
