package web_test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"duskyharbor/internal/app"
	"duskyharbor/internal/demo"
	"duskyharbor/internal/testbed"
)

// moving is a server that shows moving pictures: other tests' servers show stills, which cost less.
var moving = app.Options{Live: "127.0.0.1:0"}

// frames is how many pictures of a moving one a page has shown; −1 where none moves.
const frames = `(() => { const v = document.querySelector('figure[data-moving] video');
	return v && !v.hidden && !v.paused ? v.getVideoPlaybackQuality().totalVideoFrames : -1 })()`

// Two people look at one camera on two servers of one site: its picture moves for both, and the
// camera plays it once, beside what its recorder takes; when both have left it isn't played any
// more. Where one server ends, the other takes the picture up.
func TestAPictureMovesForTwoOnTwoServers(t *testing.T) {
	t.Parallel()
	h := serveWith(t, testbed.StartOnly(t, "Slipway", "Terminal recorder"), moving)
	other := serveWith(t, h.Harbour, moving)
	cam := h.Fleet.Camera("Slipway")
	p, q := testbed.Browser(t, 1280, 800), testbed.Browser(t, 1280, 800)
	h.signIn(p, demo.Lead, h.Secrets.Lead)
	h.ready("find", "sign-in", "streams")
	testbed.Until(t, 10*time.Second, "nothing plays it", func() bool { return cam.Sessions() == 0 })

	moves := func(p *testbed.Page) {
		t.Helper()
		first, began := -1, time.Now()
		end := began.Add(60 * time.Second)
		for now := -1; first < 0 || now < first+15; now = testbed.Glance[int](p, frames) {
			if first < 0 && now > 0 {
				first = now
				t.Logf("first picture %.1f s after the page was asked for", time.Since(began).Seconds())
			}
			if time.Now().After(end) {
				p.Fail(fmt.Sprintf("it doesn't move: %d frames, %d", first, now))
			}
			time.Sleep(50 * time.Millisecond)
		}
		p.Sees(5*time.Second, "Slipway: moving, as the camera sends it.")
	}
	h.on(p, "streams")
	moves(p)
	other.signIn(q, "anselm", h.Secrets.Tech)
	q.Sees(30*time.Second, "Gannet Point Ferry Terminal")
	other.on(q, "streams")
	moves(q)
	moves(p)
	if n := cam.Sessions(); n != 1 {
		t.Errorf("two look, and the camera plays %d streams", n)
	}
	if n := count(h, `select count(*) from live_reader`); n != 1 {
		t.Errorf("%d servers read it", n)
	}
	if w := cam.Wrongs(); w != 0 {
		t.Errorf("%d wrong passwords", w)
	}

	// The first server's relay ends: the page there tells so, the other's takes it up.
	h.app.Live.Close()
	testbed.Until(t, 2*time.Minute, "it moves again", func() bool {
		return count(h, `select count(*) from live_reader`) == 1 && testbed.Glance[int](q, frames) > 20 && cam.Sessions() == 1
	})
	moves(q)
	q.Go("about:blank")
	p.Go("about:blank")
	testbed.Until(t, 60*time.Second, "nobody looks, and nothing plays it", func() bool {
		return cam.Sessions() == 0 && count(h, `select count(*) from live_reader`) == 0
	})
}

// What no browser shows moving is said, and its still stays; who may only look is shown neither.
func TestAPictureThatCannotMove(t *testing.T) {
	t.Parallel()
	h := serveWith(t, testbed.StartOnly(t, "Ice plant", "Quay recorder", "Terminal recorder"), moving)
	p := testbed.Browser(t, 1280, 800)
	h.signIn(p, demo.Lead, h.Secrets.Lead)
	h.ready("find", "sign-in", "streams")
	h.on(p, "streams")
	p.Sees(20*time.Second, "none of its streams is H.264 or JPEG, which browsers show moving", "H.265 1280 × 720")
	testbed.Until(t, 20*time.Second, "its still is there", func() bool {
		return testbed.Glance[bool](p, "document.querySelector('figure.still img').naturalWidth > 0 && !document.querySelector('figure.still img').missing")
	})
	// A page that asks all the same is told in words.
	says := testbed.Eval[string](p, fmt.Sprintf(`(async () => { const f = document.querySelector('figure.still');
		const res = await fetch(f.dataset.at + '/watching', {method: 'POST', headers: {'X-CSRF-Token': f.dataset.csrf},
		body: new URLSearchParams({source: %d, offer: 'v=0'})}); return (await res.json()).trouble })()`, h.number("Ice plant")))
	if says != "None of its streams is H.264 or JPEG, which browsers show moving; its still is fetched again and again." {
		t.Errorf("%q", says)
	}
	// Its recorder takes H.264 and its encoder knows H.265 alone: another recorder is the way out.
	h.sheet(p, "streams", "Ice plant")
	p.Sees(20*time.Second, "It sends H.265, and Quay recorder takes H.264 only.", "its encoder knows H.265 only", "Plan it for a recorder that takes it: Terminal recorder.")
	p.Press("Plan it for Terminal recorder")
	p.Sees(20*time.Second, "1 view planned for Terminal recorder.", "Nobody accepted its picture by day, nor by night")
	if n := count(h, `select count(*) from source s join device r on r.id = s.recorder_id where s.name = 'Ice plant' and r.place = 'Terminal recorder'`); n != 1 {
		t.Error("it isn't planned there")
	}
}

