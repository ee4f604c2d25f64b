package camera

import (
	"crypto/sha1"
	"encoding/base64"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"time"

	"duskyharbor/internal/standin/localtime"
	"duskyharbor/internal/standin/wire"
)

const envelope = `<?xml version="1.0" encoding="UTF-8"?>
<s:Envelope xmlns:s="http://www.w3.org/2003/05/soap-envelope" xmlns:wsa="http://www.w3.org/2005/08/addressing" xmlns:tt="http://www.onvif.org/ver10/schema" xmlns:tds="http://www.onvif.org/ver10/device/wsdl" xmlns:tr2="http://www.onvif.org/ver20/media/wsdl" xmlns:trt="http://www.onvif.org/ver10/media/wsdl" xmlns:tev="http://www.onvif.org/ver10/events/wsdl" xmlns:timg="http://www.onvif.org/ver20/imaging/wsdl" xmlns:tptz="http://www.onvif.org/ver20/ptz/wsdl" xmlns:tan="http://www.onvif.org/ver20/analytics/wsdl" xmlns:wsnt="http://docs.oasis-open.org/wsn/b-2" xmlns:wstop="http://docs.oasis-open.org/wsn/t-1" xmlns:tns1="http://www.onvif.org/ver10/topics" xmlns:ter="http://www.onvif.org/ver10/error" xmlns:xs="http://www.w3.org/2001/XMLSchema"><s:Body>`

const tail = `</s:Body></s:Envelope>`

// fault is an answer that refuses, as SOAP 1.2 and ONVIF Core 5.8 word it.
type fault struct {
	status  int
	code    string // "Sender" or "Receiver"
	subcode string
	text    string
}

func (f *fault) Error() string { return f.subcode + ": " + f.text }

func sender(subcode, text string) *fault {
	return &fault{http.StatusBadRequest, "Sender", subcode, text}
}

// withoutPassword lists what anyone may do while no first password is set.
var withoutPassword = []string{"GetDeviceInformation", "GetUsers", "CreateUsers", "GetPasswordComplexityConfiguration",
	"GetNetworkInterfaces"}

// open lists the operations that ask for no sign-in (ONVIF Core, 5.9.4.3, PRE_AUTH).
var open = []string{"GetSystemDateAndTime", "GetServices", "GetCapabilities", "GetServiceCapabilities",
	"GetEndpointReference", "GetHostname", "GetWsdlUrl"}

func (c *Camera) soap(w http.ResponseWriter, r *http.Request) {
	doc, err := wire.Parse(r.Body)
	if err != nil || doc.XMLName.Local != "Envelope" {
		c.answer(w, "", sender("ter:WellFormed", "The request is no SOAP envelope."))
		return
	}
	var op *wire.Node
	if body := doc.Find("Body"); body != nil && len(body.Kids) > 0 {
		op = &body.Kids[0]
	}
	if op == nil {
		c.answer(w, "", sender("ter:WellFormed", "The body is empty."))
		return
	}
	if n := c.asked.Add(1); c.cfg.Manners.Drops > 0 && int(n)%c.cfg.Manners.Drops == 0 {
		panic(http.ErrAbortHandler) // the connection is closed without a word
	}
	if c.cfg.Manners.Slow > 0 && !c.pause(c.cfg.Manners.Slow) {
		return
	}
	name := op.XMLName.Local
	if !slices.Contains(open, name) && !(c.noPassword() && slices.Contains(withoutPassword, name)) {
		if d := c.lockedFor(); d > 0 {
			w.Header().Set("Retry-After", fmt.Sprint(int(d.Seconds())+1))
			c.answer(w, "", &fault{http.StatusForbidden, "Sender", "ter:NotAuthorized",
				"The account is locked after too many wrong sign-ins."})
			return
		}
		if challenge, f := c.authorise(doc.Find("Security"), r, name); f != nil {
			if challenge {
				w.Header().Set("WWW-Authenticate", c.challenge())
				w.WriteHeader(http.StatusUnauthorized)
				return
			}
			c.answer(w, "", f)
			return
		}
	}
	c.mu.Lock()
	stalls := slices.Contains(c.turned.Stalls, name)
	c.mu.Unlock()
	if stalls {
		<-r.Context().Done()
		return
	}
	out, f := c.operate(r, op)
	if f == nil {
		c.mu.Lock()
		c.served[name]++
		c.mu.Unlock()
	}
	c.answer(w, out, f)
}

