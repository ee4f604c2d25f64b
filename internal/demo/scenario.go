// Package demo holds the made-up harbour that the product is shown and tested with,
// and runs it: database, stand-ins and server as processes of their own.
package demo

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"net/netip"
	"os"
	"path/filepath"
	"time"

	"duskyharbor/internal/core/channel"
	"duskyharbor/internal/people"
	"duskyharbor/internal/standin/camera"
	"duskyharbor/internal/standin/recorder"
	"duskyharbor/internal/standin/scenery"
)

// Zone of the site.
const (
	SiteName  = "Gannet Point Ferry Terminal"
	Zone      = "Europe/Lisbon"
	ZonePosix = "WET0WEST,M3.5.0/1,M10.5.0"
)

// Net is the first two octets that a copy of the scenario lives in, "127.40".
type Net string

// Check refuses what isn't a loopback network of that form.
func (n Net) Check() error {
	a, err := netip.ParseAddr(string(n) + ".0.1")
	if err != nil || !a.IsLoopback() {
		return fmt.Errorf("--net is two octets of a loopback network, as 127.40, not %q", string(n))
	}
	return nil
}

// At is an address of the scenario, given without the first two octets.
func (n Net) At(rest string) netip.Addr { return netip.MustParseAddr(string(n) + rest) }

// Prefix is a network of the scenario.
func (n Net) Prefix(third int) netip.Prefix {
	return netip.MustParsePrefix(fmt.Sprintf("%s.%d.0/24", string(n), third))
}

// Secrets are the passwords of one copy, made at its first start.
type Secrets struct {
	House    string `json:"house"`    // account of most cameras
	Former   string `json:"former"`   // what an earlier installer left
	Terminal string `json:"terminal"` // recorders' own
	Quay     string `json:"quay"`
	Store    string `json:"store"`
	Lead     string `json:"lead"`
	Tech     string `json:"tech"`
	Viewer   string `json:"viewer"`
	Token    string `json:"token"` // of the demo's program
}

// LoadSecrets reads a copy's passwords, or makes them.
func LoadSecrets(dir string) (Secrets, error) {
	var s Secrets
	path := filepath.Join(dir, "scenario.json")
	data, err := os.ReadFile(path)
	if err == nil {
		if err := json.Unmarshal(data, &s); err != nil || s.Token != "" {
			return s, err
		}
		s.Token, _ = people.NewToken() // a folder of before programs had tokens
		if data, err = json.MarshalIndent(s, "", "  "); err != nil {
			return s, err
		}
		return s, os.WriteFile(path, data, 0o600)
	}
	if !errors.Is(err, fs.ErrNotExist) {
		return s, err
	}
	s = NewSecrets()
	if data, err = json.MarshalIndent(s, "", "  "); err != nil {
		return s, err
	}
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return s, err
	}
	f, err := os.OpenFile(path, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if errors.Is(err, fs.ErrExist) {
		return LoadSecrets(dir)
	}
	if err != nil {
		return s, err
	}
	_, err = f.Write(data)
	return s, errors.Join(err, f.Close())
}

// NewSecrets makes passwords.
func NewSecrets() Secrets {
	token, _ := people.NewToken()
	return Secrets{Token: token, House: word(), Former: word(), Terminal: word(), Quay: word(), Store: word(), Lead: word(), Tech: word(), Viewer: word()}
}

// word is 80 random bits that can be read out over a phone.
func word() string {
	const letters = "abcdefghjkmnpqrstuvwxyz23456789"
	raw := make([]byte, 16)
	_, _ = rand.Read(raw)
	out := make([]byte, 0, 19)
	for i, b := range raw {
		if i > 0 && i%4 == 0 {
			out = append(out, '-')
		}
		out = append(out, letters[int(b)%len(letters)])
	}
	return string(out)
}

