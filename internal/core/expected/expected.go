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
)

// Fields lists them in the order in which they are written.
func Fields() []Field { return []Field{Place, Address, MAC, Make, Model, Recorder, Channel} }

// names are what columns are called, besides the field's own name.
var names = map[Field][]string{
	Place:    {"location", "camera", "camera name", "name", "position", "where"},
	Address:  {"ip", "ip address", "ipv4", "host", "camera ip"},
	MAC:      {"mac address", "hardware address", "physical address", "ethernet"},
	Make:     {"manufacturer", "maker", "brand", "vendor"},
	Model:    {"model number", "type", "product"},
	Recorder: {"recorder name", "nvr", "records on", "server"},
	Channel:  {"ch", "channel number", "channel no", "slot"},
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
}

// Message says why a line isn't taken: its number, the field, and a sentence.
type Message struct {
	Line  int
	Field Field
	Says  string
}

// MaxChannel is the highest channel number that is believed.
const MaxChannel = 1024

// Read understands a table. A line is taken whole or not at all, with one message for
// the first thing that is wrong with it. recorders are the names that the site knows;
// case and outer spaces don't matter.
func Read(t Table, m Mapping, recorders []string) ([]Row, []Message) {
	var rows []Row
	var messages []Message
	seen := map[Field]map[string]int{Place: {}, Address: {}, MAC: {}}
	for _, l := range t.Lines {
		r, bad := parseLine(l, m, recorders)
		if bad == nil {
			bad = twice(seen, r)
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
		if utf8.RuneCountInString(s) > MaxCell {
			return r, &Message{Field: f, Says: fmt.Sprintf("Its %s is longer than %d characters.", f, MaxCell)}
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
	if s := cell(Channel); s != "" {
		// Spreadsheets write whole numbers as 3.0 too.
		n, err := strconv.Atoi(strings.TrimSuffix(s, ".0"))
		if err != nil || n < 1 || n > MaxChannel {
			return r, &Message{Field: Channel, Says: fmt.Sprintf("%.40q is no channel number from 1 to %d.", s, MaxChannel)}
		}
		r.Channel = n
	}
	return r, nil
}

// Typed is what a row that was typed holds, field by field.
type Typed map[Field]string

// ReadOne understands one row that a person typed, as Read does; others are the list's other
// rows, with which it may share neither place, address nor MAC.
func ReadOne(typed Typed, recorders []string, others []Row) (Row, *Message) {
	var l Line
	m := Mapping{}
	for i, f := range Fields() {
		m[f] = i
		l.Cells = append(l.Cells, tidy(typed[f]))
	}
	r, bad := parseLine(l, m, recorders)
	if bad != nil {
		return r, bad
	}
	for _, o := range others {
		for f, same := range map[Field]bool{Place: strings.EqualFold(o.Place, r.Place), MAC: r.MAC != "" && o.MAC == r.MAC,
			Address: r.Address.IsValid() && o.Address == r.Address} {
			if same {
				return r, &Message{Field: f, Says: fmt.Sprintf("%s has the same %s.", o.Place, f)}
			}
		}
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

// twice says whether a line before has the same place, address or MAC.
func twice(seen map[Field]map[string]int, r Row) *Message {
	keys := map[Field]string{Place: strings.ToLower(r.Place), MAC: r.MAC}
	if r.Address.IsValid() {
		keys[Address] = r.Address.String()
	}
	for _, f := range []Field{Place, Address, MAC} {
		if k := keys[f]; k != "" && seen[f][k] != 0 {
			says := fmt.Sprintf("Line %d has the same %s.", seen[f][k], f)
			if f == Address { // an encoder, or a camera with several sensors
				says += " A device with several inputs stands in the list once: its inputs are picked on Find."
			}
			return &Message{Field: f, Says: says}
		}
	}
	for f, k := range keys {
		if k != "" {
			seen[f][k] = r.Line
		}
	}
	return nil
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
		address, channel := "", ""
		if r.Address.IsValid() {
			address = r.Address.String()
		}
		if r.Channel > 0 {
			channel = strconv.Itoa(r.Channel)
		}
		line := []string{r.Place, address, r.MAC, r.Make, r.Model, r.Recorder, channel}
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
