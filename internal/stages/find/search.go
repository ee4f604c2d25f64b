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

	"duskyharbor/internal/core/fact"
	"duskyharbor/internal/core/identity"
	"duskyharbor/internal/core/netplan"
	"duskyharbor/internal/core/trouble"
	"duskyharbor/internal/device/dial"
	"duskyharbor/internal/device/discovery"
	"duskyharbor/internal/device/onvif"
	"duskyharbor/internal/device/page"
	"duskyharbor/internal/device/recorder"
	"duskyharbor/internal/device/rtsp"
	"duskyharbor/internal/engine"
	"duskyharbor/internal/site"
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
	sum.Seconds = time.Since(begun).Seconds()
	touched, err := f.reconcile(ctx, v.Site, n, seen, &sum)
	if err != nil {
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
		return nil, store.Summary{}, trouble.Tell("This server dials nothing outside %s: %s isn't looked at.", f.Dialer.Within, p)
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
		open = discovery.Sweep(ctx, f.Dialer, hosts, netplan.PortsWith(v.Network.Ports), netplan.KnockLimit)
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

// sweepAgain knocks once more, with more time, at the addresses that answered in any
// way, are expected to, or did at the last look: a busy device or machine may miss the
// first knock.
func (f *Stage) sweepAgain(ctx context.Context, siteID int64, n *store.Network, seen map[netip.Addr]identity.Sighting,
	open map[netip.Addr][]int) error {
	dots, err := f.Store.Dots(ctx, siteID, []netip.Prefix{n.Prefix})
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
		case identity.SaidHello:
			l.Recorders++
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

// reconcile writes what was seen beside what is known, in batches, and returns the
// cameras that were looked at. A known device of this network that didn't answer
// keeps all that was read of it before.
func (f *Stage) reconcile(ctx context.Context, siteID int64, n store.Network, seen []identity.Sighting,
	sum *store.Summary) ([]int64, error) {
	devices, err := f.Store.Devices(ctx, siteID)
	if err != nil {
		return nil, err
	}
	heard, err := f.Store.HeardDevices(ctx, siteID)
	if err != nil {
		return nil, err
	}
	around, err := site.Load(ctx, f.Store, siteID, []int64{})
	if err != nil {
		return nil, err
	}
	pins, err := store.Named[string](ctx, f.Store, siteID, fact.Pin)
	if err != nil {
		return nil, err
	}
	before, err := store.Named[site.Inquiry](ctx, f.Store, siteID, fact.FindAsked)
	if err != nil {
		return nil, err
	}
	known := make([]identity.Known, len(devices))
	for i, d := range devices {
		known[i] = d.Known()
		// One that is silent now was found all the same: its marks were read from it, and who
		// shows them elsewhere isn't it yet. No list gives an endpoint or a serial.
		known[i].Found = heard[d.ID] || before[d.ID].Found || d.UUID != "" || d.Serial != "" || d.OpenedSet != nil
		known[i].Pin = pins[d.ID]
	}
	near := f.neighbours()
	for i := range seen {
		seen[i].LinkMAC = near[seen[i].Address]
	}
	others, err := store.Named[identity.Sighting](ctx, f.Store, siteID, fact.Seen)
	if err != nil {
		return nil, err
	}
	identity.Clones(known, seen)
	r := reconciler{site: siteID, now: time.Now().UTC(), again: n.LookedAt != nil, heard: heard, before: before, tried: tried(*sum)}
	matches := identity.Reconcile(known, beside(seen, others, n.Prefix))
	for i, m := range matches {
		switch {
		case m.Seen == nil && !n.Prefix.Contains(m.Known.Address), m.Seen != nil && !n.Prefix.Contains(m.Seen.Address):
			if m.Known != nil {
				r.elsewhere(m) // its own network isn't looked at now
			}
		case m.Seen != nil && !m.Seen.Spoke() && hangs(around, m.Seen.Address):
			// A recorder tells of it, and it tells nothing here: the recorder is believed.
		case m.Seen == nil:
			if _, behind := around.Behind(m.Known.Address); !behind {
				r.missed(m)
			}
		case m.Known == nil:
			s := m.Seen
			if s.Kind == "" { // neither camera nor recorder
				sum.Others = append(sum.Others, store.Other{Address: s.Address, Ports: s.Ports, Title: s.Title})
				continue
			}
			r.fresh = append(r.fresh, store.NewDevice{Device: store.Device{SiteID: siteID, Kind: s.Kind,
				Place: s.Address.String(), Make: s.Make, Model: s.Model, Address: &s.Address}})
			r.strangers = append(r.strangers, i)
		default:
			r.met(m.Known.ID, m)
		}
	}
	ids, err := f.Store.AddDevices(ctx, siteID, r.fresh)
	if err != nil {
		return nil, err
	}
	for i, id := range ids {
		r.met(id, matches[r.strangers[i]])
	}
	var drop []store.Dropped
	for _, id := range r.silent {
		drop = append(drop, store.Dropped{Device: id, Name: site.Seen.Name})
	}
	return r.touched, errors.Join(f.Store.Write(ctx, store.Writes{Said: r.said, Drop: drop, Facts: r.facts}),
		f.Store.Note(ctx, siteID, r.news...))
}

// neighbours is what this machine's links say of who is where; a table that can't be read
// tells nothing.
func (f *Stage) neighbours() map[netip.Addr]string {
	read := f.Neighbours
	if read == nil {
		read = discovery.Neighbours
	}
	near, err := read()
	if err != nil {
		f.Log.Warn("the neighbour table wasn't read", "err", err)
	}
	return near
}

// hangs says whether a recorder tells of a device at an address on one of its ports.
func hangs(s *site.Snapshot, at netip.Addr) bool {
	_, behind := s.Behind(at)
	return behind
}

// reconciler gathers what one look is to write.
type reconciler struct {
	site            int64
	now             time.Time
	again           bool                   // the network was looked at before
	heard           map[int64]bool         // devices that had answered before
	before          map[int64]site.Inquiry // what the looks before said of each
	tried           string
	silent, touched []int64
	facts           []store.NewFact
	said            []store.Identity
	fresh           []store.NewDevice
	strangers       []int // of matches
	news            []store.Notice
}

func (r *reconciler) happened(id int64, place, kind, format string, args ...any) {
	if r.again {
		r.news = append(r.news, store.Notice{Device: id, Kind: kind, Place: place, Says: fmt.Sprintf(format, args...)})
	}
}

// missed is a device that didn't answer.
func (r *reconciler) missed(m identity.Match) {
	id := m.Known.ID
	r.silent, r.touched = append(r.silent, id), append(r.touched, id)
	r.facts = append(r.facts, site.FindAsked.New(id, "look", r.now, site.Inquiry{At: r.now, Outcome: m.Outcome, Tried: r.tried,
		Found: r.heard[id] || r.before[id].Found, Elsewhere: m.Elsewhere}))
	if r.heard[id] {
		r.happened(id, m.Known.Place, "vanished", "It answered at %s and doesn't any more.", m.Known.Address)
	}
}

// elsewhere is a device of another network: what was seen of it stays, but for what this
// one's look says of who shows its identity.
func (r *reconciler) elsewhere(m identity.Match) {
	asked, looked := r.before[m.Known.ID]
	if !looked || slices.Equal(asked.Elsewhere, m.Elsewhere) && slices.Equal(asked.Claims, m.Claims) {
		return
	}
	asked.Elsewhere, asked.Claims = m.Elsewhere, m.Claims
	r.touched = append(r.touched, m.Known.ID)
	r.facts = append(r.facts, site.FindAsked.New(m.Known.ID, "look", r.now, asked))
}

// beside are the sightings of a look with those of other networks, as they were seen there
// last: who is silent here may be there.
func beside(seen []identity.Sighting, others map[int64]identity.Sighting, looked netip.Prefix) []identity.Sighting {
	at := map[netip.Addr]bool{}
	for _, s := range seen {
		at[s.Address] = true
	}
	ids := slices.Sorted(maps.Keys(others))
	out := slices.Clone(seen)
	for _, id := range ids {
		if s := others[id]; !looked.Contains(s.Address) && !at[s.Address] && s.Spoke() {
			at[s.Address] = true
			out = append(out, s)
		}
	}
	return out
}

// met is a device that answered. Where another identity answers, who it was known as
// stays until a person decides.
func (r *reconciler) met(id int64, m identity.Match) {
	s, was := m.Seen, r.before[id]
	asked := site.Inquiry{At: r.now, Outcome: identity.Carry(was.Outcome, m.Outcome), Tried: r.tried, Found: true, Elsewhere: m.Elsewhere, Claims: m.Claims}
	place := s.Address.String()
	if m.Known != nil {
		place = m.Known.Place
		asked.WasUUID, asked.MovedFrom = was.WasUUID, was.MovedFrom
		if m.Outcome != identity.Doubtful && m.Known.UUID != "" && s.UUID != "" && m.Known.UUID != s.UUID {
			asked.WasUUID = m.Known.UUID
		}
		if m.Outcome == identity.Moved {
			asked.MovedFrom = m.Known.Address
		}
	}
	switch {
	case m.Known == nil:
		r.said = append(r.said, store.Identity{Device: id, Seen: identity.Written(identity.Known{}, *s)})
	case m.Outcome != identity.Doubtful:
		r.said = append(r.said, store.Identity{Device: id, Seen: identity.Written(*m.Known, *s)})
	}
	switch {
	case !r.heard[id]:
		r.happened(id, place, "appeared", "It answers at %s.", s.Address)
	case m.Outcome == identity.Moved:
		r.happened(id, place, "moved", "It moved from %s to %s.", m.Known.Address, s.Address)
	case m.Outcome == identity.Doubtful:
		r.happened(id, place, "replaced", "Another device answers at %s.", s.Address)
	}
	r.facts = append(r.facts, site.Seen.New(id, s.WaysText(), r.now, *s), site.FindAsked.New(id, "look", r.now, asked))
	r.touched = append(r.touched, id)
}

func tried(l store.Summary) string {
	s := fmt.Sprintf("multicast and a directed probe, twice each; TCP ports %s", portList())
	if l.Trouble != "" {
		s += "; " + l.Trouble
	}
	return s
}

func portList() string {
	s := ""
	for i, p := range netplan.Ports() {
		if i > 0 {
			s += ", "
		}
		s += fmt.Sprint(p)
	}
	return s
}
