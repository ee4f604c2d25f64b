package engine_test

import (
	"bufio"
	"bytes"
	"compress/gzip"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"duskyharbor/internal/app"
	"duskyharbor/internal/core/access"
	"duskyharbor/internal/core/identity"
	"duskyharbor/internal/core/stage"
	"duskyharbor/internal/store"
	"duskyharbor/internal/testbed"
)

// habit is how a hostile or odd device behaves, what must be said of it, and how many
// requests may carry an account to it.
type habit struct {
	name  string
	port  int
	serve func(h *heardAccounts, c net.Conn)
	said  string // part of what Find or Sign-in says of it; empty: nothing is wrong with it
	sent  int    // requests that carried an account
}

// heardAccounts counts the accounts that reached a device.
type heardAccounts struct {
	mu sync.Mutex
	n  int
}

func (h *heardAccounts) hear(text string) {
	if low := strings.ToLower(text); strings.Contains(low, "authorization:") || strings.Contains(low, "usernametoken") {
		h.mu.Lock()
		h.n++
		h.mu.Unlock()
	}
}

func (h *heardAccounts) count() int {
	h.mu.Lock()
	defer h.mu.Unlock()
	return h.n
}

// raw answers whatever is sent with bytes as they are.
func raw(answer string) func(*heardAccounts, net.Conn) {
	return func(h *heardAccounts, c net.Conn) {
		buf := make([]byte, 64<<10)
		n, _ := c.Read(buf)
		h.hear(string(buf[:n]))
		_, _ = io.WriteString(c, answer)
	}
}

// request is one that came over HTTP, with what it asks for.
type request struct {
	op   string // operation of its SOAP body; empty: none
	auth string
	path string
}

// web answers HTTP requests, one connection after the other, until one of them is answered
// with nothing.
func web(answer func(r request) string) func(*heardAccounts, net.Conn) {
	return func(h *heardAccounts, c net.Conn) {
		in := bufio.NewReader(c)
		for {
			req, err := http.ReadRequest(in)
			if err != nil {
				return
			}
			body, _ := io.ReadAll(io.LimitReader(req.Body, 1<<20))
			h.hear(string(body))
			if a := req.Header.Get("Authorization"); a != "" {
				h.hear("authorization: " + a)
			}
			r := request{auth: req.Header.Get("Authorization"), path: req.URL.Path}
			if strings.Contains(string(body), "UsernameToken") {
				r.auth = "token"
			}
			for _, op := range []string{"GetSystemDateAndTime", "GetDeviceInformation", "GetServices", "GetUsers", "GetNetworkInterfaces"} {
				if strings.Contains(string(body), "<"+op) {
					r.op = op
				}
			}
			text := answer(r)
			if text == "" {
				return
			}
			if _, err := io.WriteString(c, text); err != nil {
				return
			}
		}
	}
}

func status(code int, headers, body string) string {
	return fmt.Sprintf("HTTP/1.1 %d Said\r\n%sContent-Length: %d\r\n\r\n%s", code, headers, len(body), body)
}

func xml(body string) string { return status(200, "Content-Type: application/soap+xml\r\n", body) }

func envelope(inner string) string {
	return `<?xml version="1.0"?><s:Envelope xmlns:s="http://www.w3.org/2003/05/soap-envelope"><s:Body>` + inner + `</s:Body></s:Envelope>`
}

// clockSays is the answer to GetSystemDateAndTime with a UTC time of one's own.
func clockSays(date, clock string) string {
	return xml(envelope(`<GetSystemDateAndTimeResponse xmlns="http://www.onvif.org/ver10/device/wsdl"><SystemDateAndTime xmlns:t="http://www.onvif.org/ver10/schema"><t:DateTimeType>Manual</t:DateTimeType><t:DaylightSavings>false</t:DaylightSavings><t:UTCDateTime><t:Time>` + clock + `</t:Time><t:Date>` + date + `</t:Date></t:UTCDateTime></SystemDateAndTime></GetSystemDateAndTimeResponse>`))
}

func goodTime() string {
	now := time.Now().UTC()
	return clockSays(fmt.Sprintf("<t:Year>%d</t:Year><t:Month>%d</t:Month><t:Day>%d</t:Day>", now.Year(), now.Month(), now.Day()),
		fmt.Sprintf("<t:Hour>%d</t:Hour><t:Minute>%d</t:Minute><t:Second>%d</t:Second>", now.Hour(), now.Minute(), now.Second()))
}

