package web_test

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"reflect"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"duskyharbor/internal/core/fact"
	"duskyharbor/internal/demo"
	"duskyharbor/internal/standin/camera"
	"duskyharbor/internal/standin/recorder"
	"duskyharbor/internal/testbed"
)

// Every act is asked for by a program with arguments as its description has them, on a harbour where it can be done:
// it is, and what it changes is read back.
func TestEveryActIsAskedForByAProgram(t *testing.T) {
	t.Parallel()
	var mu sync.Mutex
	var asked, all []string
	left := 0 // groups that were left out, by who names some to go test
	t.Run("of", func(t *testing.T) {
		for name, of := range map[string]struct {
			devices []string // none: all
			ask     func(*harbour, *acts)
		}{
			"a site":      {[]string{"Slipway", "Terminal recorder"}, askSite},
			"finding":     {nil, askFind},
			"a picture":   {[]string{"Slipway", "Ticket hall", "Net loft", "Lifeboat house", "Terminal recorder"}, askStreams},
			"a hybrid":    {[]string{"Net loft", "Fuel jetty", "Freight scale", "Quay recorder"}, askHybrid},
			"channels":    {[]string{"Slipway", "Crew mess", "Terminal recorder", "Store recorder", "Harbour desk"}, askChannels},
			"keeping":     {[]string{"Slipway", "Terminal recorder"}, askRecording},
			"analysers":   {[]string{"Crew mess", "Slipway", "Analyser 1", "Analyser 2"}, askAnalysers},
			"rules":       {[]string{"Slipway", "Bonded store", "Terminal recorder"}, askRules},
			"the account": {[]string{"Slipway", "Bonded store", "Terminal recorder"}, askSignIn},
		} {
			left++
			t.Run(name, func(t *testing.T) {
				left--
				t.Parallel()
				b := testbed.StartWhole
				if of.devices != nil {
					b = func(t testing.TB) *testbed.Harbour { return testbed.StartOnly(t, of.devices...) }
				}
				h := serveOn(t, b(t), nil)
				a := whole(t, h)
				of.ask(h, a)
				mu.Lock()
				defer mu.Unlock()
				asked = append(asked, a.asked...)
				if all == nil {
					for _, x := range a.all("acts", "acts") {
						all = append(all, x["name"].(string))
					}
				}
			})
		}
	})
	for _, name := range all {
		if left == 0 && !slices.ContainsFunc(asked, func(is string) bool { return isAct(name, is) }) {
			t.Errorf("%s is asked for nowhere", name)
		}
	}
}

// isAct says whether what was asked for is an act of a name, whose arguments in the path are any number.
func isAct(name, asked string) bool {
	parts, is := strings.Split(name, "/"), strings.Split(asked, "/")
	if len(parts) != len(is) {
		return false
	}
	for i, part := range parts {
		if part != is[i] && !strings.HasPrefix(part, ":") {
			return false
		}
	}
	return true
}

// the is the one of a reading's list whose field says that.
func (a *acts) the(path, list, field string, is any) map[string]any {
	a.t.Helper()
	all := a.all(path, list)
	i := slices.IndexFunc(all, func(x map[string]any) bool { return fmt.Sprint(x[field]) == fmt.Sprint(is) })
	if i < 0 {
		a.t.Fatalf("no %s of %s is %v: %v", field, path, is, all)
	}
	return all[i]
}

// sure asks for what is asked once more, and means it.
func (a *acts) sure(name string, args any) map[string]any {
	a.t.Helper()
	if asks := a.do("POST", a.site+"/acts/"+name, jsonNumber(args), http.StatusConflict); asks["asks"] == nil {
		a.t.Errorf("%s: %v", name, asks)
	}
	a.asked = append(a.asked, name)
	return a.do("POST", a.site+"/acts/"+name+"?sure=1", jsonNumber(args), http.StatusOK)
}

func (a *acts) id(path, list, field string, is any) json.Number {
	a.t.Helper()
	return json.Number(jsonNumber(a.the(path, list, field, is)["id"]))
}

func (a *acts) camera(place string) json.Number { return a.id("cameras", "cameras", "place", place) }

