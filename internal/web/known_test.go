package web_test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"image"
	"image/color"
	"image/jpeg"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"duskyharbor/internal/app"
	"duskyharbor/internal/demo"
	"duskyharbor/internal/standin/camera"
	"duskyharbor/internal/standin/footage"
	"duskyharbor/internal/testbed"
)

// coat is a picture of somebody in a coat of a colour, JPEG.
func coat(t *testing.T, r, g, b uint8) []byte {
	t.Helper()
	img := image.NewRGBA(image.Rect(0, 0, 60, 150))
	for y := range 150 {
		for x := range 60 {
			c := color.RGBA{r, g, b, 255}
			if y < 30 {
				c = color.RGBA{220, 190, 170, 255}
			}
			img.Set(x, y, c)
		}
	}
	var out bytes.Buffer
	if err := jpeg.Encode(&out, img, nil); err != nil {
		t.Fatal(err)
	}
	return out.Bytes()
}

// askKnown asks for every act of who is known.
func askKnown(h *harbour, a *acts, analyser any) {
	h.t.Helper()
	day := func(days int) string { return time.Now().UTC().AddDate(0, 0, days).Format(time.DateOnly) }
	wrong := func(name string, x args, field string) {
		h.t.Helper()
		if got := a.do("POST", a.site+"/acts/"+name, jsonNumber(x), http.StatusUnprocessableEntity); got["field"] != field {
			h.t.Errorf("%s %v: %v", name, x, got)
		}
	}
	wrong("known/set", args{"name": "Crew", "kind": "face", "known_from": 0.6, "nearly_from": 0.7}, "nearly")
	set := a.keeps("known/set", args{"name": "Crew", "kind": "face"})["id"]
	wrong("known/set", args{"name": "Crew", "kind": "face"}, "name")
	if got := a.keeps("known/set", args{"id": set, "name": "Crew", "kind": "vehicle", "known_from": 0.9, "tells_unknown": true})["id"]; fmt.Sprint(got) != fmt.Sprint(set) {
		h.t.Errorf("it is %v", got)
	}
	crew := func() map[string]any { return a.the("known", "sets", "id", set) }
	if x := crew(); x["kind"] != "face" || x["known_from"] != 0.9 || x["tells_unknown"] != true {
		h.t.Errorf("%v", x)
	}
	wrong("known/entry", args{"set_id": set, "name": "Anselm Reis", "ground": " ", "since": day(0), "ends": day(9)}, "ground")
	wrong("known/entry", args{"set_id": set, "name": "Anselm Reis", "ground": "consent", "since": day(3), "ends": day(9)}, "since")
	wrong("known/entry", args{"set_id": set, "name": "Anselm Reis", "ground": "consent", "since": day(0), "ends": day(-1)}, "ends")
	wrong("known/entry", args{"set_id": set, "name": "Anselm Reis", "ground": "consent", "since": day(0), "ends": "one day"}, "ends")
	anselm := args{"set_id": set, "name": "Anselm  Reis", "ground": "consent of the 3rd", "since": day(-1), "ends": day(9)}
	anselm["id"] = a.keeps("known/entry", anselm)["id"]
	maren := a.keeps("known/entry", args{"set_id": set, "name": "Maren Ostby", "ground": "consent", "since": day(-1), "ends": day(9)})["id"]
	anselm["ends"] = day(30)
	a.keeps("known/entry", anselm)
	wrong("known/picture", args{"entry_id": maren, "picture": []byte("no picture")}, "picture")
	wrong("known/picture", args{"entry_id": maren}, "picture")
	a.keeps("known/picture", args{"entry_id": maren, "picture": coat(h.t, 20, 40, 160)})
	wrong("known/picture", args{"entry_id": maren, "picture": coat(h.t, 20, 40, 160)}, "picture")
	a.keeps("known/picture", args{"entry_id": anselm["id"], "picture": coat(h.t, 150, 30, 30)})
	two := a.keeps("known/picture", args{"entry_id": anselm["id"], "picture": coat(h.t, 158, 36, 34)})["id"]
	if n := count(h, `select count(*) from known_picture where position('\xffd8ffdb'::bytea in sealed) > 0`); n != 0 {
		h.t.Error("pictures aren't sealed")
	}
	a.refused("known/set/drop", args{"id": set}, http.StatusConflict)

	hold := args{"set_id": set, "analyser_id": analyser}
	a.makes("known/at", hold)
	if n := h.Fleet.Analyser("Analyser 2").Knows(); n != 2 {
		h.t.Fatalf("it holds %d", n)
	}
	a.refused("known/at", hold, http.StatusConflict) // nothing is to be changed
	who := func(i int) map[string]any { return crew()["entries"].([]any)[i].(map[string]any) }
	if x := who(0); x["name"] != "Anselm  Reis" || x["known_by_the_others"] != float64(2) || x["helps"] != "Each is known by the others: another picture won't help." {
		h.t.Errorf("%v", x)
	}
	if x := who(1); x["known_by_the_others"] != float64(0) || !strings.Contains(fmt.Sprint(x["helps"]), "add a second") {
		h.t.Errorf("%v", x)
	}
	a.keeps("known/picture/drop", args{"id": two})
	if at := crew()["analysers"].([]any)[0].(map[string]any); at["differences"] != float64(1) {
		h.t.Errorf("%v", at)
	}
	a.makes("known/at", hold)

	// Deleted here it is gone from sight at once, and at the analyser once that was told.
	a.sure("known/entry/drop", args{"set_id": set, "id": maren})
	if x := who(1); x["gone"] != true || count(h, `select count(*) from known_picture`) != 1 {
		h.t.Errorf("%v", x)
	}
	if n := h.Fleet.Analyser("Analyser 2").Knows(); n != 2 {
		h.t.Errorf("it holds %d before it was told", n)
	}
	a.makes("known/at", hold)
	if n := h.Fleet.Analyser("Analyser 2").Knows(); n != 1 || count(h, `select count(*) from known_entry`) != 1 {
		h.t.Errorf("it holds %d, and %d are kept", n, count(h, `select count(*) from known_entry`))
	}
	a.makes("known/at", args{"set_id": set, "analyser_id": analyser, "off": true})
	a.sure("known/entry/drop", args{"set_id": set, "id": anselm["id"]})
	a.keeps("known/set/drop", args{"id": set})
	if n := h.Fleet.Analyser("Analyser 2").Knows() + count(h, `select count(*) from known_set`); n != 0 {
		h.t.Errorf("%d are left", n)
	}
	if n := count(h, `select count(*) from audit where act = 'looked at who or what is known'`); n == 0 {
		h.t.Error("who looked isn't in the log")
	}
}

