package channels

import (
	"duskyharbor/internal/core/channel"
	"duskyharbor/internal/web/shell"
)

// analogView is one analog input of a hybrid recorder as it is drawn.
type analogView struct {
	channel.Analog
	State string // "on", "off", "goes off", "comes on"
	Says  string
	Verb  string
	Flip  bool // what the button sets
}

// hybrid fills in what is of a hybrid recorder.
func (d *channelsData) hybrid() {
	r := *d.Status
	for _, a := range r.Analog {
		v := analogView{Analog: a, State: map[[2]bool]string{{true, true}: "on", {true, false}: "goes off", {false, true}: "comes on", {false, false}: "off"}[[2]bool{a.On, a.Next}]}
		switch {
		case a.Signal && a.Name != "":
			v.Says = "picture: " + a.Name
		case a.Signal:
			v.Says = "there is a picture"
		case a.On:
			v.Says = "no signal"
		default:
			v.Says = "gives an IP channel"
		}
		v.Flip, v.Verb = !a.Next, "Switch on"
		if a.Next {
			v.Verb = "Switch off"
		}
		d.Analog = append(d.Analog, v)
	}
	d.Waits = len(r.Pending())
	if d.Waits > 0 {
		d.Gap = r.Restart(d.Chosen.ID, d.Waits).Why
	}
	d.Roomy, d.More = r.Roomy(d.taking(), d.Short)
}

// taking is how many of the tray have a channel already.
func (d *channelsData) taking() (n int) {
	for _, t := range d.Tray {
		n += shell.Int(t.To != "")
	}
	return n
}
