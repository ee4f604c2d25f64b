package testbed

import (
	"context"
	_ "embed"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/input"
	"github.com/chromedp/cdproto/log"
	"github.com/chromedp/cdproto/network"
	"github.com/chromedp/cdproto/runtime"
	"github.com/chromedp/chromedp"
)

// Page is one tab of a headless Chromium of the test's own.
type Page struct {
	t   testing.TB
	ctx context.Context

	mu       sync.Mutex
	troubles []string
	presses  int
	cut      bool // its link was cut once: what couldn't be had then is no trouble
}

// chromium is the one browser of a test program: its tests open windows in it, each with
// cookies and a store of its own.
var chromium struct {
	sync.Once
	ctx  context.Context
	stop context.CancelFunc
	err  error
}

func startChromium() {
	path := "/usr/bin/chromium-headless-shell" // the same engine without a desktop's windows: a third less to do
	if _, err := os.Stat(path); err != nil {
		path = "/usr/bin/chromium"
	}
	opts := append(chromedp.DefaultExecAllocatorOptions[:], chromedp.NoSandbox, chromedp.ExecPath(path))
	for _, name := range []string{"disable-gpu", "disable-quic", "no-first-run", "disable-background-networking", "disable-component-update", "disable-sync"} {
		opts = append(opts, chromedp.Flag(name, true))
	}
	opts = append(opts,
		// Without a graphics card each turn of a mark is painted by a core.
		chromedp.Flag("force-prefers-reduced-motion", true),
		// Moving pictures on a machine that has loopback alone.
		chromedp.Flag("allow-loopback-in-peer-connection", true),
		chromedp.Flag("disable-features", "Translate,BlinkGenPropertyTrees,WebRtcHideLocalIpsWithMdns"),
		chromedp.Flag("webrtc-ip-handling-policy", "default_public_and_private_interfaces"))
	alloc, stop := chromedp.NewExecAllocator(context.Background(), opts...)
	ctx, cancel := chromedp.NewContext(alloc)
	chromium.ctx, chromium.stop = ctx, func() { cancel(); stop() }
	chromium.err = chromedp.Do(ctx)
}

// Run runs a package's tests and ends the browser that they shared.
func Run(m *testing.M) (code int) {
	defer func() {
		if chromium.stop != nil {
			chromium.stop()
		}
	}()
	return m.Run()
}

// Browser opens a window of width × height, of a person of its own: nobody is signed in.
// Console errors, exceptions and whatever the browser itself reports (broken policies come
// that way) fail the test at its end.
func Browser(t testing.TB, width, height int64) *Page {
	t.Helper()
	chromium.Do(startChromium)
	if chromium.err != nil {
		t.Fatalf("no browser: %v", chromium.err)
	}
	ctx, cancel := chromedp.NewContext(chromium.ctx, chromedp.WithNewBrowserContext())
	p := &Page{t: t, ctx: ctx}
	t.Cleanup(func() {
		cancel()
		p.mu.Lock()
		defer p.mu.Unlock()
		for _, s := range p.troubles {
			t.Errorf("the browser says: %s", s)
		}
	})
	if err := chromedp.Listen(ctx, p.hear); err != nil {
		t.Fatal(err)
	}
	p.Do(chromedp.EmulateViewport(width, height))
	return p
}

func (p *Page) hear(ev any) {
	p.mu.Lock()
	defer p.mu.Unlock()
	switch e := ev.(type) {
	case *runtime.EventExceptionThrown:
		p.troubles = append(p.troubles, e.ExceptionDetails.Text+" "+fmt.Sprint(e.ExceptionDetails.Exception))
	case *runtime.EventConsoleAPICalled:
		if e.Type == "error" {
			p.troubles = append(p.troubles, fmt.Sprint(e.Args))
		}
	case *log.EventEntryAdded:
		// A still that a camera didn't give yet is a 404 that the page shows as such; a form
		// that is refused comes back with 422 and says why; what is asked once more, with 409.
		told := strings.Contains(e.Entry.Text, "status of 422") || strings.Contains(e.Entry.Text, "status of 409") || p.cut && strings.Contains(e.Entry.Text, "net::ERR_INTERNET_DISCONNECTED")
		if e.Entry.Level == log.EntryLevelError && !strings.Contains(e.Entry.URL, "still") && !told {
			p.troubles = append(p.troubles, e.Entry.Text+" "+e.Entry.URL)
		}
	}
}

