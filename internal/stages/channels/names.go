package channels

import (
	"context"
	"slices"
	"time"

	"duskyharbor/internal/core/channel"
	"duskyharbor/internal/device/onvif"
	"duskyharbor/internal/engine"
	"duskyharbor/internal/facts"
	"duskyharbor/internal/site"
	"duskyharbor/internal/store"
)

// camera opens the visit's device with the account that opened it before.
func (c *Stage) camera(ctx context.Context, v *engine.Visit) (*onvif.Client, *site.Snapshot, error) {
	s, err := v.Snapshot(ctx)
	if err != nil {
		return nil, nil, err
	}
	client, err := c.Accounts.Open(ctx, v.Device, s, c.ID().String())
	return client, s, err
}

// nameEditor reads and writes the name that a camera has itself.
func (c *Stage) nameEditor(ctx context.Context, v *engine.Visit, ch store.Change) (engine.Editor, error) {
	client, _, err := c.camera(ctx, v)
	if err != nil {
		return nil, err
	}
	return engine.EditorFuncs{
		ReadFunc: func(ctx context.Context) (string, error) {
			name, _, err := client.Name(ctx)
			return name, err
		},
		WriteFunc: func(ctx context.Context) error { return client.SetName(ctx, ch.Args["name"]) },
		Shut:      client.Close,
	}, nil
}

// readName keeps a camera's own name, where a change touched it.
func (c *Stage) readName(ctx context.Context, v *engine.Visit, changes []store.Change) error {
	if !slices.ContainsFunc(changes, func(x store.Change) bool { return x.Kind == channel.NameDevice }) {
		return nil
	}
	client, s, err := c.camera(ctx, v)
	if err != nil {
		return err
	}
	defer client.Close()
	name, fixed, err := client.Name(ctx)
	info, ok := facts.Info.Of(s, v.Device.ID)
	if err != nil || !ok {
		return err
	}
	info.Name, info.NameFixed = name, fixed
	return c.Store.KeepFacts(ctx, facts.Info.New(v.Device.ID, "GetScopes", time.Now().UTC(), info))
}
