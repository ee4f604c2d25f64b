package vault

import (
	"bytes"
	"errors"
	"os"
	"path/filepath"
	"testing"
)

func TestSealedOpensOnlyInItsPlaceAndWithItsKey(t *testing.T) {
	dir := t.TempDir()
	v, err := Load(filepath.Join(dir, "key"))
	if err != nil {
		t.Fatal(err)
	}
	sealed, err := v.Seal("low tide", "credential_set/1")
	if err != nil || bytes.Contains(sealed, []byte("low tide")) {
		t.Fatalf("%x %v", sealed, err)
	}
	again, err := Load(filepath.Join(dir, "key"))
	if err != nil {
		t.Fatal(err)
	}
	if got, err := again.Open(sealed, "credential_set/1"); err != nil || got != "low tide" {
		t.Errorf("%q %v", got, err)
	}
	if _, err := again.Open(sealed, "credential_set/2"); !errors.Is(err, ErrSealed) {
		t.Errorf("it opens in another place: %v", err)
	}
	other, _ := Load(filepath.Join(dir, "other"))
	if _, err := other.Open(sealed, "credential_set/1"); !errors.Is(err, ErrSealed) {
		t.Errorf("it opens with another key: %v", err)
	}
	for i := range sealed {
		bent := bytes.Clone(sealed)
		bent[i] ^= 1
		if _, err := again.Open(bent, "credential_set/1"); !errors.Is(err, ErrSealed) {
			t.Fatalf("bent at byte %d it opens", i)
		}
	}
	if _, err := again.Open(nil, "x"); !errors.Is(err, ErrSealed) {
		t.Error("nothing opens")
	}
}

func TestAKeyFileOthersMayReadIsRefused(t *testing.T) {
	path := filepath.Join(t.TempDir(), "key")
	if _, err := Load(path); err != nil {
		t.Fatal(err)
	}
	if err := os.Chmod(path, 0o644); err != nil {
		t.Fatal(err)
	}
	if _, err := Load(path); err == nil {
		t.Error("a key that others may read is taken")
	}
	if err := os.WriteFile(path, []byte("short"), 0o600); err != nil {
		t.Fatal(err)
	}
	if err := os.Chmod(path, 0o600); err != nil {
		t.Fatal(err)
	}
	if _, err := Load(path); err == nil {
		t.Error("a key that is none is taken")
	}
}

func TestRotation(t *testing.T) {
	path := filepath.Join(t.TempDir(), "key")
	running, err := Load(path)
	if err != nil {
		t.Fatal(err)
	}
	sealed, err := running.Seal("low tide", "x/1")
	if err != nil {
		t.Fatal(err)
	}
	before, _ := os.ReadFile(path)
	stolen, err := New(running.keys[0].raw)
	if err != nil {
		t.Fatal(err)
	}
	if err := Rotate(path, func(_, _ *Vault) error { return errors.New("the database is away") }); err == nil {
		t.Fatal("a failure isn't told")
	}
	if got, err := running.Open(sealed, "x/1"); err != nil || got != "low tide" {
		t.Errorf("after a failed rotation: %q %v", got, err)
	}
	during, err := running.Seal("high tide", "x/2") // by the new key already
	if err != nil {
		t.Fatal(err)
	}
	reseal := func(old, next *Vault) error {
		for _, p := range []struct {
			value *[]byte
			place string
		}{{&sealed, "x/1"}, {&during, "x/2"}} {
			plain, err := old.Open(*p.value, p.place)
			if err != nil {
				return err
			}
			if *p.value, err = next.Seal(plain, p.place); err != nil {
				return err
			}
		}
		return nil
	}
	if err := Rotate(path, reseal); err != nil {
		t.Fatal(err)
	}
	after, _ := os.ReadFile(path)
	info, err := os.Stat(path)
	if err != nil || info.Mode().Perm() != 0o600 || bytes.Equal(before, after) || bytes.Count(after, []byte("\n")) != 1 {
		t.Errorf("the key file holds %d lines, rights %v", bytes.Count(after, []byte("\n")), info.Mode())
	}
	// The server that was running reads the file again by itself.
	for place, want := range map[string]string{"x/1": "low tide", "x/2": "high tide"} {
		value := map[string][]byte{"x/1": sealed, "x/2": during}[place]
		if got, err := running.Open(value, place); err != nil || got != want {
			t.Errorf("%s: %q %v", place, got, err)
		}
		if _, err := stolen.Open(value, place); !errors.Is(err, ErrSealed) {
			t.Errorf("%s opens with the old key", place)
		}
	}
}

// Values that were sealed before keys had names still open.
func TestValuesWithoutAHeaderOpen(t *testing.T) {
	v, err := Load(filepath.Join(t.TempDir(), "key"))
	if err != nil {
		t.Fatal(err)
	}
	sealed, err := v.Seal("low tide", "x/1")
	if err != nil {
		t.Fatal(err)
	}
	if got, err := v.Open(sealed[header:], "x/1"); err != nil || got != "low tide" {
		t.Errorf("%q %v", got, err)
	}
}
