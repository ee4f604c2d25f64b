package demo

import (
	"context"
	"errors"
	"slices"

	"duskyharbor/internal/core/access"
	"duskyharbor/internal/core/identity"
	"duskyharbor/internal/people"
	"duskyharbor/internal/store"
	"duskyharbor/internal/vault"
)

// former is the set of whoever used some of the cameras before.
const former = "Former installer"

// Lead is the login of the demo's lead.
const Lead = "maren"

// Seed writes what the site starts with: itself, its people, networks, credential
// sets, recorders and the expected list. Everything else must be found. A second
// call changes nothing.
func Seed(ctx context.Context, st *store.Store, v *vault.Vault, n Net, s Secrets) (int64, error) {
	if site, err := st.SiteNamed(ctx, SiteName); err == nil {
		return site.ID, seedToken(ctx, st, s, site.ID)
	} else if !errors.Is(err, store.ErrNotFound) {
		return 0, err
	}
	site, err := st.AddSite(ctx, store.Site{Name: SiteName, Zone: Zone, ZonePosix: ZonePosix, Demo: true})
	if err != nil {
		return 0, err
	}
	for _, p := range []struct {
		login, name, password string
		role                  people.Role
	}{{Lead, "Maren Ostby", s.Lead, people.Lead}, {"anselm", "Anselm Reis", s.Tech, people.Technician}, {"office",
		"Port office", s.Viewer, people.Viewer}} {
		hash, err := people.Hash(p.password)
		if err != nil {
			return 0, err
		}
		id, err := st.AddPerson(ctx, p.login, p.name, hash)
		if err != nil {
			return 0, err
		}
		if err := st.AddMember(ctx, site, id, p.role); err != nil {
			return 0, err
		}
	}
	for _, w := range []struct {
		name  string
		third int
	}{{"Quay", 1}, {"Terminal", 2}, {"Quay recorder's ports", 90}} {
		if err := st.AddNetwork(ctx, site, w.name, n.Prefix(w.third)); err != nil {
			return 0, err
		}
	}
	if err := seedToken(ctx, st, s, site); err != nil {
		return 0, err
	}
	return site, seedDevices(ctx, st, v, n, s, site)
}

// seedToken keeps the token of the demo's program.
func seedToken(ctx context.Context, st *store.Store, s Secrets, site int64) error {
	hash := people.HashToken(s.Token)
	if _, err := st.TokenBy(ctx, hash); !errors.Is(err, store.ErrNotFound) {
		return err
	}
	_, err := st.AddToken(ctx, site, 0, "Demo program", []string{"read", "run", "apply"}, hash, nil)
	return err
}

// SeedBulk adds the network of the bulk cameras and expects count of them there. A
// second call adds what is missing.
func SeedBulk(ctx context.Context, st *store.Store, n Net, site int64, count int) error {
	networks, err := st.Networks(ctx, site)
	if err != nil {
		return err
	}
	if !slices.ContainsFunc(networks, func(w store.Network) bool { return w.Prefix == n.BulkPrefix() }) {
		if err := st.AddNetwork(ctx, site, "Bulk sheds", n.BulkPrefix()); err != nil {
			return err
		}
	}
	devices, err := st.Devices(ctx, site)
	if err != nil {
		return err
	}
	there, recorder := map[string]bool{}, (*int64)(nil)
	for _, d := range devices {
		there[d.Place] = true
		if d.Place == "Terminal recorder" {
			recorder = &d.ID
		}
	}
	var fresh []store.NewDevice
	for i, c := range BulkCameras(n, Secrets{}, "", count) {
		at := c.Address
		if !there[BulkPlace(i)] {
			fresh = append(fresh, store.NewDevice{RecorderID: recorder,
				Device: store.Device{SiteID: site, Kind: identity.Camera, Place: c.Place, Make: c.Make, Model: c.Model,
					Address: &at, ExpectedAt: &at, Expected: true}})
		}
	}
	_, err = st.AddDevices(ctx, site, fresh)
	return err
}

func seedDevices(ctx context.Context, st *store.Store, v *vault.Vault, n Net, s Secrets, site int64) error {
	set := func(name, user, password string) (int64, error) {
		return st.AddSet(ctx, site, access.Set{Name: name, Username: user,
			Former: name == former}, func(place string) ([]byte, error) { return v.Seal(password, place) })
	}
	for _, c := range [][3]string{{"House account", "otter", s.House}, {former, "admin", s.Former}} {
		if _, err := set(c[0], c[1], c[2]); err != nil {
			return err
		}
	}
	recorders := map[string]int64{}
	for _, r := range [][4]string{{"Quay recorder", ".1.5", "install", s.Quay},
		{"Terminal recorder", ".2.5", "install", s.Terminal}, {"Store recorder", ".2.6", "install", s.Store}} {
		account, err := set(r[0]+"'s account", r[2], r[3])
		if err != nil {
			return err
		}
		at := n.At(r[1])
		id, err := st.AddDevice(ctx, store.Device{SiteID: site, Kind: identity.Recorder, Place: r[0], Address: &at,
			ExpectedAt: &at, Expected: true, SetID: &account})
		if err != nil {
			return err
		}
		recorders[r[0]] = id
	}
	var cameras []store.NewDevice
	for _, e := range ExpectedList {
		at := n.At(e.Address)
		d := store.NewDevice{Device: store.Device{SiteID: site, Kind: identity.Camera, Place: e.Place, Make: e.Make,
			Model: e.Model, Address: &at, ExpectedAt: &at, Expected: true}}
		if id, ok := recorders[e.Recorder]; ok {
			d.RecorderID = &id
		}
		cameras = append(cameras, d)
	}
	_, err := st.AddDevices(ctx, site, cameras)
	return err
}
