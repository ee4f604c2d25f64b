package camera

import (
	"fmt"
	"net/netip"
	"strconv"
	"strings"
	"time"

	"github.com/google/uuid"

	"duskyharbor/internal/standin/wire"
)

// network answers the operations of the Device service about its place on the
// network, and those that restart it (ONVIF Core, 8.2 and 8.3).
func (c *Camera) network(op *wire.Node) (string, *fault, bool) {
	m := c.memory()
	switch op.XMLName.Local {
	case "GetNetworkInterfaces":
		return fmt.Sprintf(`<tds:GetNetworkInterfacesResponse><tds:NetworkInterfaces token="eth0"><tt:Enabled>true</tt:Enabled><tt:Info><tt:Name>eth0</tt:Name><tt:HwAddress>%s</tt:HwAddress><tt:MTU>1500</tt:MTU></tt:Info><tt:IPv4><tt:Enabled>true</tt:Enabled><tt:Config>%s<tt:DHCP>%t</tt:DHCP></tt:Config></tt:IPv4></tds:NetworkInterfaces></tds:GetNetworkInterfacesResponse>`,
			c.cfg.MAC, addressXML(m), m.DHCP), nil, true
	case "SetNetworkInterfaces":
		return c.setAddress(op)
	case "GetNetworkDefaultGateway":
		return "<tds:GetNetworkDefaultGatewayResponse><tds:NetworkGateway><tt:IPv4Address>" + m.Gateway + "</tt:IPv4Address></tds:NetworkGateway></tds:GetNetworkDefaultGatewayResponse>", nil, true
	case "SetNetworkDefaultGateway":
		a, err := netip.ParseAddr(op.Get("IPv4Address"))
		if err != nil {
			return "", sender("ter:InvalidArgVal/ter:InvalidGatewayAddress", "The gateway is no address."), true
		}
		c.change(func(m *memory) { m.Gateway = a.String() })
		return "<tds:SetNetworkDefaultGatewayResponse/>", nil, true
	case "GetDNS":
		var manual strings.Builder
		for _, a := range m.DNS {
			manual.WriteString("<tt:DNSManual><tt:Type>IPv4</tt:Type><tt:IPv4Address>" + a + "</tt:IPv4Address></tt:DNSManual>")
		}
		return "<tds:GetDNSResponse><tds:DNSInformation><tt:FromDHCP>false</tt:FromDHCP>" + manual.String() + "</tds:DNSInformation></tds:GetDNSResponse>", nil, true
	case "SetDNS":
		return c.setDNS(op)
	case "GetDiscoveryMode":
		mode := "Discoverable"
		if m.Hidden {
			mode = "NonDiscoverable"
		}
		return "<tds:GetDiscoveryModeResponse><tds:DiscoveryMode>" + mode + "</tds:DiscoveryMode></tds:GetDiscoveryModeResponse>", nil, true
	case "SetDiscoveryMode":
		c.change(func(m *memory) { m.Hidden = op.Get("DiscoveryMode") == "NonDiscoverable" })
		return "<tds:SetDiscoveryModeResponse/>", nil, true
	case "SystemReboot":
		if c.cfg.Manners.LosesClock {
			c.change(func(m *memory) { m.stand(time.Until(time.Date(2000, 1, 1, 0, 0, 0, 0, time.UTC))) })
		}
		c.leave(200 * time.Millisecond)
		return "<tds:SystemRebootResponse><tds:Message>Restarting.</tds:Message></tds:SystemRebootResponse>", nil, true
	case "SetSystemFactoryDefault":
		c.reset(op.Get("FactoryDefault") == "Hard")
		return "<tds:SetSystemFactoryDefaultResponse/>", nil, true
	}
	return "", nil, false
}

func addressXML(m memory) string {
	tag := "Manual"
	if m.DHCP {
		tag = "FromDHCP"
	}
	return fmt.Sprintf(`<tt:%s><tt:Address>%s</tt:Address><tt:PrefixLength>%d</tt:PrefixLength></tt:%s>`, tag, m.Address, m.Bits, tag)
}

// setDNS takes name servers by hand; nobody hands any out here (ONVIF Core, 8.2).
func (c *Camera) setDNS(op *wire.Node) (string, *fault, bool) {
	if op.Get("FromDHCP") == "true" {
		return "", sender("ter:ActionNotSupported", "No one hands out name servers on this network."), true
	}
	var servers []string
	for i := range op.Kids {
		n := &op.Kids[i]
		if n.XMLName.Local != "DNSManual" {
			continue
		}
		a, err := netip.ParseAddr(n.Get("IPv4Address"))
		if n.Get("Type") != "IPv4" || err != nil || !a.Is4() {
			return "", sender("ter:InvalidArgVal/ter:InvalidIPv4Address", "A name server is no IPv4 address."), true
		}
		servers = append(servers, a.String())
	}
	c.change(func(m *memory) { m.DNS = servers })
	return "<tds:SetDNSResponse/>", nil, true
}

// setAddress moves the camera; it is at the new address a moment later.
func (c *Camera) setAddress(op *wire.Node) (string, *fault, bool) {
	if op.Get("InterfaceToken") != "eth0" {
		return "", sender("ter:InvalidArgVal/ter:InvalidNetworkInterface", "There is no such interface."), true
	}
	v4 := op.Find("IPv4")
	to, bits, dhcp := c.At(), c.memory().Bits, v4.Get("DHCP") == "true"
	if dhcp {
		if to = c.cfg.Manners.Lease; !to.IsValid() {
			return "", sender("ter:ActionNotSupported", "No one hands out addresses on this network."), true
		}
	} else if manual := v4.Find("Manual"); manual != nil {
		a, err := netip.ParseAddr(manual.Get("Address"))
		n, err2 := strconv.Atoi(manual.Get("PrefixLength"))
		if err != nil || err2 != nil || n < 8 || n > 30 || !a.IsLoopback() {
			return "", sender("ter:InvalidArgVal/ter:SettingsInvalid", "That is no address for this camera."), true
		}
		to, bits = a, n
	}
	moved := to != c.At()
	c.change(func(m *memory) { m.Address, m.Bits, m.DHCP = to, bits, dhcp })
	switch {
	case moved && c.cfg.Manners.Lost:
		c.run(func() {
			if c.pause(200 * time.Millisecond) {
				c.mu.Lock()
				defer c.mu.Unlock()
				c.away()
			}
		})
	case moved:
		c.leave(200 * time.Millisecond)
	}
	return "<tds:SetNetworkInterfacesResponse><tds:RebootNeeded>false</tds:RebootNeeded></tds:SetNetworkInterfacesResponse>", nil, true
}

// reset forgets what was set: accounts, clock and rules; a hard one the address too.
func (c *Camera) reset(hard bool) {
	fresh := c.cfg.fresh()
	fresh.Users, fresh.NTP, fresh.Servers, fresh.Zone, fresh.Daylight = nil, false, nil, "UTC0", false
	fresh.stand(time.Until(time.Date(2000, 1, 1, 0, 0, 0, 0, time.UTC)))
	c.change(func(m *memory) {
		fresh.UUID, fresh.Cert = m.UUID, m.Cert
		if c.cfg.Manners.RenewsUUID {
			fresh.UUID = uuid.NewString()
		}
		if !hard || !c.cfg.Manners.FactoryAt.IsValid() {
			fresh.Address, fresh.Bits, fresh.Gateway = m.Address, m.Bits, m.Gateway
		} else {
			fresh.Address = c.cfg.Manners.FactoryAt
		}
		*m = fresh
	})
	c.leave(200 * time.Millisecond)
}
