package find

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"time"

	"duskyharbor/internal/core/channel"
	"duskyharbor/internal/core/finding"
	"duskyharbor/internal/core/identity"
	"duskyharbor/internal/core/netplan"
	"duskyharbor/internal/core/trouble"
	"duskyharbor/internal/device/dial"
	"duskyharbor/internal/device/discovery"
	"duskyharbor/internal/device/onvif"
	"duskyharbor/internal/engine"
	"duskyharbor/internal/facts"
	"duskyharbor/internal/recorders"
	"duskyharbor/internal/site"
	"duskyharbor/internal/stages"
	"duskyharbor/internal/store"
)

// Editor reads and writes a device's address, its discovery, or a recorder's dead entry.
func (f *Stage) Editor(ctx context.Context, v *engine.Visit, c store.Change) (engine.Editor, error) {
	s, err := v.Snapshot(ctx)
	if err != nil {
		return nil, err
	}
	switch c.Kind {
	case identity.SetIPConfig:
		return f.addressEditor(v, s, c)
	case identity.SetDiscovery:
		cam, err := f.Accounts.Open(ctx, v.Device, s, f.ID().String())
		if err != nil {
			return nil, err
		}
		return discoveryEditor(cam, c), nil
	case identity.SetDNS:
		cam, err := f.Accounts.Open(ctx, v.Device, s, f.ID().String())
		if err != nil {
			return nil, err
		}
		return dnsEditor(cam, c), nil
	case identity.RemoveEntry:
		return f.entryEditor(ctx, s, c)
	}
	return nil, engine.ErrKind
}

func discoveryEditor(cam *onvif.Client, c store.Change) engine.Editor {
	return engine.EditorFuncs{
		ReadFunc: func(ctx context.Context) (string, error) {
			heard, err := cam.Discoverable(ctx)
			if heard {
				return identity.HeardText, err
			}
			return identity.HiddenText, err
		},
		WriteFunc: func(ctx context.Context) error { return cam.SetDiscoverable(ctx, c.ToText == identity.HeardText) },
		Shut:      cam.Close,
	}
}

func dnsEditor(cam *onvif.Client, c store.Change) engine.Editor {
	return engine.EditorFuncs{
		ReadFunc: func(ctx context.Context) (string, error) {
			has, err := cam.DNS(ctx)
			return has.String(), err
		},
		WriteFunc: func(ctx context.Context) error {
			to, err := netplan.ParseDNS(c.ToText)
			if err != nil {
				return trouble.UserError(trouble.Sentence(err))
			}
			return cam.SetDNS(ctx, to)
		},
		Shut: cam.Close,
	}
}

// entryEditor takes a dead entry off a recorder.
func (f *Stage) entryEditor(ctx context.Context, s *site.Snapshot, c store.Change) (engine.Editor, error) {
	rec, err := f.Recorders.Named(ctx, s, c.Args["recorder"])
	if err != nil {
		return nil, err
	}
	number, err := strconv.Atoi(c.Args["channel"])
	if err != nil {
		rec.Close()
		return nil, fmt.Errorf("find: change %d names no channel", c.ID)
	}
	return engine.EditorFuncs{
		ReadFunc: func(ctx context.Context) (string, error) {
			slot, taken, err := recorders.Slot(ctx, rec, number)
			if !taken {
				return identity.FreeText, err
			}
			return channel.SlotText(slot.Name, slot.Address), err
		},
		WriteFunc: func(ctx context.Context) error { return rec.Remove(ctx, number) },
		Shut:      rec.Close,
	}, nil
}

// move is a device that is given another address.
type move struct {
	f     *Stage
	v     *engine.Visit
	s     *site.Snapshot
	c     store.Change
	to    netplan.IPConfig
	at    netip.Addr // where it is reached now
	wrote bool       // it was told to by this editor
}

// addressEditor moves a device: it is read where it was and, when it is silent there,
// where it is to be, and found again after the write. Nothing is moved onto an address
// that answers, and what answers at the new address is given no account before it has
// shown itself to be the device.
func (f *Stage) addressEditor(v *engine.Visit, s *site.Snapshot, c store.Change) (engine.Editor, error) {
	to, err := netplan.ParseIPConfig(c.Args["ip"])
	if err != nil {
		return nil, trouble.UserError(trouble.Sentence(err))
	}
	if v.Device.Address == nil {
		return nil, trouble.UserError(v.Device.Place + " wasn't found yet: look for it first.")
	}
	m := &move{f: f, v: v, s: s, c: c, to: to, at: *v.Device.Address}
	return engine.EditorFuncs{ReadFunc: m.read, WriteFunc: m.write}, nil
}

