package people

import (
	"bytes"
	"slices"
	"strings"
	"testing"
)

func TestTokensAndCodes(t *testing.T) {
	seen := map[string]bool{}
	for range 200 {
		token, hash := NewToken()
		if !strings.HasPrefix(token, tokenPrefix) || len(token) != len(tokenPrefix)+32 || len(hash) != 32 || !bytes.Equal(hash, HashToken(token)) {
			t.Fatalf("%q %x", token, hash)
		}
		code, hash := NewCode()
		if len(code) != 23 || !bytes.Equal(hash, HashToken(strings.ToUpper(strings.ReplaceAll(code, "-",
			" ")))) || bytes.Equal(hash, HashToken(code+"a")) {
			t.Fatalf("%q %x", code, hash)
		}
		if seen[token] || seen[code] {
			t.Fatal("one twice")
		}
		seen[token], seen[code] = true, true
	}
}

func TestParseScopes(t *testing.T) {
	for _, tc := range []struct {
		in   []string
		want []string
	}{{nil, []string{"read"}}, {[]string{"run", " read", "run"}, []string{"read", "run"}}, {[]string{"apply"}, []string{"read", "apply"}}} {
		if got, err := ParseScopes(tc.in); err != nil || !slices.Equal(got, tc.want) {
			t.Errorf("%v: %v %v", tc.in, got, err)
		}
	}
	for _, bad := range []string{"reveal", "", "READ", "admin"} {
		if got, err := ParseScopes([]string{bad}); err == nil {
			t.Errorf("%q: %v", bad, got)
		}
	}
}
