package recorder

import (
	"math"
	"net/url"
	"time"

	"duskyharbor/internal/core/channel"
	"duskyharbor/internal/core/recording"
	"duskyharbor/internal/device/dial"
)

// What the recorder interface tells, as docs/recorder-interface.yaml has it. These are the client's own
// structs: what is on the wire may change, and what is stored doesn't with it. Whatever comes is bounded
// where it becomes core's.

type statusAnswer struct {
	Name    string         `json:"name"`
	Clock   time.Time      `json:"clock"`
	Limits  limitsAnswer   `json:"limits"`
	Slots   []slotAnswer   `json:"channels"`
	Analog  []analogAnswer `json:"analog"`
	Ports   []portAnswer   `json:"ports"`
	Hands   string         `json:"hands_out"`
	Relays  bool           `json:"relays"`
	Dates   string         `json:"dates"`
	Burns   []string       `json:"burns"`
	Times   string         `json:"times"`
	Sets    bool           `json:"sets_time"`
	Zone    string         `json:"zone"`
	Models  *modelsAnswer  `json:"models"`
	Storage storageAnswer  `json:"storage"`
	ByPlan  bool           `json:"by_plan"`
}

type limitsAnswer struct {
	Channels  int      `json:"channels"`
	MbitIn    float64  `json:"mbit_in"`
	Licences  int      `json:"licences"`
	Codecs    []string `json:"codecs"`
	NameMax   int      `json:"name_max"`
	NameBytes int      `json:"name_bytes"`
	NameChars string   `json:"name_chars"`
	DecodeMP  float64  `json:"decode_mp"`
	Talkback  []string `json:"talkback"`
	Capacity  struct {
		Base int `json:"base"`
		Gain int `json:"gain"`
		Most int `json:"most"`
	} `json:"capacity"`
	Tables []struct {
		Channels   int     `json:"channels"`
		Megapixels float64 `json:"megapixels"`
	} `json:"tables"`
	RestartFor float64 `json:"restart_for"`
	Ways       []struct {
		Name   string   `json:"name"`
		Passes []string `json:"passes"`
	} `json:"ways"`
	Watts    float64 `json:"watts"`
	NoOthers bool    `json:"no_others"`
}

type slotAnswer struct {
	Number    int             `json:"number"`
	Name      string          `json:"name"`
	Address   string          `json:"address"`
	Serves    string          `json:"serves"`
	From      string          `json:"from"`
	Profile   string          `json:"profile"`
	State     string          `json:"state"`
	Account   string          `json:"account"`
	Label     string          `json:"label"`
	Paused    bool            `json:"paused"`
	Refused   int             `json:"refused_sign_ins"`
	Since     time.Time       `json:"since"`
	Detail    string          `json:"detail"`
	Codec     string          `json:"codec"`
	Width     int             `json:"width"`
	Height    int             `json:"height"`
	FPS       float64         `json:"fps"`
	Kbps      float64         `json:"kbps"`
	LastKey   time.Time       `json:"last_key"`
	Events    string          `json:"events"`
	HasStill  bool            `json:"has_still"`
	Way       string          `json:"way"`
	Over      string          `json:"over"`
	Port      int             `json:"port"`
	Firmware  string          `json:"firmware"`
	Lost      float64         `json:"lost"`
	Recording recordingAnswer `json:"recording"`
}

type recordingAnswer struct {
	Plan       *planAnswer       `json:"plan"`
	Hears      []recording.Cause `json:"hears"`
	Rates      ratesAnswer       `json:"rates"`
	Activity   []activityAnswer  `json:"activity"`
	Now        string            `json:"now"`
	KeptDay    float64           `json:"kept_day"`
	Unlicensed bool              `json:"unlicensed"`
}

type ratesAnswer struct {
	Day       rateAnswer `json:"day"`
	Night     rateAnswer `json:"night"`
	BusyDay   rateAnswer `json:"busy_day"`
	BusyNight rateAnswer `json:"busy_night"`
}

