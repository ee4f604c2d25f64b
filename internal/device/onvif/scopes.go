package onvif

import (
	"context"
	"net/url"
	"strings"

	"duskyharbor/internal/device/dial"
)

const (
	nameScope = "onvif://www.onvif.org/name/"
	maxScopes = 64
)

// Name is what a device calls itself to whoever looks for it (the scope "name"; ONVIF Core, 7.3.2.2);
// fixed says that it can't be given another. Empty: it has none.
func (c *Client) Name(ctx context.Context) (name string, fixed bool, err error) {
	name, _, fixed, err = c.scopes(ctx)
	return name, fixed, err
}

// scopes are a device's name, and what besides it can be set (GetScopes; ONVIF Core, 8.3.11).
func (c *Client) scopes(ctx context.Context) (name string, others []string, fixed bool, err error) {
	r, err := c.device(ctx, "GetScopes", "")
	if err != nil {
		return "", nil, false, err
	}
	all := r.all("Scopes")
	for _, n := range all[:min(len(all), maxScopes)] {
		item, settled := n.str("ScopeItem"), n.str("ScopeDef") == "Fixed"
		value, named := strings.CutPrefix(item, nameScope)
		switch {
		case named:
			if plain, perr := url.PathUnescape(value); perr == nil {
				value = plain
			}
			name, fixed = dial.CleanText(value, 64), settled
		case !settled:
			others = append(others, item)
		}
	}
	return name, others, fixed, nil
}

// SetName gives a device another name; its other scopes stay (SetScopes; ONVIF Core, 8.3.12).
func (c *Client) SetName(ctx context.Context, name string) error {
	_, others, _, err := c.scopes(ctx)
	if err != nil {
		return err
	}
	inner := element("Scopes", nameScope+url.PathEscape(name))
	for _, s := range others {
		inner += element("Scopes", s)
	}
	_, err = c.device(ctx, "SetScopes", inner)
	return err
}
