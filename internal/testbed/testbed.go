// Package testbed is what tests share: a database of one's own and stand-ins on a
// network of one's own.
package testbed

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/url"
	"os"
	"path/filepath"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/alexedwards/argon2id"
	"github.com/jackc/pgx/v5"

	"duskyharbor/internal/demo"
	"duskyharbor/internal/people"
	"duskyharbor/internal/store"
	"duskyharbor/internal/vault"
)

const template = "duskyharbor_template"

var build, cheap sync.Once

// Database makes a migrated database for one test and drops it afterwards. The test
// is skipped where no server was started for it: make test starts one.
func Database(t testing.TB) (dsn string) {
	t.Helper()
	server := os.Getenv("TEST_DATABASE_URL")
	if server == "" {
		t.Skip("TEST_DATABASE_URL isn't set: run the tests with make test")
	}
	ctx := context.Background()
	build.Do(func() { buildTemplate(t, ctx, server) })
	raw := make([]byte, 8)
	rand.Read(raw)
	name := "t_" + hex.EncodeToString(raw)
	admin(t, ctx, server, fmt.Sprintf("create database %s template %s strategy file_copy", name, template))
	t.Cleanup(func() { admin(t, ctx, server, "drop database if exists "+name+" with (force)") })
	return named(t, server, name)
}

// EmptyDatabase makes a database without a table for one test.
func EmptyDatabase(t testing.TB) (dsn string) {
	t.Helper()
	server := os.Getenv("TEST_DATABASE_URL")
	if server == "" {
		t.Skip("TEST_DATABASE_URL isn't set: run the tests with make test")
	}
	raw := make([]byte, 8)
	rand.Read(raw)
	name := "e_" + hex.EncodeToString(raw)
	admin(t, context.Background(), server, "create database "+name)
	t.Cleanup(func() { admin(t, context.Background(), server, "drop database if exists "+name+" with (force)") })
	return named(t, server, name)
}

func named(t testing.TB, server, name string) string {
	u, err := url.Parse(server)
	if err != nil {
		t.Fatal(err)
	}
	u.Path = "/" + name
	return u.String()
}

func admin(t testing.TB, ctx context.Context, server, sql string) {
	t.Helper()
	conn, err := pgx.Connect(ctx, server)
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close(ctx)
	if _, err := conn.Exec(ctx, sql); err != nil {
		t.Fatalf("%s: %v", sql, err)
	}
}

// buildTemplate migrates a template once for all test programs of a run.
func buildTemplate(t testing.TB, ctx context.Context, server string) {
	conn, err := pgx.Connect(ctx, server)
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close(ctx)
	if _, err := conn.Exec(ctx, "select pg_advisory_lock(40127)"); err != nil {
		t.Fatal(err)
	}
	var there bool
	if err := conn.QueryRow(ctx, "select exists (select 1 from pg_database where datname = $1)", template).Scan(&there); err != nil {
		t.Fatal(err)
	}
	if there {
		return
	}
	fresh := template + "_new"
	for _, sql := range []string{"drop database if exists " + fresh, "create database " + fresh} {
		if _, err := conn.Exec(ctx, sql); err != nil {
			t.Fatal(err)
		}
	}
	st, err := store.Open(ctx, named(t, server, fresh))
	if err != nil {
		t.Fatal(err)
	}
	err = st.Migrate(ctx)
	st.Close()
	if err != nil {
		t.Fatal(err)
	}
	if _, err := conn.Exec(ctx, "alter database "+fresh+" rename to "+template); err != nil {
		t.Fatal(err)
	}
}

// Store is an open store on a database of the test's own.
func Store(t testing.TB) *store.Store {
	t.Helper()
	st, err := store.Open(context.Background(), Database(t))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(st.Close)
	return st
}

// Net claims a loopback network that no other test program uses now.
func Net(t testing.TB) demo.Net {
	t.Helper()
	raw := make([]byte, 1)
	rand.Read(raw)
	for i := range 150 {
		n := demo.Net(fmt.Sprintf("127.%d", 100+(int(raw[0])+i)%150))
		// A listener on an address that no stand-in has is the claim.
		l, err := net.Listen("tcp4", n.At(".99.99").String()+":8099")
		if err != nil {
			continue
		}
		// A stand-in of a run that was killed may be there yet. It is asked, not bound: a
		// program that another test starts just now would inherit the socket, and hold the
		// port until it runs.
		there, err := net.DialTimeout("tcp4", n.At(".1.11").String()+":8080", time.Second)
		if err == nil {
			_ = there.Close()
		}
		if !errors.Is(err, syscall.ECONNREFUSED) {
			_ = l.Close()
			continue
		}
		t.Cleanup(func() { _ = l.Close() })
		return n
	}
	t.Fatal("no loopback network is free")
	return ""
}

