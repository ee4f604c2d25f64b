package web_test

import (
	"bytes"
	"fmt"
	"io"
	"mime/multipart"
	"net/http"
	"net/url"
	"strings"
	"testing"
	"time"

	"duskyharbor/internal/demo"
	"duskyharbor/internal/testbed"
)

// give uploads a file as the form does.
func (v *visitor) give(token, name string, data []byte) int {
	v.t.Helper()
	var b bytes.Buffer
	w := multipart.NewWriter(&b)
	for k, x := range map[string]string{"_csrf": token, "back": "/sites/1/expected"} {
		if err := w.WriteField(k, x); err != nil {
			v.t.Fatal(err)
		}
	}
	f, err := w.CreateFormFile("list", name)
	if err == nil {
		_, err = f.Write(data)
	}
	if err == nil {
		err = w.Close()
	}
	if err != nil {
		v.t.Fatal(err)
	}
	res, err := v.c.Post(v.base+"/sites/1/expected/upload", w.FormDataContentType(), &b)
	if err != nil {
		v.t.Fatal(err)
	}
	_, _ = io.Copy(io.Discard, res.Body)
	_ = res.Body.Close()
	return res.StatusCode
}

// A list is looked at before anything changes; five thousand lines with forty errors
// give forty messages; what is exported is taken again and changes nothing.
func TestAnExpectedListIsReadShownAndTaken(t *testing.T) {
	t.Parallel()
	h := serve(t)
	v := visit(t, h)
	v.signIn(demo.Lead, h.Secrets.Lead)
	token := v.token("/sites/1/expected")
	back := url.Values{"_csrf": {token}, "back": {"/sites/1/expected"}}
	var b strings.Builder
	b.WriteString("Camera;IP;Maker;Records on\r\n")
	fmt.Fprintf(&b, "Slipway by the water;%s;Ottervale;terminal recorder\r\n", h.Net.At(".1.11"))
	for i := range 4999 {
		switch {
		case i%125 == 60: // forty of them
			b.WriteString("Shed;not an address;;\r\n")
		default:
			fmt.Fprintf(&b, "Shed %d;%s;Tarnlight;\r\n", i, h.Net.At(fmt.Sprintf(".%d.%d", 100+i/250, 1+i%250)))
		}
	}
	before := h.sum()
	v.give(token, "list.csv", []byte(b.String()))
	_, page := v.get("/sites/1/expected")
	page = strings.Join(strings.Fields(page), " ") // as it is read
	if strings.Count(page, "is no IPv4 address") != 40 || !strings.Contains(page, "Take 4,960 lines and leave 40 out") {
		t.Fatalf("the preview: %d messages", strings.Count(page, "is no IPv4 address"))
	}
	for _, part := range []string{"4,959 cameras new, 1 camera changed, 0 as before", `<s class="quiet">Slipway</s> → <b>Slipway by the water</b>`,
		"The list doesn't name 14 expected cameras, which stay as they are"} {
		if !strings.Contains(page, part) {
			t.Errorf("what taking it means isn't shown: %q", part)
		}
	}
	if h.sum() != before {
		t.Error("looking at a list changes the site")
	}
	// A column that is chosen otherwise is read otherwise.
	if _, page := v.get("/sites/1/expected?col-address=none&col-make=1"); !strings.Contains(page,
		"Take 4,960 lines and leave 40 out") && !strings.Contains(page, "same place") {
		t.Error("the chosen columns aren't read")
	}
	v.post("/sites/1/expected/take", back)
	if _, page := v.get("/sites/1/expected"); !strings.Contains(page, "4,959 cameras new, 1 camera known; 40 lines left out") {
		t.Errorf("what was taken isn't told: %s", page[strings.Index(page, "<main"):][:600])
	}
	if n := count(h, `select count(*) from device where kind = 'camera'`); n != 15+4959 {
		t.Errorf("%d cameras", n)
	}
	if n := count(h, `select count(*) from source s join device r on r.id = s.recorder_id where s.name = 'Slipway by the water' and r.place = 'Terminal recorder'`); n != 1 {
		t.Error("the known camera isn't changed, or was added again")
	}
	testbed.Until(t, time.Minute, "what was taken is judged", func() bool {
		n := count(h, `select count(*) from mark`)
		return n == 10*4960 || n == 10*4974
	})
	for _, form := range []string{"csv", "xlsx"} {
		res, data := v.get("/sites/1/expected." + form)
		if res.StatusCode != http.StatusOK {
			t.Fatalf("%s: %d", form, res.StatusCode)
		}
		v.give(token, "again."+form, []byte(data))
		if _, page := v.get("/sites/1/expected"); !strings.Contains(strings.Join(strings.Fields(page), " "), "4,974 lines can be taken") || !strings.Contains(strings.Join(strings.Fields(page), " "), "0 cameras new, 0 cameras changed, 4,974 as before") {
			t.Errorf("%s isn't taken again: %s", form, page[strings.Index(page, "<main"):][:900])
		}
		v.post("/sites/1/expected/take", back)
		if _, again := v.get("/sites/1/expected." + form); form == "csv" && again != data {
			t.Error("a round trip changes the list")
		}
	}
}

