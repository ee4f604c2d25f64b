package find

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
	"duskyharbor/internal/core/stage"
	"duskyharbor/internal/core/stream"
	"duskyharbor/internal/core/trouble"
	"duskyharbor/internal/device/dial"
	"duskyharbor/internal/device/discovery"
	"duskyharbor/internal/device/onvif"
	"duskyharbor/internal/device/page"
	"duskyharbor/internal/device/recorder"
	"duskyharbor/internal/device/rtsp"
	"duskyharbor/internal/engine"
	"duskyharbor/internal/store"
)

// search asks a whole network what is on it.
func (f *Stage) search(ctx context.Context, v *engine.Visit) (string, error) {
	n := *v.Network
	begun := time.Now()
	asking, cancel := context.WithTimeout(ctx, netplan.LookLimit(n.Prefix, len(netplan.PortsWith(n.Ports))))
	defer cancel()
	seen, sum, err := f.ask(asking, v, n.Prefix)
	if err != nil {
		return "", err
	}
	if err := f.systems(asking, v.Site, n.Prefix, seen); err != nil {
		return "", err
	}
	sum.Seconds = time.Since(begun).Seconds()
	touched, err := f.reconcile(ctx, v.Site, n, seen, &sum)
	if err != nil {
		return "", err
	}
	if err := f.Store.AdoptPaths(ctx, v.Site, stream.MaxPaths); err != nil {
		return "", err
	}
	if err := f.Store.KeepSummary(ctx, n.ID, time.Now().UTC(), sum); err != nil {
		return "", err
	}
	if err := v.Judge(ctx, touched...); err != nil {
		return "", err
	}
	return fmt.Sprintf("%d addresses of %s asked, %d answered", sum.Addresses, n.Name, len(seen)), nil
}

// ask gathers what answers in a prefix, each address once.
func (f *Stage) ask(ctx context.Context, v *engine.Visit, p netip.Prefix) ([]identity.Sighting, store.Summary, error) {
	if f.Dialer.Outside(p.Addr()) {
		return nil, store.Summary{}, trouble.UserErrorf("This server dials nothing outside %s: %s isn't looked at.", f.Dialer.Within, p)
	}
	hosts := netplan.Hosts(p)
	sum := store.Summary{Addresses: len(hosts)}
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
			all, merr := discovery.Multicast(ctx, source, f.Listen)
			add(all...)
			if merr != nil {
				mu.Lock()
				sum.Trouble = merr.Error()
				mu.Unlock()
			}
		})
	} else { // a network behind a router: no multicast gets there, probes of its own do
		source = netip.IPv4Unspecified()
		sum.Routed = true
	}
	wg.Go(func() {
		all, _ := discovery.Directed(ctx, source, hosts, f.Listen)
		add(all...)
	})
	wg.Go(func() {
		open = discovery.Sweep(ctx, f.Dialer, hosts, netplan.PortsWith(v.Network.Ports), netplan.ProbeLimit)
	})
	wg.Wait()
	if err := f.sweepAgain(ctx, v.Site, v.Network, seen, open); err != nil {
		return nil, sum, err
	}
	// Who answers in any way and wasn't heard by multicast, or by a probe of its own, is
	// asked once more: an answer is easily lost, and what is said of it would be wrong.
	unheard, late := missed(seen, open, identity.Multicast), missed(seen, open, identity.Directed)
	if !sum.Routed && len(unheard) > 0 {
		wg.Go(func() {
			all, _ := discovery.Multicast(ctx, source, f.Listen)
			add(all...)
		})
	}
	if len(late) > 0 {
		wg.Go(func() {
			all, _ := discovery.Directed(ctx, source, late, f.Listen)
			add(all...)
		})
	}
	gate := make(chan struct{}, max(v.AtOnce, 1))
	for addr, at := range open {
		wg.Go(func() {
			gate <- struct{}{}
			defer func() { <-gate }()
			add(f.identify(ctx, addr, at)...)
		})
	}
	wg.Wait()
	out := make([]identity.Sighting, 0, len(seen))
	for _, s := range seen {
		out = append(out, s)
		count(&sum, s)
	}
	slices.SortFunc(out, func(a, b identity.Sighting) int { return a.Address.Compare(b.Address) })
	if errors.Is(ctx.Err(), context.DeadlineExceeded) { // what was found is kept
		sum.Trouble = "not all that answered was asked what it is: there wasn't time for it"
		return out, sum, nil
	}
	return out, sum, ctx.Err()
}

// missed lists the addresses of what may be a camera and wasn't heard in one way.
func missed(seen map[netip.Addr]identity.Sighting, open map[netip.Addr][]int, way identity.Way) []netip.Addr {
	late := map[netip.Addr]bool{}
	for a := range open {
		late[a] = !seen[a].Heard(way)
	}
	for a, s := range seen {
		late[a] = !s.Heard(way)
	}
	maps.DeleteFunc(late, func(_ netip.Addr, missed bool) bool { return !missed })
	return slices.Collect(maps.Keys(late))
}

