// Package stream judges what a camera's streams declare against what they
// deliver, and which of them a recorder should take.
package stream

import (
	"cmp"
	"fmt"
	"math"
	"net/netip"
	"net/url"
	"slices"
	"strings"
	"time"
)

// VideoSource is one view of a device, as its profiles name it (ONVIF Media, a
// VideoSourceConfiguration's SourceToken and Name).
type VideoSource struct {
	Token string `json:"token"`
	Name  string `json:"name"`
}

// Profile is one media profile as the device declares it.
type Profile struct {
	Token  string `json:"token"`
	Name   string `json:"name"`
	Source string `json:"source"`         // video source token
	View   string `json:"view,omitempty"` // what the video source is called
	// SourceConfig is the token of its VideoSourceConfiguration, by which events name a view.
	SourceConfig string  `json:"source_config,omitempty"`
	Codec        string  `json:"codec"` // "H264", "H265", "JPEG": ONVIF Media2 names
	Width        int     `json:"width"` // pixels
	Height       int     `json:"height"`
	FPS          float64 `json:"fps"`  // frames a second, the limit set
	Kbps         int     `json:"kbps"` // the limit set, in 1,000 bits a second
	GOP          int     `json:"gop"`  // frames from key frame to key frame
	URI          string  `json:"uri"`  // as repaired; see Given
	Given        string  `json:"given"`
	Repaired     bool    `json:"repaired"` // the device gave another host than it was reached at
	Snapshot     string  `json:"snapshot"`
	Metadata     bool    `json:"metadata"`
	Analytics    string  `json:"analytics"`         // token of its analytics configuration; empty: none
	Trouble      string  `json:"trouble,omitempty"` // why the device doesn't say where it is had

	Secure  string    `json:"secure,omitempty"`  // address over TLS, rtsps://; empty: not offered
	Encoder string    `json:"encoder,omitempty"` // token of its VideoEncoderConfiguration
	Options []Options `json:"options,omitempty"` // what that can be set to; empty: not told
	Sound   Sound     `json:"sound,omitzero"`
	Fine              // what it tells of its encoder besides
	PTZ     string    `json:"ptz,omitempty"`  // token of its PTZ configuration; empty: it can't be turned by it
	Cast    *Cast     `json:"cast,omitempty"` // nil: it doesn't tell
	Use     Role      `json:"-"`              // what a person wants it for (see Uses); empty: nothing was said of it
}

// Best is the address at which the stream is played from here: over TLS where that is offered.
func (p Profile) Best() string {
	if p.Secure != "" {
		return p.Secure
	}
	return p.URI
}

// SourceTokens are the tokens by which events name what these profiles show: of video
// sources and of their configurations.
func SourceTokens(profiles []Profile) []string {
	var out []string
	for _, p := range profiles {
		for _, t := range []string{p.Source, p.SourceConfig} {
			if t != "" && !slices.Contains(out, t) {
				out = append(out, t)
			}
		}
	}
	return out
}

// Measured is what a stream delivered while it was played.
type Measured struct {
	Profile  string        `json:"profile"`
	At       time.Time     `json:"at"`
	Seconds  float64       `json:"seconds"`
	Codec    string        `json:"codec"`
	Width    int           `json:"width"` // 0: what came doesn't tell, see SizeText
	Height   int           `json:"height"`
	FPS      float64       `json:"fps"`
	MeanKbps float64       `json:"mean_kbps"` // of what is coded: RTP, UDP and IP headers come on top
	PeakKbps float64       `json:"peak_kbps"` // of any one second
	KeyEvery time.Duration `json:"key_every"` // the longest between two key frames seen; 0: no two were
	// KeyOver is how long none followed the last key frame before playing ended; where no two were
	// seen, they are further apart than that.
	KeyOver   time.Duration `json:"key_over,omitempty"`
	Frames    int           `json:"frames"`
	Lost      int           `json:"lost"`                // packets, by sequence numbers
	Jitter    time.Duration `json:"jitter,omitempty"`    // between arrivals (RFC 3550, section 6.4.1)
	First     time.Duration `json:"first,omitempty"`     // from the beginning of the conversation to the first key frame
	Over      string        `json:"over,omitempty"`      // what carried it: "TCP" or "UDP"
	Encrypted bool          `json:"encrypted,omitempty"` // it came over TLS
	Sound     *Heard        `json:"sound,omitempty"`     // nil: none is offered
	Metadata  *Noted        `json:"metadata,omitempty"`  // nil: none is offered
	Full      bool          `json:"full,omitempty"`      // it plays as many streams as it can already
	Skipped   bool          `json:"skipped,omitempty"`   // there was no time left to play it
	Trouble   string        `json:"trouble"`
}

