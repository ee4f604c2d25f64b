package board

import (
	"html/template"
	"net/url"
	"strconv"

	"duskyharbor/internal/core/stage"
	"duskyharbor/internal/web/shell"
)

// cells writes the Board's rows: the one part of a page that is large, and so is
// written without a template.
func cells(b shell.Frame, rows []shell.Row) template.HTML {
	m := &markup{escaped: map[string]string{}}
	m.w.Grow(len(rows) * 2200)
	address := sheetAddress(b)
	for _, r := range rows {
		row(m, b.MayChange, r, address)
	}
	return m.html()
}

// sheetAddress gives the address of a camera's sheet in one stage, zero for none, in the
// window that the page shows.
func sheetAddress(b shell.Frame) func(id string, st stage.Stage) string {
	keep := ""
	if b.Query != "" {
		keep = "&q=" + url.QueryEscape(b.Query)
	}
	for _, key := range []string{"sort", "from"} {
		if v := b.URL.Query().Get(key); v != "" {
			keep += "&" + key + "=" + url.QueryEscape(v)
		}
	}
	path := b.Path("board") + "?sheet="
	return func(id string, st stage.Stage) string {
		if st == 0 {
			return path + id + keep
		}
		return path + id + keep + "&stage=" + st.Slug()
	}
}

func row(m *markup, mayChange bool, r shell.Row, address func(string, stage.Stage) string) {
	id := strconv.FormatInt(r.ID, 10)
	m.open("tr", attr{"data-row", id})
	if mayChange {
		m.open("td", attr{"class", "tick"})
		m.open("input", attr{"type", "checkbox"}, attr{"class", "form-check-input"}, attr{"name", "pick"},
			attr{"form", "act"}, attr{"value", id},
			attr{"aria-label", "Select " + r.Place}, attr{"x-model", "picks"})
		m.end("td")
	}
	m.open("th", attr{"scope", "row"}, attr{"class", "place"}, attr{"title", r.Place})
	m.open("a", attr{"href", address(id, 0)})
	m.text(r.Place)
	m.end("a", "th")
	m.open("td", attr{"class", "soft wide"})
	m.text(r.Device.Make + " " + r.Device.Model)
	m.end("td")
	at := []attr{{"class", "mono at"}}
	if a := r.Address(); a != "" {
		at = append(at, attr{"title", a})
	}
	m.open("td", at...)
	m.open("bdi", attr{"dir", "ltr"})
	m.text(r.Address())
	m.end("bdi", "td")
	for _, st := range stage.All() {
		cell(m, st, r.Mark(st), address(id, st))
	}
	m.end("tr")
}

func cell(m *markup, st stage.Stage, mark stage.Mark, href string) {
	state := string(mark.State)
	m.open("td", attr{"class", "cell"}, attr{"title", st.String() + ": " + mark.Sentence})
	m.open("a", attr{"href", href}, attr{"tabindex", "-1"})
	m.open("span", attr{"class", "m"})
	m.open("svg", attr{"class", "mark " + state}, attr{"role", "img"}, attr{"aria-label", mark.State.Label()})
	m.open("use", attr{"href", "#m-" + state})
	m.end("use", "svg")
	if mark.Words != "" {
		m.open("span", attr{"class", "t-" + state})
		m.text(mark.Words)
		m.end("span")
	}
	m.end("span", "a", "td")
}