// Harbour is the scenario running for one test, seeded and empty of facts.
type Harbour struct {
	Net     demo.Net
	Secrets demo.Secrets
	Store   *store.Store
	Vault   *vault.Vault
	Key     string // key file
	DSN     string
	Site    int64
	Fleet   *demo.Fleet
}

// Start runs the thin part of the stand-ins on a network of their own beside a seeded database.
func Start(t testing.TB) *Harbour {
	t.Helper()
	return StartBulk(t, 0)
}

// StartOnly is Start with devices of the scenario by their places.
func StartOnly(t testing.TB, places ...string) *Harbour {
	t.Helper()
	return start(t, 0, places...)
}

// StartBulkOnly is StartOnly with so many bulk cameras beside.
func StartBulkOnly(t testing.TB, bulk int, places ...string) *Harbour {
	t.Helper()
	return start(t, bulk, places...)
}

// StartWhole is Start with every device of the scenario.
func StartWhole(t testing.TB) *Harbour {
	t.Helper()
	return start(t, 0)
}

// StartBulk is Start with so many bulk cameras beside.
func StartBulk(t testing.TB, bulk int) *Harbour {
	t.Helper()
	return start(t, bulk, demo.Thin...)
}

func start(t testing.TB, bulk int, only ...string) *Harbour {
	t.Helper()
	h := StartBare(t, bulk, only...)
	ctx := context.Background()
	var err error
	if h.Site, err = demo.Seed(ctx, h.Store, h.Vault, h.Net, h.Secrets); err != nil {
		t.Fatal(err)
	}
	if bulk > 0 {
		if err := demo.SeedBulk(ctx, h.Store, h.Net, h.Site, bulk); err != nil {
			t.Fatal(err)
		}
	}
	return h
}

// StartBare is Start over a database that nobody has begun with: devices there are, no
// site and nobody who may sign in.
func StartBare(t testing.TB, bulk int, only ...string) *Harbour {
	t.Helper()
	cheap.Do(func() {
		people.Cost = &argon2id.Params{Memory: 64, Iterations: 1, Parallelism: 1, SaltLength: 16, KeyLength: 32}
		slog.SetLogLoggerLevel(slog.LevelError)
	})
	ctx := context.Background()
	h := &Harbour{Net: Net(t), Secrets: demo.NewSecrets(), DSN: Database(t), Key: filepath.Join(t.TempDir(), "key")}
	var err error
	if h.Store, err = store.Open(ctx, h.DSN); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(h.Store.Close)
	if h.Vault, err = vault.Load(h.Key); err != nil {
		t.Fatal(err)
	}
	if h.Fleet, err = demo.StartFleet(ctx, h.Net, h.Secrets, state(t, bulk), bulk, only...); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(h.Fleet.Close)
	if len(h.Fleet.Failed) > 0 {
		t.Fatalf("stand-ins couldn't start: %+v", h.Fleet.Failed)
	}
	return h
}

// state is where stand-ins keep theirs; for load it is kept in memory alone.
func state(t testing.TB, bulk int) string {
	if bulk > 0 {
		return ""
	}
	return t.TempDir()
}

// waitLimit is how long one thing may take at least before a test fails for it: a machine
// that is busy with others is no defect.
const waitLimit = 90 * time.Second

// longestPause is how long Until pauses at most between two looks: what waits for long leaves the machine to
// what it waits for.
const longestPause = 150 * time.Millisecond

// Until polls until ok holds, for as long as limit, and not less than waitLimit, and fails
// with what otherwise.
func Until(t testing.TB, limit time.Duration, what string, ok func() bool) {
	t.Helper()
	limit = max(limit, waitLimit)
	pause := 20 * time.Millisecond
	for end := time.Now().Add(limit); time.Now().Before(end); {
		if ok() {
			return
		}
		time.Sleep(pause)
		pause = min(pause*3/2, longestPause)
	}
	t.Fatalf("after %v still not so: %s", limit, what)
}
