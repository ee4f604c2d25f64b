package demo_test

import (
	"context"
	"os"
	"path/filepath"
	"testing"

	"duskyharbor/internal/demo"
	"duskyharbor/internal/testbed"
)

func TestSeedingTwiceChangesNothing(t *testing.T) {
	h := testbed.Start(t)
	ctx := context.Background()
	count := func() (n int) {
		t.Helper()
		if err := h.Store.Pool.QueryRow(ctx, `select (select count(*) from device) * 1000 + (select count(*) from credential_set) * 100 + (select count(*) from person) * 10 + (select count(*) from network)`).Scan(&n); err != nil {
			t.Fatal(err)
		}
		return n
	}
	before := count()
	if before != 18*1000+5*100+3*10+3 {
		t.Errorf("seeded %d: want 18 devices, 5 sets, 3 people, 3 networks", before)
	}
	again, err := demo.Seed(ctx, h.Store, h.Vault, h.Net, h.Secrets)
	if err != nil || again != h.Site || count() != before {
		t.Errorf("a second seeding: site %d, %d, %v", again, count(), err)
	}
	var facts int
	if err := h.Store.Pool.QueryRow(ctx, `select count(*) from fact`).Scan(&facts); err != nil || facts != 0 {
		t.Errorf("the site starts with %d facts", facts)
	}
}

func TestSecretsAreMadeOnceAndKeptToOneself(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "data")
	a, err := demo.LoadSecrets(dir)
	if err != nil {
		t.Fatal(err)
	}
	b, err := demo.LoadSecrets(dir)
	if err != nil || a != b {
		t.Errorf("%v, and not the same the second time", err)
	}
	info, err := os.Stat(filepath.Join(dir, "scenario.json"))
	if err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("%v %v", info.Mode(), err)
	}
	seen := map[string]bool{}
	for _, s := range []string{a.House, a.Former, a.Terminal, a.Quay, a.Store, a.Lead, a.Tech, a.Viewer} {
		if len(s) != 19 || seen[s] {
			t.Errorf("a password of %d characters, or one twice", len(s))
		}
		seen[s] = true
	}
}

func TestNetsOutsideLoopbackAreRefused(t *testing.T) {
	for n, ok := range map[demo.Net]bool{"127.40": true, "127.200": true, "10.0": false, "127": false, "127.300": false, "": false} {
		if (n.Check() == nil) != ok {
			t.Errorf("%q: %v", n, n.Check())
		}
	}
}

func TestResetForgetsAll(t *testing.T) {
	dir := t.TempDir()
	if err := demo.Reset(filepath.Join(dir, "nothing")); err != nil {
		t.Error(err)
	}
	if _, err := demo.LoadSecrets(dir); err != nil {
		t.Fatal(err)
	}
	for _, f := range []string{"demo.lock", "keep.txt"} {
		if err := os.WriteFile(filepath.Join(dir, f), nil, 0o600); err != nil {
			t.Fatal(err)
		}
	}
	if err := demo.Reset(dir); err != nil {
		t.Fatal(err)
	}
	if _, err := os.Stat(filepath.Join(dir, "scenario.json")); err == nil {
		t.Error("its passwords are kept")
	}
	if _, err := os.Stat(filepath.Join(dir, "keep.txt")); err != nil {
		t.Error("it removed what isn't its own")
	}
}
