package onvif

import (
	"context"
	"fmt"
	"net/netip"
	"strings"

	"duskyharbor/internal/core/access"
	"duskyharbor/internal/core/netplan"
	"duskyharbor/internal/device/dial"
)

func (c *Client) device(ctx context.Context, op, inner string) (*node, error) {
	return c.call(ctx, "", deviceNS, op, `<`+op+` xmlns="`+deviceNS+`" xmlns:tt="`+schemaNS+`">`+inner+`</`+op+`>`, CallLimit)
}

// IPConfig reads the device's place on the network, that of its first interface, and the
// token of that interface (GetNetworkInterfaces, GetNetworkDefaultGateway; ONVIF Core, 8.2).
func (c *Client) IPConfig(ctx context.Context) (s netplan.IPConfig, token string, err error) {
	r, err := c.device(ctx, "GetNetworkInterfaces", "")
	if err != nil {
		return s, "", err
	}
	for _, n := range r.all("NetworkInterfaces") {
		config := n.at("IPv4", "Config")
		for _, kind := range []string{"Manual", "FromDHCP", "LinkLocal"} {
			a, err := netip.ParseAddr(config.str(kind, "Address"))
			if err == nil && a.Is4() && token == "" {
				s.Address, s.Bits, token = a, config.num(kind, "PrefixLength"), n.attr("token")
				s.Automatic = config.yes("DHCP")
			}
		}
	}
	if token == "" {
		return s, "", &dial.Error{Tried: "GetNetworkInterfaces", On: c.on(), Kind: dial.ErrMalformed,
			Says: "it names no interface with an IPv4 address"}
	}
	g, err := c.device(ctx, "GetNetworkDefaultGateway", "")
	if err == nil {
		if a, err := netip.ParseAddr(g.str("NetworkGateway", "IPv4Address")); err == nil && a.Is4() {
			s.Gateway = a
		}
	}
	return s, token, nil
}

// SetIPConfig writes gateway, address and mask (SetNetworkDefaultGateway,
// SetNetworkInterfaces; ONVIF Core, 8.2); the address last, since the device
// may be gone from here with it.
func (c *Client) SetIPConfig(ctx context.Context, token string, s netplan.IPConfig) error {
	if s.Gateway.IsValid() && !s.Automatic {
		if _, err := c.device(ctx, "SetNetworkDefaultGateway", "<IPv4Address>"+s.Gateway.String()+"</IPv4Address>"); err != nil {
			return err
		}
	}
	v4 := "<tt:DHCP>true</tt:DHCP>"
	if !s.Automatic {
		v4 = fmt.Sprintf("<tt:Manual><tt:Address>%s</tt:Address><tt:PrefixLength>%d</tt:PrefixLength></tt:Manual><tt:DHCP>false</tt:DHCP>", s.Address, s.Bits)
	}
	_, err := c.device(ctx, "SetNetworkInterfaces",
		"<InterfaceToken>"+escape(token)+"</InterfaceToken><NetworkInterface><tt:IPv4><tt:Enabled>true</tt:Enabled>"+v4+"</tt:IPv4></NetworkInterface>")
	return err
}

// DNS reads the device's name servers, the IPv4 ones (GetDNS; ONVIF Core, 8.2).
func (c *Client) DNS(ctx context.Context) (netplan.DNS, error) {
	r, err := c.device(ctx, "GetDNS", "")
	if err != nil {
		return netplan.DNS{}, err
	}
	info := r.at("DNSInformation")
	out := netplan.DNS{Automatic: info.yes("FromDHCP")}
	list := "DNSManual"
	if out.Automatic {
		list = "DNSFromDHCP"
	}
	for _, n := range info.all(list) {
		a, err := netip.ParseAddr(n.str("IPv4Address"))
		if err == nil && a.Is4() && !a.IsUnspecified() && len(out.Servers) < netplan.MaxDNS {
			out.Servers = append(out.Servers, a)
		}
	}
	return out, nil
}

