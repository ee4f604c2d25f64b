// Package later stands for what is still to come.
package later

import (
	"context"
	"embed"
	"io/fs"

	"duskyharbor/internal/web/shell"
)

//go:embed page.html
var files embed.FS

// Page says what will be there.
type Page struct {
	slug, says string
}

// New makes the page of a stage, or of something else, that is still to come.
func New(slug, says string) *Page { return &Page{slug, says} }

// Slug is its address.
func (p *Page) Slug() string { return p.slug }

// Files are its template.
func (*Page) Files() fs.FS { return files }

// Routes adds nothing.
func (*Page) Routes(*shell.Routes) {}

// Build makes the page's data: what will be there.
func (p *Page) Build(context.Context, *shell.Request) (any, error) { return p.says, nil }
