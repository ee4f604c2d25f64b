package dial_test

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/netip"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"duskyharbor/internal/core/identity"
	"duskyharbor/internal/core/stream"
	"duskyharbor/internal/device/dial"
	"duskyharbor/internal/device/discovery"
	"duskyharbor/internal/device/onvif"
	"duskyharbor/internal/device/rtsp"
)

// trapped is a device on one loopback address that names another, and a trap there, on
// the same port: whoever follows the name is caught.
type trapped struct {
	t       *testing.T
	host    dial.Host
	port    int
	mu      sync.Mutex
	asked   []string // of the device
	caught  atomic.Int32
	answers map[string]string // SOAP operation → what its body holds
	rtsp    func(method string) string
}

var device, trap = netip.MustParseAddr("127.13.0.2"), netip.MustParseAddr("127.13.0.3")

func setTrap(t *testing.T) *trapped {
	t.Helper()
	l, err := net.Listen("tcp4", device.String()+":0")
	if err != nil {
		t.Fatal(err)
	}
	x := &trapped{t: t, host: (&dial.Dialer{}).At(device), port: l.Addr().(*net.TCPAddr).Port, answers: map[string]string{}}
	caught, err := net.Listen("tcp4", netip.AddrPortFrom(trap, uint16(x.port)).String())
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = l.Close(); _ = caught.Close() })
	go func() {
		for {
			c, err := caught.Accept()
			if err != nil {
				return
			}
			x.caught.Add(1)
			_ = c.Close()
		}
	}()
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go x.serve(c)
		}
	}()
	return x
}

func (x *trapped) note(what string) {
	x.mu.Lock()
	defer x.mu.Unlock()
	x.asked = append(x.asked, what)
}

// serve speaks RTSP or HTTP, whichever comes.
func (x *trapped) serve(c net.Conn) {
	defer c.Close()
	r := bufio.NewReader(c)
	for {
		_ = c.SetDeadline(time.Now().Add(5 * time.Second))
		line, err := r.Peek(8)
		if err != nil {
			return
		}
		if !strings.HasPrefix(string(line), "POST") && !strings.HasPrefix(string(line), "GET /") {
			method, cseq := "", ""
			for i := 0; ; i++ {
				l, err := r.ReadString('\n')
				if err != nil || strings.TrimSpace(l) == "" {
					break
				}
				if i == 0 {
					method, _, _ = strings.Cut(l, " ")
				}
				if v, ok := strings.CutPrefix(l, "CSeq:"); ok {
					cseq = strings.TrimSpace(v)
				}
			}
			x.note("RTSP " + method)
			_, _ = io.WriteString(c, strings.Replace(x.rtsp(method), "CSEQ", cseq, 1))
			continue
		}
		req, err := http.ReadRequest(r)
		if err != nil {
			return
		}
		body, _ := io.ReadAll(req.Body)
		op := "GET"
		for name := range x.answers {
			if strings.Contains(string(body), "<"+name+" ") {
				op = name
			}
		}
		x.note(op)
		if op == "GET" && x.answers["redirect"] != "" {
			fmt.Fprintf(c, "HTTP/1.1 302 Found\r\nLocation: %s\r\nContent-Length: 0\r\n\r\n", x.answers["redirect"])
			continue
		}
		out := `<s:Envelope xmlns:s="http://www.w3.org/2003/05/soap-envelope" xmlns:t="http://www.onvif.org/ver10/schema"><s:Body>` + x.answers[op] + `</s:Body></s:Envelope>`
		fmt.Fprintf(c, "HTTP/1.1 200 OK\r\nContent-Type: application/soap+xml\r\nContent-Length: %d\r\n\r\n%s", len(out), out)
	}
}

func (x *trapped) at(scheme, path string) string {
	return fmt.Sprintf("%s://%s%s", scheme, netip.AddrPortFrom(device, uint16(x.port)), path)
}

func (x *trapped) elsewhere(scheme, path string) string {
	return fmt.Sprintf("%s://%s%s", scheme, netip.AddrPortFrom(trap, uint16(x.port)), path)
}

func (x *trapped) client(service string) *onvif.Client {
	x.t.Helper()
	c, err := onvif.New(x.host, service, onvif.Login{})
	if err != nil {
		x.t.Fatal(err)
	}
	x.t.Cleanup(c.Close)
	return c
}

const (
	deviceNS = "http://www.onvif.org/ver10/device/wsdl"
	mediaNS  = "http://www.onvif.org/ver20/media/wsdl"
	eventNS  = "http://www.onvif.org/ver10/events/wsdl"
	someTime = `<x:GetSystemDateAndTimeResponse xmlns:x="` + deviceNS + `"><x:SystemDateAndTime><t:UTCDateTime><t:Time><t:Hour>1</t:Hour><t:Minute>2</t:Minute><t:Second>3</t:Second></t:Time><t:Date><t:Year>2026</t:Year><t:Month>1</t:Month><t:Day>2</t:Day></t:Date></t:UTCDateTime></x:SystemDateAndTime></x:GetSystemDateAndTimeResponse>`
	sdp      = "v=0\r\nm=video 0 RTP/AVP 96\r\na=rtpmap:96 H264/90000\r\na=control:%s\r\n"
)

