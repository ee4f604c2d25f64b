package recorder

import (
	"slices"
	"time"
)

// What it tells, as docs/recorder-interface.yaml has it, in structs of its own: it never writes by
// the types of whoever reads it.

// Limits of a recorder.
type Limits struct {
	Channels  int      `json:"channels"`
	MbitIn    float64  `json:"mbit_in"`
	Licences  int      `json:"licences"`
	Codecs    []string `json:"codecs"`
	NameMax   int      `json:"name_max"` // characters; 0: any number
	NameBytes int      `json:"name_bytes,omitempty"`
	NameChars string   `json:"name_chars,omitempty"`
	DecodeMP  float64  `json:"decode_mp,omitempty"` // million pixels a second
	Talkback  []string `json:"talkback,omitempty"`
	Capacity  Capacity `json:"capacity,omitzero"`
	Tables    []Table  `json:"tables,omitempty"`
	// RestartFor is told in seconds, Watts are what its ports feed together.
	RestartFor float64 `json:"restart_for,omitempty"`
	Ways       []Way   `json:"ways,omitempty"`
	Watts      float64 `json:"watts,omitempty"`
	NoOthers   bool    `json:"no_others,omitempty"`
}

// Capacity of a hybrid: IP channels with every analog input on, what each one gives that is off, and
// the most there may be; 0: as many as come of it.
type Capacity struct {
	Base int `json:"base"`
	Gain int `json:"gain"`
	Most int `json:"most"`
}

func (c Capacity) channels(off int) int {
	n := c.Base + off*c.Gain
	if c.Most > 0 && n > c.Most {
		return c.Most
	}
	return n
}

// Table is one row of what its decoder takes.
type Table struct {
	Channels   int     `json:"channels"`
	Megapixels float64 `json:"megapixels"`
}

// Way is a way in with what it passes.
type Way struct {
	Name   string   `json:"name"`
	Passes []string `json:"passes"`
}

// Ways in, and what they pass.
const (
	Native = "native"
	ONVIF  = "onvif"
	RTSP   = "rtsp"

	PassVideo    = "video"
	PassSound    = "sound"
	PassPTZ      = "ptz"
	PassEvents   = "events"
	PassInputs   = "inputs"
	PassMetadata = "metadata"
)

// slot is a channel that is taken.
type slot struct {
	Number    int       `json:"number"`
	Name      string    `json:"name"`
	Address   string    `json:"address"`
	Serves    string    `json:"serves,omitempty"`
	From      string    `json:"from,omitempty"`
	Profile   string    `json:"profile"`
	State     string    `json:"state"`
	Account   string    `json:"account"`
	Label     string    `json:"label"`
	Paused    bool      `json:"paused"`
	Refused   int       `json:"refused_sign_ins"`
	Since     time.Time `json:"since"`
	Detail    string    `json:"detail"`
	Codec     string    `json:"codec"`
	Width     int       `json:"width"`
	Height    int       `json:"height"`
	FPS       float64   `json:"fps"`
	Kbps      float64   `json:"kbps"`
	LastKey   time.Time `json:"last_key"`
	Events    string    `json:"events"`
	HasStill  bool      `json:"has_still"`
	Way       string    `json:"way,omitempty"`
	Over      string    `json:"over,omitempty"`
	Port      int       `json:"port,omitempty"`
	Firmware  string    `json:"firmware,omitempty"`
	Lost      float64   `json:"lost,omitempty"` // part of the packets
	Recording kept      `json:"recording"`
}

// States of a channel.
const (
	connecting = "connecting"
	receiving  = "receiving"
	refusedTo  = "refused"
	lost       = "lost"
	paused     = "paused"
)

// kept is what it keeps of a channel.
type kept struct {
	Plan       *plan      `json:"plan,omitempty"`
	Hears      []string   `json:"hears,omitempty"`
	Rates      rates      `json:"rates"`
	Activity   []activity `json:"activity,omitempty"`
	Now        string     `json:"now,omitempty"`
	KeptDay    float64    `json:"kept_day,omitempty"`
	Unlicensed bool       `json:"unlicensed,omitempty"`
}

// rates are kbit/s in the mean.
type rates struct {
	Day       rate `json:"day"`
	Night     rate `json:"night"`
	BusyDay   rate `json:"busy_day"`
	BusyNight rate `json:"busy_night"`
}

type rate struct {
	Record float64 `json:"record"`
	View   float64 `json:"view"`
	Keys   float64 `json:"keys"`
}

type activity struct {
	Cause   string   `json:"cause"`
	With    []string `json:"with,omitempty"`
	Night   bool     `json:"night"`
	Seconds float64  `json:"seconds"`
	Active  float64  `json:"active"`
	Gaps    []gap    `json:"gaps"`
}

type gap struct {
	UpTo    float64 `json:"up_to"`
	Count   int     `json:"count"`
	Seconds float64 `json:"seconds"`
}

// storage is what it tells of its disks.
type storage struct {
	Usable   float64 `json:"usable"`
	Other    float64 `json:"other"`
	Buffer   int     `json:"buffer"`
	Deletes  int     `json:"deletes"`
	Kept     float64 `json:"kept"`
	KeptDays float64 `json:"kept_days"`
	KeptWeek [7]int  `json:"kept_week"`
	Oldest   float64 `json:"oldest"`
}

// analogInput is an analog input as it is told.
type analogInput struct {
	Number int    `json:"number"`
	Name   string `json:"name"`
	On     bool   `json:"on"`
	Next   bool   `json:"next"` // after the next restart
	Signal bool   `json:"signal"`
}

// port is one of its own ports.
type port struct {
	Number  int     `json:"number"`
	Linked  bool    `json:"linked"`
	Address string  `json:"address"`
	MAC     string  `json:"mac"`
	UUID    string  `json:"uuid"`
	Make    string  `json:"make"`
	Model   string  `json:"model"`
	Fixed   bool    `json:"fixed"`
	Channel int     `json:"channel"`
	Watts   float64 `json:"watts,omitempty"`
	Denied  bool    `json:"denied,omitempty"`
}

// classWatts are what it sets aside at a port for each class of device (IEEE Std 802.3, clauses 33
// and 145).
var classWatts = [...]float64{15.4, 4, 7, 15.4, 30, 45, 60, 75, 90}

func powerOf(class int) float64 {
	if class < 0 || class >= len(classWatts) {
		return 0
	}
	return classWatts[class]
}

// models is its list of models.
type models struct {
	Version string   `json:"version"`
	Loaded  string   `json:"loaded"`
	Newer   string   `json:"newer"`
	Models  []string `json:"models"`
}

func (l models) has(brand, model string) bool {
	return brand != "" && (slices.Contains(l.Models, brand+" "+model) || slices.Contains(l.Models, brand+" *"))
}