// tells answers the time well, and a request for what it is by answer; it has no page.
func tells(answer func(r request) string) func(*heardAccounts, net.Conn) {
	return web(func(r request) string {
		switch r.op {
		case "GetSystemDateAndTime":
			return goodTime()
		case "":
			return status(404, "", "")
		}
		return answer(r)
	})
}

// always answers everything in one way.
func always(text string) func(*heardAccounts, net.Conn) {
	return web(func(request) string { return text })
}

// challenge answers 401 with these challenges until an account comes, then by then.
func challenge(challenges string, then func() string) func(*heardAccounts, net.Conn) {
	return tells(func(r request) string {
		if r.auth == "" {
			return status(401, challenges, "")
		}
		return then()
	})
}

const (
	digestMD5 = "WWW-Authenticate: Digest realm=\"x\", nonce=\"n\", qop=\"auth\", algorithm=MD5\r\n"
	basicOnly = "WWW-Authenticate: Basic realm=\"x\"\r\n"
)

func refuses() string { return status(401, digestMD5, "") }

// rtspSays answers RTSP requests: OPTIONS well, and the rest by answer.
func rtspSays(answer func(auth bool) string) func(*heardAccounts, net.Conn) {
	return func(h *heardAccounts, c net.Conn) {
		in := bufio.NewReader(c)
		for {
			var head strings.Builder
			for {
				line, err := in.ReadString('\n')
				if err != nil {
					return
				}
				if strings.TrimSpace(line) == "" {
					break
				}
				head.WriteString(line)
			}
			text := head.String()
			h.hear(text)
			cseq := ""
			for _, line := range strings.Split(text, "\r\n") {
				if strings.HasPrefix(line, "CSeq:") {
					cseq = line + "\r\n"
				}
			}
			says := "RTSP/1.0 200 OK\r\nPublic: DESCRIBE\r\n"
			if !strings.HasPrefix(text, "OPTIONS") {
				says = answer(strings.Contains(text, "Authorization:"))
			}
			status, rest, _ := strings.Cut(says, "\r\n")
			if _, err := io.WriteString(c, status+"\r\n"+cseq+rest+"\r\n"); err != nil {
				return
			}
		}
	}
}

func flood(c net.Conn, head, part string) {
	_, err := io.WriteString(c, head)
	for end := time.Now().Add(10 * time.Second); err == nil && time.Now().Before(end); {
		_, err = io.WriteString(c, part)
	}
}

// ask reads one request before what follows.
func ask(f func(net.Conn)) func(*heardAccounts, net.Conn) {
	return func(h *heardAccounts, c net.Conn) {
		buf := make([]byte, 64<<10)
		n, _ := c.Read(buf)
		h.hear(string(buf[:n]))
		f(c)
	}
}

func zipped(s string) string {
	var b bytes.Buffer
	z := gzip.NewWriter(&b)
	_, _ = io.WriteString(z, s)
	_ = z.Close()
	return b.String()
}

