package shell

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"html/template"
	"io"
	"io/fs"
	"slices"
	"strings"

	"github.com/labstack/echo/v5"
)

// version changes when any asset does, so that browsers may keep them for long.
func versionOf(all ...fs.FS) (string, error) {
	h := sha256.New()
	for _, files := range all {
		err := fs.WalkDir(files, ".", func(path string, d fs.DirEntry, err error) error {
			if err != nil || d.IsDir() || strings.HasSuffix(path, ".html") {
				return err
			}
			data, err := fs.ReadFile(files, path)
			if err == nil {
				fmt.Fprintf(h, "%s %d ", path, len(data))
				_, _ = h.Write(data)
			}
			return err
		})
		if err != nil {
			return "", err
		}
	}
	return hex.EncodeToString(h.Sum(nil))[:10], nil
}

// parse reads the shell's own templates.
func (s *Server) parse() error {
	base, err := define(template.New("").Funcs(s.funcs()), templateFiles, "templates/layout.html", "templates/parts.html",
		"templates/form.html", "templates/picture.html", "templates/preview.html", "templates/sheet.html")
	if err != nil {
		return fmt.Errorf("shell: %w", err)
	}
	s.base, s.alone = base, map[string]*template.Template{}
	for _, name := range []string{"ask", "enter", "join", "message", "secret", "sites", "start"} {
		t, err := base.Clone()
		if err == nil {
			t, err = define(t, templateFiles, "templates/"+name+".html")
		}
		if err == nil {
			err = whole(t)
		}
		if err != nil {
			return fmt.Errorf("shell: %w", err)
		}
		s.alone[name] = t
	}
	return nil
}

// assemble parses the templates of all pages: each has the shell's, its own, and what
// the others bring for the side sheet.
func (s *Server) assemble() error {
	assets := []fs.FS{staticFiles}
	common, err := s.base.Clone()
	if err != nil {
		return err
	}
	for _, r := range s.order {
		files := r.Files()
		if files == nil {
			continue
		}
		assets = append(assets, files)
		if _, err := fs.Stat(files, "sheet.html"); err == nil {
			if _, err := define(common, files, "sheet.html"); err != nil {
				return fmt.Errorf("shell: the sheet of %s: %w", r.Slug(), err)
			}
		}
		_, err := fs.Stat(files, "page.js")
		r.script = err == nil
	}
	for _, r := range s.order {
		if r.Files() == nil {
			continue
		}
		t, err := common.Clone()
		if err == nil {
			t, err = define(t, r.Files(), "page.html")
		}
		if parts, gerr := fs.Glob(r.Files(), "*.html"); err == nil && gerr == nil { // of a long page
			parts = slices.DeleteFunc(parts, func(name string) bool { return name == "page.html" || name == "sheet.html" })
			t, err = define(t, r.Files(), parts...)
		}
		if err == nil {
			err = whole(t)
		}
		if err != nil {
			return fmt.Errorf("shell: the page %s: %w", r.Slug(), err)
		}
		r.template = t
	}
	if s.style, err = s.stylesheet(); err != nil {
		return err
	}
	s.version, err = versionOf(assets...)
	return err
}

// stylesheet is the one style sheet of all pages: what the frame has, what each page brings as page.css,
// in the order in which pages are registered, and what lies over pages. A side sheet is shown on any page:
// so what its stage brings is everywhere.
func (s *Server) stylesheet() ([]byte, error) {
	var out bytes.Buffer
	take := func(files fs.FS, pattern string) error {
		names, err := fs.Glob(files, pattern)
		for _, name := range names {
			var data []byte
			if data, err = fs.ReadFile(files, name); err != nil {
				break
			}
			out.Write(data)
		}
		return err
	}
	if err := take(staticFiles, "static/css/0*.css"); err != nil {
		return nil, err
	}
	for _, r := range s.order {
		if files := r.Files(); files != nil {
			if err := take(files, "page.css"); err != nil {
				return nil, fmt.Errorf("shell: the style sheet of %s: %w", r.Slug(), err)
			}
		}
	}
	err := take(staticFiles, "static/css/8*.css")
	return out.Bytes(), err
}

// Render is echo's renderer: name is a page, which fills the layout.
func (s *Server) Render(_ *echo.Context, w io.Writer, name string, data any) error {
	t, ok := s.alone[name]
	if r, is := s.pages[name]; is {
		t, ok = r.template, r.template != nil
	}
	if !ok {
		return fmt.Errorf("shell: no page %q", name)
	}
	return t.ExecuteTemplate(w, "layout", data)
}
