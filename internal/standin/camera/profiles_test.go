package camera_test

import (
	"encoding/xml"
	"fmt"
	"io"
	"net/http"
	"strings"
	"testing"

	"github.com/icholy/digest"

	"duskyharbor/internal/core/access"
	"duskyharbor/internal/device/onvif"
	"duskyharbor/internal/standin/camera"
)

// What the profiles ask of a camera any client may ask, by whatever service has it: it answers
// in that service's namespace, or says that it has no such service.
func TestTheCameraAnswersWhatItsProfilesAsk(t *testing.T) {
	t.Parallel()
	n, s := fleet(t)
	const device, media, media2 = "http://www.onvif.org/ver10/device/wsdl", "http://www.onvif.org/ver10/media/wsdl", "http://www.onvif.org/ver20/media/wsdl"
	const events, analytics = "http://www.onvif.org/ver10/events/wsdl", "http://www.onvif.org/ver20/analytics/wsdl"
	for _, tc := range []struct {
		space, path, op string
		signed          bool
		want            string // an element of the same namespace; empty: it isn't supported
	}{
		{device, "device_service", "GetHostname", false, "HostnameInformation"},
		{device, "device_service", "GetScopes", true, "Scopes"},
		{device, "device_service", "GetServiceCapabilities", false, "Security"},
		{device, "device_service", "GetCapabilities", false, "Capabilities"},
		{events, "events", "GetServiceCapabilities", false, "Capabilities"},
		{media2, "media2", "GetServiceCapabilities", false, "StreamingCapabilities"},
		{media2, "media2", "GetVideoSourceConfigurations", true, "Configurations"},
		{analytics, "analytics", "GetServiceCapabilities", false, "Capabilities"},
		{media, "media", "GetServiceCapabilities", false, ""},
		{media, "media", "GetVideoSources", true, ""},
		{media, "media", "GetVideoSourceConfigurations", true, ""},
	} {
		by := &http.Client{Transport: &digest.Transport{Username: "otter", Password: s.House}}
		if !tc.signed {
			by = http.DefaultClient
		}
		body := `<s:Envelope xmlns:s="http://www.w3.org/2003/05/soap-envelope"><s:Body><` + tc.op + ` xmlns="` + tc.space + `"/></s:Body></s:Envelope>`
		res, err := by.Post(fmt.Sprintf("http://%s:%d/onvif/%s", n.At(".1.11"), camera.HTTPPort, tc.path), "application/soap+xml", strings.NewReader(body))
		if err != nil {
			t.Fatal(err)
		}
		names := elements(t, res.Body)
		_ = res.Body.Close()
		if tc.want == "" {
			if !names[xml.Name{Space: "http://www.w3.org/2003/05/soap-envelope", Local: "Fault"}] {
				t.Errorf("%s of %s: HTTP %d, want a fault", tc.op, tc.space, res.StatusCode)
			}
			continue
		}
		if !names[xml.Name{Space: tc.space, Local: tc.op + "Response"}] || !names[xml.Name{Space: tc.space, Local: tc.want}] {
			t.Errorf("%s of %s: HTTP %d %v", tc.op, tc.space, res.StatusCode, names)
		}
	}
}

func elements(t *testing.T, r io.Reader) map[xml.Name]bool {
	t.Helper()
	out := map[xml.Name]bool{}
	for d := xml.NewDecoder(r); ; {
		tok, err := d.Token()
		if err == io.EOF {
			return out
		}
		if err != nil {
			t.Fatal(err)
		}
		if e, ok := tok.(xml.StartElement); ok {
			out[e.Name] = true
		}
	}
}

// A camera that is older than GetServices tells its services by GetCapabilities.
func TestAnOlderCameraTellsItsServices(t *testing.T) {
	t.Parallel()
	n, s := fleet(t)
	cfg := camera.Config{Place: "Old", Make: "Ottervale", Model: "OTV 200", Serial: "OLD-1", MAC: "02:d5:1a:99:02:01", UUID: "7d7b8a10-0000-4000-8000-000000000201",
		Firmware: "1.0.3", Address: n.At(".1.201"), Network: n.Prefix(1), Username: "otter", Password: s.House, TakesDigest: true, Quiet: true,
		Manners: camera.Manners{NoServices: true, Media1: true, Sources: []string{"Left", "Right"}}}
	cam, err := camera.Start(t.Context(), cfg)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(cam.Close)
	c := client(t, cfg.Address, onvif.Login{Username: "otter", Password: s.House, Scheme: access.Digest})
	services, via, err := c.Services(t.Context())
	if err != nil || via != "GetCapabilities" || !strings.HasSuffix(services["http://www.onvif.org/ver10/media/wsdl"], "/onvif/media") || len(services) != 4 {
		t.Fatalf("%v by %s, %v", services, via, err)
	}
	if profiles, err := c.Profiles(t.Context(), services); err != nil || len(profiles) != 4 {
		t.Errorf("%d profiles, %v", len(profiles), err)
	}
}
