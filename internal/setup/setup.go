// Package setup holds the acts that set a site up: its networks, recorders, other systems and credential sets, what
// it asks for, and who and what may use it. Nothing is written to a device by any of them.
package setup

import (
	"context"
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"duskyharbor/internal/act"
	"duskyharbor/internal/core/netplan"
	"duskyharbor/internal/people"
	"duskyharbor/internal/store"
	"duskyharbor/internal/vault"
)

// Acts of a site's own. Passwords are sealed in v.
func Acts(v *vault.Vault) []act.Any {
	return slices.Concat(networks(), recorders(), systems(), (sets{v}).acts(), wishes(), entry(), cameras(), list(), findings())
}

// reach says why whoever asks may not have addresses of a prefix dialled; nil: they may.
func reach(c *act.Call, field string, p netip.Prefix) error {
	if why := netplan.Refuses(p, c.Role == people.Lead, c.Site.Demo); why != "" {
		return act.Wrong(field, why)
	}
	return nil
}

// Outside holds an address that an argument names against what may be dialled and the site's networks: what may
// not be is refused, and what is in none of the networks is asked about once, by name.
func Outside(ctx context.Context, c *act.Call, field string, at netip.Addr, do string) error {
	if err := reach(c, field, netip.PrefixFrom(at, at.BitLen())); err != nil || c.Sure {
		return err
	}
	there, err := c.Store.Networks(ctx, c.Site.ID)
	if err != nil {
		return err
	}
	var names []string
	for _, n := range there {
		if n.Prefix.Contains(at) {
			return nil
		}
		if !n.Single {
			names = append(names, fmt.Sprintf("%s (%s)", n.Name, n.Prefix))
		}
	}
	have := "The site has no network yet."
	if len(names) > 0 {
		have = "Its networks are " + strings.Join(names, ", ") + "."
	}
	return act.AskError{Heading: at.String() + " is outside " + c.Site.Name, Do: do,
		Text: fmt.Sprintf("%s is in none of the networks of %s. %s What answers there may be somebody else's: it is dialled only if you say so.", at, c.Site.Name, have)}
}

// account is the set that arguments name as an account; nil: none. ErrNotFound where the site has no such set.
func account(ctx context.Context, c *act.Call, id int64) (*int64, error) {
	if id == 0 {
		return nil, nil
	}
	all, err := c.Store.SharedSets(ctx, c.Site.ID)
	if err != nil {
		return nil, err
	}
	if !slices.ContainsFunc(all, func(x store.SealedSet) bool { return x.ID == id }) {
		return nil, store.ErrNotFound
	}
	return &id, nil
}

// named checks a name; what is of what it is.
func named(field, name, what string) error {
	if name == "" || !act.Fits(name, 64) {
		return act.Wrongf(field, "%s has a name of at most 64 characters.", what)
	}
	return nil
}
