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

	"duskyharbor/internal/core/finding"
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
	PTZ     string    `json:"ptz,omitempty"` // token of its PTZ configuration; empty: it can't be turned by it
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
}

// Role a stream plays for a recorder.
type Role string

const (
	Record Role = "record"
	View   Role = "view"
)

// MinViewWidth is the least width of a view stream, in pixels.
const MinViewWidth = 352

// MaxKeyEvery is the longest time between key frames that passes, in seconds.
const MaxKeyEvery = 2 * time.Second

// Roles picks the record stream, the best that a recorder can take: by size, then frame rate, then
// H.264 or H.265 before JPEG, then bit rate; and the view stream, of least bit rate among those at
// least MinViewWidth wide, and not the record stream. Empty tokens where none fits. codecs lists what
// the recorder takes; empty means that it isn't known yet.
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
	best := slices.MaxFunc(fit, better).Token
	fit = slices.DeleteFunc(fit, func(p Profile) bool { return p.Token == best || p.Width < MinViewWidth })
	if len(fit) > 0 {
		view = slices.MinFunc(fit, cheaper).Token
	}
	return best, view
}

// ToLook is the profile by which a person is shown what a view shows: its view stream, or the only one.
func ToLook(profiles []Profile) string {
	record, view := Roles(profiles, nil)
	return cmp.Or(view, record)
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
	case p.Token == record && view == "":
		return fmt.Sprintf("The only one that the recorder takes and that is at least %d wide.", MinViewWidth)
	case p.Token == record:
		return "The best that the recorder takes: by size, then frame rate, coding and bit rate."
	case p.Token == view:
		return fmt.Sprintf("The one of least bit rate that is still at least %d wide.", MinViewWidth)
	case p.Width < MinViewWidth:
		return fmt.Sprintf("Narrower than %d: too small to look at.", MinViewWidth)
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

// Facts is what the judge of one source's streams knows.
type Facts struct {
	LookedAt time.Time
	Profiles []Profile
	Measured []Measured
	Trouble  string // why profiles couldn't be read
	// Elsewhere is how many profiles the device has that show other views.
	Elsewhere int
	Still     *Seen // the last one; nil: it has none, or none came
	// Unnamed: it speaks RTSP alone, and nobody said at which addresses its streams are had.
	Unnamed bool
	At      netip.Addr // where the device is reached now; invalid: not known
	Touched Touched    // what was last done to the device that streams rest on
}

// Touched is what was done to a device that what was read and measured before doesn't outlast: a
// restart, another address, a reset.
type Touched struct {
	At   time.Time `json:"at"`
	What string    `json:"what"` // "it was started again"
}

// Stale says why what was read and measured doesn't count any more; empty where it does.
func (f Facts) Stale() string {
	if f.LookedAt.IsZero() || f.Trouble != "" {
		return ""
	}
	if !f.Touched.At.Before(f.LookedAt) && !f.Touched.At.IsZero() {
		return fmt.Sprintf("Since its streams were read %s: they aren't known now.", f.Touched.What)
	}
	for _, p := range f.Profiles {
		if u, err := url.Parse(p.URI); err == nil && f.At.IsValid() && p.URI != "" {
			if at, err := netip.ParseAddr(u.Hostname()); err == nil && at.Unmap() != f.At {
				return fmt.Sprintf("Its streams were read at %s, and it is at %s now.", at, f.At)
			}
		}
	}
	for _, p := range f.Profiles {
		_, m, _ := f.Find(p.Token)
		switch {
		case m == nil:
			return p.Name + " was never played."
		case m.Skipped:
			return p.Name + " wasn't played: what was played before it took all the time that there was."
		case m.At.Before(f.Touched.At):
			return fmt.Sprintf("%s wasn't played since %s.", p.Name, f.Touched.What)
		}
	}
	return ""
}

// OfView parts a device's profiles into those that show one of its video sources and
// those that show others. Nobody picked where the token is empty: then all are its own.
func OfView(profiles []Profile, video string) (own, others []Profile) {
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

// Read says whether the streams were read and played.
func (f Facts) Read() bool { return !f.LookedAt.IsZero() }

// Wishes is what the source's recorder takes, and what the site allows.
type Wishes struct {
	Recorder string
	Codecs   []string // empty: not known
	Talkback []string // sound codecs with which it talks back; empty: it doesn't, or not known
	Held     bool     // the recorder plays its streams now
	Takers   []string // other recorders of the site with their codecs: "Terminal recorder"
	Encrypt  bool     // the site asks that streams are encrypted
	Consent  bool     // to record sound here is on record
	Accepted Pictures // that people accepted of it
}

// Find gives the profile and the measurement of a token.
func (f Facts) Find(token string) (p Profile, m *Measured, ok bool) {
	for _, q := range f.Profiles {
		if q.Token == token {
			p, ok = q, true
		}
	}
	for i := range f.Measured {
		if f.Measured[i].Profile == token {
			m = &f.Measured[i]
		}
	}
	return p, m, ok
}

// Judge compares declared and measured and asks whether the recorder can take any.
func Judge(_ time.Time, f Facts, w Wishes) []finding.Finding {
	if f.Unnamed {
		return []finding.Finding{{Code: "stream.unnamed", Severity: finding.Needs, Words: "which address",
			Sentence: "It speaks RTSP alone, and nobody said at which addresses its streams are had.",
			WayOut:   "Name them in its sheet, as its papers or its own page give them; or have the usual ones asked."}}
	}
	if f.LookedAt.IsZero() {
		return nil
	}
	if f.Trouble != "" {
		return []finding.Finding{{Code: "stream.unread", Severity: finding.Blocks, Words: "not read", Sentence: f.Trouble,
			WayOut: "Look whether it still answers and signs in, then read the streams again."}}
	}
	if len(f.Profiles) == 0 && f.Elsewhere > 0 {
		return []finding.Finding{{Code: "stream.gone", Severity: finding.Blocks, Words: "view gone",
			Sentence: "The device's profiles show other views; none shows this one any more.",
			WayOut:   "Pick the device's views again in Find."}}
	}
	if len(f.Profiles) == 0 {
		return []finding.Finding{{Code: "stream.none", Severity: finding.Blocks, Words: "no profiles",
			Sentence: "It offers no media profile.",
			WayOut:   "Make a profile on its own page, then read the streams again."}}
	}
	var out []finding.Finding
	if record, _ := Roles(f.Profiles, w.Codecs); record == "" {
		out = append(out, judgeCodec(f, w))
	} else if less, ok := judgeLess(f, w); ok {
		out = append(out, less)
	}
	out = append(out, judgeSound(f, w)...)
	if f.Still != nil {
		out = append(out, JudgePicture(*f.Still, w.Accepted)...)
	}
	for _, p := range f.Profiles {
		_, m, _ := f.Find(p.Token)
		if m != nil {
			out = append(out, judgeOne(p, *m, w)...)
		}
		if p.Repaired {
			out = append(out, finding.Finding{Code: "stream.host", Severity: finding.Note, Words: "other host",
				Sentence: fmt.Sprintf("For %s it gave %s, which isn't where it was reached; its path and port are used at its own address.", p.Name, p.Given),
				WayOut:   "Nothing to do here; a recorder that takes the address as given will not find it."})
		}
	}
	finding.Sort(out)
	return out
}

// RateDiffers says whether a frame rate is further than a fifth, and more than 1.5
// frames a second, from the declared one.
func RateDiffers(declared, measured float64) bool {
	return math.Abs(measured-declared) > math.Max(1.5, 0.2*declared)
}

// OverLimit says whether a bit rate is more than a fifth over its limit.
func OverLimit(limit, measured float64) bool { return measured > 1.2*limit }

// KeysTooFar says whether key frames are further apart than MaxKeyEvery, with a
// tenth of a second for what a measurement misses.
func KeysTooFar(every time.Duration) bool { return every > MaxKeyEvery+100*time.Millisecond }

// Keys is how far key frames were apart: over says that they are further apart than that, since none
// followed as long as it was played.
func (m Measured) Keys() (every time.Duration, over bool) {
	if m.KeyOver > m.KeyEvery && (m.KeyEvery == 0 || KeysTooFar(m.KeyOver)) {
		return m.KeyOver, true
	}
	return m.KeyEvery, false
}

// KeyText is Keys in words: "1.0 s", "more than 12.0 s".
func (m Measured) KeyText() string {
	every, over := m.Keys()
	if over {
		return fmt.Sprintf("more than %.1f s", every.Seconds())
	}
	return fmt.Sprintf("%.1f s", every.Seconds())
}

// TooLittle says whether too few pictures came to judge the stream by: it was seen for less than two
// seconds, or with less than half of the pictures that it declares for that time.
func (m Measured) TooLittle(declared float64) bool {
	return m.Frames > 0 && (m.Seconds < leastSeen || declared > 0 && float64(m.Frames) < declared*m.Seconds/2-1)
}

// leastSeen is for how many seconds a stream is to be seen before it is judged.
const leastSeen = 2

func judgeOne(p Profile, m Measured, w Wishes) []finding.Finding {
	ev := []finding.Evidence{{Name: p.Name, Value: fmt.Sprintf("%s %s, %.1f frames/s, %.0f kbit/s over %.1f s",
		Pretty(m.Codec), m.SizeText(), m.FPS, m.MeanKbps, m.Seconds), Via: "RTSP PLAY", At: m.At}}
	if m.Skipped {
		return nil // it is stale: the time was ours
	}
	if m.Full {
		return []finding.Finding{{Code: "stream.limit", Severity: finding.Needs, Words: "limit",
			Sentence: fmt.Sprintf("%s wasn't played: it plays as many streams as it can already. %s", p.Name, w.whoElse()),
			WayOut:   "See who else takes its streams and whether all of them must; then read and play it again.", Evidence: ev}}
	}
	if m.Trouble == "" && m.Frames == 0 && m.FPS == 0 && (m.Width > 0 || m.Seconds > 0) {
		m.Trouble = "nothing of its picture came."
	}
	if m.Trouble != "" {
		return []finding.Finding{{Code: "stream.no-picture", Severity: finding.Blocks, Words: "no picture",
			Sentence: fmt.Sprintf("%s was asked for and didn't play: %s", p.Name, m.Trouble),
			WayOut:   "Play it again; if it stays so, start the camera again.", Evidence: ev}}
	}
	var out []finding.Finding
	differ := func(words, sentence string) {
		out = append(out, finding.Finding{Code: "stream.differs", Severity: finding.Needs, Words: words, Sentence: sentence,
			WayOut: "Read and play it again; where it stays so, start the camera again, or see on its own page what changes it.", Evidence: ev})
	}
	if m.Codec != "" && p.Codec != "" && m.Codec != p.Codec {
		differ("codec differs", fmt.Sprintf("%s declares %s and sends %s.", p.Name, Pretty(p.Codec), Pretty(m.Codec)))
	}
	if SizeDiffers(p, m) {
		differ("size differs", fmt.Sprintf("%s declares %d × %d and sends %d × %d.", p.Name, p.Width, p.Height, m.Width, m.Height))
	}
	switch {
	case m.TooLittle(p.FPS):
		out = append(out, finding.Finding{Code: "stream.sparse", Severity: finding.Needs, Words: "little seen",
			Sentence: fmt.Sprintf("%s sent %s in %.1f s: too little to say that it delivers what it declares%s.", p.Name, pictures(m.Frames), m.Seconds, atRate(p.FPS)),
			WayOut:   "Read and play it again; where it stays so, see what else loads the camera or its network.", Evidence: ev})
	case p.FPS > 0 && RateDiffers(p.FPS, m.FPS):
		differ("rate differs", fmt.Sprintf("%s declares %.0f frames a second and sends %.1f.", p.Name, p.FPS, m.FPS))
	}
	if p.Kbps > 0 && OverLimit(float64(p.Kbps), m.MeanKbps) {
		differ("too much", fmt.Sprintf("%s is limited to %d kbit/s and sends %.0f.", p.Name, p.Kbps, m.MeanKbps))
	}
	if every, _ := m.Keys(); KeysTooFar(every) {
		way := "Set the key-frame distance to one second, as is proposed."
		if !p.keysRare() {
			way = "It is set closer and stretches the distance by itself: switch that off on its own page (often called smart or dynamic coding)."
		}
		out = append(out, finding.Finding{Code: "stream.key-frames", Severity: finding.Needs, Words: "key frames",
			Sentence: fmt.Sprintf("%s sends a key frame every %s; more than 2 s apart, playback starts late and events lose their beginning.", p.Name, m.KeyText()),
			WayOut:   way, Evidence: ev})
	}
	if p.Metadata && (m.Metadata == nil || m.Metadata.Documents == 0) {
		says := "none is offered in its stream"
		if m.Metadata != nil {
			says = fmt.Sprintf("none came in %.0f s", m.Seconds)
		}
		out = append(out, finding.Finding{Code: "stream.metadata", Severity: finding.Note, Words: "no metadata", Evidence: ev,
			Sentence: fmt.Sprintf("%s declares metadata, and %s.", p.Name, says),
			WayOut:   "Read it again while something moves in its view; where it stays so, see on its own page whether its analytics are switched on."})
	}
	if w.Encrypt && !m.Encrypted {
		out = append(out, clearLegs(p, w, ev))
	}
	if m.Lost > 0 {
		out = append(out, finding.Finding{Code: "stream.loss", Severity: finding.Needs, Words: "loss",
			Sentence: fmt.Sprintf("%s lost %d packets in %.0f s.", p.Name, m.Lost, m.Seconds),
			WayOut:   "Look at the cable and the switch port.", Evidence: ev})
	}
	return out
}

// SizeDiffers says whether a stream sends another size than it declares; what isn't known
// isn't compared. JPEG in RTP tells it in units of 8 pixels, rounded up (RFC 2435, 3.1.5 and 3.1.6).
func SizeDiffers(p Profile, m Measured) bool {
	if m.Codec == jpegCodec {
		p.Width, p.Height = (p.Width+7)/8*8, (p.Height+7)/8*8
	}
	return m.Width > 0 && p.Width > 0 && (m.Width != p.Width || m.Height != p.Height)
}

func pictures(n int) string {
	if n == 1 {
		return "1 picture"
	}
	return fmt.Sprintf("%d pictures", n)
}

func atRate(fps float64) string {
	if fps <= 0 {
		return ""
	}
	return fmt.Sprintf(", %.4g a second", fps)
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
