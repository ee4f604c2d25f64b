package web

import (
	"fmt"
	"html/template"
	"net/url"
	"strconv"
	"strings"
	"time"

	"duskyharbor/internal/core/scene"
	"duskyharbor/internal/core/stage"
	"duskyharbor/internal/core/stream"
	"duskyharbor/internal/core/topic"
	"duskyharbor/internal/store"
)

type scenePoint = scene.Point

func (s *Server) funcs() template.FuncMap {
	return template.FuncMap{
		"static": func(name string) string { return "/static/" + s.version + "/" + name },
		"ago":    ago,
		"at": func(t time.Time, z *time.Location) string {
			if t.IsZero() {
				return ""
			}
			return t.In(z).Format("02 Jan 15:04:05")
		},
		"clock": func(t time.Time, z *time.Location) string { return t.In(z).Format("15:04") },
		"offset": func(t time.Time, z *time.Location) string {
			_, sec := t.In(z).Zone()
			if sec == 0 {
				return "UTC+0"
			}
			return fmt.Sprintf("UTC%+d", sec/3600)
		},
		"plural": plural,
		"f1":     func(v float64) string { return strconv.FormatFloat(v, 'f', 1, 64) },
		"add":    func(a, b float64) float64 { return a + b },
		"half":   func(v float64) float64 { return v / 2 },
		"short":  topic.Short,
		"bare":   func(m stage.Mark) stage.Mark { m.Words = ""; return m },
		"inc":    func(a int) int { return a + 1 },
		"mul":    func(a, b int) int { return a * b },
		"stages": stage.All,
		"pretty": stream.Pretty,
		"others": func() []struct{ Slug, Name string } {
			return []struct{ Slug, Name string }{{"sightings", "Sightings"}, {"log", "Log"}, {"settings", "Settings"}}
		},
		"thousands": stage.Thousands,
		"cells":     cells,
		"left":      timeLeft,
		"changeClass": func(c store.Change) string {
			switch {
			case c.State == store.Verified:
				return "t-ready"
			case c.Open() || c.State == store.Undoing:
				return "t-working"
			case c.State == store.Undone:
				return "t-notyet"
			}
			return "t-blocked"
		},
		"dict": func(kv ...any) map[string]any {
			m := map[string]any{}
			for i := 0; i+1 < len(kv); i += 2 {
				m[kv[i].(string)] = kv[i+1]
			}
			return m
		},
	}
}

// ago is how old a reading is, in the shortest plain form.
func ago(now, t time.Time) string {
	if t.IsZero() {
		return ""
	}
	d := now.Sub(t)
	switch {
	case d < 2*time.Second:
		return "just now"
	case d < time.Minute:
		return fmt.Sprintf("%d s ago", int(d.Seconds()))
	case d < time.Hour:
		return fmt.Sprintf("%d min ago", int(d.Minutes()))
	case d < 48*time.Hour:
		return fmt.Sprintf("%d h ago", int(d.Hours()))
	}
	return fmt.Sprintf("%d days ago", int(d.Hours()/24))
}

// timeLeft says how long a run still takes, from how long it took so far; empty
// while that can't be told.
func timeLeft(now time.Time, r store.Run) string {
	done := r.Total - r.Left()
	took := now.Sub(r.StartedAt)
	if r.EndedAt != nil || done < 5 || took < 3*time.Second {
		return ""
	}
	d := time.Duration(float64(took) / float64(done) * float64(r.Left()))
	if d < time.Minute {
		return fmt.Sprintf("about %d s more", int(d.Seconds())+1)
	}
	return fmt.Sprintf("about %d min more", int(d.Minutes())+1)
}

// cells writes the Board's rows: the one part of a page that is large, and so is
// written without a template. Whatever a device said is escaped.
func cells(b base, rows []row) template.HTML {
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
