package board

import (
	"duskyharbor/internal/core/stage"
	"duskyharbor/internal/web/shell"
	"html/template"
	"net/url"
	"strconv"
	"strings"
)

// cells writes the Board's rows: the one part of a page that is large, and so is
// written without a template. Whatever a device said is escaped.
func cells(b shell.Frame, rows []shell.Row) template.HTML {
	var w strings.Builder
	w.Grow(len(rows) * 2200)
	// Most cells say one of a few sentences: each is escaped once.
	known := map[string]string{}
	esc := func(s string) string {
		e, ok := known[s]
		if !ok {
			e = template.HTMLEscapeString(s)
			known[s] = e
		}
		return e
	}
	keep := ""
	if b.Query != "" {
		keep = "&amp;q=" + esc(url.QueryEscape(b.Query))
	}
	if b.URL.Query().Get("sort") != "" {
		keep += "&amp;sort=" + esc(url.QueryEscape(b.URL.Query().Get("sort")))
	}
	if b.URL.Query().Get("from") != "" {
		keep += "&amp;from=" + esc(url.QueryEscape(b.URL.Query().Get("from")))
	}
	path := esc(b.Path("board"))
	type column struct {
		stage.Stage
		name, slug string
	}
	stages := make([]column, 0, 10)
	for _, st := range stage.All() {
		stages = append(stages, column{st, st.String(), st.Slug()})
	}
	for _, r := range rows {
		id, place := strconv.FormatInt(r.Device.ID, 10), esc(r.Device.Place)
		w.WriteString(`<tr data-row="` + id + `">`)
		if b.MayChange {
			w.WriteString(`<td class="tick"><input type="checkbox" class="form-check-input" name="pick" form="act" value="` + id + `" aria-label="Select ` + place + `" x-model="picks"></td>`)
		}
		href := path + `?sheet=` + id + keep
		w.WriteString(`<th scope="row" class="place"><a href="` + href + `">` + place + `</a></th><td class="soft wide">` + esc(r.Device.Make+" "+r.Device.Model) + `</td><td class="mono">` + esc(r.Address()) + `</td>`)
		for _, st := range stages {
			m := r.Mark(st.Stage)
			state := esc(string(m.State))
			for _, part := range []string{`<td class="cell" title="`, st.name, `: `, esc(m.Sentence), `"><a href="`, href, `&amp;stage=`, st.slug, `" tabindex="-1"><span class="m"><svg class="mark `, state,
				`" role="img" aria-label="`, esc(m.State.Label()), `"><use href="#m-`, state, `"/></svg>`} {
				w.WriteString(part)
			}
			if m.Words != "" {
				w.WriteString(`<span class="t-` + state + `">` + esc(m.Words) + `</span>`)
			}
			w.WriteString(`</span></a></td>`)
		}
		w.WriteString("</tr>\n")
	}
	return template.HTML(w.String()) // every part above is escaped or our own
}
