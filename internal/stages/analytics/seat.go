package analytics

import (
	"context"
	"time"

	"duskyharbor/internal/core/access"
	"duskyharbor/internal/core/identity"
	"duskyharbor/internal/core/trouble"
	"duskyharbor/internal/device/onvif"
	"duskyharbor/internal/facts"
	"duskyharbor/internal/site"
	"duskyharbor/internal/stages"
)

// seat is where a view's rules are: on its own camera, or on the analyser that looks at it.
type seat struct {
	*onvif.Client
	services map[string]string
	token    string // of the view's analytics configuration; empty: it has none
}

// seatOf opens where a view's rules are. The client is the caller's to close.
func (a *Stage) seatOf(ctx context.Context, s *site.Snapshot, of site.Source) (seat, error) {
	if of.Paired != nil {
		return a.analyserSeat(ctx, s, of)
	}
	c, err := a.Accounts.Open(ctx, of.Device, s, a.ID().String())
	if err != nil {
		return seat{}, err
	}
	services, _ := facts.Services.Of(s, of.Device.ID)
	profiles, _ := site.Profiles.Of(s, of.Device.ID)
	token, err := stages.AnalyticsOf(ctx, c, profiles, of.Video, services)
	if err != nil {
		c.Close()
		return seat{}, err
	}
	return seat{c, services, token}, nil
}

func (a *Stage) analyserSeat(ctx context.Context, s *site.Snapshot, of site.Source) (seat, error) {
	d, ok := s.Device(of.Paired.Analyser)
	if !ok || d.Kind != identity.Analyser {
		return seat{}, trouble.UserError("The analyser that looks at " + of.Place + " was taken off the site.")
	}
	told, _ := facts.Analyser.Of(s, d.ID)
	v, there := told.View(of.Key)
	if !there {
		return seat{}, trouble.UserError(d.Place + " doesn't know " + of.Place + ": pair it again.")
	}
	c, err := a.Accounts.AnalyserRules(ctx, d)
	if err != nil {
		return seat{}, err
	}
	services, known := facts.Services.Of(s, d.ID)
	if !known {
		var via string
		if services, via, err = c.Services(ctx); err == nil {
			err = a.Store.KeepFacts(ctx, facts.Services.New(d.ID, via, time.Now().UTC(), services))
		}
		if err != nil {
			c.Close()
			return seat{}, err
		}
	}
	return seat{c, services, v.Token}, nil
}

// writable says whether rules can be written for a view.
func writable(s *site.Snapshot, of site.Source) bool {
	if of.Paired != nil {
		return true
	}
	account, open := facts.Account.Of(s, of.Device.ID)
	return open && account.Scheme != access.RTSP
}
