package analytics

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"duskyharbor/internal/act"
	"duskyharbor/internal/core/rule"
	"duskyharbor/internal/core/stage"
	"duskyharbor/internal/core/trouble"
	"duskyharbor/internal/facts"
	"duskyharbor/internal/site"
	"duskyharbor/internal/store"
)

// Switch is a drawn rule that is to be off, or on again.
type Switch struct {
	act.Camera
	ID  int64 `form:"rule" json:"id"`
	Off bool  `form:"off" json:"off,omitempty"`
}

func switchDrawing(ctx context.Context, c *act.Call, x Switch) (act.Kept, error) {
	_, of, err := c.Camera(ctx, x.Source)
	if err != nil {
		return act.Kept{}, err
	}
	name, err := c.Store.SwitchRule(ctx, c.Site.ID, of.ID, x.ID, x.Off)
	is := "on"
	if x.Off {
		is = "off"
	}
	return act.Kept{Says: name + " is switched " + is + " here. Nothing was written to " + of.Place + ".", Did: "switched a drawn rule " + is,
		Detail: of.Place + ": " + name, Judge: []int64{of.Device.ID}, To: at(of.ID, x.ID)}, err
}

// KeptSet is a camera's drawn rules, to be kept by a name.
type KeptSet struct {
	act.Camera
	Name string `form:"set" json:"name"`
}

func keepSet(ctx context.Context, c *act.Call, x KeptSet) (act.Kept, error) {
	s, of, err := c.Camera(ctx, x.Source)
	if err != nil {
		return act.Kept{}, err
	}
	name := strings.TrimSpace(x.Name)
	if name == "" || !act.Fits(name, mostName) {
		return act.Kept{}, act.Wrongf("set", "Name the set, in up to %d characters.", mostName)
	}
	var rules []rule.Rule
	_, drawn := facts.ForRules(s, of)
	for _, d := range drawn {
		rules = append(rules, d.Rule)
	}
	if len(rules) == 0 {
		return act.Kept{}, act.Wrong("set", "No rule is drawn for "+of.Place+".")
	}
	id, err := c.Store.KeepRuleSet(ctx, c.Site.ID, name, rules)
	switch {
	case errors.Is(err, store.ErrTaken):
		err = act.Wrongf("set", "Another set of this site is called %q: give this one another name.", name)
	case errors.Is(err, store.ErrFull):
		err = trouble.UserError("No more sets are kept for this site: forget one.")
	}
	return act.Kept{ID: id, Says: fmt.Sprintf("%s of %s kept as %q.", act.Count(len(rules), "rule"), of.Place, name), Did: "kept a set of rules",
		Detail: name + ": " + act.Count(len(rules), "rule"), To: at(of.ID, 0)}, err
}

// RuleSet is a set of rules as programs see it.
type RuleSet struct {
	ID    int64     `json:"id"`
	Name  string    `json:"name"`
	Rules []Drawing `json:"rules"` // as analytics/draw takes them, without a camera
}

// Sets are a site's sets of rules.
func (a *Stage) Sets(ctx context.Context, siteID int64) ([]RuleSet, error) {
	all, err := a.Store.RuleSets(ctx, siteID)
	out := make([]RuleSet, len(all))
	for i, s := range all {
		out[i] = RuleSet{ID: s.ID, Name: s.Name}
		for _, r := range s.Rules {
			out[i].Rules = append(out[i].Rules, DrawingOf(0, rule.Drawn{Rule: r}))
		}
	}
	return out, err
}

// ASet is a set of rules of the site.
type ASet struct {
	ID int64 `form:"set" json:"id"`
}

func dropSet(ctx context.Context, c *act.Call, x ASet) (act.Kept, error) {
	name, err := c.Store.DropRuleSet(ctx, c.Site.ID, x.ID)
	return act.Kept{Says: name + " is forgotten. What is drawn by it stays.", Did: "forgot a set of rules", Detail: name}, err
}

// DrawnSet is a set of rules that is drawn for cameras.
type DrawnSet struct {
	act.Selection
	ID int64 `form:"set" json:"id"`
}

func drawSet(ctx context.Context, c *act.Call, x DrawnSet) (act.Kept, error) {
	sets, err := c.Store.RuleSets(ctx, c.Site.ID)
	if err != nil {
		return act.Kept{}, err
	}
	i := slices.IndexFunc(sets, func(s rule.Set) bool { return s.ID == x.ID })
	if i < 0 {
		return act.Kept{}, store.ErrNotFound
	}
	_, selected, err := c.Selected(ctx, x.Selection, stage.Analytics)
	if err != nil {
		return act.Kept{}, err
	}
	drawn, err := c.Store.DrawRuleSet(ctx, c.Site.ID, x.ID, numbers(selected))
	if err != nil {
		return act.Kept{}, err
	}
	return drew(sets[i].Name, len(sets[i].Rules), selected, drawn)
}

func numbers(all []site.Source) []int64 {
	out := make([]int64, len(all))
	for i, of := range all {
		out[i] = of.ID
	}
	return out
}

// drew is what was drawn of some rules for a selection; one that has a rule of a name keeps its own, and is named.
func drew(what string, rules int, selected []site.Source, drawn map[int64][]string) (act.Kept, error) {
	var judge []int64
	var had []string
	for _, of := range selected {
		judge = append(judge, of.Device.ID)
		if kept := rules - len(drawn[of.ID]); kept > 0 {
			had = append(had, fmt.Sprintf("%s keeps %s of its own by those names, or has no room.", of.Place, act.Count(kept, "rule")))
		}
	}
	few := act.Planned{Cant: had}.Few()
	if len(drawn) == 0 {
		return act.Kept{}, act.Wrong("name", strings.TrimSpace("Nothing was drawn. "+few))
	}
	says := fmt.Sprintf("%s of %s drawn for %s. Look at each on its own picture before it is written.", act.Count(rules, "rule"), what, act.Count(len(drawn), "camera"))
	if few != "" {
		says += " " + few
	}
	return act.Kept{Says: says, Did: "drew rules for other cameras", Detail: fmt.Sprintf("%s of %s for %s", act.Count(rules, "rule"), what, act.Count(len(drawn), "camera")), Judge: judge}, nil
}
