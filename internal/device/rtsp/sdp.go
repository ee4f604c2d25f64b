package rtsp

import (
	"cmp"
	"context"
	"encoding/base64"
	"errors"
	"strconv"
	"strings"

	"github.com/pion/sdp/v3"

	"duskyharbor/internal/core/stream"
	"duskyharbor/internal/device/dial"
)

// Track is the video of a stream as its description declares it.
type Track struct {
	Control string
	Session string // control of the whole presentation, as it stands in the description
	Codec   string // "H264", "H265", "JPEG"
	Payload uint8
	Clock   int
	SPS     []byte   // from the description; H.264 and H.265
	Sets    [][]byte // all parameter sets from the description, in its order
	Sound   *Track   // the stream's first sound; nil: none
	Meta    *Track   // the stream's metadata; nil: none
	Back    *Track   // what takes sound for the device's speaker, see DescribeTalk; nil: nothing
}

// Describe reads the stream's description and returns its first video track.
func (c *Conn) Describe() (Track, error) { return c.describe("", false) }

// DescribeMetadata is Describe of a stream that may have no picture: of what analytics see alone. Its Meta is there.
func (c *Conn) DescribeMetadata() (Track, error) {
	t, err := c.describe("", true)
	if err == nil && t.Meta == nil {
		err = c.fail("DESCRIBE", dial.ErrNotSupported, "its stream carries no metadata")
	}
	return t, err
}

// describe asks what a stream carries; blind says that a picture needn't be among it.
func (c *Conn) describe(extra string, blind bool) (Track, error) {
	res, err := c.do("DESCRIBE", c.base, "Accept: application/sdp\r\n"+extra)
	if err != nil {
		return Track{}, err
	}
	t, err := parseSDP(res.body)
	if err != nil && !(blind && t.Meta != nil) {
		return Track{}, c.fail("DESCRIBE", dial.ErrMalformed, err.Error())
	}
	base := cmp.Or(res.header.Get("Content-Base"), res.header.Get("Content-Location"), c.base)
	type given struct {
		into *string
		as   string
	}
	all := []given{{&c.whole, control(base, t.Session)}, {&t.Control, control(base, t.Control)}}
	for _, also := range []*Track{t.Sound, t.Meta, t.Back} {
		if also != nil {
			all = append(all, given{&also.Control, control(base, also.Control)})
		}
	}
	for _, u := range all {
		if *u.into, _, err = stream.RepairHost(u.as, c.host.Addr); err != nil {
			return Track{}, c.fail("DESCRIBE", dial.ErrMalformed, err.Error())
		}
	}
	return t, nil
}

// control is the address that a control attribute names, beside the base of its description
// (RFC 2326, appendix C.1.1; RFC 1808): the base itself as it was given, with nothing appended, where
// there is none or it is "*"; an absolute address; one on the same host where it begins with "/"; else
// one below the base's path, before its query. A base that ends with "/" is meant to be gone on with,
// also where that stands in its query.
func control(base, attribute string) string {
	scheme, rest, _ := strings.Cut(base, "://")
	path, query, queried := strings.Cut(rest, "?")
	switch {
	case attribute == "" || attribute == "*":
		return base
	case strings.Contains(attribute, "://"):
		return attribute
	case strings.HasPrefix(attribute, "/"):
		host, _, _ := strings.Cut(path, "/")
		return scheme + "://" + host + attribute
	case strings.HasSuffix(base, "/"):
		return base + attribute
	case queried:
		return scheme + "://" + strings.TrimSuffix(path, "/") + "/" + attribute + "?" + query
	}
	return base + "/" + attribute
}

// aggregate is the address that controls the whole presentation.
func (c *Conn) aggregate() string { return cmp.Or(c.whole, c.base) }

// Ask reads the description of one stream, and says whether the device asked for a sign-in.
func Ask(ctx context.Context, host dial.Host, address string, login Login) (Track, error) {
	c, err := Open(ctx, host, address, login)
	if err != nil {
		return Track{}, err
	}
	defer c.Close()
	return c.Describe()
}

// AskEach is Ask of several addresses of one device over one connection, which is opened anew
// where the device ends it. It ends at the first error for which goOn is false, and returns it.
func AskEach(ctx context.Context, host dial.Host, addresses []string, login Login, goOn func(address string, t Track, err error) bool) error {
	var c *Conn
	defer func() {
		if c != nil {
			c.Close()
		}
	}()
	for _, address := range addresses {
		var t Track
		var err error
		for range 2 {
			used := c != nil
			if t, err = askOn(ctx, &c, host, address, login); !used || !errors.Is(err, dial.ErrUnreachable) {
				break // a connection that was used before may have ended for that, not for this address
			}
		}
		if !goOn(address, t, err) {
			return err
		}
	}
	return nil
}

