package channel

import (
	"fmt"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"duskyharbor/internal/core/trouble"
)

// Bench is what is known of a recorder that has no way in but its own screen, as a person said it:
// it is set up by hand, by a sheet of steps.
type Bench struct {
	Channels int      `json:"channels"`
	Codecs   []string `json:"codecs"`
	// Picture is where it shows the picture of a channel on its web port, with {n} for the
	// channel: "/picture/{n}". Empty: it shows none, and nothing can be seen from outside.
	Picture string `json:"picture,omitempty"`
	Port    int    `json:"port,omitempty"` // of its web page
}

// BenchEntry is a channel that a person set up by hand, or is to.
type BenchEntry struct {
	Channel int
	Source  int64
	Device  int64
	Name    string
	Address string
	Profile string
	TypedAt time.Time // when a person ticked it; zero: it is still to be typed
	By      string
}

// Check says what is wrong with a Bench; its error is told to people.
func (b Bench) Check() error {
	switch {
	case b.Channels < 1 || b.Channels > 256:
		return trouble.UserError("Say how many channels it has, 1 to 256.")
	case len(b.Codecs) == 0:
		return trouble.UserError("Say which codecs it takes.")
	case b.Port < 1 || b.Port > 65535:
		return trouble.UserError("Say at which port its page is, 1 to 65535.")
	case b.Picture != "" && (!strings.HasPrefix(b.Picture, "/") || !strings.Contains(b.Picture, "{n}") || strings.ContainsAny(b.Picture, " \r\n#@\\") || len(b.Picture) > 200):
		return trouble.UserError("Where it shows a channel's picture is a path with {n} for the channel, as /picture/{n}.")
	}
	return nil
}

// PictureOf is the path of a channel's picture.
func (b Bench) PictureOf(channel int) string {
	return strings.ReplaceAll(b.Picture, "{n}", strconv.Itoa(channel))
}

// Observation is what was seen from outside of a channel that was set up by hand.
type Observation struct {
	At       time.Time
	Pictured bool    // it showed a picture
	Likeness float64 // with the camera's own, 0 to 1; −1: the camera's isn't known
	Trouble  string  // why it couldn't be looked at
	Width    int
	Height   int
}

// likeEnough is from which likeness on two pictures are of one view, see stream.Print.
const likeEnough = 0.6

// sheetLacks is what can't be done from here where a person has to.
var sheetLacks = []Act{ActPlace, ActName, ActAccount, ActPause, ActPlan, ActAge, ActInputs, ActStill, ActLog, ActClock, ActRestart}

// Table is what is known of a recorder that is set up by hand: of what was typed, as far as it can be
// seen from outside.
func (b Bench) Table(name string, at time.Time, entries []BenchEntry, looks map[int]Observation) Recorder {
	r := Recorder{At: at, Name: name, ByHand: true, Speech: BySheet, Cannot: sheetLacks, Slots: []Slot{}, Limits: Limits{Channels: b.Channels, Codecs: b.Codecs}}
	for _, e := range entries {
		if e.TypedAt.IsZero() {
			continue
		}
		s := Slot{Number: e.Channel, Name: e.Name, Address: e.Address, Profile: e.Profile, Events: "not known: it has no interface", Since: e.TypedAt}
		l, looked := looks[e.Channel]
		switch {
		case b.Picture == "":
			s.State, s.Detail = Typed, "typed in by "+e.By+"; it shows nothing to the outside"
		case !looked || l.Trouble != "":
			s.State, s.Detail = Lost, "typed in by "+e.By+"; its picture couldn't be looked at: "+l.Trouble
		case !l.Pictured:
			s.State, s.Detail = Lost, "typed in by "+e.By+"; it shows no picture on that channel"
		case l.Likeness >= 0 && l.Likeness < likeEnough:
			s.State, s.Detail = Lost, fmt.Sprintf("it shows another picture than the camera does (%.0f %% alike)", 100*l.Likeness)
		case l.Likeness < 0:
			s.State, s.Detail = Typed, "it shows a picture; the camera's own wasn't seen to compare"
		default:
			s.State, s.Detail = Receiving, fmt.Sprintf("it shows the camera's picture (%.0f %% alike), seen from outside", 100*l.Likeness)
			s.HasStill, s.Width, s.Height = true, l.Width, l.Height
		}
		r.Slots = append(r.Slots, s)
	}
	slices.SortFunc(r.Slots, func(a, b Slot) int { return a.Number - b.Number })
	return r
}

// BenchStep is one thing to do at a recorder's own screen, with what to type.
type BenchStep struct {
	Do, Value string
	Secret    int64 // set whose password is the value; 0: none
}

// portOf is the port of a device service's address, that of its scheme where it names none.
func portOf(service string) string {
	u, err := url.Parse(service)
	switch {
	case err == nil && u.Port() != "":
		return u.Port()
	case err == nil && strings.EqualFold(u.Scheme, "https"):
		return "443, over HTTPS"
	}
	return "80"
}

// BenchSheet lists what to type for a camera, in order.
func BenchSheet(b Bench, at string, e BenchEntry, user string, set int64, service string) []BenchStep {
	return []BenchStep{
		{Do: "Sign in at its own screen", Value: fmt.Sprintf("http://%s:%d/", at, b.Port)},
		{Do: "Open channel", Value: strconv.Itoa(e.Channel)},
		{Do: "Name", Value: e.Name},
		{Do: "Address", Value: e.Address},
		{Do: "ONVIF port", Value: portOf(service)},
		{Do: "User", Value: user},
		{Do: "Password", Secret: set},
		{Do: "Profile", Value: e.Profile},
		{Do: "Save, and see that a picture comes"},
	}
}
