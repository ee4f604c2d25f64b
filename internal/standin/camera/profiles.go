package camera

import (
	"fmt"
	"strings"

	"duskyharbor/internal/standin/footage"
	"duskyharbor/internal/standin/wire"
)

// Namespaces of the services that this camera answers.
const (
	deviceSpace    = "http://www.onvif.org/ver10/device/wsdl"
	mediaSpace     = "http://www.onvif.org/ver10/media/wsdl"
	media2Space    = "http://www.onvif.org/ver20/media/wsdl"
	eventsSpace    = "http://www.onvif.org/ver10/events/wsdl"
	analyticsSpace = "http://www.onvif.org/ver20/analytics/wsdl"
)

// service is one service with where it answers, below /onvif/.
type service struct{ space, path string }

func (c *Camera) offered() []service {
	media := service{media2Space, "media2"}
	if c.cfg.Manners.Media1 {
		media = service{mediaSpace, "media"}
	}
	out := []service{{deviceSpace, "device_service"}, media, {eventsSpace, "events"}}
	if !c.cfg.Manners.NoRules {
		out = append(out, service{analyticsSpace, "analytics"})
	}
	if c.cfg.Manners.Imaging {
		out = append(out, service{imagingSpace, "imaging"})
	}
	if c.cfg.Manners.PTZ {
		out = append(out, service{ptzSpace, "ptz"})
	}
	return out
}

func (c *Camera) services() string {
	var b strings.Builder
	for _, s := range c.offered() {
		fmt.Fprintf(&b, `<tds:Service><tds:Namespace>%s</tds:Namespace><tds:XAddr>%s</tds:XAddr><tds:Version><tt:Major>21</tt:Major><tt:Minor>6</tt:Minor></tds:Version></tds:Service>`, s.space, c.url("/onvif/"+s.path))
	}
	return "<tds:GetServicesResponse>" + b.String() + "</tds:GetServicesResponse>"
}

// capabilities answers GetCapabilities, what devices told before there was GetServices (ONVIF
// Core, 8.1.2.1). It has a place for Media ver10 and none for ver20.
func (c *Camera) capabilities(category string) string {
	var b strings.Builder
	add := func(of, inner string) {
		if category == "" || category == "All" || category == of {
			b.WriteString(inner)
		}
	}
	add("Analytics", fmt.Sprintf(`<tt:Analytics><tt:XAddr>%s</tt:XAddr><tt:RuleSupport>true</tt:RuleSupport><tt:AnalyticsModuleSupport>false</tt:AnalyticsModuleSupport></tt:Analytics>`, c.url("/onvif/analytics")))
	add("Device", fmt.Sprintf(`<tt:Device><tt:XAddr>%s</tt:XAddr></tt:Device>`, c.url("/onvif/device_service")))
	add("Events", fmt.Sprintf(`<tt:Events><tt:XAddr>%s</tt:XAddr><tt:WSSubscriptionPolicySupport>false</tt:WSSubscriptionPolicySupport><tt:WSPullPointSupport>true</tt:WSPullPointSupport><tt:WSPausableSubscriptionManagerInterfaceSupport>false</tt:WSPausableSubscriptionManagerInterfaceSupport></tt:Events>`, c.url("/onvif/events")))
	if c.cfg.Manners.Media1 {
		add("Media", fmt.Sprintf(`<tt:Media><tt:XAddr>%s</tt:XAddr><tt:StreamingCapabilities><tt:RTPMulticast>%t</tt:RTPMulticast><tt:RTP_TCP>true</tt:RTP_TCP><tt:RTP_RTSP_TCP>true</tt:RTP_RTSP_TCP></tt:StreamingCapabilities></tt:Media>`, c.url("/onvif/media"), !c.cfg.Manners.NoGroups))
	}
	return "<tds:GetCapabilitiesResponse><tds:Capabilities>" + b.String() + "</tds:Capabilities></tds:GetCapabilitiesResponse>"
}