func (a *acts) recorder(place string) json.Number {
	return a.id("recorders", "recorders", "place", place)
}

// slots words the channels of a recorder as programs read them.
func (a *acts) slots(place string) string {
	var out []string
	channels, _ := a.the("recorders", "recorders", "place", place)["channels"].([]any)
	for _, c := range channels {
		c := c.(map[string]any)
		out = append(out, fmt.Sprint(c["number"], " ", c["name"], " ", c["state"]))
	}
	return strings.Join(out, ", ")
}

func (a *acts) holds(place, slots string) {
	a.t.Helper()
	testbed.Until(a.t, 60*time.Second, place+" holds "+slots, func() bool {
		a.ends(a.do("POST", a.site+"/runs", `{"stage": "channels"}`, http.StatusAccepted))
		return a.slots(place) == slots
	})
}

func askSite(h *harbour, a *acts) {
	n := a.keeps("settings/network", args{"name": "Pier", "prefix": "127.9.1.0/24", "ports": "81"})["id"]
	a.keeps(fmt.Sprintf("settings/network/%v", n), args{"name": "Pier head", "prefix": "127.9.1.0/24", "gateway": "127.9.1.1"})
	if x := a.the("networks", "networks", "name", "Pier head"); x["gateway"] != "127.9.1.1" || x["ports"] != nil {
		h.t.Errorf("a network given anew is %v", x)
	}
	a.keeps(fmt.Sprintf("settings/network/%v/remove", n), nil)
	set := a.keeps("settings/set", args{"name": "Pier", "username": "gull", "password": "sea wall 9"})["id"]
	a.keeps(fmt.Sprintf("settings/set/%v", set), args{"name": "Pier cameras", "username": "gull", "make": "Ottervale"})
	if x := a.the("sets", "sets", "name", "Pier cameras"); x["make"] != "Ottervale" {
		h.t.Errorf("%v", x)
	}
	rec := a.keeps("settings/recorder", args{"place": "Pier recorder", "address": h.Net.At(".2.77").String()})["id"]
	a.keeps(fmt.Sprintf("settings/recorder/%v", rec), args{"place": "Pier head recorder", "set_id": set, "note": "in the hut"})
	if x := a.the("recorders", "recorders", "place", "Pier head recorder"); fmt.Sprint(x["set_id"]) != fmt.Sprint(set) {
		h.t.Errorf("%v", x)
	}
	a.sure(fmt.Sprintf("settings/recorder/%v/remove", rec), nil)
	a.keeps(fmt.Sprintf("settings/set/%v/remove", set), nil)
	sys := a.keeps("settings/system", args{"name": "Tower", "kind": "station", "address": h.Net.At(".2.200").String()})["id"]
	a.keeps(fmt.Sprintf("settings/system/%v", sys), args{"name": "Tower clock", "kind": "time", "address": h.Net.At(".2.200").String()})
	if x := a.the("systems", "systems", "name", "Tower clock"); x["kind"] != "time" {
		h.t.Errorf("%v", x)
	}
	a.keeps(fmt.Sprintf("settings/system/%v/remove", sys), nil)
	a.keeps("settings/wishes", args{"look_every": 60, "time_source": "recorder", "at_once_network": 8, "at_once_recorder": 4})
	a.keeps("settings/least", args{"make": "Ottervale", "least": "4.0"})
	a.keeps("expected/row", args{"place": "Pier", "address": h.Net.At(".1.90").String(), "make": "Ottervale"})
	if x := a.the("expected", "rows", "place", "Pier"); x["address"] != h.Net.At(".1.90").String() {
		h.t.Errorf("%v", x)
	}
	row := a.id("expected", "rows", "place", "Pier")
	a.keeps(fmt.Sprintf("expected/row/%v", row), args{"place": "Pier end", "address": h.Net.At(".1.91").String()})
	a.keeps(fmt.Sprintf("expected/row/%v/remove", row), nil)
	a.keeps("expected/lines", args{"csv": "place,address\nPier foot," + h.Net.At(".1.92").String() + "\n"})
	says := a.keeps("expected/lines", args{"csv": "a,b\n" + h.Net.At(".1.93").String() + ",Pier head\nnowhere,Pier rail\n",
		"columns": args{"address": "0", "place": "1"}, "leave_out": true})
	if x := a.the("expected", "rows", "place", "Pier head"); x["address"] != h.Net.At(".1.93").String() || says["says"] != "1 camera new, 0 cameras known; 1 line left out." {
		h.t.Errorf("%v: %v", says["says"], x)
	}
	a.sure("cameras/name", args{"cameras": []any{a.camera("Pier foot"), a.camera("Pier head")}, "pattern": "Pier {n}"})
	a.sure("cameras/remove", args{"cameras": []any{a.camera("Pier 1"), a.camera("Pier 2")}})
	if n := count(h, `select (select count(*) from device where place like 'Pier%') + (select count(*) from system where name like 'Tower%') + (select count(*) from credential_set where name like 'Pier%')`); n != 0 {
		h.t.Errorf("%d things of the pier are left", n)
	}
}

