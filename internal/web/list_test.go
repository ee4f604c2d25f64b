package web_test

import (
	"net/http"
	"net/url"
	"strings"
	"testing"
	"time"

	"duskyharbor/internal/demo"
	"duskyharbor/internal/testbed"
)

// read is a page as it is read: its words with single spaces.
func (v *visitor) read(path string) string {
	v.t.Helper()
	_, page := v.get(path)
	return strings.Join(strings.Fields(page), " ")
}

// The list is edited on its page: rows are added, changed and taken off, pasted ones are looked
// at first; what is wrong stands at its field, and what was typed isn't lost.
func TestTheListIsEditedInPlace(t *testing.T) {
	t.Parallel()
	h := serve(t)
	v := visit(t, h)
	v.signIn(demo.Lead, h.Secrets.Lead)
	token := v.token("/sites/1/expected")
	send := func(path string, pairs ...string) {
		t.Helper()
		form := url.Values{"_csrf": {token}, "back": {"/sites/1/expected"}}
		for i := 0; i < len(pairs); i += 2 {
			form.Set(pairs[i], pairs[i+1])
		}
		if res := v.post("/sites/1/expected"+path, form); res.StatusCode != http.StatusSeeOther {
			t.Fatalf("%s: %d", path, res.StatusCode)
		}
	}
	slipway := "/row/" + h.camera("Slipway")
	at := h.Net.At(".1.77").String()
	for _, bad := range []struct{ path, place, address, mac, channel, says string }{
		{"/row", "", at, "", "", "It names no place."},
		{"/row", "slipway", at, "", "", "Slipway has the same place."},
		{"/row", "Annex", h.Net.At(".1.11").String(), "", "", "Slipway has the same address. Rows of a device with several inputs"},
		{"/row", "Annex", "quay", "", "", "is no IPv4 address of a device"},
		{"/row", "Annex", at, "nonsense", "", "is no MAC address"},
		{"/row", "Annex", at, "", "3000", "is no channel number"},
		{"/row", "Annex", "198.51.100.7", "", "", "is outside 127.0.0.0/8, and a demo dials this machine alone"},
		{slipway, "Gangway", "", "", "", "Gangway has the same place."},
	} {
		send(bad.path, "place", bad.place, "address", bad.address, "mac", bad.mac, "channel", bad.channel)
		page := v.read("/sites/1/expected")
		for _, part := range []string{`<p class="wrong" role="alert">`, bad.says, `value="` + bad.address + `"`, `value="` + bad.channel + `"`} {
			if !strings.Contains(page, strings.ReplaceAll(part, "“", "")) {
				t.Errorf("%+v: no %q", bad, part)
			}
		}
		if strings.Contains(v.read("/sites/1/expected"), `class="wrong"`) {
			t.Errorf("%+v is said twice", bad)
		}
	}
	if n := count(h, `select count(*) from device where kind = 'camera'`); n != 15 {
		t.Fatalf("%d cameras after refused rows", n)
	}
	send("/row", "place", "Annex", "address", at, "mac", "02-00-5E-00-01-77", "make", "Tarnlight", "channel", "5",
		"recorder", jsonNumber(count(h, `select id from device where place = 'Quay recorder'`)))
	annex := h.camera("Annex")
	if n := count(h, `select count(*) from source s join device d on d.id = s.device_id join device r on r.id = s.recorder_id where s.id = $1
		and d.expected and host(d.address) = $2 and d.mac = '02:00:5e:00:01:77' and s.channel = 5 and r.place = 'Quay recorder'`, annex, at); n != 1 {
		t.Error("the row that was added isn't what was typed")
	}
	// What a cell held goes with it where it is emptied.
	send("/row/"+annex, "place", "Annex door", "address", "", "model", "TRN C1")
	if n := count(h, `select count(*) from source s join device d on d.id = s.device_id where s.id = $1 and s.name = 'Annex door' and d.place = s.name
		and d.expected_at is null and d.address is null and d.mac = '' and d.make = '' and d.model = 'TRN C1' and s.recorder_id is null and s.channel = 0`, annex); n != 1 {
		t.Error("the row isn't as it was edited")
	}
	// An address outside the site's networks is asked about once, by name.
	outside := h.Net.At(".77.7").String()
	form := url.Values{"_csrf": {token}, "back": {"/sites/1/expected"}, "place": {"Annex door"}, "address": {outside}}
	status, page := v.body("/sites/1/expected/row/"+annex, form)
	if status != http.StatusOK || !strings.Contains(page, outside+" is in none of the networks of Gannet Point") || !strings.Contains(page, "Expect it there all the same") {
		t.Errorf("an address outside: %d", status)
	}
	if n := count(h, `select count(*) from device where expected_at = $1::inet`, outside); n != 0 {
		t.Error("it was kept before anyone said so")
	}
	form.Set("sure", "1")
	v.post("/sites/1/expected/row/"+annex, form)
	if n := count(h, `select count(*) from device where expected_at = $1::inet`, outside); n != 1 {
		t.Error("it isn't kept after all")
	}
	// Pasted rows, with a heading or without, are looked at first.
	for rows, want := range map[string]string{"Place\tIP\nNew pier\t" + at + "\n": "1 camera new, 0 cameras changed",
		"New pier\t" + at + "\t\tOttervale": "1 camera new, 0 cameras changed"} {
		send("/paste", "rows", rows)
		if page := v.read("/sites/1/expected"); !strings.Contains(page, want) || !strings.Contains(page, "Pasted rows") {
			t.Errorf("%q: no %q", rows, want)
		}
		send("/drop")
	}
	send("/paste", "rows", " \n\n")
	if !strings.Contains(v.read("/sites/1/expected"), "there is no line in it") {
		t.Error("nothing pasted isn't told")
	}
	send("/row/" + annex + "/remove")
	if n := count(h, `select count(*) from device where place = 'Annex door'`); n != 0 {
		t.Error("a camera that was never found is left when it is off the list")
	}
	for _, act := range []string{"put a camera on the list", "changed a row of the list", "took a camera off the list", "left an uploaded list"} {
		if n := count(h, `select count(*) from audit where act = $1`, act); n == 0 {
			t.Errorf("nobody wrote down who %s", act)
		}
	}
}

