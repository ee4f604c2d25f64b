package web_test

import (
	"fmt"
	"testing"
	"time"

	"duskyharbor/internal/core/picture"
	"duskyharbor/internal/demo"
	"duskyharbor/internal/facts"
	"duskyharbor/internal/testbed"
)

// lumaAt is how bright the moving picture is at a spot, in parts of its sides; −1 where none moves.
const lumaAt = `((x, y) => { const v = document.querySelector('figure[data-moving] video');
	if (!v || v.hidden || v.paused || !v.videoWidth) return -1;
	const c = document.createElement('canvas'); c.width = v.videoWidth; c.height = v.videoHeight;
	const g = c.getContext('2d'); g.drawImage(v, 0, 0);
	const p = g.getImageData(x * c.width, y * c.height, 1, 1).data; return (p[0] + p[1] + p[2]) / 3 })`

// What lies over a view, how its picture is taken and where it looks is read, shown, set and undone
// by buttons, and seen in the moving picture.
func TestAViewsPictureIsSetByButtons(t *testing.T) {
	t.Parallel()
	h := serveWith(t, testbed.StartOnly(t, "Ticket hall", "Terminal recorder"), moving)
	p := testbed.Browser(t, 1280, 800)
	h.signIn(p, demo.Lead, h.Secrets.Lead)
	h.ready("find", "sign-in", "sign-in!", "streams")
	open := func(part string) {
		t.Helper()
		h.sheet(p, "streams", "Ticket hall")
		testbed.Until(t, 20*time.Second, part+" is there", func() bool {
			return testbed.Glance[bool](p, fmt.Sprintf("(() => { const d = [...document.querySelectorAll('.sheet details')].find(d => d.innerText.trim().startsWith(%q)); if (d) d.open = true; return !!d })()", part))
		})
	}
	setup := func() picture.Setup {
		t.Helper()
		v := h.snapshot(t, h.Site)
		for _, of := range v.Sources {
			if s, _ := facts.ForPicture(v, of); s != nil {
				return *s
			}
		}
		t.Fatal("how its picture is made isn't known")
		return picture.Setup{}
	}

	// Each axis is nudged, seen to move and put back.
	open("Where it looks")
	p.Sees(20*time.Second, "It goes pan −1.00 to 1.00, tilt −0.60 to 0.60, zoom 0.00 to 1.00", "nobody tried that from here")
	h.run(p, ".sheet", "Nudge each axis and put it back")
	open("Where it looks")
	p.Sees(20*time.Second, "pan moved and came back, tilt moved and came back, zoom moved and came back")

	// A preset: saved, called from elsewhere, forgotten.
	p.Type("#preset-name", "Desk")
	h.run(p, ".sheet", "Save")
	open("Where it looks")
	p.Set("#aim-pan", "0,4")
	p.Set("#aim-zoom", "0.3")
	h.run(p, ".sheet", "Send it there")
	if at := setup().PTZ.At; at == nil || !at.Near(picture.Aim{Pan: 0.4, Zoom: 0.3}) {
		t.Errorf("it looks at %v", at)
	}
	open("Where it looks")
	p.Set("#aim-pan", "7")
	p.PressIn(".sheet", "Send it there")
	p.Sees(20*time.Second, "Its pan goes from −1.00 to 1.00.")
	open("Where it looks")
	h.run(p, ".sheet", "Call it")
	if at := setup().PTZ.At; at == nil || !at.Near(picture.Aim{}) {
		t.Errorf("called to Desk it looks at %v", at)
	}
	open("Where it looks")
	h.run(p, ".sheet", "Forget it")
	if n := len(setup().PTZ.Presets); n != 0 {
		t.Errorf("%d presets are left", n)
	}

	// A mask drawn on the picture covers it there and nowhere else, also while it moves.
	luma := func(says string, ok func(in, beside float64) bool) {
		t.Helper()
		testbed.Until(t, 40*time.Second, says, func() bool {
			return ok(testbed.Glance[float64](p, lumaAt+"(0.3, 0.2)"), testbed.Glance[float64](p, lumaAt+"(0.95, 0.2)"))
		})
	}
	open("Privacy masks")
	luma("it moves", func(in, _ float64) bool { return in > 100 })
	p.Drag("figure.still svg.marks", 0.2, 0.1, 0.4, 0.3)
	h.run(p, ".sheet", "Show the change")
	open("Privacy masks")
	p.Sees(20*time.Second, "20–40 % across, 10–30 % down")
	luma("the mask is in the moving picture", func(in, beside float64) bool { return in >= 0 && in < 40 && beside > 100 })
	h.run(p, ".sheet", "Take this mask away")
	h.sheet(p, "streams", "Ticket hall")
	luma("the mask is gone", func(in, _ float64) bool { return in > 100 })

	// Two marks of known size: drawn, and typed by who has no pointer.
	h.on(p, "streams")
	p.Press("Mark sizes on the picture")
	draws := "document.querySelector('figure.still').classList.contains('drawing')"
	testbed.Until(t, 20*time.Second, "the picture takes marks", func() bool { return testbed.Glance[bool](p, draws) })
	p.Drag("figure.still svg.marks", 0.5, 0.9, 0.5, 0.5)
	p.Drag("figure.still svg.marks", 0.3, 0.6, 0.3, 0.4)
	testbed.Until(t, 20*time.Second, "both marks are drawn", func() bool {
		return testbed.Glance[bool](p, "!!document.querySelector('#mark-0').value && !!document.querySelector('#mark-1').value")
	})
	p.Press("Keep these marks")
	p.Sees(20*time.Second, "At its lower edge", "pixels per metre", "EN 62676-4:2015")
	p.Press("Mark sizes anew")
	p.Press("Keep these marks")
	p.Sees(20*time.Second, "Draw both marks on the picture, or type the ends of each")
	h.on(p, "streams")
	p.Press("Mark sizes anew")
	p.Set("#mark-0", "50 95, 50 45")
	p.Set("#mark-1", "30 60, 30 40")
	p.Press("Keep these marks")
	p.Sees(20*time.Second, "At its lower edge 217 pixels per metre")

	// Day and night, and the name in the picture, undone from the log of its changes.
	open("Exposure, day and night, focus")
	p.Set("#imaging-0", "OFF")
	h.run(p, ".sheet form:has(#imaging-0)", "Show the change")
	h.sheet(p, "streams", "Ticket hall")
	p.Sees(20*time.Second, "day and night as by night", "Its infrared filter stays out by day")
	open("Text burned in")
	p.Set("#text-name-sheet", "place")
	h.run(p, ".sheet", "Show the change")
	h.sheet(p, "streams", "Ticket hall")
	p.Sees(20*time.Second, "“Ticket hall” upper right; dd/MM/yyyy HH:mm:ss upper left")
	if got := setup(); got.Texts.State(picture.Name) != "“Ticket hall” upper right" || got.Imaging.DayNight != "OFF" {
		t.Errorf("%+v", got)
	}
	p.AccessibleIn(".sheet", "streams with a view's settings")

	// The recorder burns the name in too: once is enough.
	h.Fleet.Recorders[0].Burn("name")
	h.on(p, "channels")
	h.click(p, "#read button")
	h.sheet(p, "streams", "Ticket hall")
	p.Sees(20*time.Second, "The name stands in its picture twice: the camera burns it in, and so does Terminal recorder.")
	h.run(p, ".sheet", "Set the streams of Ticket hall")
	h.sheet(p, "streams", "Ticket hall")
	p.Sees(20*time.Second, "no name; dd/MM/yyyy HH:mm:ss upper left")
}