func TestABadListIsRefusedInASentence(t *testing.T) {
	t.Parallel()
	h := serve(t)
	v := visit(t, h)
	v.signIn(demo.Lead, h.Secrets.Lead)
	token := v.token("/sites/1/expected")
	for name, x := range map[string]struct {
		data []byte
		says string
	}{
		"empty.csv": {[]byte("Place,Address\n"), "only its heading"}, "picture.csv": {[]byte("\x89PNG\r\n\x1a\n\x00\x00"), "no text that a spreadsheet writes"},
		"broken.xlsx": {[]byte("PK\x03\x04 and then nothing"),
			"no workbook"}, "long.csv": {[]byte("Place\n" + strings.Repeat("x\n", 20_100)), "more than 20,000 lines"},
		"odd.csv":                         {[]byte("A,B\n1,2\n"), "choose which one names the place"},
		strings.Repeat("x", 99) + "é.csv": {[]byte("A,B\n1,2\n"), strings.Repeat("x", 99)}, // cut inside a character
	} {
		v.give(token, name, x.data)
		if _, page := v.get("/sites/1/expected"); !strings.Contains(page, x.says) {
			t.Errorf("%s: no %q", name, x.says)
		}
	}
	if status := v.give(token, "huge.csv", bytes.Repeat([]byte("x"), 6<<20)); status != http.StatusRequestEntityTooLarge {
		t.Errorf("6 MB: %d", status)
	}
	if status := v.give(token, "nul.csv", []byte("Place,Make\nAnnex\x00e,x\n")); status != http.StatusSeeOther {
		t.Errorf("a NUL in a cell: %d", status)
	}
	// A file that is refused leaves nothing of the one before to be taken for it.
	v.give(token, "good.csv", []byte("Place\nAnnex\n"))
	if _, page := v.get("/sites/1/expected"); !strings.Contains(page, "good.csv") {
		t.Error("a good list isn't shown")
	}
	v.give(token, "broken.xlsx", []byte("PK\x03\x04 and then nothing"))
	if _, page := v.get("/sites/1/expected"); strings.Contains(page, "good.csv") || strings.Contains(page, "Take 1 line") {
		t.Error("a refused file leaves the old preview")
	}
	v.give(token, "odd.csv", []byte("A,B\n1,2\n"))
	v.post("/sites/1/expected/drop", url.Values{"_csrf": {token}})
	v.post("/sites/1/expected/take", url.Values{"_csrf": {token}}) // in another tab
	if _, page := v.get("/sites/1/expected"); !strings.Contains(page, "That list is gone") {
		t.Error("a list that was left is taken, or nobody says why it isn't")
	}
	if _, page := v.get("/sites/1/expected"); strings.Contains(page, "odd.csv") {
		t.Error("a list that was left is kept")
	}
}