func habits() []habit {
	deep := strings.Repeat("<a>", 60_000)
	fault := func(code int, sub string) string {
		return status(code, "Content-Type: application/soap+xml\r\n", envelope(`<s:Fault><s:Code><s:Value>s:Sender</s:Value><s:Subcode><s:Value xmlns:ter="http://www.onvif.org/ver10/error">`+sub+`</s:Value></s:Subcode></s:Code></s:Fault>`))
	}
	info := xml(envelope(`<GetDeviceInformationResponse xmlns="http://www.onvif.org/ver10/device/wsdl"><Manufacturer>Ottervale</Manufacturer><Model>OTV 412</Model><FirmwareVersion>1</FirmwareVersion><SerialNumber>0</SerialNumber></GetDeviceInformationResponse>`))
	return []habit{
		// What answers a connection.
		{"accepts and stays silent", 8080, func(_ *heardAccounts, c net.Conn) { _, _ = io.Copy(io.Discard, c) }, "the time allowed ran out", 0},
		{"accepts and hangs up", 8080, func(*heardAccounts, net.Conn) {}, "got no answer", 0},
		{"resets the connection", 8080, func(_ *heardAccounts, c net.Conn) { _ = c.(*net.TCPConn).SetLinger(0) }, "closed the connection in the middle", 0},
		{"says the banner of a shell", 8080, func(_ *heardAccounts, c net.Conn) { _, _ = io.WriteString(c, "SSH-2.0-x\r\n") }, "isn't HTTP", 0},
		{"says the banner of a file server", 8080, func(_ *heardAccounts, c net.Conn) { _, _ = io.WriteString(c, "220 ready\r\n") }, "got no answer", 0},
		{"answers with TLS to plain text", 8080, raw("\x15\x03\x01\x00\x02\x02\x46"), "got no answer", 0},
		{"sends one byte a second", 8080, ask(func(c net.Conn) {
			for range 10 {
				_, _ = io.WriteString(c, "H")
				time.Sleep(time.Second)
			}
		}), "the time allowed ran out", 0},
		{"sends headers without end", 8080, ask(func(c net.Conn) { flood(c, "HTTP/1.1 200 OK\r\n", "X-A: "+strings.Repeat("a", 8000)+"\r\n") }), "got no answer", 0},
		{"sends a body without end", 8080, ask(func(c net.Conn) { flood(c, "HTTP/1.1 200 OK\r\n\r\n", strings.Repeat("a", 1<<16)) }), "can't be read", 0},
		{"sends less than it announced", 8080, raw("HTTP/1.1 200 OK\r\nContent-Length: 5000\r\n\r\n<a>"), "got no answer", 0},
		{"announces a length below nothing", 8080, raw("HTTP/1.1 200 OK\r\nContent-Length: -1\r\n\r\n"), "isn't HTTP", 0},
		{"sends chunks that are none", 8080, raw("HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\n\r\nzz\r\nno\r\n"), "got no answer", 0},
		{"answers in a version of its own", 8080, raw("HTTP/9.9 200 OK\r\nContent-Length: 0\r\n\r\n"), "can't be read", 0},
		{"answers a status of its own", 8080, always(status(999, "", "")), "", 0},
		{"answers with nothing in it", 8080, always(status(200, "", "")), "", 0},
		{"answers that there is no content", 8080, always("HTTP/1.1 204 None\r\n\r\n"), "", 0},
		{"zips unasked", 8080, always(status(200, "Content-Encoding: gzip\r\n", zipped(envelope("<a/>")))), "", 0},
		{"zips a bomb", 8080, always(status(200, "Content-Encoding: gzip\r\n", zipped(strings.Repeat("a", 64<<20)))), "can't be read", 0},
		{"points elsewhere", 8080, always(status(302, "Location: http://203.0.113.9/\r\n", "")), "", 0},
		{"points at itself", 8080, always(status(302, "Location: /again\r\n", "")), "", 0},
		{"points at this server", 8080, always(status(307, "Location: http://127.0.0.1:8420/\r\n", "")), "", 0},
		{"is only for those who pay", 8080, always(status(402, "", "")), "", 0},
		{"is out of order", 8080, always(status(500, "", "broken")), "it answers HTTP 500", 0},
		// What answers a question.
		{"answers a web page to everything", 8080, always(status(200, "Content-Type: text/html\r\n", "<!doctype html><title>Hello</title>")), "Its web page answers and ONVIF doesn't", 0},
		{"has a page of the past", 8080, always(status(200, "Content-Type: text/html\r\n", `<html><title>Old</title><object classid="clsid:1"></object>`)), "wants a browser or plug-in of the past", 0},
		{"answers in JSON", 8080, always(status(200, "Content-Type: application/json\r\n", `{"a":1}`)), "", 0},
		{"answers in SOAP 1.1", 8080, always(xml(`<s:Envelope xmlns:s="http://schemas.xmlsoap.org/soap/envelope/"><s:Body/></s:Envelope>`)), "can't be read", 0},
		{"answers in another namespace", 8080, always(xml(envelope(`<GetSystemDateAndTimeResponse xmlns="urn:x"/>`))), "can't be read", 0},
		{"answers another question", 8080, always(xml(envelope(`<GetHostnameResponse xmlns="http://www.onvif.org/ver10/device/wsdl"/>`))), "can't be read", 0},
		{"answers an empty envelope", 8080, always(xml(envelope(""))), "can't be read", 0},
		{"answers a fault without words", 8080, always(fault(400, "")), "", 0},
		{"knows no such action", 8080, always(fault(400, "ter:ActionNotSupported")), "", 0},
		{"splits its text by comments", 8080, always(xml(envelope("<a>" + strings.Repeat("x<!---->", 100_000) + "</a>"))), "can't be read", 0},
		{"splits its text by CDATA", 8080, always(xml(envelope("<a>" + strings.Repeat("x<![CDATA[y]]>", 60_000) + "</a>"))), "can't be read", 0},
		{"nests without end", 8080, always(xml(envelope(deep))), "can't be read", 0},
		{"has more siblings than anyone", 8080, always(xml(envelope(strings.Repeat("<a/>", 200_000)))), "can't be read", 0},
		{"has an attribute without end", 8080, always(xml(envelope(`<a b="` + strings.Repeat("c", 900_000) + `"/>`))), "can't be read", 0},
		{"declares entities", 8080, always(xml(`<?xml version="1.0"?><!DOCTYPE a [<!ENTITY b "cccccccc"><!ENTITY d "&b;&b;&b;&b;">]><a>&d;&d;</a>`)), "can't be read", 0},
		{"writes in UTF-16", 8080, always(xml("\xff\xfe<\x00a\x00/\x00>\x00")), "can't be read", 0},
		{"writes no UTF-8", 8080, always(xml(envelope("<a>\xff\xfe</a>"))), "can't be read", 0},
		{"writes NULs", 8080, always(xml(envelope("<a>\x00\x00</a>"))), "can't be read", 0},
		// What it says of the time.
		{"is in the year 0", 8080, web(func(r request) string {
			return clockSays("<t:Year>0</t:Year><t:Month>1</t:Month><t:Day>1</t:Day>", "<t:Hour>0</t:Hour><t:Minute>0</t:Minute><t:Second>0</t:Second>")
		}), "", 0},
		{"is in the year 9999", 8080, tellsTime("<t:Year>9999</t:Year><t:Month>12</t:Month><t:Day>31</t:Day>", "<t:Hour>23</t:Hour><t:Minute>59</t:Minute><t:Second>59</t:Second>"), "", 0},
		{"is in month 13", 8080, tellsTime("<t:Year>2026</t:Year><t:Month>13</t:Month><t:Day>1</t:Day>", "<t:Hour>0</t:Hour><t:Minute>0</t:Minute><t:Second>0</t:Second>"), "can't be read", 0},
		{"is in hour 25", 8080, tellsTime("<t:Year>2026</t:Year><t:Month>1</t:Month><t:Day>1</t:Day>", "<t:Hour>25</t:Hour><t:Minute>0</t:Minute><t:Second>0</t:Second>"), "can't be read", 0},
		{"is at a second of words", 8080, tellsTime("<t:Year>2026</t:Year><t:Month>1</t:Month><t:Day>1</t:Day>", "<t:Hour>0</t:Hour><t:Minute>0</t:Minute><t:Second>soon</t:Second>"), "can't be read", 0},
		{"is at a year beyond numbers", 8080, tellsTime("<t:Year>99999999999999999999</t:Year><t:Month>1</t:Month><t:Day>1</t:Day>", "<t:Hour>0</t:Hour><t:Minute>0</t:Minute><t:Second>0</t:Second>"), "can't be read", 0},
		// How it takes an account.
		{"takes nothing but Basic", 8080, challenge(basicOnly, func() string { return info }), "takes nothing but Basic over HTTP", 0},
		{"takes Basic, or Digest", 8080, challenge(basicOnly+digestMD5, refuses), "2 wrong tries within 30 minutes", 2},
		{"takes a bearer's token", 8080, challenge("WWW-Authenticate: Bearer\r\n", refuses), "no scheme that is known", 0},
		{"takes a domain's account", 8080, challenge("WWW-Authenticate: NTLM\r\nWWW-Authenticate: Negotiate\r\n", refuses), "no scheme that is known", 0},
		{"takes a Digest of its own", 8080, challenge("WWW-Authenticate: Digest realm=\"x\", nonce=\"n\", algorithm=WHIRL\r\n", refuses), "asks for a Digest that can't be answered", 0},
		{"takes Digest over the body alone", 8080, challenge("WWW-Authenticate: Digest realm=\"x\", nonce=\"n\", qop=\"auth-int\"\r\n", refuses), "", 2},
		{"takes Digest without a nonce", 8080, challenge("WWW-Authenticate: Digest realm=\"x\"\r\n", refuses), "", 2},
		{"has a realm without end", 8080, challenge("WWW-Authenticate: Digest realm=\""+strings.Repeat("r", 60_000)+"\", nonce=\"n\"\r\n", refuses), "", 2},
		{"refuses whoever it is", 8080, challenge(digestMD5, refuses), "2 wrong tries within 30 minutes", 2},
		{"says nothing once it was given an account", 8080, challenge(digestMD5, func() string { return "" }), "", 2},
		{"is locked", 8080, challenge(digestMD5, func() string { return status(403, "Retry-After: 600\r\n", "") }), "", 1},
		{"fails once it was given an account", 8080, challenge(digestMD5, func() string { return status(500, "", "") }), "it answers HTTP 500", 1},
		{"points elsewhere once it was given an account", 8080, challenge(digestMD5, func() string { return status(302, "Location: http://203.0.113.9/\r\n", "") }), "points to another address", 1},
		{"points elsewhere before", 8080, tells(func(request) string { return status(302, "Location: http://203.0.113.9/\r\n", "") }), "points to another address", 0},
		{"says who it is to anyone", 8080, tells(func(request) string { return info }), "No first password was set", 0},
		{"says 401 and offers nothing", 8080, tells(func(request) string { return status(401, "", "") }), "", 2},
		{"is out of order for who asks what it is", 8080, tells(func(request) string { return status(500, "", "") }), "can't be read", 0},
		{"stalls for who asks what it is", 8080, tells(func(request) string { time.Sleep(12 * time.Second); return "" }), "the time allowed ran out", 0},
		// RTSP.
		{"shows its streams to anyone", 8554, rtspSays(func(bool) string { return "RTSP/1.0 200 OK\r\nContent-Length: 0\r\n" }), "RTSP and no ONVIF", 0},
		{"takes Basic over RTSP", 8554, rtspSays(func(bool) string { return "RTSP/1.0 401 No\r\nWWW-Authenticate: Basic realm=\"x\"\r\n" }), "RTSP and no ONVIF", 0},
		{"refuses whoever it is over RTSP", 8554, rtspSays(func(bool) string { return "RTSP/1.0 401 No\r\nWWW-Authenticate: Digest realm=\"x\", nonce=\"n\"\r\n" }), "2 wrong tries within 30 minutes", 2},
		{"calls every nonce stale over RTSP", 8554, rtspSays(func(bool) string {
			return "RTSP/1.0 401 No\r\nWWW-Authenticate: Digest realm=\"x\", nonce=\"n\", stale=true\r\n"
		}), "2 wrong tries within 30 minutes", 2},
		{"points elsewhere over RTSP", 8554, rtspSays(func(bool) string { return "RTSP/1.0 302 Moved\r\nLocation: rtsp://203.0.113.9/\r\n" }), "RTSP and no ONVIF", 0},
		{"speaks HTTP where RTSP is", 8554, raw("HTTP/1.1 200 OK\r\n\r\n"), "answers to nothing that was asked", 0},
		{"floods where RTSP is", 8554, ask(func(c net.Conn) { flood(c, "RTSP/1.0 200 OK\r\n", "X: "+strings.Repeat("y", 8000)+"\r\n") }), "answers to nothing that was asked", 0},
	}
}

