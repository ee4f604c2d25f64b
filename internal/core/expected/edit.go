package expected

import (
	"fmt"
	"strings"
)

// Entry is a row of the list as it stands: a view of a device.
type Entry struct {
	Row
	ID       int64
	Device   int64
	First    bool // its device's first view, by whose row the device is told
	Expected bool // its device is on the list; one that isn't takes up its place alone
}

// Typed is what a row that was typed holds, field by field.
type Typed map[Field]string

// ReadOne understands one row that a person typed, as Read does, beside the list as it stands.
// edited is the entry that it takes the place of; the zero Entry: none. A row of a further
// view tells of its place and plan alone: address, MAC, make and model are its device's.
func ReadOne(typed Typed, recorders []string, list []Entry, edited Entry) (Row, *Message) {
	further := edited.ID != 0 && !edited.First
	var l Line
	m := Mapping{}
	for i, f := range Fields() {
		m[f] = i
		text := tidy(typed[f])
		if further && (f == Address || f == MAC || f == Make || f == Model) {
			text = ""
		}
		l.Cells = append(l.Cells, text)
	}
	r, bad := parseLine(l, m, recorders)
	if bad != nil {
		return r, bad
	}
	for _, o := range list {
		if o.ID == edited.ID {
			continue
		}
		if bad := clash(o, r, edited.Device); bad != nil {
			return r, bad
		}
	}
	return r, nil
}

// clash says why a row can't stand beside an entry; device is whose entry it takes the place
// of, 0: none. Views of one device differ by their inputs, where those are told. A new row may
// name a further input of a device that is listed; an edited one stays its own device's.
func clash(o Entry, r Row, device int64) *Message {
	if strings.EqualFold(o.Place, r.Place) {
		return &Message{Field: Place, Says: o.Place + " has the same place."}
	}
	if r.sameChannel(o.Row) {
		return &Message{Field: Channel, Says: fmt.Sprintf("%s has channel %d of %s.", o.Place, o.Channel, o.Recorder)}
	}
	if device != 0 && o.Device == device {
		if r.Input > 0 && o.Input == r.Input {
			return &Message{Field: Input, Says: o.Place + " has the same input."}
		}
		return nil
	}
	if !o.Expected {
		return nil
	}
	if device != 0 && r.Address.IsValid() && o.Address == r.Address {
		return &Message{Field: Address, Says: o.Place + " has the same address, and is another device: take one of them off, then add it as an input of the other."}
	}
	if device != 0 && r.MAC != "" && o.MAC == r.MAC {
		return &Message{Field: MAC, Says: o.Place + " has the same mac, and is another device: take one of them off, then add it as an input of the other."}
	}
	return sameDevice(o.Place, o.Row, r)
}

// sameDevice says what is wrong with two rows that give one address or one MAC: who names the
// other one. nil where nothing is: they are of two devices, or of two inputs of one.
func sameDevice(who string, o, r Row) *Message {
	address, mac := r.Address.IsValid() && o.Address == r.Address, r.MAC != "" && o.MAC == r.MAC
	field := Address
	if !address {
		field = MAC
	}
	switch {
	case !address && !mac:
		return nil
	case r.Input == 0 || o.Input == 0:
		return &Message{Field: field, Says: fmt.Sprintf("%s has the same %s. Rows of a device with several inputs name the input of each.", who, field)}
	case r.Input == o.Input:
		return &Message{Field: Input, Says: fmt.Sprintf("%s has the same %s and input.", who, field)}
	case !mac && r.MAC != "" && o.MAC != "":
		return &Message{Field: MAC, Says: fmt.Sprintf("%s gives that address another MAC.", who)}
	case !address && r.Address.IsValid() && o.Address.IsValid():
		return &Message{Field: Address, Says: fmt.Sprintf("%s gives that MAC another address.", who)}
	}
	return nil
}

// sameChannel says whether two rows name one channel of one recorder: a channel shows one view.
func (r Row) sameChannel(o Row) bool {
	return r.Recorder != "" && r.Channel > 0 && r.Recorder == o.Recorder && r.Channel == o.Channel
}

// beside is what lines before gave: those of a place, an address, a MAC or a recorder's channel.
type beside map[string][]Row

// add says what is wrong with a row beside those before it, and where nothing is keeps it for
// those after it.
func (b beside) add(r Row) *Message {
	place := "place " + strings.ToLower(r.Place)
	if had := b[place]; len(had) > 0 {
		return &Message{Field: Place, Says: fmt.Sprintf("Line %d has the same place.", had[0].Line)}
	}
	keys := []string{place}
	channel := fmt.Sprintf("channel %d of %s", r.Channel, r.Recorder)
	if had := b[channel]; len(had) > 0 && r.sameChannel(had[0]) {
		return &Message{Field: Channel, Says: fmt.Sprintf("Line %d has %s.", had[0].Line, channel)}
	}
	for key, has := range map[string]bool{"at " + r.Address.String(): r.Address.IsValid(), "mac " + r.MAC: r.MAC != ""} {
		if has {
			keys = append(keys, key)
		}
	}
	var first *Message
	for _, key := range keys[1:] {
		for _, o := range b[key] {
			if bad := sameDevice(fmt.Sprintf("Line %d", o.Line), o, r); bad != nil && (first == nil || bad.Field == Address) {
				first = bad
			}
		}
	}
	if first == nil {
		for _, key := range append(keys, channel) {
			b[key] = append(b[key], r)
		}
	}
	return first
}