// Do runs browser actions within 20 s.
func (p *Page) Do(actions ...chromedp.Action[chromedp.Void]) {
	p.t.Helper()
	if err := p.try(waitLimit, actions...); err != nil {
		p.Fail(err.Error())
	}
}

func (p *Page) try(limit time.Duration, actions ...chromedp.Action[chromedp.Void]) error {
	// The first run starts the browser, and a time-out there would end it.
	if err := chromedp.Do(p.ctx); err != nil {
		return err
	}
	ctx, cancel := context.WithTimeout(p.ctx, limit)
	defer cancel()
	return chromedp.Do(ctx, actions...)
}

// Fail ends the test with what the page shows.
func (p *Page) Fail(why string) {
	p.t.Helper()
	text, _ := chromedp.Run(p.ctx, chromedp.Evaluate[string]("location.pathname + '\\n' + (document.body ? document.body.innerText : 'nothing yet')"))
	if dir := os.Getenv("SHOTS_OF_FAILURES"); dir != "" {
		_ = os.WriteFile(dir+"/failed.png", p.Shot(), 0o600)
	}
	p.t.Fatalf("%s\nThe page shows:\n%s", why, text)
}

// Go opens an address. Where the page was just going elsewhere, to a form's answer perhaps, that may break it off, or
// come after it, and then the driver waits for a page that never comes: the address is opened once more, as by who
// types it again.
func (p *Page) Go(url string) {
	p.t.Helper()
	for end := time.Now().Add(waitLimit); ; {
		err := p.try(waitLimit/3, chromedp.Navigate(url))
		switch {
		case err == nil:
			return
		case time.Now().After(end), !errors.Is(err, context.DeadlineExceeded) && !strings.Contains(err.Error(), "ERR_ABORTED"):
			p.Fail(err.Error())
		}
		time.Sleep(200 * time.Millisecond)
	}
}

// Eval returns the value of an expression in the page.
func Eval[T any](p *Page, js string) T {
	p.t.Helper()
	ctx, cancel := context.WithTimeout(p.ctx, waitLimit)
	defer cancel()
	v, err := chromedp.Run(ctx, chromedp.Evaluate[T](js, chromedp.EvalAwaitPromise))
	if err != nil {
		p.Fail(js + ": " + err.Error())
	}
	return v
}

// Glance is Eval where the page may just be going elsewhere: then it is the zero value.
func Glance[T any](p *Page, js string) T {
	ctx, cancel := context.WithTimeout(p.ctx, 5*time.Second)
	defer cancel()
	v, err := chromedp.Run(ctx, chromedp.Evaluate[T](js, chromedp.EvalAwaitPromise))
	if err != nil {
		var none T
		return none
	}
	return v
}

// shows is true once the page is there as a whole and its text holds all parts, asked at each change of the page,
// and false after two seconds. Of a page that is still coming a text may be there, and what stands below it not.
const shows = `(parts) => new Promise((done) => {
	const holds = () => { if (document.readyState === "loading") return false; const t = document.body ? document.body.innerText : ""; return parts.every((s) => t.includes(s)); };
	let due = 0, watch, end;
	const settle = (says) => { document.removeEventListener("readystatechange", ask); watch.disconnect(); clearTimeout(due); clearTimeout(end); done(says); };
	const ask = () => { due = 0; if (holds()) settle(true); };
	watch = new MutationObserver(() => { due = due || setTimeout(ask, 50); });
	document.addEventListener("readystatechange", ask);
	watch.observe(document, {subtree: true, childList: true, characterData: true, attributes: true});
	end = setTimeout(() => settle(holds()), 2000);
	ask();
})`

