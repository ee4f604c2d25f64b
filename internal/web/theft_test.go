package web_test

import (
	"bytes"
	"log/slog"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"duskyharbor/internal/core/stage"
	"duskyharbor/internal/demo"
	"duskyharbor/internal/pgserver"
	"duskyharbor/internal/store"
	"duskyharbor/internal/testbed"
)

// diary keeps all that is logged.
type diary struct {
	mu sync.Mutex
	b  bytes.Buffer
}

func (d *diary) Write(p []byte) (int, error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.b.Write(p)
}

func (d *diary) String() string {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.b.String()
}

// What a stolen database gives away, and a stolen log: none of the secrets that were
// planted, whether they were typed, sealed, sent to a device or shown.
func TestAStolenDatabaseHoldsNoSecret(t *testing.T) {
	t.Parallel()
	logged := &diary{}
	h := serveLogging(t, slog.New(slog.NewTextHandler(logged, &slog.HandlerOptions{Level: slog.LevelDebug})))
	lead := visit(t, h)
	lead.signIn(demo.Lead, "a wrong password typed")
	lead.signIn(demo.Lead, h.Secrets.Lead)
	token := lead.token("/sites/1/settings")
	back := url.Values{"_csrf": {token}, "back": {"/sites/1/settings"}}
	with := func(kv ...string) url.Values {
		f := url.Values{}
		for k, v := range back {
			f[k] = v
		}
		for i := 0; i < len(kv); i += 2 {
			f.Set(kv[i], kv[i+1])
		}
		return f
	}
	lead.post("/sites/1/settings/set", with("name", "Spare", "username", "u", "password", "planted-in-a-set"))
	planted := []string{h.Secrets.House, h.Secrets.Former, h.Secrets.Terminal, h.Secrets.Quay, h.Secrets.Store,
		h.Secrets.Lead, h.Secrets.Tech, h.Secrets.Viewer, h.Secrets.Token,
		"a wrong password typed", "planted-in-a-set", "planted-new-password"}
	for path, form := range map[string]url.Values{"/sites/1/settings/invite": with("note", "x", "role", "viewer"),
		"/sites/1/settings/token": with("name", "x", "days", "3"), "/sites/1/settings/set/1/reveal": with("password", h.Secrets.Lead)} {
		_, body := lead.body(path, form)
		m := secret.FindStringSubmatch(body)
		if m == nil {
			t.Fatalf("%s shows nothing", path)
		}
		planted = append(planted, m[1])
	}
	// Work that sends passwords: cameras and a recorder are signed in to, one is placed.
	for _, st := range []string{"find", "sign-in", "streams"} {
		lead.post("/sites/1/"+st+"/read", back)
		h.quiet()
	}
	lead.make("/sites/1/channels/apply", back)
	h.quiet()
	lead.post("/account/password", with("password", h.Secrets.Lead, "new", "planted-new-password", "again", "planted-new-password"))
	h.visitAs(h.Secrets.Token, "GET", "/metrics")
	for _, c := range lead.c.Jar.Cookies(mustURL(t, h.url)) {
		if c.Name == "harbour" {
			planted = append(planted, c.Value) // a live session
		}
	}
	if n := count(h, `select count(*) from change where state = 'verified'`); n == 0 {
		t.Error("no camera was placed: the test sent too little")
	}

	file := filepath.Join(t.TempDir(), "dump")
	if err := pgserver.Dump(t.Context(), h.DSN, file); err != nil {
		t.Fatal(err)
	}
	dump := everything(t, h)
	if len(dump) < 20_000 || !strings.Contains(dump, "Slipway") {
		t.Fatalf("the dump holds %d bytes", len(dump))
	}
	raw, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	for _, s := range planted {
		for name, where := range map[string]string{"the database": dump, "the back-up": string(raw), "the log": logged.String()} {
			for _, form := range []string{s, url.QueryEscape(s), strings.ReplaceAll(s, "-", "")} {
				if strings.Contains(where, form) {
					t.Errorf("%s holds a secret that begins with %.4q", name, s)
				}
			}
		}
	}
	if !strings.Contains(logged.String(), "/sites/1/settings/set/1/reveal") {
		t.Error("the log is of something else")
	}
	key, err := os.ReadFile(h.Key)
	if err != nil || strings.Contains(dump, strings.TrimSpace(string(key))) {
		t.Errorf("the vault's key is in the database: %v", err)
	}
}

func mustURL(t *testing.T, s string) *url.URL {
	t.Helper()
	u, err := url.Parse(s)
	if err != nil {
		t.Fatal(err)
	}
	return u
}

// quiet waits until no run is under way.
func (h *harbour) quiet() {
	h.t.Helper()
	testbed.Until(h.t, 60*time.Second, "the runs end", func() bool {
		return count(h,
			`select count(*) from run where ended_at is null`) == 0
	})
}

