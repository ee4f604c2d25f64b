package setup

import (
	"context"
	"fmt"
	"strings"

	"duskyharbor/internal/act"
	"duskyharbor/internal/core/identity"
	"duskyharbor/internal/core/trouble"
	"duskyharbor/internal/store"
)

// Naming gives cameras names, in the order in which the site lists them: by a pattern, or by a list of as many names.
type Naming struct {
	act.Selection
	Pattern string   `form:"pattern" json:"pattern,omitempty"` // "Quay {n}", see identity.NamesBy
	Lines   string   `form:"names" json:"-"`                   // a name a line, where no pattern is given
	Names   []string `form:"-" json:"names,omitempty"`
}

// names are those of views, in their order.
func (x Naming) names(rows []store.Source) ([]string, error) {
	list := x.Names
	for _, line := range strings.Split(x.Lines, "\n") {
		if line = strings.TrimSpace(line); line != "" {
			list = append(list, line)
		}
	}
	switch {
	case len(list) > 0 && x.Pattern != "":
		return nil, act.Wrong("pattern", "Give a pattern or a list of names, not both.")
	case len(list) == 0:
		of := make([]identity.Nameable, len(rows))
		for i, r := range rows {
			of[i] = identity.Nameable{Place: r.Place, Make: r.Device.Make, Model: r.Device.Model}
			if r.Device.Address != nil {
				of[i].Address = r.Device.Address.String()
			}
		}
		names, err := identity.NamesBy(x.Pattern, of)
		return names, wrong("pattern", err)
	case len(list) != len(rows):
		return nil, act.Wrongf("names", "%s for %s: give one each, in the order in which the site lists them.",
			act.Count(len(list), "name"), act.Count(len(rows), "camera"))
	}
	return list, wrong("names", identity.CheckNames(list))
}

func wrong(field string, err error) error {
	if err != nil {
		return act.Wrong(field, err.Error())
	}
	return nil
}

// name asks once more with what each would be called, and then names them. Nothing is written to a device: what is called
// otherwise there is proposed by Channels.
func name(ctx context.Context, c *act.Call, x Naming) (act.Kept, error) {
	rows, err := selected(ctx, c, x.Selection)
	if err != nil {
		return act.Kept{}, err
	}
	names, err := x.names(rows)
	if err != nil {
		return act.Kept{}, err
	}
	ids, devices := make([]int64, len(rows)), make([]int64, len(rows))
	var says []string
	for i, r := range rows {
		ids[i], devices[i] = r.ID, r.Device.ID
		if r.Place != names[i] {
			says = append(says, r.Place+" → "+names[i])
		}
	}
	taken, err := c.Store.CalledSo(ctx, c.Site.ID, names, ids)
	switch {
	case err != nil:
		return act.Kept{}, err
	case len(taken) > 0:
		return act.Kept{}, trouble.UserErrorf("Another camera is called %q already: nobody is named.", taken[0])
	case len(says) == 0:
		return act.Kept{}, trouble.UserError("They are called so already.")
	}
	count := act.Count(len(says), "camera")
	if !c.Sure {
		return act.Kept{}, act.AskError{Heading: "Name " + count + "?", Do: "Name " + count, Text: listed(says, shownNames) +
			". Nothing is written to them; what a camera or a recorder calls them otherwise is proposed by Channels."}
	}
	kept := act.Kept{Says: count + " named.", Did: "named cameras", Detail: listed(says, toldNames), Judge: devices, To: "board"}
	return kept, c.Store.NameAll(ctx, rows, names)
}

const (
	shownNames = 40  // before they are given
	toldNames  = 200 // in what people did
)

func listed(all []string, most int) string {
	text := strings.Join(all[:min(len(all), most)], "; ")
	if more := len(all) - most; more > 0 {
		text += fmt.Sprintf("; and %d more", more)
	}
	return text
}
