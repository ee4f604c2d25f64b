package recorder

import (
	"fmt"
	"reflect"
	"slices"
)

// What may be kept of a second.
const (
	keepNothing = "nothing"
	keepKeys    = "keys"
	keepView    = "view"
	keepRecord  = "record"
)

// What may happen, in the order of their bits.
var causes = []string{motion, cameraEvent, contact, call}

const (
	motion      = "motion"
	cameraEvent = "camera"
	contact     = "contact"
	call        = "call"
)

// plan says what a channel keeps in each half hour of a week, Monday first: the place of its mode, a
// figure.
type plan struct {
	Modes []mode    `json:"modes"`
	Week  [7]string `json:"week"`
}

type mode struct {
	Name   string   `json:"name"`
	Idle   string   `json:"idle"`
	Event  string   `json:"event"`
	Causes []string `json:"causes"`
	Lead   int      `json:"lead"` // seconds
	Tail   int      `json:"tail"` // seconds
}

// check says why it takes no such plan; empty: it does.
func (p plan) check() string {
	if len(p.Modes) < 1 || len(p.Modes) > 4 {
		return "a plan has 1 to 4 modes"
	}
	keeps := []string{keepNothing, keepKeys, keepView, keepRecord}
	for _, m := range p.Modes {
		switch {
		case m.Name == "" || len(m.Name) > 24:
			return "a mode has a name of at most 24 characters"
		case !slices.Contains(keeps, m.Idle) || !slices.Contains(keeps, m.Event):
			return m.Name + ": it keeps nothing, keys, view or record"
		case m.Lead < 0 || m.Lead > 60 || m.Tail < 0 || m.Tail > 600:
			return m.Name + ": lead is 0 to 60 s, tail 0 to 600 s"
		case slices.ContainsFunc(m.Causes, func(c string) bool { return !slices.Contains(causes, c) }):
			return m.Name + ": causes are motion, camera, contact and call"
		}
	}
	for _, day := range p.Week {
		if len(day) != 48 {
			return "a day has 48 half hours"
		}
		for _, place := range []byte(day) {
			if place < '0' || int(place-'0') >= len(p.Modes) {
				return fmt.Sprintf("there are modes 0 to %d", len(p.Modes)-1)
			}
		}
	}
	return ""
}

// at is the mode of a half hour; day 0 is Monday.
func (p plan) at(day, half int) mode { return p.Modes[p.Week[day][half]-'0'] }

// uses says whether it keeps that in any half hour.
func (p plan) uses(what string) bool {
	for day := range p.Week {
		for half := range p.Week[day] {
			if m := p.at(day, half); m.Idle == what || m.Event == what {
				return true
			}
		}
	}
	return false
}

// asOther says whether both keep the same in each half hour, whatever their modes are called.
func (p plan) asOther(q plan) bool {
	for day := range p.Week {
		for half := range p.Week[day] {
			a, b := p.at(day, half), q.at(day, half)
			a.Name, b.Name = "", ""
			if len(a.Causes)+len(b.Causes) == 0 {
				a.Causes, b.Causes = nil, nil
			}
			if !reflect.DeepEqual(a, b) {
				return false
			}
		}
	}
	return true
}