// Sees waits until the page's text holds all parts, for as long as limit, and not less
// than waitLimit.
func (p *Page) Sees(limit time.Duration, parts ...string) {
	p.t.Helper()
	quoted, _ := json.Marshal(parts)
	limit = max(limit, waitLimit)
	for end := time.Now().Add(limit); time.Now().Before(end); {
		ctx, cancel := context.WithTimeout(p.ctx, 10*time.Second)
		all, err := chromedp.Run(ctx, chromedp.Evaluate[bool]("("+shows+")("+string(quoted)+")", chromedp.EvalAwaitPromise))
		cancel()
		if all {
			return
		}
		if err != nil { // the page is going elsewhere
			time.Sleep(50 * time.Millisecond)
		}
	}
	p.Fail(fmt.Sprintf("after %v the page doesn't show all of %q", limit, parts))
}

// Press clicks, with the mouse, the visible button or link of exactly that text,
// once it is there, enabled, and stands still. It presses once.
func (p *Page) Press(text string) {
	p.t.Helper()
	p.PressIn("body", text)
}

// aim finds what is to be pressed, brings it into view and waits until it stands still there
// for two frames; what the next click meets is kept in the window's own store, since the page
// may go elsewhere for it.
const aim = `async (within, text, nth) => {
	const el = Array.from((document.querySelector(within) || document.createElement("p")).querySelectorAll("button,a,summary"))
		.find((e) => !e.disabled && e.offsetParent !== null && ((e.innerText || "").trim() === text || e.getAttribute("aria-label") === text));
	if (!el) return null;
	el.scrollIntoView({block: "center", behavior: "instant"});
	const spot = () => { const r = Array.from(el.getClientRects()).find((r) => r.width && r.height); return r ? [r.x + r.width / 2, r.y + r.height / 2] : null; };
	const frame = () => new Promise((done) => { requestAnimationFrame(done); setTimeout(done, 300); });
	let at = spot();
	for (let i = 0; i < 20; i++) {
		await frame();
		const now = spot();
		if (now && at && now[0] === at[0] && now[1] === at[1]) break;
		at = now;
	}
	if (!at || !el.isConnected || el.disabled) return null;
	sessionStorage.setItem("pressed", "");
	document.addEventListener("click", (e) => {
		const met = e.target.closest("button,a,summary,input,select,textarea,label");
		sessionStorage.setItem("pressed", nth + (el.contains(e.target) ? " it" : met ? " not it but " + met.outerHTML.slice(0, 200) : " nothing"));
	}, {capture: true, once: true});
	return at;
}`

// PressIn is Press within the first element of a selector. A press that meets nothing, because
// the page moved under it, is made anew, as a hand does; one that meets another thing fails.
func (p *Page) PressIn(within, text string) {
	p.t.Helper()
	args, _ := json.Marshal([]string{within, text})
	p.presses++
	nth := strconv.Itoa(p.presses)
	js := "(" + aim + ")(..." + string(args) + ", '" + nth + "')"
	var last error
	for end := time.Now().Add(waitLimit); time.Now().Before(end); {
		ctx, cancel := context.WithTimeout(p.ctx, 10*time.Second)
		at, err := chromedp.Run(ctx, chromedp.Evaluate[[]float64](js, chromedp.EvalAwaitPromise))
		cancel()
		if last = err; err == nil && len(at) == 2 {
			last = p.try(10*time.Second, chromedp.MouseClickXY(at[0], at[1]))
			switch met := p.met(); {
			case met == nth+" it":
				return
			case strings.HasPrefix(met, nth+" not it"):
				p.Fail(fmt.Sprintf("the press on %q met %s", text, strings.TrimPrefix(met, nth)))
			}
		}
		time.Sleep(100 * time.Millisecond)
	}
	p.Fail(fmt.Sprintf("there is no %q to press (%v)", text, last))
}

// Presses is how often something was pressed so far.
func (p *Page) Presses() int { return p.presses }

// met is what the last press met, asked of the page, which may just be going elsewhere.
func (p *Page) met() string {
	for end := time.Now().Add(waitLimit); time.Now().Before(end); {
		ctx, cancel := context.WithTimeout(p.ctx, 10*time.Second)
		got, err := chromedp.Run(ctx, chromedp.Evaluate[string]("sessionStorage.getItem('pressed') || ''"))
		cancel()
		if err == nil {
			return got
		}
		time.Sleep(100 * time.Millisecond)
	}
	return ""
}