// open signs in to the device at an address and reads its address settings.
func (m *move) open(ctx context.Context, at netip.Addr) (*onvif.Client, netplan.IPConfig, string, error) {
	there := m.v.Device
	there.Address = &at
	cam, err := m.f.Accounts.Open(ctx, there, m.s, m.f.ID().String())
	if err != nil {
		return nil, netplan.IPConfig{}, "", err
	}
	has, token, err := cam.IPConfig(ctx)
	if err != nil {
		cam.Close()
		return nil, netplan.IPConfig{}, "", err
	}
	return cam, has, token, nil
}

// away says whether the address that is wanted is another than the device has now.
func (m *move) away() bool { return m.to.Automatic || m.to.Address.IsValid() && m.to.Address != m.at }

// read asks the device where it was, and once it is silent there, where it is to be. One
// that was told to move is waited for.
func (m *move) read(ctx context.Context) (string, error) {
	told := m.wrote || m.c.Writes > 0
	cam, has, err := m.stillThere(ctx, told)
	if err == nil {
		cam.Close()
		stands := finding.Await(told, false, stages.Sent(m.c), m.f.Away)
		if has.String() != m.c.ToText && m.away() && stands == finding.Lingers {
			return "", engine.PendingError{Says: "it hasn't left its address yet"}
		}
		return has.String(), nil
	}
	if !errors.Is(err, dial.ErrUnreachable) || !m.away() {
		return "", err
	}
	at, verb, ferr := m.found(ctx)
	if ferr != nil && told {
		return "", ferr
	}
	if !at.IsValid() {
		switch finding.Await(told, true, stages.Sent(m.c), m.f.Away) {
		case finding.Underway:
			return "", engine.PendingError{Says: "it is on its way to its new address"}
		case finding.Lost:
			return "", m.lost(ctx, verb)
		}
		return "", err // whoever is there hasn't shown itself to be this device: it gets no account
	}
	cam, has, _, terr := m.open(ctx, at)
	if terr != nil {
		return "", err
	}
	cam.Close()
	m.at = at
	return has.String(), m.f.moved(ctx, m.v.Device, m.s, m.at)
}

// stillThere reads the device where it was. Once it was told to leave, another may have
// taken its address: it is signed in to only where it shows itself to be the device.
func (m *move) stillThere(ctx context.Context, told bool) (*onvif.Client, netplan.IPConfig, error) {
	if told && m.away() {
		if who, heard := m.f.whoAnswers(ctx, m.at); !heard || !identity.IsSame(m.v.Device.Known(), who) {
			return nil, netplan.IPConfig{}, &dial.Error{Tried: "a probe", On: m.at.String(), Kind: dial.ErrUnreachable,
				Says: "the device doesn't show itself there any more"}
		}
	}
	cam, has, _, err := m.open(ctx, m.at)
	return cam, has, err
}

func (m *move) write(ctx context.Context) error {
	if err := m.f.askFirst(ctx, m.v.Device, m.at, m.to); err != nil {
		return err
	}
	cam, _, token, err := m.open(ctx, m.at)
	if err != nil {
		return err
	}
	defer cam.Close()
	if err := cam.SetIPConfig(ctx, token, m.to); err != nil {
		return err
	}
	m.wrote, m.c.SentAt = true, nil // it is told now, whenever it was before
	if !m.away() {
		return nil
	}
	for end := time.Now().Add(stages.Within); time.Now().Before(end) && ctx.Err() == nil; { // it may be quick
		at, _, err := m.found(ctx)
		if err != nil {
			return err
		}
		if at.IsValid() {
			m.at = at
			return m.f.moved(ctx, m.v.Device, m.s, m.at)
		}
		select {
		case <-ctx.Done():
		case <-time.After(300 * time.Millisecond):
		}
	}
	return nil
}

// found looks for the device at its new address, and where its network hands that out, asks
// the networks for it. What answers there is the device only where it shows the same
// identity: at is invalid where it doesn't, and verb says what is missing.
func (m *move) found(ctx context.Context) (at netip.Addr, verb string, err error) {
	known := m.v.Device.Known()
	if m.to.Automatic {
		at, _ = m.f.handedOut(ctx, m.s, known)
		return at, "answers", nil
	}
	who, heard := m.f.whoAnswers(ctx, m.to.Address)
	switch {
	case heard && identity.IsSame(known, who):
		return m.to.Address, "", nil
	case heard && who.UUID+who.MAC+who.Serial != "":
		return netip.Addr{}, "", engine.UnknownError{Err: trouble.UserErrorf("It was told to move to %s, and another device answers there (endpoint %s): no account was sent to it", m.to.Address, who.UUID)}
	case heard:
		return netip.Addr{}, "shows itself", nil
	}
	return netip.Addr{}, "answers", nil
}

