package web_test

import (
	"fmt"
	"maps"
	"net/http"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp/kb"

	"duskyharbor/internal/app"
	"duskyharbor/internal/core/access"
	"duskyharbor/internal/core/rule"
	"duskyharbor/internal/core/scene"
	"duskyharbor/internal/demo"
	"duskyharbor/internal/device/dial"
	"duskyharbor/internal/device/onvif"
	"duskyharbor/internal/standin/camera"
	"duskyharbor/internal/standin/footage"
	"duskyharbor/internal/testbed"
)

// ruleOn is a rule that a stand-in has, by its name.
func ruleOn(cam *camera.Camera, name string) (rule.Rule, bool) {
	for _, r := range cam.Rules() {
		if r.Name == name {
			return r, true
		}
	}
	return rule.Rule{}, false
}

// A rule is drawn on the camera's picture by mouse and by keys, filled in as a sentence, shown from nothing to what it will
// be, written, and fires on who walks as often as it is foretold. One that somebody changes on the camera's own page is
// noticed, and either side is taken; a rule of the make's own is shown and not touched.
func TestARuleIsDrawnWrittenAndFires(t *testing.T) {
	t.Parallel()
	h := serveOn(t, testbed.StartOnly(t, "Slipway", "Bonded store", "Terminal recorder"), nil)
	h.ready("find", "sign-in", "streams", "channels", "channels!", "channels")
	cam := h.Fleet.Camera("Slipway")
	p := testbed.Browser(t, 1280, 800)
	h.signIn(p, demo.Lead, h.Secrets.Lead)
	h.on(p, "analytics")
	h.run(p, "body", "Read the rules of 2 cameras")
	h.on(p, "analytics")
	p.Sees(20*time.Second, "Seaward line", "Slip apron", "made elsewhere")
	p.Accessible("analytics")

	// The apron is drawn corner by corner, and someone stays there.
	drawable := func() {
		t.Helper()
		testbed.Until(t, 20*time.Second, "the picture can be drawn on", func() bool {
			return testbed.Glance[bool](p, "document.querySelector('#drawing').classList.contains('drawing')")
		})
	}
	points := func() string { return testbed.Eval[string](p, "document.getElementById('rule-points').value") }
	p.Press("Draw a new rule")
	drawable()
	choose := func(kind string) {
		testbed.Eval[bool](p, fmt.Sprintf("((k) => { k.value = %q; k.dispatchEvent(new Event('change', {bubbles: true})); return true })(document.getElementById('rule-kind'))", kind))
	}
	choose("Stays")
	for _, at := range [][2]float64{{0.25, 0.5}, {0.75, 0.5}, {0.75, 0.98}, {0.25, 0.98}, {0.25, 0.5}} {
		p.Drag("#drawing svg", at[0], at[1], at[0], at[1])
	}
	testbed.Until(t, 20*time.Second, "what is drawn stands in the sentence", func() bool { return strings.Count(points(), ",") == 3 })
	p.Press("Keep this rule")
	p.Sees(20*time.Second, "Name the rule, in up to 64 characters.")
	p.Type("#rule-name", "Ramp foot")
	p.Press("Keep this rule")
	p.Sees(20*time.Second, "Say for how long: more than nothing")
	if n := strings.Count(points(), ","); n != 3 {
		t.Errorf("the drawing is lost: %q", points())
	}
	p.Type("#rule-for", "2")
	p.PressIn("#sentence", "anything")
	testbed.Eval[bool](p, "(document.querySelector('#sentence [value=Human]').click(), true)")
	p.Press("Keep this rule")
	p.Sees(20*time.Second, "Ramp foot is drawn for Slipway. Nothing was written to it.", "drawn here, not written")
	if _, there := ruleOn(cam, "Ramp foot"); there {
		t.Fatal("it was written unasked")
	}

	// A place more by a press on an edge, moved by keys, taken away again; then it is written.
	drawable()
	was := points()
	p.Drag("#drawing svg", 0.5, 0.5, 0.5, 0.4)
	testbed.Until(t, 20*time.Second, "a place came", func() bool { return strings.Count(points(), ",") == 4 })
	p.Keys(kb.ArrowDown)
	testbed.Until(t, 20*time.Second, "the place moved", func() bool { return strings.Contains(points(), "50 41") })
	p.Keys(kb.Delete)
	testbed.Until(t, 20*time.Second, "the place went", func() bool { return points() == was })
	h.makes(p, "Write 1 change to Slipway")
	p.Sees(60*time.Second, "as on the camera")
	on, there := ruleOn(cam, "Ramp foot")
	if !there || on.Kind != rule.Stays || on.For != 2*time.Second || !slices.Equal(on.Classes, []string{"Human"}) || len(on.Area) != 4 {
		t.Fatalf("the camera has %+v", on)
	}

	// It fires on who walks, as often as it is foretold of the same shapes.
	var seen []scene.Observation
	for at := time.Duration(0); at < footage.Length; at += time.Second / footage.FPS {
		for _, o := range cam.Config().Scene.Observations(true, at) {
			if o.Object == "person" {
				seen = append(seen, o)
			}
		}
	}
	foretold := rule.Fires(rule.Rehearse(on, scene.Tracks(seen), rule.Span{}))
	if foretold != 1 {
		t.Errorf("%d are foretold", foretold)
	}
	if res, err := http.Post(fmt.Sprintf("http://%s:%d/walk", cam.At(), camera.ControlPort), "", nil); err != nil || res.StatusCode != http.StatusOK {
		t.Fatal(res, err)
	}
	testbed.Until(t, 60*time.Second, "it fires", func() bool { return cam.Fired("Ramp foot") == foretold })

	// Somebody changes it on the camera's own page: it is noticed, and the camera's is taken into the drawing.
	a := whole(t, h)
	slip := a.camera("Slipway")
	changed := on
	changed.For = 30 * time.Second
	c, _ := rule.Supported{Types: []rule.Type{{Name: "LoiteringDetector", Values: map[string]string{"TimeThreshold": "duration", "ClassFilter": "StringList"}, Shapes: map[string]string{"Field": "Polygon"}}}}.Write(changed)
	page, err := onvif.New((&dial.Dialer{}).At(cam.At()), fmt.Sprintf("http://%s:%d/onvif/device_service", cam.At(), camera.HTTPPort),
		onvif.Login{Username: "otter", Password: h.Secrets.House, Scheme: access.Digest})
	if err != nil {
		t.Fatal(err)
	}
	defer page.Close()
	services, _, err := page.Services(t.Context())
	if err == nil {
		err = page.ModifyRule(t.Context(), services, "vac0", c)
	}
	if err != nil {
		t.Fatal(err)
	}
	a.reads("analytics")
	h.on(p, "analytics")
	p.Sees(20*time.Second, "otherwise on the camera", "for 30 s")
	p.Press("Take the camera’s into the drawing")
	p.Sees(20*time.Second, "Ramp foot is drawn here as the camera has it.", "as on the camera")
	h.run(p, "body", "Take it off Slipway")
	if _, there := ruleOn(cam, "Ramp foot"); there {
		t.Error("it is on the camera yet")
	}

	// What the camera can't do is said, and not written.
	many := a.keeps("analytics/draw", args{"camera_id": slip, "name": "Many", "kind": "Crowd", "points": "10 10, 90 10, 90 90", "count": 3})["id"]
	if says := a.refused("analytics/write", args{"cameras": []any{slip}, "name": "Many"}, http.StatusConflict); !strings.Contains(says, "Slipway: Many: it knows LineDetector, FieldDetector, LoiteringDetector alone.") {
		t.Errorf("%s", says)
	}
	h.on(p, fmt.Sprintf("analytics?camera=%s&rule=%v", slip, many))
	p.Sees(20*time.Second, "This camera can’t do Many as it is drawn.", "it knows LineDetector, FieldDetector, LoiteringDetector alone")

	// The make's own rule is shown as it is.
	h.on(p, fmt.Sprintf("analytics?camera=%s&on=Rack+watch", a.camera("Bonded store")))
	p.Sees(20*time.Second, "shown, not touched", "there is no sentence for it", "Racks")
	if says := a.refused("analytics/remove", args{"camera_id": a.camera("Bonded store"), "name": "Rack watch"}, http.StatusConflict); !strings.Contains(says, "There is no sentence") {
		t.Errorf("%s", says)
	}
	for _, theme := range []string{"dark", "light"} {
		p.Theme(theme)
		p.Legible("analytics in " + theme)
	}
	h.fits(p, "analytics")
}

