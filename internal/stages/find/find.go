// Package find looks what is on the networks of a site and says who it is.
package find

import (
	"context"
	"errors"
	"time"

	"duskyharbor/internal/core/finding"
	"duskyharbor/internal/core/ground"
	"duskyharbor/internal/core/identity"
	"duskyharbor/internal/core/netplan"
	"duskyharbor/internal/core/stage"
	"duskyharbor/internal/core/trouble"
	"duskyharbor/internal/device/dial"
	"duskyharbor/internal/engine"
	"duskyharbor/internal/facts"
	"duskyharbor/internal/site"
	"duskyharbor/internal/stages"
	"duskyharbor/internal/store"
)

// Stage is Find. It reads networks, not devices.
type Stage struct{ stages.Services }

// New makes the stage.
func New(k stages.Services) *Stage { return &Stage{k} }

// ID is stage.Find.
func (f *Stage) ID() stage.Stage { return stage.Find }

// Manner says that whole networks are read. A look may take as long as the widest network
// that is silent at every port, and half a minute for what is written of it.
func (f *Stage) Manner() engine.Manner {
	return engine.Manner{Of: engine.Networks, Limit: netplan.LongestLook() + 30*time.Second}
}

// Read looks at the visit's network.
func (f *Stage) Read(ctx context.Context, v *engine.Visit) (string, error) {
	if v.Network == nil {
		return "", trouble.UserError("Find looks at networks: look at the one that " + v.Device.Place + " is on.")
	}
	return f.search(ctx, v)
}

// Judge says how a device was found.
func (f *Stage) Judge(now time.Time, s *site.Snapshot, of site.Source) stage.Verdict {
	seen, w := facts.ForIdentity(s, of.Device)
	return stage.Verdict{Read: seen.Read(), Findings: identity.Judge(now, seen, w), Done: "It answers where it is expected."}
}

// Propose lists what puts a device right on its network.
func (f *Stage) Propose(now time.Time, s *site.Snapshot, of site.Source) []finding.Change {
	seen, w := facts.ForIdentity(s, of.Device)
	_, open := facts.Account.Of(s, of.Device.ID)
	return identity.Propose(now, seen, w, open)
}

// Grounds are who it is, where, and what runs on it.
func (f *Stage) Grounds(s *site.Snapshot, of site.Source) []ground.Ground {
	d, where := of.Device, ""
	if d.Address != nil {
		where = d.Address.String()
	}
	info, _ := facts.Info.Of(s, d.ID)
	return []ground.Ground{
		{Of: "MAC", Is: d.MAC, Under: ground.Proof | ground.Picture},
		{Of: "serial number", Is: d.Serial, Under: ground.Proof | ground.Picture},
		{Of: "endpoint UUID", Is: d.UUID, Under: ground.Proof | ground.Picture},
		{Of: "address", Is: where, Under: ground.Proof},
		{Of: "firmware", Is: info.Firmware, Under: ground.Proof},
	}
}

// AfterChange reads what a change of Find touched: the recorder that tells of the device,
// and its place on the network.
func (f *Stage) AfterChange(ctx context.Context, v *engine.Visit, changes []store.Change) error {
	if !engine.AnyOf(changes, stage.Find) {
		return nil
	}
	d, err := f.Store.Device(ctx, v.Device.ID)
	if err != nil {
		return err
	}
	s, err := v.Snapshot(ctx)
	if err != nil {
		return err
	}
	if seen, _ := facts.ForIdentity(s, d); seen.Behind != nil {
		if rec, ok := s.Device(seen.Behind.RecorderID); ok {
			if _, err := f.Recorders.Read(ctx, rec); err != nil {
				return err
			}
		}
	}
	if _, open := facts.Account.Of(s, d.ID); !open {
		return nil
	}
	c, err := f.Accounts.Open(ctx, d, s, f.ID().String())
	if err != nil {
		return err
	}
	defer c.Close()
	at, _, err := c.IPConfig(ctx)
	if err != nil {
		return err
	}
	names, err := c.DNS(ctx)
	hasNames := err == nil
	if errors.Is(err, dial.ErrUnreachable) { // a device that doesn't tell them has said all else
		return err
	}
	heard, err := c.Discoverable(ctx)
	if err != nil && !errors.Is(err, dial.ErrNotSupported) {
		return err
	}
	now := time.Now().UTC()
	read := []store.NewFact{facts.IPConfig.New(d.ID, "GetNetworkInterfaces, GetNetworkDefaultGateway", now, at),
		facts.Hidden.New(d.ID, "GetDiscoveryMode", now, err == nil && !heard)}
	if hasNames {
		read = append(read, facts.DNS.New(d.ID, "GetDNS", now, names))
	}
	return f.Store.KeepFacts(ctx, read...)
}
