package access

import "time"

// Attempt is the last signing in to a device, and what came of it beside the account that opened it.
type Attempt struct {
	At         time.Time `json:"at"`
	Trouble    string    `json:"trouble,omitempty"`
	NoSets     bool      `json:"no_sets,omitempty"`
	NoPassword bool      `json:"no_password,omitempty"` // no first password was set
	Basic      bool      `json:"basic,omitempty"`       // it takes nothing but Basic over HTTP
	Open       bool      `json:"open,omitempty"`        // its streams ask for no account
	Locked     time.Time `json:"locked,omitempty"`      // until when it takes no sign-in
	Refused    string    `json:"refused,omitempty"`     // the set that opened it before, and was refused
	RefusedBy  string    `json:"refused_by,omitempty"`  // at what
	Unread     string    `json:"unread,omitempty"`      // why what it looks at couldn't be read, signed in
}