// askRules asks for every act of Analytics.
func askRules(h *harbour, a *acts) {
	h.ready("find", "sign-in", "streams", "analytics")
	slip, bonded := a.camera("Slipway"), a.camera("Bonded store")
	line := args{"camera_id": slip, "name": "Edge", "kind": "Crosses", "points": "20 90, 80 40", "direction": "Left", "classes": []string{"Human"}}
	id := a.keeps("analytics/draw", line)["id"]
	for field, bad := range map[string]args{"name": {"name": " "}, "points": {"points": "20 90"}, "kind": {"kind": "Flies"}, "for": {"kind": "Stays", "points": "1 1, 2 1, 2 2", "for_seconds": -1}, "direction": {"direction": "Up"},
		"from": {"from": "25:00"}, "class": {"classes": []string{"two words"}}} {
		all := args{}
		for k, v := range line {
			all[k] = v
		}
		for k, v := range bad {
			all[k] = v
		}
		if got := a.do("POST", a.site+"/acts/analytics/draw", jsonNumber(all), http.StatusUnprocessableEntity); got["field"] == nil {
			h.t.Errorf("%s is refused without its field: %v", field, got)
		}
	}
	if says := a.refused("analytics/draw", line, http.StatusUnprocessableEntity); !strings.Contains(says, `Another rule of Slipway is called "Edge"`) {
		h.t.Errorf("%s", says)
	}
	a.makes("analytics/write", args{"cameras": []any{slip}})
	if r, there := ruleOn(h.Fleet.Camera("Slipway"), "Edge"); !there || r.Direction != rule.RightToLeft {
		h.t.Errorf("the camera has %+v", r)
	}
	// What is drawn goes out as it goes in.
	rules := a.all("cameras/"+string(slip)+"/rules", "rules")
	if len(rules) != 3 || rules[0]["state"] != "as on the camera" || rules[1]["state"] != "made elsewhere" {
		h.t.Errorf("%v", rules)
	}
	again := rules[0]["drawing"].(map[string]any)
	if again["points"] != "20 90, 80 40" || again["direction"] != "Left" {
		h.t.Errorf("%v", again)
	}
	again["camera_id"] = slip
	a.keeps("analytics/draw", again)
	a.keeps("analytics/copy", args{"from_camera_id": slip, "cameras": []any{bonded}})
	a.refused("analytics/copy", args{"from_camera_id": slip, "cameras": []any{bonded}}, http.StatusUnprocessableEntity)
	a.keeps("analytics/watch", args{"cameras": []any{slip}})
	a.keeps("analytics/watch", args{"cameras": []any{slip}, "off": true})
	took := a.keeps("analytics/take", args{"camera_id": slip, "name": "Seaward line"})["id"]
	// A rule is renamed, and then off: the camera follows when it is written.
	again["id"], again["name"] = took, "Sea line"
	again["points"] = "20 90, 80 41"
	a.keeps("analytics/draw", again)
	a.makes("analytics/write", args{"cameras": []any{slip}, "name": "Sea line"})
	if _, old := ruleOn(h.Fleet.Camera("Slipway"), "Seaward line"); old {
		h.t.Error("it has its old name yet")
	}
	if _, is := ruleOn(h.Fleet.Camera("Slipway"), "Sea line"); !is {
		h.t.Error("it hasn't its new name")
	}
	a.keeps("analytics/switch", args{"camera_id": slip, "id": took, "off": true})
	a.makes("analytics/write", args{"cameras": []any{slip}})
	if _, is := ruleOn(h.Fleet.Camera("Slipway"), "Sea line"); is {
		h.t.Error("what is off is on the camera yet")
	}
	if all := a.all("cameras/"+string(slip)+"/rules", "rules"); all[1]["state"] != "off" {
		h.t.Errorf("%v", all)
	}
	a.keeps("analytics/switch", args{"camera_id": slip, "id": took})
	a.keeps("analytics/look-again", args{"cameras": []any{slip}})
	a.keeps("analytics/turn", args{"camera_id": slip, "quarter_turns": 1, "mirrored": true})
	a.refused("analytics/turn", args{"camera_id": slip, "quarter_turns": 4}, http.StatusUnprocessableEntity)
	a.keeps("analytics/turn", args{"camera_id": slip, "quarter_turns": 0})
	// What is said of a firing is kept, and taken back.
	now := time.Now().UTC().Format(time.RFC3339Nano)
	for _, was := range []string{"right", "wrong", "neither"} {
		a.keeps("analytics/check", args{"camera_id": slip, "object": "7", "at": now, "was": was})
	}
	for field, bad := range map[string]args{"at": {"at": "noon"}, "object": {"object": " "}, "was": {"was": "nice"}} {
		all := args{"camera_id": slip, "object": "7", "at": now, "was": "right"}
		for k, v := range bad {
			all[k] = v
		}
		if got := a.do("POST", a.site+"/acts/analytics/check", jsonNumber(all), http.StatusUnprocessableEntity); got["field"] != field {
			h.t.Errorf("%s: %v", field, got)
		}
	}
	// Its cells' sensitivity to motion is set where it has any.
	motion := h.Fleet.Camera("Slipway").Config().Manners.Engine
	motion.Grid = scene.Grid{Columns: 22, Rows: 18}
	h.Fleet.Camera("Slipway").Think(motion)
	a.reads("analytics")
	a.refused("analytics/sensitivity", args{"cameras": []any{bonded}, "sensitivity": 40}, http.StatusConflict)
	a.refused("analytics/sensitivity", args{"cameras": []any{slip}, "sensitivity": 101}, http.StatusUnprocessableEntity)
	a.makes("analytics/sensitivity", args{"cameras": []any{slip, bonded}, "sensitivity": 40})
	a.refused("analytics/sensitivity", args{"cameras": []any{slip}, "sensitivity": 40}, http.StatusConflict)
	// A set is kept by a name, drawn for another camera, and forgotten.
	set := a.keeps("analytics/keep-set", args{"camera_id": slip, "name": "quay edge"})["id"]
	if says := a.refused("analytics/keep-set", args{"camera_id": slip, "name": "quay edge"}, http.StatusUnprocessableEntity); !strings.Contains(says, "Another set of this site") {
		h.t.Errorf("%s", says)
	}
	if all := a.all("rule-sets", "rule_sets"); len(all) != 1 || all[0]["name"] != "quay edge" || len(all[0]["rules"].([]any)) != 2 {
		h.t.Errorf("%v", all)
	}
	a.keeps("analytics/draw-set", args{"cameras": []any{bonded}, "id": set})
	a.refused("analytics/draw-set", args{"cameras": []any{bonded}, "id": set}, http.StatusUnprocessableEntity)
	a.keeps("analytics/drop-set", args{"id": set})
	a.makes("analytics/remove", args{"camera_id": slip, "name": "Edge"})
	a.keeps("analytics/drop", args{"camera_id": slip, "id": id})
	if _, there := ruleOn(h.Fleet.Camera("Slipway"), "Edge"); there {
		h.t.Error("it is on the camera yet")
	}
}

