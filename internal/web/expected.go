package web

import (
	"bytes"
	"context"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"maps"
	"net/http"
	"slices"
	"strconv"
	"strings"

	"github.com/labstack/echo/v5"
	"github.com/xuri/excelize/v2"

	"duskyharbor/internal/core/expected"
	"duskyharbor/internal/store"
)

const (
	maxUpload = 4 << 20  // bytes of a file
	maxUnzip  = 32 << 20 // bytes of a workbook, unzipped
)

// expectedData is the expected list: what is uploaded and not taken yet, as it would be
// understood.
type expectedData struct {
	Expected int
	Name     string // of the file; empty: none is uploaded
	Head     []string
	Fields   []fieldChoice
	Rows     []expected.Row // the first ones
	Taken    int
	Messages []expected.Message
	Bad      int
	NoPlace  bool
}

// fieldChoice is a field with the column it is read from; −1: from none.
type fieldChoice struct {
	Field  expected.Field
	Column int
}

// Name is the field as people write it.
func (f fieldChoice) Name() string {
	if f.Field == expected.MAC {
		return "MAC"
	}
	return strings.ToUpper(string(f.Field)[:1]) + string(f.Field)[1:]
}

const (
	previewRows     = 8
	previewMessages = 100
)

func (s *Server) expectedPage(ctx context.Context, p *scenePage) (string, error) {
	p.Title = "Expected list"
	known, err := s.store.Expected(ctx, p.Site.ID)
	if err != nil {
		return "", err
	}
	d := expectedData{Expected: len(known)}
	p.Data = &d
	u, err := s.store.Upload(ctx, p.Site.ID, p.Me.ID)
	if errors.Is(err, store.ErrNotFound) {
		return "expected", nil
	}
	if err != nil {
		return "", err
	}
	recorders, err := s.recorderNames(ctx, p.Site.ID)
	if err != nil {
		return "", err
	}
	m := mappingOf(u.Lines.Head, p.URL.Query().Get)
	rows, messages := expected.Read(u.Lines, m, slices.Collect(maps.Keys(recorders)))
	d.Name, d.Head, d.Taken, d.Bad = u.Name, u.Lines.Head, len(rows), len(messages)
	d.Rows, d.Messages = rows[:min(len(rows), previewRows)], messages[:min(len(messages), previewMessages)]
	for _, f := range expected.Fields() {
		i, ok := m[f]
		if !ok {
			i = -1
		}
		d.Fields = append(d.Fields, fieldChoice{f, i})
	}
	_, place := m[expected.Place]
	d.NoPlace = !place
	return "expected", nil
}

// mappingOf is the mapping that a person chose, field by field, and what the heading
// says where none was.
func mappingOf(head []string, chosen func(string) string) expected.Mapping {
	m := expected.Map(head)
	for _, f := range expected.Fields() {
		switch v := chosen("col-" + string(f)); v {
		case "":
		case "none":
			delete(m, f)
		default:
			if i, err := strconv.Atoi(v); err == nil && i >= 0 && i < len(head) {
				m[f] = i
			}
		}
	}
	return m
}

func (s *Server) recorderNames(ctx context.Context, site int64) (map[string]int64, error) {
	sc, err := s.store.ReadSite(ctx, site, []int64{})
	out := map[string]int64{}
	for _, d := range sc.Devices {
		out[d.Place] = d.ID
	}
	return out, err
}

// upload keeps a file's lines for the preview; nothing of the site changes.
func (s *Server) upload(c *echo.Context) error {
	ctx, me := c.Request().Context(), whoIs(c)
	h, err := c.FormFile("list")
	if err != nil {
		return s.back(c, "Choose a CSV or XLSX file first.")
	}
	if h.Size > maxUpload {
		return s.back(c, fmt.Sprintf("%.60s is larger than %d MB: a list of cameras isn't.", h.Filename, maxUpload>>20))
	}
	f, err := h.Open()
	if err != nil {
		return err
	}
	defer f.Close()
	data, err := io.ReadAll(io.LimitReader(f, maxUpload+1))
	if err != nil {
		return err
	}
	t, err := tableOf(data)
	if err != nil {
		return s.back(c, fmt.Sprintf("%.60s can't be taken: %v.", h.Filename, err))
	}
	if err := s.store.KeepUpload(ctx, me.member.ID, me.person.ID, fileName(h.Filename), t); err != nil {
		return err
	}
	return s.back(c, "")
}

// fileName is what is kept of an uploaded file's name: at most 100 bytes of whole
// characters that can be shown.
func fileName(name string) string {
	name = strings.ReplaceAll(name[:min(len(name), 100)], "\x00", "")
	return strings.ToValidUTF8(name, "")
}

