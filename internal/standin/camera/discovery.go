package camera

import (
	"context"
	"fmt"
	"net"
	"net/netip"
	"os"
	"slices"
	"strings"
	"sync"

	"github.com/google/uuid"
	"golang.org/x/net/ipv4"
	"golang.org/x/sys/unix"

	"duskyharbor/internal/standin/wire"
)

const discoveryPort = 3702

var group = netip.MustParseAddr("239.255.255.250")

// serveDiscovery answers WS-Discovery probes (WS-Discovery 1.0, April 2005, as
// ONVIF Core, section 7 asks): directed ones from anywhere, multicast ones from
// the camera's own network alone. Every answer leaves from its own address.
func (c *Camera) serveDiscovery(ctx context.Context, at netip.Addr) error {
	pc, err := (&net.ListenConfig{}).ListenPacket(ctx, "udp4", netip.AddrPortFrom(at, discoveryPort).String())
	if err != nil {
		return err
	}
	own := pc.(*net.UDPConn)
	c.run(func() {
		buf := make([]byte, 8192)
		for {
			n, from, err := own.ReadFromUDPAddrPort(buf)
			if err != nil {
				return
			}
			if only := c.cfg.Manners.Behind; !c.cfg.Manners.NoDirected && (!only.IsValid() || from.Addr().Unmap() == only) {
				c.probed(own, buf[:n], from)
			}
		}
	})
	leave, err := joinGroup(func(data []byte, from netip.AddrPort) {
		if c.cfg.hears(at, from.Addr().Unmap()) {
			go func() {
				if !c.memory().Hidden {
					c.probed(own, data, from)
				}
			}()
		}
	})
	if err != nil {
		_ = own.Close()
		return err
	}
	c.run(func() {
		<-ctx.Done()
		leave()
		_ = own.Close()
	})
	return nil
}

// hears says whether a camera at this address hears multicast from there: it does
// from its own network, and from nowhere else.
func (cfg Config) hears(at, from netip.Addr) bool {
	if cfg.Manners.Behind.IsValid() {
		return from == cfg.Manners.Behind
	}
	if cfg.Network.Contains(at) {
		return cfg.Network.Contains(from)
	}
	p, err := at.Prefix(24)
	return err == nil && p.Contains(from)
}

func (c *Camera) probed(own *net.UDPConn, data []byte, from netip.AddrPort) {
	doc, err := wire.Parse(strings.NewReader(string(data)))
	if err != nil || doc.Find("Probe") == nil {
		return
	}
	if types := doc.Get("Types"); types != "" && !strings.Contains(types, "NetworkVideoTransmitter") && !strings.Contains(types, "Device") {
		return
	}
	m := c.memory()
	uuids := []string{m.UUID}
	if c.cfg.Manners.Twice {
		uuids = append(uuids, m.UUID)
	}
	c.mu.Lock()
	shadow := c.turned.Shadow
	c.mu.Unlock()
	if shadow != "" {
		uuids = append(uuids, shadow)
	}
	for _, id := range uuids {
		_, _ = own.WriteToUDPAddrPort([]byte(c.match(id, doc.Get("MessageID"))), from)
	}
}

func (c *Camera) match(id, relates string) string {
	return fmt.Sprintf(`<?xml version="1.0" encoding="UTF-8"?><s:Envelope xmlns:s="http://www.w3.org/2003/05/soap-envelope" xmlns:a="http://schemas.xmlsoap.org/ws/2004/08/addressing" xmlns:d="http://schemas.xmlsoap.org/ws/2005/04/discovery" xmlns:dn="http://www.onvif.org/ver10/network/wsdl" xmlns:tds="http://www.onvif.org/ver10/device/wsdl"><s:Header><a:MessageID>urn:uuid:%s</a:MessageID><a:RelatesTo>%s</a:RelatesTo><a:To>http://schemas.xmlsoap.org/ws/2004/08/addressing/role/anonymous</a:To><a:Action>http://schemas.xmlsoap.org/ws/2005/04/discovery/ProbeMatches</a:Action></s:Header><s:Body><d:ProbeMatches><d:ProbeMatch><a:EndpointReference><a:Address>urn:uuid:%s</a:Address></a:EndpointReference><d:Types>dn:NetworkVideoTransmitter tds:Device</d:Types><d:Scopes>%s</d:Scopes><d:XAddrs>%s</d:XAddrs><d:MetadataVersion>1</d:MetadataVersion></d:ProbeMatch></d:ProbeMatches></s:Body></s:Envelope>`,
		uuid.NewString(), wire.Esc(relates), id, wire.Esc(c.scopes()), c.url("/onvif/device_service"))
}