// SetDNS writes them, or has the network hand them out (SetDNS; ONVIF Core, 8.2).
func (c *Client) SetDNS(ctx context.Context, d netplan.DNS) error {
	var b strings.Builder
	fmt.Fprintf(&b, "<FromDHCP>%t</FromDHCP>", d.Automatic)
	for _, a := range d.Servers {
		if !d.Automatic {
			fmt.Fprintf(&b, "<DNSManual><tt:Type>IPv4</tt:Type><tt:IPv4Address>%s</tt:IPv4Address></DNSManual>", a)
		}
	}
	_, err := c.device(ctx, "SetDNS", b.String())
	return err
}

// Discoverable reads whether the device answers to multicast probes (GetDiscoveryMode,
// ONVIF Core, 8.3.15).
func (c *Client) Discoverable(ctx context.Context) (bool, error) {
	r, err := c.device(ctx, "GetDiscoveryMode", "")
	if err != nil {
		return false, err
	}
	return r.str("DiscoveryMode") != "NonDiscoverable", nil
}

// SetDiscoverable switches that.
func (c *Client) SetDiscoverable(ctx context.Context, on bool) error {
	mode := "Discoverable"
	if !on {
		mode = "NonDiscoverable"
	}
	_, err := c.device(ctx, "SetDiscoveryMode", "<DiscoveryMode>"+mode+"</DiscoveryMode>")
	return err
}

// User is one ONVIF account of a device.
type User struct{ Name, Level string }

// Users lists the device's ONVIF accounts (GetUsers, ONVIF Core, 8.4.3).
func (c *Client) Users(ctx context.Context) ([]User, error) {
	r, err := c.device(ctx, "GetUsers", "")
	if err != nil {
		return nil, err
	}
	var out []User
	for _, u := range r.all("User") {
		if len(out) < 64 {
			out = append(out, User{u.str("Username"), u.str("UserLevel")})
		}
	}
	return out, nil
}

// CreateUser makes an account (CreateUsers, 8.4.4); SetUser writes password and level of
// one (8.4.6).
func (c *Client) CreateUser(ctx context.Context, name, password, level string) error {
	_, err := c.device(ctx, "CreateUsers", userXML(name, password, level))
	return err
}

// SetUser writes password and level of an account.
func (c *Client) SetUser(ctx context.Context, name, password, level string) error {
	_, err := c.device(ctx, "SetUser", userXML(name, password, level))
	return err
}

// DeleteUser takes an account away (DeleteUsers, 8.4.5).
func (c *Client) DeleteUser(ctx context.Context, name string) error {
	_, err := c.device(ctx, "DeleteUsers", "<Username>"+escape(name)+"</Username>")
	return err
}

func userXML(name, password, level string) string {
	return "<User><tt:Username>" + escape(name) + "</tt:Username><tt:Password>" + escape(password) + "</tt:Password><tt:UserLevel>" + escape(level) + "</tt:UserLevel></User>"
}

// Rule reads what the device asks of passwords (GetPasswordComplexityConfiguration,
// ONVIF Core, 8.4.9).
func (c *Client) Rule(ctx context.Context) (access.Rule, error) {
	n, err := c.device(ctx, "GetPasswordComplexityConfiguration", "")
	if err != nil {
		return access.Rule{}, err
	}
	within := func(name string) int { return max(0, min(n.num(name), 64)) }
	return access.Rule{Length: within("MinLen"), Upper: within("Uppercase"), Digits: within("Number"),
		Signs: within("SpecialChars"), NotName: n.yes("BlockUsernameOccurrence")}, nil
}

// Reboot starts the device again (SystemReboot, ONVIF Core, 8.3.12).
func (c *Client) Reboot(ctx context.Context) error {
	_, err := c.device(ctx, "SystemReboot", "")
	return err
}

// Reset puts the device back as it left the box (SetSystemFactoryDefault, ONVIF Core,
// 8.3.11); hard forgets its address too.
func (c *Client) Reset(ctx context.Context, hard bool) error {
	kind := "Soft"
	if hard {
		kind = "Hard"
	}
	_, err := c.device(ctx, "SetSystemFactoryDefault", "<FactoryDefault>"+kind+"</FactoryDefault>")
	return err
}
