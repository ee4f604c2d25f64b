package onvif

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"net/url"
	"strings"
	"testing"
	"time"

	"duskyharbor/internal/core/access"
	"duskyharbor/internal/device/dial"
)

// device is a client of whatever a handler answers.
func device(t *testing.T, h http.HandlerFunc) (*Client, *httptest.Server) {
	t.Helper()
	srv := httptest.NewServer(h)
	t.Cleanup(func() { srv.CloseClientConnections(); srv.Close() })
	u, err := url.Parse(srv.URL)
	if err != nil {
		t.Fatal(err)
	}
	c, err := New((&dial.Dialer{}).At(netip.MustParseAddr(u.Hostname())), srv.URL+"/onvif/device_service",
		Login{Username: "u", Password: "p", Scheme: access.Token})
	if err != nil {
		t.Fatal(err)
	}
	return c, srv
}

func soap(body string) http.HandlerFunc {
	return func(w http.ResponseWriter, _ *http.Request) {
		_, _ = io.WriteString(w, `<e:Envelope xmlns:e="http://www.w3.org/2003/05/soap-envelope" xmlns:tds="http://www.onvif.org/ver10/device/wsdl" xmlns:tt="http://www.onvif.org/ver10/schema"><e:Body>`+body+`</e:Body></e:Envelope>`)
	}
}

// Each bad answer ends soon, in an error of the right kind that says what was tried.
func TestBadAnswersEndInASentence(t *testing.T) {
	big := strings.Repeat("x", 1<<20)
	for _, tc := range []struct {
		name string
		h    http.HandlerFunc
		kind error
	}{
		{"garbage", func(w http.ResponseWriter, _ *http.Request) { _, _ = w.Write([]byte("\x00\xff\xfenot xml")) }, dial.ErrMalformed},
		{"nothing", func(http.ResponseWriter, *http.Request) {}, dial.ErrMalformed},
		{"50 MB", func(w http.ResponseWriter, _ *http.Request) {
			_, _ = io.WriteString(w, "<a>")
			for range 50 {
				if _, err := io.WriteString(w, big); err != nil {
					return
				}
			}
		}, dial.ErrMalformed},
		{"deep nesting", soap(strings.Repeat("<a>", 100000) + strings.Repeat("</a>", 100000)), dial.ErrMalformed},
		{"an entity bomb", func(w http.ResponseWriter, _ *http.Request) {
			_, _ = io.WriteString(w, `<!DOCTYPE b [<!ENTITY a "ha"><!ENTITY b "&a;&a;&a;"><!ENTITY c "&b;&b;&b;">]><b>&c;</b>`)
		}, dial.ErrMalformed},
		{"cut in the middle", func(w http.ResponseWriter, _ *http.Request) {
			conn, _, err := w.(http.Hijacker).Hijack()
			if err == nil {
				_, _ = io.WriteString(conn, "HTTP/1.1 200 OK\r\nContent-Length: 500\r\n\r\n<e:Envelope")
				_ = conn.Close()
			}
		}, dial.ErrUnreachable},
		{"closes at once", func(w http.ResponseWriter, _ *http.Request) {
			if conn, _, err := w.(http.Hijacker).Hijack(); err == nil {
				_ = conn.Close()
			}
		}, dial.ErrUnreachable},
		{"another service's answer", soap(`<tds:RebootResponse/>`), dial.ErrMalformed},
		{"another namespace", soap(`<GetSystemDateAndTimeResponse xmlns="urn:else"/>`), dial.ErrMalformed},
		{"a time that is none", soap(`<tds:GetSystemDateAndTimeResponse><tds:SystemDateAndTime><tt:UTCDateTime><tt:Date><tt:Year>99999999</tt:Year></tt:Date></tt:UTCDateTime></tds:SystemDateAndTime></tds:GetSystemDateAndTimeResponse>`), dial.ErrMalformed},
		{"redirect elsewhere", func(w http.ResponseWriter, r *http.Request) {
			http.Redirect(w, r, "http://127.0.0.99:1/", http.StatusFound)
		}, dial.ErrElsewhere},
		{"401", func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(http.StatusUnauthorized) }, dial.ErrNotAuthorised},
		{"not there", func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(http.StatusNotFound) }, dial.ErrNotSupported},
		{"a fault", soap(`<e:Fault><e:Code><e:Value>e:Sender</e:Value><e:Subcode><e:Value>ter:NotAuthorized</e:Value></e:Subcode></e:Code><e:Reason><e:Text xml:lang="en">no</e:Text></e:Reason></e:Fault>`), dial.ErrNotAuthorised},
		{"a fault of time", soap(`<e:Fault><e:Code><e:Value>e:Sender</e:Value><e:Subcode><e:Value>wsse:MessageExpired</e:Value></e:Subcode></e:Code><e:Reason><e:Text xml:lang="en">no</e:Text></e:Reason></e:Fault>`), dial.ErrClock},
	} {
		t.Run(tc.name, func(t *testing.T) {
			c, srv := device(t, tc.h)
			begun := time.Now()
			_, err := c.Time(context.Background())
			if !errors.Is(err, tc.kind) {
				t.Fatalf("%v, want %v", err, tc.kind)
			}
			if !strings.Contains(err.Error(), "GetSystemDateAndTime on "+strings.TrimPrefix(srv.URL, "http://")) {
				t.Errorf("%q doesn't say what was tried on what", err)
			}
			if took := time.Since(begun); took > CallLimit+time.Second {
				t.Errorf("it took %v", took)
			}
		})
	}
}

