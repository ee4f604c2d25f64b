// Package discovery finds devices: WS-Discovery to the group and to single
// addresses, and a sweep of TCP ports.
package discovery

import (
	"bytes"
	"context"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"net"
	"net/netip"
	"net/url"
	"strings"
	"sync"
	"time"

	"github.com/google/uuid"
	"golang.org/x/net/ipv4"

	"duskyharbor/internal/core/identity"
	"duskyharbor/internal/core/stream"
	"duskyharbor/internal/device/dial"
)

// Port of WS-Discovery, over UDP.
const Port = 3702

// maxAnswer is the longest datagram read, in bytes.
const maxAnswer = 64 << 10

// ErrAnswer is returned for a datagram that is no probe match.
var ErrAnswer = errors.New("not a probe match")

// Match is one device's answer to a probe.
type Match struct {
	UUID   string
	Scopes []string // percent-decoded
	XAddrs []string
}

const probe = `<?xml version="1.0" encoding="UTF-8"?><e:Envelope xmlns:e="http://www.w3.org/2003/05/soap-envelope" xmlns:w="http://schemas.xmlsoap.org/ws/2004/08/addressing" xmlns:d="http://schemas.xmlsoap.org/ws/2005/04/discovery" xmlns:dn="http://www.onvif.org/ver10/network/wsdl"><e:Header><w:MessageID>uuid:%s</w:MessageID><w:To>urn:schemas-xmlsoap-org:ws:2005:04:discovery</w:To><w:Action>http://schemas.xmlsoap.org/ws/2005/04/discovery/Probe</w:Action></e:Header><e:Body><d:Probe><d:Types>dn:NetworkVideoTransmitter</d:Types></d:Probe></e:Body></e:Envelope>`

// newProbe is a probe of its own number (version 4, RFC 9562).
func newProbe() []byte {
	return fmt.Appendf(nil, probe, uuid.NewString())
}

// parseMatch reads a ProbeMatches datagram (WS-Discovery, April 2005, section
// 5.3). Text is cleaned and cut; entities aren't expanded.
func parseMatch(data []byte) (Match, error) {
	var m Match
	d := xml.NewDecoder(bytes.NewReader(data[:min(len(data), maxAnswer)]))
	d.CharsetReader = func(_ string, in io.Reader) (io.Reader, error) { return in, nil }
	var text strings.Builder
	depth, inMatch := 0, false
	for {
		tok, err := d.Token()
		if err != nil {
			if inMatch && m.UUID != "" {
				return m, nil // a cut tail loses nothing that was read whole
			}
			return Match{}, ErrAnswer
		}
		switch t := tok.(type) {
		case xml.StartElement:
			depth++
			inMatch = inMatch || t.Name.Local == "ProbeMatch"
			if depth > 32 {
				return Match{}, ErrAnswer
			}
			text.Reset()
		case xml.EndElement:
			depth--
			if t.Name.Local == "ProbeMatch" && m.UUID != "" {
				return m, nil // one device an answer; a second match would be another's claim
			}
			if inMatch {
				m.take(t.Name.Local, text.String())
			}
			text.Reset()
		case xml.CharData:
			text.Write(t)
		}
	}
}

func (m *Match) take(element, text string) {
	switch element {
	case "Address":
		if m.UUID == "" {
			m.UUID = identity.CleanUUID(dial.CleanText(text, 128))
		}
	case "Scopes":
		for _, s := range strings.Fields(text) {
			if plain, err := url.PathUnescape(s); err == nil && len(m.Scopes) < 64 {
				m.Scopes = append(m.Scopes, dial.CleanText(plain, 256))
			}
		}
	case "XAddrs":
		for _, x := range strings.Fields(text) {
			if len(m.XAddrs) < 8 {
				m.XAddrs = append(m.XAddrs, dial.CleanText(x, 512))
			}
		}
	}
}

// Sighting is what a match tells of the device at addr, from where the answer came;
// the service address it gave is brought there.
func (m Match) Sighting(addr netip.Addr, way identity.Way, at time.Time) identity.Sighting {
	s := identity.Sighting{Address: addr, At: at, Ways: []identity.Way{way}, UUID: m.UUID, Kind: identity.Camera}
	s.Model, s.Name, s.Make, s.MAC = identity.Scopes(m.Scopes)
	for _, x := range m.XAddrs {
		if fixed, _, err := stream.RepairHost(x, addr); err == nil && strings.HasPrefix(fixed, "http") {
			s.Service = fixed
			break
		}
	}
	return s
}

// Source is the local address to probe a network from: the interface's own address
// in it, or for loopback networks its last host address.
func Source(p netip.Prefix) (netip.Addr, error) {
	if p.Addr().IsLoopback() {
		last := p.Masked().Addr()
		for p.Contains(last.Next()) {
			last = last.Next()
		}
		return last.Prev(), nil
	}
	addrs, err := net.InterfaceAddrs()
	if err != nil {
		return netip.Addr{}, err
	}
	for _, a := range addrs {
		if in, ok := a.(*net.IPNet); ok {
			if ip, ok := netip.AddrFromSlice(in.IP); ok && p.Contains(ip.Unmap()) {
				return ip.Unmap(), nil
			}
		}
	}
	return netip.Addr{}, &dial.Error{Tried: "multicast", On: p.String(), Kind: dial.ErrUnreachable,
		Says: "this machine has no address in that network"}
}

