package web_test

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"reflect"
	"slices"
	"strings"
	"testing"
	"time"

	"duskyharbor/internal/people"
	"duskyharbor/internal/store"
	"duskyharbor/internal/testbed"
)

// acts asks for acts and readings by name, and holds each answer against its description.
type acts struct {
	*program
	site  string
	asked []string // names of acts that did what they are for
}

// whole is a program that may do all that programs may.
func whole(t *testing.T, h *harbour) *acts {
	t.Helper()
	if h.program != nil {
		return h.program
	}
	token, hash := people.NewToken()
	if _, err := h.Store.AddToken(t.Context(), h.Site, 0, "whole", []string{"read", "run", "apply", "setup"}, hash, nil); err != nil {
		t.Fatal(err)
	}
	h.program = &acts{program: newProgram(t, h, token), site: fmt.Sprintf("/api/v1/sites/%d", h.Site)}
	return h.program
}

// keeps asks for an act that keeps a wish, and answers with what was made. Who asked for what is written down, unless it has
// devices read, which the run tells.
func (a *acts) keeps(name string, args any) map[string]any {
	a.t.Helper()
	a.asked = append(a.asked, name)
	newest := func() any { return a.do("GET", a.site+"/log?limit=1", "", http.StatusOK)["log"] }
	before := newest()
	out := a.do("POST", a.site+"/acts/"+name, jsonNumber(args), http.StatusOK)
	if after := newest(); out["run"] == nil && reflect.DeepEqual(before, after) {
		a.t.Errorf("%s is kept, and nobody wrote it down: the newest of the log is still %v", name, after)
	}
	return out
}

// makes asks for an act that changes something, and makes what it showed. It answers with the run.
func (a *acts) makes(name string, args any) map[string]any {
	a.t.Helper()
	a.asked = append(a.asked, name)
	shown := a.do("POST", a.site+"/acts/"+name, jsonNumber(args), http.StatusCreated)
	return a.wait(a.do("POST", a.site+"/previews/"+jsonNumber(shown["id"])+"/make", "", http.StatusAccepted))
}

// wait waits until a run ended, and nothing of it failed.
func (a *acts) wait(run map[string]any) map[string]any {
	a.t.Helper()
	if run = a.ends(run); run["failed"].(float64) > 0 {
		a.t.Fatalf("%v", run)
	}
	return run
}

// ends waits until a run ended, however.
func (a *acts) ends(run map[string]any) map[string]any {
	a.t.Helper()
	testbed.Until(a.t, 90*time.Second, "the run ends", func() bool {
		run = a.do("GET", a.site+"/runs/"+jsonNumber(run["id"]), "", http.StatusOK)
		return run["ended_at"] != nil
	})
	return run
}

// reads has a stage read, and waits.
func (a *acts) reads(stage string) {
	a.t.Helper()
	a.wait(a.do("POST", a.site+"/runs", `{"stage": "`+stage+`"}`, http.StatusAccepted))
}

// all is a reading's list.
func (a *acts) all(path, name string) []map[string]any {
	a.t.Helper()
	var out []map[string]any
	for _, x := range a.do("GET", a.site+"/"+path, "", http.StatusOK)[name].([]any) {
		out = append(out, x.(map[string]any))
	}
	return out
}

type args map[string]any

