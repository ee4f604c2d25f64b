package web_test

import (
	"compress/gzip"
	"context"
	"crypto/sha256"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"net/url"
	"runtime"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"

	"duskyharbor/internal/app"
	"duskyharbor/internal/core/finding"
	"duskyharbor/internal/core/stage"
	"duskyharbor/internal/demo"
	"duskyharbor/internal/device/dial"
	"duskyharbor/internal/store"
	"duskyharbor/internal/testbed"
	"duskyharbor/internal/web/shell"
)

// counter counts the queries of a store.
type counter struct{ n atomic.Int64 }

// TraceQueryStart counts one.
func (c *counter) TraceQueryStart(ctx context.Context, _ *pgx.Conn, _ pgx.TraceQueryStartData) context.Context {
	c.n.Add(1)
	return ctx
}

// TraceQueryEnd does nothing.
func (c *counter) TraceQueryEnd(context.Context, *pgx.Conn, pgx.TraceQueryEndData) {}

// fullBoard is a site of 3,000 bulk cameras with marks and findings in every state,
// served without stand-ins: a page reads the database alone.
func fullBoard(t testing.TB) (*testbed.Harbour, *store.Store, *counter, http.Handler) {
	t.Helper()
	h := testbed.Start(t)
	ctx := context.Background()
	if err := demo.SeedBulk(ctx, h.Store, h.Net, h.Site, demo.BulkMost); err != nil {
		t.Fatal(err)
	}
	sources, _, err := h.Store.Window(ctx, store.Selection{Site: h.Site}, store.Sort{}, 0, 2*demo.BulkMost)
	if err != nil {
		t.Fatal(err)
	}
	states := []stage.State{stage.Ready, stage.Ready, stage.Ready, stage.Ready, stage.Ready, stage.Ready, stage.Needs,
		stage.Blocked, stage.NotYet, stage.Stale}
	var all []store.Judged
	for i, of := range sources {
		for _, st := range stage.All() {
			j := store.Judged{Site: h.Site, SourceID: of.ID, Stage: st, Version: 2,
				Mark: stage.Mark{State: states[(i*7+int(st)*3)%len(states)],
					Sentence: "It answers where it is expected, and its recorder receives it."}}
			if j.Mark.State == stage.Blocked || j.Mark.State == stage.Needs {
				j.Mark.Words, j.Act, j.Changes = "+1 h", stage.Apply, 2
				j.Findings = []finding.Finding{{Code: "x", Severity: finding.Blocks, Words: "+1 h",
					Sentence: "Its UTC is 1 h ahead of Terminal recorder.", WayOut: "Let it take its time from the recorder."}}
			}
			all = append(all, j)
		}
	}
	if err := h.Store.KeepMarks(ctx, all); err != nil {
		t.Fatal(err)
	}
	if _, err := h.Store.Pool.Exec(ctx, "vacuum analyze"); err != nil {
		t.Fatal(err)
	}
	cfg, err := store.Config(h.DSN)
	if err != nil {
		t.Fatal(err)
	}
	count := &counter{}
	cfg.ConnConfig.Tracer = count
	pool, err := pgxpool.NewWithConfig(ctx, cfg)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(pool.Close)
	st := store.On(pool)
	o, err := app.New(st, h.Vault, &dial.Dialer{}, app.Options{})
	if err != nil {
		t.Fatal(err)
	}
	s, err := o.Pages(h.Vault, shell.Options{Log: quietLog()})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(s.Close)
	return h, st, count, s.Handler()
}

// signedIn signs the lead in and returns a function that asks for a page.
func signedIn(t testing.TB, h *testbed.Harbour, handler http.Handler) func(path string,
	header ...string) (*httptest.ResponseRecorder, time.Duration) {
	t.Helper()
	jar := map[string]*http.Cookie{}
	do := func(req *http.Request) (*httptest.ResponseRecorder, time.Duration) {
		req.Host = "localhost"
		req.Header.Set("Accept-Encoding", "gzip")
		for _, c := range jar {
			req.AddCookie(c)
		}
		w := httptest.NewRecorder()
		begun := time.Now()
		handler.ServeHTTP(w, req)
		took := time.Since(begun)
		for _, c := range w.Result().Cookies() {
			jar[c.Name] = c
		}
		return w, took
	}
	w, _ := do(httptest.NewRequest("GET", "/sign-in", nil))
	m := csrf.FindStringSubmatch(unzipped(t, w))
	if m == nil {
		t.Fatal("no form token")
	}
	form := url.Values{"_csrf": {m[1]}, "login": {demo.Lead}, "password": {h.Secrets.Lead}}
	req := httptest.NewRequest("POST", "/sign-in", strings.NewReader(form.Encode()))
	req.Header.Set("Content-Type", "application/x-www-form-urlencoded")
	if w, _ := do(req); w.Code != http.StatusSeeOther {
		t.Fatalf("sign-in: %d", w.Code)
	}
	return func(path string, header ...string) (*httptest.ResponseRecorder, time.Duration) {
		req := httptest.NewRequest("GET", path, nil)
		for i := 0; i+1 < len(header); i += 2 {
			req.Header.Set(header[i], header[i+1])
		}
		return do(req)
	}
}

