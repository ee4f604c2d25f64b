package shell

import (
	"cmp"
	"fmt"
	"strings"
)

// Form is a form that asks for an act, as the template "form" writes it: its fields one under the other, or in one
// line. A page says what stands in it; what was typed comes back where it was just refused, with what is wrong at the
// field that it is about.
//
//	p.Form(shell.Form{Act: "lenses/7/name", ID: "lens-7", Do: "Keep", Fields: []shell.Field{
//		{Name: "name", Label: "Its name", Value: lens.Name, Required: true, Most: 64},
//	}})
type Form struct {
	Act     string // name of the act, with its arguments in place
	ID      string // begins the id of each field; unique on the page
	Do      string // what its button says
	Fields  []Field
	Line    bool   // in one line; labels are read out and not seen
	Small   bool   // its button is
	Secret  bool   // a browser fills in nothing
	Confirm string // what is asked once more before it is sent; empty: nothing
	Sure    string // what the button says that answers; empty: as its own
	Frame   Frame  // of the page, see Frame.Form
}

// Field is one field of a form.
type Field struct {
	Name, Label string
	Value       string
	Kind        Kind
	Like        string // an example that stands in it while it is empty
	Most        int    // characters; 0: no limit
	Fewest      int    // characters
	Fills       string // what a browser fills in: the token of HTML's autocomplete; empty: by its kind
	First       bool   // the focus stands on it when the page opens
	Least       int    // of a number
	Greatest    int    // of a number
	Required    bool
	Mono        bool
	Narrow      bool
	After       string   // a word after it: a unit
	Options     []Option // of a choice, and what a text proposes
	On          bool     // it is ticked
	ID, Wrong   string   // see Frame.Form
}

// Kind of a field; the zero Kind is a line of text.
type Kind string

// Kinds of fields.
const (
	AsNumber      Kind = "number"
	AsPassword    Kind = "password"     // a new one, for something else
	AsOwnPassword Kind = "own password" // of who is signed in
	AsChoice      Kind = "choice"       // one of its options
	AsTick        Kind = "tick"         // sends its Value while it is ticked
	AsFixed       Kind = "fixed"        // sends its Value, and isn't seen
)

// Option is one of a choice.
type Option struct{ Value, Says string }

// OptionsOf makes options of values that are told as they are sent.
func OptionsOf[T any](all []T) (out []Option) {
	for _, v := range all {
		out = append(out, Option{fmt.Sprint(v), fmt.Sprint(v)})
	}
	return out
}

// Form is a form of this page, with what was typed where it was just refused.
func (b Frame) Form(f Form) Form {
	f.Frame = b
	for i := range f.Fields {
		x := &f.Fields[i]
		x.ID = f.ID + "-" + x.Name
		x.Wrong = b.Wrong(f.Act, x.Name)
		switch x.Kind {
		case AsFixed, AsPassword, AsOwnPassword: // a password is typed again
		case AsTick:
			x.ID += "-" + x.Value
			if b.Refuses(f.Act) && b.Refused.Values != nil {
				x.On = strings.Contains(","+strings.Join(b.Refused.Values[x.Name], ",")+",", ","+x.Value+",")
			}
		default:
			x.Value = b.Field(f.Act, x.Name, x.Value)
		}
	}
	return f
}

// Does is what the button says that answers what is asked once more.
func (f Form) Does() string { return cmp.Or(f.Sure, f.Do) }

// Open says whether it was just refused: what holds it is open then.
func (f Form) Open() bool { return f.Frame.Refuses(f.Act) }

// Path is where it is sent.
func (f Form) Path() string { return f.Frame.Path(f.Act) }

// Class of the form: how its fields stand.
func (f Form) Class() string {
	if f.Line {
		return "oneline"
	}
	return "stack"
}

// Button is the class of its button.
func (f Form) Button() string {
	if f.Small {
		return "btn btn-sm btn-outline"
	}
	return "btn btn-outline"
}

// Labels is the class of its fields' labels.
func (f Form) Labels() string {
	if f.Line {
		return "visually-hidden"
	}
	return ""
}

// Class of the field.
func (x Field) Class() string {
	class := "form-control"
	if x.Mono {
		class += " mono"
	}
	if x.Narrow {
		class += " days"
	}
	return class
}

// Type of an input.
func (x Field) Type() string {
	switch x.Kind {
	case AsNumber:
		return "number"
	case AsPassword, AsOwnPassword:
		return "password"
	}
	return "text"
}

// Fill is what a browser fills in.
func (x Field) Fill() string {
	switch {
	case x.Fills != "":
		return x.Fills
	case x.Kind == AsPassword:
		return "new-password"
	case x.Kind == AsOwnPassword:
		return "current-password"
	}
	return ""
}

// Proposes names what a text proposes; empty where it proposes nothing.
func (x Field) Proposes() string {
	if x.Kind == "" && len(x.Options) > 0 {
		return x.ID + "-list"
	}
	return ""
}
