package discovery

import (
	"context"
	"net"
	"net/netip"
	"strings"
	"testing"
	"time"

	"duskyharbor/internal/core/identity"
	"duskyharbor/internal/device/dial"
)

const match = `<?xml version="1.0"?><e:Envelope xmlns:e="http://www.w3.org/2003/05/soap-envelope" xmlns:a="http://schemas.xmlsoap.org/ws/2004/08/addressing" xmlns:d="http://schemas.xmlsoap.org/ws/2005/04/discovery"><e:Body><d:ProbeMatches><d:ProbeMatch><a:EndpointReference><a:Address>urn:uuid:AB-1</a:Address></a:EndpointReference><d:Scopes>onvif://www.onvif.org/hardware/OTV%20412 onvif://www.onvif.org/name/Otter%3Cb%3E</d:Scopes><d:XAddrs>http://192.0.2.1:8080/onvif/device_service http://127.40.1.11/x</d:XAddrs></d:ProbeMatch></d:ProbeMatches></e:Body></e:Envelope>`

func TestParseMatch(t *testing.T) {
	m, err := parseMatch([]byte(match))
	if err != nil || m.UUID != "ab-1" || len(m.Scopes) != 2 || len(m.XAddrs) != 2 {
		t.Fatalf("%+v %v", m, err)
	}
	s := m.Sighting(netip.MustParseAddr("127.40.1.11"), identity.Multicast, time.Now())
	if s.Model != "OTV 412" || s.Name != "Otter<b>" || s.Service != "http://127.40.1.11:8080/onvif/device_service" {
		t.Errorf("%+v: the service is taken to where the answer came from", s)
	}
	// Cut anywhere after its identity, it is still a match; before, it is none.
	for n := range len(match) {
		m, err := parseMatch([]byte(match[:n]))
		if err == nil && m.UUID != "ab-1" {
			t.Fatalf("cut at %d: %+v", n, m)
		}
	}
	for _, bad := range []string{"", "hello", "<a/>", strings.Repeat("<a>", 5000), strings.Replace(match, "ProbeMatch>", "Probe>", -1)} {
		if m, err := parseMatch([]byte(bad)); err == nil {
			t.Errorf("%.30q: %+v", bad, m)
		}
	}
}

func FuzzParseMatch(f *testing.F) {
	f.Add([]byte(match))
	f.Add([]byte(match[:400]))
	f.Fuzz(func(t *testing.T, data []byte) {
		m, err := parseMatch(data)
		if err == nil && (m.UUID == "" || len(m.Scopes) > 64 || len(m.XAddrs) > 8) {
			t.Errorf("%+v", m)
		}
	})
}

func TestSweepFindsOpenPortsAlone(t *testing.T) {
	l, err := net.Listen("tcp4", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	open := l.Addr().(*net.TCPAddr).Port
	a, b := netip.MustParseAddr("127.0.0.1"), netip.MustParseAddr("127.0.0.7")
	got := Sweep(context.Background(), &dial.Dialer{}, []netip.Addr{a, b}, []int{open, 1}, 300*time.Millisecond)
	if len(got) != 1 || len(got[a]) != 1 || got[a][0] != open {
		t.Errorf("%v, want only %d on %v", got, open, a)
	}
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	if got := Sweep(ctx, &dial.Dialer{}, []netip.Addr{a}, []int{open}, time.Second); len(got) != 0 {
		t.Errorf("stopped, it still found %v", got)
	}
}

func TestSourceOfALoopbackNetwork(t *testing.T) {
	a, err := Source(netip.MustParsePrefix("127.40.1.0/24"))
	if err != nil || a.String() != "127.40.1.254" {
		t.Errorf("%v %v", a, err)
	}
	if _, err := Source(netip.MustParsePrefix("203.0.113.0/24")); err == nil {
		t.Error("this machine is in a network for documentation")
	}
}

// BenchmarkSweep beside BenchmarkBareConnect: our sweep against a plain loop over the
// same addresses and ports.
func BenchmarkSweep(b *testing.B) {
	addrs := sweepAddrs()
	for b.Loop() {
		Sweep(context.Background(), &dial.Dialer{}, addrs, []int{80, 8080, 8554}, 300*time.Millisecond)
	}
}

func BenchmarkBareConnect(b *testing.B) {
	addrs := sweepAddrs()
	for b.Loop() {
		gate := make(chan struct{}, 512)
		for _, p := range []string{":80", ":8080", ":8554"} {
			for _, a := range addrs {
				gate <- struct{}{}
				go func() {
					defer func() { <-gate }()
					if c, err := net.DialTimeout("tcp4", a.String()+p, 300*time.Millisecond); err == nil {
						_ = c.Close()
					}
				}()
			}
		}
		for range cap(gate) {
			gate <- struct{}{}
		}
	}
}

func sweepAddrs() []netip.Addr {
	var out []netip.Addr
	for a := netip.MustParseAddr("127.251.7.1"); len(out) < 254; a = a.Next() {
		out = append(out, a)
	}
	return out
}
