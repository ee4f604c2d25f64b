// Package demo holds the made-up harbour that the product is shown and tested with,
// and runs it: database, stand-ins and server as processes of their own.
package demo

import (
	"cmp"
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"duskyharbor/internal/core/scene"
	"duskyharbor/internal/people"
	"duskyharbor/internal/standin/analyser"
	"duskyharbor/internal/standin/camera"
	"duskyharbor/internal/standin/footage"
	"duskyharbor/internal/standin/ntp"
	"duskyharbor/internal/standin/page"
	"duskyharbor/internal/standin/recorder"
	"duskyharbor/internal/standin/vms"
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
	Desk     string `json:"desk"` // of Harbour desk, which nobody told the site of
	Look     string `json:"look"` // of the analysers, which nobody told it of either
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
		if err := json.Unmarshal(data, &s); err != nil || s.Token != "" && s.Desk != "" && s.Look != "" {
			return s, err
		}
		fresh := NewSecrets() // a folder of before there were these
		s.Token, s.Desk, s.Look = cmp.Or(s.Token, fresh.Token), cmp.Or(s.Desk, fresh.Desk), cmp.Or(s.Look, fresh.Look)
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
	return Secrets{Token: token, House: word(), Former: word(), Terminal: word(), Quay: word(), Store: word(), Desk: word(), Look: word(),
		Lead: word(), Tech: word(), Viewer: word()}
}

// word is 80 random bits that can be read out over a phone.
func word() string {
	const letters = "abcdefghjkmnpqrstuvwxyz23456789"
	raw := make([]byte, 16)
	rand.Read(raw)
	out := make([]byte, 0, 19)
	for i, b := range raw {
		if i > 0 && i%4 == 0 {
			out = append(out, '-')
		}
		out = append(out, letters[int(b)%len(letters)])
	}
	return string(out)
}

// Thin is the part of the scenario that one way from found to proven needs: two
// cameras and their recorder.
var Thin = []string{"Slipway", "Berth 1 ramp", "Terminal recorder"}