// Cameras are the stand-in cameras of the scenario that exist so far.
func Cameras(n Net, s Secrets, state string) []camera.Config {
	file := func(name string) string {
		if state == "" {
			return ""
		}
		return filepath.Join(state, name+".json")
	}
	base := camera.Config{Make: "Ottervale", Model: "OTV 412", Firmware: "4.1.7", Username: "otter", Password: s.House, TakesToken: true,
		Window: 30 * time.Second, Network: n.Prefix(1)}
	slip := base
	slip.Place, slip.Address, slip.Serial, slip.MAC, slip.UUID = "Slipway", n.At(".1.11"), "OTV412-40111", "02:d5:1a:40:01:11", "5c1d1e10-04b2-4a11-9c01-02d51a400111"
	slip.TakesDigest, slip.Zone, slip.Daylight, slip.Scene, slip.StateFile = true, ZonePosix, true, scenery.Slipway, file("slipway")
	berth := base
	berth.Place, berth.Address, berth.Serial, berth.MAC, berth.UUID = "Berth 1 ramp", n.At(".1.12"), "OTV412-40112", "02:d5:1a:40:01:12", "5c1d1e10-04b2-4a11-9c01-02d51a400112"
	berth.Zone, berth.Daylight, berth.Skew, berth.Scene, berth.StateFile = "WET0", false, time.Hour, scenery.Berth1, file("berth1")
	return []camera.Config{slip, berth}
}

// Recorders are the stand-in recorders of the scenario that exist so far.
func Recorders(n Net, s Secrets, state string) []recorder.Config {
	c := recorder.Config{Place: "Terminal recorder", Make: "Tarnlight", Model: "TRN N16", Serial: "TRNN16-0205", MAC: "02:d5:1a:40:02:05", Firmware: "2.8.0",
		Address: n.At(".2.5"), Username: "install", Password: s.Terminal,
		Limits: channel.Limits{Channels: 16, MbitIn: 80, Licences: 12, Codecs: []string{"H264", "H265"}, NameMax: 32}}
	if state != "" {
		c.StateFile = filepath.Join(state, "terminal-recorder.json")
	}
	return []recorder.Config{c}
}

// Expected is one line of the expected list.
type Expected struct{ Place, Address, Make, Model, Recorder string }

// ExpectedList is what the site expects, as its lead was given it.
var ExpectedList = []Expected{
	{"Slipway", ".1.11", "Ottervale", "OTV 412", "Terminal recorder"},
	{"Berth 1 ramp", ".1.12", "Ottervale", "OTV 412", "Terminal recorder"},
	{"Berth 2 ramp", ".1.13", "Skerryvane", "SKV B8", "Quay recorder"},
	{"Gangway", ".1.14", "Skerryvane", "SKV B8", "Terminal recorder"},
	{"Ice plant", ".1.17", "Ottervale", "OTV 300", "Quay recorder"},
	{"Net loft", ".1.18", "Skerryvane", "SKV M1", "Quay recorder"},
	{"Fuel jetty", ".1.19", "Pinnock & Daw", "PND X9", "Quay recorder"},
	{"Lifeboat house", ".1.20", "Corriemoor", "CRM R2", "Terminal recorder"},
	{"Signal mast", ".1.28", "Skerryvane", "SKV B8", ""},
	{"Ticket hall", ".2.21", "Pinnock & Daw", "PND Dome 6", "Terminal recorder"},
	{"Customs shed", ".2.22", "Corriemoor", "CRM E4", "Terminal recorder"},
	{"Bonded store", ".2.23", "Tarnlight", "TRN Duo", "Terminal recorder"},
	{"Freight scale", ".2.24", "Ottervale", "OTV 412", "Quay recorder"},
	{"Crew mess", ".2.26", "Tarnlight", "TRN C1", "Terminal recorder"},
	{"Weather deck stair", ".2.27", "Pinnock & Daw", "PND B2", "Terminal recorder"},
}

// Fleet is the running stand-ins.
type Fleet struct {
	Cameras   []*camera.Camera
	Recorders []*recorder.Recorder
}

// StartFleet brings the stand-ins up; they keep their state under the folder state,
// or nowhere where it is empty.
// bulk cameras are added to the scenario's.
func StartFleet(ctx context.Context, n Net, s Secrets, state string, bulk int) (*Fleet, error) {
	f := &Fleet{}
	for _, c := range append(Cameras(n, s, state), BulkCameras(n, s, state, bulk)...) {
		cam, err := camera.Start(ctx, c)
		if err != nil {
			f.Close()
			return nil, err
		}
		f.Cameras = append(f.Cameras, cam)
	}
	for _, c := range Recorders(n, s, state) {
		rec, err := recorder.Start(ctx, c)
		if err != nil {
			f.Close()
			return nil, err
		}
		f.Recorders = append(f.Recorders, rec)
	}
	return f, nil
}

// Close ends the stand-ins.
func (f *Fleet) Close() {
	for _, r := range f.Recorders {
		r.Close()
	}
	for _, c := range f.Cameras {
		c.Close()
	}
}