func tellsTime(date, clock string) func(*heardAccounts, net.Conn) {
	return web(func(r request) string {
		switch r.op {
		case "GetSystemDateAndTime":
			return clockSays(date, clock)
		case "":
			return status(404, "", "")
		}
		return status(401, "WWW-Authenticate: Bearer\r\n", "")
	})
}

// besideHabits puts a device of each habit on a network of the site's.
func (b *fixture) besideHabits(all []habit) (ids []int64, heard []*heardAccounts) {
	b.t.Helper()
	heard = make([]*heardAccounts, len(all))
	var fresh []store.NewDevice
	for i, h := range all {
		rest := fmt.Sprintf(".3.%d", 10+i)
		heard[i] = &heardAccounts{}
		b.listen(rest, h.port, func(c net.Conn) { h.serve(heard[i], c) })
		at := b.Net.At(rest)
		fresh = append(fresh, store.NewDevice{Device: store.Device{SiteID: b.Site, Kind: identity.Camera, Place: h.name, Address: &at, ExpectedAt: &at, Expected: true}})
	}
	ctx := b.t.Context()
	if err := b.Store.AddNetwork(ctx, b.Site, "Odd ones", b.Net.NonconformingPrefix()); err != nil {
		b.t.Fatal(err)
	}
	ids, err := b.Store.AddDevices(ctx, b.Site, fresh)
	if err != nil {
		b.t.Fatal(err)
	}
	// Many at once: those that stall are waited for side by side.
	if err := b.Store.SetWishes(ctx, b.Site, store.Wishes{AtOnce: store.Limits{Network: 64, Recorder: 4}}); err != nil {
		b.t.Fatal(err)
	}
	return ids, heard
}

