// Package inventory lists what is known of cameras, a row a view, in the columns that a person chose.
package inventory

import (
	"fmt"
	"slices"
	"strings"

	"duskyharbor/internal/core/expected"
)

// Item is one view with what is known of it. What isn't known is empty.
type Item struct {
	Place, Make, Model string
	Address, MAC, UUID string
	Serial, Firmware   string
	Recorder           string   // that holds it, else the one that it is planned for
	Channel            int      // 0: it is on none
	Planned            bool     // Recorder is a wish, not what is
	Stream             string   // the record stream, as it declares itself
	Words              []string // of what is wrong, a few each
	Sentences          []string // what is wrong
}

// Column is one that may be chosen.
type Column struct {
	Key, Title string
	Asked      bool // it is there only where it was asked for
	of         func(Item) string
}

// columns in their order.
var columns = []Column{
	{Key: "place", Title: "Place", of: func(x Item) string { return x.Place }},
	{Key: "address", Title: "Address", of: func(x Item) string { return x.Address }},
	{Key: "mac", Title: "MAC", of: func(x Item) string { return x.MAC }},
	{Key: "make", Title: "Make", of: func(x Item) string { return x.Make }},
	{Key: "model", Title: "Model", of: func(x Item) string { return x.Model }},
	{Key: "serial", Title: "Serial", of: func(x Item) string { return x.Serial }},
	{Key: "firmware", Title: "Firmware", of: func(x Item) string { return x.Firmware }},
	{Key: "uuid", Title: "Endpoint", Asked: true, of: func(x Item) string { return x.UUID }},
	{Key: "recorder", Title: "Recorder", of: Item.recorder},
	{Key: "channel", Title: "Channel", of: func(x Item) string {
		if x.Channel == 0 {
			return ""
		}
		return fmt.Sprint(x.Channel)
	}},
	{Key: "stream", Title: "Record stream", Asked: true, of: func(x Item) string { return x.Stream }},
	{Key: "findings", Title: "Findings", of: func(x Item) string { return strings.Join(x.Words, " · ") }},
	{Key: "sentences", Title: "In full", Asked: true, of: func(x Item) string { return strings.Join(x.Sentences, " ") }},
}

func (x Item) recorder() string {
	if x.Planned && x.Recorder != "" {
		return x.Recorder + " (planned)"
	}
	return x.Recorder
}

// Columns are those that may be chosen, in their order.
func Columns() []Column { return slices.Clone(columns) }

// Chosen are the columns with these keys, in their own order; the usual ones where none of them is one.
func Chosen(keys []string) []Column {
	out := slices.DeleteFunc(Columns(), func(c Column) bool { return !slices.Contains(keys, c.Key) })
	if len(out) == 0 {
		return slices.DeleteFunc(Columns(), func(c Column) bool { return c.Asked })
	}
	return out
}

// Rows are what the columns tell, a row an item.
func Rows(items []Item, of []Column) [][]string {
	out := make([][]string, len(items))
	for i, x := range items {
		row := make([]string, len(of))
		for j, c := range of {
			row[j] = c.of(x)
		}
		out[i] = row
	}
	return out
}

// Cells are a heading and Rows, for a file: a cell that a spreadsheet would take for a formula is marked as text, see
// expected.Plain.
func Cells(items []Item, of []Column) [][]string {
	head := make([]string, len(of))
	for i, c := range of {
		head[i] = c.Title
	}
	rows := Rows(items, of)
	for _, row := range rows {
		for i := range row {
			row[i] = expected.Plain(row[i])
		}
	}
	return append([][]string{head}, rows...)
}