// conforming answers what the profiles that a camera conforms to ask of it besides what the
// product's own stages use: anyone's client may ask it (ONVIF Profile S, Profile T).
func (c *Camera) conforming(op *wire.Node) (string, *fault, bool) {
	one := op.XMLName.Space == mediaSpace
	ns := "tr2"
	if one {
		ns = "trt"
	}
	switch op.XMLName.Local {
	case "GetScopes":
		var b strings.Builder
		for s := range strings.FieldsSeq(c.scopes()) {
			kind := "Fixed"
			if strings.HasPrefix(s, nameScope) {
				kind = "Configurable"
			}
			b.WriteString("<tds:Scopes><tt:ScopeDef>" + kind + "</tt:ScopeDef><tt:ScopeItem>" + wire.Esc(s) + "</tt:ScopeItem></tds:Scopes>")
		}
		return "<tds:GetScopesResponse>" + b.String() + "</tds:GetScopesResponse>", nil, true
	case "SetScopes":
		for i := range op.Kids {
			name, ok := strings.CutPrefix(strings.TrimSpace(op.Kids[i].Text), nameScope)
			if !ok {
				return "", sender("ter:OperationProhibited/ter:ScopeOverwrite", "That scope is fixed."), true
			}
			c.change(func(m *memory) { m.Name = name })
		}
		return "<tds:SetScopesResponse/>", nil, true
	case "GetHostname":
		name := strings.ToLower(strings.Join(strings.Fields(c.cfg.Model), "-")) + "-" + strings.ToLower(c.cfg.Serial)
		return "<tds:GetHostnameResponse><tds:HostnameInformation><tt:FromDHCP>false</tt:FromDHCP><tt:Name>" + wire.Esc(name) + "</tt:Name></tds:HostnameInformation></tds:GetHostnameResponse>", nil, true
	case "GetServiceCapabilities":
		return c.serviceCapabilities(op.XMLName.Space)
	case "GetVideoSources":
		if !one || !c.cfg.Manners.Media1 {
			return "", sender("ter:ActionNotSupported", "This device knows no such service."), true
		}
		var b strings.Builder
		for i := range max(1, len(c.cfg.Manners.Sources)) {
			fmt.Fprintf(&b, `<trt:VideoSources token="vs%d"><tt:Framerate>%d</tt:Framerate><tt:Resolution><tt:Width>%d</tt:Width><tt:Height>%d</tt:Height></tt:Resolution></trt:VideoSources>`, i, footage.FPS, footage.Width, footage.Height)
		}
		return "<trt:GetVideoSourcesResponse>" + b.String() + "</trt:GetVideoSourcesResponse>", nil, true
	case "GetVideoSourceConfigurations":
		if one != c.cfg.Manners.Media1 {
			return "", sender("ter:ActionNotSupported", "This device knows no such service."), true
		}
		var b strings.Builder
		for i := range max(1, len(c.cfg.Manners.Sources)) {
			fmt.Fprintf(&b, `<%s:Configurations token="vsc%d"><tt:Name>%s</tt:Name><tt:UseCount>2</tt:UseCount><tt:SourceToken>vs%d</tt:SourceToken><tt:Bounds x="0" y="0" width="%d" height="%d"/></%[1]s:Configurations>`,
				ns, i, wire.Esc(c.sourceName(i)), i, footage.Width, footage.Height)
		}
		return "<" + ns + ":GetVideoSourceConfigurationsResponse>" + b.String() + "</" + ns + ":GetVideoSourceConfigurationsResponse>", nil, true
	}
	return "", nil, false
}

// serviceCapabilities answers each service's GetServiceCapabilities.
func (c *Camera) serviceCapabilities(space string) (string, *fault, bool) {
	digest := fmt.Sprint(c.cfg.TakesDigest)
	token := fmt.Sprint(c.cfg.TakesToken)
	inner := map[string]string{
		deviceSpace:    `<tds:GetServiceCapabilitiesResponse><tds:Capabilities><tds:Network NTP="1"/><tds:Security HttpDigest="` + digest + `" UsernameToken="` + token + `"/><tds:System DiscoveryResolve="false"/></tds:Capabilities></tds:GetServiceCapabilitiesResponse>`,
		mediaSpace:     `<trt:GetServiceCapabilitiesResponse><trt:Capabilities SnapshotUri="true" OSD="true"><trt:ProfileCapabilities MaximumNumberOfProfiles="8"/><trt:StreamingCapabilities RTP_RTSP_TCP="true"/></trt:Capabilities></trt:GetServiceCapabilitiesResponse>`,
		media2Space:    `<tr2:GetServiceCapabilitiesResponse><tr2:Capabilities SnapshotUri="true" OSD="true" Mask="` + fmt.Sprint(c.cfg.Manners.Masks > 0) + `"><tr2:ProfileCapabilities MaximumNumberOfProfiles="8"/><tr2:StreamingCapabilities RTSPStreaming="true" RTP_RTSP_TCP="true" SecureRTSPStreaming="` + fmt.Sprint(c.cfg.Manners.TLS) + `"/></tr2:Capabilities></tr2:GetServiceCapabilitiesResponse>`,
		eventsSpace:    fmt.Sprintf(`<tev:GetServiceCapabilitiesResponse><tev:Capabilities WSSubscriptionPolicySupport="false" WSPausableSubscriptionManagerInterfaceSupport="false" MaxPullPoints="%d"/></tev:GetServiceCapabilitiesResponse>`, maxPoints),
		imagingSpace:   `<timg:GetServiceCapabilitiesResponse><timg:Capabilities ImageStabilization="false"/></timg:GetServiceCapabilitiesResponse>`,
		ptzSpace:       `<tptz:GetServiceCapabilitiesResponse><tptz:Capabilities EFlip="false" Reverse="false" MoveStatus="true" StatusPosition="true"/></tptz:GetServiceCapabilitiesResponse>`,
		analyticsSpace: `<tan:GetServiceCapabilitiesResponse><tan:Capabilities RuleSupport="true" AnalyticsModuleSupport="false"/></tan:GetServiceCapabilitiesResponse>`,
	}[space]
	if space == imagingSpace && !c.cfg.Manners.Imaging || space == ptzSpace && !c.cfg.Manners.PTZ || space == mediaSpace && !c.cfg.Manners.Media1 || space == media2Space && c.cfg.Manners.Media1 || inner == "" {
		return "", sender("ter:ActionNotSupported", "This device knows no such service."), true
	}
	return inner, nil, true
}
