package camera

import (
	"context"
	"fmt"
	"net"
	"net/netip"
	"strconv"

	"golang.org/x/net/ipv4"

	"duskyharbor/internal/standin/wire"
)

// cast is where a profile's pictures are sent without being asked for.
type cast struct {
	Group string `json:"group"`
	Port  int    `json:"port"`
	TTL   int    `json:"ttl"`
	On    bool   `json:"on"`
}

func (c *Camera) castOf(p profile) cast {
	if x, ok := c.memory().Casts[p.token]; ok {
		return x
	}
	x := cast{Group: "0.0.0.0", TTL: 1}
	if g := c.cfg.Manners.Group; g.IsValid() { // the same of every camera of the make, as it leaves the box
		x.Group, x.Port = g.Addr().String(), int(g.Port())
	}
	return x
}

func (c *Camera) castXML(p profile) string {
	if c.cfg.Manners.NoGroups {
		return ""
	}
	x := c.castOf(p)
	return fmt.Sprintf(`<tt:Multicast><tt:Address><tt:Type>IPv4</tt:Type><tt:IPv4Address>%s</tt:IPv4Address></tt:Address><tt:Port>%d</tt:Port><tt:TTL>%d</tt:TTL><tt:AutoStart>%t</tt:AutoStart></tt:Multicast>`,
		x.Group, x.Port, x.TTL, x.On)
}

// setCast takes where a profile sends to from a setting; whether it does isn't set so.
func (c *Camera) setCast(p profile, conf *wire.Node) *fault {
	m := conf.Find("Multicast")
	if m == nil || c.cfg.Manners.NoGroups {
		return nil
	}
	x := c.castOf(p)
	group, err := netip.ParseAddr(m.Get("IPv4Address"))
	port, errPort := strconv.Atoi(m.Get("Port"))
	ttl, errTTL := strconv.Atoi(m.Get("TTL"))
	if err != nil || errPort != nil || errTTL != nil || port < 0 || port > 65534 || ttl < 0 || ttl > 255 || !group.IsMulticast() && !group.IsUnspecified() {
		return sender("ter:InvalidArgVal/ter:ConfigModify", "There is no such group.")
	}
	if to := (cast{group.String(), port, ttl, x.On}); to != x {
		c.keepCast(p, to)
	}
	return nil
}

func (c *Camera) keepCast(p profile, to cast) {
	c.change(func(m *memory) {
		all := map[string]cast{p.token: to}
		for t, old := range m.Casts {
			if t != p.token {
				all[t] = old
			}
		}
		m.Casts = all
	})
	c.castAnew(p)
}

// turnCast answers Start- and StopMulticastStreaming.
func (c *Camera) turnCast(op *wire.Node, ns string, on bool) (string, *fault) {
	p, ok := c.profile(op.Get("ProfileToken"))
	if !ok {
		return "", sender("ter:InvalidArgVal/ter:NoProfile", "There is no such profile.")
	}
	x := c.castOf(p)
	if group, err := netip.ParseAddr(x.Group); c.cfg.Manners.NoGroups || on && (err != nil || !group.IsMulticast() || x.Port == 0) {
		return "", sender("ter:InvalidArgVal/ter:IncompleteConfiguration", "There is no group to send to.")
	}
	x.On = on
	c.keepCast(p, x)
	return "<" + ns + ":" + op.XMLName.Local + "Response/>", nil
}

// castAnew begins to send a profile to its group, or ends it, as it is set now.
func (c *Camera) castAnew(p profile) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if stop := c.casts[p.token]; stop != nil {
		stop()
		delete(c.casts, p.token)
	}
	x, ctx := c.mem.Casts[p.token], c.present
	if !x.On || ctx == nil || ctx.Err() != nil {
		return
	}
	ctx, stop := context.WithCancel(ctx)
	c.casts[p.token] = stop
	at := c.mem.Address
	c.run(func() { c.send(ctx, p, at, x) })
}

// send sends a profile's pictures to a group until ctx ends.
func (c *Camera) send(ctx context.Context, p profile, from netip.Addr, to cast) {
	dial := func(port int) (*net.UDPConn, error) {
		d, err := net.DialUDP("udp4", net.UDPAddrFromAddrPort(netip.AddrPortFrom(from, 0)), &net.UDPAddr{IP: net.ParseIP(to.Group), Port: port})
		if err != nil {
			return nil, err
		}
		pc := ipv4.NewPacketConn(d)
		_ = pc.SetMulticastTTL(to.TTL)
		if lo, err := net.InterfaceByName("lo"); err == nil {
			_ = pc.SetMulticastInterface(lo)
		}
		return d, nil
	}
	d, err := &datagrams{}, error(nil)
	if d.rtp, err = dial(to.Port); err != nil {
		return
	}
	if d.rtcp, err = dial(to.Port + 1); err != nil {
		_ = d.rtp.Close()
		return
	}
	(&rtspSession{cam: c, profile: p}).stream(ctx, &track{kind: picture, udp: d})
	d.close()
}
