package camera

import (
	"fmt"
	"slices"
	"strings"

	"duskyharbor/internal/standin/footage"
	"duskyharbor/internal/standin/wire"
)

// profile is one media profile: of a video source, from 0, main or sub.
type profile struct {
	token  string
	source int
	sub    bool
}

// profiles lists the camera's profiles: main and sub of each source.
func (c *Camera) profiles() []profile {
	var out []profile
	for i := range max(1, len(c.cfg.Manners.Sources)) {
		tail := ""
		if i > 0 {
			tail = fmt.Sprint(i + 1)
		}
		out = append(out, profile{"main" + tail, i, false})
		if !c.cfg.Fed {
			out = append(out, profile{"sub" + tail, i, true})
		}
	}
	return out
}

func (c *Camera) has(token string) bool {
	return slices.ContainsFunc(c.profiles(), func(p profile) bool { return p.token == token })
}

// sees says whether the camera's analytics look through a source.
func (c *Camera) sees(source int) bool { return source == 0 || c.cfg.Manners.SeesOnAll }

// sourceName is what a source is called.
func (c *Camera) sourceName(i int) string {
	if i < len(c.cfg.Manners.Sources) {
		return c.cfg.Manners.Sources[i]
	}
	return "Sensor"
}

// media answers the Media2 service (ONVIF Media2 Service Specification), or Media
// ver10 alone where the make knows no other.
func (c *Camera) media(op *wire.Node) (string, *fault, bool) {
	one := op.XMLName.Space == "http://www.onvif.org/ver10/media/wsdl"
	if one != c.cfg.Manners.Media1 && (strings.HasPrefix(op.XMLName.Local,
		"GetProfile") || strings.HasPrefix(op.XMLName.Local, "GetStream") || strings.HasPrefix(op.XMLName.Local, "GetSnap") || strings.Contains(op.XMLName.Local, "VideoEncoder") || strings.Contains(op.XMLName.Local, "OSD")) {
		return "", sender("ter:ActionNotSupported", "This device knows no such service."), true
	}
	ns := "tr2"
	if one {
		ns = "trt"
	}
	switch op.XMLName.Local {
	case "GetProfiles":
		var b strings.Builder
		for _, p := range c.profiles() {
			if t := op.Get("Token"); t != "" && t != p.token {
				continue
			}
			b.WriteString(c.profileXML(p, one))
		}
		return "<" + ns + ":GetProfilesResponse>" + b.String() + "</" + ns + ":GetProfilesResponse>", nil, true
	case "GetVideoEncoderConfigurations":
		var b strings.Builder
		for _, p := range c.profiles() {
			if t := op.Get("ConfigurationToken"); t == "" || t == "vec_"+p.token {
				if one {
					b.WriteString(c.encoder1XML("trt:Configurations", p))
				} else {
					b.WriteString(c.encoderXML("tr2:Configurations", p))
				}
			}
		}
		return "<" + ns + ":GetVideoEncoderConfigurationsResponse>" + b.String() + "</" + ns + ":GetVideoEncoderConfigurationsResponse>", nil, true
	case "GetVideoEncoderConfigurationOptions":
		out, f := c.optionsXML(op, one)
		return out, f, true
	case "SetVideoEncoderConfiguration":
		out, f := c.setEncoder(op, ns)
		return out, f, true
	case "StartMulticastStreaming", "StopMulticastStreaming":
		out, f := c.turnCast(op, ns, op.XMLName.Local == "StartMulticastStreaming")
		return out, f, true
	case "GetStreamUri", "GetSnapshotUri":
		return c.uri(op, ns)
	}
	if out, f, ok := c.texts(op, ns); ok {
		return out, f, ok
	}
	return c.masks(op)
}