func askFind(h *harbour, a *acts) {
	h.ready("find")
	mast := h.Net.At(".250.64").String()
	also := a.sure("find/also", args{"address": mast}) // it is outside every network
	a.ends(map[string]any{"id": also["run_id"]})
	a.reads("sign-in")
	listed := a.camera("Signal mast")
	row := a.the("cameras", "cameras", "address", mast)
	a.keeps("find/take-over", args{"camera_id": row["id"], "device_id": a.the("cameras", "cameras", "id", listed)["device_id"]})
	if x := a.the("cameras", "cameras", "place", "Signal mast"); x["address"] != mast {
		h.t.Errorf("the mast is at %v", x["address"])
	}
	a.keeps(fmt.Sprintf("find/also/%v/drop", a.id("networks", "networks", "prefix", mast+"/32")), nil)
	for _, views := range [][]string{{}, {"vs0", "vs9"}} {
		wrong := a.do("POST", a.site+"/acts/find/views", jsonNumber(args{"camera_id": a.camera("Customs shed"), "views": views}), http.StatusUnprocessableEntity)
		if wrong["field"] != "view" {
			h.t.Errorf("%v: %v", views, wrong)
		}
	}
	a.keeps("find/views", args{"camera_id": a.camera("Customs shed"), "views": []string{"vs0", "vs1"}})
	a.camera("Customs shed · Input 2")
	a.keeps("find/say", args{"camera_id": a.camera("Slipway"), "place": "Slip", "note": "by the winch"})
	a.camera("Slip")
	f := a.the("findings?stage=find", "findings", "place", "Lifeboat house")
	a.keeps("findings/accept", args{"camera_id": f["camera_id"], "stage": "find", "code": f["code"]})
	a.keeps("findings/accept", args{"camera_id": f["camera_id"], "stage": "find", "code": f["code"], "off": true})
	again := a.do("POST", a.site+"/acts/findings/accept", jsonNumber(args{"camera_id": f["camera_id"], "stage": "find", "code": f["code"], "off": true}), http.StatusConflict)
	if !strings.Contains(fmt.Sprint(again), "Nobody accepts that finding") {
		a.t.Errorf("taking back what nobody accepts: %v", again)
	}
	// What nobody expected is left out, seen again, and taken on the list as it is called.
	stranger := func() map[string]any { return a.the("cameras", "cameras", "expected", false) }
	a.keeps("find/leave-out", args{"camera_id": stranger()["id"]})
	h.ready("find", "sign-in") // it hangs on a recorder's port, which is read once that is signed in to
	x := stranger()
	a.keeps("find/list-all", args{"devices": []any{args{"device_id": x["device_id"], "address": x["address"]}}})
	if x := a.the("cameras", "cameras", "id", json.Number(jsonNumber(x["id"]))); x["expected"] != true {
		h.t.Errorf("after it was put on the list: %v", x)
	}
	// One that is off the list is put on it again by its name.
	ice := a.the("cameras", "cameras", "place", "Ice plant")
	a.keeps(fmt.Sprintf("expected/row/%s/remove", jsonNumber(ice["id"])), nil)
	a.keeps("find/list", args{"camera_id": ice["id"], "place": "Ice plant"})
	if x := a.the("cameras", "cameras", "place", "Ice plant"); x["expected"] != true {
		h.t.Errorf("%v", x)
	}
	// Two cameras are moved by hand: one is said to be ours there, both are taken where they are.
	var rows []any
	for i, place := range []string{"Net loft", "Ice plant"} {
		c := h.Fleet.Camera(place)
		cfg := c.Config()
		c.Close()
		cfg.Address, cfg.StateFile, cfg.Quiet = h.Net.At([]string{".1.133", ".1.134"}[i]), "", true
		n, err := camera.Start(h.t.Context(), cfg)
		if err != nil {
			h.t.Fatal(err)
		}
		h.t.Cleanup(n.Close)
		rows = append(rows, args{"device_id": a.the("cameras", "cameras", "place", place)["device_id"], "address": cfg.Address.String()})
	}
	a.reads("find")
	a.keeps("find/taken", args{"devices": rows})
	loft := a.the("cameras", "cameras", "place", "Net loft")
	if loft["address"] != h.Net.At(".1.133").String() {
		h.t.Errorf("the loft is at %v", loft["address"])
	}
	a.keeps("find/ours", args{"camera_id": loft["id"], "address": loft["address"]})
	a.keeps("find/expect", args{"camera_id": loft["id"]})
	// One is given another address, and started again.
	a.reads("sign-in")
	a.makes("find/move", args{"camera_id": loft["id"], "address": h.Net.At(".1.135").String()})
	if x := a.the("cameras", "cameras", "place", "Net loft"); x["address"] != h.Net.At(".1.135").String() {
		h.t.Errorf("it was moved to %v", x["address"])
	}
	a.reads("channels")
	a.reads("clock")
	a.makes("clock/follow", args{"cameras": []any{a.camera("Slip")}})
	a.makes("clock/restart", args{"device_id": loft["device_id"]})
}

