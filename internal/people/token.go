package people

import (
	"crypto/rand"
	"crypto/sha256"
	"encoding/base32"
	"fmt"
	"slices"
	"strings"
)

// Scope is what a program's token may do.
type Scope string

const (
	ScopeRead  Scope = "read"  // see what a viewer sees
	ScopeRun   Scope = "run"   // and start runs that read devices
	ScopeApply Scope = "apply" // and have proposed changes made
	ScopeSetUp Scope = "setup" // and keep what a site's leads may wish of it: networks, recorders, sets, plans
)

// Scopes lists them, the least first. Revealing a password is none of them.
func Scopes() []Scope { return []Scope{ScopeRead, ScopeRun, ScopeApply, ScopeSetUp} }

// ParseScopes reads a list of scopes; read is always among them.
func ParseScopes(words []string) ([]string, error) {
	out := []string{string(ScopeRead)}
	for _, w := range words {
		w = strings.TrimSpace(w)
		if !slices.Contains(Scopes(), Scope(w)) {
			return nil, fmt.Errorf("%q is no scope: a token may read, run and apply", w)
		}
		if !slices.Contains(out, w) {
			out = append(out, w)
		}
	}
	return out, nil
}

// tokenPrefix tells a token of this product from other secrets.
const tokenPrefix = "dh_"

var letters = base32.NewEncoding("abcdefghjkmnpqrstuvwxyz234567890").WithPadding(base32.NoPadding)

func random(n int) string {
	raw := make([]byte, n)
	rand.Read(raw)
	return letters.EncodeToString(raw)
}

// NewToken makes a program's token of 160 random bits, and the hash that is kept.
func NewToken() (token string, hash []byte) {
	token = tokenPrefix + random(20)
	return token, HashToken(token)
}

// HashToken is the stored form of a token or an invitation's code: SHA-256 is enough
// for what is random all through.
func HashToken(token string) []byte {
	sum := sha256.Sum256([]byte(strings.ToLower(strings.NewReplacer("-", "", " ", "").Replace(token))))
	return sum[:]
}

// NewCode makes an invitation's code of 100 random bits, to be read out or typed:
// dashes, spaces and case don't matter.
func NewCode() (code string, hash []byte) {
	s := random(13)[:20]
	code = strings.Join([]string{s[:5], s[5:10], s[10:15], s[15:]}, "-")
	return code, HashToken(code)
}