func (c *Camera) answer(w http.ResponseWriter, body string, f *fault) {
	w.Header().Set("Content-Type", "application/soap+xml; charset=utf-8")
	if f != nil {
		w.WriteHeader(f.status)
		outer, inner := f.subcode, ""
		if strings.Contains(f.subcode, "/") {
			outer, inner, _ = strings.Cut(f.subcode, "/")
			inner = "<s:Subcode><s:Value>" + inner + "</s:Value></s:Subcode>"
		}
		body = fmt.Sprintf(`<s:Fault><s:Code><s:Value>s:%s</s:Value><s:Subcode><s:Value>%s</s:Value>%s</s:Subcode></s:Code><s:Reason><s:Text xml:lang="en">%s</s:Text></s:Reason></s:Fault>`,
			f.code, outer, inner, wire.Esc(f.text))
	}
	c.write(w, envelope+body+tail)
}

// write sends an answer in the dialect of this make: all say the same.
func (c *Camera) write(w http.ResponseWriter, text string) {
	switch c.cfg.Manners.Dialect {
	case 1:
		text = "\ufeff" + strings.NewReplacer("<s:", "<SOAP-ENV:", "</s:", "</SOAP-ENV:", "xmlns:s=", "xmlns:SOAP-ENV=",
			">s:", ">SOAP-ENV:", "<tds:", "<ns1:", "</tds:", "</ns1:", "xmlns:tds=", "xmlns:ns1=",
			"<tt:", "<sch:", "</tt:", "</sch:", "xmlns:tt=", "xmlns:sch=", "\"tt:", "\"sch:").Replace(text)
	case 2:
		text = strings.NewReplacer("<tds:", "<", "</tds:", "</").Replace(text)
		head, body, _ := strings.Cut(text, "<s:Body><")
		if end := strings.IndexAny(body, "/>"); end > 0 && !strings.Contains(body[:end], ":") {
			body = body[:end] + ` xmlns="http://www.onvif.org/ver10/device/wsdl"` + body[end:]
		}
		text = head + "<s:Body><" + body
	case 3:
		text = strings.Replace(text, "<s:Body>", "<!-- answer --><s:Body><!-- of this camera -->", 1)
		half := len(text) / 2
		_, _ = w.Write([]byte(text[:half]))
		if f, ok := w.(http.Flusher); ok {
			f.Flush()
		}
		text = text[half:]
	}
	_, _ = w.Write([]byte(text))
}

// authorise checks whichever sign-in the request carries. A device that takes
// Digest or Basic answers 401 to anything else, or clients would never try it.
func (c *Camera) authorise(security *wire.Node, r *http.Request, op string) (challenge bool, f *fault) {
	refused := sender("ter:NotAuthorized", "Sender not authorized.")
	http401 := c.cfg.TakesDigest || c.cfg.TakesBasic
	if h := r.Header.Get("Authorization"); h != "" && http401 {
		name, ok := c.httpUser(r)
		if !ok {
			if _, v := c.digest.Check(h, r.Method); v != wire.Stale {
				c.wrong()
			}
			return true, refused
		}
		u, _ := c.userOf(name)
		if u.WebOnly && !(op == "CreateUsers" && !slices.ContainsFunc(c.memory().Users, func(u user) bool { return !u.WebOnly })) {
			return true, refused // the web's account isn't ONVIF's
		}
		if !may(u.Level, op) {
			return false, refused
		}
		return false, nil
	}
	token := security.Find("UsernameToken")
	if c.cfg.TakesToken && token != nil {
		u, ok := c.tokenOpens(token)
		switch {
		case !ok:
			c.wrong()
			return false, refused
		case u.WebOnly, !may(u.Level, op):
			return false, refused
		}
		return false, nil
	}
	return http401, refused
}

