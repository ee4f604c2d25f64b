// Package people is who may use the product: roles and what they allow, passwords.
package people

import (
	"errors"
	"runtime"
	"unicode/utf8"

	"github.com/alexedwards/argon2id"
)

// Role of a person on a site.
type Role string

const (
	Lead       Role = "lead"
	Technician Role = "technician"
	Viewer     Role = "viewer"
)

// MayChange says whether the role may start runs and change devices; a viewer sees
// all and changes nothing.
func (r Role) MayChange() bool { return r == Lead || r == Technician }

// Person is one account.
type Person struct {
	ID    int64
	Login string
	Name  string
}

// Initials are the first letters of the first and the last name.
func (p Person) Initials() string {
	out, word := "", true
	for _, r := range p.Name {
		if word && r != ' ' {
			out += string(r)
		}
		word = r == ' '
	}
	if n := utf8.RuneCountInString(out); n > 2 {
		first, _ := utf8.DecodeRuneInString(out)
		last, _ := utf8.DecodeLastRuneInString(out)
		return string(first) + string(last)
	}
	return out
}

// A person's password has so many characters.
const (
	ShortestPassword = 10
	LongestPassword  = 200
)

// ErrPassword is returned for a password that is too short or too long to take.
var ErrPassword = errors.New("a password has 10 to 200 characters")

// Cost of hashing. Tests lower it.
var Cost = &argon2id.Params{Memory: 64 * 1024, Iterations: 2, Parallelism: uint8(min(runtime.NumCPU(), 4)), SaltLength: 16, KeyLength: 32}

// Hash makes the stored form of a password (argon2id).
func Hash(password string) (string, error) {
	if n := utf8.RuneCountInString(password); n < ShortestPassword || n > LongestPassword {
		return "", ErrPassword
	}
	return argon2id.CreateHash(password, Cost)
}

// Check says whether a password fits a stored hash. An empty hash takes as long as
// a real one and fits nothing, so that an unknown login can't be told by the clock.
func Check(password, hash string) bool {
	if len(password) > 1000 {
		return false
	}
	if hash == "" {
		_, _ = argon2id.CreateHash(password, Cost)
		return false
	}
	ok, err := argon2id.ComparePasswordAndHash(password, hash)
	return err == nil && ok
}
