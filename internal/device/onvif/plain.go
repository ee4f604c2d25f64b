package onvif

import (
	"encoding/xml"
	"strings"
)

// xmlSpace is what the prefix xml stands for.
const xmlSpace = "http://www.w3.org/XML/1998/namespace"

// declarations by which plain documents begin, if by any.
var declarations = [...]string{`<?xml version="1.0" encoding="UTF-8"?>`, `<?xml version="1.0" encoding="utf-8"?>`, `<?xml version="1.0"?>`}

// plain reads a document of plain XML into the tree that parse makes of it, an order of magnitude sooner: cameras send ten such
// a second and more. Plain is ASCII without entities, comments, CDATA, instructions and carriage returns. ok is false where it
// isn't plain, or where anything about it is wrong: parse says what.
func plain(data []byte) (root *node, ok bool) { return new(plainXML).read(data) }

// read is plain with the room that a document before had; that one's tree is gone by it.
func (p *plainXML) read(data []byte) (root *node, ok bool) {
	for _, c := range data {
		if !plainBytes[c] {
			return nil, false
		}
	}
	p.reset(string(data))
	for _, d := range declarations {
		if rest, cut := strings.CutPrefix(p.s, d); cut {
			p.s = rest
			break
		}
	}
	elements := strings.Count(p.s, "<") - strings.Count(p.s, "</")
	if elements > maxNodes {
		return nil, false
	}
	p.nodes, p.kids, p.attrs = room(p.nodes, elements), room(p.kids, elements), room(p.attrs, strings.Count(p.s, "="))
	return p.root, p.run() && p.root != nil
}

// reset empties it for another document.
func (p *plainXML) reset(s string) {
	clear(p.nodes)
	*p = plainXML{s: s, path: p.path[:0], bound: p.bound[:0], waits: p.waits[:0], nodes: p.nodes[:0], kids: p.kids[:0], attrs: p.attrs[:0]}
}

// room is an empty slice that holds n without growing: what points into it stays.
func room[T any](s []T, n int) []T {
	if cap(s) >= n {
		return s[:0]
	}
	return make([]T, 0, n)
}

// plainBytes are those of ASCII text but what begins an entity.
var plainBytes = func() (is [256]bool) {
	for c := ' '; c < 0x7f; c++ {
		is[c] = c != '&'
	}
	is['\t'], is['\n'] = true, true
	return is
}()

// nameBytes are those of names, nameStarts those that begin one; the colon is told apart.
var nameBytes, nameStarts = func() (is, starts [256]bool) {
	for c := range 256 {
		letter := c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c == '_'
		starts[c], is[c] = letter, letter || c >= '0' && c <= '9' || c == '-' || c == '.'
	}
	return is, starts
}()

// binding is a prefix that stands for a namespace, in elements from a depth on.
type binding struct {
	prefix, space string
	depth         int
}

// open is an element that isn't closed yet.
type open struct {
	n    *node
	name string // as it is written
	kids int    // of those that wait, the first that is its own
}

type plainXML struct {
	s     string
	at    int
	root  *node
	path  []open
	bound []binding
	waits []*node // kids of elements that aren't closed

	// What the tree is made of, each made once: an element's are a part of it.
	nodes []node
	kids  []*node
	attrs []xml.Attr
}

func (p *plainXML) run() bool {
	for p.at < len(p.s) {
		end := strings.IndexByte(p.s[p.at:], '<')
		if end < 0 {
			end = len(p.s) - p.at
		}
		if text := p.s[p.at : p.at+end]; len(p.path) > 0 && text != "" {
			if strings.IndexByte(text, ']') >= 0 { // what looks like an end of CDATA is wrong
				return false
			}
			if n := p.path[len(p.path)-1].n; n.text == "" {
				n.text = text
			} else if len(n.text) < maxText {
				n.text += text
			}
		} else if strings.IndexByte(text, ']') >= 0 {
			return false
		}
		if p.at += end; p.at == len(p.s) {
			break
		}
		p.at++
		if !p.tag() {
			return false
		}
	}
	return len(p.path) == 0
}

