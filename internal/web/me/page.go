// Package me is a person's own page: password and sign-ins.
package me

import (
	"context"
	"embed"
	"io/fs"

	"duskyharbor/internal/store"
	"duskyharbor/internal/web/shell"
)

//go:embed page.html
var files embed.FS

// Page is its page.
type Page struct {
	*shell.Server
}

// New makes the page.
func New(s *shell.Server) *Page { return &Page{s} }

// Slug is its address.
func (*Page) Slug() string { return "account" }

// Files are its template.
func (*Page) Files() fs.FS { return files }

// Routes adds what it answers besides its page.
func (pg *Page) Routes(r *shell.Routes) {

}

// accountData is a person's own page.
type accountData struct {
	SignIns []store.SignIn
	This    int64
}

// Build makes the page's data.
func (pg *Page) Build(ctx context.Context, p *shell.Request) (any, error) {
	p.Title = "Your account"
	all, err := pg.Store.SignIns(ctx, p.Me.ID)
	return accountData{all, pg.SignInOf(ctx)}, err
}