func askStreams(h *harbour, a *acts) {
	h.ready("find", "sign-in", "sign-in!")
	life := a.camera("Lifeboat house")
	a.keeps("streams/usual", args{"camera_id": life})
	a.keeps("streams/paths", args{"camera_id": life, "paths": "/main\n/sub"})
	h.ready("streams")
	hall, loft := a.camera("Ticket hall"), a.camera("Net loft")
	a.keeps("streams/consent", args{"camera_id": loft, "text": "Letter of the net makers, folder 3"})
	a.keeps("streams/consent", args{"camera_id": loft, "off": true})
	a.keeps("streams/marks", args{"camera_id": hall, "mark_0": "50 95, 50 45", "metres_0": "2", "mark_1": "30 60, 30 40", "metres_1": "1.5"})
	a.keeps("streams/marks", args{"camera_id": hall, "off": true})
	night := a.keeps("streams/setting", args{"name": "Quay by night", "of": "record", "fps": 5, "key_frame_every": 1})["id"]
	a.makes("streams/setting/write", args{"cameras": []any{a.camera("Ticket hall"), a.camera("Slipway")}, "id": night})
	a.keeps("streams/setting/remove", args{"id": night})
	a.makes("streams/encoders", args{"cameras": []any{a.camera("Slipway")}, "codec": "H265"})
	a.keeps("streams/use", args{"cameras": []any{a.camera("Slipway")}, "record": "Sub", "view": "Main"})
	a.keeps("streams/use", args{"cameras": []any{a.camera("Slipway")}, "record": "by rule", "view": "by rule"})
	a.keeps("cameras/plan", args{"cameras": []any{hall}, "recorder_id": 0})
	a.keeps("cameras/plan", args{"cameras": []any{hall}, "recorder_id": a.recorder("Terminal recorder")})
	a.makes("streams/texts", args{"cameras": []any{hall}, "name": "place"})
	a.makes("streams/imaging", args{"camera_id": hall, "property": "day and night", "value": "OFF"})
	a.makes("streams/masks", args{"camera_id": hall, "left": "10", "top": "10", "right": "30", "bottom": "40"})
	a.makes("streams/masks", args{"camera_id": hall, "without": "0"})
	a.makes("streams/turn", args{"camera_id": hall, "do": "save", "preset": "Desk"})
	a.makes("streams/turn", args{"camera_id": hall, "do": "aim", "pan": "0.4", "tilt": "0", "zoom": "0.3"})
	var setup struct {
		PTZ struct{ Presets []struct{ Token string } }
	}
	if err := json.Unmarshal([]byte(jsonNumber(a.the("cameras/"+string(hall)+"/facts", "facts", "name", fact.Setup)["value"])), &setup); err != nil || len(setup.PTZ.Presets) != 1 {
		h.t.Fatalf("%+v %v", setup, err)
	}
	a.makes("streams/turn", args{"camera_id": hall, "do": "call:" + setup.PTZ.Presets[0].Token})
	took := a.keeps("streams/hand", args{"camera_id": hall, "do": "take"})
	for _, x := range []string{`"keep"`, `"look", "left": 0.6, "top": 0.4`, `"zoom", "left": 0.2, "top": 0.2, "right": 0.8, "bottom": 0.8`,
		`"move", "tilt": -0.5`, `"stop"`, `"preset", "preset": 1`} {
		a.do("POST", a.site+"/acts/streams/hand", fmt.Sprintf(`{"camera_id": %s, "hand": %v, "do": %s}`, hall, took["id"], x), http.StatusOK)
	}
	a.keeps("streams/hand", args{"camera_id": hall, "do": "back", "hand": took["id"]})
	h.idle()
	again := a.keeps("streams/hand", args{"camera_id": hall, "do": "take"})
	a.do("POST", a.site+"/acts/streams/hand", fmt.Sprintf(`{"camera_id": %s, "hand": %v, "do": "move", "pan": 1}`, hall, took["id"]), http.StatusConflict) // of a hand that let go
	a.keeps("streams/hand", args{"camera_id": hall, "do": "leave", "hand": again["id"]})
	for _, f := range a.all("cameras/"+string(hall)+"/facts", "facts") {
		if f["at"] == nil || f["call"] == "" {
			h.t.Errorf("a fact without its age or call: %v", f)
		}
	}
	facts := a.site + "/cameras/" + string(hall) + "/facts"
	all := a.do("GET", facts, "", http.StatusOK)
	known, total := all["facts"].([]any), all["total"].(float64)
	second := a.do("GET", facts+"?after=1&limit=1", "", http.StatusOK)["facts"].([]any)
	named := a.do("GET", facts+"?name="+fact.Setup, "", http.StatusOK)
	if len(known) < 5 || int(total) != len(known) || len(second) != 1 || !reflect.DeepEqual(second[0], known[1]) ||
		named["total"] != 1.0 || named["facts"].([]any)[0].(map[string]any)["name"] != fact.Setup {
		h.t.Errorf("%v facts, the second %v, by name %v", total, second, named)
	}
	if none := a.do("GET", facts+"?name=no.fact", "", http.StatusOK); none["total"] != 0.0 || len(none["facts"].([]any)) != 0 {
		h.t.Errorf("of no name: %v", none)
	}
	a.do("GET", facts+"?after=-1", "", http.StatusBadRequest)
}