// A camera that speaks RTSP alone goes the whole way by its stream's address, typed at Find: it is
// played, seen moving, and accepted by what moves, for it has no still.
func TestACameraOfRTSPAloneIsAcceptedByWhatMoves(t *testing.T) {
	t.Parallel()
	h := serveWith(t, testbed.StartOnly(t, "Lifeboat house", "Terminal recorder"), moving)
	cam := h.Fleet.Camera("Lifeboat house")
	p := testbed.Browser(t, 1280, 800)
	h.signIn(p, demo.Lead, h.Secrets.Lead)
	p.Sees(30*time.Second, "Nothing was looked for yet")
	h.on(p, "find")
	p.Type("#also-at", fmt.Sprintf("rtsp://%s:8554/main", cam.At()))
	h.run(p, "body", "Look there")
	h.on(p, "sign-in")
	h.run(p, "body", "Sign in to 1 camera")
	h.on(p, "streams")
	h.run(p, "body", "Read and play 1 camera")
	h.sheet(p, "streams", "Lifeboat house")
	p.Sees(30*time.Second, "/main sends", "H.264 1280 × 720", "not accepted yet")
	p.PressIn(".sheet", "Accept what moves, by day")
	p.Sees(30*time.Second, "The picture of Lifeboat house by day is accepted as it is now.", "accepted by Maren Ostby")
	testbed.Until(t, 20*time.Second, "the accepted picture is there, as wide as it is", func() bool {
		return testbed.Glance[int](p, "(document.querySelector('.pair img') || {}).naturalWidth || 0") == 1280
	})
	p.PressIn(".sheet", "Accept what moves, by night")
	p.Sees(30*time.Second, "Its picture is one by day now: it can't be accepted as one by night.")
	testbed.Until(t, 30*time.Second, "the form by which it is accepted is there", func() bool {
		return testbed.Glance[bool](p, "!!document.querySelector('[data-grab]')")
	})
	says := testbed.Eval[string](p, `(async () => { const f = new FormData(document.querySelector('[data-grab]')); f.set('picture', new Blob(['<svg/>'], {type: 'image/jpeg'}), 'p.jpg');
		const res = await fetch(document.querySelector('[data-grab]').action, {method: 'POST', body: f}); return await res.text() })()`)
	if !strings.Contains(says, "What the browser sent is no picture") {
		t.Errorf("what is no picture: %.300s", says)
	}
}

// A view that is sent as JPEG moves too, picture by picture; two who look cost the camera one session.
func TestAPictureOfJPEGMoves(t *testing.T) {
	t.Parallel()
	h := serveWith(t, testbed.StartOnly(t, "Weather deck stair", "Terminal recorder"), moving)
	cam := h.Fleet.Camera("Weather deck stair")
	p, q := testbed.Browser(t, 1280, 800), testbed.Browser(t, 1280, 800)
	h.signIn(p, demo.Lead, h.Secrets.Lead)
	h.ready("find", "sign-in", "streams")
	h.on(p, "streams")
	p.Press("Set encoders alike")
	p.Set("#encoders-codec", "JPEG")
	h.click(p, ".encoders button")
	h.signIn(q, "anselm", h.Secrets.Tech)
	q.Sees(30*time.Second, "Gannet Point Ferry Terminal")
	const shown = `(() => { const c = document.querySelector('figure[data-moving] canvas'); return c && !c.hidden ? Number(c.dataset.shown) : -1 })()`
	for _, page := range []*testbed.Page{p, q} {
		h.on(page, "streams")
		testbed.Until(t, 60*time.Second, "it moves", func() bool { return testbed.Glance[int](page, shown) > 8 })
		page.Sees(5*time.Second, "Weather deck stair: moving, picture by picture, as the camera sends it.", "JPEG 640 × 360")
	}
	if n := cam.Sessions(); n != 1 {
		t.Errorf("two look, and the camera plays %d streams", n)
	}
	if bright := testbed.Eval[float64](q, `(() => { const c = document.querySelector('figure[data-moving] canvas');
		const p = c.getContext('2d').getImageData(0, 0, c.width, c.height).data; let low = 255, high = 0;
		for (let i = 0; i < p.length; i += 4) { low = Math.min(low, p[i]); high = Math.max(high, p[i]) } return high - low })()`); bright < 80 {
		t.Errorf("it shows next to nothing: %.0f", bright)
	}
	p.Go("about:blank")
	q.Go("about:blank")
	testbed.Until(t, 60*time.Second, "nobody looks, and nothing plays it", func() bool { return cam.Sessions() == 0 })
}

