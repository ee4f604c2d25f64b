// Package expected reads the list of cameras that a site expects, as spreadsheets
// write it, and says of each line that can't be taken what is wrong with it. It
// writes the same shape, so that what is written and read again is the same.
package expected

import (
	"bytes"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"strings"
	"unicode/utf16"
	"unicode/utf8"
)

// Limits of a list.
const (
	MaxLines   = 20_000
	MaxColumns = 64
	maxCell    = 200 // characters
)

// Errors of a whole list.
var (
	ErrEmpty   = errors.New("there is no line in it, or only its heading")
	ErrNotText = errors.New("it is no text that a spreadsheet writes (CSV in UTF-8, UTF-16 or Windows-1252)")
	ErrTooLong = errors.New("it has more than 20,000 lines")
)

// Table is a list as its cells, before anything is understood.
type Table struct {
	Head  []string
	Lines []Line
}

// Line is one line of cells with its number as the spreadsheet shows it, from 1.
type Line struct {
	Number int
	Cells  []string
}

// ParseCSV reads a list in any of the encodings and separators that spreadsheets
// write: UTF-8 with or without a byte order mark, UTF-16 with one, Windows-1252;
// comma, semicolon, tab or bar, told by the heading; a first line "sep=;" names it.
// Lines without a filled cell are left out and still counted. ErrEmpty comes with the heading
// where there is one.
func ParseCSV(data []byte) (Table, error) {
	text, err := decode(data)
	if err != nil {
		return Table{}, err
	}
	if !strings.Contains(text, "\n") { // as spreadsheets of the past end lines
		text = strings.ReplaceAll(text, "\r", "\n")
	}
	first, rest, _ := strings.Cut(text, "\n")
	skipped := 0
	sep := rune(0)
	if s, ok := strings.CutPrefix(strings.TrimSpace(first), "sep="); ok && utf8.RuneCountInString(s) <= 1 {
		sep, _ = utf8.DecodeRuneInString(s + "\t")
		text, skipped = rest, 1
	}
	if sep == 0 {
		sep = separator(text)
	}
	if line := unclosed(text, sep); line > 0 {
		return Table{}, UnclosedError{line + skipped}
	}
	r := csv.NewReader(strings.NewReader(text))
	r.Comma, r.FieldsPerRecord, r.LazyQuotes, r.ReuseRecord = sep, -1, true, true
	var t Table
	for {
		cells, err := r.Read()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return Table{}, ErrNotText
		}
		line, _ := r.FieldPos(0)
		if err := t.add(line+skipped, cells); err != nil {
			return Table{}, err
		}
	}
	if len(t.Lines) == 0 {
		return Table{Head: t.Head}, ErrEmpty
	}
	return t, nil
}

// FromCells makes a table of the rows of a worksheet.
func FromCells(rows [][]string) (Table, error) {
	var t Table
	for i, cells := range rows {
		if err := t.add(i+1, cells); err != nil {
			return Table{}, err
		}
	}
	if len(t.Lines) == 0 {
		return Table{}, ErrEmpty
	}
	return t, nil
}

func (t *Table) add(number int, cells []string) error {
	clean := make([]string, 0, min(len(cells), MaxColumns))
	filled := false
	for _, c := range cells[:min(len(cells), MaxColumns)] {
		c = tidy(c)
		filled = filled || c != ""
		clean = append(clean, c)
	}
	switch {
	case !filled:
	case t.Head == nil:
		t.Head = clean
	case len(t.Lines) >= MaxLines:
		return ErrTooLong
	default:
		t.Lines = append(t.Lines, Line{number, clean})
	}
	return nil
}

// tidy cuts a cell to its text: no control characters, no outer or unbreakable
// spaces, and without the mark that keeps a spreadsheet from taking it for a formula.
func tidy(s string) string {
	s = strings.Map(func(r rune) rune {
		switch {
		case r == '\u00a0', r == '\t', r == '\n', r == '\r':
			return ' '
		case r < 0x20, r == 0x7f, r == utf8.RuneError, r >= 0x202a && r <= 0x202e, r >= 0x2066 && r <= 0x2069, r == '\ufeff':
			return -1
		}
		return r
	}, s)
	s = strings.TrimSpace(s)
	if len(s) > 1 && s[0] == '\'' && strings.ContainsRune("=+-@", rune(s[1])) {
		s = s[1:]
	}
	return s
}

func decode(data []byte) (string, error) {
	switch {
	case bytes.HasPrefix(data, []byte{0xef, 0xbb, 0xbf}):
		data = data[3:]
	case bytes.HasPrefix(data, []byte{0xff, 0xfe}), bytes.HasPrefix(data, []byte{0xfe, 0xff}):
		return wide(data)
	}
	if bytes.IndexByte(data, 0) >= 0 {
		return "", ErrNotText
	}
	if utf8.Valid(data) {
		return string(data), nil
	}
	var b strings.Builder
	for _, c := range data {
		b.WriteRune(windows1252(c))
	}
	return b.String(), nil
}

func wide(data []byte) (string, error) {
	if len(data)%2 != 0 {
		return "", ErrNotText
	}
	units := make([]uint16, 0, len(data)/2)
	for i := 2; i < len(data); i += 2 {
		if data[0] == 0xff {
			units = append(units, uint16(data[i])|uint16(data[i+1])<<8)
		} else {
			units = append(units, uint16(data[i+1])|uint16(data[i])<<8)
		}
	}
	return string(utf16.Decode(units)), nil
}

// windows1252 is the code page that older spreadsheets write; it differs from Latin-1
// in 0x80 to 0x9f.
func windows1252(c byte) rune {
	const high = "€\u0081‚ƒ„…†‡ˆ‰Š‹Œ\u008dŽ\u008f\u0090‘’“”•–—˜™š›œ\u009džŸ"
	if c < 0x80 || c > 0x9f {
		return rune(c)
	}
	return []rune(high)[c-0x80]
}

// UnclosedError says that a quote is never closed: all that follows would be one cell.
type UnclosedError struct{ Line int } // where it opens, from 1

func (e UnclosedError) Error() string {
	return fmt.Sprintf("a quote that opens in line %d is never closed: close it, or take it out", e.Line)
}

// unclosed is the line, from 1, where a quoted cell begins that the text ends in; 0: none does.
// A quote inside a cell that isn't at its end is text, as the reader takes it too.
func unclosed(text string, sep rune) int {
	line, opened, start := 1, 0, true // start: at the beginning of a cell
	all := []rune(text)
	for i := 0; i < len(all); i++ {
		r := all[i]
		switch {
		case opened == 0 && start && r == '"':
			opened = line
		case opened > 0 && r == '"':
			next := '\n'
			if i+1 < len(all) {
				next = all[i+1]
			}
			if next == '"' {
				i++
			} else if next == sep || next == '\n' || next == '\r' {
				opened = 0
			}
		}
		start = opened == 0 && (r == sep || r == '\n')
		if r == '\n' {
			line++
		}
	}
	return opened
}

// separator is what cuts the heading into most columns, outside quotes; a heading may have
// breaks inside of them.
func separator(text string) rune {
	best, most := ',', 0
	for _, sep := range []rune{',', ';', '\t', '|'} {
		n, quoted := 0, false
		for _, r := range text {
			if r == '"' {
				quoted = !quoted
			}
			if r == '\n' && !quoted {
				break
			}
			if r == sep && !quoted {
				n++
			}
		}
		if n > most {
			best, most = sep, n
		}
	}
	return best
}