// pick is a channel of a recorder, as acts name it.
func pick(recorder json.Number, channel int) args {
	return args{"recorder_id": recorder, "channel": channel}
}

func askHybrid(h *harbour, a *acts) {
	h.ready("find", "sign-in", "streams", "channels")
	quay := a.recorder("Quay recorder")
	a.makes("channels/models", args{"recorder_id": quay})
	a.makes("channels/others", args{"recorder_id": quay, "allow": true})
	a.makes("channels/input", args{"recorder_id": quay, "input": 8, "on": false})
	a.makes("channels/room", args{"recorder_id": quay, "more": 3})
	testbed.Until(h.t, 30*time.Second, "it answers after its restart", func() bool {
		a.ends(a.do("POST", a.site+"/runs", `{"stage": "channels"}`, http.StatusAccepted))
		return a.the("recorders", "recorders", "id", quay)["trouble"] == nil
	})
	a.makes("channels/out", args{"recorder_id": quay, "channel": 3}) // a dead entry
	a.keeps("channels/wish", args{"camera_id": a.camera("Net loft"), "locked": true, "together": "nets"})
	a.makes("channels/proposed", args{"take": []any{args{"camera_id": a.camera("Net loft"), "recorder_id": quay, "channel": 4}, args{"camera_id": a.camera("Freight scale"), "recorder_id": quay, "channel": 2}}})
	a.holds("Quay recorder", "2 Freight scale receiving, 4 Net loft receiving")
}

