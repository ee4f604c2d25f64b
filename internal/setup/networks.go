package setup

import (
	"context"
	"fmt"
	"net/netip"
	"strconv"
	"strings"

	"duskyharbor/internal/act"
	"duskyharbor/internal/core/netplan"
	"duskyharbor/internal/store"
)

// maxNetworks is how many networks a site has at most.
const maxNetworks = 64

func networks() []act.Any {
	return []act.Any{
		act.Act[Network]{Name: "settings/network", About: "add a network that is looked at", Keep: addNetwork},
		act.Act[ChangedNetwork]{Name: "settings/network/:network", About: "change a network: all of it is given anew", Keep: setNetwork},
		act.Act[NetworkID]{Name: "settings/network/:network/remove", About: "take a network off the site; its devices stay", Keep: removeNetwork},
	}
}

// Network is a network as it is typed.
type Network struct {
	Name       string `form:"name" json:"name"`
	Prefix     string `form:"prefix" json:"prefix"`                     // at most 65,536 addresses
	Gateway    string `form:"gateway" json:"gateway,omitempty"`         // empty: its first address
	TimeServer string `form:"time-server" json:"time_server,omitempty"` // empty: as the site wishes
	DNS        string `form:"dns" json:"dns,omitempty"`                 // with commas, at most 3
	Ports      string `form:"ports" json:"ports,omitempty"`             // further ones, with commas
	AtOnce     int    `form:"at-once" json:"at_once,omitempty"`         // devices worked on at once; 0: as the site asks
}

// ChangedNetwork is a network that is changed.
type ChangedNetwork struct {
	ID int64 `param:"network" json:"-"`
	Network
}

// NetworkID names a network.
type NetworkID struct {
	ID int64 `param:"network" json:"-"`
}

// read reads what was typed.
func (x Network) read(c *act.Call) (n store.Network, err error) {
	n.Name = strings.TrimSpace(x.Name)
	if err := named("name", n.Name, "A network"); err != nil {
		return n, err
	}
	if n.Prefix, err = netplan.ParsePrefix(x.Prefix); err != nil {
		return n, act.Wrongf("prefix", "“%.40s” is no IPv4 network of at most 65,536 addresses, as 192.0.2.0/24.", x.Prefix)
	}
	if err := reach(c, "prefix", n.Prefix); err != nil {
		return n, err
	}
	for _, f := range []struct {
		name, text string
		into       **netip.Addr
	}{{"gateway", x.Gateway, &n.Gateway}, {"time-server", x.TimeServer, &n.TimeServer}} {
		if strings.TrimSpace(f.text) == "" {
			continue
		}
		a, err := netplan.ParseAddress(f.text)
		if err != nil {
			return n, act.Wrong(f.name, err.Error())
		}
		*f.into = &a
	}
	if n.DNS, err = netplan.ParseServers(x.DNS); err != nil {
		return n, act.Wrong("dns", err.Error())
	}
	if n.Ports, err = netplan.ParsePorts(x.Ports); err != nil {
		return n, act.Wrong("ports", err.Error())
	}
	if n.AtOnce = x.AtOnce; n.AtOnce < 0 || n.AtOnce > store.MostNetwork {
		return n, act.Wrongf("at-once", "Say how many devices of the network are worked on at once: 1 to %d, or nothing for as the site asks.", store.MostNetwork)
	}
	return n, nil
}

// against holds a network against the site's others.
func against(n store.Network) func([]store.Network) string {
	return func(there []store.Network) string {
		if n.ID == 0 && len(there) >= maxNetworks {
			return fmt.Sprintf("A site has at most %d networks.", maxNetworks)
		}
		others := make([]netplan.Network, len(there))
		for i, o := range there {
			others[i] = o.Core()
		}
		return n.Core().Check(others)
	}
}

func addNetwork(ctx context.Context, c *act.Call, x Network) (act.Kept, error) {
	n, err := x.read(c)
	if err != nil {
		return act.Kept{}, err
	}
	all := []store.Network{n}
	why, err := c.Store.AddNetworks(ctx, c.Site.ID, all, against(n))
	if err == nil && why != "" {
		err = act.Wrong("prefix", why)
	}
	return act.Kept{ID: all[0].ID, Says: n.Name + " was added: look at it on Find.", Did: "added a network", Detail: n.Name + " " + n.Prefix.String(), All: true}, err
}

func setNetwork(ctx context.Context, c *act.Call, x ChangedNetwork) (act.Kept, error) {
	n, err := x.read(c)
	if err != nil {
		return act.Kept{}, err
	}
	n.ID = x.ID
	why, err := c.Store.SetNetwork(ctx, c.Site.ID, n, against(n))
	if err == nil && why != "" {
		err = act.Wrong("prefix", why)
	}
	return act.Kept{Says: n.Name + " was changed; everything is judged by it.", Did: "changed a network", Detail: n.Name + " " + n.Prefix.String(), All: true}, err
}

// removeNetwork takes a network off the site; its devices stay.
func removeNetwork(ctx context.Context, c *act.Call, x NetworkID) (act.Kept, error) {
	devices, tried, err := c.Store.NetworkRests(ctx, c.Site.ID, x.ID)
	if err != nil {
		return act.Kept{}, err
	}
	says := act.Count(devices, "device") + " of it"
	if tried > 0 {
		says += fmt.Sprintf(", and %s tried first in it", act.Count(tried, "credential set"))
	}
	return act.Kept{Says: "The network is looked at no more; what is on the site stays: " + says + ".", Did: "removed a network",
		Detail: strconv.FormatInt(x.ID, 10) + ": " + says, All: true}, c.Store.RemoveNetwork(ctx, c.Site.ID, x.ID)
}
