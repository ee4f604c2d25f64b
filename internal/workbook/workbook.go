// Package workbook reads a list that a person has in a spreadsheet.
package workbook

import (
	"archive/zip"
	"bytes"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"path"
	"strings"

	"github.com/xuri/excelize/v2"

	"duskyharbor/internal/core/expected"
)

// Limits of a workbook, unpacked.
const (
	MaxUnpacked = 32 << 20 // bytes of all its parts
	MaxCells    = 600_000
	maxParts    = 2000
)

// ErrWorkbook is returned for what is no workbook of a usual size.
var ErrWorkbook = errors.New("it is no workbook (XLSX) of a usual size")

var errSheet = errors.New("its first sheet can't be read")

// ErrWide says that a cell stands in a column beyond expected.MaxColumns.
var ErrWide = fmt.Errorf("it has cells in columns beyond %s, the %dth: delete what stands there, and what was only formatted", columnName(expected.MaxColumns), expected.MaxColumns)

// Check says why a workbook (ISO/IEC 29500) can't be read, before any row of it is built: a file
// of a few kilobytes may name cells for which a reader makes room of gigabytes. Its errors are told to
// people.
func Check(data []byte) error {
	z, err := zip.NewReader(bytes.NewReader(data), int64(len(data)))
	if err != nil || len(z.File) > maxParts {
		return ErrWorkbook
	}
	left, cells := int64(MaxUnpacked), MaxCells
	for _, f := range z.File {
		r, err := f.Open()
		if err != nil {
			return ErrWorkbook
		}
		counted := &counter{r: r, left: left}
		if ok, _ := path.Match("xl/worksheets/*.xml", strings.ToLower(f.Name)); ok {
			err = checkSheet(counted, &cells)
		}
		if err == nil { // what follows counts too
			_, err = io.Copy(io.Discard, counted)
		}
		_ = r.Close()
		left = counted.left
		switch {
		case errors.Is(err, ErrWide), errors.Is(err, expected.ErrTooLong):
			return err
		case err != nil || left < 0:
			return ErrWorkbook
		}
	}
	return nil
}

// counter reads no more than is left.
type counter struct {
	r    io.Reader
	left int64
}

var errFull = errors.New("expected: too much")

func (c *counter) Read(p []byte) (int, error) {
	n, err := c.r.Read(p)
	if c.left -= int64(n); c.left < 0 {
		return 0, errFull
	}
	return n, err
}

// checkSheet goes through the cells of a worksheet.
func checkSheet(r io.Reader, cells *int) error {
	d := xml.NewDecoder(r)
	column := 0
	for {
		t, err := d.RawToken()
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return err
		}
		e, ok := t.(xml.StartElement)
		switch {
		case !ok:
			continue
		case e.Name.Local == "row":
			column = 0
			continue
		case e.Name.Local != "c":
			continue
		}
		column++
		for _, a := range e.Attr {
			if a.Name.Local == "r" {
				column = columnOf(a.Value)
			}
		}
		if *cells--; *cells < 0 {
			return expected.ErrTooLong
		}
		if column > expected.MaxColumns {
			return ErrWide
		}
	}
}

// columnOf is the number of a cell's column, "BL7" is 64; what can't be read is beyond all.
func columnOf(cell string) (n int) {
	for _, c := range cell {
		switch {
		case c >= '0' && c <= '9' && n > 0:
			return n
		case c >= 'A' && c <= 'Z' && n < 1<<20:
			n = n*26 + int(c-'A') + 1
		default:
			return 1 << 20
		}
	}
	return 1 << 20
}

// columnName is a column as spreadsheets name it.
func columnName(n int) string {
	name := ""
	for ; n > 0; n = (n - 1) / 26 {
		name = string(rune('A'+(n-1)%26)) + name
	}
	return name
}

// Read reads a workbook's first sheet, or CSV. Its errors are told to people.
func Read(data []byte) (expected.Table, error) {
	if !bytes.HasPrefix(data, []byte("PK\x03\x04")) {
		return expected.ParseCSV(data)
	}
	if err := Check(data); err != nil {
		return expected.Table{}, err
	}
	book, err := excelize.OpenReader(bytes.NewReader(data), excelize.Options{UnzipSizeLimit: MaxUnpacked, UnzipXMLSizeLimit: MaxUnpacked})
	if err != nil {
		return expected.Table{}, ErrWorkbook
	}
	defer book.Close()
	sheets := book.GetSheetList()
	if len(sheets) == 0 {
		return expected.Table{}, expected.ErrEmpty
	}
	rows, err := book.Rows(sheets[0])
	if err != nil {
		return expected.Table{}, errSheet
	}
	defer rows.Close()
	var cells [][]string
	for rows.Next() {
		line, err := rows.Columns()
		if err != nil {
			return expected.Table{}, errSheet
		}
		if cells = append(cells, line); len(cells) > 2*expected.MaxLines {
			return expected.Table{}, expected.ErrTooLong
		}
	}
	return expected.FromCells(cells)
}