func askChannels(h *harbour, a *acts) {
	h.ready("find", "sign-in", "streams", "channels")
	terminal, store := a.recorder("Terminal recorder"), a.recorder("Store recorder")
	slip, mess := a.camera("Slipway"), a.camera("Crew mess")
	a.keeps("cameras/plan", args{"cameras": []any{slip, mess}, "recorder_id": 0})
	a.keeps("cameras/plan", args{"cameras": []any{slip, mess}, "recorder_id": terminal})
	a.makes("channels/place", args{"camera_id": slip, "recorder_id": terminal, "channel": 2})
	a.makes("channels/place", args{"camera_id": mess, "recorder_id": terminal, "channel": 5})
	a.holds("Terminal recorder", "2 Slipway receiving, 5 Crew mess receiving")
	a.makes("cameras/move", args{"cameras": []any{mess}, "recorder_id": terminal, "channel": 6}) // another channel of the same
	a.holds("Terminal recorder", "2 Slipway receiving, 6 Crew mess receiving")
	// One that is set up by hand.
	a.keeps("channels/bench", args{"recorder_id": store, "channels": 4, "port": recorder.ScreenPort, "picture": "/picture/{n}", "codecs": []string{"H264"}})
	a.keeps("channels/tick", args{"recorder_id": store, "camera_id": mess, "channel": 1})
	a.keeps("channels/untick", args{"recorder_id": store, "channel": 1})
	a.keeps("channels/typed", args{"recorder_id": store, "table": "4; Old slip; " + h.Net.At(".1.11").String()})
	// A new recorder takes over from the old one, which is retired.
	cfg := demo.Recorders(h.Net, h.Secrets, "")[0]
	cfg.Place, cfg.Serial, cfg.MAC, cfg.Address = "Pier recorder", "TRNN16-0207", "02:d5:1a:40:02:07", h.Net.At(".2.7")
	fresh, err := recorder.Start(context.WithoutCancel(h.t.Context()), cfg)
	if err != nil {
		h.t.Fatal(err)
	}
	h.t.Cleanup(fresh.Close)
	account := a.the("recorders", "recorders", "place", "Terminal recorder")["set_id"]
	pier := a.keeps("settings/recorder", args{"place": "Pier recorder", "address": cfg.Address.String(), "set_id": account})
	a.wait(map[string]any{"id": pier["run_id"]})
	h.ready("find", "sign-in", "channels")
	a.makes("channels/take-over", args{"recorder_id": pier["id"], "from_id": terminal})
	a.holds("Pier recorder", "2 Slipway receiving, 6 Crew mess receiving")
	a.makes("channels/retire", args{"recorder_id": terminal})
	a.holds("Terminal recorder", "")
	a.makes("cameras/leave", args{"cameras": []any{mess}})
	a.holds("Pier recorder", "2 Slipway receiving")
	// A desk takes channels of recorders.
	own := a.keeps("settings/set", args{"name": "Desk", "username": "install", "password": h.Secrets.Desk})["id"]
	desk := a.the("recorders", "recorders", "address", h.Net.At(".2.8")) // a look found it
	a.keeps(fmt.Sprintf("settings/recorder/%v", desk["id"]), args{"place": "Harbour desk", "set_id": own})
	h.ready("find", "sign-in", "channels")
	a.keeps("channels/cascading", args{"recorder_id": desk["id"], "takes_channels": true})
	a.makes("channels/cascade", args{"recorder_id": desk["id"], "take": []any{pick(json.Number(jsonNumber(pier["id"])), 2)}})
	a.holds("Harbour desk", "2 Slipway receiving")
}