// What a technician may not reach a lead may: public addresses; a demo's lead neither.
func TestPublicAddressesNeedALead(t *testing.T) {
	t.Parallel()
	h := serve(t)
	if _, err := h.Store.Pool.Exec(t.Context(), `update site set demo = false`); err != nil {
		t.Fatal(err)
	}
	tech, lead := visit(t, h), visit(t, h)
	tech.signIn("anselm", h.Secrets.Tech)
	lead.signIn(demo.Lead, h.Secrets.Lead)
	for _, x := range []struct {
		path string
		form url.Values
	}{
		{"find/also", url.Values{"address": {"203.0.113.9"}}},
		{"settings/network", url.Values{"name": {"Elsewhere"}, "prefix": {"203.0.113.0/24"}}},
		{"settings/recorder", url.Values{"place": {"Far recorder"}, "address": {"203.0.113.9"}}},
		{"settings/system", url.Values{"name": {"Far desk"}, "kind": {"vms"}, "address": {"203.0.113.9"}}},
		{"expected/row", url.Values{"place": {"Far camera"}, "address": {"203.0.113.9"}}},
	} {
		page, _, _ := strings.Cut(x.path, "/")
		x.form.Set("back", "/sites/1/"+page)
		x.form.Set("sure", "1")
		x.form.Set("_csrf", tech.token("/sites/1/settings"))
		tech.post("/sites/1/"+x.path, x.form)
		if said := tech.read("/sites/1/" + page); !strings.Contains(said, "is public, it may be anybody") {
			t.Errorf("%s by a technician: not refused", x.path)
		}
	}
	if n := count(h, `select (select count(*) from network where name = 'Elsewhere' or bench) + (select count(*) from device where place like 'Far%') + (select count(*) from system)`); n != 0 {
		t.Errorf("%d public addresses were added by a technician", n)
	}
	x := url.Values{"_csrf": {lead.token("/sites/1/settings")}, "back": {"/sites/1/expected"}, "place": {"Far camera"}, "address": {"203.0.113.9"}}
	if status, page := lead.body("/sites/1/expected/row", x); status != http.StatusOK || !strings.Contains(page, "Expect it there all the same") {
		t.Errorf("a lead isn't asked: %d", status)
	}
	// A list that a technician gives is taken without them.
	token := tech.token("/sites/1/expected")
	tech.give(token, "list.csv", []byte("Place,Address\nFar camera,203.0.113.9\nNear camera,"+h.Net.At(".1.78").String()+"\n"))
	if page := tech.read("/sites/1/expected"); !strings.Contains(page, "Take 1 line and leave 1 out") || !strings.Contains(page, "is public") {
		t.Error("a technician's list has its public addresses taken")
	}
}

