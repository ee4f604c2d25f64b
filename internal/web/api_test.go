package web_test

import (
	"bytes"
	"context"
	"encoding/json"
	"io"
	"net/http"
	"reflect"
	"strings"
	"testing"
	"time"

	"github.com/getkin/kin-openapi/openapi3"
	"github.com/getkin/kin-openapi/openapi3filter"
	"github.com/getkin/kin-openapi/routers"
	"github.com/getkin/kin-openapi/routers/gorillamux"

	"duskyharbor/internal/people"
	"duskyharbor/internal/testbed"
	"duskyharbor/internal/web/api"
)

// program speaks to the interface, and holds every answer against its description.
type program struct {
	t      *testing.T
	base   string
	token  string
	router routers.Router
}

func description(t *testing.T, h *harbour) *openapi3.T {
	t.Helper()
	doc, err := api.Describe(h.web.Acts())
	if err != nil {
		t.Fatal(err)
	}
	return doc
}

func newProgram(t *testing.T, h *harbour, token string) *program {
	t.Helper()
	doc := description(t, h)
	doc.Servers = openapi3.Servers{{URL: h.url}}
	r, err := gorillamux.NewRouter(doc)
	if err != nil {
		t.Fatal(err)
	}
	return &program{t, h.url, token, r}
}

func (p *program) do(method, path, body string, want int) map[string]any {
	p.t.Helper()
	req, err := http.NewRequest(method, p.base+path, strings.NewReader(body))
	if err != nil {
		p.t.Fatal(err)
	}
	req.Header.Set("Authorization", "Bearer "+p.token)
	if body != "" {
		req.Header.Set("Content-Type", "application/json")
	}
	res, err := http.DefaultClient.Do(req)
	if err != nil {
		p.t.Fatal(err)
	}
	defer res.Body.Close()
	data, err := io.ReadAll(res.Body)
	if err != nil || res.StatusCode != want {
		p.t.Fatalf("%s %s: %d %s %v, want %d", method, path, res.StatusCode, data, err, want)
	}
	route, params, err := p.router.FindRoute(req)
	if err != nil {
		p.t.Fatalf("%s %s isn't described: %v", method, path, err)
	}
	in := &openapi3filter.RequestValidationInput{Request: req, PathParams: params, Route: route,
		Options: &openapi3filter.Options{IncludeResponseStatus: true, AuthenticationFunc: openapi3filter.NoopAuthenticationFunc}}
	out := &openapi3filter.ResponseValidationInput{RequestValidationInput: in, Status: res.StatusCode,
		Header: res.Header, Options: in.Options}
	out.SetBodyBytes(data)
	if err := openapi3filter.ValidateResponse(context.Background(), out); err != nil {
		p.t.Errorf("%s %s: the answer isn't as described: %v", method, path, err)
	}
	var v map[string]any
	if json.Unmarshal(data, &v) != nil {
		v = map[string]any{"text": string(data)}
	}
	return v
}

// Every route that programs may ask is described, and nothing else is.
func TestTheDescriptionNamesEveryRoute(t *testing.T) {
	t.Parallel()
	h := serve(t)
	described := map[string]bool{}
	for path, item := range description(t, h).Paths.Map() {
		for method := range item.Operations() {
			described[method+" "+strings.NewReplacer("{", ":", "}", "").Replace(path)] = true
		}
	}
	served := 0
	for _, r := range h.web.Answers() {
		if !strings.HasPrefix(r[1], "/api/") && r[1] != "/metrics" {
			continue
		}
		served++
		if !described[r[0]+" "+r[1]] {
			t.Errorf("%s %s isn't described", r[0], r[1])
		}
	}
	if served != len(described) || served < 14 {
		t.Errorf("%d routes are served, %d described", served, len(described))
	}
}

