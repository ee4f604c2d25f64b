package rtsp

import (
	"context"
	"errors"
	"fmt"
	"math"
	"time"

	"github.com/pion/rtp"

	"duskyharbor/internal/core/stream"
	"duskyharbor/internal/device/dial"
)

// settle is how long a stream is let run before it is measured: many servers begin with what
// they had ready, in a burst and with a gap in its numbers, before they send what is live.
const settle = 500 * time.Millisecond

// Meter counts a stream's packets. The zero Meter with a Track set is ready.
type Meter struct {
	Track    Track
	Settle   time.Duration // what comes in so long from the first packet on isn't counted
	came     time.Time     // the first packet
	sps      []byte
	width    int // of a JPEG picture, by its RTP header
	height   int
	begun    time.Time
	last     time.Time
	frames   int
	got      int64   // packets
	span     int64   // packets from the first to the newest, by their numbers
	jitter   float64 // in units of the track's clock (RFC 3550, section 6.4.1)
	transit  int64
	base     uint32 // the first picture's time: transits count from it
	bytes    int64
	recent   []arrival // of the last second
	inSec    int64
	peak     int64
	unit     int64 // bytes before the running access unit
	keyAt    int64 // bytes before the last key frame's access unit
	key0At   int64 // and before the first's
	key0     uint32
	seq      uint16
	seen     bool
	stamp    uint32
	first    uint32 // the earliest of the pictures' times, and the latest: pictures that are coded between others come after them
	newest   uint32
	ahead    int // pictures so far that were the newest when they came
	other    int // packets of another payload than the picture's
	otherIs  uint8
	key      time.Time
	firstKey time.Time
	keyGap   time.Duration
	keyRTP   uint32
	keys     int
}

type arrival struct {
	at time.Time
	n  int64
}

// LastKey is when the last key frame came.
func (m *Meter) LastKey() time.Time { return m.key }

// Add counts one RTP packet that came at now.
func (m *Meter) Add(raw []byte, now time.Time) {
	var p rtp.Packet
	if p.Unmarshal(raw) != nil {
		return
	}
	if p.PayloadType != m.Track.Payload {
		m.other++
		m.otherIs = p.PayloadType
	}
	if p.PayloadType != m.Track.Payload || len(p.Payload) == 0 {
		return
	}
	if m.came.IsZero() {
		m.came = now
	}
	key, sps := inspect(m.Track.Codec, p.Payload)
	if sps != nil {
		m.sps = sps
	}
	if key && m.firstKey.IsZero() {
		m.firstKey = now
	}
	if now.Sub(m.came) < m.Settle {
		return
	}
	if m.late(&p, now) {
		return
	}
	if !m.seen || p.Timestamp != m.stamp {
		m.frames++
		m.unit = m.bytes
		m.arrives(p.Timestamp, now)
	}
	m.seq, m.seen, m.stamp, m.last = p.SequenceNumber, true, p.Timestamp, now
	size := coded(m.Track.Codec, p.Payload)
	m.bytes += size
	m.count(size, now)
	if m.Track.Codec == "JPEG" && len(p.Payload) >= 8 { // RFC 2435, section 3.1: in units of 8 pixels, 0 where it is larger
		m.width, m.height = int(p.Payload[6])*8, int(p.Payload[7])*8
	}
	if key && (m.keys == 0 || p.Timestamp != m.keyRTP) {
		if m.keys > 0 && m.Track.Clock > 0 {
			m.keyGap = max(m.keyGap, time.Duration(p.Timestamp-m.keyRTP)*time.Second/time.Duration(m.Track.Clock))
		}
		m.keys++
		if m.keys == 1 {
			m.key0, m.key0At = p.Timestamp, m.unit
		}
		m.key, m.keyRTP, m.keyAt = now, p.Timestamp, m.unit
	}
}

// maxJump is how far numbers may run ahead for what is between to count as lost; further is
// another beginning.
const maxJump = 1000

// late counts a packet by its number (RFC 3550, appendix A.3), and says whether it comes after
// a newer one: then it isn't lost, and tells nothing else.
func (m *Meter) late(p *rtp.Packet, now time.Time) bool {
	ahead := int64(int16(p.SequenceNumber - m.seq))
	switch {
	case !m.seen:
		m.begun, m.base, m.first, m.newest, m.span = now, p.Timestamp, p.Timestamp, p.Timestamp, 1
	case ahead <= 0 && ahead > -maxJump:
		if ahead < 0 { // twice the same is one
			m.got++
			m.bytes += coded(m.Track.Codec, p.Payload)
		}
		return true
	case ahead > maxJump, ahead < 0:
		m.span++
	default:
		m.span += ahead
	}
	m.got++
	return false
}

// settled is how many pictures that were the newest come before jitter is reckoned: where pictures are
// coded between others the first ones come sooner after each other than those that follow.
const settled = 3