type rateAnswer struct {
	Record float64 `json:"record"`
	View   float64 `json:"view"`
	Keys   float64 `json:"keys"`
}

type activityAnswer struct {
	Cause   recording.Cause   `json:"cause"`
	With    []recording.Cause `json:"with"`
	Night   bool              `json:"night"`
	Seconds float64           `json:"seconds"`
	Active  float64           `json:"active"`
	Gaps    []struct {
		UpTo    float64 `json:"up_to"`
		Count   int     `json:"count"`
		Seconds float64 `json:"seconds"`
	} `json:"gaps"`
}

// planAnswer is a plan as it is told and as it is written. Week has a text of 48 figures a day.
type planAnswer struct {
	Modes []modeAnswer `json:"modes"`
	Week  []string     `json:"week"`
}

type modeAnswer struct {
	Name   string            `json:"name"`
	Idle   recording.Level   `json:"idle"`
	Event  recording.Level   `json:"event"`
	Causes []recording.Cause `json:"causes"`
	Lead   int               `json:"lead"`
	Tail   int               `json:"tail"`
}

type storageAnswer struct {
	Usable   float64                 `json:"usable"`
	Other    float64                 `json:"other"`
	Buffer   int                     `json:"buffer"`
	Deletes  int                     `json:"deletes"`
	Kept     float64                 `json:"kept"`
	KeptDays float64                 `json:"kept_days"`
	KeptWeek [recording.WeekDays]int `json:"kept_week"`
	Oldest   float64                 `json:"oldest"`
}

type analogAnswer struct {
	Number int    `json:"number"`
	Name   string `json:"name"`
	On     bool   `json:"on"`
	Next   bool   `json:"next"`
	Signal bool   `json:"signal"`
}

type portAnswer struct {
	Number  int     `json:"number"`
	Linked  bool    `json:"linked"`
	Address string  `json:"address"`
	MAC     string  `json:"mac"`
	UUID    string  `json:"uuid"`
	Make    string  `json:"make"`
	Model   string  `json:"model"`
	Fixed   bool    `json:"fixed"`
	Channel int     `json:"channel"`
	Watts   float64 `json:"watts"`
	Denied  bool    `json:"denied"`
}

type modelsAnswer struct {
	Version string   `json:"version"`
	Loaded  string   `json:"loaded"`
	Newer   string   `json:"newer"`
	Models  []string `json:"models"`
}

// Bounds of what is taken of an answer.
const (
	maxModels  = 4000 // of a list
	maxWays    = 8    // and what each passes
	maxCounts  = 32   // activities of a channel: by day and night, of each set of causes
	maxBuckets = 64   // of gaps
	maxPorts   = 128
	maxAnalog  = 128 // analog inputs
	maxTables  = 16  // rows of what it takes
	maxBurns   = 8
	maxCodecs  = 16
	maxSlots   = 4096
	maxCount   = 1 << 20 // of channels, licences, pixels
)

// table is the answer as core knows a recorder, but for when it was read.
func (a statusAnswer) table() channel.Recorder {
	r := channel.Recorder{Name: dial.CleanText(a.Name, 64), Limits: a.Limits.limits(), Slots: []channel.Slot{}, Ports: []channel.Port{},
		Analog: []channel.Analog{}, HandsOut: dial.CleanText(a.Hands, 64), Relays: a.Relays, Dates: dial.CleanText(a.Dates, 64),
		Times: dial.CleanText(a.Times, 64), SetsTime: a.Sets, Models: a.Models.list(), Storage: a.Storage.storage(), ByPlan: a.ByPlan}
	for _, s := range first(a.Slots, maxSlots) {
		r.Slots = append(r.Slots, s.slot())
	}
	for _, x := range first(a.Analog, maxAnalog) {
		r.Analog = append(r.Analog, channel.Analog{Number: count(x.Number), Name: dial.CleanText(x.Name, 64), On: x.On, Next: x.Next, Signal: x.Signal})
	}
	for _, p := range first(a.Ports, maxPorts) {
		r.Ports = append(r.Ports, channel.Port{Number: count(p.Number), Linked: p.Linked, Address: dial.CleanText(p.Address, 128),
			MAC: dial.CleanText(p.MAC, 128), UUID: dial.CleanText(p.UUID, 128), Make: dial.CleanText(p.Make, 128), Model: dial.CleanText(p.Model, 128),
			Fixed: p.Fixed, Channel: count(p.Channel), Watts: amount(p.Watts), Denied: p.Denied})
	}
	r.Burns = texts(a.Burns, maxBurns, 16)
	return r
}

