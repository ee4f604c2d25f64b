package onvif

import (
	"fmt"
	"io"
	"net/http"
	"slices"
	"strings"
	"testing"

	"duskyharbor/internal/core/stream"
)

// answers has a device answer each call by its name; what it doesn't know is a fault.
func answers(t *testing.T, by map[string]string, heard *[]string) (*Client, map[string]string) {
	t.Helper()
	c, srv := device(t, func(w http.ResponseWriter, r *http.Request) {
		raw, _ := io.ReadAll(r.Body)
		text := string(raw)
		if heard != nil {
			*heard = append(*heard, text)
		}
		for name, body := range by {
			if strings.Contains(text, "<"+name+" ") || strings.Contains(text, "<"+name+">") {
				soap(body)(w, r)
				return
			}
		}
		w.WriteHeader(http.StatusBadRequest)
		soap(`<e:Fault><e:Code><e:Value>e:Sender</e:Value><e:Subcode><e:Value xmlns:ter="http://www.onvif.org/ver10/error">ter:ActionNotSupported</e:Value></e:Subcode></e:Code><e:Reason><e:Text xml:lang="en">no</e:Text></e:Reason></e:Fault>`)(w, r)
	})
	at := srv.URL + "/onvif/service"
	return c, map[string]string{ptzNS: at, media1NS: at}
}

// Of several nodes the one counts that the profile's configuration names, and its limits.
func TestTheProfilesOwnNodeTurnsIt(t *testing.T) {
	node := func(token, most, from, to string) string {
		return `<tptz:PTZNode token="` + token + `"><tt:SupportedPTZSpaces><tt:AbsolutePanTiltPositionSpace><tt:URI>http://www.onvif.org/ver10/tptz/PanTiltSpaces/PositionGenericSpace</tt:URI><tt:XRange><tt:Min>` + from +
			`</tt:Min><tt:Max>` + to + `</tt:Max></tt:XRange><tt:YRange><tt:Min>-1</tt:Min><tt:Max>1</tt:Max></tt:YRange></tt:AbsolutePanTiltPositionSpace></tt:SupportedPTZSpaces><tt:MaximumNumberOfPresets>` + most + `</tt:MaximumNumberOfPresets></tptz:PTZNode>`
	}
	conf := func(token, of string) string {
		return `<tptz:PTZConfiguration token="` + token + `"><tt:NodeToken>` + of + `</tt:NodeToken></tptz:PTZConfiguration>`
	}
	ns := ` xmlns:tptz="` + ptzNS + `"`
	c, services := answers(t, map[string]string{
		"GetNodes":          `<tptz:GetNodesResponse` + ns + `>` + node("n0", "8", "-1", "1") + node("n1", "3", "-0.5", "0.5") + `</tptz:GetNodesResponse>`,
		"GetConfigurations": `<tptz:GetConfigurationsResponse` + ns + `>` + conf("c0", "n0") + conf("c1", "n1") + `</tptz:GetConfigurationsResponse>`,
		"GetStatus":         `<tptz:GetStatusResponse` + ns + `><tptz:PTZStatus><tt:Position><tt:PanTilt x="0" y="0"/></tt:Position></tptz:PTZStatus></tptz:GetStatusResponse>`,
		"GetPresets":        `<tptz:GetPresetsResponse` + ns + `/>`,
	}, nil)
	for token, want := range map[string]struct {
		most int
		pan  float64
	}{"c0": {8, 1}, "c1": {3, 0.5}} {
		p, err := c.PTZ(t.Context(), services, stream.Profile{Token: "main", PTZ: token})
		if err != nil || p == nil || p.Most != want.most || p.Pans.Max != want.pan || p.Config != token {
			t.Errorf("%s: %+v, %v", token, p, err)
		}
	}
	if p, err := c.PTZ(t.Context(), services, stream.Profile{Token: "main", PTZ: "gone"}); err != nil || p != nil {
		t.Errorf("a configuration that isn't there: %+v, %v", p, err)
	}
}