// sweepAgain probes once more, with more time, at the addresses that answered in any
// way, are expected to, or did at the last look: a busy device or machine may miss the
// first knock.
func (f *Stage) sweepAgain(ctx context.Context, siteID int64, n *store.Network, seen map[netip.Addr]identity.Sighting,
	open map[netip.Addr][]int) error {
	dots, err := f.Store.Dots(ctx, siteID, stage.Find, []netip.Prefix{n.Prefix})
	if err != nil {
		return err
	}
	again := map[netip.Addr]bool{}
	if n.Look != nil {
		for _, o := range n.Look.Others {
			again[o.Address] = true
		}
	}
	for _, d := range dots {
		again[d.Address] = true
	}
	for a := range seen {
		again[a] = true
	}
	for a := range open {
		again[a] = true
	}
	for a, at := range discovery.Sweep(ctx, f.Dialer, slices.Collect(maps.Keys(again)), netplan.PortsWith(n.Ports), time.Second) {
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

func count(l *store.Summary, s identity.Sighting) {
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
		case identity.SaidHello, identity.RecordsOthers:
			if s.Kind != identity.Analyser {
				l.Recorders++
			}
		}
	}
}

// identify asks an address with open ports what it is, without signing in. Its ports are
// asked side by side: one that accepts and stays silent costs the others nothing.
func (f *Stage) identify(ctx context.Context, addr netip.Addr, open []int) []identity.Sighting {
	host := f.Dialer.At(addr)
	base := identity.Sighting{Address: addr, At: time.Now().UTC(), Ports: open}
	said := make([]*identity.Sighting, len(open))
	went := make([]error, len(open))
	var wg sync.WaitGroup
	for i, port := range open {
		wg.Go(func() {
			s := base
			spoke, err := f.askPort(ctx, host, port, &s)
			if spoke {
				said[i] = &s
			}
			went[i] = err
		})
	}
	wg.Wait()
	var out []identity.Sighting
	for _, s := range said {
		if s != nil {
			out = append(out, *s)
		}
	}
	if len(out) == 0 { // something is there, whatever it is
		for _, err := range went {
			if err != nil && !errors.Is(err, dial.ErrNotSupported) {
				base.Trouble = trouble.Sentence(err)
			}
		}
		out = append(out, base)
	}
	return out
}

// askPort asks one open port what it speaks, and whether anything of that answered.
func (f *Stage) askPort(ctx context.Context, host dial.Host, port int, s *identity.Sighting) (spoke bool, err error) {
	ctx, cancel := context.WithTimeout(ctx, portLimit)
	defer cancel()
	switch netplan.Speaks(port) {
	case netplan.HTTP, netplan.HTTPS:
		if port == recorder.Port && saidHello(ctx, host, s) {
			return true, nil
		}
		return f.askWeb(ctx, host, port, s)
	case netplan.RTSP:
		if !rtsp.Speaks(ctx, host, port) {
			return false, nil
		}
		return spokeRTSP(s, port), nil
	}
	// A port that a person listed: whichever of the two it speaks.
	if spoke, err = f.askWeb(ctx, host, port, s); !spoke && rtsp.Speaks(ctx, host, port) {
		return spokeRTSP(s, port), nil
	}
	return spoke, err
}

func spokeRTSP(s *identity.Sighting, port int) bool {
	s.Kind, s.RTSPPort, s.Ways = identity.Camera, port, []identity.Way{identity.SpokeRTSP}
	return true
}

// portLimit is how long one port is asked what it speaks.
const portLimit = 6 * time.Second

// saidHello asks for the interface of recorders and analysers.
func saidHello(ctx context.Context, host dial.Host, s *identity.Sighting) bool {
	c := recorder.New(host, recorder.Port, "", dial.Login{})
	defer c.Close()
	h, err := c.Hello(ctx)
	if err != nil {
		return false
	}
	s.Kind, s.Ways = identity.Kind(h.Kind), []identity.Way{identity.SaidHello}
	s.Make, s.Model, s.Serial, s.MAC, s.Firmware = h.Make, h.Model, h.Serial, identity.CleanMAC(h.MAC), h.Firmware
	return true
}

// timeLimit is how long a web port may take to tell the time.
const timeLimit = 4 * time.Second

// askWeb asks a web port for ONVIF's time, whether a first password was set, and for
// its page. It says whether anything of that answered.
func (f *Stage) askWeb(ctx context.Context, host dial.Host, port int, s *identity.Sighting) (bool, error) {
	at := page.At(host.Addr, port)
	s.Service = at + "onvif/device_service"
	c, err := onvif.New(host, s.Service, onvif.Login{})
	if err != nil {
		return false, err
	}
	defer func() {
		s.Cert = c.Pin()
		c.Close()
	}()
	ask, cancel := context.WithTimeout(ctx, timeLimit)
	defer cancel()
	_, err = c.Time(ask)
	if err == nil {
		s.Kind, s.Ways = identity.Camera, []identity.Way{identity.AskedTime}
		if schemes, serr := c.Schemes(ask); serr == nil && len(schemes) == 0 {
			s.NoPassword = true
		}
		if all, _, serr := c.Services(ask); serr == nil && onvif.RecordsOthers(all) {
			s.Kind, s.NoPassword = identity.Recorder, false
			s.Ways = append(s.Ways, identity.RecordsOthers)
		}
	} else {
		s.Service = ""
		if ask.Err() != nil { // it accepts and stays silent: its page would too
			return false, err
		}
	}
	shown, perr := page.Fetch(ctx, host, at, nil)
	if perr == nil {
		s.Page, s.Title, s.OldPage = shown.URL, shown.Title, shown.Old
		if err != nil {
			s.Ways = append(s.Ways, identity.ShowedWeb)
		}
	}
	return err == nil || perr == nil && !errors.Is(err, dial.ErrMalformed), err
}
