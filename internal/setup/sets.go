package setup

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"duskyharbor/internal/act"
	"duskyharbor/internal/core/access"
	"duskyharbor/internal/store"
	"duskyharbor/internal/vault"
)

type sets struct{ vault *vault.Vault }

func (v sets) acts() []act.Any {
	return []act.Any{
		act.Act[Set]{Name: "settings/set", About: "add a credential set; its password is sealed", Keep: v.add},
		act.Act[ChangedSet]{Name: "settings/set/:set", About: "change a credential set: all of it is given anew, but its password stays where none is", Keep: v.change},
		act.Act[SetID]{Name: "settings/set/:set/remove", About: "take a credential set off the site", Keep: v.remove},
	}
}

// Set is a credential set as it is typed.
type Set struct {
	Name     string `form:"name" json:"name"`
	Username string `form:"username" json:"username"`
	Password string `form:"password" json:"password,omitempty"`
	Make     string `form:"make" json:"make,omitempty"`          // tried first on cameras of this make
	Network  int64  `form:"network" json:"network_id,omitempty"` // tried first in this network; 0: in none
	Factory  bool   `form:"factory" json:"factory,omitempty"`    // a maker's default
	Former   bool   `form:"former" json:"former,omitempty"`      // left by others
}

// ChangedSet is a set that is changed.
type ChangedSet struct {
	ID int64 `param:"set" json:"-"`
	Set
}

// SetID names a set.
type SetID struct {
	ID int64 `param:"set" json:"-"`
}

// Bad says what is wrong with a set, as a whole; fresh: it has no password yet.
func (x Set) Bad(fresh bool) string {
	name, user := strings.TrimSpace(x.Name), strings.TrimSpace(x.Username)
	if name == "" || user == "" || x.Password == "" && fresh || !act.Fits(name, 64) || !act.Fits(user, 64) || !act.Fits(x.Password, 128) || !act.Fits(strings.TrimSpace(x.Make), 64) {
		return "A credential set has a name, a user name and a password, each at most 64 characters (the password 128)."
	}
	return ""
}

// read reads what was typed of a set; id is 0 for one that is added.
func (x Set) read(ctx context.Context, c *act.Call, id int64) (v access.Set, err error) {
	v = access.Set{ID: id, Name: strings.TrimSpace(x.Name), Username: strings.TrimSpace(x.Username), Make: strings.TrimSpace(x.Make),
		Network: x.Network, Factory: x.Factory, Former: x.Former}
	if why := x.Bad(id == 0); why != "" {
		return v, act.Wrong("name", why)
	}
	there, err := c.Store.Networks(ctx, c.Site.ID)
	if err != nil {
		return v, err
	}
	if v.Network != 0 && !slices.ContainsFunc(there, func(n store.Network) bool { return n.ID == v.Network }) {
		return v, store.ErrNotFound
	}
	all, err := c.Store.Sets(ctx, c.Site.ID)
	if err != nil {
		return v, err
	}
	if slices.ContainsFunc(all, func(o store.SealedSet) bool { return o.Name == v.Name && o.ID != id }) {
		return v, act.Wrongf("name", "A set called %q is there already: give it another name.", v.Name)
	}
	return v, nil
}

func (v sets) seals(password string) func(string) ([]byte, error) {
	return func(place string) ([]byte, error) { return v.vault.Seal(password, place) }
}

func (v sets) add(ctx context.Context, c *act.Call, x Set) (act.Kept, error) {
	set, err := x.read(ctx, c, 0)
	if err != nil {
		return act.Kept{}, err
	}
	id, err := c.Store.AddSet(ctx, c.Site.ID, set, v.seals(x.Password))
	return act.Kept{ID: id, Says: set.Name + " was added; its password is sealed.", Did: "added a credential set", Detail: set.Name}, err
}

// change changes a set: its names, where it is tried first, and where one was typed, its password. What it opened is
// signed in to again before it counts as open.
func (v sets) change(ctx context.Context, c *act.Call, x ChangedSet) (act.Kept, error) {
	set, err := x.read(ctx, c, x.ID)
	if err != nil {
		return act.Kept{}, err
	}
	out := act.Kept{Says: set.Name + " was changed.", Did: "changed a credential set", Detail: set.Name}
	var seal func(string) ([]byte, error)
	if x.Password != "" {
		seal = v.seals(x.Password)
		out.Did = "gave a credential set another password"
		out.Says = set.Name + " has another password, sealed: what it opened isn't known to open with it before you sign in again."
	}
	out.Judge, err = c.Store.SetSet(ctx, c.Site.ID, set, seal)
	return out, err
}

func (v sets) remove(ctx context.Context, c *act.Call, x SetID) (act.Kept, error) {
	all, err := c.Store.SharedSets(ctx, c.Site.ID)
	if err != nil {
		return act.Kept{}, err
	}
	i := slices.IndexFunc(all, func(o store.SealedSet) bool { return o.ID == x.ID })
	if i < 0 {
		return act.Kept{}, store.ErrNotFound
	}
	rested, err := c.Store.RemoveSet(ctx, c.Site.ID, x.ID)
	devices := act.Count(len(rested), "device")
	return act.Kept{Judge: rested, Did: "removed a credential set", Detail: fmt.Sprintf("%s, which %s rested on", all[i].Name, devices),
		Says: fmt.Sprintf("%s is gone; %s rested on it and must be signed in to with another.", all[i].Name, devices)}, err
}
