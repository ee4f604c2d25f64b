package web

import (
	"context"
	"fmt"
	"math"
	"net/netip"
	"slices"
	"strings"
	"time"

	"duskyharbor/internal/core/access"
	"duskyharbor/internal/core/clock"
	"duskyharbor/internal/core/identity"
	"duskyharbor/internal/core/netplan"
	"duskyharbor/internal/core/stage"
	"duskyharbor/internal/device/recorder"
	"duskyharbor/internal/site"
	"duskyharbor/internal/stages/signin"
	"duskyharbor/internal/store"
)

// links leads to the device's own page, or to a recorder's relay of it.
func links(v *site.Snapshot, d store.Device) []link {
	f, _ := v.Find(d)
	var out []link
	if f.Seen != nil && strings.HasPrefix(f.Seen.Page, "http") {
		out = append(out, link{f.Seen.Page, "Open its own page"})
	}
	if b := f.Behind; b != nil && b.Relays {
		if rec, ok := v.Device(b.RecorderID); ok && rec.Address != nil {
			out = append(out, link{fmt.Sprintf("https://%s/ports/%d/page/", netip.AddrPortFrom(*rec.Address, recorder.Port), b.Port), "Open its page through " + rec.Place})
		}
	}
	return out
}

// missingMost is how many silent places are offered to a newcomer.
const missingMost = 50

// fillDeeds gathers what can be decided or done about the sheet's camera.
func (s *Server) fillDeeds(ctx context.Context, p *scenePage, sh *sheet, v *site.Snapshot) error {
	if !p.MayChange {
		return nil
	}
	d, de := sh.Row.Device, &sh.Deeds
	switch sh.Stage {
	case stage.Find:
		return s.findDeeds(ctx, p, d, de, v)
	case stage.SignIn:
		f, w := signin.Facts(time.Now(), v, d)
		if f.Pinned != "" && f.Shown != "" && f.Pinned != f.Shown {
			de.Certificate = f.Shown
		}
		de.Basic, de.Forbid = f.Basic && !w.AllowBasic, w.AllowBasic
		if f.Account != nil && v.Sets[f.Account.SetID].Device != 0 {
			de.Own = f.Account.SetID
		}
		de.Rotate = f.Account != nil && f.Account.Scheme != access.RTSP
		if f.Account == nil && !f.LookedAt.IsZero() {
			sets, err := s.store.SharedSets(ctx, p.Site.ID)
			if err != nil {
				return err
			}
			for _, x := range sets {
				if !slices.ContainsFunc(v.Recorders(), func(r store.Device) bool { return r.SetID != nil && *r.SetID == x.ID }) {
					x.Sealed = nil // nothing sealed goes near a page
					de.Sets = append(de.Sets, x)
				}
			}
			de.Factory = slices.ContainsFunc(sets, func(x store.SealedSet) bool { return x.Factory })
		}
	case stage.Clock:
		a, open := site.Account.Of(v, d.ID)
		_, read := site.Clock.Of(v, d.ID)
		de.Restart = open && read && a.Scheme != access.RTSP
	}
	return nil
}

func (s *Server) findDeeds(ctx context.Context, p *scenePage, d store.Device, de *deeds, v *site.Snapshot) error {
	f, w := v.Find(d)
	if views := viewsOf(v, d.ID); len(views) > 1 {
		picked, err := s.store.ViewsOf(ctx, d.ID)
		if err != nil {
			return err
		}
		for _, x := range views {
			de.Views = append(de.Views, viewChoice{x, slices.Contains(picked, x.Token)})
		}
	}
	if f.Seen == nil {
		return nil
	}
	de.TakeOver = f.Outcome == identity.Doubtful
	de.Elsewhere = w.Expected && f.Inside && w.Address.IsValid() && w.Address != f.Seen.Address
	if de.Unlisted = !d.Expected; de.Unlisted {
		var err error
		if de.Missing, err = s.store.Missing(ctx, p.Site.ID, missingMost); err != nil {
			return err
		}
	}
	if _, open := site.Account.Of(v, d.ID); !open || f.IPConfig == nil || len(v.Networks()) == 0 {
		return nil
	}
	de.Seat = f.IPConfig.String()
	used, expected, err := s.store.AddressesUsed(ctx, p.Site.ID)
	if err != nil {
		return err
	}
	n, ok := netplan.Of(v.Networks(), f.Seen.Address)
	if !ok {
		n = v.Networks()[0]
	}
	if free := netplan.Free(n.Prefix, func(a netip.Addr) bool { return used[a] || expected[a] }, 1); len(free) > 0 {
		de.Free = free[0].String()
	}
	return nil
}

// trend is a clock's readings over time.
type trend struct {
	Points                   string
	Dots                     []trendDot
	Zero                     float64
	Top, Bottom, Span, Label string
}

type trendDot struct {
	X, Y  float64
	Label string
}

// trendOf draws readings 356 wide and 90 high; fewer than two are no trend.
func trendOf(all []clock.Reading, zone *time.Location) trend {
	if len(all) < 2 {
		return trend{}
	}
	first, last := all[0].At, all[len(all)-1].At
	low, high := math.Inf(1), math.Inf(-1)
	for _, r := range all {
		o := r.Offset.Mid().Seconds()
		low, high = min(low, o), max(high, o)
	}
	if high-low < 0.2 { // what is less than the error of a reading isn't blown up
		middle := (high + low) / 2
		low, high = middle-0.1, middle+0.1
	}
	y := func(o float64) float64 { return 18 + 54*(high-o)/(high-low) }
	t := trend{Zero: -10, Top: offsetText(high), Bottom: offsetText(low), Span: first.In(zone).Format("15:04:05") + " – " + last.In(zone).Format("15:04:05")}
	if low <= 0 && high >= 0 {
		t.Zero = y(0)
	}
	var b strings.Builder
	for i, r := range all {
		x := 178.0
		if last.After(first) {
			x = 8 + 340*r.At.Sub(first).Seconds()/last.Sub(first).Seconds()
		}
		v := y(r.Offset.Mid().Seconds())
		if i > 0 {
			b.WriteByte(' ')
		}
		fmt.Fprintf(&b, "%.1f,%.1f", x, v)
		t.Dots = append(t.Dots, trendDot{x, v, r.At.In(zone).Format("02 Jan 15:04:05") + ": " + r.Offset.String()})
	}
	t.Points = b.String()
	t.Label = fmt.Sprintf("%d readings from %s to %s, against this server", len(all), t.Bottom, t.Top)
	return t
}

func offsetText(seconds float64) string {
	d := time.Duration(seconds * float64(time.Second))
	if d.Abs() >= 2*time.Minute {
		return clock.Brief(d)
	}
	return clock.Offset{Low: d, High: d}.Seconds() + " s"
}
