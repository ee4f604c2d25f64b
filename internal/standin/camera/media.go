package camera

import (
	"fmt"
	"strings"

	"duskyharbor/internal/core/rule"
	"duskyharbor/internal/core/scene"
	"duskyharbor/internal/standin/scenery"
	"duskyharbor/internal/standin/wire"
)

// media answers the Media2 service (ONVIF Media2 Service Specification).
func (c *Camera) media(op *wire.Node) (string, *fault, bool) {
	switch op.XMLName.Local {
	case "GetProfiles":
		var b strings.Builder
		for _, p := range []string{"main", "sub"} {
			if t := op.Get("Token"); t != "" && t != p {
				continue
			}
			fmt.Fprintf(&b, `<tr2:Profiles token="%s" fixed="true"><tr2:Name>%s</tr2:Name><tr2:Configurations><tr2:VideoSource token="vsc0"><tt:Name>Sensor</tt:Name><tt:UseCount>2</tt:UseCount><tt:SourceToken>vs0</tt:SourceToken><tt:Bounds x="0" y="0" width="%d" height="%d"/></tr2:VideoSource>%s<tr2:Analytics token="vac0"><tt:Name>Analytics</tt:Name><tt:UseCount>2</tt:UseCount></tr2:Analytics></tr2:Configurations></tr2:Profiles>`,
				p, title(p), scenery.Width, scenery.Height, encoder("tr2:VideoEncoder", p))
		}
		return "<tr2:GetProfilesResponse>" + b.String() + "</tr2:GetProfilesResponse>", nil, true
	case "GetVideoEncoderConfigurations":
		var b strings.Builder
		for _, p := range []string{"main", "sub"} {
			if t := op.Get("ConfigurationToken"); t == "" || t == "vec_"+p {
				b.WriteString(encoder("tr2:Configurations", p))
			}
		}
		return "<tr2:GetVideoEncoderConfigurationsResponse>" + b.String() + "</tr2:GetVideoEncoderConfigurationsResponse>", nil, true
	case "GetVideoEncoderConfigurationOptions":
		return fmt.Sprintf(`<tr2:GetVideoEncoderConfigurationOptionsResponse><tr2:Options GovLengthRange="%d %d" FrameRatesSupported="%d" ProfilesSupported="Main" ConstantBitRateSupported="false"><tt:Encoding>H264</tt:Encoding><tt:QualityRange><tt:Min>0</tt:Min><tt:Max>10</tt:Max></tt:QualityRange><tt:ResolutionsAvailable><tt:Width>1280</tt:Width><tt:Height>720</tt:Height></tt:ResolutionsAvailable><tt:ResolutionsAvailable><tt:Width>640</tt:Width><tt:Height>360</tt:Height></tt:ResolutionsAvailable><tt:BitrateRange><tt:Min>64</tt:Min><tt:Max>2048</tt:Max></tt:BitrateRange></tr2:Options></tr2:GetVideoEncoderConfigurationOptionsResponse>`,
			scenery.FPS, scenery.FPS, scenery.FPS), nil, true
	case "GetStreamUri", "GetSnapshotUri":
		p := op.Get("ProfileToken")
		if p != "main" && p != "sub" {
			return "", sender("ter:InvalidArgVal/ter:NoProfile", "The requested profile does not exist."), true
		}
		if op.XMLName.Local == "GetSnapshotUri" {
			return `<tr2:GetSnapshotUriResponse><tr2:Uri>` + c.url("/snapshot?profile="+p) + `</tr2:Uri></tr2:GetSnapshotUriResponse>`, nil, true
		}
		return fmt.Sprintf(`<tr2:GetStreamUriResponse><tr2:Uri>rtsp://%s:%d/%s</tr2:Uri></tr2:GetStreamUriResponse>`, c.cfg.Address, RTSPPort, p), nil, true
	}
	return "", nil, false
}