// Multicast probes the group from source twice and gathers answers for wait.
func Multicast(ctx context.Context, source netip.Addr, wait time.Duration) ([]identity.Sighting, error) {
	conn, err := open(ctx, source)
	if err != nil {
		return nil, err
	}
	defer conn.Close()
	pc := ipv4.NewPacketConn(conn)
	if ifc := interfaceOf(source); ifc != nil {
		if err := pc.SetMulticastInterface(ifc); err != nil {
			return nil, &dial.Error{Tried: "multicast", On: source.String(), Kind: dial.ErrUnreachable, Says: dial.Plain(err)}
		}
	}
	_ = pc.SetMulticastTTL(1)
	to := &net.UDPAddr{IP: net.IPv4(239, 255, 255, 250), Port: Port}
	return gather(ctx, conn, identity.Multicast, wait, []time.Duration{wait / 3}, func(heard) error {
		_, err := conn.WriteToUDP(newProbe(), to)
		return err
	})
}

// Directed probes each address by itself, up to three times until it answers, and gathers answers for wait.
func Directed(ctx context.Context, source netip.Addr, addrs []netip.Addr, wait time.Duration) ([]identity.Sighting, error) {
	conn, err := open(ctx, source)
	if err != nil {
		return nil, err
	}
	defer conn.Close()
	return gather(ctx, conn, identity.Directed, wait, []time.Duration{wait / 4, wait / 2}, func(seen heard) error {
		msg := newProbe()
		for _, a := range addrs {
			if _, answered := seen[a]; answered {
				continue
			}
			// A host that isn't there may answer with an ICMP error; the next still goes out.
			_, _ = conn.WriteToUDPAddrPort(msg, netip.AddrPortFrom(a, Port))
		}
		return nil
	})
}

func open(ctx context.Context, source netip.Addr) (*net.UDPConn, error) {
	pc, err := (&net.ListenConfig{}).ListenPacket(ctx, "udp4", netip.AddrPortFrom(source, 0).String())
	if err != nil {
		return nil, &dial.Error{Tried: "probing", On: source.String(), Kind: dial.ErrUnreachable, Says: dial.Plain(err)}
	}
	conn := pc.(*net.UDPConn)
	_ = conn.SetReadBuffer(4 << 20) // with the default, most of 250 answers at once are lost
	return conn, nil
}

func interfaceOf(a netip.Addr) *net.Interface {
	all, err := net.Interfaces()
	if err != nil {
		return nil
	}
	for i := range all {
		addrs, err := all[i].Addrs()
		if err != nil {
			continue
		}
		for _, x := range addrs {
			if in, ok := x.(*net.IPNet); ok && in.Contains(a.AsSlice()) {
				return &all[i]
			}
		}
	}
	return nil
}

// A wake-up that is later than lateFrom shows a machine that is busy: answers are waited for
// lateFold times as much longer.
const (
	lateFrom = 50 * time.Millisecond
	lateFold = 2
)

// heard is what has answered so far.
type heard map[netip.Addr]identity.Sighting

// gather sends, listens for wait, and sends again after each of these times: datagrams are
// lost.
func gather(ctx context.Context, conn *net.UDPConn, way identity.Way, wait time.Duration, after []time.Duration,
	send func(heard) error) ([]identity.Sighting, error) {
	if err := send(nil); err != nil {
		return nil, &dial.Error{Tried: "probing", On: conn.LocalAddr().String(), Kind: dial.ErrUnreachable, Says: dial.Plain(err)}
	}
	// While answers come it listens on, a few times as long at the most: a network that is
	// busy answers late. So does a machine that is busy, which wakes this one late too.
	begun, seen := time.Now(), heard{}
	end, last := begun.Add(wait), begun.Add(4*wait)
	buf := make([]byte, maxAnswer)
	for ctx.Err() == nil && time.Now().Before(end) {
		limit := end
		if len(after) > 0 {
			limit = begun.Add(after[0])
		}
		_ = conn.SetReadDeadline(limit)
		n, from, err := conn.ReadFromUDPAddrPort(buf)
		if err != nil {
			late := time.Since(limit)
			if late >= 0 && len(after) > 0 {
				after = after[1:]
				_ = send(seen)
			}
			if more := end.Add(lateFold * late); late > lateFrom && more.Before(last) {
				end = more
			}
			continue
		}
		m, err := parseMatch(buf[:n])
		if err != nil {
			continue
		}
		if more := time.Now().Add(wait / 3); more.After(end) && more.Before(last) {
			end = more
		}
		addr := from.Addr().Unmap()
		s := m.Sighting(addr, way, time.Now().UTC())
		if old, ok := seen[addr]; ok {
			s = identity.Merge(old, s)
		}
		seen[addr] = s
	}
	out := make([]identity.Sighting, 0, len(seen))
	for _, s := range seen {
		out = append(out, s)
	}
	return out, ctx.Err()
}

// Sweep tries to connect to each port of each address, limit per try, and returns
// the open ports; at most 512 tries at once.
func Sweep(ctx context.Context, d *dial.Dialer, addrs []netip.Addr, ports []int, limit time.Duration) map[netip.Addr][]int {
	type target struct {
		addr netip.Addr
		port int
	}
	work := make(chan target)
	found := map[netip.Addr][]int{}
	quick := &dial.Dialer{Own: d.Own, Connect: limit}
	var mu sync.Mutex
	var wg sync.WaitGroup
	for range min(512, len(addrs)*len(ports)) {
		wg.Add(1)
		go func() {
			defer wg.Done()
			for t := range work {
				conn, err := quick.At(t.addr).Dial(ctx, netip.AddrPortFrom(t.addr, uint16(t.port)).String())
				if err != nil {
					continue
				}
				_ = conn.Close()
				mu.Lock()
				found[t.addr] = append(found[t.addr], t.port)
				mu.Unlock()
			}
		}()
	}
feed:
	for _, p := range ports {
		for _, a := range addrs {
			select {
			case work <- target{a, p}:
			case <-ctx.Done():
				break feed
			}
		}
	}
	close(work)
	wg.Wait()
	return found
}