func (a limitsAnswer) limits() channel.Limits {
	l := channel.Limits{Channels: count(a.Channels), MbitIn: amount(a.MbitIn), Licences: count(a.Licences), Codecs: texts(a.Codecs, maxCodecs, 16),
		NameMax: count(a.NameMax), NameBytes: count(a.NameBytes), NameChars: dial.CleanText(a.NameChars, 128), DecodeMP: amount(a.DecodeMP),
		Talkback: texts(a.Talkback, maxCodecs, 16), Capacity: channel.Capacity{Base: count(a.Capacity.Base), Gain: count(a.Capacity.Gain), Most: count(a.Capacity.Most)},
		RestartFor: amount(a.RestartFor), Watts: amount(a.Watts), NoOthers: a.NoOthers}
	for _, t := range first(a.Tables, maxTables) {
		l.Tables = append(l.Tables, channel.Table{Channels: count(t.Channels), Megapixels: amount(t.Megapixels)})
	}
	for _, w := range first(a.Ways, maxWays) {
		l.Ways = append(l.Ways, channel.Way{Name: dial.CleanText(w.Name, 16), Passes: texts(w.Passes, maxWays, 16)})
	}
	return l
}

func (a slotAnswer) slot() channel.Slot {
	return channel.Slot{Number: count(a.Number), Name: dial.CleanText(a.Name, 64), Address: dial.CleanText(a.Address, 64), Profile: dial.CleanText(a.Profile, 128),
		State: dial.CleanText(a.State, 32), Detail: dial.CleanText(a.Detail, 300), Codec: dial.CleanText(a.Codec, 16), Width: count(a.Width), Height: count(a.Height),
		FPS: amount(a.FPS), Kbps: amount(a.Kbps), LastKey: a.LastKey, Events: dial.CleanText(a.Events, 300), HasStill: a.HasStill,
		Account: dial.CleanText(a.Account, 64), Label: dial.CleanText(a.Label, 64), Paused: a.Paused, AuthFailures: count(a.Refused), Since: a.Since,
		Way: dial.CleanText(a.Way, 16), Over: dial.CleanText(a.Over, 32), Port: count(a.Port), Firmware: dial.CleanText(a.Firmware, 64),
		Lost: min(1, amount(a.Lost)), Serves: plainAddress(a.Serves), From: plainAddress(a.From), Recording: a.Recording.recording()}
}

// recording bounds what a channel tells of its recording; a plan that is none isn't told.
func (a recordingAnswer) recording() recording.Slot {
	out := recording.Slot{Plan: a.Plan.plan(), Hears: known(a.Hears), Now: dial.CleanText(a.Now, 16), KeptDay: amount(a.KeptDay), Unlicensed: a.Unlicensed,
		Rates: recording.Rates{Day: a.Rates.Day.rate(), Night: a.Rates.Night.rate(), BusyDay: a.Rates.BusyDay.rate(), BusyNight: a.Rates.BusyNight.rate()}}
	for _, x := range first(a.Activity, maxCounts) {
		if len(known([]recording.Cause{x.Cause})) == 0 || len(known(x.With)) < len(x.With) {
			continue
		}
		act := recording.Activity{Cause: x.Cause, With: x.With, Night: x.Night, Seconds: amount(x.Seconds), Active: amount(x.Active), Gaps: []recording.Gap{}}
		for _, g := range first(x.Gaps, maxBuckets) {
			act.Gaps = append(act.Gaps, recording.Gap{UpTo: amount(g.UpTo), Count: max(0, g.Count), Seconds: amount(g.Seconds)})
		}
		out.Activity = append(out.Activity, act)
	}
	return out
}

