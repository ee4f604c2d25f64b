package expected

import (
	"fmt"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"unicode"
	"unicode/utf8"

	"duskyharbor/internal/core/identity"
	"duskyharbor/internal/core/netplan"
)

// Field of a camera that the list may give.
type Field string

const (
	Place    Field = "place"
	Address  Field = "address"
	MAC      Field = "mac"
	Make     Field = "make"
	Model    Field = "model"
	Recorder Field = "recorder"
	Channel  Field = "channel"
	Input    Field = "input"
)

// Fields lists them in the order in which they are written.
func Fields() []Field { return []Field{Place, Address, MAC, Make, Model, Recorder, Channel, Input} }

// names are what columns are called, besides the field's own name.
var names = map[Field][]string{
	Place:    {"location", "camera", "camera name", "name", "position", "where"},
	Address:  {"ip", "ip address", "ipv4", "host", "camera ip"},
	MAC:      {"mac address", "hardware address", "physical address", "ethernet"},
	Make:     {"manufacturer", "maker", "brand", "vendor"},
	Model:    {"model number", "type", "product"},
	Recorder: {"recorder name", "nvr", "records on", "server"},
	Channel:  {"ch", "channel number", "channel no", "slot"},
	Input:    {"video input", "input number", "input no", "video source", "view", "sensor"},
}

// Mapping says in which column, from 0, each field stands; a field that isn't in it
// isn't in the list.
type Mapping map[Field]int

// Map guesses the mapping from the heading: each column is given to at most one field,
// each field the first column of its name.
func Map(head []string) Mapping {
	m := Mapping{}
	taken := map[int]bool{}
	for _, f := range Fields() {
		for _, want := range append([]string{string(f)}, names[f]...) {
			i := slices.IndexFunc(head, func(h string) bool { return plain(h) == want })
			if i >= 0 && !taken[i] {
				m[f], taken[i] = i, true
				break
			}
		}
	}
	return m
}

// Choose is the mapping that somebody chose, field by field: a column of the heading counted from 0, "none" for
// none, and what Map guesses where nothing, or no such column, was said.
func Choose(head []string, chosen map[Field]string) Mapping {
	m := Map(head)
	for _, f := range Fields() {
		if chosen[f] == "none" {
			delete(m, f)
		} else if i, err := strconv.Atoi(chosen[f]); err == nil && i >= 0 && i < len(head) {
			m[f] = i
		}
	}
	return m
}

// plain is a heading in lower case, with single spaces for whatever isn't a letter or
// a digit.
func plain(s string) string {
	return strings.Join(strings.FieldsFunc(strings.ToLower(s), func(r rune) bool { return !unicode.IsLetter(r) && !unicode.IsDigit(r) }), " ")
}

// Row is one camera of the list.
type Row struct {
	Line     int
	Place    string
	Address  netip.Addr // the zero address where the list gives none
	MAC      string     // as identity.CleanMAC writes it
	Make     string
	Model    string
	Recorder string
	Channel  int // 0: any
	// Input is which of its device's video sources it is, from 1 in the device's own order: rows
	// of one address or MAC tell them apart by it. 0: the device has one, or nobody said.
	Input int
	// Source is the view that stands so on a site's list; 0: the row comes from a file.
	Source int64
}

// Message says why a line isn't taken: its number, the field, and a sentence.
type Message struct {
	Line  int
	Field Field
	Says  string
}

// maxChannel and maxInput are the highest numbers that are believed.
const (
	maxChannel = 1024
	maxInput   = 64
)

// Read understands a table. A line is taken whole or not at all, with one message for
// the first thing that is wrong with it. recorders are the names that the site knows;
// case and outer spaces don't matter.
func Read(t Table, m Mapping, recorders []string) ([]Row, []Message) {
	var rows []Row
	var messages []Message
	seen := beside{}
	for _, l := range t.Lines {
		r, bad := parseLine(l, m, recorders)
		if bad == nil {
			bad = seen.add(r)
		}
		if bad != nil {
			bad.Line = l.Number
			messages = append(messages, *bad)
			continue
		}
		rows = append(rows, r)
	}
	return rows, messages
}