// A program sets a site up from nothing to a camera that its recorder keeps by plan, without a page; what it did is
// in the log by its name.
func TestAProgramSetsASiteUp(t *testing.T) {
	t.Parallel()
	b := testbed.StartBare(t, 0, "Slipway", "Terminal recorder")
	h := serveOn(t, b, nil)
	var err error
	if h.Site, err = h.Store.AddSite(t.Context(), store.Site{Name: "Gannet Point", Zone: "Europe/Lisbon", ZonePosix: "WET0WEST,M3.5.0/1,M10.5.0"}); err != nil {
		t.Fatal(err)
	}
	a := whole(t, h)
	a.keeps("settings/network", args{"name": "Quay", "prefix": h.Net.Prefix(1).String()})
	a.keeps("settings/network", args{"name": "Terminal", "prefix": h.Net.Prefix(2).String()})
	a.keeps("settings/set", args{"name": "House", "username": "otter", "password": h.Secrets.House})
	account := a.keeps("settings/set", args{"name": "Recorder", "username": "install", "password": h.Secrets.Terminal})["id"]
	added := a.keeps("settings/recorder", args{"place": "Terminal recorder", "address": h.Net.At(".2.5").String(), "set_id": account})
	a.wait(map[string]any{"id": added["run_id"]})
	a.reads("find")
	cameras := a.all("cameras", "cameras")
	if len(cameras) != 1 {
		t.Fatalf("%v", cameras)
	}
	slipway := cameras[0]
	a.keeps("find/list", args{"camera_id": slipway["id"], "place": "Slipway"})
	for _, stage := range []string{"sign-in", "streams", "channels"} {
		a.reads(stage)
	}
	a.keeps("cameras/plan", args{"cameras": []any{slipway["id"]}, "recorder_id": added["id"]})
	a.makes("channels/place", args{"camera_id": slipway["id"], "recorder_id": added["id"], "channel": 3})
	a.keeps("recording/keeping", args{"least_days": 1, "most_days": 4000 - 1000})
	week := slices.Repeat([]string{strings.Repeat("0", 48)}, 7) // the place of the hours' kind, for each half hour
	a.makes("recording/write", args{"cameras": []any{slipway["id"]}, "name": "Everywhere",
		"plan": args{"modes": []args{{"name": "always", "idle": "record", "event": "record"}}, "week": week}})
	var held map[string]any
	testbed.Until(t, 30*time.Second, "the recorder receives it and keeps by the plan", func() bool {
		a.reads("channels")
		for _, r := range a.all("recorders", "recorders") {
			if channels, ok := r["channels"].([]any); ok && len(channels) == 1 {
				held = channels[0].(map[string]any)
			}
		}
		return held["state"] == "receiving"
	})
	if held["number"].(float64) != 3 || held["name"] != "Slipway" || !strings.HasPrefix(held["plan"].(string), "always: the record stream") {
		t.Errorf("%v", held)
	}
	var did []string
	for _, l := range a.all("log", "log") {
		if l["by"] == "token whole" {
			did = append(did, l["did"].(string))
		}
	}
	for _, want := range []string{"added a network", "added a credential set", "added a recorder", "put a device on the list", "planned a recorder", "chose a recording plan", "asked for changes"} {
		if !slices.Contains(did, want) {
			t.Errorf("the log lacks %q: %v", want, did)
		}
	}
}

// Every act refuses what it can't do in one sentence, whatever is sent: never as trouble of this server's, and
// nothing comes of it.
func TestActsRefuseWhatIsNonsense(t *testing.T) {
	t.Parallel()
	h := serve(t)
	a := whole(t, h)
	before := contents(h)
	refused := []int{http.StatusUnprocessableEntity, http.StatusNotFound, http.StatusConflict}
	if err := h.web.RegisterActs(h.web.Acts()[0]); err == nil {
		t.Error("two acts have one name")
	}
	all := a.all("acts", "acts")
	if len(all) < 50 {
		t.Fatalf("%d acts", len(all))
	}
	for _, x := range all {
		name := x["name"].(string)
		for _, part := range strings.Split(name, "/") {
			if strings.HasPrefix(part, ":") {
				name = strings.Replace(name, part, "999999", 1)
			}
		}
		for _, body := range []string{`nonsense`, `{"nobody": 1}`, `[]`, `{"camera_id": 999999, "recorder_id": 999999, "device_id": 999999}`, `{"camera_id": "x"}`, `{"camera_id": 999999}`} {
			req, err := http.NewRequest("POST", a.base+a.site+"/acts/"+name, strings.NewReader(body))
			if err != nil {
				t.Fatal(err)
			}
			req.Header.Set("Authorization", "Bearer "+a.token)
			req.Header.Set("Content-Type", "application/json")
			res, err := http.DefaultClient.Do(req)
			if err != nil {
				t.Fatal(err)
			}
			var said struct{ Error string }
			_ = json.NewDecoder(res.Body).Decode(&said)
			_ = res.Body.Close()
			if !slices.Contains(refused, res.StatusCode) || said.Error == "" {
				t.Errorf("%s %s: %d %q", name, body, res.StatusCode, said.Error)
			}
		}
	}
	if after := contents(h); after != before {
		t.Errorf("%s, and before %s", after, before)
	}
}

// contents counts what a site has.
func contents(h *harbour) (out string) {
	_ = h.Store.Pool.QueryRow(h.t.Context(), `select concat_ws('/', (select count(*) from run), (select count(*) from change), (select count(*) from device), (select count(*) from network),
		(select count(*) from credential_set), (select count(*) from recording_plan), (select count(*) from system), (select count(*) from preview))`).Scan(&out)
	return out
}

// A token does what its scopes say, and nothing that gives others a way in.
func TestScopesOfActs(t *testing.T) {
	t.Parallel()
	h := serve(t)
	for _, tc := range []struct {
		scopes string
		name   string
		want   int
	}{
		{"read", "settings/network", http.StatusForbidden}, {"read,run", "settings/network", http.StatusForbidden},
		{"read,apply", "settings/network", http.StatusForbidden}, {"read,setup", "settings/network", http.StatusUnprocessableEntity},
		{"read,setup", "channels/room", http.StatusForbidden}, {"read,apply", "channels/room", http.StatusUnprocessableEntity},
		{"read,run,apply", "find/also", http.StatusForbidden}, {"read,setup", "find/also", http.StatusUnprocessableEntity},
		{"read,apply,setup", "prove/walk", http.StatusForbidden}, {"read,run", "prove/walk", http.StatusUnprocessableEntity},
		{"read,run,apply,setup", "settings/token", http.StatusNotFound}, {"read,run,apply,setup", "settings/invite", http.StatusNotFound},
		{"read,run,apply,setup", "settings/people/1/role", http.StatusNotFound}, {"read,run,apply,setup", "settings/put-away", http.StatusNotFound},
	} {
		token, hash := people.NewToken()
		if _, err := h.Store.AddToken(t.Context(), h.Site, 0, tc.scopes+tc.name, strings.Split(tc.scopes, ","), hash, nil); err != nil {
			t.Fatal(err)
		}
		if got := h.visitAs(token, "POST", "/api/v1/sites/1/acts/"+tc.name); got != tc.want {
			t.Errorf("%s asks for %s: %d, want %d", tc.scopes, tc.name, got, tc.want)
		}
	}
}

