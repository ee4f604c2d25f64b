package channel

import (
	"net/netip"
	"strconv"
	"strings"
	"unicode/utf8"

	"duskyharbor/internal/core/trouble"
)

// TableLine is one channel of a recorder's table as a person typed it.
type TableLine struct {
	Line    int // in the text, from 1
	Number  int
	Name    string
	Address netip.Addr
}

// maxTyped is how many lines of a table are taken, and maxTypedName how long a name may be.
const (
	maxTyped     = 256
	maxTypedName = 64
)

// ParseTable reads a channel table that a person typed or pasted: a line a channel, with its number, its
// name and the camera's address, divided by semicolons, tabs or commas. Empty lines, and a first line
// that is a heading, are passed over. Its error is told to people, and names the line.
func ParseTable(text string) ([]TableLine, error) {
	var out []TableLine
	seen := map[int]int{}
	for i, line := range strings.Split(strings.ReplaceAll(text, "\r", ""), "\n") {
		if strings.TrimSpace(line) == "" {
			continue
		}
		cells := cellsOf(line)
		number, err := strconv.Atoi(cells[0])
		if err != nil && len(out) == 0 && len(seen) == 0 && !strings.ContainsAny(cells[0], "0123456789") {
			continue // a heading
		}
		if err != nil || number < 1 || number > maxTyped || len(cells) != 3 {
			return nil, trouble.UserErrorf("Line %d: write number; name; address, as 3; Slipway; 192.0.2.11. Channels are 1 to %d.", i+1, maxTyped)
		}
		at, err := netip.ParseAddr(cells[2])
		if err != nil || at.Zone() != "" {
			return nil, trouble.UserErrorf("Line %d: %.60q is no address.", i+1, cells[2])
		}
		if n := utf8.RuneCountInString(cells[1]); cells[1] == "" || n > maxTypedName || !utf8.ValidString(cells[1]) {
			return nil, trouble.UserErrorf("Line %d: a name has 1 to %d characters.", i+1, maxTypedName)
		}
		if first, twice := seen[number]; twice {
			return nil, trouble.UserErrorf("Line %d: channel %d stands in line %d already.", i+1, number, first)
		}
		seen[number] = i + 1
		out = append(out, TableLine{i + 1, number, cells[1], at.Unmap()})
	}
	if len(out) == 0 {
		return nil, trouble.UserError("Type at least one channel: number; name; address.")
	}
	return out, nil
}

// cellsOf splits a line at the divider that it has: a comma is one only where there is no other.
func cellsOf(line string) []string {
	divider := ","
	for _, d := range []string{";", "\t"} {
		if strings.Contains(line, d) {
			divider = d
			break
		}
	}
	cells := strings.Split(line, divider)
	for i := range cells {
		cells[i] = strings.TrimSpace(cells[i])
	}
	return cells
}
