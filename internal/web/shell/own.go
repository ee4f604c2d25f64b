package shell

import (
	"cmp"

	"duskyharbor/internal/core/clock"
	"duskyharbor/internal/people"
)

// own are the fields of the pages that belong to a person rather than to a site: to sign in, to join, to set the
// server up, to make a site, to change one's password. A field without a name is sent under that of its entry.
var own = map[string]Field{
	"login":         {Label: "Name to sign in with", Required: true, Most: 64, Fills: "username"},
	"password":      {Label: "Password", Kind: AsOwnPassword, Required: true, Most: people.LongestPassword},
	"own name":      {Name: "name", Label: "Your name", Required: true, Most: 64, Fills: "name"},
	"first code":    {Name: "code", Label: "The code that this server printed when it was started", Mono: true, Required: true, Most: 40, Fills: "off", First: true},
	"invited by":    {Name: "code", Label: "The code you were given", Mono: true, Required: true, Most: 40, Fills: "off", First: true},
	"new password":  {Name: "password", Label: "A password, 10 characters or more", Kind: AsPassword, Required: true, Fewest: people.ShortestPassword, Most: people.LongestPassword},
	"own password":  {Name: "password", Label: "The one you have now", Kind: AsOwnPassword, Required: true, Most: people.LongestPassword},
	"new":           {Label: "A new one, 10 characters or more", Kind: AsPassword, Required: true, Fewest: people.ShortestPassword, Most: people.LongestPassword},
	"again":         {Label: "The new one again", Kind: AsPassword, Required: true, Fewest: people.ShortestPassword, Most: people.LongestPassword},
	"site":          {Label: "Its name", Required: true, Most: 64},
	"site name":     {Name: "name", Label: "Its name", Required: true, Most: 64},
	"zone":          {Label: "Its time zone", Required: true, Most: 64},
	"set-name":      {Label: "What you call it", Most: 64, Fills: "off"},
	"set-user":      {Label: "User name", Mono: true, Most: 64, Fills: "off"},
	"set-password":  {Label: "Password, sealed as soon as it arrives", Kind: AsPassword, Mono: true, Most: 128},
	"enter by name": {Name: "login", Label: "Name", Required: true, Most: 64, Fills: "username", First: true},
}

// Own is one of the fields of a person's own pages, with what was typed in it before it was refused.
func (b Frame) Own(entry string) Field {
	x := own[entry]
	x.Name = cmp.Or(x.Name, entry)
	x.ID = x.Name
	if x.Kind != AsPassword && x.Kind != AsOwnPassword {
		x.Value = b.Typed[x.Name]
	}
	if x.Name == "zone" {
		x.Options = OptionsOf(clock.ZoneNames())
	}
	return x
}
