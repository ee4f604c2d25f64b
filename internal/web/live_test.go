package web_test

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"duskyharbor/internal/app"
	"duskyharbor/internal/core/ground"
	"duskyharbor/internal/demo"
	"duskyharbor/internal/engine"
	"duskyharbor/internal/stages"
	"duskyharbor/internal/store"
	"duskyharbor/internal/testbed"
	"duskyharbor/internal/testbed/lenstest"
)

// serveLens is serve with the lens stage and its page.
func serveLens(t *testing.T) *harbour {
	t.Helper()
	return serveWith(t, testbed.Start(t), app.Options{Extra: []func(stages.Services) engine.Stage{lenstest.New}}, lenstest.NewPage)
}

// A stage and a page that nothing of the product knows work end to end, by registering
// them: read, judged, proposed, changed, read back, taken back, in the browser.
func TestAStageIsAddedByRegisteringIt(t *testing.T) {
	t.Parallel()
	h := serveLens(t)
	p := testbed.Browser(t, 1280, 800)
	h.signIn(p, demo.Lead, h.Secrets.Lead)
	p.Sees(30*time.Second, "Nothing was looked for yet")
	h.on(p, "find")
	h.run(p, "body", "Look at 3 networks")
	h.on(p, "handover")
	p.Sees(20*time.Second, "Lenses", "0 read")
	if got := testbed.Eval[string](p, "document.body.dataset.lens || ''"); got != "its own script ran" {
		t.Errorf("its script: %q", got)
	}
	if got := testbed.Eval[string](p, "getComputedStyle(document.querySelector('.lens-count')).letterSpacing"); got != "3px" {
		t.Errorf("its style sheet: %q", got)
	}
	h.run(p, "body", "Read the lenses")
	h.sheet(p, "handover", "Slipway")
	p.Sees(20*time.Second, "Its lens looks near.", "near → far", "its lens looks near")
	h.run(p, ".sheet", "Focus Slipway")
	p.Sees(20*time.Second, "It is sharp.", "its lens looks far")
	h.on(p, "log")
	h.run(p, "body", "Undo Focus of Slipway")
	h.sheet(p, "handover", "Slipway")
	p.Sees(20*time.Second, "Its lens looks near.", "undone")
	h.on(p, "board")
	p.Sees(20*time.Second, "blurred")
	// Its act is asked for by a program, under the same guard, and is described as any.
	a := whole(t, h)
	slipway := json.Number(h.camera("Slipway"))
	a.do("POST", a.site+"/acts/handover/focus", jsonNumber(args{"camera_id": slipway, "to": "up"}), http.StatusUnprocessableEntity)
	a.makes("handover/focus", args{"camera_id": slipway, "to": "far"})
	for _, f := range a.all("findings?stage=handover", "findings") {
		if f["place"] == "Slipway" {
			t.Errorf("after it was focused: %v", f)
		}
	}
	a.do("POST", a.site+"/acts/handover/focus", jsonNumber(args{"camera_id": slipway, "to": "far"}), http.StatusConflict)
	// What others rest on of it is said with all that the product's own stages say.
	s := h.snapshot(t, h.Site)
	of, _ := s.Source(h.number("Slipway"))
	all := h.app.Grounds(ground.Proof, s, of)
	if !slices.Contains(all, ground.Ground{Of: "lens", Is: "far", Under: ground.Proof}) || len(all) < 8 {
		t.Errorf("a proof would rest on %+v", all)
	}
}

// disturb has the page updated over and over until stop is called; it returns how often
// it was.
func disturb(t *testing.T, h *harbour, p *testbed.Page) (stop func() int) {
	t.Helper()
	ctx, cancel := context.WithCancel(t.Context())
	done := make(chan struct{})
	go func() {
		defer close(done)
		for ctx.Err() == nil {
			_ = h.Store.Notify(ctx, store.Event{Site: h.Site, Topic: store.OnMark})
			select {
			case <-ctx.Done():
			case <-time.After(60 * time.Millisecond):
			}
		}
	}()
	first := testbed.Eval[string](p, "document.getElementById('made').textContent")
	testbed.Eval[bool](p, `(window.updates = 0, document.addEventListener('harbour:updated', () => window.updates++), true)`)
	testbed.Until(t, 20*time.Second, "updates come", func() bool {
		return testbed.Glance[string](p, "document.getElementById('made').textContent") != first
	})
	return func() int {
		cancel()
		<-done
		return testbed.Eval[int](p, "window.updates")
	}
}

