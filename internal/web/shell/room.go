package shell

import (
	"context"
	"fmt"
	"html/template"
	"io/fs"
	"maps"

	"github.com/labstack/echo/v5"

	"duskyharbor/internal/core/stage"
)

// Page is a room of the site. Its folder holds page.html, which defines "content", and
// where it needs them page.js (an ES module), page.css and sheet.html. A page that counts lenses:
//
//	//go:embed page.html
//	var files embed.FS
//
//	type Page struct{ *shell.Server }
//
//	func (*Page) Slug() string { return "lenses" }
//	func (*Page) Files() fs.FS { return files }
//	func (p *Page) Routes(r *shell.Routes) { r.Change.POST("/lenses/clean", p.clean) }
//	func (p *Page) Build(ctx context.Context, r *shell.Request) (any, error) {
//		return p.Store.Count(ctx, r.Selection)
//	}
type Page interface {
	// Slug is its address in a site: /sites/1/<slug>. Empty: it has no page of its own and
	// answers only what Routes adds.
	Slug() string
	Files() fs.FS
	// Routes adds what it answers besides its page.
	Routes(r *Routes)
	// Build makes the page's data, of which its template gets hold as .Data.
	Build(ctx context.Context, r *Request) (any, error)
}

// Sheeter is a Page of a stage that fills the side sheet: facts, and what a person can
// decide or have done. Its sheet.html defines "sheet-<slug>", which gets the frame.
type Sheeter interface {
	Page
	Stage() stage.Stage
	Sheet(ctx context.Context, r *Request, sh *Sheet) error
}

// Routes are where pages add what they answer, by who may ask for it.
type Routes struct {
	Root   *echo.Group // anyone: the handler guards itself
	Site   *echo.Group // people of the site, under /sites/:site
	Change *echo.Group // those who may change something
	Lead   *echo.Group // its leads
}

// room is a page as the shell keeps it.
type room struct {
	Page
	template *template.Template
	script   bool
}

// Register adds pages. It must be called once, before Handler. Two of one address are an error.
func (s *Server) Register(all ...Page) error {
	for _, p := range all {
		if _, twice := s.pages[p.Slug()]; twice {
			return fmt.Errorf("shell: two pages are called %s", p.Slug())
		}
		r := &room{Page: p}
		s.order = append(s.order, r)
		if p.Slug() != "" {
			s.pages[p.Slug()] = r
		}
		if sh, ok := p.(Sheeter); ok {
			s.sheets[sh.Stage()] = sh
		}
		if d, ok := p.(Drawer); ok {
			maps.Copy(s.draws, d.Draws())
		}
	}
	return s.assemble()
}
