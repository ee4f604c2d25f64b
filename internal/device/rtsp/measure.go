package rtsp

import (
	"context"
	"time"

	"github.com/pion/rtp"

	"duskyharbor/internal/core/stream"
	"duskyharbor/internal/device/dial"
)

// Meter counts a stream's packets. The zero Meter with a Track set is ready.
type Meter struct {
	Track  Track
	sps    []byte
	begun  time.Time
	last   time.Time
	frames int
	lost   int
	bytes  int64
	recent []arrival // of the last second
	inSec  int64
	peak   int64
	unit   int64 // bytes before the running access unit
	keyAt  int64 // bytes before the last key frame's access unit
	key0At int64 // and before the first's
	key0   uint32
	seq    uint16
	seen   bool
	stamp  uint32
	first  uint32
	key    time.Time
	keyGap time.Duration
	keyRTP uint32
	keys   int
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
	if p.Unmarshal(raw) != nil || p.PayloadType != m.Track.Payload || len(p.Payload) == 0 {
		return
	}
	if !m.seen {
		m.begun, m.first = now, p.Timestamp
	} else if gap := p.SequenceNumber - m.seq - 1; gap != 0 && gap < 1000 {
		m.lost += int(gap)
	}
	if !m.seen || p.Timestamp != m.stamp {
		m.frames++
		m.unit = m.bytes
	}
	m.seq, m.seen, m.stamp, m.last = p.SequenceNumber, true, p.Timestamp, now
	m.bytes += int64(len(raw))
	m.count(int64(len(raw)), now)
	key, sps := inspect(m.Track.Codec, p.Payload)
	if sps != nil {
		m.sps = sps
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
		kind := p[0] >> 1 & 0x3f
		if kind == 49 { // fragment
			return p[2]&0x80 != 0 && irap(p[2]&0x3f), nil
		}
		return irap(kind) || kind == 48 && len(p) > 5 && p[4]>>1&0x3f >= 32, nil
	}
	return true, nil // JPEG: every picture stands alone
}

func irap(kind byte) bool { return kind >= 16 && kind <= 21 }

func inspect264(p []byte) (key bool, sps []byte) {
	switch kind := p[0] & 0x1f; kind {
	case 5:
		return true, nil
	case 7:
		return false, append([]byte(nil), p...)
	case 28: // FU-A
		return len(p) > 1 && p[1]&0x80 != 0 && p[1]&0x1f == 5, nil
	case 24: // STAP-A
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
	out := stream.Measured{Codec: m.Track.Codec, Frames: m.frames, Lost: m.lost, KeyEvery: m.keyGap}
	sps := m.sps
	if sps == nil {
		sps = m.Track.SPS
	}
	if s, err := stream.ParseSPS(sps); err == nil && m.Track.Codec == "H264" {
		out.Width, out.Height = s.Width, s.Height
	}
	wall := m.last.Sub(m.begun).Seconds()
	out.Seconds = wall
	if m.frames > 1 && m.Track.Clock > 0 {
		if media := float64(m.stamp-m.first) / float64(m.Track.Clock); media > 0 {
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

// Measure plays a stream for a while and says what it delivered.
func Measure(ctx context.Context, host dial.Host, p stream.Profile, login Login, length time.Duration) stream.Measured {
	out, err := measure(ctx, host, p.URI, login, length)
	out.Profile, out.At = p.Token, time.Now().UTC()
	if err != nil {
		out.Trouble = err.Error() + "."
	}
	return out
}

func measure(ctx context.Context, host dial.Host, uri string, login Login, length time.Duration) (stream.Measured, error) {
	ctx, cancel := context.WithTimeout(ctx, length+4*StepLimit)
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
	if err := c.Play(t); err != nil {
		return stream.Measured{}, err
	}
	m := &Meter{Track: t}
	for end := time.Now().Add(length + StepLimit); time.Now().Before(end); {
		raw, err := c.Packet()
		if err != nil {
			return m.Result(), err
		}
		m.Add(raw, time.Now())
		if m.seen && m.last.Sub(m.begun) >= length {
			break
		}
	}
	return m.Result(), nil
}
