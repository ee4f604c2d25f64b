package signin

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"duskyharbor/internal/core/access"
	"duskyharbor/internal/core/clock"
	"duskyharbor/internal/facts"
	"duskyharbor/internal/store"
	"duskyharbor/internal/web/shell"
)

// sheetExtra is what a person can decide or have done about a camera's accounts.
type sheetExtra struct {
	Source          int64
	Certificate     string // the one that it shows now, where that isn't the trusted one
	Basic, Forbid   bool   // Basic in clear can be allowed, or forbidden again
	Factory, Rotate bool
	Own             int64             // set made for it alone that opens it; 0: none
	Sets            []store.SealedSet // one of which can be tried by itself
	House           []store.SealedSet // one of which can be made its account
	Typed           bool              // an account can be typed for it alone
}

// Sheet tells what opens the camera.
func (pg *Page) Sheet(ctx context.Context, p *shell.Request, sh *shell.Sheet) (err error) {
	d, v := sh.Row.Device, sh.Snapshot
	f, w := facts.ForAccess(v, p.Now, d)
	if a := f.Account; a != nil {
		sh.Fact("Opened with", a.Set, a.At)
		sh.Code("User name", a.Username, a.At)
		sh.Fact("Sent by", string(a.Scheme), a.At)
		if also := access.Others(a.Takes, a.Scheme); also != "" {
			sh.Fact("Takes also", also, a.At)
		}
		if a.Own {
			sh.Fact("Token's time", "the camera's own ("+clock.Offset{Low: a.Offset, High: a.Offset}.Seconds()+" s)", a.At)
		}
		sh.Fact("Level", a.Level, a.At)
		sh.Fact("Its ONVIF accounts", strings.Join(f.Users, "; "), facts.Users.ReadAt(v, d.ID))
		sh.Fact("RTSP", a.RTSP, a.At)
	}
	if i, ok := facts.Info.Of(v, d.ID); ok {
		sh.Code("Firmware", i.Firmware, i.At)
		sh.Code("Serial", i.Serial, i.At)
	}
	if f.Rule != nil {
		sh.Fact("Rule for passwords", f.Rule.String(), facts.PasswordRule.ReadAt(v, d.ID))
	}
	if f.Pinned != "" {
		sh.Code("Certificate", f.Pinned[:min(16, len(f.Pinned))]+"…", facts.Pin.ReadAt(v, d.ID))
	}
	left, _ := f.Left(p.Now)
	sh.Fact("Wrong tries left", fmt.Sprintf("%d of %d", left, access.Budget), f.LookedAt)
	sh.Verb = "Set the account of "
	if sh.Readable, err = pg.ReadableNow(ctx, p, sh); err != nil || !p.MayChange {
		return err
	}
	x := sheetExtra{Source: sh.Row.ID, Basic: f.Basic && !w.AllowBasic, Forbid: w.AllowBasic,
		Rotate: f.Account != nil && f.Account.Scheme != access.RTSP}
	if f.Pinned != "" && f.Shown != "" && f.Pinned != f.Shown {
		x.Certificate = f.Shown
	}
	if f.Account != nil && v.Sets[f.Account.SetID].Device != 0 {
		x.Own = f.Account.SetID
	}
	if f.Account == nil && !f.LookedAt.IsZero() {
		if x.Sets, err = pg.cameraSets(ctx, p.Site.ID, v.RecorderSets()); err != nil {
			return err
		}
		x.Factory = slices.ContainsFunc(x.Sets, func(s store.SealedSet) bool { return s.Factory })
	}
	x.Typed = (f.Account == nil || f.NoLonger != "") && f.Doubt == "" && !f.NoPassword && d.Address != nil
	if x.Rotate {
		x.House, err = pg.houseSets(ctx, p.Site.ID, v.RecorderSets())
		x.House = slices.DeleteFunc(x.House, func(s store.SealedSet) bool { return s.ID == f.Account.SetID })
	}
	sh.Extra = x
	return err
}

// houseSets are those of them that are the site's own: neither makers' defaults nor left by others.
func (pg *Page) houseSets(ctx context.Context, site int64, recorders map[int64]bool) ([]store.SealedSet, error) {
	all, err := pg.cameraSets(ctx, site, recorders)
	return slices.DeleteFunc(all, func(s store.SealedSet) bool { return s.Factory || s.Former }), err
}

// cameraSets are the site's shared sets that aren't recorders' own accounts; nothing
// sealed goes near a page.
func (pg *Page) cameraSets(ctx context.Context, site int64, recorders map[int64]bool) ([]store.SealedSet, error) {
	sealed, err := pg.Store.SharedSets(ctx, site)
	if err != nil {
		return nil, err
	}
	sets := make([]access.Set, len(sealed))
	for i, s := range sealed {
		sets[i] = s.Set
	}
	var out []store.SealedSet
	for _, s := range access.ForCameras(sets, recorders) {
		out = append(out, store.SealedSet{Set: s})
	}
	return out, nil
}