// A desk, a station, an analyser and a time server are added, asked by the look at their
// network, changed and removed; the log says who did.
func TestOtherSystems(t *testing.T) {
	t.Parallel()
	h := serve(t)
	v := visit(t, h)
	v.signIn(demo.Lead, h.Secrets.Lead)
	token := v.token("/sites/1/settings")
	send := func(path string, form url.Values) {
		t.Helper()
		form.Set("_csrf", token)
		form.Set("back", "/sites/1/settings")
		if res := v.post("/sites/1/settings/system"+path, form); res.StatusCode != http.StatusSeeOther {
			t.Fatalf("%s: %d", path, res.StatusCode)
		}
	}
	system := func(name, kind, at string) url.Values {
		return url.Values{"name": {name}, "kind": {kind}, "address": {at}}
	}
	send("", system("Office page", "vms", h.Net.At(".1.11").String()))
	send("", system("Recorder's time", "time", h.Net.At(".2.5").String()))
	send("", system("Silent time", "time", h.Net.At(".2.123").String()))
	send("", system("Silent station", "station", h.Net.At(".2.200").String()))
	testbed.Until(t, 60*time.Second, "all are asked", func() bool {
		return count(h, `select count(*) from system where asked_at is not null`) == 4 && count(h, `select count(*) from run where ended_at is null`) == 0
	})
	for name, want := range map[string]string{"Office page": "answer", "Recorder's time": "tells this server's own time", "Silent time": "no time over NTP: ",
		"Silent station": "none of the ports that are looked at answers"} {
		if n := count(h, `select count(*) from system where name = $1 and says like '%' || $2 || '%' and answers = ($1 not like 'Silent%')`, name, want); n != 1 {
			var says string
			_ = h.Store.Pool.QueryRow(t.Context(), `select says from system where name = $1`, name).Scan(&says)
			t.Errorf("%s says %q, want %q", name, says, want)
		}
	}
	if n := count(h, `select count(*) from try`); n != 0 {
		t.Errorf("%d accounts were sent by looking", n)
	}
	send("", system("Office page", "vms", h.Net.At(".1.99").String()))
	if page := v.read("/sites/1/settings"); !strings.Contains(page, "Office page is there already") || !strings.Contains(page, `value="`+h.Net.At(".1.99").String()+`"`) {
		t.Error("a name that is taken isn't told at its field, or what was typed is lost")
	}
	id := jsonNumber(count(h, `select id from system where name = 'Office page'`))
	send("/"+id, system("Office desk", "vms", h.Net.At(".1.98").String()))
	if n := count(h, `select count(*) from system where name = 'Office desk' and asked_at is null and not answers and says = ''`); n != 1 {
		t.Error("what it answered elsewhere is still said of it")
	}
	send("/"+id+"/remove", url.Values{})
	if n := count(h, `select count(*) from system`); n != 3 {
		t.Errorf("%d systems are left", n)
	}
	if n := count(h, `select count(*) from audit where act in ('added a system', 'changed a system', 'removed a system')`); n != 6 {
		t.Errorf("%d lines in the log, want 6", n)
	}
}