func parseLine(l Line, m Mapping, recorders []string) (Row, *Message) {
	cell := func(f Field) string {
		if i, ok := m[f]; ok && i < len(l.Cells) {
			return l.Cells[i]
		}
		return ""
	}
	r := Row{Line: l.Number, Place: cell(Place), Make: cell(Make), Model: cell(Model)}
	if r.Place == "" {
		return r, &Message{Field: Place, Says: "It names no place."}
	}
	for f, s := range map[Field]string{Place: r.Place, Make: r.Make, Model: r.Model} {
		if utf8.RuneCountInString(s) > maxCell {
			return r, &Message{Field: f, Says: fmt.Sprintf("Its %s is longer than %d characters.", f, maxCell)}
		}
	}
	if s := cell(Address); s != "" {
		a, err := netip.ParseAddr(s)
		if err != nil || !a.Is4() || a.IsUnspecified() || a.IsMulticast() || a == netip.AddrFrom4([4]byte{255, 255, 255, 255}) {
			return r, &Message{Field: Address, Says: fmt.Sprintf("%.40q is no IPv4 address of a device.", s)}
		}
		r.Address = a
	}
	if s := cell(MAC); s != "" {
		if r.MAC = identity.CleanMAC(s); r.MAC == "" {
			return r, &Message{Field: MAC, Says: fmt.Sprintf("%.40q is no MAC address.", s)}
		}
	}
	if s := cell(Recorder); s != "" {
		i := slices.IndexFunc(recorders, func(n string) bool { return strings.EqualFold(n, s) })
		if i < 0 {
			return r, &Message{Field: Recorder, Says: fmt.Sprintf("No recorder of this site is called %.60q.", s)}
		}
		r.Recorder = recorders[i]
	}
	for _, x := range []struct {
		field Field
		most  int
		into  *int
	}{{Channel, maxChannel, &r.Channel}, {Input, maxInput, &r.Input}} {
		s := cell(x.field)
		if s == "" {
			continue
		}
		// Spreadsheets write whole numbers as 3.0 too.
		n, err := strconv.Atoi(strings.TrimSuffix(s, ".0"))
		if err != nil || n < 1 || n > x.most {
			return r, &Message{Field: x.field, Says: fmt.Sprintf("%.40q is no %s number from 1 to %d.", s, x.field, x.most)}
		}
		*x.into = n
	}
	return r, nil
}

// MayReach sorts out the rows whose address whoever takes the list may not have dialled.
func MayReach(rows []Row, lead, demo bool) (may []Row, messages []Message) {
	for _, r := range rows {
		if r.Address.IsValid() {
			if why := netplan.Refuses(netip.PrefixFrom(r.Address, 32), lead, demo); why != "" {
				messages = append(messages, Message{Line: r.Line, Field: Address, Says: why})
				continue
			}
		}
		may = append(may, r)
	}
	return may, messages
}

// Headed is a table that was pasted: where its first line is no heading, one is put before it
// that names the fields in their order.
func (t Table) Headed() Table {
	if _, ok := Map(t.Head)[Place]; ok || len(t.Head) == 0 {
		return t
	}
	first := Line{1, t.Head}
	t.Head = nil
	for _, f := range Fields() {
		t.Head = append(t.Head, string(f))
	}
	t.Lines = append([]Line{first}, t.Lines...)
	return t
}

// Cells writes rows with a heading, in the shape that Read takes. What a spreadsheet
// would take for a formula is marked; a number, negative ones too, isn't.
func Cells(rows []Row) [][]string {
	head := make([]string, 0, len(Fields()))
	for _, f := range Fields() {
		head = append(head, string(f))
	}
	out := [][]string{head}
	for _, r := range rows {
		line := []string{r.Place, addressText(r.Address), r.MAC, r.Make, r.Model, r.Recorder, numberText(r.Channel), numberText(r.Input)}
		for i := range line {
			line[i] = Plain(line[i])
		}
		out = append(out, line)
	}
	return out
}

// Plain marks text that a spreadsheet would take for a formula.
func Plain(s string) string {
	if s == "" || !strings.ContainsRune("=+-@\t\r", rune(s[0])) {
		return s
	}
	if _, err := strconv.ParseFloat(s, 64); err == nil {
		return s
	}
	return "'" + s
}
