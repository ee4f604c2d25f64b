package shell

import (
	"encoding/csv"
	"fmt"
	"net/http"

	"github.com/labstack/echo/v5"
	"github.com/xuri/excelize/v2"

	"duskyharbor/internal/store"
)

// SendTable sends a table as a file called name: as CSV, or as a workbook where form is xlsx. Its cells are marked
// already where a spreadsheet would take them for formulas: a workbook is saved as CSV soon enough.
func SendTable(c *echo.Context, name, form string, cells [][]string) error {
	h := c.Response().Header()
	h.Set("Cache-Control", "no-store")
	h.Set("Content-Disposition", fmt.Sprintf(`attachment; filename="%s.%s"`, name, form))
	switch form {
	case "csv":
		h.Set("Content-Type", "text/csv; charset=utf-8")
		return csv.NewWriter(c.Response()).WriteAll(cells)
	case "xlsx":
		h.Set("Content-Type", "application/vnd.openxmlformats-officedocument.spreadsheetml.sheet")
		return writeBook(c.Response(), cells)
	}
	h.Del("Content-Disposition")
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
			values[j] = v
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
