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