// What a camera's analytics see is gathered, and a rule is rehearsed on it before it is written: what is foretold is what the
// camera then fires on. A slider counts anew, a firing shows the way of who made it.
func TestARuleIsRehearsedBeforeItIsWritten(t *testing.T) {
	t.Parallel()
	h := serveWith(t, testbed.StartOnly(t, "Slipway", "Terminal recorder"), app.Options{Gather: true})
	h.ready("find", "sign-in", "streams", "analytics")
	cam := h.Fleet.Camera("Slipway")
	p := testbed.Browser(t, 1280, 800)
	h.signIn(p, demo.Lead, h.Secrets.Lead)
	h.on(p, "analytics")
	p.Sees(20*time.Second, "That isn’t gathered yet.")
	p.Press("Gather what Slipway sees")
	testbed.Until(t, 30*time.Second, "a server listens", func() bool {
		return count(h, `select count(*) from gathering where documents > 0`) == 1
	})
	walks := func(seen int) {
		t.Helper()
		if res, err := http.Post(fmt.Sprintf("http://%s:%d/walk", cam.At(), camera.ControlPort), "", nil); err != nil || res.StatusCode != http.StatusOK {
			t.Fatal(res, err)
		}
		testbed.Until(t, 60*time.Second, "someone was seen, and is gone", func() bool {
			return count(h, fmt.Sprintf(`select count(distinct object) - %d from seen where (select max(ended_at) from seen) < now() - interval '4 seconds'`, seen)) == 0
		})
	}
	walks(1)
	a := whole(t, h)
	slip := a.camera("Slipway")
	foot := args{"minutes": 10, "kind": "Stays", "for_seconds": 2, "points": "25 50, 75 50, 75 98, 25 98", "name": "Ramp foot"}
	foretold := a.do("POST", a.site+"/cameras/"+string(slip)+"/rehearsal", jsonNumber(foot), http.StatusOK)
	if foretold["fires"] != 1.0 || foretold["objects"] != 1.0 || foretold["fires_as_on_camera"] != nil {
		t.Errorf("%v", foretold)
	}
	// Who came wears a purple coat, and neither bag, hat nor mask: by that it is found, and by nothing else.
	for _, x := range []struct {
		field string
		asks  []string
		fires float64
	}{{"colours", []string{"Red", "Purple"}, 1}, {"colours", []string{"Red"}, 0}, {"lacks", []string{"FaceCover", "Bag"}, 1}, {"has", []string{"Bag"}, 0}} {
		asks := maps.Clone(foot)
		asks[x.field] = x.asks
		got := a.do("POST", a.site+"/cameras/"+string(slip)+"/rehearsal", jsonNumber(asks), http.StatusOK)
		if got["fires"] != x.fires || got["untold"] != nil {
			t.Errorf("%s %v: %v fire, %v isn't told", x.field, x.asks, got["fires"], got["untold"])
		}
		if hits := got["hits"].([]any); x.fires == 1 && hits[0].(map[string]any)["looks"] != "purple, without a bag, without a hat, without the face covered" {
			t.Errorf("%v", hits)
		}
	}
	// How tall somebody is is reckoned from two marks of known size: without them it is refused.
	tall := maps.Clone(foot)
	tall["least_metres_tall"] = 1.5
	if got := a.do("POST", a.site+"/cameras/"+string(slip)+"/rehearsal", jsonNumber(tall), http.StatusUnprocessableEntity); got["field"] != "shortest" {
		t.Errorf("%v", got)
	}
	a.keeps("streams/marks", args{"camera_id": slip, "mark_0": "50 88.9, 50 68.1", "metres_0": "1.8", "mark_1": "26 69.4, 26 48.6", "metres_1": "1.8"})
	for metres, fires := range map[float64]float64{1.5: 1, 2: 0} {
		tall["least_metres_tall"] = metres
		if got := a.do("POST", a.site+"/cameras/"+string(slip)+"/rehearsal", jsonNumber(tall), http.StatusOK); got["fires"] != fires {
			t.Errorf("of %g m and more: %v", metres, got["fires"])
		}
	}
	for says, bad := range map[string]args{"colour": {"minutes": 5, "kind": "Inside", "points": "1 1, 9 1, 9 9", "colours": []string{"Teal"}}, "minutes": {"minutes": 0, "kind": "Inside", "points": "1 1, 9 1, 9 9"}, "points": {"minutes": 5, "kind": "Inside", "points": "1 1"}} {
		if got := a.do("POST", a.site+"/cameras/"+string(slip)+"/rehearsal", jsonNumber(bad), http.StatusUnprocessableEntity); got["field"] != says {
			t.Errorf("%s: %v", says, got)
		}
	}
	a.keeps("analytics/draw", args{"camera_id": slip, "name": "Ramp foot", "kind": "Stays", "for_seconds": 2, "points": "25 50, 75 50, 75 98, 25 98", "classes": []string{"Human"}})
	h.on(p, "analytics")
	p.Sees(30*time.Second, "1 would have fired", "1 seen in")
	testbed.Eval[bool](p, "(document.querySelector('.hit').dispatchEvent(new MouseEvent('click', {bubbles: true})), true)")
	p.Sees(20*time.Second, "fires ")
	set := func(id, to, event string) {
		testbed.Eval[bool](p, fmt.Sprintf("((s) => { s.value = %q; s.dispatchEvent(new Event(%q, {bubbles: true})); return true })(document.getElementById(%q))", to, event, id))
	}
	slide := func(to string) {
		set("slide-of", "for", "change")
		set("slide", to, "input")
	}
	slide("40")
	p.Sees(20*time.Second, "0 would have fired")
	slide("2")
	p.Sees(20*time.Second, "1 would have fired")
	tick := func(says string) {
		testbed.Eval[bool](p, fmt.Sprintf("(document.querySelector('[data-says=%q]').click(), true)", says))
	}
	tick("red")
	p.Sees(20*time.Second, "0 would have fired")
	tick("purple")
	tick("without a hat")
	p.Sees(20*time.Second, "1 would have fired")
	if said := testbed.Eval[string](p, "[...document.querySelectorAll('[data-words]')].map((e) => e.textContent).join('; ')"); said != "human; red or purple; without a hat" {
		t.Errorf("the sentence says %q", said)
	}
	tick("red")
	tick("purple")
	tick("without a hat")
	// It is judged by a key, and what that makes of other settings is said.
	testbed.Eval[bool](p, "(document.querySelector('.hit').dispatchEvent(new MouseEvent('click', {bubbles: true})), document.querySelector('.hit').focus(), true)")
	p.Keys("n")
	p.Sees(20*time.Second, "would have avoided 1 of 1 wrong ones and lost 0 of 0 right ones")
	p.Press("It was right")
	p.Sees(20*time.Second, "All 1 that were judged are right")
	if n := count(h, `select count(*) from checked where was_right`); n != 1 {
		t.Errorf("%d are kept as right", n)
	}
	p.Accessible("a rehearsal")

	// Written, it fires on the next who walks, and both say the same.
	a.makes("analytics/write", args{"cameras": []any{slip}})
	walks(2)
	foretold = a.do("POST", a.site+"/cameras/"+string(slip)+"/rehearsal", jsonNumber(foot), http.StatusOK)
	if foretold["fires"] != 2.0 || foretold["fires_as_on_camera"] != 2.0 || cam.Fired("Ramp foot") != 1 {
		t.Errorf("%v fire as drawn, %v as on the camera, which fired %d times since it has it", foretold["fires"], foretold["fires_as_on_camera"], cam.Fired("Ramp foot"))
	}
	// What it fired came with what it saw: one of each is known since the camera has the rule.
	held := foretold["held"].(map[string]any)
	if fired, _ := foretold["fired"].([]any); len(fired) != 1 || held["foretold"] != 1.0 || held["both"] != 1.0 {
		t.Errorf("%v fired, held %v", foretold["fired"], held)
	}
	h.on(p, "analytics")
	p.Sees(20*time.Second, "it fired 1, 1 were foretold, 0 % off")
	p.Press("End it")
	p.Sees(20*time.Second, "isn't gathered any more")
}

