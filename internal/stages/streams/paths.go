package streams

import (
	"context"
	"errors"
	"net/netip"
	"strings"
	"time"

	"duskyharbor/internal/core/access"
	"duskyharbor/internal/core/stream"
	"duskyharbor/internal/core/trouble"
	"duskyharbor/internal/device/dial"
	"duskyharbor/internal/device/rtsp"
	"duskyharbor/internal/engine"
	"duskyharbor/internal/site"
)

// described reads the streams of a device that speaks RTSP alone, at the addresses that a
// person named: each is a profile as its description declares it. An address that has no
// stream costs only itself; silence and a refused account end the reading.
func (t *Stage) described(ctx context.Context, of site.Source, s *site.Snapshot) ([]stream.Profile, error) {
	d := of.Device
	host, login, at, err := t.toRTSP(ctx, of, s)
	if err != nil {
		return nil, err
	}
	if len(d.Paths) == 0 {
		return nil, trouble.Told("Nobody said at which addresses the streams of " + d.Place + " are had.")
	}
	var out []stream.Profile
	for _, path := range d.Paths {
		track, err := rtsp.Ask(ctx, host, stream.PathURI(at, path), login)
		p := stream.PathProfile(at, path, track.Codec, track.SPS)
		if err != nil {
			if !costsItself(err) {
				return nil, err
			}
			p.Trouble = trouble.Sentence(err)
		}
		out = append(out, p)
	}
	return out, nil
}

// costsItself says whether trouble with one address says nothing of the others.
func costsItself(err error) bool {
	return errors.Is(err, dial.ErrRefused) || errors.Is(err, dial.ErrNotSupported) || errors.Is(err, dial.ErrMalformed) || errors.Is(err, dial.ErrElsewhere)
}

// toRTSP is a device that speaks RTSP alone, with the account that opens it.
func (t *Stage) toRTSP(ctx context.Context, of site.Source, s *site.Snapshot) (dial.Host, rtsp.Login, netip.AddrPort, error) {
	d := of.Device
	seen, heard := site.Seen.Of(s, d.ID)
	opens, ok := site.Account.Of(s, d.ID)
	if !ok || !heard || d.Address == nil {
		return dial.Host{}, rtsp.Login{}, netip.AddrPort{}, trouble.Told("No account opens " + d.Place + " yet: sign in first.")
	}
	login, err := t.Accounts.LoginOf(ctx, d, s, opens.ForRTSP(), access.RTSP, t.ID().String())
	return t.Dialer.At(*d.Address), rtsp.Login(login), netip.AddrPortFrom(*d.Address, uint16(seen.RTSPPort)), err
}

// usualLimit is how long the usual addresses of one device may be asked for.
const usualLimit = 20 * time.Second

// Usual asks a device that speaks RTSP alone for streams at the addresses at which they are
// often had, because a person allowed it, and returns those that it describes.
func (t *Stage) Usual(ctx context.Context, of site.Source) ([]string, error) {
	ctx, cancel := context.WithTimeout(ctx, usualLimit)
	defer cancel()
	s, err := site.Load(ctx, t.Store, of.Device.SiteID, []int64{of.Device.ID})
	if err != nil {
		return nil, err
	}
	host, login, at, err := t.toRTSP(ctx, of, s)
	if err != nil {
		return nil, err
	}
	var out, addresses []string
	for _, path := range stream.UsualPaths() {
		addresses = append(addresses, stream.PathURI(at, path))
	}
	err = rtsp.AskEach(ctx, host, addresses, login, func(address string, err error) bool {
		if err == nil && len(out) < stream.MaxPaths {
			out = append(out, strings.TrimPrefix(address, stream.PathURI(at, "")))
		}
		return err == nil || !engine.Ours(err) && costsItself(err)
	})
	switch {
	case err == nil:
	case engine.Ours(err):
		return nil, err
	default:
		return nil, trouble.Told(trouble.Sentence(err))
	}
	return out, nil
}
