package find

import (
	"fmt"
	"net/netip"
	"slices"

	"duskyharbor/internal/core/identity"
	"duskyharbor/internal/facts"
	"duskyharbor/internal/site"
	findstage "duskyharbor/internal/stages/find"
	"duskyharbor/internal/store"
	"duskyharbor/internal/web/shell"
)

// unsettledMost is how many devices of each kind the page lists at once.
const unsettledMost = findstage.SettledMost

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
	seen := findstage.SeenAt(p.Snapshot)
	d.NoList = !slices.ContainsFunc(p.Snapshot.Cameras(), func(c store.Device) bool { return c.Expected })
	for _, dev := range p.Snapshot.Cameras() {
		f, w := facts.ForIdentity(p.Snapshot, dev)
		if at, ok := identity.NewAddress(f); ok && len(d.Claims) < unsettledMost {
			d.Claims = append(d.Claims, claimRow{p.Snapshot.Of(dev), w.Known.Address, at, findstage.Agreement(p.Snapshot, dev, seen[at].Sighting)})
			if dev.Address != nil {
				d.Claims[len(d.Claims)-1].Was = *dev.Address
			}
		}
		if f.Seen != nil && !dev.Expected && f.Behind == nil && len(f.Claims) == 0 && len(d.Strangers) < unsettledMost {
			d.Strangers = append(d.Strangers, strangerRow{p.Snapshot.Of(dev), *f.Seen})
		}
	}
}
