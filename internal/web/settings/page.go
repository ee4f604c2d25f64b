// Package settings shows what a site starts from, and who and what may use it.
package settings

import (
	"context"
	"embed"
	"io/fs"
	"net/netip"

	"duskyharbor/internal/core/access"
	"duskyharbor/internal/core/clock"
	"duskyharbor/internal/core/identity"
	"duskyharbor/internal/people"
	"duskyharbor/internal/store"
	"duskyharbor/internal/web/shell"
)

//go:embed *.html
var files embed.FS

// Page is its page.
type Page struct {
	*shell.Server
}

// New makes the page.
func New(s *shell.Server) *Page { return &Page{s} }

// Slug is its address.
func (*Page) Slug() string { return "settings" }

// Files are its template.
func (*Page) Files() fs.FS { return files }

// Routes adds what it answers besides its page.
func (pg *Page) Routes(r *shell.Routes) {
	r.Change.POST("/settings/set/:set/reveal", pg.reveal)
}

// settingsData is what a site starts from, and who and what may use it.
type settingsData struct {
	Networks    []networkForm // single addresses left out
	Fresh       networkForm   // the form of one that is added
	Systems     []systemForm
	FreshSystem systemForm
	Answering   []store.Other // what answers and nothing of the site is
	FreshSet    access.Set
	Proposed    []netip.Prefix // networks of this machine that the site doesn't look at
	Owned       []ownedList    // recorders, and analysers
	Rests       map[int64]int  // devices that a set opens, or is the account of
	Zones       []string
	NetNames    map[int64]string
	Leasts      []identity.Least
	Server      string // named time server
	Sets        []store.SealedSet
	People      []store.Colleague
	Invitations []store.Invitation
	Tokens      []store.Token
	Roles       []people.Role
	Forms       forms
}

// Build makes the page's data.
func (pg *Page) Build(ctx context.Context, p *shell.Request) (any, error) {
	d := settingsData{Roles: []people.Role{people.Technician, people.Viewer, people.Lead}, NetNames: map[int64]string{}}
	for _, n := range p.Networks {
		if !n.Single {
			d.Networks = append(d.Networks, networkForm{n})
			d.NetNames[n.ID] = n.Name
		}
	}
	if p.MayChange && !p.Site.Demo {
		d.Proposed = shell.Proposed(p.Networks)
	}
	if p.MayLead {
		d.Zones = clock.ZoneNames()
	}
	if src := p.Site.TimeSource; src != "recorder" && src != clock.DHCP {
		d.Server = src
	}
	var err error
	if d.Leasts, err = pg.Store.Leasts(ctx, p.Site.ID); err != nil {
		return nil, err
	}
	if d.Owned, err = pg.owned(ctx, p.Site.ID); err != nil {
		return nil, err
	}
	systems, err := pg.Store.Systems(ctx, p.Site.ID)
	if err != nil {
		return nil, err
	}
	for _, y := range systems {
		d.Systems = append(d.Systems, systemForm{y})
	}
	d.Answering = answering(p.Networks, systems)
	if d.Rests, err = pg.Store.SetsRest(ctx, p.Site.ID); err != nil {
		return nil, err
	}
	if d.Sets, err = pg.Store.SharedSets(ctx, p.Site.ID); err != nil {
		return nil, err
	}
	for i := range d.Sets {
		d.Sets[i].Sealed = nil // nothing sealed goes near a page
	}
	if d.People, err = pg.Store.PeopleOf(ctx, p.Site.ID); err != nil {
		return nil, err
	}
	if d.Invitations, err = pg.Store.Invitations(ctx, p.Site.ID); err != nil {
		return nil, err
	}
	d.Tokens, err = pg.Store.Tokens(ctx, p.Site.ID)
	d.Forms = formsOf(p, &d)
	return &d, err
}
