package board

import (
	"html/template"
	"strings"
)

// markup writes elements. It has no way to write what isn't escaped but the names of
// elements and attributes, which are constants here.
type markup struct {
	w       strings.Builder
	escaped map[string]string // most cells say one of a few sentences: each is escaped once
}

// attr is an attribute's name and value.
type attr struct{ name, value string }

func (m *markup) escape(s string) string {
	e, ok := m.escaped[s]
	if !ok {
		e = template.HTMLEscapeString(s)
		m.escaped[s] = e
	}
	return e
}

// open begins an element; one that has no end (as input) is only opened.
func (m *markup) open(element string, attrs ...attr) {
	m.w.WriteByte('<')
	m.w.WriteString(element)
	for _, a := range attrs {
		m.w.WriteByte(' ')
		m.w.WriteString(a.name)
		m.w.WriteString(`="`)
		m.w.WriteString(m.escape(a.value))
		m.w.WriteByte('"')
	}
	m.w.WriteByte('>')
}

func (m *markup) text(s string) { m.w.WriteString(m.escape(s)) }

// end ends elements, the innermost first.
func (m *markup) end(elements ...string) {
	for _, e := range elements {
		m.w.WriteString("</")
		m.w.WriteString(e)
		m.w.WriteByte('>')
	}
}

// html is what was written.
func (m *markup) html() template.HTML { return template.HTML(m.w.String()) }