// tableOf reads a workbook's first sheet, or CSV.
func tableOf(data []byte) (expected.Table, error) {
	if !bytes.HasPrefix(data, []byte("PK\x03\x04")) {
		return expected.ParseCSV(data)
	}
	book, err := excelize.OpenReader(bytes.NewReader(data), excelize.Options{UnzipSizeLimit: maxUnzip, UnzipXMLSizeLimit: maxUnzip})
	if err != nil {
		return expected.Table{}, errors.New("it is no workbook (XLSX) of a usual size")
	}
	defer book.Close()
	sheets := book.GetSheetList()
	if len(sheets) == 0 {
		return expected.Table{}, expected.ErrEmpty
	}
	rows, err := book.Rows(sheets[0])
	if err != nil {
		return expected.Table{}, errors.New("its first sheet can't be read")
	}
	defer rows.Close()
	var cells [][]string
	for rows.Next() {
		line, err := rows.Columns()
		if err != nil {
			return expected.Table{}, errors.New("its first sheet can't be read")
		}
		if cells = append(cells, line); len(cells) > 2*expected.MaxLines {
			return expected.Table{}, expected.ErrTooLong
		}
	}
	return expected.FromCells(cells)
}

// takeList writes the lines that can be taken.
func (s *Server) takeList(c *echo.Context) error {
	ctx, me := c.Request().Context(), whoIs(c)
	u, err := s.store.Upload(ctx, me.member.ID, me.person.ID)
	if errors.Is(err, store.ErrNotFound) {
		return s.back(c, "That list is gone: upload it again.")
	}
	if err != nil {
		return err
	}
	recorders, err := s.recorderNames(ctx, me.member.ID)
	if err != nil {
		return err
	}
	rows, messages := expected.Read(u.Lines, mappingOf(u.Lines.Head, c.FormValue), slices.Collect(maps.Keys(recorders)))
	if len(rows) == 0 {
		return s.back(c, "No line of it can be taken: see what each one lacks.")
	}
	added, changed, touched, err := s.store.Expect(ctx, me.member.ID, rows, recorders)
	if err != nil {
		return err
	}
	if err := s.office.Judge(ctx, me.member.ID, touched); err != nil {
		return err
	}
	if err := s.store.DropUpload(ctx, me.member.ID, me.person.ID); err != nil {
		return err
	}
	says := fmt.Sprintf("%s: %s new, %s known", u.Name, plural(added, "camera"), plural(changed, "camera"))
	if len(messages) > 0 {
		says += fmt.Sprintf("; %s left out", plural(len(messages), "line"))
	}
	if err := s.deed(ctx, me, "took an expected list", says); err != nil {
		return err
	}
	return s.back(c, says+".")
}

func (s *Server) dropList(c *echo.Context) error {
	if err := s.store.DropUpload(c.Request().Context(), whoIs(c).member.ID, whoIs(c).person.ID); err != nil {
		return err
	}
	return s.back(c, "")
}

// exportExpected sends the expected list in the shape that is taken.
func (s *Server) exportExpected(c *echo.Context) error {
	rows, err := s.store.Expected(c.Request().Context(), whoIs(c).member.ID)
	if err != nil {
		return err
	}
	cells := expected.Cells(rows)
	h := c.Response().Header()
	h.Set("Cache-Control", "no-store")
	switch c.Param("form") {
	case "csv":
		h.Set("Content-Disposition", `attachment; filename="expected.csv"`)
		h.Set("Content-Type", "text/csv; charset=utf-8")
		w := csv.NewWriter(c.Response())
		return w.WriteAll(cells)
	case "xlsx":
		h.Set("Content-Disposition", `attachment; filename="expected.xlsx"`)
		h.Set("Content-Type", "application/vnd.openxmlformats-officedocument.spreadsheetml.sheet")
		return writeBook(c.Response(), cells)
	}
	return store.ErrNotFound
}

func writeBook(w http.ResponseWriter, cells [][]string) error {
	book := excelize.NewFile()
	defer book.Close()
	sheet, err := book.NewStreamWriter("Sheet1")
	if err != nil {
		return err
	}
	for i, line := range cells {
		values := make([]any, len(line))
		for j, v := range line {
			values[j] = v // marked as in CSV: a workbook is saved as one soon enough
		}
		if err := sheet.SetRow(fmt.Sprintf("A%d", i+1), values); err != nil {
			return err
		}
	}
	if err := sheet.Flush(); err != nil {
		return err
	}
	return book.Write(w)
}