// Heard is the sound of a stream. It is listened to only where there is consent; else it is
// known only that it is offered.
type Heard struct {
	Codec string  `json:"codec"`
	Kbps  float64 `json:"kbps,omitempty"`
	Level float64 `json:"level,omitempty"` // root mean square, in dB below full scale (≤ 0); G.711 alone
	Lost  int     `json:"lost,omitempty"`
	// Measured says that it was listened to.
	Measured bool `json:"measured,omitempty"`
}

// Noted is the metadata that came beside a stream's picture (ONVIF Streaming, 5.1.2.1.1).
type Noted struct {
	Documents int     `json:"documents"`
	PerSecond float64 `json:"per_second,omitempty"`
	Kbps      float64 `json:"kbps,omitempty"`
	Lost      int     `json:"lost,omitempty"`
	Coded     string  `json:"coded,omitempty"` // what it is coded as: "gzip", "EXI"; empty: it is plain
}

// Role a stream plays for a recorder.
type Role string

const (
	Record Role = "record"
	View   Role = "view"
)

// minViewWidth is the least width of a view stream, in pixels.
const minViewWidth = 352

// maxKeyEvery is the longest time between key frames that passes, in seconds.
const maxKeyEvery = 2 * time.Second

// Roles picks the record stream, the best that a recorder can take: by size, then frame rate, then
// H.264 or H.265 before JPEG, then bit rate; and the view stream, of least bit rate among those at
// least minViewWidth wide, and not the record stream. Empty tokens where none fits. codecs lists what
// the recorder takes; empty means that it isn't known yet. What a person wants a profile for goes first, if it fits.
func Roles(profiles []Profile, codecs []string) (record, view string) {
	var fit []Profile
	for _, p := range profiles {
		if p.Trouble == "" && (len(codecs) == 0 || slices.Contains(codecs, p.Codec)) {
			fit = append(fit, p)
		}
	}
	if len(fit) == 0 {
		return "", ""
	}
	wanted := func(role Role) string {
		if i := slices.IndexFunc(fit, func(p Profile) bool { return p.Use == role }); i >= 0 {
			return fit[i].Token
		}
		return ""
	}
	record, view = wanted(Record), wanted(View)
	if record == "" {
		others := slices.DeleteFunc(slices.Clone(fit), func(p Profile) bool { return p.Token == view })
		if len(others) == 0 { // the only one is recorded, whatever else it is wanted for
			return view, ""
		}
		record = slices.MaxFunc(others, better).Token
	}
	fit = slices.DeleteFunc(fit, func(p Profile) bool { return p.Token == record || p.Width < minViewWidth })
	if view == "" && len(fit) > 0 {
		view = slices.MinFunc(fit, cheaper).Token
	}
	return record, view
}

// ToLook is the profile by which a person is shown what a view shows: its view stream, or the only one.
func ToLook(profiles []Profile) string {
	record, view := Roles(profiles, nil)
	return cmp.Or(view, record)
}

// ToExamine is the profile by which a person sees whether a view is in focus: its record stream; empty where the one
// to look at is the same.
func ToExamine(profiles []Profile) string {
	record, view := Roles(profiles, nil)
	if view == "" {
		return ""
	}
	return record
}

// better compares two profiles as record streams: the better is the greater; of equal ones the first
// in a list is taken.
func better(a, b Profile) int {
	return cmp.Or(cmp.Compare(a.Width*a.Height, b.Width*b.Height), cmp.Compare(a.FPS, b.FPS), cmp.Compare(b.bulk(), a.bulk()), cmp.Compare(a.Kbps, b.Kbps))
}

// cheaper compares two profiles as view streams: the cheaper is the less. One whose bit rate isn't told
// comes after those whose is, by what usually makes it.
func cheaper(a, b Profile) int {
	rate := func(p Profile) float64 {
		if p.Kbps <= 0 {
			return math.Inf(1)
		}
		return float64(p.Kbps)
	}
	return cmp.Or(cmp.Compare(rate(a), rate(b)), cmp.Compare(a.bulk(), b.bulk()), cmp.Compare(a.Width*a.Height, b.Width*b.Height), cmp.Compare(a.FPS, b.FPS))
}

// bulk orders codecs by what the same picture costs in them: JPEG after those that send what changed.
func (p Profile) bulk() int {
	if p.Codec == jpegCodec {
		return 1
	}
	return 0
}

