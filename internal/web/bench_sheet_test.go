package web_test

import (
	"encoding/json"
	"fmt"
	"html"
	"io"
	"net/http"
	"net/url"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/icholy/digest"

	"duskyharbor/internal/standin/recorder"
	"duskyharbor/internal/testbed"
)

// A recorder that has no way in but its own screen is set up by its bench sheet: what stands there is
// typed into that screen, ticked, and then the camera's picture is seen from outside. A tick without
// typing is told as not seen.
func TestABenchSheetIsFollowed(t *testing.T) {
	t.Parallel()
	h := serveOn(t, testbed.StartOnly(t, "Slipway", "Crew mess", "Store recorder"), nil)
	a := whole(t, h)
	h.ready("find", "sign-in", "streams")
	store, slip, mess := a.recorder("Store recorder"), a.camera("Slipway"), a.camera("Crew mess")
	a.keeps("cameras/plan", args{"cameras": []any{slip, mess}, "recorder_id": store})
	face := "channels?recorder=" + string(store)
	h.says(face, "It has no interface? Set it up by a bench sheet")
	refused := func(name string, given args) string {
		t.Helper()
		return fmt.Sprint(a.do("POST", a.site+"/acts/channels/"+name, jsonNumber(given), http.StatusUnprocessableEntity)["error"])
	}
	screen := args{"recorder_id": store, "channels": 4, "port": recorder.ScreenPort, "picture": "picture", "codecs": []string{"H264"}}
	if says := refused("bench", screen); !strings.Contains(says, "is a path with {n} for the channel") {
		t.Errorf("it says %q", says)
	}
	screen["picture"] = "/picture/{n}"
	a.keeps("channels/bench", screen)
	h.says(face, "Bench sheet of Store recorder", "Open channel", "IP 4", "Typed in: Slipway", "Typed in: Crew mess")
	sheet := h.benchSheet(face, "Slipway") // page, channel, name, address, port, user, profile
	if len(sheet) != 7 || sheet[2] != "Slipway" {
		t.Fatalf("the sheet says %q", sheet)
	}
	// A person types it into the recorder's own screen.
	h.typesIn(sheet)
	said := a.keeps("channels/tick", args{"recorder_id": store, "camera_id": slip, "channel": json.Number(sheet[1])})["says"]
	if !strings.Contains(fmt.Sprint(said), "Ticked. Whether channel") {
		t.Errorf("it says %q", said)
	}
	number := sheet[1]
	a.holds("Store recorder", number+" Slipway receiving")
	h.says("channels?sheet="+string(slip), "alike), seen from outside")
	// The other is ticked, and nobody typed it in.
	second := h.benchSheet(face, "Crew mess")[1]
	a.keeps("channels/tick", args{"recorder_id": store, "camera_id": mess, "channel": json.Number(second)})
	a.holds("Store recorder", number+" Slipway receiving, "+second+" Crew mess lost")
	h.says(face, "Not there any more")
	a.keeps("channels/untick", args{"recorder_id": store, "channel": json.Number(second)})
	a.holds("Store recorder", number+" Slipway receiving")
	// What an old one holds is typed in as a table: a line that can't be is named.
	table := func(text string) args { return args{"recorder_id": store, "table": text} }
	at, nobody := h.Net.At(".1.11").String(), h.Net.At(".1.99").String()
	if says := refused("typed", table("4; Old slip; "+nobody)); says != "Line 1: no camera of this site is at "+nobody+". Look for it on Find first." {
		t.Errorf("it says %q", says)
	}
	if says := refused("typed", table("9; Old slip; "+at)); says != "Line 1: Store recorder has channels 1 to 4." {
		t.Errorf("it says %q", says)
	}
	if says := a.keeps("channels/typed", table("4; Old slip; "+at))["says"]; says != "Kept: 1 channel of Store recorder. Another recorder can take over from it." {
		t.Errorf("it says %q", says)
	}
	testbed.Until(t, 30*time.Second, "the typed channel is known by its name there", func() bool {
		h.ready("channels")
		return strings.Contains(a.slots("Store recorder"), "4 Old slip ")
	})
}

var (
	benchForm = regexp.MustCompile(`(?s)data-bench="([^"]+)".*?</form>`)
	benchStep = regexp.MustCompile(`data-copied>([^<]*)<`)
)

// benchSheet lists what is to be typed for a camera, as its bench sheet has it.
func (h *harbour) benchSheet(face, camera string) (steps []string) {
	h.t.Helper()
	h.text(face)
	_, source := h.lead.get("/sites/" + h.site + "/" + face)
	for _, form := range benchForm.FindAllStringSubmatch(source, -1) {
		if form[1] == camera {
			for _, step := range benchStep.FindAllStringSubmatch(form[0], -1) {
				steps = append(steps, html.UnescapeString(step[1]))
			}
		}
	}
	return steps
}

// typesIn types a bench sheet into the store recorder's own screen, as a person does.
func (h *harbour) typesIn(sheet []string) {
	t := h.t
	t.Helper()
	typed := url.Values{"number": sheet[1:2], "name": sheet[2:3], "address": sheet[3:4], "port": sheet[4:5], "user": sheet[5:6], "password": {h.Secrets.House}, "profile": sheet[6:7]}
	req, err := http.NewRequest(http.MethodPost, fmt.Sprintf("http://%s:%d/setup", h.Net.At(".2.6"), recorder.ScreenPort), strings.NewReader(typed.Encode()))
	if err != nil {
		t.Fatal(err)
	}
	req.Header.Set("Content-Type", "application/x-www-form-urlencoded")
	res, err := (&http.Client{Timeout: 20 * time.Second, Transport: &digest.Transport{Username: "install", Password: h.Secrets.Store}}).Do(req)
	if err != nil {
		t.Fatal(err)
	}
	defer res.Body.Close()
	if answer, _ := io.ReadAll(res.Body); !strings.Contains(string(answer), "Channel "+sheet[1]+" is saved: receiving.") {
		t.Fatalf("its screen says %s", answer)
	}
}