func askRecording(h *harbour, a *acts) {
	h.ready("find", "sign-in", "streams", "channels")
	terminal, slip := a.recorder("Terminal recorder"), a.camera("Slipway")
	a.makes("channels/place", args{"camera_id": slip, "recorder_id": terminal, "channel": 1})
	a.keeps("recording/keeping", args{"least_days": 3, "most_days": 30})
	week := slices.Repeat([]string{strings.Repeat("0", 48)}, 7)
	plan := args{"modes": []args{{"name": "always", "idle": "record", "event": "record"}}, "week": week}
	other := a.keeps("recording/plan", args{"name": "For a while", "plan": plan})["id"]
	a.keeps("recording/plan/remove", args{"id": other})
	a.makes("recording/write", args{"cameras": []any{slip}, "name": "Everywhere", "plan": plan})
	a.makes("recording/age", args{"recorder_id": terminal, "days": 20})
	a.reads("routes")
	a.makes("routes/peg", args{"camera_id": slip, "topic": "tns1:RuleEngine/LineDetector/Crossed", "input": "line"})
	walk := a.do("POST", a.site+"/acts/prove/walk", jsonNumber(args{"camera_id": slip, "tell": true}), http.StatusOK)
	a.asked = append(a.asked, "prove/walk")
	a.wait(map[string]any{"id": walk["run_id"]})
	watch := a.do("POST", a.site+"/acts/clock/watch", jsonNumber(args{"camera_id": slip}), http.StatusOK)
	a.asked = append(a.asked, "clock/watch")
	if watch["says"] == "" {
		h.t.Errorf("%v", watch)
	}
}

func askSignIn(h *harbour, a *acts) {
	h.ready("find", "sign-in", "streams", "channels")
	slip, bonded := a.camera("Slipway"), a.camera("Bonded store")
	a.makes("channels/place", args{"camera_id": slip, "recorder_id": a.recorder("Terminal recorder"), "channel": 1})
	a.makes("sign-in/rotate", args{"cameras": []any{slip}})
	a.holds("Terminal recorder", "1 Slipway receiving")
	a.makes("sign-in/house", args{"cameras": []any{slip}, "set_id": a.id("sets", "sets", "name", "House account")}) // of the same name, with its own password
	a.holds("Terminal recorder", "1 Slipway receiving")
	typed := a.keeps("sign-in/typed", args{"camera_id": slip, "username": "otter", "password": h.Secrets.House})
	a.wait(map[string]any{"id": typed["run_id"]})
	a.keeps("sign-in/basic", args{"camera_id": bonded})
	a.keeps("sign-in/basic", args{"camera_id": bonded, "off": true})
	res, err := http.Post(fmt.Sprintf("http://%s:%d/certificate", h.Net.At(".2.23"), camera.ControlPort), "", nil)
	if err != nil {
		h.t.Fatal(err)
	}
	_ = res.Body.Close()
	testbed.Until(h.t, 20*time.Second, "it shows another certificate", func() bool {
		a.ends(a.do("POST", a.site+"/runs", `{"stage": "sign-in"}`, http.StatusAccepted))
		return slices.ContainsFunc(a.all("findings?stage=sign-in", "findings"), func(f map[string]any) bool { return f["code"] == "access.certificate" })
	})
	a.keeps("sign-in/trust", args{"camera_id": bonded, "fingerprint": a.the("cameras/"+string(bonded)+"/facts", "facts", "name", fact.ShownPin)["value"]})
	// A recorder that is ahead has its clock set; a camera is reset, and knows nobody any more.
	terminal := args{"device_id": a.recorder("Terminal recorder")}
	h.Fleet.Recorders[0].Step(90 * time.Second)
	a.reads("clock")
	a.makes("clock/recorder", terminal)
	if off := time.Until(h.Fleet.Recorders[0].Now()).Abs(); off > 3*time.Second {
		h.t.Errorf("its clock was set, and is %v off", off)
	}
	a.makes("sign-in/reset", args{"device_id": a.the("cameras", "cameras", "place", "Slipway")["device_id"]})
	testbed.Until(h.t, 60*time.Second, "the camera that was reset has no first password", func() bool {
		a.ends(a.do("POST", a.site+"/runs", `{"stage": "sign-in"}`, http.StatusAccepted))
		return slices.ContainsFunc(a.all("findings?stage=sign-in", "findings"), func(f map[string]any) bool { return f["code"] == "access.first-password" })
	})
}