// groupEar is the one socket of this process that hears the group, for all cameras.
var groupEar struct {
	sync.Mutex
	conn    net.PacketConn
	next    int
	hearers map[int]func([]byte, netip.AddrPort)
}

func joinGroup(hear func([]byte, netip.AddrPort)) (leave func(), err error) {
	groupEar.Lock()
	defer groupEar.Unlock()
	if groupEar.conn == nil {
		if groupEar.conn, err = listenGroup(); err != nil {
			return nil, err
		}
		groupEar.hearers = map[int]func([]byte, netip.AddrPort){}
		go hearGroup(groupEar.conn)
	}
	groupEar.next++
	id := groupEar.next
	groupEar.hearers[id] = hear
	return func() {
		groupEar.Lock()
		defer groupEar.Unlock()
		delete(groupEar.hearers, id)
		if len(groupEar.hearers) == 0 && groupEar.conn != nil {
			_ = groupEar.conn.Close()
			groupEar.conn = nil
		}
	}, nil
}

func hearGroup(conn net.PacketConn) {
	buf := make([]byte, 8192)
	for {
		n, from, err := conn.ReadFrom(buf)
		if err != nil {
			return
		}
		udp, ok := from.(*net.UDPAddr)
		if !ok {
			continue
		}
		groupEar.Lock()
		all := make([]func([]byte, netip.AddrPort), 0, len(groupEar.hearers))
		for _, h := range groupEar.hearers {
			all = append(all, h)
		}
		groupEar.Unlock()
		// Each hears by itself: one that is busy keeps no other waiting.
		data := slices.Clone(buf[:n])
		for _, h := range all {
			h(data, udp.AddrPort())
		}
	}
}

// listenGroup binds the group address itself: a socket bound to a unicast address
// hears no multicast, and one bound to no address would hear everything.
func listenGroup() (net.PacketConn, error) {
	fd, err := unix.Socket(unix.AF_INET, unix.SOCK_DGRAM|unix.SOCK_CLOEXEC|unix.SOCK_NONBLOCK, 0)
	if err != nil {
		return nil, os.NewSyscallError("socket", err)
	}
	file := os.NewFile(uintptr(fd), "ws-discovery")
	defer file.Close()
	if err := unix.SetsockoptInt(fd, unix.SOL_SOCKET, unix.SO_REUSEADDR, 1); err != nil {
		return nil, os.NewSyscallError("SO_REUSEADDR", err)
	}
	if err := unix.SetsockoptInt(fd, unix.IPPROTO_IP, unix.IP_MULTICAST_ALL, 0); err != nil {
		return nil, os.NewSyscallError("IP_MULTICAST_ALL", err)
	}
	if err := unix.Bind(fd, &unix.SockaddrInet4{Port: discoveryPort, Addr: group.As4()}); err != nil {
		return nil, os.NewSyscallError("bind", err)
	}
	conn, err := net.FilePacketConn(file)
	if err != nil {
		return nil, err
	}
	_ = conn.(*net.UDPConn).SetReadBuffer(1 << 20)
	lo, err := net.InterfaceByName("lo")
	if err == nil {
		err = ipv4.NewPacketConn(conn).JoinGroup(lo, &net.UDPAddr{IP: group.AsSlice()})
	}
	if err != nil {
		_ = conn.Close()
		return nil, err
	}
	return conn, nil
}
