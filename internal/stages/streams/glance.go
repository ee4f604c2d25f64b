package streams

import (
	"context"
	"image"

	"duskyharbor/internal/core/access"
	"duskyharbor/internal/core/stream"
	"duskyharbor/internal/core/trouble"
	"duskyharbor/internal/device/page"
	"duskyharbor/internal/device/picture"
	"duskyharbor/internal/facts"
	"duskyharbor/internal/site"
)

// Glances are pictures of a view one after the other, over one sign-in. Close ends them.
type Glances struct {
	from  string
	pages page.Pictures
}

// Glance begins to look at a view: at the picture of its view stream, as often as Next is called.
func (t *Stage) Glance(ctx context.Context, source int64) (*Glances, error) {
	of, err := t.Store.SourceByID(ctx, source)
	if err != nil {
		return nil, err
	}
	d := of.Device
	s, err := site.Load(ctx, t.Store, d.SiteID, []int64{d.ID})
	if err != nil {
		return nil, err
	}
	f, _ := facts.ForStreams(s, of)
	return t.Stills(ctx, s, of, stream.ToLook(f.Profiles), "how its boxes sit")
}

// Stills begins to take stills of a view, of one of its profiles, for a purpose that a sign-in is told by.
func (t *Stage) Stills(ctx context.Context, s *site.Snapshot, of site.Source, profile, purpose string) (*Glances, error) {
	d := of.Device
	f, _ := facts.ForStreams(s, of)
	p, _, ok := f.Find(profile)
	if !ok || p.Snapshot == "" || d.Address == nil {
		return nil, trouble.UserError(of.Place + " offers no still that was read.")
	}
	opens, known := facts.Account.Of(s, d.ID)
	if !known {
		return nil, trouble.UserError("No account opens " + of.Place + ".")
	}
	login, err := t.Accounts.LoginOf(ctx, d, s, opens.SetID, access.Web, purpose)
	if err != nil {
		return nil, err
	}
	pin, _ := facts.Pin.Of(s, d.ID)
	return &Glances{p.Snapshot, page.NewPictures(t.Dialer.At(*d.Address), &pin, login)}, nil
}

// Next is the picture of now, decoded.
func (g *Glances) Next(ctx context.Context) (image.Image, error) {
	ctx, cancel := context.WithTimeout(ctx, stillLimit)
	defer cancel()
	data, err := g.Take(ctx)
	if err != nil {
		return nil, err
	}
	return picture.Decode(ctx, data)
}

// Take is the picture of now as it comes, nobody looked into it.
func (g *Glances) Take(ctx context.Context) ([]byte, error) {
	return g.pages.Get(ctx, g.from, "the still")
}

// Close ends the connection.
func (g *Glances) Close() { g.pages.Close() }
