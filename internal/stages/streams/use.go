package streams

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"

	"duskyharbor/internal/act"
	"duskyharbor/internal/core/stage"
	"duskyharbor/internal/core/stream"
	"duskyharbor/internal/facts"
)

// Use is which of cameras' streams are recorded, and which looked at: by token or name, "by rule" as the rule picks;
// empty: as it is.
type Use struct {
	act.Selection
	Record string `form:"record" json:"record,omitempty"`
	View   string `form:"view" json:"view,omitempty"`
}

// Check is what is wrong with it.
func (x Use) Check() error {
	if x.Record == "" && x.View == "" {
		return act.Wrong("record", "Choose which stream is recorded, or which is looked at.")
	}
	return nil
}

// keepUses keeps what the selection's streams are for, where they have such; the others are named.
func keepUses(ctx context.Context, c *act.Call, x Use) (act.Kept, error) {
	s, all, err := c.Selected(ctx, x.Selection, stage.Streams)
	if err != nil {
		return act.Kept{}, err
	}
	uses, judge, cant := map[int64]stream.Uses{}, []int64(nil), act.Planned{}
	called := map[string]string{}
	for _, of := range all {
		f, _ := facts.ForStreams(s, of)
		to, why := of.Uses.Choose(f.Profiles, x.Record, x.View)
		switch {
		case len(f.Profiles) == 0:
			cant.Refuse(of.Place, "its streams weren't read yet")
		case why != "":
			cant.Refuse(of.Place, why)
		default:
			uses[of.ID] = to
			for _, p := range f.Profiles {
				called[p.Token] = p.Name
			}
			judge = append(judge, of.Device.ID)
		}
	}
	if len(uses) == 0 {
		return act.Kept{}, act.Wrong("record", "Nothing was kept. "+cant.Few())
	}
	var parts []string
	for _, p := range [][2]string{{"recorded", x.Record}, {"looked at", x.View}} {
		if p[1] != "" {
			parts = append(parts, fmt.Sprintf("%s: %s", p[0], cmp.Or(called[p[1]], p[1])))
		}
	}
	count, says := act.Count(len(uses), "camera"), strings.Join(parts, "; ")
	out := act.Kept{Did: "chose streams' uses", Detail: says + " of " + count, Judge: slices.Compact(judge),
		Says: strings.ToUpper(says[:1]) + says[1:] + ", of " + count + ". Nothing was written to a camera; Channels tells where a recorder takes another stream."}
	if len(cant.Cant) > 0 {
		out.Says += " " + cant.Few()
	}
	return out, c.Store.SetUses(ctx, c.Site.ID, uses)
}
