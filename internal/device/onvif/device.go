package onvif

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"time"

	"duskyharbor/internal/core/access"
	"duskyharbor/internal/core/clock"
	"duskyharbor/internal/core/identity"
	"duskyharbor/internal/device/dial"
)

// Time reads the device's clock without signing in where it allows that
// (GetSystemDateAndTime, ONVIF Core 8.3.4), and brackets it by this server's.
func (c *Client) Time(ctx context.Context) (clock.Reading, error) {
	sent := time.Now()
	r, err := c.call(ctx, "", deviceNS, "GetSystemDateAndTime", `<GetSystemDateAndTime xmlns="`+deviceNS+`"/>`, CallLimit)
	received := time.Now()
	if err != nil {
		return clock.Reading{}, err
	}
	t := r.at("SystemDateAndTime")
	utc, ok := dateTime(t.at("UTCDateTime"))
	if !ok {
		return clock.Reading{}, &dial.Error{Tried: "GetSystemDateAndTime", On: c.on(), Kind: dial.ErrMalformed,
			Says: "it gives no UTC time that is one"}
	}
	out := clock.Reading{At: received.UTC(), Device: utc, Offset: clock.Bound(sent, received, utc),
		Zone: t.str("TimeZone", "TZ"), Daylight: t.yes("DaylightSavings"), NTP: t.str("DateTimeType") == "NTP"}
	if local, ok := dateTime(t.at("LocalDateTime")); ok {
		out.HasLocal, out.LocalAhead = true, local.Sub(utc)
	}
	return out, nil
}

func dateTime(n *node) (time.Time, bool) {
	if n == nil {
		return time.Time{}, false
	}
	d, t := n.at("Date"), n.at("Time")
	var v [6]int
	for i, x := range []struct {
		at   *node
		name string
		most int
	}{{d, "Year", 9999}, {d, "Month", 12}, {d, "Day", 31}, {t, "Hour", 23}, {t, "Minute", 59}, {t, "Second", 61}} {
		text := x.at.str(x.name)
		f, err := strconv.ParseFloat(text, 64)
		if err != nil || f < 0 || f > float64(x.most) || (x.name == "Month" || x.name == "Day") && f < 1 {
			return time.Time{}, false
		}
		v[i] = int(f)
	}
	at := time.Date(v[0], time.Month(v[1]), v[2], v[3], v[4], v[5], 0, time.UTC)
	return at, v[5] > 59 || at.Day() == v[2] // no 31st of a month that has none
}

// pace is how close the polls of NarrowTime are: an edge seen between two of them
// bounds the clock to half of it and the round trips.
const pace = 45 * time.Millisecond

// NarrowTime reads the clock again and again, at most for a second and a little, until
// it has seen the device's second change and the error is within least.
func (c *Client) NarrowTime(ctx context.Context, least time.Duration) (clock.Reading, error) {
	best, err := c.Time(ctx)
	for end := time.Now().Add(1200 * time.Millisecond); err == nil && best.Offset.Error() > least && time.Now().Before(end); {
		select {
		case <-ctx.Done():
			return best, ctx.Err()
		case <-time.After(pace):
		}
		next, terr := c.Time(ctx)
		if terr != nil {
			return best, terr
		}
		if met, ok := best.Offset.Meet(next.Offset); ok {
			next.Offset = met
		} // else the clock was stepped: the new reading stands alone
		best = next
	}
	return best, err
}

