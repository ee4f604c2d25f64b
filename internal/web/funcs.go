package web

import (
	"fmt"
	"html/template"
	"strconv"
	"time"

	"duskyharbor/internal/core/scene"
	"duskyharbor/internal/core/stage"
	"duskyharbor/internal/core/stream"
	"duskyharbor/internal/core/topic"
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
		"pct": func(a, b int) int { return 100 * a / max(b, 1) },
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