// What was asked for before and is as it was isn't sent again.
func TestAReadingIsTagged(t *testing.T) {
	t.Parallel()
	h := serve(t)
	get := func(tag string) *http.Response {
		req, err := http.NewRequest("GET", h.url+"/api/v1/sites/1/networks", nil)
		if err != nil {
			t.Fatal(err)
		}
		req.Header.Set("Authorization", "Bearer "+h.Secrets.Token)
		req.Header.Set("If-None-Match", tag)
		res, err := http.DefaultClient.Do(req)
		if err != nil {
			t.Fatal(err)
		}
		_ = res.Body.Close()
		return res
	}
	first := get("")
	tag := first.Header.Get("ETag")
	if first.StatusCode != http.StatusOK || tag == "" || get(tag).StatusCode != http.StatusNotModified {
		t.Errorf("%d %q, and asked again %d", first.StatusCode, tag, get(tag).StatusCode)
	}
	whole(t, h).keeps("settings/network", args{"name": "Shed", "prefix": h.Net.Prefix(7).String()})
	if again := get(tag); again.StatusCode != http.StatusOK || again.Header.Get("ETag") == tag {
		t.Errorf("after one was added: %d %q", again.StatusCode, again.Header.Get("ETag"))
	}
	// A window of a reading, and of how many.
	a := whole(t, h)
	page := a.do("GET", a.site+"/networks?after=1&limit=1", "", http.StatusOK)
	if got := page["networks"].([]any); len(got) != 1 || page["total"].(float64) != 4 {
		t.Errorf("%v", page)
	}
	if page := a.do("GET", a.site+"/networks?after=99", "", http.StatusOK); len(page["networks"].([]any)) != 0 {
		t.Errorf("%v", page)
	}
	for q, want := range map[string]float64{"": 4, "shed": 1, "SHED+" + h.Net.Prefix(7).Addr().String(): 1, "shed+terminal": 0, "name": 0, "127.": 4} {
		if page := a.do("GET", a.site+"/networks?q="+q, "", http.StatusOK); page["total"].(float64) != want || float64(len(page["networks"].([]any))) != want {
			t.Errorf("%q: %v", q, page)
		}
	}
	a.do("GET", a.site+"/networks?q="+strings.Repeat("x", 201), "", http.StatusBadRequest)
	a.do("GET", a.site+"/networks?limit=x", "", http.StatusBadRequest)
	a.do("GET", a.site+"/runs?after=-1", "", http.StatusBadRequest)
	a.do("GET", a.site+"/cameras/999999/facts", "", http.StatusNotFound)
}

// A program hears what changes, and takes up where it was.
func TestAProgramHearsWhatChanges(t *testing.T) {
	t.Parallel()
	h := serve(t)
	a := whole(t, h)
	hears := func(last string) (*bufio.Scanner, func()) {
		ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
		req, err := http.NewRequestWithContext(ctx, "GET", a.base+a.site+"/events", nil)
		if err != nil {
			t.Fatal(err)
		}
		req.Header.Set("Authorization", "Bearer "+a.token)
		req.Header.Set("Last-Event-ID", last)
		res, err := http.DefaultClient.Do(req)
		if err != nil || res.StatusCode != http.StatusOK || res.Header.Get("Content-Type") != "text/event-stream" {
			t.Fatalf("%v %v", res, err)
		}
		return bufio.NewScanner(res.Body), func() { cancel(); _ = res.Body.Close() }
	}
	until := func(s *bufio.Scanner, want string) (id string) {
		t.Helper()
		for s.Scan() {
			if last, ok := strings.CutPrefix(s.Text(), "id: "); ok {
				id = last
			}
			if strings.Contains(s.Text(), want) {
				return id
			}
		}
		t.Fatalf("it ended before %q came: %v", want, s.Err())
		return id
	}
	first, leave := hears("")
	at := until(first, "event: hello")
	a.keeps("settings/network", args{"name": "Shed", "prefix": h.Net.Prefix(7).String()})
	until(first, "event: changed")
	leave()
	again, leave := hears(at) // what it missed is told
	defer leave()
	until(again, "event: changed")
}
