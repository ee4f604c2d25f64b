package access

import (
	"fmt"
	"slices"
	"strings"
	"unicode"
)

// Rule is what a device asks of passwords (ONVIF Core, 8.4.9, password complexity):
// counts of characters; zero asks nothing.
type Rule struct {
	Length  int  `json:"length"`
	Upper   int  `json:"upper"`
	Digits  int  `json:"digits"`
	Signs   int  `json:"signs"`
	NotName bool `json:"not_name"` // the user name may not occur in it
	Longest int  `json:"longest"`  // 0: not said
}

// longest is the longest password that devices are given: several makes cut or refuse
// longer ones.
const longest = 24

// Breaks says what of the rule a password breaks, in words; empty where it holds.
func (r Rule) Breaks(username, password string) string {
	count := func(f func(rune) bool) int {
		n := 0
		for _, c := range password {
			n += truth(f(c))
		}
		return n
	}
	sign := func(c rune) bool { return !unicode.IsLetter(c) && !unicode.IsDigit(c) }
	switch {
	case len(password) < r.Length:
		return fmt.Sprintf("it wants at least %d characters", r.Length)
	case r.Longest > 0 && len(password) > r.Longest:
		return fmt.Sprintf("it takes at most %d characters", r.Longest)
	case count(unicode.IsUpper) < r.Upper:
		return fmt.Sprintf("it wants %d capital letters", r.Upper)
	case count(unicode.IsDigit) < r.Digits:
		return fmt.Sprintf("it wants %d digits", r.Digits)
	case count(sign) < r.Signs:
		return fmt.Sprintf("it wants %d signs", r.Signs)
	case r.NotName && username != "" && strings.Contains(strings.ToLower(password), strings.ToLower(username)):
		return "the user name may not occur in it"
	}
	return ""
}

func truth(b bool) int {
	if b {
		return 1
	}
	return 0
}

// Letters that are read out without doubt, and signs that need no escape anywhere.
const (
	lowers = "abcdefghjkmnpqrstuvwxyz"
	uppers = "ABCDEFGHJKLMNPQRSTUVWXYZ"
	digits = "23456789"
	signs  = "-_.+"
)

// Entropy is how many random bytes Generate takes.
const Entropy = 64

// Generate makes a password that holds r for a user name: 16 characters of every kind
// where the rule asks for no more, at most 24. random gives its chance, Entropy bytes;
// equal bytes give equal passwords. It fails where no password of that length holds
// the rule.
func (r Rule) Generate(username string, random []byte) (string, error) {
	if len(random) < Entropy {
		return "", fmt.Errorf("access: %d random bytes, %d are needed", len(random), Entropy)
	}
	size := max(16, r.Length, r.Upper+r.Digits+r.Signs+2)
	if r.Longest > 0 {
		size = min(size, r.Longest)
	}
	if size > longest || size < r.Upper+r.Digits+r.Signs {
		return "", fmt.Errorf("access: the device's rule can't be held with %d characters", min(size, longest))
	}
	var kinds []string
	for kind, n := range map[string]int{uppers: max(2, r.Upper), digits: max(2, r.Digits), signs: max(1, r.Signs)} {
		for range n {
			kinds = append(kinds, kind)
		}
	}
	if len(kinds) > size {
		kinds = nil
		for kind, n := range map[string]int{uppers: r.Upper, digits: r.Digits, signs: r.Signs} {
			for range n {
				kinds = append(kinds, kind)
			}
		}
	}
	slices.Sort(kinds) // in one order whatever the map gave
	for len(kinds) < size {
		kinds = append(kinds, lowers)
	}
	// Which place gets which kind is chance too; the first is a letter, since some makes
	// want that.
	at := 0
	next := func(n int) int { v := int(random[at%len(random)]); at++; return v % n }
	for i := len(kinds) - 1; i > 0; i-- {
		j := next(i + 1)
		kinds[i], kinds[j] = kinds[j], kinds[i]
	}
	for i, k := range kinds {
		if k == lowers || k == uppers {
			kinds[0], kinds[i] = kinds[i], kinds[0]
			break
		}
	}
	out := make([]byte, size)
	for i, k := range kinds {
		out[i] = k[next(len(k))]
	}
	if says := r.Breaks(username, string(out)); says != "" {
		return "", fmt.Errorf("access: %s", says)
	}
	return string(out), nil
}
