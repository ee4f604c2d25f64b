package demo_test

import (
	"io"
	"net"
	"net/http"
	"net/url"
	"strings"
	"testing"
	"time"

	"duskyharbor/internal/demo"
	"duskyharbor/internal/testbed"
)

// A camera whose cable is pulled answers nothing, the others go on; plugged in again it answers, with what it knew.
func TestACameraIsUnplugged(t *testing.T) {
	t.Parallel()
	n := testbed.Net(t)
	f, err := demo.StartFleet(t.Context(), n, demo.NewSecrets(), "", 0, "Slipway", "Gangway")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(f.Close)
	if err := f.Cables(t.Context(), n); err != nil {
		t.Fatal(err)
	}
	at := "http://" + n.Cabinet()
	post := func(path, place string) int {
		t.Helper()
		res, err := http.Post(at+path+"?place="+url.QueryEscape(place), "", nil)
		if err != nil {
			t.Fatal(err)
		}
		_ = res.Body.Close()
		return res.StatusCode
	}
	answers := func(host string) bool {
		c, err := net.DialTimeout("tcp4", n.At(host).String()+":8080", time.Second)
		if err == nil {
			_ = c.Close()
		}
		return err == nil
	}
	unplugged := func() string {
		t.Helper()
		res, err := http.Get(at + "/")
		if err != nil {
			t.Fatal(err)
		}
		defer res.Body.Close()
		raw, err := io.ReadAll(res.Body)
		if err != nil {
			t.Fatal(err)
		}
		return strings.TrimSpace(string(raw))
	}
	if post("/unplug", "Nowhere") != http.StatusNotFound {
		t.Error("a camera that isn't there is unplugged")
	}
	for range 2 { // pulling it twice is pulling it
		if got := post("/unplug", "Slipway"); got != http.StatusNoContent {
			t.Errorf("unplugging answers %d", got)
		}
	}
	testbed.Until(t, 10*time.Second, "it is gone", func() bool { return !answers(".1.11") })
	if got := unplugged(); !answers(".1.14") || got != `{"unplugged":["Slipway"]}` {
		t.Errorf("the other answers %t, unplugged are %s", answers(".1.14"), got)
	}
	for range 2 {
		if got := post("/plug", "Slipway"); got != http.StatusNoContent {
			t.Errorf("plugging answers %d", got)
		}
	}
	if got := unplugged(); !answers(".1.11") || got != `{"unplugged":[]}` {
		t.Errorf("it answers %t, unplugged are %s", answers(".1.11"), got)
	}
}
