package identity

import (
	"strconv"
	"strings"
	"unicode"
	"unicode/utf8"

	"duskyharbor/internal/core/trouble"
)

// MostPlace is how long the name of a place may be, in characters.
const MostPlace = 64

// Nameable is a view that is to be given a name, with what of it a pattern may take.
type Nameable struct{ Place, Make, Model, Address string }

// NamesBy are the names that a pattern gives views, in their order: {place} is what each is called, {make}, {model} and
// {address} are its own, and {n} counts from one, {nn} and {nnn} with zeros before. An error is a sentence.
func NamesBy(pattern string, of []Nameable) ([]string, error) {
	if strings.TrimSpace(pattern) == "" {
		return nil, trouble.UserError("Say how they are to be named, as Quay {n}.")
	}
	out := make([]string, len(of))
	for i, x := range of {
		name, err := fill(pattern, func(token string) (string, bool) {
			switch token {
			case "place":
				return x.Place, true
			case "make":
				return x.Make, true
			case "model":
				return x.Model, true
			case "address":
				return x.Address, true
			}
			if token != "" && strings.Trim(token, "n") == "" && len(token) <= 4 {
				n := strconv.Itoa(i + 1)
				return strings.Repeat("0", max(0, len(token)-len(n))) + n, true
			}
			return "", false
		})
		if err != nil {
			return nil, err
		}
		out[i] = name
	}
	return out, CheckNames(out)
}

// fill puts what value gives in the place of each {token}.
func fill(pattern string, value func(token string) (string, bool)) (string, error) {
	var b strings.Builder
	for rest := pattern; rest != ""; {
		before, after, open := strings.Cut(rest, "{")
		b.WriteString(before)
		if !open {
			break
		}
		token, tail, closed := strings.Cut(after, "}")
		v, known := value(token)
		if !closed || !known {
			return "", trouble.UserErrorf("{%.20s} means nothing here: {place}, {n}, {nn}, {make}, {model} and {address} do.", token)
		}
		b.WriteString(v)
		rest = tail
	}
	return strings.Join(strings.Fields(b.String()), " "), nil
}

// CheckNames is what is wrong with names that are given together: each has 1 to 64 characters in one line, and no two
// are the same.
func CheckNames(names []string) error {
	seen := map[string]int{}
	for i, n := range names {
		switch had, twice := seen[strings.ToLower(n)]; {
		case n == "":
			return trouble.UserErrorf("The %s of them would have no name.", nth(i+1))
		case utf8.RuneCountInString(n) > MostPlace:
			return trouble.UserErrorf("%.40q… is longer than %d characters.", n, MostPlace)
		case strings.ContainsFunc(n, unicode.IsControl):
			return trouble.UserErrorf("%.40q isn't a name in one line.", n)
		case twice:
			return trouble.UserErrorf("Two of them would be called %q, the %s and the %s.", n, nth(had+1), nth(i+1))
		}
		seen[strings.ToLower(n)] = i
	}
	return nil
}

func nth(n int) string {
	suffix := "th"
	if n%100 < 11 || n%100 > 13 {
		suffix = map[int]string{1: "st", 2: "nd", 3: "rd"}[n%10]
		if suffix == "" {
			suffix = "th"
		}
	}
	return strconv.Itoa(n) + suffix
}
