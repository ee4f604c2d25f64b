package work

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"net/netip"
	"slices"
	"sync"
	"time"

	"duskyharbor/internal/core/identity"
	"duskyharbor/internal/core/netplan"
	"duskyharbor/internal/device/dial"
	"duskyharbor/internal/device/discovery"
	"duskyharbor/internal/device/onvif"
	"duskyharbor/internal/device/recorder"
	"duskyharbor/internal/device/rtsp"
	"duskyharbor/internal/store"
)

// Ports that are tried on every address.
var ports = []int{80, 443, 554, 8080, 8443, 8554}

// look asks a whole network what is on it.
func (o *Office) look(ctx context.Context, a stepArgs) (string, error) {
	networks, err := o.store.Networks(ctx, a.Site)
	if err != nil {
		return "", err
	}
	i := slices.IndexFunc(networks, func(n store.Network) bool { return n.ID == a.Network })
	if i < 0 {
		return "", toldError("That network was taken off the site.")
	}
	n := networks[i]
	begun := time.Now()
	seen, sum, err := o.ask(ctx, a.Site, n.Prefix)
	if err != nil {
		return "", err
	}
	sum.Seconds = time.Since(begun).Seconds()
	touched, err := o.reconcile(ctx, a.Site, n.Prefix, seen, sum)
	if err != nil {
		return "", err
	}
	if err := o.store.KeepLook(ctx, n.ID, time.Now().UTC(), sum); err != nil {
		return "", err
	}
	if err := o.judge(ctx, a.Site, touched); err != nil {
		return "", err
	}
	return fmt.Sprintf("%d addresses of %s asked, %d answered", sum.Addresses, n.Name, len(seen)), nil
}

// ask gathers what answers in a prefix, each address once.
func (o *Office) ask(ctx context.Context, site int64, p netip.Prefix) ([]identity.Sighting, store.Look, error) {
	hosts := netplan.Hosts(p)
	sum := store.Look{Addresses: len(hosts)}
	var mu sync.Mutex
	seen := map[netip.Addr]identity.Sighting{}
	add := func(all ...identity.Sighting) {
		mu.Lock()
		defer mu.Unlock()
		for _, s := range all {
			if !p.Contains(s.Address) {
				continue // it answered from another network: that network's look finds it
			}
			if old, ok := seen[s.Address]; ok {
				s = identity.Merge(old, s)
			}
			seen[s.Address] = s
		}
	}
	var open map[netip.Addr][]int
	var wg sync.WaitGroup
	source, err := discovery.Source(p)
	if err == nil {
		wg.Go(func() {
			all, merr := discovery.Multicast(ctx, source, o.opt.Listen)
			add(all...)
			if merr != nil {
				mu.Lock()
				sum.Trouble = merr.Error()
				mu.Unlock()
			}
		})
		wg.Go(func() {
			all, _ := discovery.Directed(ctx, source, hosts, o.opt.Listen)
			add(all...)
		})
	} else {
		sum.Trouble = err.Error()
	}
	wg.Go(func() { open = discovery.Sweep(ctx, o.dialer, hosts, ports, 300*time.Millisecond) })
	wg.Wait()
	if err := o.sweepAgain(ctx, site, p, seen, open); err != nil {
		return nil, sum, err
	}
	gate := make(chan struct{}, 64)
	for addr, at := range open {
		wg.Go(func() {
			gate <- struct{}{}
			defer func() { <-gate }()
			add(o.knock(ctx, addr, at)...)
		})
	}
	wg.Wait()
	out := make([]identity.Sighting, 0, len(seen))
	for _, s := range seen {
		out = append(out, s)
		count(&sum, s)
	}
	slices.SortFunc(out, func(a, b identity.Sighting) int { return a.Address.Compare(b.Address) })
	return out, sum, ctx.Err()
}

// sweepAgain knocks once more, with more time, at the addresses that answered in any
// way or are expected to: a busy device or machine may miss the first knock.
func (o *Office) sweepAgain(ctx context.Context, site int64, p netip.Prefix, seen map[netip.Addr]identity.Sighting, open map[netip.Addr][]int) error {
	dots, err := o.store.Dots(ctx, site, []netip.Prefix{p})
	if err != nil {
		return err
	}
	again := map[netip.Addr]bool{}
	for _, d := range dots {
		again[d.Address] = true
	}
	for a := range seen {
		again[a] = true
	}
	for a := range open {
		again[a] = true
	}
	for a, at := range discovery.Sweep(ctx, o.dialer, slices.Collect(maps.Keys(again)), ports, time.Second) {
		for _, port := range at {
			if !slices.Contains(open[a], port) {
				open[a] = append(open[a], port)
			}
		}
	}
	for a := range open {
		slices.Sort(open[a])
	}
	return nil
}

func count(l *store.Look, s identity.Sighting) {
	for _, w := range s.Ways {
		switch w {
		case identity.Multicast:
			l.Multicast++
		case identity.Directed:
			l.Directed++
		case identity.AskedTime:
			l.Time++
		case identity.SpokeRTSP:
			l.RTSP++
		case identity.SaidHello:
			l.Recorders++
		}
	}
}