// Cameras are the stand-in cameras of the scenario.
func Cameras(n Net, s Secrets, state string) []camera.Config {
	at := func(place string, third, last int, maker, model, serial string) camera.Config {
		c := camera.Config{Place: place, Address: n.At(fmt.Sprintf(".%d.%d", third, last)), Network: n.Prefix(third),
			Make: maker, Model: model, Firmware: firmware[maker],
			Serial: fmt.Sprintf("%s-4%d%d", serial, third%10, last), MAC: fmt.Sprintf("02:d5:1a:40:%02d:%02d",
				third%100, last), UUID: fmt.Sprintf("5c1d1e10-04b2-4a11-9c01-02d51a40%02d%02d", third%100, last),
			Username: "otter", Password: s.House, TakesDigest: true, TakesToken: true, Window: 30 * time.Second, Zone: ZonePosix, Daylight: true, Scene: footage.Slipway, NoAnalytics: true}
		c.Scene.Rules = nil
		if state != "" {
			c.StateFile = filepath.Join(state, strings.ReplaceAll(strings.ToLower(place), " ", "-")+".json")
		}
		return c
	}
	slip := at("Slipway", 1, 11, "Ottervale", "OTV 412", "OTV412")
	slip.NoAnalytics, slip.Scene = false, footage.Slipway
	berth := at("Berth 1 ramp", 1, 12, "Ottervale", "OTV 412", "OTV412")
	berth.NoAnalytics, berth.Scene = false, footage.Berth1
	berth.TakesDigest, berth.Zone, berth.Daylight, berth.Skew = false, "WET0", false, time.Hour
	fresh := at("Berth 2 ramp", 1, 13, "Skerryvane", "SKV B8", "SKVB8")
	fresh.Username, fresh.Password, fresh.Manners.Strict, fresh.Scene = "", "", true, footage.Berth2
	used := at("Gangway", 1, 14, "Skerryvane", "SKV B8", "SKVB8")
	used.Username, used.Password, used.Scene = "admin", s.Former, footage.Gangway
	used.Manners = camera.Manners{Strict: true, LockAfter: 5, LockFor: 30 * time.Minute}
	ice := at("Ice plant", 1, 17, "Ottervale", "OTV 300", "OTV300")
	ice.Manners.Twice, ice.Scene = true, footage.IcePlant // whose encoder knows H.265 alone
	loft := at("Net loft", 1, 18, "Skerryvane", "SKV M1", "SKVM1")
	loft.Manners, loft.Scene = camera.Manners{Dialect: 1, Sound: "MP4A-LATM", Speaker: true}, footage.NetLoft
	fuel := at("Fuel jetty", 1, 19, "Pinnock & Daw", "PND X9", "PNDX9")
	fuel.Skew, fuel.Scene = -8*time.Second, footage.FuelJetty
	house := at("Lifeboat house", 1, 20, "Corriemoor", "CRM R2", "CRMR2")
	house.Manners.RTSPOnly, house.Scene = true, footage.LifeboatHouse
	ticket := at("Ticket hall", 2, 21, "Pinnock & Daw", "PND Dome 6", "PNDD6")
	ticket.Manners = camera.Manners{WebOnly: true, Sources: []string{"Dome", "Digital zoom"}}
	ticket.Scene, ticket.Scenes = footage.TicketHall, []footage.Scene{footage.TicketHall.Zoomed(380, 180)}
	shed := at("Customs shed", 2, 22, "Corriemoor", "CRM E4", "CRME4")
	shed.Manners = camera.Manners{Media1: true, NoDirected: true, DateOrder: "MM/dd/yyyy", Clock12: true,
		Sources: []string{"Input 1", "Input 2", "Input 3", "Input 4"}}
	shed.Scene, shed.Scenes = footage.ShedGate, []footage.Scene{footage.ShedBench, footage.NoSignal, footage.NoSignal}
	bonded := at("Bonded store", 2, 23, "Tarnlight", "TRN Duo", "TRNDUO")
	bonded.Manners = camera.Manners{TLS: true, Sources: []string{"Visible", "Heat"}, SeesOnAll: true}
	bonded.NoAnalytics, bonded.Scene, bonded.Scenes = false, footage.BondedStore, []footage.Scene{footage.BondedStore.AsHeat()}
	scale := at("Freight scale", 2, 24, "Ottervale", "OTV 412", "OTV412")
	scale.Manners = camera.Manners{DriftPPM: 40, Speed: 60, GivesHost: n.At(".7.24").String()}
	scale.Scene = footage.FreightScale
	mess := at("Crew mess", 2, 26, "Tarnlight", "TRN C1", "TRNC1")
	mess.Manners, mess.Scene = camera.Manners{Dialect: 3, Slow: 150 * time.Millisecond, Sound: "PCMU"}, footage.CrewMess
	stair := at("Weather deck stair", 2, 27, "Pinnock & Daw", "PND B2", "PNDB2")
	stair.Skew, stair.Manners = 22*time.Second, camera.Manners{Dialect: 2, NTPServers: []string{n.At(".2.123").String()}, JPEG: true}
	stair.Scene = footage.DeckStair
	mast := at("Signal mast", 250, 64, "Skerryvane", "SKV B8", "SKVB8")
	mast.Network, mast.Skew = n.Prefix(250), time.Until(time.Date(2000, 1, 1, 0, 0, 0, 0, time.UTC)).Round(time.Second)
	mast.Scene = footage.SignalMast
	mast.Manners = camera.Manners{Strict: true, FactoryAt: mast.Address}
	port := at("Port 3", 90, 13, "Skerryvane", "SKV M1", "SKVM1")
	port.Manners, port.Scene = camera.Manners{Behind: n.At(".1.5")}, footage.QuayStore
	for _, c := range []*camera.Config{&slip, &berth, &ice, &scale} {
		c.Manners.Group = netip.MustParseAddrPort("239.64.1.1:6000") // every one of the make leaves the box with it
	}
	// Makes whose analytics have habits of their own.
	ice.NoAnalytics, ice.Manners.Engine.Zips = false, true
	slip.Manners.Engine.Dress, berth.Manners.Engine.Dress = true, true
	used.NoAnalytics, used.Manners.Engine = false, camera.EngineHabits{Middle: true, Words: map[string]string{"Human": "person", "Vehicle": "vehicle"}, Grid: scene.Grid{Columns: 22, Rows: 18}}
	fresh.NoAnalytics, fresh.Manners.Engine = false, camera.EngineHabits{Dress: true, Crops: true, OwnTypes: "urn:skerryvane:rules"}
	loft.NoAnalytics, loft.Manners.Engine = false, camera.EngineHabits{Over: true}
	fuel.NoAnalytics, fuel.Manners.Engine = false, camera.EngineHabits{Shifted: scene.Point{X: 0.12, Y: -0.08}, Late: 600 * time.Millisecond, Grid: scene.Grid{Columns: 32, Rows: 18}}
	scale.NoAnalytics, scale.Manners.Engine = false, camera.EngineHabits{Dress: true, Forgets: true, LosesIDs: 3 * time.Second}
	stair.NoAnalytics, stair.Manners.Engine = false, camera.EngineHabits{NoBoxes: true, Counts: scene.Frame{Wide: 10000, High: 10000}}
	mess.Manners.NoGroups, mess.Manners.NoRules, berth.Manners.PlainRules = true, true, true
	bonded.Manners.OwnRule = `<tan:Rule xmlns:own="urn:tarnlight:rules" Name="Rack watch" Type="own:RackWatch"><tt:Parameters><tt:SimpleItem Name="Racks" Value="3"/><tt:ElementItem Name="Depths"><own:Depths near="2" far="9"/></tt:ElementItem></tt:Parameters></tan:Rule>`
	all := []camera.Config{slip, berth, fresh, used, ice, loft, fuel, house, ticket, shed, bonded, scale, mess, stair, mast, port}
	for i := range all {
		m := &all[i].Manners
		m.Imaging = !m.RTSPOnly
		if m.PTZ = all[i].Place == "Ticket hall"; !m.Media1 && all[i].Place != "Ice plant" { // whose pictures are H.265
			m.Masks = 4
		}
	}
	return all
}

