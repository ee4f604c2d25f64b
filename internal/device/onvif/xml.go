package onvif

import (
	"bytes"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"maps"
	"slices"
	"strconv"
	"strings"

	"golang.org/x/net/html/charset"

	"duskyharbor/internal/device/dial"
)

// Limits of one answer.
const (
	maxBody  = 4 << 20 // bytes
	maxDepth = 48
	maxNodes = 100_000
	maxAttrs = 64       // of an element
	maxText  = 64 << 10 // bytes of an element's own
	// mostPlain is how long a plain answer is at the most: what is kept of it holds all of it in memory.
	mostPlain = 64 << 10
)

// node is one element of an answer, with its parent for prefixes in content.
type node struct {
	name   xml.Name
	attrs  []xml.Attr
	text   string
	kids   []*node
	parent *node
}

var errXML = errors.New("not a SOAP answer")

// parse reads an answer into a tree within the limits. Entities that XML doesn't
// define are refused, so none is ever expanded.
func parse(data []byte) (*node, error) {
	if len(data) <= mostPlain {
		if root, ok := plain(data); ok {
			return root, nil
		}
	}
	return parseAny(data)
}

func parseAny(data []byte) (*node, error) {
	d := xml.NewDecoder(bytes.NewReader(bytes.TrimPrefix(data, []byte("\xef\xbb\xbf"))))
	d.CharsetReader = func(label string, in io.Reader) (io.Reader, error) { return charset.NewReaderLabel(label, in) }
	var root, at *node
	depth, count := 0, 0
	for {
		tok, err := d.Token()
		if errors.Is(err, io.EOF) && root != nil && at == nil {
			return root, nil
		}
		if err != nil {
			return nil, fmt.Errorf("%w: cut short or not well-formed", errXML)
		}
		switch t := tok.(type) {
		case xml.StartElement:
			depth++
			count++
			if depth > maxDepth || count > maxNodes || len(t.Attr) > maxAttrs || (root != nil && at == nil) {
				return nil, fmt.Errorf("%w: nested too deep or too long", errXML)
			}
			n := &node{name: t.Name, attrs: t.Copy().Attr, parent: at}
			if at == nil {
				root = n
			} else {
				at.kids = append(at.kids, n)
			}
			at = n
		case xml.EndElement:
			depth--
			at = at.parent
		case xml.CharData:
			if at != nil && len(at.text) < maxText {
				at.text += string(t)
			}
		}
	}
}

// child is the first child of that name; space "" takes any namespace.
func (n *node) child(space, local string) *node {
	if n == nil {
		return nil
	}
	for _, k := range n.kids {
		if k.name.Local == local && (space == "" || k.name.Space == space) {
			return k
		}
	}
	return nil
}

// all lists the children of that name.
func (n *node) all(local string) []*node {
	if n == nil {
		return nil
	}
	var out []*node
	for _, k := range n.kids {
		if k.name.Local == local {
			out = append(out, k)
		}
	}
	return out
}

// at follows local names down.
func (n *node) at(path ...string) *node {
	for _, p := range path {
		n = n.child("", p)
	}
	return n
}

// str is the cleaned text at a path, at most 512 bytes.
func (n *node) str(path ...string) string {
	if n = n.at(path...); n == nil {
		return ""
	}
	return dial.CleanText(n.text, 512)
}

// num reads a number at a path; "5.0" is 5, what is none is 0.
func (n *node) num(path ...string) int { return int(n.float(path...)) }

func (n *node) float(path ...string) float64 {
	v, err := strconv.ParseFloat(n.str(path...), 64)
	if err != nil || v != v || v > 1e12 || v < -1e12 {
		return 0
	}
	return v
}

func (n *node) yes(path ...string) bool {
	s := n.str(path...)
	return s == "true" || s == "1"
}

func (n *node) attr(local string) string {
	if n != nil {
		for _, a := range n.attrs {
			if a.Name.Local == local && a.Name.Space != "xmlns" {
				return dial.CleanText(a.Value, 512)
			}
		}
	}
	return ""
}

// space resolves a namespace prefix in the scope of n; "" is the default one.
func (n *node) space(prefix string) string {
	for ; n != nil; n = n.parent {
		for _, a := range n.attrs {
			if prefix != "" && a.Name.Space == "xmlns" && a.Name.Local == prefix || prefix == "" && a.Name.Space == "" && a.Name.Local == "xmlns" {
				return a.Value
			}
		}
	}
	return ""
}

func escape(s string) string {
	var b strings.Builder
	_ = xml.EscapeText(&b, []byte(s))
	return b.String()
}

// xml writes an element and all in it, as it was read: each name with its namespace, and the prefixes that stood for something
// where it was, since values may name them (xsi:type, Type="tt:…").
func (n *node) xml() string {
	var b strings.Builder
	prefixes := map[string]string{}
	for x := n.parent; x != nil; x = x.parent {
		for _, a := range x.attrs {
			if _, nearer := prefixes[a.Name.Local]; a.Name.Space == "xmlns" && !nearer {
				prefixes[a.Name.Local] = a.Value
			}
		}
	}
	n.write(&b, prefixes)
	return b.String()
}

func (n *node) write(b *strings.Builder, prefixes map[string]string) {
	fmt.Fprintf(b, `<%s xmlns="%s"`, n.name.Local, escape(n.name.Space))
	for _, prefix := range slices.Sorted(maps.Keys(prefixes)) {
		if n.attrOf("xmlns", prefix) == nil {
			fmt.Fprintf(b, ` xmlns:%s="%s"`, prefix, escape(prefixes[prefix]))
		}
	}
	for i, a := range n.attrs {
		switch {
		case a.Name.Space == "" && a.Name.Local == "xmlns": // it is written with the name
		case a.Name.Space == "xmlns":
			fmt.Fprintf(b, ` xmlns:%s="%s"`, a.Name.Local, escape(a.Value))
		case a.Name.Space == "":
			fmt.Fprintf(b, ` %s="%s"`, a.Name.Local, escape(a.Value))
		default:
			fmt.Fprintf(b, ` xmlns:n%d="%s" n%[1]d:%[3]s="%[4]s"`, i, escape(a.Name.Space), a.Name.Local, escape(a.Value))
		}
	}
	b.WriteByte('>')
	if len(n.kids) == 0 {
		b.WriteString(escape(n.text))
	}
	for _, k := range n.kids {
		k.write(b, nil)
	}
	fmt.Fprintf(b, "</%s>", n.name.Local)
}

func (n *node) attrOf(space, local string) *xml.Attr {
	for i := range n.attrs {
		if n.attrs[i].Name.Space == space && n.attrs[i].Name.Local == local {
			return &n.attrs[i]
		}
	}
	return nil
}