// EncodingInterval divides the rate: it is read so, and written so that it stays so.
func TestEncodingIntervalDividesTheRate(t *testing.T) {
	for _, x := range []struct {
		limit, every string
		fps          float64
		writes       string
	}{{"25", "1", 25, "25"}, {"25", "5", 5, "25"}, {"30", "4", 7.5, "30"}, {"25", "0", 25, "25"}, {"25", "", 25, "25"}} {
		var heard []string
		config := fmt.Sprintf(`token="v"><tt:Name>E</tt:Name><tt:UseCount>1</tt:UseCount><tt:Encoding>H264</tt:Encoding><tt:Resolution><tt:Width>640</tt:Width><tt:Height>360</tt:Height></tt:Resolution><tt:Quality>5</tt:Quality><tt:RateControl><tt:FrameRateLimit>%s</tt:FrameRateLimit><tt:EncodingInterval>%s</tt:EncodingInterval><tt:BitrateLimit>900</tt:BitrateLimit></tt:RateControl><tt:H264><tt:GovLength>25</tt:GovLength><tt:H264Profile>Main</tt:H264Profile></tt:H264>`, x.limit, x.every)
		ns := ` xmlns:trt="` + media1NS + `"`
		c, services := answers(t, map[string]string{
			"GetVideoEncoderConfigurations": `<trt:GetVideoEncoderConfigurationsResponse` + ns + `><trt:Configurations ` + config + `</trt:Configurations></trt:GetVideoEncoderConfigurationsResponse>`,
			"SetVideoEncoderConfiguration":  `<trt:SetVideoEncoderConfigurationResponse` + ns + `/>`,
			"GetProfiles":                   `<trt:GetProfilesResponse` + ns + `><trt:Profiles token="p"><tt:Name>P</tt:Name><tt:VideoEncoderConfiguration ` + config + `</tt:VideoEncoderConfiguration></trt:Profiles></trt:GetProfilesResponse>`,
		}, &heard)
		e, err := c.Encoder(t.Context(), services, "v")
		if err != nil || e.FPS != x.fps {
			t.Errorf("%s by %q: %+v, %v", x.limit, x.every, e, err)
		}
		all, err := c.Profiles(t.Context(), services)
		if err != nil || len(all) != 1 || all[0].FPS != x.fps {
			t.Errorf("%s by %q: %+v, %v", x.limit, x.every, all, err)
		}
		if err := c.SetEncoder(t.Context(), services, e); err != nil || !strings.Contains(heard[len(heard)-1], "<tt:FrameRateLimit>"+x.writes+"</tt:FrameRateLimit>") {
			t.Errorf("%s by %q is written as %s, %v", x.limit, x.every, heard[len(heard)-1], err)
		}
	}
}

// Of the servers that a device lists those count that it takes: typed ones, or what its network hands out.
func TestTheTimeServersThatItTakes(t *testing.T) {
	list := func(dhcp, manual, handed string) string {
		server := func(kind, at string) string {
			if at == "" {
				return ""
			}
			return `<tt:` + kind + `><tt:Type>IPv4</tt:Type><tt:IPv4Address>` + at + `</tt:IPv4Address></tt:` + kind + `>`
		}
		return `<tds:GetNTPResponse xmlns:tds="` + deviceNS + `"><tds:NTPInformation><tt:FromDHCP>` + dhcp + `</tt:FromDHCP>` + server("NTPFromDHCP", handed) + server("NTPManual", manual) + `</tds:NTPInformation></tds:GetNTPResponse>`
	}
	for _, x := range []struct {
		answer string
		want   []string
		dhcp   bool
	}{
		{list("false", "192.0.2.7", "192.0.2.9"), []string{"192.0.2.7"}, false},
		{list("true", "192.0.2.7", "192.0.2.9"), []string{"192.0.2.9"}, true},
		{list("1", "192.0.2.7", ""), nil, true},
		{list("false", "", "192.0.2.9"), nil, false},
	} {
		c, _ := answers(t, map[string]string{"GetNTP": x.answer}, nil)
		if servers, dhcp, err := c.NTP(t.Context()); err != nil || !slices.Equal(servers, x.want) || dhcp != x.dhcp {
			t.Errorf("%s: %v, by its network %t, %v", x.answer, servers, dhcp, err)
		}
	}
}
