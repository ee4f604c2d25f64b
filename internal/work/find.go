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
	"duskyharbor/internal/device/page"
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
	touched, err := o.reconcile(ctx, a.Site, n, seen, &sum)
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
	// Who answers in any way and wasn't heard by multicast is asked once more: an answer
	// is easily lost, and a recorder that only listens would be thought not to find it.
	if source.IsValid() && missed(seen, open) {
		wg.Go(func() {
			all, _ := discovery.Multicast(ctx, source, o.opt.Listen)
			add(all...)
		})
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

// missed says whether something that may be a camera wasn't heard by multicast.
func missed(seen map[netip.Addr]identity.Sighting, open map[netip.Addr][]int) bool {
	for a := range open {
		if s := seen[a]; !s.Heard(identity.Multicast) {
			return true
		}
	}
	for _, s := range seen {
		if !s.Heard(identity.Multicast) {
			return true
		}
	}
	return false
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
		case 80, 8080, 443, 8443:
			if port == recorder.Port && saidHello(ctx, host, &s) {
				break
			}
			spoke, err := o.knockWeb(ctx, host, port, &s)
			if err != nil && !errors.Is(err, dial.ErrNotSupported) {
				trouble = err
			}
			if !spoke {
				continue
			}
		case 554, 8554:
			ask, cancel := context.WithTimeout(ctx, 4*time.Second)
			ok := spokeRTSP(ask, host, port)
			cancel()
			if !ok {
				continue
			}
			s.Kind, s.RTSPPort, s.Ways = identity.Camera, port, []identity.Way{identity.SpokeRTSP}
		default:
			continue
		}
		out = append(out, s)
	}
	if len(out) == 0 { // something is there, whatever it is
		if trouble != nil {
			base.Trouble = sentence(trouble)
		}
		out = append(out, base)
	}
	return out
}

// saidHello asks for the recorder interface.
func saidHello(ctx context.Context, host dial.Host, s *identity.Sighting) bool {
	c := recorder.New(host, recorder.Port, "", "", "")
	defer c.Close()
	h, err := c.Hello(ctx)
	if err != nil {
		return false
	}
	s.Kind, s.Ways = identity.Recorder, []identity.Way{identity.SaidHello}
	s.Make, s.Model, s.Serial, s.MAC, s.Firmware = h.Make, h.Model, h.Serial, identity.CleanMAC(h.MAC), h.Firmware
	return true
}

