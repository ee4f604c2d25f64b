// Package trouble words what went wrong for the person who reads it.
package trouble

import (
	"errors"
	"fmt"
	"strings"
)

// Told is a sentence for the person that is neither a device's fault nor this
// product's: what was asked for can't be done as things stand.
type Told string

// Error is the sentence.
func (t Told) Error() string { return string(t) }

// Tell is a Told that is worded by format.
func Tell(format string, args ...any) error { return Told(fmt.Sprintf(format, args...)) }

// IsTold says whether err is a sentence for the person, or wraps one.
func IsTold(err error) bool {
	var t Told
	return errors.As(err, &t)
}

// Sentence is err's text ended with a full stop, where it has none.
func Sentence(err error) string { return strings.TrimSuffix(err.Error(), ".") + "." }
