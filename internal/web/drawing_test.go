package web_test

import (
	"encoding/json"
	"fmt"
	"math"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"

	"duskyharbor/internal/demo"
	"duskyharbor/internal/testbed"
)

// sketch is a picture of the test's own that is drawn on, in some page.
type sketch struct {
	p *testbed.Page
	t *testing.T
}

// easel puts a picture of an aspect on the page, on which a tool draws.
func easel(t *testing.T, p *testbed.Page, aspect, options string) sketch {
	t.Helper()
	testbed.Eval[bool](p, `(import(document.querySelector('script[src*="js/main.js"]').src.replace('main.js', 'drawing.js')).then((m) => { window.drawing = m; }), true)`)
	testbed.Until(t, 20*time.Second, "the module is there", func() bool { return testbed.Glance[bool](p, "!!window.drawing") })
	testbed.Eval[bool](p, fmt.Sprintf(`(() => {
		document.getElementById('easel')?.remove();
		const f = document.createElement('figure');
		f.id = 'easel'; f.className = 'still';
		f.innerHTML = '<div class="frame"><svg class="marks" viewBox="0 0 1600 900" preserveAspectRatio="none" data-marks aria-label="Easel"></svg></div>';
		Object.assign(f.style, {position: 'fixed', left: '300px', top: '60px', width: '400px', background: '#888', zIndex: 99});
		f.querySelector('.frame').style.aspectRatio = %q;
		document.body.append(f);
		window.drawn = null;
		window.easel = drawing.draw(f, {%s, changed: (s) => { window.drawn = JSON.stringify(s); }});
		easel.begin();
		return true;
	})()`, aspect, options))
	return sketch{p, t}
}

func (s sketch) drag(x0, y0, x1, y1 float64) { s.p.Drag("#easel svg", x0, y0, x1, y1) }

// tap presses and lets go at one place.
func (s sketch) tap(x, y float64) { s.drag(x, y, x, y) }

func (s sketch) presses(button string) {
	s.t.Helper()
	name, _ := json.Marshal(button)
	testbed.Eval[bool](s.p, `([...document.querySelectorAll('#easel .drawbar button')].find((b) => b.textContent === `+string(name)+`).click(), true)`)
}

// is holds what was drawn against shapes of places, to a part of the picture.
func (s sketch) is(name string, want [][][2]float64) {
	s.t.Helper()
	var got [][][2]float64
	text := testbed.Eval[string](s.p, "window.drawn")
	if err := json.Unmarshal([]byte(text), &got); err != nil {
		s.t.Fatalf("%s: %s: %v", name, text, err)
	}
	ok := len(got) == len(want)
	for i := 0; ok && i < len(want); i++ {
		ok = len(got[i]) == len(want[i])
		for j := 0; ok && j < len(want[i]); j++ {
			ok = math.Abs(got[i][j][0]-want[i][j][0]) < 0.006 && math.Abs(got[i][j][1]-want[i][j][1]) < 0.006
		}
	}
	if !ok {
		s.t.Errorf("%s: drawn %s, want %v", name, text, want)
	}
}