// SetTime writes zone, daylight switch and source (SetSystemDateAndTime, ONVIF
// Core 8.3.5). utc is sent where not zero; it must not be with NTP.
func (c *Client) SetTime(ctx context.Context, ntp bool, zone string, daylight bool, utc time.Time) error {
	kind := "Manual"
	if ntp {
		kind = "NTP"
	}
	var b strings.Builder
	fmt.Fprintf(&b, `<SetSystemDateAndTime xmlns="%s" xmlns:tt="%s"><DateTimeType>%s</DateTimeType><DaylightSavings>%t</DaylightSavings>`, deviceNS, schemaNS, kind, daylight)
	if zone != "" {
		b.WriteString("<TimeZone><tt:TZ>" + escape(zone) + "</tt:TZ></TimeZone>")
	}
	if !utc.IsZero() {
		utc = utc.UTC()
		fmt.Fprintf(&b, `<UTCDateTime><tt:Time><tt:Hour>%d</tt:Hour><tt:Minute>%d</tt:Minute><tt:Second>%d</tt:Second></tt:Time><tt:Date><tt:Year>%d</tt:Year><tt:Month>%d</tt:Month><tt:Day>%d</tt:Day></tt:Date></UTCDateTime>`,
			utc.Hour(), utc.Minute(), utc.Second(), utc.Year(), utc.Month(), utc.Day())
	}
	b.WriteString("</SetSystemDateAndTime>")
	_, err := c.call(ctx, "", deviceNS, "SetSystemDateAndTime", b.String(), CallLimit)
	return err
}

// NTP reads where the device asks for time (GetNTP, ONVIF Core 8.3.9): the servers that were typed, or those that its
// network hands out, whichever it takes.
func (c *Client) NTP(ctx context.Context) (servers []string, fromDHCP bool, err error) {
	r, err := c.call(ctx, "", deviceNS, "GetNTP", `<GetNTP xmlns="`+deviceNS+`"/>`, CallLimit)
	if err != nil {
		return nil, false, err
	}
	info := r.at("NTPInformation")
	kind := "NTPManual"
	if fromDHCP = info.yes("FromDHCP"); fromDHCP {
		kind = "NTPFromDHCP"
	}
	for _, n := range info.all(kind) {
		for _, field := range []string{"IPv4Address", "IPv6Address", "DNSname"} {
			if s := n.str(field); s != "" && len(servers) < 8 {
				servers = append(servers, s)
			}
		}
	}
	return servers, fromDHCP, nil
}

// SetNTP gives the device its time servers (SetNTP, ONVIF Core 8.3.10); none means
// those that its network hands out.
func (c *Client) SetNTP(ctx context.Context, servers ...string) error {
	var b strings.Builder
	fmt.Fprintf(&b, `<SetNTP xmlns="%s" xmlns:tt="%s"><FromDHCP>%t</FromDHCP>`, deviceNS, schemaNS, len(servers) == 0)
	for _, s := range servers {
		if a, err := netip.ParseAddr(s); err == nil && a.Is4() {
			b.WriteString("<NTPManual><tt:Type>IPv4</tt:Type><tt:IPv4Address>" + s + "</tt:IPv4Address></NTPManual>")
			continue
		}
		b.WriteString("<NTPManual><tt:Type>DNS</tt:Type><tt:DNSname>" + escape(s) + "</tt:DNSname></NTPManual>")
	}
	b.WriteString("</SetNTP>")
	_, err := c.call(ctx, "", deviceNS, "SetNTP", b.String(), CallLimit)
	return err
}

// Information reads make, model, firmware and serial (GetDeviceInformation) and the
// MAC address of the first interface (GetNetworkInterfaces), signed in.
func (c *Client) Information(ctx context.Context) (identity.Sighting, error) {
	s := identity.Sighting{Address: c.host.Addr}
	r, err := c.call(ctx, "", deviceNS, "GetDeviceInformation", `<GetDeviceInformation xmlns="`+deviceNS+`"/>`, CallLimit)
	if err != nil {
		return s, err
	}
	s.Make, s.Model, s.Firmware, s.Serial = r.str("Manufacturer"), r.str("Model"), r.str("FirmwareVersion"), r.str("SerialNumber")
	n, err := c.call(ctx, "", deviceNS, "GetNetworkInterfaces", `<GetNetworkInterfaces xmlns="`+deviceNS+`"/>`, CallLimit)
	if err == nil {
		for _, i := range n.all("NetworkInterfaces") {
			if mac := identity.CleanMAC(i.str("Info", "HwAddress")); mac != "" {
				s.MAC = mac
				break
			}
		}
	}
	return s, nil
}