// Updates come while a person has something in hand: nothing of it is lost.
func TestUpdatesTakeNothingFromUnderAHand(t *testing.T) {
	t.Parallel()
	h := serveLens(t)
	p := testbed.Browser(t, 1280, 800)
	h.signIn(p, demo.Lead, h.Secrets.Lead)
	p.Sees(30*time.Second, "Nothing was looked for yet")
	h.on(p, "handover")
	p.Sees(20*time.Second, "Lenses")
	testbed.Until(t, 20*time.Second, "the page is heard", func() bool {
		return testbed.Glance[bool](p, "!!window.Alpine && !!document.querySelector('.live .dot')")
	})
	stop := disturb(t, h, p)
	// A form came back with what is wrong in it: what was typed there are its fields' own values.
	testbed.Eval[bool](p, `(() => { const f = document.getElementById('read'); const i = document.createElement('input'); i.id = 'typed'; i.setAttribute('value', 'as typed'); const w = document.createElement('p'); w.className = 'wrong'; f.append(i, w); return true })()`)
	p.Do(chromedp.Click("#more summary"))
	testbed.Eval[bool](p, `(() => { const c = document.getElementById('canvas').getContext('2d'); c.fillStyle = '#ff0000'; c.fillRect(0, 0, 40, 40); window.island = document.getElementById('island'); window.island.firstElementChild.textContent = 'mine'; return true })()`)
	p.Do(chromedp.Focus("#note"))
	for _, letter := range "half a word" {
		before := testbed.Eval[int](p, "window.updates")
		p.Do(chromedp.SendKeys("#note", string(letter)))
		if letter == 'f' || letter == 'w' { // an update comes in the middle of the word
			testbed.Until(t, 20*time.Second, "an update comes", func() bool { return testbed.Glance[int](p, "window.updates") > before })
		}
	}
	if updates := stop(); updates < 3 {
		t.Errorf("only %d updates came", updates)
	}
	for what, js := range map[string]string{
		"the details are closed":   "document.getElementById('more').open",
		"the drawing is gone":      "document.getElementById('canvas').getContext('2d').getImageData(20, 20, 1, 1).data[0] === 255",
		"a refused form is lost":   "document.getElementById('typed')?.value === 'as typed' && !!document.querySelector('#read .wrong')",
		"the word is lost":         "document.getElementById('note').value === 'half a word'",
		"the field lost its focus": "document.activeElement && document.activeElement.id === 'note'",
		"the island was exchanged": "window.island === document.getElementById('island') && window.island.textContent === 'mine'",
	} {
		if !testbed.Eval[bool](p, js) {
			t.Error(what)
		}
	}
}

// While something is dragged nothing is exchanged, though the browser cancels the pointer
// as a drag begins; what changed meanwhile is there afterwards.
func TestNothingIsExchangedDuringADrag(t *testing.T) {
	t.Parallel()
	h := serveLens(t)
	p := testbed.Browser(t, 1280, 800)
	h.signIn(p, demo.Lead, h.Secrets.Lead)
	p.Sees(30*time.Second, "Nothing was looked for yet")
	h.on(p, "handover")
	p.Sees(20*time.Second, "Lenses")
	stop := disturb(t, h, p)
	testbed.Eval[bool](p, `(() => { const el = document.getElementById('dragme');
		el.dispatchEvent(new PointerEvent('pointerdown', {bubbles: true})); el.dispatchEvent(new DragEvent('dragstart', {bubbles: true})); window.dispatchEvent(new PointerEvent('pointercancel'));
		window.before = window.updates; return true })()`)
	// Twenty more changes are told, and none is shown.
	for range 20 {
		if err := h.Store.Notify(t.Context(), store.Event{Site: h.Site, Topic: store.OnMark}); err != nil {
			t.Fatal(err)
		}
		if n := testbed.Eval[int](p, "window.updates - window.before"); n > 1 { // one may have been on its way
			t.Fatalf("%d updates during the drag", n)
		}
	}
	testbed.Eval[bool](p, `(window.before = window.updates, document.getElementById('dragme').dispatchEvent(new DragEvent('dragend', {bubbles: true})), true)`)
	testbed.Until(t, 20*time.Second, "updates come again", func() bool {
		return testbed.Glance[int](p,
			"window.updates - window.before") > 0
	})
	stop()
}

// How a run goes is told in the part that shows it: an update doesn't fetch the page.
func TestAnUpdateFetchesItsPartAlone(t *testing.T) {
	t.Parallel()
	h, _, _, handler := fullBoard(t)
	get := signedIn(t, h, handler)
	whole := 0
	testbed.Until(t, 60*time.Second, "the Board is answered", func() bool {
		page, _ := get(fmt.Sprintf("/sites/%d/board", h.Site))
		whole = len(unzipped(t, page))
		return page.Code == 200 // on a starved machine it may run into its own limit, which isn't what is tested
	})
	for part, most := range map[string]int{"runs": 2_000, "passage": whole / 20} {
		w, _ := get(fmt.Sprintf("/sites/%d/board", h.Site), "X-Parts", part)
		if body := unzipped(t, w); len(body) > most || w.Code != 200 || !strings.Contains(body,
			`data-part="`+part+`"`) || strings.Contains(body, "<html") {
			t.Errorf("%s: %d bytes of %d: %.200s", part, len(body), whole, body)
		}
	}
	if w, _ := get(fmt.Sprintf("/sites/%d/board", h.Site), "X-Parts", "main,runs"); strings.Count(unzipped(t, w), "data-part=") != 2 {
		t.Error("two parts")
	}
	if w, _ := get(fmt.Sprintf("/sites/%d/board", h.Site), "X-Parts", "main,../x"); w.Code != 400 {
		t.Errorf("a part that isn't: %d", w.Code)
	}
}

// A page that opens reads nothing again: what it shows is what it was made with.
func TestAPageReadsNothingAgainAtFirst(t *testing.T) {
	t.Parallel()
	h := serveLens(t)
	p := testbed.Browser(t, 1280, 800)
	h.signIn(p, demo.Lead, h.Secrets.Lead)
	p.Sees(30*time.Second, "Nothing was looked for yet")
	h.on(p, "handover")
	p.Sees(20*time.Second, "Lenses")
	first := testbed.Eval[string](p, "document.getElementById('made').textContent")
	if err := h.Store.Notify(t.Context(), store.Event{Site: h.Site, Topic: store.OnProof}); err != nil { // about nothing here
		t.Fatal(err)
	}
	if got := testbed.Eval[int](p, "performance.getEntriesByType('resource').filter(e => e.name.endsWith('/handover')).length"); got != 0 {
		t.Errorf("it was fetched %d times more", got)
	}
	if err := h.Store.Notify(t.Context(), store.Event{Site: h.Site, Topic: store.OnMark}); err != nil {
		t.Fatal(err)
	}
	testbed.Until(t, 20*time.Second, "it hears of a mark", func() bool {
		return testbed.Glance[string](p, "document.getElementById('made').textContent") != first
	})
}
