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
	"duskyharbor/internal/facts"
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
		return nil, trouble.UserError("Nobody said at which addresses the streams of " + d.Place + " are had.")
	}
	var out []stream.Profile
	err = eachPath(ctx, host, at, d.Paths, login, func(path string, track rtsp.Track, err error) {
		p := stream.PathProfile(at, path, track.Codec, track.SPS)
		if err != nil {
			p.Trouble = trouble.Sentence(err)
		}
		out = append(out, p)
	})
	if err != nil {
		return nil, err
	}
	return out, nil
}

// eachPath asks for the streams of several paths. What costs only itself is told to each; other trouble
// ends it, and is returned.
func eachPath(ctx context.Context, host dial.Host, at netip.AddrPort, paths []string, login rtsp.Login, each func(path string, t rtsp.Track, err error)) error {
	var addresses []string
	for _, path := range paths {
		addresses = append(addresses, stream.PathURI(at, path))
	}
	return rtsp.AskEach(ctx, host, addresses, login, func(address string, t rtsp.Track, err error) bool {
		goOn := err == nil || costsItself(err)
		if goOn {
			each(strings.TrimPrefix(address, stream.PathURI(at, "")), t, err)
		}
		return goOn
	})
}

// costsItself says whether trouble with one address says nothing of the others.
func costsItself(err error) bool {
	return errors.Is(err, dial.ErrRefused) || errors.Is(err, dial.ErrNotSupported) || errors.Is(err, dial.ErrMalformed) || errors.Is(err, dial.ErrElsewhere)
}

// toRTSP is a device that speaks RTSP alone, with the account that opens it.
func (t *Stage) toRTSP(ctx context.Context, of site.Source, s *site.Snapshot) (dial.Host, rtsp.Login, netip.AddrPort, error) {
	d := of.Device
	seen, heard := facts.Seen.Of(s, d.ID)
	opens, ok := facts.Account.Of(s, d.ID)
	if !ok || !heard || d.Address == nil {
		return dial.Host{}, rtsp.Login{}, netip.AddrPort{}, trouble.UserError("No account opens " + d.Place + " yet: sign in first.")
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
	var out []string
	err = eachPath(ctx, host, at, stream.UsualPaths(), login, func(path string, _ rtsp.Track, err error) {
		if err == nil && len(out) < stream.MaxPaths {
			out = append(out, path)
		}
	})
	switch {
	case err == nil:
	case engine.Ours(err):
		return nil, err
	default:
		return nil, trouble.UserError(trouble.Sentence(err))
	}
	return out, nil
}