// Of each hostile or odd device something is said that helps; no account reaches one that
// mustn't have it, none more than the budget; and nobody waits for them.
func TestHabitsOfBadDevices(t *testing.T) {
	t.Parallel()
	b := open(t, app.Options{})
	all := habits()
	if len(all) < 60 {
		t.Errorf("%d habits", len(all))
	}
	ids, heard := b.besideHabits(all)
	b.find()
	b.want("Slipway", stage.Find, stage.Ready)
	b.readAll(stage.SignIn)
	b.want("Slipway", stage.SignIn, stage.Ready)
	v := b.view()
	for i, h := range all {
		d, _ := v.Device(ids[i])
		var said []string
		for _, st := range []stage.Stage{stage.Find, stage.SignIn} {
			for _, f := range b.app.Findings(time.Now(), v, v.Of(d), st) {
				said = append(said, f.Sentence)
				if f.WayOut == "" || strings.Contains(f.Sentence, "0x") || strings.Contains(f.Sentence, "EOF") || strings.Contains(f.Sentence, "net/http") {
					t.Errorf("%s: %+v", h.name, f)
				}
			}
		}
		text := strings.Join(said, " | ")
		if os.Getenv("HABITS") != "" {
			t.Logf("%-45s sent %d: %s", h.name, heard[i].count(), text)
		}
		if len(said) == 0 || !strings.Contains(text, h.said) {
			t.Errorf("%s: said %q, want %q", h.name, text, h.said)
		}
		if n := heard[i].count(); n != h.sent {
			t.Errorf("%s: %d accounts reached it, want %d", h.name, n, h.sent)
		}
	}
}