func TestAProgramWorksASite(t *testing.T) {
	t.Parallel()
	h := serve(t)
	p := newProgram(t, h, h.Secrets.Token)
	if s := p.do("GET", "/api/v1/sites", "", 200)["sites"].([]any); len(s) != 1 {
		t.Errorf("%v", s)
	}
	wait := func(run map[string]any) map[string]any {
		t.Helper()
		path := "/api/v1/sites/1/runs/" + jsonNumber(run["id"])
		testbed.Until(t, 60*time.Second, "the run ends", func() bool { run = p.do("GET", path, "", 200); return run["ended_at"] != nil })
		return run
	}
	looked := wait(p.do("POST", "/api/v1/sites/1/runs", `{"stage": "find"}`, 202))
	steps := looked["steps"].([]any)
	if one := p.do("GET", "/api/v1/sites/1/runs/"+jsonNumber(looked["id"])+"?after=1&limit=1", "", 200)["steps"].([]any); len(steps) < 3 || len(one) != 1 || !reflect.DeepEqual(one[0], steps[1]) {
		t.Errorf("the second of %v: %v", steps, one)
	}
	p.do("GET", "/api/v1/sites/1/runs/"+jsonNumber(looked["id"])+"?limit=x", "", 400)
	for _, st := range []string{"sign-in", "clock"} {
		if r := wait(p.do("POST", "/api/v1/sites/1/runs", `{"stage": "`+st+`", "q": "state:ready"}`,
			202)); r["done"].(float64) < 2 || r["by"] != "token Demo program" || r["of"] != "state:ready" {
			t.Errorf("%s: %v", st, r)
		}
	}
	cameras := p.do("GET", "/api/v1/sites/1/cameras?q=ramp&sort=-place&limit=1", "", 200)
	if cameras["total"].(float64) != 2 || len(cameras["cameras"].([]any)) != 1 {
		t.Errorf("%v", cameras)
	}
	if f := p.do("GET", "/api/v1/sites/1/findings?stage=clock", "", 200)["findings"].([]any); len(f) != 2 {
		t.Errorf("%v", f)
	}
	if x := p.do("GET", "/api/v1/sites/1/proposals?stage=clock", "", 200)["proposals"].([]any); len(x) != 2 {
		t.Errorf("%v", x)
	}
	berth := h.camera("Berth 1 ramp")
	// A program is shown what will be written; making it makes that, once, and for nobody else.
	makeOf := func(preview map[string]any) string {
		return "/api/v1/sites/1/previews/" + jsonNumber(preview["id"]) + "/make"
	}
	shown := p.do("POST", "/api/v1/sites/1/previews", `{"stage": "clock", "cameras": [`+berth+`]}`, 201)
	if all := shown["changes"].([]any); len(all) != 2 || all[0].(map[string]any)["from"] == "" || count(h, `select count(*) from change`) != 0 {
		t.Errorf("%v, or something was written", shown)
	}
	other, hash := people.NewToken()
	if _, err := h.Store.AddToken(t.Context(), h.Site, 0, "another", []string{"read", "apply"}, hash, nil); err != nil {
		t.Fatal(err)
	}
	newProgram(t, h, other).do("POST", makeOf(shown), "", 404)
	run := wait(p.do("POST", makeOf(shown), "", 202))
	if again := p.do("POST", makeOf(shown), "", 202); again["id"] != run["id"] || run["done"].(float64) != 1 {
		t.Errorf("%v, and asked again %v", run, again)
	}
	changes := p.do("GET", "/api/v1/sites/1/changes?camera="+berth, "", 200)["changes"].([]any)
	if len(changes) != 2 {
		t.Fatalf("%v", changes)
	}
	for _, c := range changes {
		if c := c.(map[string]any); c["kind"] == "clock.zone" {
			wait(p.do("POST", makeOf(p.do("POST", "/api/v1/sites/1/changes/"+jsonNumber(c["id"])+"/undo", "", 201)), "", 202))
		}
	}
	newest := p.do("GET", "/api/v1/sites/1/changes?limit=1", "", 200)["changes"].([]any)[0].(map[string]any)
	if newest["undo_of"] == nil || newest["state"] != "verified" || !strings.HasPrefix(newest["to"].(string), "WET0 ·") {
		t.Errorf("%v", newest)
	}
	p.do("POST", "/api/v1/sites/1/changes/"+jsonNumber(newest["undo_of"])+"/undo", "", 409)
	p.do("POST", "/api/v1/sites/1/runs/"+jsonNumber(run["id"])+"/stop", "", 202)
	p.do("GET", "/api/v1/sites/1/runs", "", 200)
	for _, bad := range []string{`{"stage": "handover"}`, `{"stage": "clock", "who": 1}`, `nonsense`,
		`{"stage": "clock", "q": "stage:clok"}`} {
		p.do("POST", "/api/v1/sites/1/runs", bad, 400)
	}
	p.do("POST", "/api/v1/sites/1/previews", `{"stage": "channels", "cameras": []}`, 409)
	p.do("GET", "/api/v1/sites/1/cameras?limit=x", "", 400)
	p.do("GET", "/api/v1/sites/1/runs/9999", "", 404)
	m := p.do("GET", "/metrics", "", 200)["text"].(string)
	for _, want := range []string{"duskyharbor_marks{stage=\"find\",state=\"ready\"} 2", "duskyharbor_servers 1",
		"duskyharbor_database_up 1", "duskyharbor_database_waits_total", "duskyharbor_database_waited_seconds_total", "duskyharbor_request_seconds_count"} {
		if !strings.Contains(m, want) {
			t.Errorf("the figures lack %s", want)
		}
	}
}

func jsonNumber(v any) string {
	b, _ := json.Marshal(v)
	return string(bytes.TrimSpace(b))
}

func (h *harbour) camera(place string) string {
	h.t.Helper()
	var id string
	if err := h.Store.Pool.QueryRow(h.t.Context(), `select id::text from source where name = $1`, place).Scan(&id); err != nil {
		h.t.Fatal(err)
	}
	return id
}

func TestATokenOpensItsSiteAlone(t *testing.T) {
	t.Parallel()
	h := serve(t)
	p := newProgram(t, h, h.Secrets.Token)
	for path, want := range map[string]int{"/api/v1/sites/2/cameras": 404, "/api/v1/sites/1/cameras": 200, "/metrics": 200} {
		if got := h.visitAs(h.Secrets.Token, "GET", path); got != want {
			t.Errorf("%s: %d, want %d", path, got, want)
		}
	}
	token, hash := people.NewToken()
	past := time.Now().Add(-time.Minute)
	if _, err := h.Store.AddToken(t.Context(), h.Site, 0, "old", []string{"read"}, hash, &past); err != nil {
		t.Fatal(err)
	}
	for _, bad := range []string{token, "dh_nothing", strings.Repeat("x", 500)} {
		if got := h.visitAs(bad, "GET", "/api/v1/sites"); got != http.StatusUnauthorized {
			t.Errorf("%.20s: %d", bad, got)
		}
	}
	if err := h.Store.EndToken(t.Context(), h.Site, 1); err != nil {
		t.Fatal(err)
	}
	p.do("GET", "/api/v1/sites", "", 401)
}