// everything is a full dump in plain text, bytes of columns too.
func everything(t *testing.T, h *harbour) string {
	t.Helper()
	u := mustURL(t, h.DSN)
	dirs, _ := filepath.Glob("/usr/lib/postgresql/*/bin/pg_dump")
	if len(dirs) == 0 {
		t.Fatal("pg_dump isn't there")
	}
	slices.Sort(dirs)
	cmd := exec.Command(dirs[len(dirs)-1], "--inserts", u.String())
	out, err := cmd.Output()
	if err != nil {
		t.Fatal(err)
	}
	text := string(out)
	// Bytes are dumped as hex: what they spell is looked at too.
	err = nil
	rows, err := h.Store.Pool.Query(t.Context(), `select encode(data, 'escape') from sessions union all select encode(sealed, 'escape') from credential_set`)
	if err != nil {
		t.Fatal(err)
	}
	defer rows.Close()
	for rows.Next() {
		var s string
		if err := rows.Scan(&s); err != nil {
			t.Fatal(err)
		}
		text += s
	}
	return text
}

// A back-up put into an empty database holds the same, sends nothing to a device, and
// opens with the same key.
func TestABackUpComesBack(t *testing.T) {
	t.Parallel()
	h := serve(t)
	lead := visit(t, h)
	lead.signIn(demo.Lead, h.Secrets.Lead)
	token := url.Values{"_csrf": {lead.token("/sites/1/find")}}
	for _, st := range []string{"find", "sign-in", "clock"} {
		lead.post("/sites/1/"+st+"/read", token)
		h.quiet()
	}
	// One change is open when the back-up is made.
	if _, err := h.Store.Pool.Exec(t.Context(), `with r as (insert into run (site_id, stage, act, title, total) values (1, 3, 'apply', 'Open', 1) returning id),
		s as (insert into run_step (run_id, device_id) select r.id, d.id from r, device d where d.place = 'Slipway' returning id, device_id)
		insert into change (site_id, device_id, step_id, stage, kind, key, title, from_text, to_text, why, risk, undo, args, state) select 1, device_id, id, 3, 'clock.zone', 'k', 'Open', 'a', 'b', '', 'none', '{}', '{}', 'asked' from s`); err != nil {
		t.Fatal(err)
	}
	sums := func(st *store.Store) map[string]string {
		out := map[string]string{}
		for _, table := range []string{"site", "person", "membership", "network", "credential_set", "device", "source",
			"fact", "fact_history", "try", "mark", "finding", "proof", "audit", "api_token", "invitation"} {
			var s string
			if err := st.Pool.QueryRow(t.Context(),
				`select coalesce(md5(string_agg(t::text, '|' order by t::text)), '') || count(*) from `+table+` t`).Scan(&s); err != nil {
				t.Fatal(err)
			}
			out[table] = s
		}
		return out
	}
	file := filepath.Join(t.TempDir(), "back-up")
	want := sums(h.Store)
	if err := pgserver.Dump(t.Context(), h.DSN, file); err != nil {
		t.Fatal(err)
	}
	if info, err := os.Stat(file); err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("%v %v", info, err)
	}
	dsn := testbed.EmptyDatabase(t)
	if err := pgserver.Restore(t.Context(), dsn, file); err != nil {
		t.Fatal(err)
	}
	st, err := store.Open(t.Context(), dsn)
	if err != nil {
		t.Fatal(err)
	}
	defer st.Close()
	if err := st.Migrate(t.Context()); err != nil {
		t.Fatal(err)
	}
	if err := st.AfterRestore(t.Context()); err != nil {
		t.Fatal(err)
	}
	for table, sum := range sums(st) {
		if sum != want[table] {
			t.Errorf("%s came back as %s, was %s", table, sum, want[table])
		}
	}
	var open, jobs int
	if err := st.Pool.QueryRow(t.Context(), `select (select count(*) from change where state in ('asked', 'sent', 'read back')) + (select count(*) from run where ended_at is null), (select count(*) from river_job)`).Scan(&open, &jobs); err != nil || open != 0 || jobs != 0 {
		t.Errorf("%d are open and %d jobs wait after it was put back: %v", open, jobs, err)
	}
	set, err := st.Set(t.Context(), 1)
	if err != nil {
		t.Fatal(err)
	}
	if got, err := h.Vault.Open(set.Sealed, store.SetPlace(1)); err != nil || got != h.Secrets.House {
		t.Errorf("a password doesn't open: %v", err)
	}
	if err := pgserver.Restore(t.Context(), dsn, file); err == nil {
		t.Error("it is put over a database that isn't empty")
	}
	if m, err := st.Groups(t.Context(), 1); err != nil || !slices.ContainsFunc(m, func(g stage.Group) bool { return g.Stage == stage.Clock && g.Count > 0 }) {
		t.Errorf("%v %v", m, err)
	}
}