// firmware that each make's cameras have.
var firmware = map[string]string{"Ottervale": "4.1.7", "Skerryvane": "2.0.3", "Pinnock & Daw": "8.14",
	"Corriemoor": "1.9", "Tarnlight": "3.3.1"}

// Ways in of the recorders, with what each passes.
var (
	terminalWays = []recorder.Way{
		{Name: recorder.Native, Passes: []string{recorder.PassVideo, recorder.PassSound, recorder.PassPTZ, recorder.PassEvents, recorder.PassInputs, recorder.PassMetadata}},
		{Name: recorder.ONVIF, Passes: []string{recorder.PassVideo, recorder.PassSound, recorder.PassPTZ, recorder.PassEvents}},
		{Name: recorder.RTSP, Passes: []string{recorder.PassVideo}}}
	quayWays = []recorder.Way{
		{Name: recorder.Native, Passes: []string{recorder.PassVideo, recorder.PassSound, recorder.PassPTZ, recorder.PassEvents, recorder.PassInputs}},
		{Name: recorder.ONVIF, Passes: []string{recorder.PassVideo, recorder.PassEvents}},
		{Name: recorder.RTSP, Passes: []string{recorder.PassVideo}}}
)

// Recorders are the stand-in recorders of the scenario.
func Recorders(n Net, s Secrets, state string) []recorder.Config {
	file := func(name string) string {
		if state == "" {
			return ""
		}
		return filepath.Join(state, name+".json")
	}
	return []recorder.Config{
		{Place: "Terminal recorder", Make: "Tarnlight", Model: "TRN N16", Serial: "TRNN16-0205",
			MAC: "02:d5:1a:40:02:05", Firmware: "2.8.0", Address: n.At(".2.5"), Username: "install", Password: s.Terminal,
			Limits: recorder.Limits{Channels: 16, MbitIn: 80, Licences: 12, Codecs: []string{"H264", "H265"},
				NameMax: 32, Ways: terminalWays}, Lists: []recorder.List{{Version: "2.8", Models: []string{"Tarnlight *"}}},
			Usable: 120e9, Buffer: 15, Zone: ZonePosix, Dates: "dd/MM/yyyy", Times: "HH:mm:ss", StateFile: file("terminal-recorder")},
		{Place: "Quay recorder", Make: "Skerryvane", Model: "SKV H10", Serial: "SKVH10-0105", MAC: "02:d5:1a:40:01:05",
			Firmware: "1.6.2", Address: n.At(".1.5"), Username: "install", Password: s.Quay,
			Limits: recorder.Limits{Channels: 10, MbitIn: 60, Licences: 10, Codecs: []string{"H264"}, NoOthers: true, Ways: quayWays,
				NameMax: 24, Talkback: []string{"PCMU"}, Watts: 40, Capacity: recorder.Capacity{Base: 2, Gain: 1, Most: 10},
				Tables: []recorder.Table{{Channels: 6, Megapixels: 8}, {Channels: 12, Megapixels: 4}}},
			RestartTime: 4 * time.Second, Usable: 1.6e12, Buffer: 10, ByPlan: true,
			Lists: []recorder.List{{Version: "2025-03", Models: []string{"Skerryvane *", "Ottervale OTV 412", "Ottervale OTV 300"}},
				{Version: "2026-10", Models: []string{"Skerryvane *", "Ottervale OTV 412", "Ottervale OTV 300", "Pinnock & Daw PND X9"}}},
			Analog: []recorder.AnalogInput{{Name: "Ice house door", Signal: true}, {Off: true}, {Off: true}, {}, {}, {}, {}, {}}, Zone: ZonePosix, Dates: "dd/MM/yyyy", Times: "HH:mm:ss", StateFile: file("quay-recorder"),
			Plugged: map[int]netip.Addr{3: n.At(".90.13")}, Ports: 4, Draws: map[int]int{3: 3}, HandsOut: n.Prefix(90), PortUser: "otter", PortSecret: s.House,
			Entries: []recorder.Entry{{Number: 3, Port: 3, Name: "Old quay camera", Address: n.At(".90.12").String(),
				User: "admin", Secret: s.Former}}},
		{Place: "Store recorder", Make: "Corriemoor", Model: "CRM S4", Serial: "CRMS4-0206", MAC: "02:d5:1a:40:02:06",
			Firmware: "0.9", Address: n.At(".2.6"), OwnScreen: true,
			Username: "install", Password: s.Store, Limits: recorder.Limits{Channels: 4, Licences: 4, Codecs: []string{"H264", "H265"}},
			Zone: ZonePosix, StateFile: file("store-recorder")},
	}
}