func unzipped(t testing.TB, w *httptest.ResponseRecorder) string {
	t.Helper()
	var r io.Reader = w.Body
	if w.Header().Get("Content-Encoding") == "gzip" {
		z, err := gzip.NewReader(w.Body)
		if err != nil {
			t.Fatal(err)
		}
		r = z
	}
	data, err := io.ReadAll(r)
	if err != nil {
		t.Fatal(err)
	}
	return string(data)
}

var boardQueries = []string{"", "?from=1401", "?q=state:blocked", "?q=stage:clock+state:needs&sort=-clock",
	"?q=shed+make:tarn+recorder:term", "?q=net:bulk&sort=address", "?sort=-prove&from=2801"}

// A page of the Board takes as many queries with three thousand cameras as with few,
// whatever is asked, and shows at most 200 rows.
func TestTheBoardReadsAWindow(t *testing.T) {
	t.Parallel()
	h, _, count, handler := fullBoard(t)
	get := signedIn(t, h, handler)
	want := int64(0)
	for _, q := range boardQueries {
		before := count.n.Load()
		w, _ := get("/sites/1/board" + q)
		n := count.n.Load() - before
		body := unzipped(t, w)
		if want == 0 {
			want = n
		}
		rows := strings.Count(body, "<tr data-row=")
		if w.Code != http.StatusOK || n > want+1 || n > 20 || rows == 0 || rows > 200 { // one more where a suggestion names its camera
			t.Errorf("%q: %d, %d queries (the first took %d), %d rows", q, w.Code, n, want, rows)
		}
	}
	for path, most := range map[string]int64{"clock": 24, "find": 26, "sign-in": 24, "streams": 24, "channels": 28, "recording": 30,
		"routes": 24, "prove": 26, "settings": 24, "log": 22} {
		before := count.n.Load()
		w, _ := get("/sites/1/" + path)
		if n := count.n.Load() - before; w.Code != http.StatusOK || n > most {
			t.Errorf("%s: %d with %d queries, want at most %d", path, w.Code, n, most)
		}
	}
	// Windows join without a gap or an overlap.
	seen := map[string]bool{}
	for from := 1; from <= 3015; from += 200 {
		w, _ := get(fmt.Sprintf("/sites/1/board?sort=-clock&from=%d", from))
		for _, m := range rowID.FindAllStringSubmatch(unzipped(t, w), -1) {
			if seen[m[1]] {
				t.Fatalf("camera %s is on two windows", m[1])
			}
			seen[m[1]] = true
		}
	}
	if len(seen) != 3015 {
		t.Errorf("the windows show %d cameras, want 3015", len(seen))
	}
}

// BenchmarkBoard asks for the Board of 3,000 cameras, filtered, sorted and windowed in
// turn. Its bound is a bare reading of the same window: 200 devices and their marks.
func BenchmarkBoard(b *testing.B) {
	h, st, count, handler := fullBoard(b)
	get := signedIn(b, h, handler)
	var took, bare []time.Duration
	bytes, queries, pages := 0, int64(0), 0
	ctx := context.Background()
	for range 8 { // every connection has seen every statement
		for _, q := range boardQueries {
			get("/sites/1/board" + q)
		}
	}
	for i := 0; b.Loop(); i++ {
		before := count.n.Load()
		w, d := get("/sites/1/board" + boardQueries[i%len(boardQueries)])
		if w.Code != http.StatusOK {
			b.Fatal(w.Code)
		}
		queries += count.n.Load() - before
		took, bytes, pages = append(took, d), bytes+w.Body.Len(), pages+1
		begun := time.Now()
		window, _, err := st.Window(ctx, store.Selection{Site: h.Site}, store.Sort{}, 0, 200)
		if err != nil {
			b.Fatal(err)
		}
		sources := make([]int64, len(window))
		for i, of := range window {
			sources[i] = of.ID
		}
		if _, err := st.Marks(ctx, sources); err != nil {
			b.Fatal(err)
		}
		bare = append(bare, time.Since(begun))
	}
	slices.Sort(took)
	slices.Sort(bare)
	at := func(all []time.Duration, p float64) float64 {
		return float64(all[int(p*float64(len(all)-1))].Microseconds()) / 1000
	}
	// How fast this machine is just now, to read the other figures by.
	spin := time.Hour
	for range 5 {
		begun := time.Now()
		_ = sha256.Sum256(make([]byte, 8<<20))
		spin = min(spin, time.Since(begun))
	}
	b.ReportMetric(float64(spin.Microseconds())/1000, "ms/sha256-of-8MB")
	var m runtime.MemStats
	runtime.GC()
	runtime.ReadMemStats(&m)
	b.ReportMetric(at(took, .5), "ms/p50")
	b.ReportMetric(at(took, .99), "ms/p99")
	b.ReportMetric(at(bare, .5), "ms/bare-p50")
	b.ReportMetric(at(took, .5)/at(bare, .5), "ratio")
	b.ReportMetric(float64(queries)/float64(pages), "queries")
	b.ReportMetric(float64(bytes)/float64(pages)/1024, "kB-gzipped")
	b.ReportMetric(float64(m.HeapAlloc)/(1<<20), "MB-heap")
}
