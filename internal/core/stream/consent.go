package stream

import (
	"strings"
	"time"
	"unicode/utf8"

	"duskyharbor/internal/core/trouble"
)

// Consent is the record that sound may be recorded at a view: on what it rests, who wrote it
// down, and when. The zero Consent is none.
type Consent struct {
	Text string    `json:"text"`
	By   string    `json:"by"`
	At   time.Time `json:"at"`
}

// Given says whether there is one.
func (c Consent) Given() bool { return c.Text != "" }

// maxConsent is how long a record of consent is at most, in characters.
const maxConsent = 500

// ParseConsent reads what a person typed as the ground of a consent.
func ParseConsent(text string) (string, error) {
	text = strings.Join(strings.Fields(text), " ")
	switch n := utf8.RuneCountInString(text); {
	case n < 3:
		return "", trouble.UserError("Say on what it rests: whose consent, of when, and where it is kept.")
	case n > maxConsent:
		return "", trouble.UserError("Say it in 500 characters, and where the rest is kept.")
	}
	return text, nil
}