// Level reads the level of a user of the device (GetUsers); empty when it doesn't say.
func (c *Client) Level(ctx context.Context, username string) (string, error) {
	r, err := c.call(ctx, "", deviceNS, "GetUsers", `<GetUsers xmlns="`+deviceNS+`"/>`, CallLimit)
	if err != nil {
		return "", err
	}
	for _, u := range r.all("User") {
		if u.str("Username") == username {
			return u.str("UserLevel"), nil
		}
	}
	return "", nil
}

// maxServices is how many services of a device are believed.
const maxServices = 64

// capabilitySpaces are the services that GetCapabilities tells of, by the name of their
// element. It has a place for Media ver10 and none for ver20.
var capabilitySpaces = map[string]string{"Analytics": rulesNS, "Device": deviceNS, "Events": eventNS, "Media": media1NS}

// Services reads where each service answers, by namespace, brought to the address where the
// device was reached when called; via is the call that told: GetServices, or GetCapabilities of
// a device that is older than it (ONVIF Core, 8.1.2).
func (c *Client) Services(ctx context.Context) (out map[string]string, via string, err error) {
	out, via = map[string]string{}, "GetServices"
	r, err := c.call(ctx, "", deviceNS, via, `<GetServices xmlns="`+deviceNS+`"><IncludeCapability>false</IncludeCapability></GetServices>`, CallLimit)
	if err == nil {
		for _, s := range r.all("Service") {
			if len(out) < maxServices {
				out[s.str("Namespace")] = s.str("XAddr")
			}
		}
	}
	if err != nil && !errors.Is(err, dial.ErrNotSupported) || err == nil && len(out) > 0 {
		return out, via, err
	}
	via = "GetCapabilities"
	r, err = c.call(ctx, "", deviceNS, via, `<GetCapabilities xmlns="`+deviceNS+`"><Category>All</Category></GetCapabilities>`, CallLimit)
	if err != nil {
		return nil, via, err
	}
	for name, space := range capabilitySpaces {
		if at := r.str("Capabilities", name, "XAddr"); at != "" {
			out[space] = at
		}
	}
	return out, via, nil
}

// Declared reads which sign-ins the device says it takes, without signing in (GetServiceCapabilities
// of the device service, ONVIF Core, 8.1.2.3); none where it doesn't say.
func (c *Client) Declared(ctx context.Context) ([]access.Scheme, error) {
	r, err := c.call(ctx, "", deviceNS, "GetServiceCapabilities", `<GetServiceCapabilities xmlns="`+deviceNS+`"/>`, CallLimit)
	if err != nil {
		return nil, err
	}
	var out []access.Scheme
	for _, s := range r.at("Capabilities").all("Security") {
		for _, x := range []struct {
			says string
			is   access.Scheme
		}{{"HttpDigest", access.Digest}, {"UsernameToken", access.Token}} {
			if v := s.attr(x.says); (v == "true" || v == "1") && !slices.Contains(out, x.is) {
				out = append(out, x.is)
			}
		}
	}
	return out, nil
}

// Schemes asks which sign-ins the device offers: an unsigned GetDeviceInformation
// that is answered 401 with a challenge takes HTTP Digest; a SOAP fault means that
// only a token opens it.
//
// One that answers is in its factory state, and open to all. Basic is told only where
// the device offers no Digest.
func (c *Client) Schemes(ctx context.Context) ([]access.Scheme, error) {
	_, err := c.call(ctx, "", deviceNS, "GetDeviceInformation", `<GetDeviceInformation xmlns="`+deviceNS+`"/>`, CallLimit)
	if err == nil {
		return nil, nil // open to all
	}
	if de, ok := err.(*dial.Error); ok && de.Kind == dial.ErrNotAuthorised {
		switch {
		case slices.Contains(de.Offers, "digest"):
			return []access.Scheme{access.Digest}, nil
		case slices.Contains(de.Offers, "basic"):
			return []access.Scheme{access.Basic}, nil
		case de.Offers != nil:
			return nil, &dial.Error{Tried: "signing in", On: c.on(), Kind: dial.ErrNotSupported,
				Says: "it offers no scheme that is known: " + strings.Join(de.Offers, ", ")}
		}
		return []access.Scheme{access.Token}, nil
	}
	return nil, err
}