// A server beside devices that send whatever they may stays small, and is quiet once they were read.
func TestAServerStaysSmallBesideBadDevices(t *testing.T) {
	t.Parallel()
	b := &fixture{Harbour: testbed.Start(t), t: t}
	b.app = b.idle()
	all := habits()
	_, heard := b.besideHabits(all)
	cmd := server(t, b.Harbour, "")
	for range rounds() {
		b.find()
		b.readAll(stage.SignIn)
		b.readAll(stage.SignIn) // a second time nothing is sent
	}
	if peak := inProc(t, cmd.Process.Pid, "VmHWM"); peak > 400<<10 {
		t.Errorf("it took %d MB at most", peak>>10)
	} else {
		t.Logf("it took %d MB at most", peak>>10)
	}
	for i, h := range all {
		if n := heard[i].count(); n > 0 && h.sent == 0 || n > access.Budget || h.name == "is locked" && n != h.sent {
			t.Errorf("%s: %d accounts reached it, want %d", h.name, n, h.sent)
		}
	}
	testbed.Until(t, 60*time.Second, "it is quiet", func() bool {
		const while = 2 * time.Second
		before := cpuOf(t, cmd.Process.Pid)
		<-time.After(while)
		return cpuOf(t, cmd.Process.Pid)-before < while/5
	})
}

// inProc is a line of a process's status in kB (proc(5)).
func inProc(t *testing.T, pid int, name string) (kB int) {
	t.Helper()
	raw, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid))
	if err != nil {
		t.Fatal(err)
	}
	_, rest, ok := strings.Cut(string(raw), name+":")
	if _, err := fmt.Sscan(rest, &kB); err != nil || !ok {
		t.Fatalf("%s of %d: %v", name, pid, err)
	}
	return kB
}

// cpuOf is the processor time that a process took so far (proc(5): utime and stime, in hundredths of a second).
func cpuOf(t *testing.T, pid int) time.Duration {
	t.Helper()
	raw, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
	if err != nil {
		t.Fatal(err)
	}
	fields := strings.Fields(string(raw[strings.LastIndexByte(string(raw), ')')+1:]))
	user, _ := strconv.Atoi(fields[11])
	system, _ := strconv.Atoi(fields[12])
	return time.Duration(user+system) * 10 * time.Millisecond
}