// askOn asks over the connection *c, which it opens where there is none, and gives up where the device
// didn't just refuse the address.
func askOn(ctx context.Context, c **Conn, host dial.Host, address string, login Login) (Track, error) {
	if *c == nil {
		fresh, err := Open(ctx, host, address, login)
		if err != nil {
			return Track{}, err
		}
		*c = fresh
	}
	fixed, _, err := stream.RepairHost(address, host.Addr)
	if err != nil {
		return Track{}, (*c).fail("DESCRIBE", dial.ErrMalformed, err.Error())
	}
	(*c).base = fixed
	t, err := (*c).Describe()
	if err != nil && !errors.Is(err, dial.ErrRefused) {
		(*c).Close()
		*c = nil
	}
	return t, err
}

// metadata is the payload's name of ONVIF metadata, whatever its coding (ONVIF Streaming, 5.1.2.1.1).
const metadata = "VND.ONVIF.METADATA"

// coding is what metadata is coded as besides plain XML: "gzip", "EXI", by the name of its payload (ONVIF Streaming, table 4);
// empty: it is plain.
func coding(payload string) string {
	switch rest := strings.TrimPrefix(payload, metadata); {
	case rest == "":
		return ""
	case rest == ".GZIP":
		return "gzip"
	case strings.HasPrefix(rest, ".EXI"):
		return "EXI"
	default:
		return strings.ToLower(strings.TrimPrefix(rest, "."))
	}
}

// ErrSDP is returned for a description without video.
var ErrSDP = errors.New("it describes no video")

// parseSDP reads a session description leniently: cameras leave out v=, o=, s= and
// t= or put lines out of order, which a strict parser refuses.
func parseSDP(body []byte) (Track, error) {
	clean := []string{"v=0", "o=- 0 0 IN IP4 0.0.0.0", "s=-", "t=0 0"}
	for _, line := range strings.FieldsFunc(string(body), func(r rune) bool { return r == '\r' || r == '\n' }) {
		if strings.HasPrefix(line, "m=") || strings.HasPrefix(line, "a=") {
			clean = append(clean, line)
		}
	}
	var d sdp.SessionDescription
	if err := d.UnmarshalString(strings.Join(clean, "\r\n") + "\r\n"); err != nil {
		return Track{}, ErrSDP
	}
	whole, _ := d.Attribute("control")
	var video, sound, meta, back *Track
	for _, m := range d.MediaDescriptions {
		t := trackOf(m, whole)
		_, toUs := m.Attribute("sendonly") // as the client that asks is told it: it sends only
		switch {
		case t == nil:
		case m.MediaName.Media == "video" && video == nil:
			video = t
		case m.MediaName.Media == "audio" && toUs && back == nil:
			back = t
		case m.MediaName.Media == "audio" && !toUs && sound == nil:
			sound = t
		case m.MediaName.Media == "application" && strings.HasPrefix(t.Codec, metadata) && meta == nil:
			meta = t
		}
	}
	if video == nil {
		return Track{Session: whole, Meta: meta}, ErrSDP
	}
	video.Sound, video.Meta, video.Back = sound, meta, back
	return *video, nil
}

// trackOf is one medium of a description, nil where its first format isn't known.
func trackOf(m *sdp.MediaDescription, whole string) *Track {
	if len(m.MediaName.Formats) == 0 {
		return nil
	}
	pt, err := strconv.ParseUint(m.MediaName.Formats[0], 10, 7)
	if err != nil {
		return nil
	}
	t := Track{Payload: uint8(pt), Session: whole}
	t.Control, _ = m.Attribute("control")
	for _, a := range m.Attributes {
		t.attribute(a.Key, a.Value)
	}
	if fixed, ok := fixedPayloads[t.Payload]; ok && t.Codec == "" {
		t.Codec, t.Clock = fixed.codec, fixed.clock
	}
	if t.Codec == "" || t.Clock <= 0 {
		return nil
	}
	return &t
}

// fixedPayloads need no rtpmap (RFC 3551, tables 4 and 5).
var fixedPayloads = map[uint8]struct {
	codec string
	clock int
}{0: {"PCMU", 8000}, 8: {"PCMA", 8000}, 26: {"JPEG", 90000}}

func (t *Track) attribute(key, value string) {
	number, rest, _ := strings.Cut(value, " ")
	if number != strconv.Itoa(int(t.Payload)) {
		return
	}
	switch key {
	case "rtpmap":
		name, rate, _ := strings.Cut(rest, "/")
		t.Codec = strings.ToUpper(dial.CleanText(name, 32))
		rate, _, _ = strings.Cut(rate, "/")
		t.Clock, _ = strconv.Atoi(rate)
	case "fmtp":
		for _, p := range strings.Split(rest, ";") {
			k, v, _ := strings.Cut(strings.TrimSpace(p), "=")
			for _, set := range strings.Split(v, ",") {
				raw, err := base64.StdEncoding.DecodeString(set)
				if err == nil && len(raw) > 0 && strings.HasPrefix(k, "sprop-") && len(t.Sets) < 8 {
					t.Sets = append(t.Sets, raw)
				}
				if err == nil && len(raw) > 0 && (k == "sprop-parameter-sets" && raw[0]&0x1f == 7 || k == "sprop-sps") { // RFC 6184, 8.1; RFC 7798, 7.1
					t.SPS = raw
				}
			}
		}
	}
}
