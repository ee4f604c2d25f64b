package app

import (
	"context"
	"time"

	"duskyharbor/internal/core/identity"
	"duskyharbor/internal/core/trouble"
	"duskyharbor/internal/device/rtsp"
	"duskyharbor/internal/facts"
	"duskyharbor/internal/gather"
	"duskyharbor/internal/site"
	"duskyharbor/internal/stages/analytics"
)

// feed opens how an analyser looks at a view; nil where none does.
func (a *App) feed(ctx context.Context, source int64) (*gather.Feed, error) {
	of, err := a.Services.Store.SourceByID(ctx, source)
	if err != nil || of.Paired == nil {
		return nil, err
	}
	s, err := site.Load(ctx, a.Services.Store, of.Device.SiteID, []int64{of.Device.ID})
	if err != nil {
		return nil, err
	}
	d, ok := s.Device(of.Paired.Analyser)
	if !ok || d.Kind != identity.Analyser || d.Address == nil {
		return nil, trouble.UserError("The analyser that looks at it isn't where it was: look for it.")
	}
	told, _ := facts.Analyser.Of(s, d.ID)
	v, there := told.View(of.Key)
	if !there {
		return nil, trouble.UserError(d.Place + " doesn't know it: pair it again.")
	}
	still, fits := told.Limits.Fitting(analytics.Stills(s, of))
	if !fits {
		return nil, trouble.UserError("None of its stills is one that " + d.Place + " takes: set its view stream smaller on Streams.")
	}
	const purpose = "what an analyser looks at"
	taken, err := a.Streams.Stills(ctx, s, of, still.Profile, purpose)
	if err != nil {
		return nil, err
	}
	to, err := a.Services.Accounts.Analyser(ctx, d)
	if err != nil {
		taken.Close()
		return nil, err
	}
	return &gather.Feed{Every: time.Duration(float64(time.Second) / of.Paired.Sends(v)), Most: told.Limits.Bytes, Token: v.Token, Take: taken.Take,
		Give: func(ctx context.Context, at time.Time, jpeg []byte) error { return to.Still(ctx, of.Key, at, jpeg) },
		Hear: func(ctx context.Context) (*rtsp.Conn, error) {
			login, err := a.Services.Accounts.AnalyserStream(ctx, d, purpose)
			if err != nil {
				return nil, err
			}
			return rtsp.Open(ctx, a.Services.Dialer.At(*d.Address), v.Metadata, rtsp.Login(login))
		},
		Close: func() { taken.Close(); to.Close() }}, nil
}
