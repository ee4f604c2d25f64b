package find

import (
	"context"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"duskyharbor/internal/core/identity"
	"duskyharbor/internal/core/netplan"
	"duskyharbor/internal/core/stream"
	"duskyharbor/internal/facts"
	"duskyharbor/internal/site"
	"duskyharbor/internal/store"
	"duskyharbor/internal/web/shell"
)

// sheetExtra is what a person can decide or have done about where a device is.
type sheetExtra struct {
	Source                        int64
	Views                         []viewChoice
	TakeOver, Unlisted, Elsewhere bool
	NewAddress                    string // where it may go by a person's word, as a form names it; empty: nowhere
	NewAt                         string
	Doubt                         string // why no account is sent to it, where a person may say that it is ours
	Missing                       []store.Device
	IPConfig, Free                string
	Plans                         []store.RecorderName
	Planned                       int64 // the recorder that the view is planned for; 0: none
	Note                          string
	ViewsGo                       string // what goes where a picked view is given up; empty: none is picked
}

// viewChoice is one view of a device that can be picked.
type viewChoice struct {
	stream.VideoSource
	Picked bool
}

// missingMost is how many silent places are offered to a newcomer.
const missingMost = 50

// Sheet tells how the device was found.
func (pg *Page) Sheet(ctx context.Context, p *shell.Request, sh *shell.Sheet) error {
	d, v := sh.Row.Device, sh.Snapshot
	f, _ := facts.ForIdentity(v, d)
	sh.Code("Expected at", shell.AddressText(d.ExpectedAt), time.Time{})
	if s := f.Seen; s != nil {
		sh.Code("Answers at", s.Address.String(), s.At)
		sh.Fact("Heard by", s.WaysText(), s.At)
		sh.Fact("Calls itself", strings.TrimSpace(s.Make+" "+s.Model), s.At)
		sh.Code("Endpoint", s.UUID, s.At)
		sh.Code("MAC", s.MAC, s.At)
		sh.Code("Open ports", strings.Trim(fmt.Sprint(s.Ports), "[]"), s.At)
		sh.Code("Service", s.Service, s.At)
		sh.Fact("Web page", s.Title, s.At)
		if f.IPConfig != nil {
			sh.Code("Address settings", f.IPConfig.String(), facts.IPConfig.ReadAt(v, d.ID))
		}
		if f.DNS != nil {
			sh.Code("Name servers", f.DNS.String(), facts.DNS.ReadAt(v, d.ID))
		}
		sh.Code("Firmware", f.Firmware, facts.Info.ReadAt(v, d.ID))
		if b := f.Behind; b != nil {
			sh.Fact("Hangs on", fmt.Sprintf("port %d of %s", b.Port, b.Recorder), b.At)
		}
	} else if !f.LookedAt.IsZero() {
		sh.Fact("Tried", f.Tried, f.LookedAt)
	}
	sh.Verb = "Put right "
	if !p.MayChange {
		return nil
	}
	x, err := pg.extra(ctx, p, sh.Row.Source, v)
	sh.Extra = x
	return err
}

func (pg *Page) extra(ctx context.Context, p *shell.Request, of site.Source, v *site.Snapshot) (x sheetExtra, err error) {
	d := of.Device
	f, w := facts.ForIdentity(v, d)
	x.Source = of.ID
	if x.Plans, err = pg.Store.RecorderNames(ctx, p.Site.ID); err != nil {
		return x, err
	}
	if of.RecorderID != nil {
		x.Planned = *of.RecorderID
	}
	if x.Note, err = pg.Store.NoteOf(ctx, d.ID); err != nil {
		return x, err
	}
	if views, _ := facts.VideoSources.Of(v, d.ID); len(views) > 1 {
		picked, err := pg.Store.ViewsOf(ctx, d.ID)
		if err != nil {
			return x, err
		}
		for _, s := range views {
			x.Views = append(x.Views, viewChoice{s, slices.Contains(picked, s.Token)})
			if slices.Contains(picked, s.Token) {
				x.ViewsGo = "A view whose tick is gone leaves the Board, with what was read, accepted and proven of it."
			}
		}
	}
	if at, ok := identity.NewAddress(f); ok {
		x.NewAt, x.NewAddress = at.String(), claimRow{Of: of, At: at}.Pick()
	}
	if f.Seen == nil {
		return x, nil
	}
	x.TakeOver = f.Outcome == identity.Doubtful
	if d.Expected && !x.TakeOver {
		x.Doubt = identity.Doubt(f, w)
	}
	x.Elsewhere = w.Expected && f.Inside && w.Address.IsValid() && w.Address != f.Seen.Address
	if x.Unlisted = !d.Expected; x.Unlisted {
		if x.Missing, err = pg.Store.Missing(ctx, p.Site.ID, missingMost); err != nil {
			return x, err
		}
	}
	if _, open := facts.Account.Of(v, d.ID); !open || f.IPConfig == nil || len(v.Networks()) == 0 {
		return x, nil
	}
	x.IPConfig = f.IPConfig.String()
	used, expected, err := pg.Store.AddressesUsed(ctx, p.Site.ID)
	if err != nil {
		return x, err
	}
	n, ok := netplan.Of(v.Networks(), f.Seen.Address)
	if !ok {
		n = v.Networks()[0]
	}
	if free := netplan.Free(n, func(a netip.Addr) bool { return used[a] || expected[a] }, 1); len(free) > 0 {
		x.Free = free[0].String()
	}
	return x, nil
}
