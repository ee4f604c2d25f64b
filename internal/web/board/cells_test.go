package board

import (
	"net/url"
	"strings"
	"testing"

	"duskyharbor/internal/core/stage"
	"duskyharbor/internal/store"
	"duskyharbor/internal/web/shell"
)

// The Board's rows are written without a template: what a device says stays text.
func TestCellsEscapeWhatDevicesSay(t *testing.T) {
	evil := `"><script>alert(1)</script>`
	u, err := url.Parse("/sites/1/board?q=a%22b&sort=clock")
	if err != nil {
		t.Fatal(err)
	}
	b := shell.Frame{URL: u, Query: `a"b`, MayChange: true}
	r := shell.Row{Source: store.Source{ID: 7, Place: evil, Device: store.Device{Make: evil, Model: evil}},
		Marks: map[stage.Stage]stage.Mark{stage.Clock: {State: stage.State(evil), Words: evil, Sentence: evil}}}
	got := string(cells(b, []shell.Row{r}))
	if strings.Contains(got, "<script") || strings.Contains(got, `"">`) || strings.Count(got,
		"<td class=\"cell\"") != 10 || !strings.Contains(got, "q=a%22b&amp;sort=clock") {
		t.Error(got)
	}
	if a := sheetAddress(b)("7", stage.Clock); a != "/sites/0/board?sheet=7&q=a%22b&sort=clock&stage=clock" {
		t.Error(a)
	}
	if b.MayChange = false; strings.Contains(string(cells(b, []shell.Row{r})), "checkbox") {
		t.Error("a viewer selects")
	}
}
