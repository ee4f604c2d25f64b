package stream

import (
	"fmt"
	"math"
	"net/netip"
	"net/url"
	"time"

	"duskyharbor/internal/core/finding"
	"duskyharbor/internal/core/ground"
)

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
	Took    []Took     // settings that its encoders took otherwise
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

// Read says whether the streams were read and played.
func (f Facts) Read() bool { return !f.LookedAt.IsZero() }

// Wishes is what the source's recorder takes, and what the site allows.
type Wishes struct {
	Recorder       string
	Codecs         []string        // empty: not known
	Talkback       []string        // sound codecs with which it talks back; empty: it doesn't, or not known
	Held           bool            // the recorder plays its streams now
	OtherRecorders []string        // other recorders of the site with their codecs: "Terminal recorder"
	Encrypt        bool            // the site asks that streams are encrypted
	Consent        bool            // to record sound here is on record
	Accepted       Pictures        // that people accepted of it
	Grounds        []ground.Ground // that pictures rest on, as they are now
	Settings       []Setting       // of encoders, that were chosen for it
	Uses           Uses            // which streams a person wants for what
}

// Standing are the accepted pictures that still rest on what they were accepted on.
func (w Wishes) Standing() Pictures { return w.Accepted.Standing(w.Grounds) }

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
	out = append(out, judgeUses(f, w)...)
	out = append(out, judgeSettings(f, w)...)
	out = append(out, judgeTook(f)...)
	out = append(out, judgeSound(f, w)...)
	if f.Still != nil {
		out = append(out, judgePicture(*f.Still, w.Standing())...)
	}
	out = append(out, judgeGrounds(w.Accepted, w.Grounds)...)
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

// KeysTooFar says whether key frames are further apart than maxKeyEvery, with a
// tenth of a second for what a measurement misses.
func KeysTooFar(every time.Duration) bool { return every > maxKeyEvery+100*time.Millisecond }

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
	if p.Rate == Constant && p.Kbps > 0 && m.MeanKbps < 0.8*float64(p.Kbps) {
		differ("too little", fmt.Sprintf("%s is set to a constant %d kbit/s and sends %.0f.", p.Name, p.Kbps, m.MeanKbps))
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
	if n := m.Metadata; n != nil && n.Coded != "" {
		out = append(out, finding.Finding{Code: "stream.metadata-coded", Severity: finding.Note, Words: n.Coded + " metadata", Evidence: ev,
			Sentence: fmt.Sprintf("%s sends its metadata coded as %s: what its analytics see can't be read here, so no rule of it is rehearsed.", p.Name, n.Coded),
			WayOut:   "Have it sent plain: on its own page, in the metadata's settings, choose no compression."})
	} else if p.Metadata && (m.Metadata == nil || m.Metadata.Documents == 0) {
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

// leastSeen is for how many seconds a stream is to be seen before it is judged.
const leastSeen = 2
