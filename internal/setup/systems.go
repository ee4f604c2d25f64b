package setup

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"duskyharbor/internal/act"
	"duskyharbor/internal/core/netplan"
	"duskyharbor/internal/core/stage"
	"duskyharbor/internal/store"
)

// maxSystems is how many other systems a site has at most.
const maxSystems = 64

func systems() []act.Any {
	return []act.Any{
		act.Act[System]{Name: "settings/system", About: "add a video management system, a monitoring station or a time server, and ask whether it answers", Keep: addSystem},
		act.Act[ChangedSystem]{Name: "settings/system/:system", About: "change a system: all of it is given anew", Keep: setSystem},
		act.Act[SystemID]{Name: "settings/system/:system/remove", About: "take a system off the site", Keep: removeSystem},
	}
}

// System is a system as it is typed.
type System struct {
	Name    string `form:"name" json:"name"`
	Kind    string `form:"kind" json:"kind" enum:"vms,station,time"`
	Address string `form:"address" json:"address"`
	Set     int64  `form:"set" json:"set_id,omitempty"` // its account; 0: none
	Note    string `form:"note" json:"note,omitempty"`
}

// ChangedSystem is a system that is changed.
type ChangedSystem struct {
	ID int64 `param:"system" json:"-"`
	System
}

// SystemID names a system.
type SystemID struct {
	ID int64 `param:"system" json:"-"`
}

// read reads what was typed. was is where it is known already: that isn't asked about again.
func (x System) read(ctx context.Context, c *act.Call, was netip.Addr) (y store.System, err error) {
	y = store.System{SiteID: c.Site.ID, Kind: netplan.SystemKind(x.Kind), Name: strings.TrimSpace(x.Name), Note: strings.TrimSpace(x.Note)}
	if err := named("name", y.Name, "It"); err != nil {
		return y, err
	}
	switch {
	case !y.Kind.Valid():
		return y, act.Wrong("kind", "Pick what it is.")
	case len(y.Note) > 500:
		return y, act.Wrong("note", "A note has at most 500 characters.")
	}
	if y.Address, err = netplan.ParseAddress(x.Address); err != nil {
		return y, act.Wrong("address", err.Error())
	}
	if y.SetID, err = account(ctx, c, x.Set); err != nil || y.Address == was {
		return y, err
	}
	return y, Outside(ctx, c, "address", y.Address, "Ask there whether it answers")
}

// addSystem adds one, and has it asked whether it answers. No account is sent to it by that.
func addSystem(ctx context.Context, c *act.Call, x System) (act.Kept, error) {
	y, err := x.read(ctx, c, netip.Addr{})
	if err != nil {
		return act.Kept{}, err
	}
	all, err := c.Store.Systems(ctx, c.Site.ID)
	if err != nil {
		return act.Kept{}, err
	}
	if len(all) >= maxSystems {
		return act.Kept{}, act.Wrongf("", "A site has at most %d other systems.", maxSystems)
	}
	id, err := c.Store.AddSystem(ctx, y)
	if errors.Is(err, store.ErrNameTaken) {
		err = act.Wrong("name", y.Name+" is there already: give it another name.")
	}
	return act.Kept{ID: id, Says: y.Name + " was added. It is asked at " + y.Address.String() + ".", Did: "added a system",
		Detail: fmt.Sprintf("%s, %s at %s", y.Name, y.Kind, y.Address), Scan: &act.Scan{Stage: stage.Find, At: y.Address}}, err
}

func setSystem(ctx context.Context, c *act.Call, x ChangedSystem) (act.Kept, error) {
	all, err := c.Store.Systems(ctx, c.Site.ID)
	if err != nil {
		return act.Kept{}, err
	}
	i := slices.IndexFunc(all, func(o store.System) bool { return o.ID == x.ID })
	if i < 0 {
		return act.Kept{}, store.ErrNotFound
	}
	y, err := x.read(ctx, c, all[i].Address)
	if err != nil {
		return act.Kept{}, err
	}
	y.ID = x.ID
	if err = c.Store.SetSystem(ctx, y); errors.Is(err, store.ErrNameTaken) {
		err = act.Wrong("name", "Another is called "+y.Name+": give it another name.")
	}
	return act.Kept{Says: y.Name + " was changed. Nothing was written to it; the next look at its network asks it.", Did: "changed a system",
		Detail: fmt.Sprintf("%s, %s at %s", y.Name, y.Kind, y.Address)}, err
}

func removeSystem(ctx context.Context, c *act.Call, x SystemID) (act.Kept, error) {
	name, err := c.Store.RemoveSystem(ctx, c.Site.ID, x.ID)
	return act.Kept{Says: name + " is off the site. Nothing was written to it.", Did: "removed a system", Detail: name}, err
}