// tag reads on behind a "<".
func (p *plainXML) tag() bool {
	if p.peek() == '/' {
		p.at++
		name, _, _ := p.name()
		p.space()
		if len(p.path) == 0 || p.path[len(p.path)-1].name != name || !p.take('>') {
			return false
		}
		p.close()
		return true
	}
	begin := p.at
	prefix, local, ok := p.split()
	if !ok || p.root != nil && len(p.path) == 0 || len(p.path) >= maxDepth || len(p.nodes) == cap(p.nodes) {
		return false
	}
	written := p.s[begin:p.at]
	p.nodes = append(p.nodes, node{})
	n := &p.nodes[len(p.nodes)-1]
	if p.root == nil {
		p.root = n
	} else {
		n.parent = p.path[len(p.path)-1].n
		p.waits = append(p.waits, n)
	}
	p.path = append(p.path, open{n, written, len(p.waits)})
	first := len(p.attrs)
	for {
		p.space()
		switch p.peek() {
		case '>':
			p.at++
			p.named(n, prefix, local, first)
			return len(n.attrs) <= maxAttrs
		case '/':
			p.at++
			p.named(n, prefix, local, first)
			p.close()
			return len(n.attrs) <= maxAttrs && p.take('>')
		}
		if !p.attr() {
			return false
		}
	}
}

// attr reads one attribute, whose name has its prefix yet.
func (p *plainXML) attr() bool {
	prefix, local, ok := p.split()
	if p.space(); !ok || !p.take('=') || len(p.attrs) == cap(p.attrs) {
		return false
	}
	p.space()
	quote := p.peek()
	if quote != '"' && quote != '\'' {
		return false
	}
	p.at++
	end := strings.IndexByte(p.s[p.at:], quote)
	if end < 0 {
		return false
	}
	value := p.s[p.at : p.at+end]
	p.at += end + 1
	if strings.IndexByte(value, '<') >= 0 {
		return false
	}
	p.attrs = append(p.attrs, xml.Attr{Name: xml.Name{Space: prefix, Local: local}, Value: value})
	switch {
	case prefix == "xmlns":
		p.bound = append(p.bound, binding{local, value, len(p.path)})
	case prefix == "" && local == "xmlns":
		p.bound = append(p.bound, binding{"", value, len(p.path)})
	}
	return true
}

// named gives an element and its attributes, all of which are read, their namespaces.
func (p *plainXML) named(n *node, prefix, local string, first int) {
	n.name = xml.Name{Space: p.spaceOf(prefix), Local: local}
	if len(p.attrs) == first {
		n.attrs = noAttrs
		return
	}
	n.attrs = p.attrs[first:len(p.attrs):len(p.attrs)]
	for i := range n.attrs {
		if name := &n.attrs[i].Name; name.Space != "" && name.Space != "xmlns" {
			name.Space = p.spaceOf(name.Space)
		}
	}
}

var noAttrs = []xml.Attr{}

func (p *plainXML) spaceOf(prefix string) string {
	switch prefix {
	case "xmlns":
		return prefix
	case "xml":
		return xmlSpace
	}
	for i := len(p.bound) - 1; i >= 0; i-- {
		if p.bound[i].prefix == prefix {
			return p.bound[i].space
		}
	}
	return prefix
}

// close ends the innermost element.
func (p *plainXML) close() {
	last := p.path[len(p.path)-1]
	for len(p.bound) > 0 && p.bound[len(p.bound)-1].depth == len(p.path) {
		p.bound = p.bound[:len(p.bound)-1]
	}
	p.path = p.path[:len(p.path)-1]
	if own := p.waits[last.kids:]; len(own) > 0 {
		first := len(p.kids)
		p.kids = append(p.kids, own...)
		last.n.kids = p.kids[first:len(p.kids):len(p.kids)]
	}
	p.waits = p.waits[:last.kids]
}

func (p *plainXML) peek() byte {
	if p.at < len(p.s) {
		return p.s[p.at]
	}
	return 0
}

func (p *plainXML) take(c byte) bool {
	if p.peek() != c {
		return false
	}
	p.at++
	return true
}

func (p *plainXML) space() {
	for p.at < len(p.s) && (p.s[p.at] == ' ' || p.s[p.at] == '\n' || p.s[p.at] == '\t') {
		p.at++
	}
}

// name reads a name as it is written. colon is where its colon is, −1 without; ok is false where it is none, or has two.
func (p *plainXML) name() (written string, colon int, ok bool) {
	begin, colon := p.at, -1
	if !nameStarts[p.peek()] {
		return "", -1, false
	}
	for ; p.at < len(p.s); p.at++ {
		if c := p.s[p.at]; c == ':' && colon < 0 {
			colon = p.at - begin
		} else if !nameBytes[c] {
			break
		}
	}
	return p.s[begin:p.at], colon, p.peek() != ':'
}

func (p *plainXML) split() (prefix, local string, ok bool) {
	written, colon, ok := p.name()
	if colon < 0 {
		return "", written, ok
	}
	prefix, local = written[:colon], written[colon+1:]
	return prefix, local, ok && local != "" && nameStarts[local[0]]
}
