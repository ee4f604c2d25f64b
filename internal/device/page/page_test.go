package page

import (
	"strings"
	"testing"
)

func TestReadFindsTitleAndPlugIn(t *testing.T) {
	for in, want := range map[string][2]string{
		"<title>OTV 412</title>":                                {"OTV 412", ""},
		"<TITLE> a \x00 b </TITLE><p>x":                         {"a   b", ""},
		`<title></title><title>second</title>`:                  {"second", ""},
		`<object classid="clsid:0d05"></object>`:                {"", "an ActiveX plug-in"},
		`<title>x</title><embed src="view.swf">`:                {"x", "a Flash plug-in"},
		`<script>new ActiveXObject("a")</script>`:               {"", "an ActiveX plug-in"},
		`<APPLET code=View>`:                                    {"", "a Java applet"},
		`<title>` + strings.Repeat("é", 200) + `</title>`:       {strings.Repeat("é", 40), ""},
		`<p>we no longer need ActiveX, Flash or any applet</p>`: {"", ""},
	} {
		title, old := Read([]byte(in))
		if title != want[0] || old != want[1] {
			t.Errorf("%.60q: %q, %q; want %q", in, title, old, want)
		}
	}
}

func FuzzRead(f *testing.F) {
	for _, s := range []string{"<title>a</title>", "<title", "", "<!doctype html><object classid='clsid:1'>", "<title>\xff</title>"} {
		f.Add([]byte(s))
	}
	f.Fuzz(func(t *testing.T, data []byte) {
		title, _ := Read(data)
		if len(title) > 80 || strings.ContainsAny(title, "\x00\n\r") {
			t.Errorf("%q", title)
		}
	})
}