// knock asks an address with open ports what it is, without signing in.
func (o *Office) knock(ctx context.Context, addr netip.Addr, open []int) []identity.Sighting {
	host := o.dialer.At(addr)
	base := identity.Sighting{Address: addr, At: time.Now().UTC(), Ports: open}
	var out []identity.Sighting
	var trouble error
	for _, port := range open {
		s := base
		switch port {
		case 80, 8080:
			s.Service = fmt.Sprintf("http://%s/onvif/device_service", netip.AddrPortFrom(addr, uint16(port)))
			c, err := onvif.New(host, s.Service, onvif.Login{})
			if err != nil {
				continue
			}
			ask, cancel := context.WithTimeout(ctx, 4*time.Second)
			_, err = c.Time(ask)
			cancel()
			c.Close()
			if err != nil {
				if !errors.Is(err, dial.ErrNotSupported) {
					trouble = err
				}
				continue
			}
			s.Kind, s.Ways = identity.Camera, []identity.Way{identity.AskedTime}
		case 554, 8554:
			ask, cancel := context.WithTimeout(ctx, 4*time.Second)
			ok := spokeRTSP(ask, host, port)
			cancel()
			if !ok {
				continue
			}
			s.Kind, s.RTSPPort, s.Ways = identity.Camera, port, []identity.Way{identity.SpokeRTSP}
		case recorder.Port:
			c := recorder.New(host, port, "", "", "")
			h, err := c.Hello(ctx)
			c.Close()
			if err != nil {
				continue
			}
			s.Kind, s.Ways = identity.Recorder, []identity.Way{identity.SaidHello}
			s.Make, s.Model, s.Serial, s.MAC, s.Firmware = h.Make, h.Model, h.Serial, identity.CleanMAC(h.MAC), h.Firmware
		default:
			continue
		}
		out = append(out, s)
	}
	if trouble != nil && len(out) == 0 {
		base.Trouble = trouble.Error() + "."
		out = append(out, base)
	}
	return out
}

func spokeRTSP(ctx context.Context, host dial.Host, port int) bool {
	c, err := rtsp.Open(ctx, host, fmt.Sprintf("rtsp://%s/", netip.AddrPortFrom(host.Addr, uint16(port))), "", "")
	if err != nil {
		return false
	}
	defer c.Close()
	return c.Options() == nil
}

// reconcile writes what was seen beside what is known, in batches, and returns the
// cameras that were looked at. A known device of this network that didn't answer
// keeps all that was read of it before.
func (o *Office) reconcile(ctx context.Context, site int64, p netip.Prefix, seen []identity.Sighting, sum store.Look) ([]int64, error) {
	devices, err := o.store.Devices(ctx, site)
	if err != nil {
		return nil, err
	}
	known := make([]identity.Known, len(devices))
	for i, d := range devices {
		known[i] = d.Known()
	}
	now := time.Now().UTC()
	var silent, touched []int64
	var facts []store.NewFact
	var said []store.Identity
	var fresh []store.Device
	var strangers []int // of matches
	// Where another identity answers, who it was known as stays until a person decides.
	note := func(id int64, m identity.Match) {
		if m.Outcome != identity.Doubtful {
			said = append(said, store.Identity{Device: id, Seen: *m.Seen})
		}
		facts = append(facts, store.NewFact{Device: id, Name: factSeen, Via: m.Seen.WaysText(), At: now, Value: m.Seen},
			store.NewFact{Device: id, Name: factLooked, Via: "look", At: now, Value: Looked{At: now, Outcome: m.Outcome, Tried: tried(sum)}})
		touched = append(touched, id)
	}
	matches := identity.Reconcile(known, seen)
	for i, m := range matches {
		switch {
		case m.Seen == nil:
			if !p.Contains(m.Known.Address) {
				continue
			}
			silent, touched = append(silent, m.Known.ID), append(touched, m.Known.ID)
			facts = append(facts, store.NewFact{Device: m.Known.ID, Name: factLooked, Via: "look", At: now, Value: Looked{At: now, Outcome: m.Outcome, Tried: tried(sum)}})
		case m.Known == nil:
			if s := m.Seen; s.Kind != "" { // else something answers there that is neither camera nor recorder
				fresh = append(fresh, store.Device{SiteID: site, Kind: s.Kind, Place: s.Address.String(), Make: s.Make, Model: s.Model, Address: &s.Address})
				strangers = append(strangers, i)
			}
		default:
			note(m.Known.ID, m)
		}
	}
	ids, err := o.store.AddDevices(ctx, site, fresh)
	if err != nil {
		return nil, err
	}
	for i, id := range ids {
		note(id, matches[strangers[i]])
	}
	return touched, errors.Join(o.store.IdentifyAll(ctx, said), o.store.DropFact(ctx, factSeen, silent...), o.store.KeepFacts(ctx, facts...))
}

func tried(l store.Look) string {
	s := fmt.Sprintf("multicast and a directed probe, twice each; TCP ports %s", portList())
	if l.Trouble != "" {
		s += "; " + l.Trouble
	}
	return s
}

func portList() string {
	s := ""
	for i, p := range ports {
		if i > 0 {
			s += ", "
		}
		s += fmt.Sprint(p)
	}
	return s
}