func TestASilentDeviceIsLeftInTime(t *testing.T) {
	c, _ := device(t, func(_ http.ResponseWriter, r *http.Request) {
		_, _ = io.Copy(io.Discard, r.Body) // only then does the server see the client go
		<-r.Context().Done()
	})
	ctx, cancel := context.WithTimeout(context.Background(), 300*time.Millisecond)
	defer cancel()
	if _, err := c.Time(ctx); !errors.Is(err, dial.ErrUnreachable) || !strings.Contains(err.Error(), "the time allowed ran out") {
		t.Errorf("%v", err)
	}
	dead, err := net.Listen("tcp4", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	at := dead.Addr().String()
	_ = dead.Close()
	c2, err := New((&dial.Dialer{}).At(netip.MustParseAddr("127.0.0.1")), "http://"+at+"/", Login{})
	if err != nil {
		t.Fatal(err)
	}
	if _, err := c2.Time(context.Background()); !errors.Is(err, dial.ErrUnreachable) || !strings.Contains(err.Error(),
		"the port is closed") {
		t.Errorf("%v", err)
	}
}

// Whatever address a device names, only its own is dialled, and none of our ports.
func TestAddressesADeviceNamesAreDialledAtTheDevice(t *testing.T) {
	var asked []string
	c, srv := device(t, func(w http.ResponseWriter, r *http.Request) {
		asked = append(asked, r.Host+r.URL.Path)
		soap(`<x:CreatePullPointSubscriptionResponse xmlns:x="`+eventNS+`"><x:SubscriptionReference><a:Address xmlns:a="http://www.w3.org/2005/08/addressing">http://192.0.2.7:`+port(r.Host)+`/sub/1</a:Address></x:SubscriptionReference></x:CreatePullPointSubscriptionResponse>`)(w, r)
	})
	point, err := c.Subscribe(context.Background(),
		map[string]string{eventNS: "http://192.0.2.7:" + port(srv.Listener.Addr().String()) + "/events"})
	if err != nil {
		t.Fatal(err)
	}
	_, _ = point.Pull(context.Background(), time.Second)
	host := srv.Listener.Addr().String()
	if len(asked) != 2 || asked[0] != host+"/events" || asked[1] != host+"/sub/1" {
		t.Errorf("asked %v, want both at %s", asked, host)
	}

	own := dial.Dialer{Own: dial.ParseOwn(host)}
	mine, err := New(own.At(netip.MustParseAddr("127.0.0.1")), srv.URL, Login{})
	if err != nil {
		t.Fatal(err)
	}
	if _, err := mine.Time(context.Background()); !errors.Is(err, dial.ErrElsewhere) {
		t.Errorf("our own port was dialled: %v", err)
	}
	if _, err := (&dial.Dialer{}).At(netip.MustParseAddr("127.0.0.1")).Dial(context.Background(),
		"127.0.0.2:80"); !errors.Is(err, dial.ErrElsewhere) {
		t.Errorf("another address was dialled: %v", err)
	}
}

func port(hostport string) string {
	_, p, _ := net.SplitHostPort(hostport)
	return p
}

func TestOddButRightAnswersAreRead(t *testing.T) {
	c, _ := device(t, func(w http.ResponseWriter, _ *http.Request) {
		fmt.Fprint(w, "\xef\xbb\xbf", `<?xml version="1.0"?><!-- hello --><Envelope xmlns="http://www.w3.org/2003/05/soap-envelope"><Header/><Body><GetSystemDateAndTimeResponse xmlns="http://www.onvif.org/ver10/device/wsdl"><SystemDateAndTime>
			<q:DateTimeType xmlns:q="http://www.onvif.org/ver10/schema">NTP</q:DateTimeType><q:DaylightSavings xmlns:q="http://www.onvif.org/ver10/schema">1</q:DaylightSavings>
			<z:UTCDateTime xmlns:z="http://www.onvif.org/ver10/schema"><z:Time><z:Hour>5.0</z:Hour><z:Minute>4</z:Minute><z:Second>3</z:Second></z:Time><z:Date><z:Year>2026</z:Year><z:Month>11</z:Month><z:Day>24</z:Day></z:Date></z:UTCDateTime></SystemDateAndTime></GetSystemDateAndTimeResponse></Body></Envelope>`)
	})
	r, err := c.Time(context.Background())
	if err != nil || !r.Device.Equal(time.Date(2026, 11, 24, 5, 4, 3, 0, time.UTC)) || !r.NTP || !r.Daylight {
		t.Errorf("%+v %v", r, err)
	}
}

// A call that changes nothing is sent again where the connection broke, once; not while
// nobody knows whether the login is taken, and none that changes something.
func TestABrokenConnectionIsTriedOnceMore(t *testing.T) {
	asked, drops := map[string]int{}, map[string]int{}
	answer := soap(`<tds:GetDeviceInformationResponse><tds:Model>m</tds:Model></tds:GetDeviceInformationResponse>`)
	c, _ := device(t, func(w http.ResponseWriter, r *http.Request) {
		op := r.Header.Get("Content-Type")
		op = strings.Trim(op[strings.LastIndex(op, "/")+1:], `"`)
		if asked[op]++; asked[op] <= drops[op] {
			panic(http.ErrAbortHandler)
		}
		answer(w, r)
	})
	drops["GetDeviceInformation"] = 1
	if _, err := c.Information(t.Context()); !errors.Is(err, dial.ErrUnreachable) || asked["GetDeviceInformation"] != 1 {
		t.Errorf("a login that nobody knows to be right was sent %d times: %v", asked["GetDeviceInformation"], err)
	}
	if _, err := c.Information(t.Context()); err != nil { // from here on it is known to be right
		t.Fatal(err)
	}
	asked["GetDeviceInformation"] = 0
	if _, err := c.Information(t.Context()); err != nil || asked["GetDeviceInformation"] != 2 {
		t.Errorf("asked %d times: %v", asked["GetDeviceInformation"], err)
	}
	asked["GetDeviceInformation"], drops["GetDeviceInformation"] = 0, 2
	if _, err := c.Information(t.Context()); !errors.Is(err, dial.ErrUnreachable) || asked["GetDeviceInformation"] != 2 {
		t.Errorf("asked %d times: %v", asked["GetDeviceInformation"], err)
	}
	drops["SystemReboot"] = 1
	if err := c.Reboot(t.Context()); err == nil || asked["SystemReboot"] != 1 {
		t.Errorf("told to start again %d times: %v", asked["SystemReboot"], err)
	}
}

func TestTextFromADeviceIsCleaned(t *testing.T) {
	c, _ := device(t, soap(`<tds:GetDeviceInformationResponse><tds:Manufacturer>&lt;script&gt;alert(1)&lt;/script&gt;`+"\u202e"+`</tds:Manufacturer><tds:Model>`+strings.Repeat("m", 5000)+`</tds:Model></tds:GetDeviceInformationResponse>`))
	s, err := c.Information(context.Background())
	if err != nil || s.Make != "<script>alert(1)</script>" || len(s.Model) != 512 {
		t.Errorf("%q, %d, %v: text stays text, without control characters and not too long", s.Make, len(s.Model), err)
	}
}

func FuzzParse(f *testing.F) {
	f.Add([]byte(`<a xmlns:b="c"><b:d e="f">g</b:d></a>`))
	f.Add([]byte("\xef\xbb\xbf<?xml version='1.0' encoding='iso-8859-1'?><a>\xe4</a>"))
	f.Add([]byte(`<!DOCTYPE a [<!ENTITY b "c">]><a>&b;</a>`))
	f.Fuzz(func(t *testing.T, data []byte) {
		n, err := parse(data)
		if err == nil && n == nil {
			t.Error("neither a tree nor an error")
		}
		if err != nil {
			return
		}
		_ = n.str("a")
		_ = n.attr("b")
		_ = n.space("c")
		_ = readable(n, 0)
	})
}

func readable(n *node, depth int) int {
	if depth > maxDepth {
		panic("deeper than the limit")
	}
	count := 1
	for _, k := range n.kids {
		count += readable(k, depth+1)
	}
	return count
}
