package work

import (
	"context"
	"errors"
	"fmt"
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
	seen, sum, err := o.ask(ctx, n.Prefix)
	if err != nil {
		return "", err
	}
	sum.Seconds = time.Since(begun).Seconds()
	if err := o.reconcile(ctx, a.Site, n.Prefix, seen, sum); err != nil {
		return "", err
	}
	if err := o.store.KeepLook(ctx, n.ID, time.Now().UTC(), sum); err != nil {
		return "", err
	}
	if err := o.judge(ctx, a.Site, nil); err != nil {
		return "", err
	}
	return fmt.Sprintf("%d addresses of %s asked, %d answered", sum.Addresses, n.Name, len(seen)), nil
}

// ask gathers what answers in a prefix, each address once.
func (o *Office) ask(ctx context.Context, p netip.Prefix) ([]identity.Sighting, store.Look, error) {
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
	gate := make(chan struct{}, 32)
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

// reconcile writes what was seen beside what is known. A known device of this
// network that didn't answer keeps all that was read of it before.
func (o *Office) reconcile(ctx context.Context, site int64, p netip.Prefix, seen []identity.Sighting, sum store.Look) error {
	devices, err := o.store.Devices(ctx, site)
	if err != nil {
		return err
	}
	known := make([]identity.Known, len(devices))
	for i, d := range devices {
		known[i] = d.Known()
	}
	now := time.Now().UTC()
	for _, m := range identity.Reconcile(known, seen) {
		looked := Looked{At: now, Outcome: m.Outcome, Tried: tried(sum)}
		switch {
		case m.Seen == nil:
			if !p.Contains(m.Known.Address) {
				continue
			}
			if err := o.store.DropFact(ctx, m.Known.ID, factSeen); err != nil {
				return err
			}
			if err := o.store.KeepFact(ctx, m.Known.ID, factLooked, "look", now, looked); err != nil {
				return err
			}
		case m.Known == nil:
			if m.Seen.Kind == "" {
				continue // something answers there that is neither camera nor recorder
			}
			if err := o.welcome(ctx, site, *m.Seen, looked); err != nil {
				return err
			}
		default:
			if err := o.note(ctx, m.Known.ID, *m.Seen, looked); err != nil {
				return err
			}
		}
	}
	return nil
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

// note keeps a sighting of a known device. Where another identity answers, who it
// was known as stays until a person decides.
func (o *Office) note(ctx context.Context, id int64, s identity.Sighting, l Looked) error {
	if l.Outcome != identity.Doubtful {
		if err := o.store.Identify(ctx, id, s); err != nil {
			return err
		}
	}
	if err := o.store.KeepFact(ctx, id, factSeen, s.WaysText(), l.At, s); err != nil {
		return err
	}
	return o.store.KeepFact(ctx, id, factLooked, "look", l.At, l)
}

// welcome adds a device that nobody expected.
func (o *Office) welcome(ctx context.Context, site int64, s identity.Sighting, l Looked) error {
	place := s.Address.String()
	id, err := o.store.AddDevice(ctx, store.Device{SiteID: site, Kind: s.Kind, Place: place, Make: s.Make, Model: s.Model, Address: &s.Address})
	if err != nil {
		return err
	}
	return o.note(ctx, id, s, l)
}
