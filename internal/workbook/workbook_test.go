package workbook

import (
	"archive/zip"
	"bytes"
	"errors"
	"io"
	"strings"
	"testing"

	"duskyharbor/internal/core/expected"
)

// book is a workbook of one sheet.
func book(t testing.TB, parts map[string]string) []byte {
	t.Helper()
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	for name, text := range parts {
		w, err := z.Create(name)
		if err != nil {
			t.Fatal(err)
		}
		if _, err := io.WriteString(w, text); err != nil {
			t.Fatal(err)
		}
	}
	if err := z.Close(); err != nil {
		t.Fatal(err)
	}
	return b.Bytes()
}

func TestAWorkbookIsCheckedBeforeARowIsBuilt(t *testing.T) {
	sheet := func(cells string) map[string]string {
		return map[string]string{"xl/worksheets/sheet1.xml": `<worksheet><sheetData><row r="1">` + cells + `</row></sheetData></worksheet>`, "xl/workbook.xml": "<workbook/>"}
	}
	for name, x := range map[string]struct {
		data []byte
		want error
	}{
		"a list":                     {book(t, sheet(`<c r="A1"/><c r="G1"/>`)), nil},
		"the last column":            {book(t, sheet(`<c r="BL1"/>`)), nil},
		"one beyond":                 {book(t, sheet(`<c r="BM1"/>`)), ErrWide},
		"the last there is":          {book(t, sheet(`<c r="XFD1"/>`)), ErrWide},
		"none named, 64":             {book(t, sheet(strings.Repeat(`<c/>`, 64))), nil},
		"none named, 65":             {book(t, sheet(strings.Repeat(`<c/>`, 65))), ErrWide},
		"a name that is none":        {book(t, sheet(`<c r="7"/>`)), ErrWide},
		"in another sheet":           {book(t, map[string]string{"xl/worksheets/sheet9.xml": `<worksheet><row><c r="ZZZ1"/></row></worksheet>`}), ErrWide},
		"more cells than a list has": {book(t, sheet(strings.Repeat(`</row><row><c/>`, MaxCells+1))), expected.ErrTooLong},
		"much of nothing":            {book(t, map[string]string{"xl/media/x": strings.Repeat("0", MaxUnpacked+1)}), ErrWorkbook},
		"a sheet cut short":          {book(t, map[string]string{"xl/worksheets/sheet1.xml": `<worksheet><row><c r="A`}), ErrWorkbook},
		"no archive":                 {[]byte("PK\x03\x04 and no more"), ErrWorkbook},
		"nothing":                    {nil, ErrWorkbook},
	} {
		if err := Check(x.data); !errors.Is(err, x.want) || (x.want == nil) != (err == nil) {
			t.Errorf("%s: %v, want %v", name, err, x.want)
		}
	}
	if !strings.Contains(ErrWide.Error(), "BL, the 64th") {
		t.Error(ErrWide)
	}
	for cell, want := range map[string]int{"A1": 1, "Z9": 26, "AA1": 27, "BL7": 64, "XFD1048576": 16384, "": 1 << 20, "1A": 1 << 20, "a1": 1 << 20} {
		if got := columnOf(cell); got != want {
			t.Errorf("%s is column %d, want %d", cell, got, want)
		}
	}
}

func FuzzCheck(f *testing.F) {
	f.Add(book(f, map[string]string{"xl/worksheets/sheet1.xml": `<worksheet><row><c r="A1"/></row></worksheet>`}))
	f.Fuzz(func(_ *testing.T, data []byte) { _ = Check(data) })
}
