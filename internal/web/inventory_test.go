package web_test

import (
	"bytes"
	"fmt"
	"net/http"
	"strings"
	"testing"

	"github.com/xuri/excelize/v2"

	"duskyharbor/internal/demo"
	"duskyharbor/internal/testbed"
)

// What is known of cameras goes out as it is filtered and sorted, in the columns that were chosen; labels carry a code
// that leads to a camera's sheet.
func TestTheInventoryGoesOut(t *testing.T) {
	t.Parallel()
	h := serveOn(t, testbed.StartOnly(t, "Slipway", "Berth 1 ramp", "Gangway", "Terminal recorder"), nil)
	h.ready("find", "sign-in", "clock", "streams")
	v := visit(t, h)
	v.signIn(demo.Lead, h.Secrets.Lead)
	get := func(path string) []byte {
		res, body := v.get("/sites/1/" + path)
		if res.StatusCode != http.StatusOK {
			t.Fatalf("%s: %d", path, res.StatusCode)
		}
		return []byte(body)
	}
	at := h.Net.At(".1.11").String()
	if got := string(get("inventory.csv?q=Slipway&col=place&col=address&col=serial&col=firmware")); !strings.HasPrefix(got, "Place,Address,Serial,Firmware\n") || !strings.Contains(got, "Slipway,"+at+",OTV412-") || strings.Contains(got, "Berth") {
		t.Errorf("%s", got)
	}
	up, down := string(get("inventory.csv?col=place&sort=place")), string(get("inventory.csv?col=place&sort=-place"))
	if strings.Index(up, "Berth 1 ramp") > strings.Index(up, "Slipway") || strings.Index(down, "Berth 1 ramp") < strings.Index(down, "Slipway") {
		t.Errorf("sorted %q and %q", up, down)
	}
	if got := string(get("inventory.csv?q=%22Berth%201%22&col=findings&col=sentences")); !strings.Contains(got, "+1 h") || !strings.Contains(got, "1 h ahead") {
		t.Errorf("%s", got)
	}
	book, err := excelize.OpenReader(bytes.NewReader(get("inventory.xlsx?q=Slipway&col=place")))
	if err != nil {
		t.Fatal(err)
	}
	if rows, err := book.GetRows("Sheet1"); err != nil || fmt.Sprint(rows) != "[[Place] [Slipway]]" {
		t.Errorf("%v %v", rows, err)
	}
	if res, _ := v.get("/sites/1/inventory.pdf"); res.StatusCode != http.StatusNotFound {
		t.Errorf("another form: %d", res.StatusCode)
	}
	// On the page: columns are chosen, and labels shown and read back.
	p := testbed.Browser(t, 1280, 800)
	h.signIn(p, demo.Lead, h.Secrets.Lead)
	h.on(p, "inventory?q=Slipway")
	p.Sees(0, "1 camera", "Slipway", at)
	p.Accessible("the inventory")
	h.on(p, "inventory?labels=1")
	p.Sees(0, "Print", "Slipway")
	p.Accessible("labels")
	for _, width := range []int64{1024, 390} {
		p.Resize(width, 800)
		if w := testbed.Eval[int64](p, "document.documentElement.scrollWidth"); w > width {
			t.Errorf("at %d it scrolls sideways: %d", width, w)
		}
	}
}