// known are those of what may happen that this product knows; nil where none are told.
func known(all []recording.Cause) (out []recording.Cause) {
	for _, c := range first(all, maxCounts) {
		for _, is := range recording.Causes() {
			if c == is {
				out = append(out, c)
			}
		}
	}
	if all != nil && out == nil {
		out = []recording.Cause{} // told, and nothing
	}
	return out
}

func (a rateAnswer) rate() recording.Rate {
	return recording.Rate{Record: amount(a.Record), View: amount(a.View), Keys: amount(a.Keys)}
}

// plan is nil where it is none.
func (a *planAnswer) plan() *recording.Plan {
	if a == nil || len(a.Week) != recording.WeekDays || len(a.Modes) > recording.MostModes {
		return nil
	}
	var p recording.Plan
	for _, m := range a.Modes {
		p.Modes = append(p.Modes, recording.Mode(m))
	}
	for day, text := range a.Week {
		if len(text) != recording.HalfHours {
			return nil
		}
		for half := range recording.HalfHours {
			if text[half] < '0' || text[half] > '9' {
				return nil
			}
			p.Week[day][half] = text[half] - '0'
		}
	}
	if p.Check() != nil {
		return nil
	}
	return &p
}

// planFor is a plan as it is written.
func planFor(p recording.Plan) (a planAnswer) {
	for _, m := range p.Modes {
		a.Modes = append(a.Modes, modeAnswer(m))
	}
	for _, day := range p.Week {
		text := make([]byte, len(day))
		for half, mode := range day {
			text[half] = '0' + mode
		}
		a.Week = append(a.Week, string(text))
	}
	return a
}

func (a storageAnswer) storage() recording.Storage {
	s := recording.Storage{Usable: amount(a.Usable), Other: amount(a.Other), Buffer: min(max(0, a.Buffer), 86400), Deletes: min(max(0, a.Deletes), 36500),
		Kept: amount(a.Kept), KeptDays: amount(a.KeptDays), Oldest: amount(a.Oldest)}
	for i, n := range a.KeptWeek {
		s.KeptWeek[i] = min(max(0, n), 36500)
	}
	return s
}

func (a *modelsAnswer) list() *channel.ModelList {
	if a == nil {
		return nil
	}
	return &channel.ModelList{Version: dial.CleanText(a.Version, 32), Loaded: dial.CleanText(a.Loaded, 32), Newer: dial.CleanText(a.Newer, 32),
		Models: texts(a.Models, maxModels, 128)}
}

// amount is a number that a recorder tells, as one that can be reckoned with: not negative, and
// finite.
func amount(v float64) float64 {
	if math.IsNaN(v) || v < 0 {
		return 0
	}
	return min(v, 1e18)
}

// count is amount of whole things.
func count(n int) int { return min(max(0, n), maxCount) }

func first[T any](all []T, most int) []T { return all[:min(len(all), most)] }

func texts(all []string, most, chars int) (out []string) {
	for _, s := range first(all, most) {
		out = append(out, dial.CleanText(s, chars))
	}
	return out
}

// plainAddress is an address that a recorder told, without an account; empty where it is none.
func plainAddress(text string) string {
	u, err := url.Parse(dial.CleanText(text, 512))
	if err != nil || u.Host == "" {
		return ""
	}
	u.User = nil
	return u.String()
}