// tokenOpens checks a WS-UsernameToken (Username Token Profile 1.0, 3.1) against
// the camera's own clock; a nonce opens once.
func (c *Camera) tokenOpens(token *wire.Node) (user, bool) {
	nonce, err := base64.StdEncoding.DecodeString(token.Get("Nonce"))
	created := token.Get("Created")
	at, err2 := time.Parse(time.RFC3339Nano, created)
	u, known := c.userOf(token.Get("Username"))
	if err != nil || err2 != nil || !known {
		return u, false
	}
	c.mu.Lock()
	window := c.turned.Window
	c.mu.Unlock()
	if off := c.Now().Sub(at); off.Abs() > window {
		return u, false
	}
	sum := sha1.Sum([]byte(string(nonce) + created + u.Password))
	if base64.StdEncoding.EncodeToString(sum[:]) != token.Get("Password") {
		return u, false
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	for n, t := range c.nonces {
		if time.Since(t) > 2*window {
			delete(c.nonces, n)
		}
	}
	_, used := c.nonces[string(nonce)]
	c.nonces[string(nonce)] = time.Now()
	return u, !used
}

func (c *Camera) operate(r *http.Request, op *wire.Node) (string, *fault) {
	c.mu.Lock()
	locked := slices.Contains(c.turned.Refuses, op.XMLName.Local)
	c.mu.Unlock()
	if locked {
		return "", &fault{500, "Receiver", "ter:Action/ter:ConfigurationConflict", "This setting is locked on the device."}
	}
	switch op.XMLName.Local {
	case "GetSystemDateAndTime":
		return c.getTime(), nil
	case "SetSystemDateAndTime":
		return c.setTime(op)
	case "GetNTP":
		return c.getNTP(), nil
	case "SetNTP":
		return c.setNTP(op)
	case "GetDeviceInformation":
		return fmt.Sprintf(`<tds:GetDeviceInformationResponse><tds:Manufacturer>%s</tds:Manufacturer><tds:Model>%s</tds:Model><tds:FirmwareVersion>%s</tds:FirmwareVersion><tds:SerialNumber>%s</tds:SerialNumber><tds:HardwareId>%s</tds:HardwareId></tds:GetDeviceInformationResponse>`,
			wire.Esc(c.cfg.Make), wire.Esc(c.cfg.Model), c.cfg.Firmware, c.cfg.Serial, wire.Esc(c.cfg.Model)), nil
	case "GetEndpointReference":
		return `<tds:GetEndpointReferenceResponse><tds:GUID>urn:uuid:` + c.memory().UUID + `</tds:GUID></tds:GetEndpointReferenceResponse>`, nil
	case "GetServices":
		if c.cfg.Manners.NoServices {
			return "", sender("ter:ActionNotSupported", "This camera is older than GetServices.")
		}
		return c.services(), nil
	case "GetCapabilities":
		return c.capabilities(op.Get("Category")), nil
	}
	if out, f, ok := c.conforming(op); ok {
		return out, f
	}
	if out, f, ok := c.users(op); ok {
		return out, f
	}
	if out, f, ok := c.network(op); ok {
		return out, f
	}
	if out, f, ok := c.sounds(op); ok {
		return out, f
	}
	if out, f, ok := c.pictures(op); ok {
		return out, f
	}
	if out, f, ok := c.ptz(op); ok {
		return out, f
	}
	if out, f, ok := c.media(op); ok {
		return out, f
	}
	if out, f, ok := c.analytics(op); ok {
		return out, f
	}
	return c.events.operate(r, op)
}

func stamp(tag string, t time.Time) string {
	return fmt.Sprintf(`<tt:%s><tt:Time><tt:Hour>%d</tt:Hour><tt:Minute>%d</tt:Minute><tt:Second>%d</tt:Second></tt:Time><tt:Date><tt:Year>%d</tt:Year><tt:Month>%d</tt:Month><tt:Day>%d</tt:Day></tt:Date></tt:%s>`,
		tag, t.Hour(), t.Minute(), t.Second(), t.Year(), t.Month(), t.Day(), tag)
}

// spelt is a zone as this make writes it: "WET0WEST,M3.5.0/1,M10.5.0" becomes
// "WET+00:00WEST,M3.5.0/01:00:00,M10.5.0/02:00:00".
func (c *Camera) spelt(zone string) string {
	if !c.cfg.Manners.SpellsZone {
		return zone
	}
	parts := strings.Split(zone, ",")
	parts[0] = strings.Replace(parts[0], "WET0", "WET+00:00", 1)
	for i, p := range parts[1:] {
		day, at, given := strings.Cut(p, "/")
		if !given {
			at = "2"
		}
		if !strings.Contains(at, ":") {
			at = strings.Repeat("0", max(0, 2-len(at))) + at + ":00:00"
		}
		parts[i+1] = day + "/" + at
	}
	return strings.Join(parts, ",")
}

func (c *Camera) getTime() string {
	m := c.memory()
	utc := c.Now().UTC()
	kind := "Manual"
	if m.NTP {
		kind = "NTP"
	}
	return fmt.Sprintf(`<tds:GetSystemDateAndTimeResponse><tds:SystemDateAndTime><tt:DateTimeType>%s</tt:DateTimeType><tt:DaylightSavings>%t</tt:DaylightSavings><tt:TimeZone><tt:TZ>%s</tt:TZ></tt:TimeZone>%s%s</tds:SystemDateAndTime></tds:GetSystemDateAndTimeResponse>`,
		kind, m.Daylight, wire.Esc(c.spelt(m.Zone)), stamp("UTCDateTime", utc), stamp("LocalDateTime", utc.Add(m.localAhead(utc))))
}

func (c *Camera) setTime(op *wire.Node) (string, *fault) {
	kind := op.Get("DateTimeType")
	if kind != "Manual" && kind != "NTP" {
		return "", sender("ter:InvalidArgVal/ter:InvalidDateTime", "DateTimeType is Manual or NTP.")
	}
	zone := op.Get("TZ")
	if zone != "" && !localtime.LooksRight(zone) {
		return "", sender("ter:InvalidArgVal/ter:InvalidTimeZone", "The time zone is no POSIX time zone.")
	}
	var set time.Time
	if u := op.Find("UTCDateTime"); u != nil && kind == "Manual" {
		text := fmt.Sprintf("%s-%s-%s %s:%s:%s", u.Get("Year"), u.Get("Month"), u.Get("Day"), u.Get("Hour"),
			u.Get("Minute"), u.Get("Second"))
		t, err := time.Parse("2006-1-2 15:4:5", text)
		if err != nil {
			return "", sender("ter:InvalidArgVal/ter:InvalidDateTime", "The date and time is none.")
		}
		set = t
	}
	c.change(func(m *memory) {
		m.NTP = kind == "NTP"
		m.Daylight = op.Get("DaylightSavings") == "true" || op.Get("DaylightSavings") == "1"
		if zone != "" {
			m.Zone = zone
		}
		if !set.IsZero() {
			m.stand(time.Until(set))
		}
	})
	c.wake()
	return "<tds:SetSystemDateAndTimeResponse/>", nil
}

func (c *Camera) wake() {
	select {
	case c.ask <- struct{}{}:
	default:
	}
}

func (c *Camera) getNTP() string {
	var b strings.Builder
	for _, s := range c.memory().Servers {
		b.WriteString("<tt:NTPManual><tt:Type>IPv4</tt:Type><tt:IPv4Address>" + wire.Esc(s) + "</tt:IPv4Address></tt:NTPManual>")
	}
	if s := c.cfg.Manners.LeaseNTP; s != "" && c.memory().FromDHCP {
		b.WriteString("<tt:NTPFromDHCP><tt:Type>IPv4</tt:Type><tt:IPv4Address>" + wire.Esc(s) + "</tt:IPv4Address></tt:NTPFromDHCP>")
	}
	return "<tds:GetNTPResponse><tds:NTPInformation><tt:FromDHCP>" + fmt.Sprint(c.memory().FromDHCP) + "</tt:FromDHCP>" + b.String() + "</tds:NTPInformation></tds:GetNTPResponse>"
}

func (c *Camera) setNTP(op *wire.Node) (string, *fault) {
	dhcp := op.Get("FromDHCP") == "true"
	if dhcp && !c.memory().DHCP {
		return "", sender("ter:ActionNotSupported", "This camera has a fixed address.")
	}
	var servers []string
	for i := range op.Kids {
		if op.Kids[i].XMLName.Local == "NTPManual" {
			servers = append(servers, op.Kids[i].Get("IPv4Address"))
		}
	}
	c.change(func(m *memory) { m.Servers, m.FromDHCP = servers, dhcp })
	c.wake()
	return "<tds:SetNTPResponse/>", nil
}

// localAhead is the camera's local time − UTC.
func (m memory) localAhead(utc time.Time) time.Duration {
	return localtime.Ahead(m.Zone, m.Daylight, utc)
}