func (c *Camera) uri(op *wire.Node, ns string) (string, *fault, bool) {
	p := op.Get("ProfileToken")
	if !c.has(p) {
		return "", sender("ter:InvalidArgVal/ter:NoProfile", "The requested profile does not exist."), true
	}
	host := c.cfg.Manners.GivesHost
	if host == "" {
		host = c.At().String()
	}
	uri := fmt.Sprintf("rtsp://%s:%d/%s", host, RTSPPort, p)
	if op.Get("Protocol") == "RtspsUnicast" {
		if !c.cfg.Manners.TLS || ns == "trt" {
			return "", sender("ter:InvalidArgVal/ter:InvalidStreamSetup", "It streams over no TLS."), true
		}
		uri = fmt.Sprintf("rtsps://%s:%d/%s", host, RTSPSPort, p)
	}
	if op.XMLName.Local == "GetSnapshotUri" {
		uri = c.url("/snapshot?profile=" + p)
	}
	if ns == "trt" {
		return fmt.Sprintf(`<trt:%[1]sResponse><trt:MediaUri><tt:Uri>%[2]s</tt:Uri><tt:InvalidAfterConnect>false</tt:InvalidAfterConnect><tt:InvalidAfterReboot>false</tt:InvalidAfterReboot><tt:Timeout>PT60S</tt:Timeout></trt:MediaUri></trt:%[1]sResponse>`, op.XMLName.Local, wire.Esc(uri)), nil, true
	}
	return fmt.Sprintf(`<tr2:%[1]sResponse><tr2:Uri>%[2]s</tr2:Uri></tr2:%[1]sResponse>`, op.XMLName.Local, wire.Esc(uri)), nil, true
}

func (c *Camera) profileXML(p profile, one bool) string {
	name := wire.Esc(title(p.token))
	if p.source > 0 || len(c.cfg.Manners.Sources) > 1 {
		name = wire.Esc(c.sourceName(p.source)) + " " + map[bool]string{false: "main", true: "sub"}[p.sub]
	}
	if one {
		return fmt.Sprintf(`<trt:Profiles token="%s" fixed="true"><tt:Name>%s</tt:Name><tt:VideoSourceConfiguration token="vsc%d"><tt:Name>%s</tt:Name><tt:UseCount>2</tt:UseCount><tt:SourceToken>vs%d</tt:SourceToken><tt:Bounds x="0" y="0" width="%d" height="%d"/></tt:VideoSourceConfiguration>%s</trt:Profiles>`,
			p.token, name, p.source, wire.Esc(c.sourceName(p.source)), p.source, footage.Width, footage.Height, c.encoder1XML("tt:VideoEncoderConfiguration", p))
	}
	analytics := ""
	if c.sees(p.source) && !c.cfg.Manners.NoRules {
		analytics = fmt.Sprintf(`<tr2:Analytics token="vac%d"><tt:Name>Analytics</tt:Name><tt:UseCount>2</tt:UseCount></tr2:Analytics>`, p.source)
	}
	return fmt.Sprintf(`<tr2:Profiles token="%s" fixed="true"><tr2:Name>%s</tr2:Name><tr2:Configurations><tr2:VideoSource token="vsc%d"><tt:Name>%s</tt:Name><tt:UseCount>2</tt:UseCount><tt:SourceToken>vs%d</tt:SourceToken><tt:Bounds x="0" y="0" width="%d" height="%d"/></tr2:VideoSource>%s%s</tr2:Configurations></tr2:Profiles>`,
		p.token, name, p.source, wire.Esc(c.sourceName(p.source)), p.source, footage.Width, footage.Height, c.pictureXML(p), c.soundsXML(p)+analytics+c.metadataXML(p)+c.ptzXML("tr2:PTZ", p))
}

// pictureXML is the encoder of a profile that has a picture.
func (c *Camera) pictureXML(p profile) string {
	if c.cfg.Fed {
		return ""
	}
	return c.encoderXML("tr2:VideoEncoder", p)
}

// metadataXML is the metadata configuration of a profile whose stream carries any.
func (c *Camera) metadataXML(p profile) string {
	if !c.describes(p) {
		return ""
	}
	return `<tr2:Metadata token="mdc0"><tt:Name>Metadata</tt:Name><tt:UseCount>1</tt:UseCount><tt:Analytics>true</tt:Analytics></tr2:Metadata>`
}

// ptzXML is the PTZ configuration of a profile that can be moved.
func (c *Camera) ptzXML(tag string, p profile) string {
	if !c.cfg.Manners.PTZ || p.source != 0 {
		return ""
	}
	return "<" + tag + ` token="ptz0"><tt:Name>Dome</tt:Name><tt:UseCount>2</tt:UseCount><tt:NodeToken>node0</tt:NodeToken></` + tag + ">"
}

func title(profile string) string { return strings.ToUpper(profile[:1]) + profile[1:] }