// Wait lets time pass on the page, for pictures.
func (p *Page) Wait(d time.Duration) {
	if os.Getenv("SHOTS") != "" {
		time.Sleep(d)
	}
}

// Type fills a field. The driver finds the field first and types then: where a live
// update exchanged it in between, it types again.
func (p *Page) Type(selector, text string) {
	p.t.Helper()
	quoted, _ := json.Marshal(selector)
	value := "(document.querySelector(" + string(quoted) + ") || {}).value || ''"
	for left := 5; ; left-- {
		before := Eval[string](p, value)
		p.Do(chromedp.SendKeys(selector, text))
		if got := Eval[string](p, value); got != before || text == "" || left == 0 {
			return
		}
	}
}

// Set gives a field a value in place of what it holds, or chooses it.
func (p *Page) Set(selector, value string) {
	p.t.Helper()
	p.Do(chromedp.SetValue(selector, value))
}

// Drag presses the left button at one spot of an element and lets go at another: spots are parts
// of its width and height from its upper left corner.
func (p *Page) Drag(selector string, x0, y0, x1, y1 float64) {
	p.t.Helper()
	quoted, _ := json.Marshal(selector)
	box := Eval[[]float64](p, "(() => { const e = document.querySelector("+string(quoted)+"); e.scrollIntoView({block: 'nearest'}); const b = e.getBoundingClientRect(); return [b.x, b.y, b.width, b.height] })()")
	at := func(kind input.DispatchMouseEventType, x, y float64) chromedp.Action[chromedp.Void] {
		return chromedp.MouseEvent(kind, box[0]+x*box[2], box[1]+y*box[3], chromedp.Button("left"))
	}
	p.Do(at(input.DispatchMouseEventTypeMousePressed, x0, y0), at(input.DispatchMouseEventTypeMouseMoved, (x0+x1)/2, (y0+y1)/2), at(input.DispatchMouseEventTypeMouseMoved, x1, y1), at(input.DispatchMouseEventTypeMouseReleased, x1, y1))
}

// Hold presses a key and keeps it down; LetUp lets it up.
func (p *Page) Hold(key string) { p.t.Helper(); p.key(input.DispatchKeyEventTypeRawKeyDown, key) }

// LetUp lets a key up that Hold pressed.
func (p *Page) LetUp(key string) { p.t.Helper(); p.key(input.DispatchKeyEventTypeKeyUp, key) }

func (p *Page) key(kind input.DispatchKeyEventType, key string) {
	p.t.Helper()
	p.Do(chromedp.Func(func(ctx context.Context, t *chromedp.Target) error {
		_, err := cdp.Call(ctx, t, input.DispatchKeyEvent, input.DispatchKeyEventParams{Type: kind, Key: key, Code: key})
		return err
	}))
}

// linkConditions is the form of the command that Chromium takes up to now, and the library calls no more.
var linkConditions = cdp.Command[linkParams, cdp.Empty]{Method: "Network.emulateNetworkConditions"}

type linkParams struct {
	Offline bool    `json:"offline"`
	Latency float64 `json:"latency"`
	Down    float64 `json:"downloadThroughput"`
	Up      float64 `json:"uploadThroughput"`
}

// Link cuts the page's link to the server, or mends it.
func (p *Page) Link(cut bool) {
	p.t.Helper()
	if cut {
		p.mu.Lock()
		p.cut = true
		p.mu.Unlock()
	}
	p.Do(chromedp.Func(func(ctx context.Context, t *chromedp.Target) error {
		if _, err := cdp.Call(ctx, t, network.Enable, network.EnableParams{}); err != nil {
			return err
		}
		_, err := cdp.Call(ctx, t, linkConditions, linkParams{Offline: cut, Down: -1, Up: -1})
		return err
	}))
}

// Shot is a PNG of the viewport.
func (p *Page) Shot() []byte {
	p.t.Helper()
	ctx, cancel := context.WithTimeout(p.ctx, 10*time.Second)
	defer cancel()
	png, err := chromedp.Run(ctx, chromedp.CaptureScreenshot())
	if err != nil {
		p.t.Fatal(err)
	}
	return png
}

// Resize changes the viewport.
func (p *Page) Resize(width, height int64) {
	p.t.Helper()
	p.Do(chromedp.EmulateViewport(width, height))
}