// What is drawn by hand, tap or key is where it was drawn, whatever the picture's aspect and however far it is zoomed
// in; it is snapped, taken back and done again.
func TestAPictureIsDrawnOn(t *testing.T) {
	t.Parallel()
	h := serveOn(t, testbed.StartOnly(t, "Slipway"), nil)
	p := testbed.Browser(t, 1280, 800)
	h.signIn(p, demo.Lead, h.Secrets.Lead)
	type shape = [][2]float64
	for _, aspect := range []string{"16 / 9", "4 / 3", "9 / 16"} {
		s := easel(t, p, aspect, "tool: 'line', most: 2")
		s.drag(0.2, 0.3, 0.7, 0.8)
		s.is(aspect+", a line", [][][2]float64{shape{{0.2, 0.3}, {0.7, 0.8}}})
		s.presses("+")
		s.presses("+")
		s.drag(0.45, 0.4, 0.6, 0.55)
		s.is(aspect+", zoomed in", [][][2]float64{{{0.2, 0.3}, {0.7, 0.8}}, {{0.45, 0.4}, {0.6, 0.55}}})
	}
	s := easel(t, p, "16 / 9", "tool: 'line', most: 2")
	s.tap(0.2, 0.2)
	s.tap(0.4, 0.6)
	s.drag(0.41, 0.59, 0.8, 0.995) // from the end of the first, to the edge below: grabbed, and moved
	s.is("an end that is moved", [][][2]float64{{{0.2, 0.2}, {0.8, 1}}})
	s.presses("Undo")
	s.is("and put back", [][][2]float64{{{0.2, 0.2}, {0.4, 0.6}}})
	s.presses("Undo")
	s.is("and taken back", [][][2]float64{})
	s.presses("Redo")
	s.presses("Redo")
	s.is("and done again", [][][2]float64{{{0.2, 0.2}, {0.8, 1}}})

	s = easel(t, p, "16 / 9", "tool: 'polygon', most: 1, corners: 5")
	s.drag(0.1, 0.1, 0.4, 0.5)
	s.is("a box swept", [][][2]float64{{{0.1, 0.1}, {0.4, 0.1}, {0.4, 0.5}, {0.1, 0.5}}})
	for _, at := range [][2]float64{{0.5, 0.2}, {0.8, 0.2}, {0.8, 0.7}, {0.501, 0.205}} { // the last snaps onto the first
		s.tap(at[0], at[1])
	}
	s.is("three corners, closed", [][][2]float64{{{0.5, 0.2}, {0.8, 0.2}, {0.8, 0.7}}})
	for _, at := range [][2]float64{{0.1, 0.1}, {0.2, 0.1}, {0.3, 0.2}, {0.2, 0.4}, {0.1, 0.3}} {
		s.tap(at[0], at[1])
	}
	s.is("as many corners as may be", [][][2]float64{{{0.1, 0.1}, {0.2, 0.1}, {0.3, 0.2}, {0.2, 0.4}, {0.1, 0.3}}})

	// A line of several places, which come, go and move.
	s = easel(t, p, "16 / 9", "tool: 'path', most: 1, edit: true, start: [[[0.1, 0.1], [0.9, 0.1]]]")
	s.drag(0.5, 0.1, 0.5, 0.6)
	s.is("a place made on an edge", [][][2]float64{{{0.1, 0.1}, {0.5, 0.6}, {0.9, 0.1}}})
	p.Do(chromedp.KeyEvent(kb.ArrowLeft))
	s.is("moved by a key", [][][2]float64{{{0.1, 0.1}, {0.49, 0.6}, {0.9, 0.1}}})
	p.Do(chromedp.KeyEvent("n"))
	p.Do(chromedp.KeyEvent(kb.Delete))
	s.is("the next taken away", [][][2]float64{{{0.1, 0.1}, {0.49, 0.6}}})
	p.Do(chromedp.KeyEvent("n"))
	p.Do(chromedp.KeyEvent(kb.Delete))
	s.is("fewer than two are no line: what was done last is taken back", [][][2]float64{{{0.1, 0.1}, {0.49, 0.6}, {0.9, 0.1}}})
	s = easel(t, p, "16 / 9", "tool: 'path', most: 1, edit: true")
	s.drag(0.2, 0.9, 0.8, 0.4)
	s.is("dragged from end to end", [][][2]float64{{{0.2, 0.9}, {0.8, 0.4}}})
	for _, at := range [][2]float64{{0.1, 0.2}, {0.3, 0.2}, {0.3, 0.5}, {0.301, 0.503}} { // the last snaps onto the one before
		s.tap(at[0], at[1])
	}
	s.is("tapped place by place", [][][2]float64{{{0.1, 0.2}, {0.3, 0.2}, {0.3, 0.5}}})

	s = easel(t, p, "16 / 9", "tool: 'point', most: 2")
	for _, at := range [][2]float64{{0.2, 0.2}, {0.5, 0.5}, {0.8, 0.4}} {
		s.tap(at[0], at[1])
	}
	s.is("the last two of three places", [][][2]float64{{{0.5, 0.5}}, {{0.8, 0.4}}})

	s = easel(t, p, "16 / 9", "tool: 'box', most: 1")
	testbed.Eval[bool](p, "(document.querySelector('#easel svg').focus(), true)")
	for _, key := range []string{kb.ArrowLeft, kb.ArrowLeft, kb.Enter, kb.ArrowRight, kb.ArrowDown, kb.ArrowDown, kb.Enter} {
		p.Do(chromedp.KeyEvent(key))
	}
	s.is("a box by keys", [][][2]float64{{{0.48, 0.5}, {0.49, 0.52}}})
	p.Do(chromedp.KeyEvent(kb.Backspace))
	s.is("taken back by a key", [][][2]float64{})

	s = easel(t, p, "16 / 9", "tool: 'brush', cells: [[0,0,0,0],[0,0,0,0]]")
	cells := func(name, want string) {
		t.Helper()
		if got := testbed.Eval[string](p, "window.drawn"); got != want {
			t.Errorf("%s: %s, want %s", name, got, want)
		}
	}
	s.drag(0.1, 0.2, 0.4, 0.2)
	cells("painted", "[[1,1,0,0],[0,0,0,0]]")
	s.tap(0.1, 0.2)
	cells("wiped", "[[0,1,0,0],[0,0,0,0]]")
	s.presses("1 cell wide")
	s.tap(0.9, 0.9)
	cells("three wide", "[[0,1,1,1],[0,0,1,1]]")
	s.presses("Undo")
	s.presses("3 cells wide")
	s.presses("5 cells wide")
	s.presses("Swap")
	cells("swapped", "[[1,0,1,1],[1,1,1,1]]")
	s.presses("Whole frame")
	cells("whole", "[[1,1,1,1],[1,1,1,1]]")
	s.presses("Undo")
	cells("taken back", "[[1,0,1,1],[1,1,1,1]]")
	s.presses("Empty")
	cells("empty", "[[0,0,0,0],[0,0,0,0]]")

	testbed.Eval[bool](p, "(easel.end(), true)")
	if testbed.Eval[bool](p, "!!document.querySelector('#easel .drawbar, #easel [tabindex], #easel [data-drawn]')") {
		t.Error("something of drawing is left")
	}
}
