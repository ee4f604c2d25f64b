package app

import (
	"slices"

	"duskyharbor/internal/act"
	"duskyharbor/internal/core/stage"
	"duskyharbor/internal/setup"
	"duskyharbor/internal/vault"
	"duskyharbor/internal/web/analytics"
	"duskyharbor/internal/web/api"
	"duskyharbor/internal/web/board"
	"duskyharbor/internal/web/channels"
	"duskyharbor/internal/web/clock"
	"duskyharbor/internal/web/expected"
	"duskyharbor/internal/web/find"
	"duskyharbor/internal/web/inventory"
	"duskyharbor/internal/web/known"
	"duskyharbor/internal/web/later"
	"duskyharbor/internal/web/log"
	"duskyharbor/internal/web/me"
	"duskyharbor/internal/web/prove"
	"duskyharbor/internal/web/recording"
	"duskyharbor/internal/web/routes"
	"duskyharbor/internal/web/runs"
	"duskyharbor/internal/web/settings"
	"duskyharbor/internal/web/shell"
	"duskyharbor/internal/web/signin"
	"duskyharbor/internal/web/streams"
)

// Pages makes the server of all pages, and of those of extra. Adding a page is one line
// here.
func (a *App) Pages(v *vault.Vault, opt shell.Options, extra ...func(*shell.Server) shell.Page) (*shell.Server, error) {
	s, err := shell.New(a.Services.Store, a.Engine, v, opt)
	if err != nil {
		return nil, err
	}
	pages := []shell.Page{
		board.New(s), find.New(s), signin.New(s, a.SignIn), clock.New(s, a.Clock), streams.New(s,
			a.Streams, a.Live), channels.New(s, a.Streams), recording.New(s), analytics.New(s, a.Analytics), known.New(s, v), routes.New(s), prove.New(s),
		later.New(stage.Handover.Slug(), "Here the as-built record will be printed: every camera, every route, every proof."),
		later.New("sightings", "Here what the cameras' analytics saw will be found again, by class, colour, time and place."),
		log.New(s), runs.New(s), expected.New(s), inventory.New(s), settings.New(s), me.New(s), api.New(s, a.Analytics),
	}
	for _, more := range extra { // one of these takes the place of what is still to come
		page := more(s)
		pages = slices.DeleteFunc(pages, func(p shell.Page) bool { return p.Slug() == page.Slug() && p.Slug() != "" })
		pages = append(pages, page)
	}
	acts := setup.Acts(v)
	for _, st := range a.Stages() {
		if does, ok := st.(interface{ Acts() []act.Any }); ok {
			acts = append(acts, does.Acts()...)
		}
	}
	if err := s.RegisterActs(acts...); err != nil {
		return nil, err
	}
	return s, s.Register(pages...)
}
