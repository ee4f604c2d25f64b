package act

import "net/url"

// Form is a form as a person sent it.
type Form struct {
	url.Values
	// File reads a file that came along, up to so many bytes and one more; ok is false where none did.
	File func(name string, most int64) (f File, ok bool, err error)
}

// MaxFile is how large a file may be that a form brings, in bytes.
const MaxFile = 4 << 20

// File is a file that a person sent.
type File struct {
	Name string // as their browser says; anything may stand in it
	Data []byte
}

// FormReader is what arguments are that a form gives in more than a field for each: a week of hours, a file. ReadForm is
// called after the plain fields were read; what is wrong with one is a WrongError.
type FormReader interface{ ReadForm(Form) error }