// WhyRole says why a profile has a role, or why none: for the recorder that takes these codecs.
func WhyRole(profiles []Profile, codecs []string, p Profile) string {
	record, view := Roles(profiles, codecs)
	switch {
	case p.Trouble != "":
		return "The device doesn't say where it is had."
	case len(codecs) > 0 && !slices.Contains(codecs, p.Codec):
		return "The recorder doesn't take " + Pretty(p.Codec) + "."
	case p.Use != "" && p.Token == map[Role]string{Record: record, View: view}[p.Use]:
		return "It was chosen for that."
	case p.Token == record && view == "":
		return fmt.Sprintf("The only one that the recorder takes and that is at least %d wide.", minViewWidth)
	case p.Token == record:
		return "The best that the recorder takes: by size, then frame rate, coding and bit rate."
	case p.Token == view:
		return fmt.Sprintf("The one of least bit rate that is still at least %d wide.", minViewWidth)
	case p.Width < minViewWidth:
		return fmt.Sprintf("Narrower than %d: too small to look at.", minViewWidth)
	}
	return "Another gives the recorder more, and a cheaper one does to look at."
}

// Takes says whether a recorder that takes these codecs can take one of the profiles as it is.
func Takes(profiles []Profile, codecs []string) bool {
	record, _ := Roles(profiles, codecs)
	return record != "" && len(codecs) > 0
}

// RepairHost puts the address at which a device was reached into an address that
// the device gave, keeping scheme, port, path and query as they were written, and says whether that
// changed the host. Credentials in the address are dropped.
func RepairHost(given string, reached netip.Addr) (string, bool, error) {
	u, err := url.Parse(given)
	scheme, rest, ok := strings.Cut(given, "://")
	if err != nil || !ok || u.Host == "" || len(given) > 2048 {
		return "", false, fmt.Errorf("the device gave an address that is none: %.80q", given)
	}
	host, port := u.Hostname(), u.Port()
	a, err := netip.ParseAddr(host)
	repaired := err != nil || a.Unmap() != reached
	at := reached.String()
	if reached.Is6() {
		at = "[" + at + "]"
	}
	if port != "" {
		at += ":" + port
	}
	path := ""
	if i := strings.IndexAny(rest, "/?"); i >= 0 {
		path = rest[i:]
	}
	path, _, _ = strings.Cut(path, "#")
	return scheme + "://" + at + path, repaired, nil
}

// WithoutAccount is an address that a device gave without the account that some write into it: it is
// kept, shown and told to programs.
func WithoutAccount(given string) string {
	scheme, rest, ok := strings.Cut(given, "://")
	if !ok {
		return given
	}
	end := len(rest)
	if i := strings.IndexAny(rest, "/?#"); i >= 0 {
		end = i
	}
	if at := strings.LastIndexByte(rest[:end], '@'); at >= 0 {
		rest = rest[at+1:]
	}
	return scheme + "://" + rest
}

// OfSource parts a device's profiles into those that show one of its video sources and
// those that show others. Nobody picked where the token is empty: then all are its own.
func OfSource(profiles []Profile, video string) (own, others []Profile) {
	if video == "" {
		return profiles, nil
	}
	for _, p := range profiles {
		if p.Source == video {
			own = append(own, p)
		} else {
			others = append(others, p)
		}
	}
	return own, others
}

// ShowsAny says whether the profile shows one of the views that are enrolled of its device:
// only those are played. Nobody picked where a token is empty: then all are.
func (p Profile) ShowsAny(videos []string) bool {
	return slices.Contains(videos, "") || slices.Contains(videos, p.Source)
}

// SizeText is the size in pixels, or that what was played doesn't tell: H.264 and H.265 do
// where a parameter set came, JPEG up to 2,040 pixels (RFC 2435, section 3.1).
func (m Measured) SizeText() string {
	if m.Width == 0 {
		return "size not told"
	}
	return fmt.Sprintf("%d × %d", m.Width, m.Height)
}

// Declares is in words what the profile declares, without what it doesn't.
func (p Profile) Declares() string {
	says := Pretty(p.Codec)
	if p.Width > 0 {
		says += fmt.Sprintf(" %d × %d", p.Width, p.Height)
	}
	if p.FPS > 0 {
		says += fmt.Sprintf(", %.4g/s", p.FPS)
	}
	return says
}

// Pretty writes an ONVIF codec name as people do.
func Pretty(codec string) string {
	switch codec {
	case "H264":
		return "H.264"
	case "H265":
		return "H.265"
	}
	return codec
}

func prettyAll(codecs []string) string {
	pretty := make([]string, len(codecs))
	for i, c := range codecs {
		pretty[i] = Pretty(c)
	}
	return strings.Join(pretty, " and ") + " only"
}
