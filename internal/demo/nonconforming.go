package demo

import (
	"fmt"
	"net/netip"
	"time"

	"duskyharbor/internal/standin/camera"
	"duskyharbor/internal/standin/footage"
)

// NonconformingPrefix is where the nonconforming cameras are.
func (n Net) NonconformingPrefix() netip.Prefix { return n.Prefix(3) }

// Nonconforming are cameras that misbehave in ways that the scenario's don't; tests look at them.
// Each is found under its fault's name.
func Nonconforming(n Net, s Secrets) []camera.Config {
	last := 10
	at := func(place string, m camera.Manners) camera.Config {
		last++
		c := camera.Config{Place: place, Address: n.At(fmt.Sprintf(".3.%d", last)), Network: n.NonconformingPrefix(),
			Make: "Ottervale", Model: "OTV 412", Firmware: "4.1.7", Serial: fmt.Sprintf("ODD-%d", last),
			MAC: fmt.Sprintf("02:d5:1c:40:03:%02d", last), UUID: fmt.Sprintf("5c1d1e10-04b2-4a11-9c01-02d51c4003%02d",
				last), Username: "otter", Password: s.House, TakesDigest: true, TakesToken: true,
			Window: 30 * time.Second, Zone: ZonePosix, Daylight: true, Scene: footage.Slipway, NoAnalytics: true, Manners: m}
		c.Scene.Rules = nil
		return c
	}
	basic := at("Basic alone", camera.Manners{})
	basic.TakesDigest, basic.TakesToken, basic.TakesBasic = false, false, true
	a, b := at("Clone A", camera.Manners{}), at("Clone B", camera.Manners{RenewsUUID: true})
	b.UUID = a.UUID
	locks := at("Locks at once", camera.Manners{LockAfter: 1, LockFor: 20 * time.Minute})
	locks.Password = word()
	byDefault := at("Maker's default", camera.Manners{})
	byDefault.Username, byDefault.Password = "maker", "maker-1234"
	old := at("Old firmware", camera.Manners{})
	old.Firmware = "3.9.12"
	spells := at("Spells its zone", camera.Manners{SpellsZone: true})
	spells.Zone, spells.Daylight = "WET0", false
	return []camera.Config{basic, a, b, locks, byDefault, old, spells,
		at("ONVIF off", camera.Manners{NoONVIF: true}),
		at("Old page", camera.Manners{OldPage: true}),
		at("Wrong mask", camera.Manners{MaskBits: 16}),
		at("Wrong gateway", camera.Manners{Gateway: n.At(".9.1").String()}),
		at("Two on one", camera.Manners{Shadow: "5c1d1e10-04b2-4a11-9c01-02d51c400399"}),
		at("Hidden", camera.Manners{Silent: true}),
		at("Loses its clock", camera.Manners{LosesClock: true}),
		at("New certificate", camera.Manners{TLS: true}),
		at("Streams apart", camera.Manners{RTSPUser: "streams", RTSPPassword: "streams-1234"}),
		at("Moves and is lost", camera.Manners{Lost: true}),
		at("Takes what it is given", camera.Manners{Lease: n.At(".3.200")}),
		at("Hangs up", camera.Manners{Drops: 5}),
		at("Very slow", camera.Manners{Slow: 900 * time.Millisecond}),
		at("Prefixes", camera.Manners{Dialect: 1}),
		at("Default namespaces", camera.Manners{Dialect: 2}),
		at("Older than GetServices", camera.Manners{NoServices: true, Media1: true}),
		at("Comments", camera.Manners{Dialect: 3, Twice: true}),
	}
}
