package shell

import (
	"fmt"
	"html/template"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"duskyharbor/internal/core/stage"
	"duskyharbor/internal/core/stream"
	"duskyharbor/internal/core/topic"
	"duskyharbor/internal/store"
)

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
		"plural": Plural,
		// pick is a where cond holds, else b: what an attribute is built of.
		"pick": func(cond any, a, b string) string {
			if is, _ := template.IsTrue(cond); is {
				return a
			}
			return b
		},
		"f1": func(v float64) string { return strconv.FormatFloat(v, 'f', 1, 64) },
		// lengthy says whether texts have more characters than n together.
		"lengthy":   func(n int, all ...string) bool { return utf8.RuneCountInString(strings.Join(all, "")) > n },
		"differing": differing,
		"together":  together,
		"add":       func(a, b float64) float64 { return a + b },
		"half":      func(v float64) float64 { return v / 2 },
		"short":     topic.Short,
		"bare":      func(m stage.Mark) stage.Mark { m.Words = ""; return m },
		"inc":       func(a int) int { return a + 1 },
		"mul":       func(a, b int) int { return a * b },
		"stages":    stage.All,
		"pretty":    stream.Pretty,
		"others": func() []struct{ Slug, Name, Later string } {
			return []struct{ Slug, Name, Later string }{{"sightings", "Sightings", "later"}, {"log", "Log", ""}, {"settings", "Settings", ""}}
		},
		"thousands": stage.Thousands,
		"sketches":  s.sketches,
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
		"partial": s.partial,
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

// partial executes what a page brings for the side sheet, where it brings anything.
func (s *Server) partial(b Frame) (template.HTML, error) {
	r, ok := s.pages[b.Page]
	if !ok || b.Sheet == nil || b.Sheet.Extra == nil {
		return "", nil
	}
	var w strings.Builder
	err := r.template.ExecuteTemplate(&w, "sheet-"+b.Sheet.Stage.Slug(), b)
	return template.HTML(w.String()), err // made by a template, which escaped it
}

// fromTo is what a change is from and to.
type fromTo struct{ From, To string }

// differing is the parts in which two lists with commas differ, where they are of one length and share some: what a
// long value is cut to.
func differing(from, to string) fromTo {
	a, b := strings.Split(from, ", "), strings.Split(to, ", ")
	var out [2][]string
	for i := range a {
		if len(a) == len(b) && a[i] != b[i] {
			out[0], out[1] = append(out[0], a[i]), append(out[1], b[i])
		}
	}
	if len(out[0]) == 0 || len(out[0]) == len(a) {
		return fromTo{from, to}
	}
	return fromTo{strings.Join(out[0], ", "), strings.Join(out[1], ", ")}
}

// together joins sentences "place: why." that say the same of several.
func together(all []string) []string {
	at := map[string]int{}
	var out []string
	var places [][]string
	var whys []string
	for _, s := range all {
		place, why, ok := strings.Cut(s, ": ")
		if !ok {
			place, why = "", s
		}
		i, there := at[why]
		if !there {
			i = len(whys)
			at[why], whys, places = i, append(whys, why), append(places, nil)
		}
		if place != "" {
			places[i] = append(places[i], place)
		}
	}
	for i, why := range whys {
		if len(places[i]) > 0 {
			why = strings.Join(places[i], ", ") + ": " + why
		}
		out = append(out, why)
	}
	return out
}
