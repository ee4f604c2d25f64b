package people

import (
	"errors"
	"strings"
	"testing"

	"github.com/alexedwards/argon2id"
)

func TestPasswords(t *testing.T) {
	Cost = &argon2id.Params{Memory: 64, Iterations: 1, Parallelism: 1, SaltLength: 16, KeyLength: 32}
	h, err := Hash("a harbour wall")
	if err != nil || strings.Contains(h, "harbour") {
		t.Fatalf("%q %v", h, err)
	}
	if !Check("a harbour wall", h) || Check("a harbour wal", h) || Check("", "") || Check("anything at all", "") {
		t.Error("the wrong passwords pass")
	}
	for _, p := range []string{"", "short", strings.Repeat("x", 201)} {
		if _, err := Hash(p); !errors.Is(err, ErrPassword) {
			t.Errorf("Hash(%d characters): %v", len(p), err)
		}
	}
}

func TestRolesAndInitials(t *testing.T) {
	if Viewer.MayChange() || Role("").MayChange() || !Lead.MayChange() || !Technician.MayChange() {
		t.Error("roles")
	}
	for name, want := range map[string]string{"Maren Ostby": "MO", "Port office": "Po", "A B C": "AC", "": ""} {
		if got := (Person{Name: name}).Initials(); got != want {
			t.Errorf("%q: %q, want %q", name, got, want)
		}
	}
}
