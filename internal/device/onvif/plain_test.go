package onvif

import (
	"reflect"
	"strings"
	"testing"
)

// plainly holds the tree of plain against the one of the library, wherever it says that it has one.
func plainly(t *testing.T, doc []byte) (is bool) {
	t.Helper()
	got, ok := plain(doc)
	if !ok {
		return false
	}
	want, err := parseAny(doc)
	if err != nil {
		t.Fatalf("%q is read, and is none: %v", doc, err)
	}
	if !reflect.DeepEqual(got, want) {
		t.Fatalf("%q is read otherwise", doc)
	}
	return true
}

// What is plain is read as the library reads it; whatever isn't, or is wrong, is left to the library.
func TestPlainXMLIsReadAsTheLibraryDoes(t *testing.T) {
	for doc, is := range map[string]bool{
		`<a/>`: true, `<?xml version="1.0" encoding="UTF-8"?><a/>`: true, ` <a> x </a> `: true, `<a b='1' c = "2"/>`: true, `<a b="1"c="2"/>`: true,
		`<a xmlns="urn:x"><b/><c xmlns="" d="1"/></a>`: true, `<p:a xmlns:p="urn:1"><p:b xmlns:p="urn:2"/><p:c p:d="1"/></p:a>`: true, `<q:a/>`: true,
		`<a xml:lang="en" xmlns:b="urn:b" b:c="1"/>`: true, `<a>x<b/>y<c/>z</a>`: true, `<a b=">"/>`: true, "<a\n\tb=\"1\"\n/>": true, `<a></a >`: true, `<xmlns:a/>`: true, `<a b="1" b="2"/>`: true,
		`x<a/>y`: true,
		``:       false, `x`: false, `<a>`: false, `</a>`: false, `<a/><b/>`: false, `<a></b>`: false, `<a>&amp;</a>`: false, `<a>é</a>`: false, "<a>\r\n</a>": false, `<a><!-- x --></a>`: false,
		`<a><![CDATA[x]]></a>`: false, `<a>]]></a>`: false, `<!DOCTYPE a><a/>`: false, `<a b="<"/>`: false, `<a b=1/>`: false, `<a b/>`: false, `<a:b:c/>`: false, `<:a/>`: false, `<a:/>`: false, `<1/>`: false,
		`<a / >`: false, `<a b="1/>`: false, `<`: false, `<a`: false, `</`: false, "\xef\xbb\xbf<a/>": false, "<a>\x00</a>": false, `<p:a xmlns:p="urn:1"></a>`: false, `<a>]]></a>]`: false,
		strings.Repeat("<a>", maxDepth) + strings.Repeat("</a>", maxDepth): true, strings.Repeat("<a>", maxDepth+1) + strings.Repeat("</a>", maxDepth+1): false,
		"<r>" + strings.Repeat("<a/>", maxNodes-1) + "</r>": true, "<r>" + strings.Repeat("<a/>", maxNodes) + "</r>": false,
		"<a" + strings.Repeat(` b="1"`, maxAttrs) + "/>": true, "<a" + strings.Repeat(` b="1"`, maxAttrs+1) + "/>": false,
		"<a>" + strings.Repeat(strings.Repeat("x", 20<<10)+"<b/>", 5) + "</a>": true,
	} {
		if got := plainly(t, []byte(doc)); got != is {
			t.Errorf("%.60q: %t", doc, got)
		}
	}
}

func FuzzPlainXML(f *testing.F) {
	for _, doc := range []string{`<a xmlns="urn:x" b="1">x<p:b xmlns:p="urn:2" p:c='2'/>y</a>`, frameXML(`<tt:Object ObjectId="1"/>`), `<?xml version="1.0"?><a/>`, "<a>]</a>"} {
		f.Add([]byte(doc))
	}
	f.Fuzz(func(t *testing.T, doc []byte) { plainly(t, doc) })
}

// What is written of an element is read as what it was, also where its names stand for something further out.
func TestAnElementIsWrittenAsItWasRead(t *testing.T) {
	for _, doc := range []string{
		`<a><b/></a>`, `<r xmlns:tt="urn:t" xmlns:x="urn:x"><b Type="tt:Cell" x:c="1&quot;&lt;"><tt:d e="2"> &amp;text </tt:d><f xmlns="urn:f"><g/></f></b></r>`,
		`<r xmlns="urn:r" xmlns:p="urn:1"><p:b xmlns:p="urn:2" q="1"><p:c/></p:b></r>`, `<r xmlns:xml2="urn:x"><b xml:lang="en"/></r>`,
	} {
		root, err := parseAny([]byte(doc))
		if err != nil {
			t.Fatal(err)
		}
		was := root.kids[0]
		text := was.xml()
		is, err := parseAny([]byte(text))
		if err != nil {
			t.Errorf("%s is written as %s: %v", doc, text, err)
			continue
		}
		var same func(a, b *node) bool
		same = func(a, b *node) bool {
			if a.name != b.name || len(a.kids) != len(b.kids) || len(a.kids) == 0 && a.text != b.text {
				return false
			}
			for _, x := range a.attrs {
				if x.Name.Space != "xmlns" && x.Name.Local != "xmlns" && (b.attrOf(x.Name.Space, x.Name.Local) == nil || b.attrOf(x.Name.Space, x.Name.Local).Value != x.Value) {
					return false
				}
			}
			for i := range a.kids {
				if !same(a.kids[i], b.kids[i]) {
					return false
				}
			}
			return true
		}
		if !same(was, is) {
			t.Errorf("%s is written as %s", doc, text)
		}
		for prefix, space := range map[string]string{"tt": was.space("tt"), "x": was.space("x"), "p": was.space("p")} {
			if is.space(prefix) != space {
				t.Errorf("%s: %s stands for %q there, for %q here", doc, prefix, is.space(prefix), space)
			}
		}
	}
}
