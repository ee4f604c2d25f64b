package demo

import (
	"fmt"
	"net/netip"
	"path/filepath"
	"time"

	"duskyharbor/internal/standin/camera"
	"duskyharbor/internal/standin/footage"
)

// BulkMost is how many bulk cameras there can be.
const BulkMost = 3000

// BulkPrefix is where they are.
func (n Net) BulkPrefix() netip.Prefix {
	return netip.MustParsePrefix(string(n) + ".160.0/20")
}

// bulkAt is the address of the i-th bulk camera, from 0: 250 to a /24.
func (n Net) bulkAt(i int) netip.Addr { return n.At(fmt.Sprintf(".%d.%d", 160+i/250, 2+i%250)) }

var bulkModels = []struct{ maker, model string }{{"Ottervale", "OTV 412"}, {"Skerryvane", "SKV B8"},
	{"Pinnock & Daw", "PND X9"}, {"Tarnlight", "TRN C1"}, {"Corriemoor", "CRM E4"}}

// BulkCameras are cameras for load: quiet scenes, no analytics, and a fault in every
// tenth, which really happens: a clock an hour ahead, the daylight rule off, an
// earlier installer's password, a clock that was never set.
func BulkCameras(n Net, s Secrets, state string, count int) []camera.Config {
	out := make([]camera.Config, 0, count)
	for i := range min(count, BulkMost) {
		m := bulkModels[i%len(bulkModels)]
		c := camera.Config{Place: BulkPlace(i), Make: m.maker, Model: m.model, Firmware: "4.1.7",
			Serial: fmt.Sprintf("BULK-%05d", i), MAC: fmt.Sprintf("02:d5:1b:%02x:%02x:%02x", i>>16, i>>8&255, i&255),
			UUID: fmt.Sprintf("5c1d1e10-04b2-4a11-9c02-%012x",
				i), Address: n.bulkAt(i), Network: n.BulkPrefix(), Username: "otter", Password: s.House,
			TakesDigest: i%3 != 0, TakesToken: true, Window: 30 * time.Second, Zone: ZonePosix, Daylight: true, Scene: footage.Slipway, Quiet: true}
		if state != "" {
			c.StateFile = filepath.Join(state, fmt.Sprintf("bulk-%05d.json", i))
		}
		if i%10 == 9 {
			switch i / 10 % 4 {
			case 0:
				c.Skew = time.Hour
			case 1:
				c.Daylight, c.Zone = false, "WET0"
			case 2:
				c.Username, c.Password = "admin", s.Former
			case 3:
				c.Skew = -26 * 365 * 24 * time.Hour
			}
		}
		out = append(out, c)
	}
	return out
}

// BulkPlace names the i-th bulk camera's place.
func BulkPlace(i int) string { return fmt.Sprintf("Shed %d bay %d", 1+i/20, 1+i%20) }