// A camera that sends what its analytics see coded as gzip: that is told of its stream, and where it is to be gathered.
func TestMetadataThatIsCodedIsTold(t *testing.T) {
	t.Parallel()
	h := serveWith(t, testbed.StartOnly(t, "Ice plant", "Quay recorder"), app.Options{Gather: true})
	h.ready("find", "sign-in", "streams", "analytics")
	a := whole(t, h)
	ice := a.the("cameras", "cameras", "place", "Ice plant")["id"]
	a.keeps("analytics/watch", args{"cameras": []any{ice}})
	p := testbed.Browser(t, 1280, 800)
	h.signIn(p, demo.Lead, h.Secrets.Lead)
	h.sheet(p, "streams", "Ice plant")
	p.Sees(20*time.Second, "sends its metadata coded as gzip")
	testbed.Until(t, 30*time.Second, "a server tried", func() bool { return count(h, `select count(*) from gathering where trouble <> ''`) == 1 })
	h.on(p, "analytics")
	p.Sees(20*time.Second, "coded as gzip, which isn't read here: set it to be sent plain")
}

// A view of light and one of heat that watch for the same: on the second one it is proposed off, or accepted as a check of
// the other; then nothing is proposed.
func TestWhatTwoViewsTellIsToldOnce(t *testing.T) {
	t.Parallel()
	h := serveOn(t, testbed.StartOnly(t, "Bonded store", "Terminal recorder"), nil)
	h.ready("find", "sign-in")
	a := whole(t, h)
	a.keeps("find/views", args{"camera_id": a.camera("Bonded store"), "views": []string{"vs0", "vs1"}})
	h.ready("streams", "analytics")
	cam := h.Fleet.Camera("Bonded store")
	had := len(cam.RulesOf(1))
	p := testbed.Browser(t, 1280, 800)
	h.signIn(p, demo.Lead, h.Secrets.Lead)
	gone := func(text string) {
		t.Helper()
		testbed.Until(t, 20*time.Second, text+" is gone", func() bool {
			return !strings.Contains(testbed.Glance[string](p, "document.querySelector('.sheet').innerText"), text)
		})
	}
	h.sheet(p, "analytics", "Bonded store")
	p.Sees(20*time.Second, "each happening is told twice", "let one be a check of the other")
	h.sheet(p, "analytics", "Bonded store · Heat")
	p.Sees(20*time.Second, "each happening is told twice", "Take them off here, as is proposed", "Write the rules of")
	p.PressIn(".sheet", "Accept it as it is")
	p.Sees(20*time.Second, "Accepted by Maren Ostby")
	gone("Write the rules of")
	p.PressIn(".sheet", "Don't accept it any more")
	p.Sees(20*time.Second, "Write the rules of")
	h.run(p, ".sheet", "Write the rules of Bonded store · Heat")
	if now := len(cam.RulesOf(1)); had < 2 || now != had-2 {
		t.Errorf("the view of heat had %d rules, and has %d", had, now)
	}
	if len(cam.RulesOf(0)) < 2 {
		t.Error("the view of light has lost its own")
	}
	h.sheet(p, "analytics", "Bonded store")
	p.Sees(20*time.Second, "made elsewhere")
	gone("each happening is told twice")
}
