package find

import (
	"context"
	"fmt"
	"net/http"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/labstack/echo/v5"

	"duskyharbor/internal/core/identity"
	"duskyharbor/internal/core/trouble"
	"duskyharbor/internal/site"
	"duskyharbor/internal/store"
	"duskyharbor/internal/web/shell"
)

// unsettledMost is how many devices of each kind the page lists at once.
const unsettledMost = 200

// claimRow is a device that something at another address says to be.
type claimRow struct {
	Of      site.Source
	Was, At netip.Addr
	Agrees  string
}

// Pick names the row in a form: the device, and where it would go.
func (r claimRow) Pick() string { return fmt.Sprintf("%d %s", r.Of.Device.ID, r.At) }

// strangerRow is a device that nobody listed.
type strangerRow struct {
	Of   site.Source
	Seen identity.Sighting
}

// Pick names the row in a form: the device, and where it was seen.
func (r strangerRow) Pick() string { return fmt.Sprintf("%d %s", r.Of.Device.ID, r.Seen.Address) }

// unsettled lists what waits for a person's word on who it is.
func (pg *Page) unsettled(p *shell.Request, d *findData) {
	seen := seenAt(p.Snapshot)
	d.NoList = !slices.ContainsFunc(p.Snapshot.Cameras(), func(c store.Device) bool { return c.Expected })
	for _, dev := range p.Snapshot.Cameras() {
		f, w := p.Snapshot.Find(dev)
		if at, ok := identity.NewAddress(f); ok && len(d.Claims) < unsettledMost {
			d.Claims = append(d.Claims, claimRow{p.Snapshot.Of(dev), w.Known.Address, at, agreement(p.Snapshot, dev, seen[at].Sighting)})
			if dev.Address != nil {
				d.Claims[len(d.Claims)-1].Was = *dev.Address
			}
		}
		if f.Seen != nil && !dev.Expected && f.Behind == nil && len(f.Claims) == 0 && len(d.Strangers) < unsettledMost {
			d.Strangers = append(d.Strangers, strangerRow{p.Snapshot.Of(dev), *f.Seen})
		}
	}
}

func agreement(s *site.Snapshot, d store.Device, seen identity.Sighting) string {
	if !seen.Address.IsValid() { // it is beyond the rows that are shown
		return "see what answers there"
	}
	k := d.Known()
	k.Pin, _ = site.Pin.Of(s, d.ID)
	return identity.Agreement(k, seen)
}

// seenOf is a sighting with the device that it is kept of.
type seenOf struct {
	identity.Sighting
	Device store.Device
}

func seenAt(s *site.Snapshot) map[netip.Addr]seenOf {
	out := map[netip.Addr]seenOf{}
	for _, d := range s.Devices {
		if x, ok := site.Seen.Of(s, d.ID); ok {
			out[x.Address] = seenOf{x, d}
		}
	}
	return out
}

// picked reads the rows that a form names: device and address, as they were shown.
func picked(c *echo.Context) (map[int64]netip.Addr, error) {
	form, err := c.FormValues()
	if err != nil {
		return nil, echo.NewHTTPError(http.StatusBadRequest, "The form can't be read.")
	}
	out := map[int64]netip.Addr{}
	for _, v := range form["device"] {
		id, at, _ := strings.Cut(v, " ")
		n, err := strconv.ParseInt(id, 10, 64)
		a, aerr := netip.ParseAddr(at)
		if err != nil || aerr != nil || len(out) >= unsettledMost {
			return nil, store.ErrNotFound
		}
		out[n] = a
	}
	return out, nil
}

// changedMeanwhile is told where a row isn't any more what was shown.
const changedMeanwhile = "%s isn't any more what was shown: nothing was kept. Look at it again."

// takeAddresses moves devices, in the site's record, to where a person says that they are now:
// all that were picked or none. Nothing is written to any.
func (pg *Page) takeAddresses(c *echo.Context) error {
	ctx, me := c.Request().Context(), shell.VisitorOf(c)
	rows, err := picked(c)
	if err != nil {
		return err
	}
	if len(rows) == 0 {
		return pg.Back(c, "Nothing was picked.")
	}
	s, err := site.Load(ctx, pg.Store, me.Member.ID, nil)
	if err != nil {
		return err
	}
	all, says, err := taken(s, rows)
	if err != nil {
		return pg.Told(c, err)
	}
	if err := pg.Store.TakeAddresses(ctx, me.Member.ID, all); err != nil {
		return err
	}
	return pg.settled(ctx, c, rows, "took new addresses", strings.Join(says, "; "),
		shell.Plural(len(all), "camera")+" known at the new address from now on. Sign in next: what opened it goes first.")
}