// knockWeb asks a web port for ONVIF's time, whether a first password was set, and for
// its page. It says whether anything of that answered.
func (o *Office) knockWeb(ctx context.Context, host dial.Host, port int, s *identity.Sighting) (bool, error) {
	at := page.At(host.Addr, port)
	s.Service = at + "onvif/device_service"
	c, err := onvif.New(host, s.Service, onvif.Login{})
	if err != nil {
		return false, err
	}
	defer c.Close()
	ask, cancel := context.WithTimeout(ctx, 4*time.Second)
	defer cancel()
	_, err = c.Time(ask)
	if err == nil {
		s.Kind, s.Ways = identity.Camera, []identity.Way{identity.AskedTime}
		if schemes, serr := c.Schemes(ask); serr == nil && len(schemes) == 0 {
			s.NoPassword = true
		}
	} else {
		s.Service = ""
	}
	shown, perr := page.Look(ctx, host, at, nil)
	if perr == nil {
		s.Page, s.Title, s.OldPage = shown.URL, shown.Title, shown.Old
		if err != nil {
			s.Ways = append(s.Ways, identity.ShowedWeb)
		}
	}
	return err == nil || perr == nil && !errors.Is(err, dial.ErrMalformed), err
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
func (o *Office) reconcile(ctx context.Context, site int64, n store.Network, seen []identity.Sighting, sum *store.Look) ([]int64, error) {
	devices, err := o.store.Devices(ctx, site)
	if err != nil {
		return nil, err
	}
	heard, err := o.store.HeardDevices(ctx, site)
	if err != nil {
		return nil, err
	}
	recorders, err := Look(ctx, o.store, site, []int64{})
	if err != nil {
		return nil, err
	}
	known := make([]identity.Known, len(devices))
	for i, d := range devices {
		known[i] = d.Known()
	}
	identity.Clones(known, seen)
	r := reconciler{site: site, now: time.Now().UTC(), again: n.LookedAt != nil, heard: heard, tried: tried(*sum)}
	matches := identity.Reconcile(known, seen)
	for i, m := range matches {
		switch {
		case m.Seen == nil:
			if _, behind := recorders.ports[m.Known.Address]; n.Prefix.Contains(m.Known.Address) && !behind {
				r.missed(m)
			}
		case m.Known == nil:
			s := m.Seen
			if s.Kind == "" { // neither camera nor recorder
				sum.Others = append(sum.Others, store.Other{Address: s.Address, Ports: s.Ports, Title: s.Title})
				continue
			}
			r.fresh = append(r.fresh, store.Device{SiteID: site, Kind: s.Kind, Place: s.Address.String(), Make: s.Make, Model: s.Model, Address: &s.Address})
			r.strangers = append(r.strangers, i)
		default:
			r.met(m.Known.ID, m)
		}
	}
	ids, err := o.store.AddDevices(ctx, site, r.fresh)
	if err != nil {
		return nil, err
	}
	for i, id := range ids {
		r.met(id, matches[r.strangers[i]])
	}
	var drop []store.Dropped
	for _, id := range r.silent {
		drop = append(drop, store.Dropped{Device: id, Name: factSeen})
	}
	return r.touched, errors.Join(o.store.Write(ctx, store.Writes{Said: r.said, Drop: drop, Facts: r.facts}), o.store.Note(ctx, site, r.news...))
}

// reconciler gathers what one look is to write.
type reconciler struct {
	site            int64
	now             time.Time
	again           bool           // the network was looked at before
	heard           map[int64]bool // devices that had answered before
	tried           string
	silent, touched []int64
	facts           []store.NewFact
	said            []store.Identity
	fresh           []store.Device
	strangers       []int // of matches
	news            []store.Happening
}

func (r *reconciler) happened(id int64, place, kind, format string, args ...any) {
	if r.again {
		r.news = append(r.news, store.Happening{Device: id, Kind: kind, Place: place, Says: fmt.Sprintf(format, args...)})
	}
}

// missed is a device that didn't answer.
func (r *reconciler) missed(m identity.Match) {
	id := m.Known.ID
	r.silent, r.touched = append(r.silent, id), append(r.touched, id)
	r.facts = append(r.facts, store.NewFact{Device: id, Name: factLooked, Via: "look", At: r.now, Value: Looked{At: r.now, Outcome: m.Outcome, Tried: r.tried}})
	if r.heard[id] {
		r.happened(id, m.Known.Place, "vanished", "It answered at %s and doesn't any more.", m.Known.Address)
	}
}

// met is a device that answered. Where another identity answers, who it was known as
// stays until a person decides.
func (r *reconciler) met(id int64, m identity.Match) {
	s, looked := m.Seen, Looked{At: r.now, Outcome: m.Outcome, Tried: r.tried}
	place := s.Address.String()
	if m.Known != nil {
		place = m.Known.Place
		if m.Outcome != identity.Doubtful && m.Known.UUID != "" && s.UUID != "" && m.Known.UUID != s.UUID {
			looked.WasUUID = m.Known.UUID
		}
	}
	if m.Outcome != identity.Doubtful {
		r.said = append(r.said, store.Identity{Device: id, Seen: *s})
	}
	switch {
	case !r.heard[id]:
		r.happened(id, place, "appeared", "It answers at %s.", s.Address)
	case m.Outcome == identity.Moved:
		r.happened(id, place, "moved", "It moved from %s to %s.", m.Known.Address, s.Address)
	case m.Outcome == identity.Doubtful:
		r.happened(id, place, "replaced", "Another device answers at %s.", s.Address)
	}
	r.facts = append(r.facts, store.NewFact{Device: id, Name: factSeen, Via: s.WaysText(), At: r.now, Value: s},
		store.NewFact{Device: id, Name: factLooked, Via: "look", At: r.now, Value: looked})
	r.touched = append(r.touched, id)
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