// arrives takes a new picture into the times, and into the jitter (RFC 3550, section 6.4.1) where none
// that is shown after it came before.
func (m *Meter) arrives(stamp uint32, now time.Time) {
	if int32(stamp-m.first) < 0 {
		m.first = stamp
	}
	if int32(stamp-m.newest) < 0 {
		return // it is shown before one that came already
	}
	m.newest = stamp
	if m.Track.Clock <= 0 {
		return
	}
	transit := now.Sub(m.begun).Nanoseconds()*int64(m.Track.Clock)/int64(time.Second) - int64(int32(stamp-m.base))
	if m.ahead++; m.ahead > settled {
		m.jitter += (math.Abs(float64(transit-m.transit)) - m.jitter) / 16
	}
	m.transit = transit
}

// media is how long what was seen shows, from the earliest picture to the latest, in seconds.
func (m *Meter) media() float64 { return float64(m.newest-m.first) / float64(m.Track.Clock) }

func (m *Meter) count(n int64, now time.Time) {
	m.recent = append(m.recent, arrival{now, n})
	m.inSec += n
	for now.Sub(m.recent[0].at) >= time.Second {
		m.inSec -= m.recent[0].n
		m.recent = m.recent[1:]
	}
	m.peak = max(m.peak, m.inSec)
}

// inspect says whether a payload begins a key frame and gives the sequence
// parameter set it carries (RFC 6184, RFC 7798).
func inspect(codec string, p []byte) (key bool, sps []byte) {
	switch codec {
	case "H264":
		return inspect264(p)
	case "H265":
		if len(p) < 3 {
			return false, nil
		}
		return inspect265(p)
	}
	return true, nil // JPEG: every picture stands alone
}

// Kinds of H.265 NAL units (ITU-T H.265, table 7-1; RFC 7798, section 4.4).
const (
	nalSPS265       = 33
	nalAggregate265 = 48
	nalFragment265  = 49
)

func inspect265(p []byte) (key bool, sps []byte) {
	switch kind := p[0] >> 1 & 0x3f; {
	case kind == nalFragment265:
		return p[2]&0x80 != 0 && irap(p[2]&0x3f), nil
	case kind == nalSPS265:
		return false, append([]byte(nil), p...)
	case irap(kind):
		return true, nil
	case kind != nalAggregate265:
		return false, nil
	}
	for p = p[2:]; len(p) > 2; {
		n := int(p[0])<<8 | int(p[1])
		if n < 2 || n+2 > len(p) {
			break
		}
		nal := p[2 : 2+n]
		switch kind := nal[0] >> 1 & 0x3f; {
		case irap(kind):
			key = true
		case kind == nalSPS265:
			sps = append([]byte(nil), nal...)
		}
		p = p[2+n:]
	}
	return key, sps
}

func irap(kind byte) bool { return kind >= 16 && kind <= 21 }

// Kinds of H.264 packets (RFC 6184, table 1).
const (
	nalSTAPA = 24
	nalFUA   = 28
)

func inspect264(p []byte) (key bool, sps []byte) {
	switch kind := p[0] & 0x1f; kind {
	case 5:
		return true, nil
	case 7:
		return false, append([]byte(nil), p...)
	case nalFUA:
		return len(p) > 1 && p[1]&0x80 != 0 && p[1]&0x1f == 5, nil
	case nalSTAPA:
		for p = p[1:]; len(p) > 2; {
			n := int(p[0])<<8 | int(p[1])
			if n == 0 || n+2 > len(p) {
				break
			}
			nal := p[2 : 2+n]
			switch nal[0] & 0x1f {
			case 5:
				key = true
			case 7:
				sps = append([]byte(nil), nal...)
			}
			p = p[2+n:]
		}
	}
	return key, sps
}

// Result is what was counted so far.
func (m *Meter) Result() stream.Measured {
	out := stream.Measured{Codec: m.Track.Codec, Frames: m.frames, Lost: int(max(0, m.span-m.got)), KeyEvery: m.keyGap}
	out.Width, out.Height = m.size()
	if m.Track.Clock > 0 {
		out.Jitter = time.Duration(m.jitter / float64(m.Track.Clock) * float64(time.Second))
	}
	if !m.key.IsZero() {
		out.KeyOver = m.last.Sub(m.key)
	} else {
		out.KeyOver = m.last.Sub(m.begun)
	}
	if m.Track.Codec == "JPEG" {
		out.KeyOver = 0 // every picture stands alone
	}
	wall := m.last.Sub(m.begun).Seconds()
	out.Seconds = wall
	if m.frames > 1 && m.Track.Clock > 0 {
		if media := m.media(); media > 0 {
			out.FPS = float64(m.frames-1) / media
			out.MeanKbps = float64(m.bytes) * 8 / 1000 / (media + media/float64(m.frames-1))
		}
	}
	// Over whole groups of pictures where two key frames were seen: a part of a group
	// would count its large key frame too often.
	if m.keys > 1 && m.Track.Clock > 0 {
		if media := float64(m.keyRTP-m.key0) / float64(m.Track.Clock); media > 0 {
			out.MeanKbps = float64(m.keyAt-m.key0At) * 8 / 1000 / media
		}
	}
	out.PeakKbps = max(float64(m.peak)*8/1000, out.MeanKbps)
	return out
}