// A tone that a browser sends comes out of the camera's speaker; without consent the sound is
// off, said, and refused to a page that asks all the same.
func TestATonePlaysThroughTheCamera(t *testing.T) {
	t.Parallel()
	h := serveWith(t, testbed.StartOnly(t, "Net loft", "Quay recorder"), moving)
	cam := h.Fleet.Camera("Net loft")
	p := testbed.Browser(t, 1280, 800)
	h.signIn(p, demo.Lead, h.Secrets.Lead)
	h.ready("find", "sign-in", "streams")
	h.sheet(p, "streams", "Net loft")
	p.Sees(20*time.Second, "Main sends sound (AAC), and no consent to record sound here is on record.", "Talkback of Quay recorder wants G.711 µ-law, and this sends AAC.",
		"Sound is off here: no consent to record sound is on record.", "Talkback through Net loft's speaker, G.711 µ-law.")
	asked := testbed.Eval[string](p, `(async () => { const b = document.getElementById('talk');
		const res = await fetch(b.dataset.at + '/talking', {method: 'POST', headers: {'X-CSRF-Token': b.dataset.csrf},
		body: new URLSearchParams({source: b.dataset.source, offer: 'v=0'})}); return (await res.json()).trouble })()`)
	if asked != "Sound is off here: no consent to record sound is on record." || cam.Heard().Seconds > 0 {
		t.Errorf("%q, it heard %+v", asked, cam.Heard())
	}
	p.Press("Write this consent down")
	p.Sees(20*time.Second, "Say on what it rests")
	p.Type("#consent-text", "Letter of the net makers, 12 May, folder 3")
	p.Press("Write this consent down")
	p.Sees(20*time.Second, "Consent to record sound: Letter of the net makers, 12 May, folder 3", "Maren Ostby")
	h.run(p, ".sheet", "Set the streams of Net loft")
	h.sheet(p, "streams", "Net loft")
	p.Sees(30*time.Second, "Nobody accepted its picture by day, nor by night", "G.711 µ-law, 64 kbit/s, level 2")
	p.Press("Send a test tone")
	p.Sees(20*time.Second, "The test tone was sent.")
	testbed.Until(t, 10*time.Second, "the tone comes out of the speaker", func() bool {
		said := cam.Heard()
		return said.Codec == "PCMU" && said.Seconds > 1 && said.Hz > 430 && said.Hz < 450 && said.Level > 0.1
	})
	testbed.Until(t, 10*time.Second, "the way to the speaker is closed", func() bool { return cam.Sessions() <= 1 })
	if n := count(h, `select count(*) from audit where act = 'talked through a speaker' and detail = 'Net loft'`); n != 1 {
		t.Errorf("%d lines of the log tell of it", n)
	}
	// Its own sound is heard, and its level moves.
	p.Press("Listen")
	testbed.Until(t, 20*time.Second, "its sound is heard", func() bool {
		level := testbed.Glance[float64](p, "document.querySelector('#listen meter').value")
		return level > -40 && level < -10
	})
	if n := cam.Sessions(); n < 1 {
		t.Error("its sound is heard, and it plays nothing")
	}
	p.Press("Stop listening")
	testbed.Until(t, 10*time.Second, "nobody listens", func() bool { return cam.Sessions() <= 1 })
	if n := count(h, `select count(*) from audit where act = 'listened to a camera' and detail = 'Net loft'`); n != 1 {
		t.Errorf("%d lines of the log tell of it", n)
	}
	p.Press("Strike this consent out")
	p.Sees(20*time.Second, "No sound may be recorded at Net loft any more", "Sound is off here: no consent to record sound is on record.")
	asked = testbed.Eval[string](p, `(async () => { const b = document.getElementById('talk');
		const res = await fetch(b.dataset.at + '/listening', {method: 'POST', headers: {'X-CSRF-Token': b.dataset.csrf},
		body: new URLSearchParams({source: b.dataset.source, offer: 'v=0'})}); return (await res.json()).trouble })()`)
	if asked != "Sound is off here: no consent to record sound is on record." {
		t.Errorf("listening without consent: %q", asked)
	}
	if w := cam.Wrongs(); w != 0 {
		t.Errorf("%d wrong passwords", w)
	}
}