// taken works out what a person's word on new addresses means, and in which words it is logged.
func taken(s *site.Snapshot, rows map[int64]netip.Addr) (all []store.TakenAddress, says []string, err error) {
	seen, now := seenAt(s), time.Now().UTC()
	for _, d := range s.Devices {
		at, ok := rows[d.ID]
		if !ok {
			continue
		}
		f, w := s.Find(d)
		shown := seen[at]
		if is, ok := identity.NewAddress(f); !ok || is != at || shown.Device.ID == 0 {
			return nil, nil, trouble.Tell(changedMeanwhile, d.Place)
		}
		m := store.TakenAddress{Device: d.ID, Seen: shown.Sighting, LookFacts: []store.NewFact{
			site.Seen.New(d.ID, shown.WaysText(), now, shown.Sighting),
			site.FindAsked.New(d.ID, "a person settled it", now, site.Inquiry{At: now, Outcome: identity.Matched, Tried: f.Tried})}}
		if !shown.Device.Expected {
			m.Newcomer = shown.Device.ID
		}
		all = append(all, m)
		says = append(says, fmt.Sprintf("%s from %s to %s (%s)", d.Place, w.Known.Address, at, agreement(s, d, shown.Sighting)))
	}
	if len(all) != len(rows) {
		return nil, nil, trouble.Tell(changedMeanwhile, "One of them")
	}
	return all, says, nil
}

// listAll puts devices that nobody expected on the list, as they are called now.
func (pg *Page) listAll(c *echo.Context) error {
	ctx, me := c.Request().Context(), shell.VisitorOf(c)
	rows, err := picked(c)
	if err != nil {
		return err
	}
	words, places, err := pg.words(ctx, me.Member.ID, rows)
	if err != nil {
		return pg.Told(c, err)
	}
	if len(words) == 0 {
		return pg.Back(c, "Nothing was picked.")
	}
	if err := pg.Store.List(ctx, me.Member.ID, words); err != nil {
		return err
	}
	return pg.settled(ctx, c, rows, "put devices on the list", strings.Join(places, ", "),
		shell.Plural(len(words), "camera")+" on the list: this site's sets may be sent there. Sign in next.")
}

// ours keeps a person's word that what answers for a device is of this site.
func (pg *Page) ours(c *echo.Context) error {
	ctx := c.Request().Context()
	_, of, err := pg.Camera(c)
	if err != nil {
		return err
	}
	at, err := netip.ParseAddr(c.FormValue("at"))
	if err != nil {
		return store.ErrNotFound
	}
	words, _, err := pg.words(ctx, of.Device.SiteID, map[int64]netip.Addr{of.Device.ID: at})
	if err != nil {
		return pg.Told(c, err)
	}
	if err := pg.Store.SetOurs(ctx, of.Device.SiteID, words); err != nil {
		return err
	}
	return pg.JudgedBack(c, of, "said that a device is ours", ": at "+at.String(), "Accounts may be sent to "+of.Place+" while it shows itself as it does now. Sign in next.")
}

// words are a person's words on what was seen of devices, where that is as it was shown.
func (pg *Page) words(ctx context.Context, siteID int64, rows map[int64]netip.Addr) (words map[int64]identity.Word, places []string, err error) {
	only := make([]int64, 0, len(rows))
	for id := range rows {
		only = append(only, id)
	}
	slices.Sort(only)
	s, err := site.Load(ctx, pg.Store, siteID, only)
	if err != nil {
		return nil, nil, err
	}
	words = map[int64]identity.Word{}
	for _, id := range only {
		d, ok := s.Device(id)
		seen, heard := site.Seen.Of(s, id)
		if !ok || !heard || seen.Address != rows[id] {
			return nil, nil, trouble.Tell(changedMeanwhile, "One of them")
		}
		words[id] = identity.WordOn(seen)
		places = append(places, d.Place)
	}
	return words, places, nil
}

// settled judges what a person settled, and logs it.
func (pg *Page) settled(ctx context.Context, c *echo.Context, rows map[int64]netip.Addr, did, on, says string) error {
	me := shell.VisitorOf(c)
	if err := pg.Audit(ctx, me, did, on); err != nil {
		return err
	}
	all := make([]int64, 0, len(rows))
	for id := range rows {
		all = append(all, id)
	}
	if err := pg.Engine.Judge(ctx, me.Member.ID, all); err != nil {
		return err
	}
	return pg.Back(c, says)
}