// Each place where a device can name an address: what it names is asked at the device,
// or not at all, and never where the name points.
func TestNoPlaceLeadsElsewhere(t *testing.T) {
	ctx := context.Background()
	profiles := func(x *trapped) {
		x.answers["GetProfiles"] = `<x:GetProfilesResponse xmlns:x="` + mediaNS + `"><x:Profiles token="main"><x:Name>Main</x:Name><x:Configurations><x:VideoEncoder token="v"><t:Encoding>H264</t:Encoding></x:VideoEncoder></x:Configurations></x:Profiles></x:GetProfilesResponse>`
		x.answers["GetStreamUri"] = `<x:GetStreamUriResponse xmlns:x="` + mediaNS + `"><x:Uri>` + x.elsewhere("rtsp",
			"/main") + `</x:Uri></x:GetStreamUriResponse>`
		x.answers["GetSnapshotUri"] = `<x:GetSnapshotUriResponse xmlns:x="` + mediaNS + `"><x:Uri>` + x.elsewhere("http", "/still") + `</x:Uri></x:GetSnapshotUriResponse>`
	}
	read := func(x *trapped) stream.Profile {
		x.t.Helper()
		profiles(x)
		c, services := x.client(x.at("http", "/")), map[string]string{mediaNS: x.at("http", "/media")}
		all, err := c.Profiles(ctx, services)
		if err != nil || len(all) != 1 {
			x.t.Fatalf("%v %v", all, err)
		}
		if err := c.Addresses(ctx, services, &all[0]); err != nil {
			x.t.Fatal(err)
		}
		return all[0]
	}
	describe := func(base, control string) func(x *trapped) {
		return func(x *trapped) {
			body := fmt.Sprintf(sdp, control)
			if control == "ELSEWHERE" {
				body = fmt.Sprintf(sdp, x.elsewhere("rtsp", "/main/track1"))
			}
			head := ""
			if base == "ELSEWHERE" {
				head = "Content-Base: " + x.elsewhere("rtsp", "/other/") + "\r\n"
			}
			x.rtsp = func(method string) string {
				if method == "DESCRIBE" {
					return fmt.Sprintf("RTSP/1.0 200 OK\r\nCSeq: CSEQ\r\n%sContent-Type: application/sdp\r\nContent-Length: %d\r\n\r\n%s", head, len(body), body)
				}
				return "RTSP/1.0 200 OK\r\nCSeq: CSEQ\r\nSession: 1\r\nTransport: RTP/AVP/TCP;interleaved=0-1\r\n\r\n"
			}
			c, err := rtsp.Open(ctx, x.host, x.at("rtsp", "/main"), rtsp.Login{})
			if err != nil {
				x.t.Fatal(err)
			}
			defer c.Close()
			track, err := c.Describe()
			if err != nil || !strings.HasPrefix(track.Control, x.at("rtsp", "/")) {
				x.t.Fatalf("%+v %v", track, err)
			}
			if err := c.Play(track); err != nil {
				x.t.Fatal(err)
			}
		}
	}
	for name, do := range map[string]struct {
		act  func(x *trapped)
		asks string // what the device must have been asked; empty: nothing is asked
	}{
		"XAddrs of a probe match": {func(x *trapped) {
			x.answers["GetSystemDateAndTime"] = someTime
			s := discovery.Match{UUID: "u", XAddrs: []string{x.elsewhere("http",
				"/onvif/device_service")}}.Sighting(device, identity.Directed, time.Now())
			if _, err := x.client(s.Service).Time(ctx); err != nil {
				x.t.Fatal(err)
			}
		}, "GetSystemDateAndTime"},
		"XAddr of a service": {func(x *trapped) {
			profiles(x)
			if _, err := x.client(x.at("http", "/")).Profiles(ctx, map[string]string{mediaNS: x.elsewhere("http", "/media")}); err != nil {
				x.t.Fatal(err)
			}
		}, "GetProfiles"},
		"subscription": {func(x *trapped) {
			x.answers["CreatePullPointSubscription"] = `<x:CreatePullPointSubscriptionResponse xmlns:x="` + eventNS + `"><x:SubscriptionReference><a:Address xmlns:a="http://www.w3.org/2005/08/addressing">` + x.elsewhere("http", "/sub/1") + `</a:Address></x:SubscriptionReference></x:CreatePullPointSubscriptionResponse>`
			x.answers["PullMessages"] = `<x:PullMessagesResponse xmlns:x="` + eventNS + `"/>`
			p, err := x.client(x.at("http", "/")).Subscribe(ctx, map[string]string{eventNS: x.at("http", "/events")})
			if err == nil {
				_, err = p.Pull(ctx, time.Second)
			}
			if err != nil {
				x.t.Fatal(err)
			}
		}, "PullMessages"},
		"snapshot": {func(x *trapped) {
			p := read(x)
			res, err := x.host.Client(nil).Get(p.Snapshot)
			if err != nil {
				x.t.Fatal(err)
			}
			_ = res.Body.Close()
		}, "GET"},
		"snapshot, as it was named": {func(x *trapped) {
			if res, err := x.host.Client(nil).Get(x.elsewhere("http", "/still")); !errors.Is(err, dial.ErrElsewhere) {
				x.t.Fatalf("%v %v", res, err)
			}
		}, ""},
		"stream": {func(x *trapped) {
			p := read(x)
			x.rtsp = func(string) string { return "RTSP/1.0 200 OK\r\nCSeq: CSEQ\r\n\r\n" }
			for _, address := range []string{p.URI, p.Given} {
				c, err := rtsp.Open(ctx, x.host, address, rtsp.Login{})
				if err == nil {
					err = c.Options()
					c.Close()
				}
				if err != nil {
					x.t.Fatal(err)
				}
			}
		}, "RTSP OPTIONS"},
		"Content-Base": {describe("ELSEWHERE", "track1"), "RTSP PLAY"},
		"control":      {describe("", "ELSEWHERE"), "RTSP PLAY"},
		"redirect over HTTP": {func(x *trapped) {
			x.answers["redirect"] = x.elsewhere("http", "/")
			res, err := x.host.Client(nil).Get(x.at("http", "/still"))
			if err != nil || res.StatusCode != http.StatusFound {
				x.t.Fatalf("%v %v", res, err)
			}
			_ = res.Body.Close()
		}, "GET"},
		"redirect over RTSP": {func(x *trapped) {
			x.rtsp = func(string) string {
				return "RTSP/1.0 302 Found\r\nCSeq: CSEQ\r\nLocation: " + x.elsewhere("rtsp", "/main") + "\r\n\r\n"
			}
			c, err := rtsp.Open(ctx, x.host, x.at("rtsp", "/main"), rtsp.Login{})
			if err != nil {
				x.t.Fatal(err)
			}
			defer c.Close()
			if _, err := c.Describe(); err == nil {
				x.t.Fatal("a redirect is taken for an answer")
			}
		}, "RTSP DESCRIBE"},
		"a port of our own": {func(x *trapped) {
			d := &dial.Dialer{Own: dial.ParseOwn(netip.AddrPortFrom(device, uint16(x.port)).String())}
			if _, err := d.At(device).Dial(ctx, netip.AddrPortFrom(device, uint16(x.port)).String()); !errors.Is(err, dial.ErrElsewhere) {
				x.t.Fatal(err)
			}
			everywhere := &dial.Dialer{Own: dial.ParseOwn(fmt.Sprintf("0.0.0.0:%d", x.port))}
			if _, err := everywhere.At(device).Dial(ctx,
				netip.AddrPortFrom(device, uint16(x.port)).String()); !errors.Is(err, dial.ErrElsewhere) {
				x.t.Fatal(err)
			}
		}, ""},
		"a name instead of an address": {func(x *trapped) {
			if _, err := x.host.Dial(ctx, fmt.Sprintf("localhost:%d", x.port)); !errors.Is(err, dial.ErrElsewhere) {
				x.t.Fatal(err)
			}
		}, ""},
	} {
		t.Run(name, func(t *testing.T) {
			x := setTrap(t)
			do.act(x)
			x.mu.Lock()
			defer x.mu.Unlock()
			asked := strings.Join(x.asked, ", ")
			if do.asks == "" && asked != "" || !strings.Contains(asked, do.asks) {
				t.Errorf("the device was asked %q, want %q", asked, do.asks)
			}
			if n := x.caught.Load(); n > 0 {
				t.Errorf("the trap was dialled %d times", n)
			}
		})
	}
}

// Activity hears a byte and a refusal, and no silence.
func TestTheEar(t *testing.T) {
	x := setTrap(t)
	x.answers["GetSystemDateAndTime"] = someTime
	var heard, silent, refused dial.Activity
	if _, err := x.client(x.at("http", "/")).Time(dial.WithActivity(context.Background(), &heard)); err != nil || !heard.Heard() {
		t.Errorf("an answer isn't heard: %v", err)
	}
	conn, err := x.host.Dial(dial.WithActivity(context.Background(), &silent), netip.AddrPortFrom(device, uint16(x.port)).String())
	if err != nil || silent.Heard() {
		t.Errorf("a connection without a byte is heard: %v", err)
	}
	_ = conn.Close()
	if _, err := x.host.Dial(dial.WithActivity(context.Background(), &refused),
		netip.AddrPortFrom(device, 1).String()); err == nil || !refused.Heard() {
		t.Errorf("a refusal isn't heard: %v", err)
	}
}