// Desk is the video management system of the scenario.
func Desk(n Net, s Secrets, state string) vms.Config {
	c := vms.Config{Place: "Harbour desk", Make: "Pinnock & Daw", Model: "PND Desk", Serial: "PNDDESK-0208", Firmware: "7.1",
		Address: n.At(".2.8"), Username: "install", Password: s.Desk, Most: 64, Zone: ZonePosix, Codecs: []string{"H264", "H265"}}
	if state != "" {
		c.StateFile = filepath.Join(state, "harbour-desk.json")
	}
	return c
}

// Analysers of the scenario: one is slow, so that it falls behind of two views, the other takes two views of small stills and forgets
// them when it starts again.
func Analysers(n Net, s Secrets, state string) []analyser.Config {
	file := func(name string) string {
		if state == "" {
			return ""
		}
		return filepath.Join(state, name+".json")
	}
	return []analyser.Config{
		{Place: "Analyser 1", Make: "Corriemoor", Model: "CRM L4", Serial: "CRML4-0230", MAC: "02:d5:1a:40:02:1e", UUID: "5f0c2a10-40b3-4c02-9a30-02d51a40021e", Firmware: "1.4.0",
			Address: n.At(".2.30"), Network: n.Prefix(2), Username: "install", Password: s.Look, Takes: 350 * time.Millisecond, StateFile: file("analyser-1"),
			Limits: analyser.Limits{Views: 4, Licences: 4, Width: 1920, Height: 1080, PerSecond: 8, Bytes: 1 << 20}},
		{Place: "Analyser 2", Make: "Ottervale", Model: "OTV L2", Serial: "OTVL2-0231", MAC: "02:d5:1a:40:02:1f", UUID: "5f0c2a10-40b3-4c02-9a31-02d51a40021f", Firmware: "0.9.7",
			Address: n.At(".2.31"), Network: n.Prefix(2), Username: "install", Password: s.Look, Forgets: true, StateFile: file("analyser-2"),
			Limits: analyser.Limits{Views: 2, Width: 640, Height: 360, PerSecond: 4, Bytes: 256 << 10}},
	}
}

