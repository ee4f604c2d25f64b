package app

import (
	"context"
	"time"

	"duskyharbor/internal/core/identity"
	"duskyharbor/internal/core/pairing"
	"duskyharbor/internal/core/trouble"
	"duskyharbor/internal/device/rtsp"
	"duskyharbor/internal/facts"
	"duskyharbor/internal/gather"
	"duskyharbor/internal/live"
	"duskyharbor/internal/site"
	"duskyharbor/internal/stages"
	"duskyharbor/internal/stages/analytics"
	"duskyharbor/internal/store"
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
	d, told, v, err := lookedBy(s, of)
	if err != nil {
		return nil, err
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
		Give:  func(ctx context.Context, at time.Time, jpeg []byte) error { return to.Still(ctx, of.Key, at, jpeg) },
		Hear:  func(ctx context.Context) (*rtsp.Conn, error) { return hear(ctx, ctx, a.Services, d, v, purpose) },
		Close: func() { taken.Close(); to.Close() }}, nil
}

// lookedBy is the analyser that looks at a view, with what it told of itself and of the view.
func lookedBy(s *site.Snapshot, of site.Source) (d store.Device, told pairing.Analyser, v pairing.View, err error) {
	d, ok := s.Device(of.Paired.Analyser)
	if !ok || d.Kind != identity.Analyser || d.Address == nil {
		return d, told, v, trouble.UserError("The analyser that looks at it isn't where it was: look for it.")
	}
	told, _ = facts.Analyser.Of(s, d.ID)
	v, there := told.View(of.Key)
	if !there {
		return d, told, v, trouble.UserError(d.Place + " doesn't know it: pair it again.")
	}
	return d, told, v, nil
}

// hear opens the conversation with an analyser about what it sees of a view; it lasts as long as lasts does.
func hear(ctx, lasts context.Context, k stages.Services, d store.Device, v pairing.View, purpose string) (*rtsp.Conn, error) {
	login, err := k.Accounts.AnalyserStream(ctx, d, purpose)
	if err != nil {
		return nil, err
	}
	return rtsp.Open(lasts, k.Dialer.At(*d.Address), v.Metadata, rtsp.Login(login))
}

// seenBy opens what the analyser that looks at a view sees of it, for whoever looks at the view.
func seenBy(k stages.Services) live.Looked {
	return func(ctx, lasts context.Context, s *site.Snapshot, of site.Source) (*rtsp.Conn, error) {
		d, _, v, err := lookedBy(s, of)
		if err != nil {
			return nil, err
		}
		return hear(ctx, lasts, k, d, v, "what its analytics see")
	}
}