func title(profile string) string { return strings.ToUpper(profile[:1]) + profile[1:] }

func limit(profile string) int {
	if profile == "sub" {
		return 512
	}
	return 2048
}

func encoder(tag, profile string) string {
	w, h := scenery.Size(profile == "sub")
	return fmt.Sprintf(`<%s token="vec_%s" GovLength="%d" Profile="Main"><tt:Name>%s encoder</tt:Name><tt:UseCount>1</tt:UseCount><tt:Encoding>H264</tt:Encoding><tt:Resolution><tt:Width>%d</tt:Width><tt:Height>%d</tt:Height></tt:Resolution><tt:RateControl ConstantBitRate="false"><tt:FrameRateLimit>%d</tt:FrameRateLimit><tt:BitrateLimit>%d</tt:BitrateLimit></tt:RateControl><tt:Quality>6</tt:Quality></%s>`,
		tag, profile, scenery.FPS, title(profile), w, h, scenery.FPS, limit(profile), tag)
}

// analytics answers the rule engine's part of the Analytics service.
func (c *Camera) analytics(op *wire.Node) (string, *fault, bool) {
	switch op.XMLName.Local {
	case "GetSupportedRules":
		return `<tan:GetSupportedRulesResponse><tan:SupportedRules>` +
			`<tt:RuleDescription Name="tt:LineDetector"><tt:Parameters><tt:SimpleItemDescription Name="Direction" Type="tt:Direction"/><tt:ElementItemDescription Name="Segments" Type="tt:Polyline"/></tt:Parameters><tt:Messages><tt:Data><tt:SimpleItemDescription Name="ObjectId" Type="xs:integer"/></tt:Data><tt:ParentTopic>tns1:RuleEngine/LineDetector/Crossed</tt:ParentTopic></tt:Messages></tt:RuleDescription>` +
			`<tt:RuleDescription Name="tt:FieldDetector"><tt:Parameters><tt:ElementItemDescription Name="Field" Type="tt:Polygon"/></tt:Parameters><tt:Messages IsProperty="true"><tt:Data><tt:SimpleItemDescription Name="IsInside" Type="xs:boolean"/></tt:Data><tt:ParentTopic>tns1:RuleEngine/FieldDetector/ObjectsInside</tt:ParentTopic></tt:Messages></tt:RuleDescription>` +
			`</tan:SupportedRules></tan:GetSupportedRulesResponse>`, nil, true
	case "GetRules":
		var b strings.Builder
		for _, r := range c.memory().Rules {
			b.WriteString(ruleXML(r))
		}
		return "<tan:GetRulesResponse>" + b.String() + "</tan:GetRulesResponse>", nil, true
	case "CreateRules", "ModifyRules", "DeleteRules":
		out, f := c.writeRules(op)
		return out, f, true
	}
	return "", nil, false
}

func ruleXML(r rule.Rule) string {
	points := func(ps []scene.Point) string {
		var b strings.Builder
		for _, p := range ps {
			fmt.Fprintf(&b, `<tt:Point x="%.4f" y="%.4f"/>`, p.X, p.Y)
		}
		return b.String()
	}
	if r.Kind == rule.Inside {
		return fmt.Sprintf(`<tan:Rule Name="%s" Type="tt:FieldDetector"><tt:Parameters><tt:ElementItem Name="Field"><tt:Polygon>%s</tt:Polygon></tt:ElementItem></tt:Parameters></tan:Rule>`, wire.Esc(r.Name), points(r.Area))
	}
	return fmt.Sprintf(`<tan:Rule Name="%s" Type="tt:LineDetector"><tt:Parameters><tt:SimpleItem Name="Direction" Value="%s"/><tt:ElementItem Name="Segments"><tt:Polyline>%s</tt:Polyline></tt:ElementItem></tt:Parameters></tan:Rule>`, wire.Esc(r.Name), r.Direction, points(r.Line))
}
