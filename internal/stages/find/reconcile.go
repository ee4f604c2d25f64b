package find

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"net/netip"
	"slices"
	"time"

	"duskyharbor/internal/core/fact"
	"duskyharbor/internal/core/identity"
	"duskyharbor/internal/core/netplan"
	"duskyharbor/internal/device/discovery"
	"duskyharbor/internal/facts"
	"duskyharbor/internal/site"
	"duskyharbor/internal/store"
)

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
	before, err := store.Named[identity.Scan](ctx, f.Store, siteID, fact.Scanned)
	if err != nil {
		return nil, err
	}
	known := make([]identity.Known, len(devices))
	for i, d := range devices {
		known[i] = d.Known()
		known[i].Found = identity.WasFound(known[i], heard[d.ID] || before[d.ID].Found || d.OpenedSet != nil)
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
		drop = append(drop, store.Dropped{Device: id, Name: facts.Seen.Name})
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
	again           bool                    // the network was looked at before
	heard           map[int64]bool          // devices that had answered before
	before          map[int64]identity.Scan // what the looks before said of each
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
	r.facts = append(r.facts, facts.Scanned.New(id, "look", r.now, identity.Scan{At: r.now, Outcome: m.Outcome, Tried: r.tried,
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
	r.facts = append(r.facts, facts.Scanned.New(m.Known.ID, "look", r.now, asked))
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
	asked := identity.Scan{At: r.now, Outcome: identity.Carry(was.Outcome, m.Outcome), Tried: r.tried, Found: true, Elsewhere: m.Elsewhere, Claims: m.Claims}
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
	r.facts = append(r.facts, facts.Seen.New(id, s.WaysText(), r.now, *s), facts.Scanned.New(id, "look", r.now, asked))
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