// size is that of the picture, in pixels; 0 where what came doesn't tell.
func (m *Meter) size() (width, height int) {
	sps := m.sps
	if sps == nil {
		sps = m.Track.SPS
	}
	parse := stream.ParseSPS
	switch m.Track.Codec {
	case "JPEG":
		if m.width == 0 || m.height == 0 {
			return 0, 0
		}
		return m.width, m.height
	case "H265":
		parse = stream.ParseHEVC
	case "H264":
	default:
		return 0, 0
	}
	s, err := parse(sps)
	if err != nil {
		return 0, 0
	}
	return s.Width, s.Height
}

// Measure plays a stream for a while and says what it delivered; over UDP where the device
// offers no TCP.
func Measure(ctx context.Context, host dial.Host, p stream.Profile, login Login, length time.Duration) stream.Measured {
	return MeasureOver(ctx, host, p, login, length, (*Conn).Play)
}

// MeasureOver is Measure by a way of playing: Play, or PlayOver with what carries it.
func MeasureOver(ctx context.Context, host dial.Host, p stream.Profile, login Login, length time.Duration, play func(*Conn, Track) error) stream.Measured {
	out, err := measure(ctx, host, p.Best(), login, spanOf(p, length), play)
	out.Profile, out.At = p.Token, time.Now().UTC()
	if err != nil {
		out.Trouble = err.Error() + "."
	}
	return out
}

// span is for how long a stream is played: until two key frames came, at the least and at the most so
// long.
type span struct{ least, most time.Duration }

// Longest is for how long a stream is played at the most that declares key frames very far apart.
const Longest = 2 * time.Minute

// spanOf is at least length, and at most four times that, or twice the time that the profile declares
// from key frame to key frame, whichever is longer.
func spanOf(p stream.Profile, length time.Duration) span {
	out := span{length, 4 * length}
	if p.FPS > 0 && p.GOP > 0 {
		declared := time.Duration(float64(p.GOP) / p.FPS * float64(time.Second))
		out.most = max(out.most, min(2*declared, Longest))
	}
	return out
}

// MostOf is how long measuring a profile takes at the most.
func MostOf(p stream.Profile, length time.Duration) time.Duration {
	return spanOf(p, length).most + stepLimit
}

func measure(ctx context.Context, host dial.Host, uri string, login Login, length span, play func(*Conn, Track) error) (stream.Measured, error) {
	began := time.Now()
	ctx, cancel := context.WithTimeout(ctx, length.most+4*stepLimit)
	defer cancel()
	c, err := Open(ctx, host, uri, login)
	if err != nil {
		return stream.Measured{}, err
	}
	defer c.Close()
	t, err := c.Describe()
	if err != nil {
		return stream.Measured{}, err
	}
	if err := play(c, t); err != nil {
		return stream.Measured{Full: c.status == statusBandwidth}, err
	}
	m, ear, notes := &Meter{Track: t, Settle: settle}, &Ear{}, &Ear{}
	if t.Sound != nil {
		ear.Track = *t.Sound
	}
	if t.Meta != nil {
		notes.Track = *t.Meta
	}
	result := func() stream.Measured {
		out := m.Result()
		if t.Sound != nil {
			heard := ear.Result()
			out.Sound = &heard
		}
		if t.Meta != nil && c.Reads {
			read := notes.Noted()
			out.Metadata = &read
		}
		out.Encrypted = c.Encrypted
		if out.Over = string(c.Over()); !m.firstKey.IsZero() {
			out.First = m.firstKey.Sub(began)
		}
		return out
	}
	playing := time.Now()
	for end := playing.Add(length.most + stepLimit); time.Now().Before(end); {
		track, raw, err := c.Next()
		if err != nil {
			return result(), m.nothing(c, playing, notes, err)
		}
		if track != Picture {
			map[int]*Ear{Sound: ear, Metadata: notes}[track].Add(raw)
		} else {
			m.Add(raw, time.Now())
		}
		if m.enough(length) {
			return result(), nil
		}
		if m.frames == 0 && time.Since(playing) > length.least+stepLimit {
			break
		}
	}
	return result(), m.nothing(c, playing, notes, nil)
}

// enough says whether a stream was played for as long as it is to be.
func (m *Meter) enough(length span) bool {
	seen := m.last.Sub(m.begun)
	return m.seen && seen >= length.least && (m.keys > 1 || seen >= length.most)
}

// nothing is what hindered the playing, and what came where nothing of the picture did.
func (m *Meter) nothing(c *Conn, since time.Time, notes *Ear, cause error) error {
	if m.frames > 0 || cause != nil && !errors.Is(cause, ErrStalled) {
		return cause
	}
	says := fmt.Sprintf("nothing of its picture came in %.0f s", time.Since(since).Seconds())
	switch {
	case m.other > 0:
		says += fmt.Sprintf(": its packets are of format %d, and it declares %d", m.otherIs, m.Track.Payload)
	case notes.seen:
		says += ", its metadata alone"
	case c.Passed != "":
		says += ", " + c.Passed + " alone"
	case cause != nil:
		return cause
	}
	return c.fail("playing", ErrStalled, says)
}