// A set of faces gets better by the figure that it shows: somebody is known by pictures of what was seen, a picture more helps those that
// weren't known, and who walks is then told by name.
func TestAFaceSetIsImprovedByItsFigure(t *testing.T) {
	t.Parallel()
	h := serveWith(t, testbed.StartOnly(t, "Crew mess", "Analyser 2"), app.Options{Gather: true})
	a := whole(t, h)
	h.ready("find", "sign-in", "streams", "analytics")
	own := a.keeps("settings/set", args{"name": "Analysers' account", "username": "install", "password": h.Secrets.Look})["id"]
	two := a.the("analysers", "analysers", "address", h.Net.At(".2.31"))["id"]
	a.keeps(fmt.Sprintf("settings/analyser/%v", two), args{"place": "Analyser 2", "set_id": own})
	h.readAnalysers(a)
	mess := a.camera("Crew mess")
	a.makes("analytics/pair", args{"cameras": []any{mess}, "analyser_id": two})

	// Stills of the same who walks, by night and by day.
	files := t.TempDir()
	file := func(name string, night bool, at time.Duration) string {
		sc := footage.CrewMess
		sc.Night = night
		img := sc.DrawLook(true, at, 640, 360, footage.Look{})
		is := sc.Moving(true, at)
		if len(is) == 0 {
			t.Fatalf("nobody is there %s after the start", at)
		}
		b := is[0].Box
		part := img.SubImage(image.Rect(int((b.Left+1)*320)-2, int((1-b.Top)*180)-2, int((b.Right+1)*320)+2, int((1-b.Bottom)*180)+2))
		var out bytes.Buffer
		if err := jpeg.Encode(&out, part, &jpeg.Options{Quality: 92}); err != nil {
			t.Fatal(err)
		}
		path := filepath.Join(files, name)
		if err := os.WriteFile(path, out.Bytes(), 0o600); err != nil {
			t.Fatal(err)
		}
		return path
	}
	p := testbed.Browser(t, 1280, 800)
	h.signIn(p, demo.Lead, h.Secrets.Lead)
	h.on(p, "known")
	p.Sees(20*time.Second, "Keep somebody’s picture only where they consented")
	p.Accessible("a new set of references")
	fill := func(form, script string) {
		t.Helper()
		testbed.Eval[bool](p, fmt.Sprintf(`(() => { const f = document.querySelector(%q); const e = f.elements; %s; f.requestSubmit(); return true; })()`, form, script))
	}
	fill("form[aria-label='The set']", "e.name.value = 'Crew'")
	p.Sees(20*time.Second, "Add to Crew", "doesn’t hold it")
	fill("form[aria-label='Add to the set']", "e.name.value = 'Maren Ostby'; e.ground.value = 'consent'")
	p.Sees(20*time.Second, "Maren Ostby", "It has no picture yet")
	add := func(path string, sees ...string) {
		t.Helper()
		p.Do(chromedp.SetUploadFiles("table.known input[type=file]", []string{path}))
		testbed.Eval[bool](p, `(() => { document.querySelector("table.known input[type=file]").form.requestSubmit(); return true; })()`)
		p.Sees(20*time.Second, sees...)
	}
	hold := func() {
		t.Helper()
		h.run(p, ".knownat", "Have Analyser 2 hold it")
	}
	add(file("one.jpg", false, 5*time.Second), "With one picture alone nothing tells")
	add(file("two.jpg", true, 5*time.Second), "aren't compared yet")
	hold()
	p.Sees(20*time.Second, "0 of 2", "another picture helps", "held it as it is here when it was read")
	p.Accessible("a set of references")
	h.fits(p, "a set of references")
	p.Theme("dark")
	p.LegibleIn("main", "a set of references in dark")
	p.Theme("light")
	add(file("three.jpg", false, 6*time.Second), "holds it otherwise")
	hold()
	p.Sees(20*time.Second, "2 of 3", "With picture 3 the others are known at")
	add(file("four.jpg", true, 6*time.Second), "holds it otherwise")
	hold()
	p.Sees(20*time.Second, "4 of 4", "another picture won't help")
	var figure struct {
		Before *float64 `json:"without_the_latest_picture"`
		After  *float64 `json:"with_the_latest_picture"`
	}
	raw, _ := json.Marshal(a.the("known", "sets", "name", "Crew")["entries"].([]any)[0])
	if err := json.Unmarshal(raw, &figure); err != nil || figure.Before == nil || *figure.After <= *figure.Before {
		t.Errorf("%s", raw)
	}

	// Who walks is known.
	testbed.Until(t, 60*time.Second, "stills are looked at", func() bool { return count(h, `select count(*) from gathering where documents > 4`) == 1 })
	cam := h.Fleet.Camera("Crew mess")
	if res, err := http.Post(fmt.Sprintf("http://%s:%d/walk", cam.At(), camera.ControlPort), "", nil); err != nil || res.StatusCode != http.StatusOK {
		t.Fatal(res, err)
	}
	testbed.Until(t, 60*time.Second, "who walked is known", func() bool {
		return count(h, `select count(*) from seen where traits @> '{"held": [{"as": "known"}]}'`) > 0
	})
	testbed.Until(t, 60*time.Second, "she is told by name", func() bool {
		got := a.do("POST", fmt.Sprintf("%s/cameras/%v/rehearsal", a.site, mess), jsonNumber(args{"minutes": 10, "name": "Middle", "kind": "FirstSeen", "points": "0 0, 100 0, 100 100, 0 100", "classes": []string{"Human"}}), http.StatusOK)
		for _, hit := range got["hits"].([]any) {
			if known, _ := hit.(map[string]any)["known"].([]any); len(known) == 1 && strings.HasPrefix(fmt.Sprint(known[0]), "known as Maren Ostby (0.") {
				return true
			}
		}
		return false
	})

	// A viewer sees nobody; who looked is in the log.
	v := testbed.Browser(t, 1280, 800)
	h.signIn(v, "office", h.Secrets.Viewer)
	h.on(v, "known")
	v.Sees(20*time.Second, "Who is known is shown to those who may change something here")
	if n := count(h, `select count(*) from audit where act = 'looked at who or what is known' and detail = 'Maren Ostby'`); n != 1 {
		t.Errorf("that a picture was looked at is %d times in the log", n)
	}
}