// lost says that a device is found nowhere after a move, with the way to get it back.
func (m *move) lost(ctx context.Context, verb string) error {
	d := m.v.Device
	note := store.Notice{Device: d.ID, Kind: "lost", Place: d.Place,
		Says: fmt.Sprintf("It was told to move from %s to %s and answers at neither.", d.Address, m.to)}
	since := time.Now().Add(-stages.Sent(m.c))
	if err := m.f.Store.NoteOnce(context.WithoutCancel(ctx), d.SiteID, since, note); err != nil {
		m.f.Log.Error("a notice wasn't kept", "device", d.ID, "err", err)
	}
	return engine.UnknownError{Err: trouble.UserErrorf("It was told to move to %s and %s neither there nor at %s. To get it back: look at both networks again; if it stays silent, plug a laptop into its port, give that an address beside %s, and open its page; its reset button is the last resort", m.to, verb, d.Address, m.to.Address)}
}

// whoAnswers asks one address, without signing in, who is there: by a directed probe, and
// where something answers that ignores those, by one to the group. ok is false where
// nothing answered; what says nothing of itself is told by its ports alone.
func (f *Stage) whoAnswers(ctx context.Context, at netip.Addr) (who identity.Sighting, ok bool) {
	if f.Dialer.Outside(at) {
		return identity.Sighting{}, false
	}
	source, near := netip.IPv4Unspecified(), false
	if p, err := at.Prefix(24); err == nil {
		if own, err := discovery.Source(p); err == nil {
			source, near = own, true
		}
	}
	is := func(s identity.Sighting) bool { return s.Address == at }
	all, _ := discovery.Directed(ctx, source, []netip.Addr{at}, askWait)
	if i := slices.IndexFunc(all, is); i >= 0 {
		return all[i], true
	}
	open := discovery.Sweep(ctx, f.Dialer, []netip.Addr{at}, netplan.Ports(), askWait)[at]
	if len(open) > 0 && near {
		all, _ := discovery.Multicast(ctx, source, askWait)
		if i := slices.IndexFunc(all, is); i >= 0 {
			return all[i], true
		}
	}
	return identity.Sighting{Address: at, Ports: open}, len(open) > 0
}

// askWait is how long one address is asked who is there.
const askWait = 800 * time.Millisecond

// askFirst asks a new address before anything is moved onto it.
func (f *Stage) askFirst(ctx context.Context, d store.Device, now netip.Addr, to netplan.IPConfig) error {
	if to.Automatic || to.Address == now {
		return nil
	}
	who, answers := f.whoAnswers(ctx, to.Address)
	if why := identity.Occupied(d.Known(), to.Address, who, answers); why != "" {
		return trouble.UserError(why)
	}
	return nil
}

// handedOut looks for a device whose network gave it an address.
func (f *Stage) handedOut(ctx context.Context, s *site.Snapshot, known identity.Known) (netip.Addr, bool) {
	for _, n := range s.Networks() {
		source, err := discovery.Source(n.Prefix)
		if err != nil {
			source = netip.IPv4Unspecified() // behind a router
		}
		all, _ := discovery.Directed(ctx, source, netplan.Hosts(n.Prefix), askWait)
		for _, who := range all {
			if identity.IsSame(known, who) {
				return who.Address, true
			}
		}
	}
	return netip.Addr{}, false
}

// replaceHost puts another address into a URL of a device.
func replaceHost(url string, was, at netip.Addr) string {
	return strings.Replace(url, "//"+was.String(), "//"+at.String(), 1)
}

// moved keeps where a device is reached from now on.
func (f *Stage) moved(ctx context.Context, d store.Device, s *site.Snapshot, at netip.Addr) error {
	seen, _ := facts.Seen.Of(s, d.ID)
	was := seen.Address
	seen.At = time.Now().UTC()
	for _, field := range []*string{&seen.Service, &seen.Page} {
		if *field != "" {
			*field = replaceHost(*field, was, at)
		}
	}
	seen.Address = at
	return errors.Join(f.Store.Moved(ctx, d.ID, at), f.Store.KeepFacts(ctx, facts.Seen.New(d.ID, seen.WaysText(), seen.At, seen),
		facts.Scanned.New(d.ID, "look", seen.At, identity.Scan{At: seen.At, Outcome: identity.Matched})),
		f.Store.Note(ctx, d.SiteID, store.Notice{Device: d.ID, Kind: "moved", Place: d.Place,
			Says: fmt.Sprintf("It was moved from %s to %s.", was, at)}))
}
