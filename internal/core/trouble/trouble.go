// Package trouble words what went wrong for the person who reads it.
package trouble

import (
	"errors"
	"fmt"
	"strings"
)

// UserError is a sentence for the person that is neither a device's fault nor this
// product's: what was asked for can't be done as things stand.
type UserError string

// Error is the sentence.
func (t UserError) Error() string { return string(t) }

// UserErrorf is a UserError that is worded by format.
func UserErrorf(format string, args ...any) error { return UserError(fmt.Sprintf(format, args...)) }

// IsUserError says whether err is a sentence for the person, or wraps one.
func IsUserError(err error) bool {
	var t UserError
	return errors.As(err, &t)
}

// Sentence is err's text ended with a full stop, where it has none.
func Sentence(err error) string { return strings.TrimSuffix(err.Error(), ".") + "." }
