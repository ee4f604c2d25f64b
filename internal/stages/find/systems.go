package find

import (
	"context"
	"net/netip"
	"sync"

	"duskyharbor/internal/core/clock"
	"duskyharbor/internal/core/identity"
	"duskyharbor/internal/core/netplan"
	"duskyharbor/internal/device/dial"
	"duskyharbor/internal/device/ntp"
)

// systems asks what else the site has in a network whether it answers: a time server for the
// time, any other by the ports that the look found open. No account is sent to any.
func (f *Stage) systems(ctx context.Context, site int64, p netip.Prefix, seen []identity.Sighting) error {
	all, err := f.Store.SystemsIn(ctx, site, p)
	if err != nil || len(all) == 0 {
		return err
	}
	open := map[netip.Addr][]int{}
	for _, s := range seen {
		open[s.Address] = s.Ports
	}
	var wg sync.WaitGroup
	for i := range all {
		y := &all[i]
		if y.Kind != netplan.Time {
			y.Says, y.Answers = netplan.PortsSay(open[y.Address])
			continue
		}
		wg.Go(func() {
			o, err := ntp.Ask(ctx, f.Dialer.At(y.Address))
			if y.Answers = err == nil; !y.Answers {
				y.Says = "no time over NTP: " + dial.Plain(err)
				return
			}
			y.Says = clock.TimeSays(o)
		})
	}
	wg.Wait()
	if ctx.Err() != nil {
		return nil // what wasn't asked isn't known
	}
	return f.Store.KeepAnswers(ctx, all)
}
