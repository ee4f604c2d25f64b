package recorder

import (
	"context"
	"fmt"
	"net/http"

	"duskyharbor/internal/core/recording"
)

// SetPlan has a channel keep by a plan.
func (c *Client) SetPlan(ctx context.Context, number int, p recording.Plan) error {
	return c.do(ctx, http.MethodPut, fmt.Sprintf("/api/channels/%d/plan", number), planFor(p), nil, callLimit)
}

// Rename gives a channel another name.
func (c *Client) Rename(ctx context.Context, number int, name string) error {
	return c.do(ctx, http.MethodPut, fmt.Sprintf("/api/channels/%d/name", number), map[string]string{"name": name}, nil, callLimit)
}

// SetAge has the recorder delete what is older than so many days; 0: it keeps until it is full.
func (c *Client) SetAge(ctx context.Context, days int) error {
	return c.do(ctx, http.MethodPut, "/api/recordings", map[string]int{"days": days}, nil, callLimit)
}

// RenewList installs the newest list of models; its services take it up when they start again.
func (c *Client) RenewList(ctx context.Context) error {
	return c.do(ctx, http.MethodPost, "/api/models/renew", nil, nil, callLimit)
}

// RestartServices starts its services again: every channel signs in to its camera anew.
func (c *Client) RestartServices(ctx context.Context) error {
	return c.do(ctx, http.MethodPost, "/api/services/restart", nil, nil, callLimit)
}

// AllowOthers has it take models that aren't in its list, or not.
func (c *Client) AllowOthers(ctx context.Context, allow bool) error {
	return c.do(ctx, http.MethodPut, "/api/others", map[string]bool{"allow": allow}, nil, callLimit)
}