// Passage opens a stage by its place in the passage.
func (p *Page) Passage(slug string) {
	p.t.Helper()
	p.presses++
	p.Do(chromedp.Click(`.passage a[href$="/` + slug + `"]`))
}

// Tap presses the first element of a selector: what has no text of its own to be pressed by.
func (p *Page) Tap(selector string) {
	p.t.Helper()
	p.presses++
	quoted, _ := json.Marshal(selector)
	var at []float64
	Until(p.t, waitLimit, selector+" is there, and stands still", func() bool {
		last := at
		at = Glance[[]float64](p, "(() => { const e = document.readyState === 'complete' && document.querySelector("+string(quoted)+
			"); if (!e) return []; e.scrollIntoView({block: 'center', behavior: 'instant'}); const b = e.getBoundingClientRect(); return b.width ? [b.x + b.width / 2, b.y + b.height / 2] : [] })()")
		return len(at) == 2 && slices.Equal(at, last)
	})
	p.Do(chromedp.MouseClickXY(at[0], at[1]))
}

//go:embed axe/axe.min.js
var axe string

// Accessible runs axe-core over the page and fails with each violation it finds.
func (p *Page) Accessible(what string) {
	p.t.Helper()
	p.axe("document", what, `{resultTypes: ["violations"], preload: false}`)
}

// AccessibleIn is Accessible for the first element of a selector: what is around it, the same on every
// page, costs the most and is looked at elsewhere.
func (p *Page) AccessibleIn(within, what string) {
	p.t.Helper()
	quoted, _ := json.Marshal(within)
	p.axe(string(quoted), what, `{resultTypes: ["violations"], preload: false}`)
}

// Legible is Accessible for what another theme or another width may change: contrast and
// the size of what is pressed.
func (p *Page) Legible(what string) { p.LegibleIn("html", what) }

// LegibleIn is Legible for the first element of a selector.
func (p *Page) LegibleIn(within, what string) {
	p.t.Helper()
	quoted, _ := json.Marshal(within)
	p.axe(string(quoted), what, `{resultTypes: ["violations"], preload: false, runOnly: {type: "rule", values: ["color-contrast", "target-size"]}}`)
}

// None of its rules that are on by themselves needs style sheets fetched anew (preload).
func (p *Page) axe(within, what, how string) {
	p.t.Helper()
	ctx, cancel := context.WithTimeout(p.ctx, 60*time.Second)
	defer cancel()
	if _, err := chromedp.Run(ctx, chromedp.Evaluate[bool]("(() => {if (!window.axe) {"+axe+"}\nreturn true})()")); err != nil {
		p.t.Fatalf("axe-core can't be loaded: %v", err)
	}
	found, err := chromedp.Run(ctx, chromedp.Evaluate[string](`axe.run(`+within+`, `+how+`).then(r => r.violations.map(v => v.id + ": " + v.help + " (" + v.nodes.length + ")\n" + v.nodes.slice(0, 3).map(n => "    " + n.html.slice(0, 220) + "\n      " + n.failureSummary.replace(/\n/g, " ").slice(0, 260)).join("\n")).join("\n"))`, chromedp.EvalAwaitPromise))
	if err != nil {
		p.t.Fatalf("%s: axe-core: %v", what, err)
	}
	if found != "" {
		p.t.Errorf("%s:\n%s", what, found)
	}
}

// Theme turns the page to "light" or "dark".
func (p *Page) Theme(theme string) {
	p.t.Helper()
	Eval[bool](p, "document.documentElement.setAttribute('data-bs-theme', '"+theme+"'); true")
}

// Keys presses keys one after the other, as a person at the keyboard does, once the
// page is there with its script.
func (p *Page) Keys(keys ...string) {
	p.t.Helper()
	for _, k := range keys {
		Until(p.t, 10*time.Second, "the page is there", func() bool {
			ctx, cancel := context.WithTimeout(p.ctx, 5*time.Second)
			defer cancel()
			ready, err := chromedp.Run(ctx, chromedp.Evaluate[bool]("document.readyState === 'complete'"))
			return err == nil && ready
		})
		p.Do(chromedp.KeyEvent(k))
	}
}