// Others are what else answers on the networks: a page and a time server.
func Others(n Net) map[string]netip.Addr {
	return map[string]netip.Addr{"Harbour time": n.At(".2.9"), "Northreach Monitoring": n.At(".2.200")}
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
	Analysers []*analyser.Analyser
	Desk      *vms.VMS  // nil: it isn't run
	Failed    []Failure // what couldn't start
	others    context.CancelFunc
}

// Failure is why a stand-in couldn't start.
type Failure struct {
	Place string `json:"place"`
	Why   string `json:"why"`
}

// StartFleet brings the stand-ins up; they keep their state under the folder state,
// or nowhere where it is empty. bulk cameras are added to the scenario's; only limits
// those to the named places. What can't start is told in Failed; the others run.
func StartFleet(ctx context.Context, n Net, s Secrets, state string, bulk int, only ...string) (*Fleet, error) {
	f := &Fleet{}
	wanted := func(place string) bool { return len(only) == 0 || slices.Contains(only, place) }
	for _, c := range append(Cameras(n, s, state), BulkCameras(n, s, state, bulk)...) {
		if !wanted(c.Place) && c.Network != n.BulkPrefix() {
			continue
		}
		cam, err := camera.Start(ctx, c)
		if err != nil { // the others run all the same
			f.Failed = append(f.Failed, Failure{c.Place, err.Error()})
			continue
		}
		f.Cameras = append(f.Cameras, cam)
	}
	for _, c := range Recorders(n, s, state) {
		if !wanted(c.Place) {
			continue
		}
		rec, err := recorder.Start(ctx, c)
		if err != nil {
			f.Failed = append(f.Failed, Failure{c.Place, err.Error()})
			continue
		}
		f.Recorders = append(f.Recorders, rec)
	}
	for _, c := range Analysers(n, s, state) {
		if !wanted(c.Place) {
			continue
		}
		a, err := analyser.Start(ctx, c)
		if err != nil {
			f.Failed = append(f.Failed, Failure{c.Place, err.Error()})
			continue
		}
		f.Analysers = append(f.Analysers, a)
	}
	if c := Desk(n, s, state); wanted(c.Place) {
		var err error
		if f.Desk, err = vms.Start(ctx, c); err != nil {
			f.Failed = append(f.Failed, Failure{c.Place, err.Error()})
		}
	}
	if len(only) > 0 {
		return f, nil
	}
	ctx, f.others = context.WithCancel(ctx)
	for name, at := range Others(n) {
		start := page.Serve
		if name == "Harbour time" {
			start = func(ctx context.Context, at netip.Addr, _ string) error { return ntp.Serve(ctx, at, time.Now) }
		}
		if err := start(ctx, at, name); err != nil && name != "Harbour time" { // port 123 may not be ours to take
			f.Failed = append(f.Failed, Failure{name, err.Error()})
		}
	}
	return f, nil
}

// Camera finds a running camera by its place.
func (f *Fleet) Camera(place string) *camera.Camera {
	i := slices.IndexFunc(f.Cameras, func(c *camera.Camera) bool { return c.Config().Place == place })
	if i < 0 {
		return nil
	}
	return f.Cameras[i]
}

// Analyser finds a running analyser by its place.
func (f *Fleet) Analyser(place string) *analyser.Analyser {
	i := slices.IndexFunc(f.Analysers, func(a *analyser.Analyser) bool { return a.Config().Place == place })
	if i < 0 {
		return nil
	}
	return f.Analysers[i]
}

// Close ends the stand-ins.
func (f *Fleet) Close() {
	if f.others != nil {
		f.others()
	}
	if f.Desk != nil {
		f.Desk.Close()
	}
	for _, a := range f.Analysers {
		a.Close()
	}
	for _, r := range f.Recorders {
		r.Close()
	}
	for _, c := range f.Cameras {
		c.Close()
	}
}
