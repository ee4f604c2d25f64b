package rtsp

import (
	"errors"
	"fmt"
	"math"
	"time"

	"github.com/pion/rtp"

	"duskyharbor/internal/core/stream"
	"duskyharbor/internal/device/dial"
)

// Tracks of a session, by the order in which they are set up.
const (
	Picture  = iota // its interleaved channels are 0 and 1
	Sound           // 2 and 3
	Speaker         // 4 and 5: what is sent to the device
	Metadata        // 6 and 7
)

// backChannel is the feature tag that asks for the way to a device's speaker (ONVIF
// Streaming, 5.3).
const backChannel = "www.onvif.org/ver20/backchannel"

// WithSound is Play with the stream's sound and metadata beside its picture, where there are any.
func WithSound(c *Conn, t Track) error {
	c.Hears = true
	return WithMetadata(c, t)
}

// WithMetadata is Play with the stream's metadata beside its picture, where there is any.
func WithMetadata(c *Conn, t Track) error {
	c.Reads = true
	return c.Play(t)
}

// DescribeTalk is Describe with the way to the device's speaker asked for: Track.Back is nil
// where the device gives none.
func (c *Conn) DescribeTalk() (Track, error) {
	return c.describe("Require: "+backChannel+"\r\n", false)
}

// Talk sets the way to the device's speaker up and begins: what Say sends is played. The
// picture isn't asked for. It goes over TCP.
func (c *Conn) Talk(t Track) error {
	if t.Back == nil {
		return c.fail("SETUP", dial.ErrNotSupported, "it gives no way to its speaker")
	}
	require := "Require: " + backChannel + "\r\n"
	res, err := c.do("SETUP", t.Back.Control, require+"Transport: RTP/AVP/TCP;unicast;interleaved=4-5\r\n")
	if err != nil {
		return err
	}
	c.over, c.session = TCP, sessionOf(res.header.Get("Session"))
	c.takes(Speaker, res.header.Get("Transport"))
	_, err = c.do("PLAY", c.aggregate(), require+"Range: npt=0.000-\r\n")
	return err
}

// PlaySound sets the stream's sound up alone and begins: packets come from Next. It goes over TCP.
func (c *Conn) PlaySound(t Track) error {
	if t.Sound == nil {
		return c.fail("SETUP", dial.ErrNotSupported, "its stream carries no sound")
	}
	res, err := c.do("SETUP", t.Sound.Control, "Transport: RTP/AVP/TCP;unicast;interleaved=2-3\r\n")
	if err != nil {
		return err
	}
	c.over, c.session = TCP, sessionOf(res.header.Get("Session"))
	c.takes(Sound, res.header.Get("Transport"))
	_, err = c.do("PLAY", c.aggregate(), "Range: npt=0.000-\r\n")
	return err
}

// PlayMetadata sets the stream's metadata up alone and begins: packets come from Next. It goes over TCP.
func (c *Conn) PlayMetadata(t Track) error {
	if t.Meta == nil {
		return c.fail("SETUP", dial.ErrNotSupported, "its stream carries no metadata")
	}
	if as := coding(t.Meta.Codec); as != "" {
		return c.fail("SETUP", dial.ErrNotSupported, "its metadata is coded as "+as+", which isn't read here: set it to be sent plain on its own page")
	}
	res, err := c.do("SETUP", t.Meta.Control, "Transport: RTP/AVP/TCP;unicast;interleaved=6-7\r\n")
	if err != nil {
		return err
	}
	c.over, c.session = TCP, sessionOf(res.header.Get("Session"))
	c.takes(Metadata, res.header.Get("Transport"))
	_, err = c.do("PLAY", c.aggregate(), "Range: npt=0.000-\r\n")
	return err
}

// Say sends one packet of sound to the speaker.
func (c *Conn) Say(raw []byte) error {
	_ = c.conn.SetWriteDeadline(time.Now().Add(stepLimit))
	head := []byte{'$', c.speaks(), byte(len(raw) >> 8), byte(len(raw))}
	if _, err := c.conn.Write(append(head, raw...)); err != nil {
		return c.lost("talking", err)
	}
	return nil
}

// speaks is the interleaved channel of the device's speaker.
func (c *Conn) speaks() byte {
	for channel, track := range c.channels {
		if track == Speaker {
			return channel
		}
	}
	return 2 * Speaker
}

// setUpBeside asks for what is wanted beside the picture, over what carries that. A device that
// doesn't give it gives the picture all the same.
func (c *Conn) setUpBeside(t Track) error {
	for _, x := range []struct {
		track  int
		of     *Track
		wanted bool
	}{{Sound, t.Sound, c.Hears}, {Metadata, t.Meta, c.Reads}} {
		if !x.wanted || x.of == nil {
			continue
		}
		transport := fmt.Sprintf("RTP/AVP/TCP;unicast;interleaved=%d-%d", 2*x.track, 2*x.track+1)
		var p *pair
		if c.over == UDP {
			var err error
			if p, err = c.ports(); err != nil {
				return c.fail("SETUP", dial.ErrUnreachable, "this machine has no ports for it: "+dial.Plain(err))
			}
			transport = p.transport()
		}
		res, err := c.do("SETUP", x.of.Control, "Transport: "+transport+"\r\n")
		if err == nil {
			c.takes(x.track, res.header.Get("Transport"))
		}
		if err != nil {
			p.close()
			if errors.Is(err, dial.ErrRefused) || errors.Is(err, dial.ErrElsewhere) {
				continue
			}
			return err
		}
		if p != nil {
			c.listen(p, x.track)
		}
	}
	return nil
}

// listen takes packets of another track beside the picture's.
func (c *Conn) listen(p *pair, track int) {
	c.beside = append(c.beside, p)
	if c.came == nil {
		c.came = make(chan datagram, queued)
		go c.pump(c.udp, Picture)
	}
	go c.pump(p, track)
}

// Ear counts a stream's sound. The zero Ear with a Track set is ready.
type Ear struct {
	Track       Track
	seen        bool
	seq         uint16
	got, span   int64
	bytes       int64
	first, last uint32
	ends        int // packets that end what belongs together: documents, of metadata
	power       float64
	samples     int64
}

// Add counts one RTP packet.
func (e *Ear) Add(raw []byte) {
	var p rtp.Packet
	if p.Unmarshal(raw) != nil || p.PayloadType != e.Track.Payload || len(p.Payload) == 0 {
		return
	}
	ahead := int64(int16(p.SequenceNumber - e.seq))
	switch {
	case !e.seen:
		e.first, e.span = p.Timestamp, 1
	case ahead <= 0 && ahead > -maxJump:
		e.got++
		return
	case ahead > maxJump, ahead < 0:
		e.span++
	default:
		e.span += ahead
	}
	e.got++
	e.seen, e.seq, e.last = true, p.SequenceNumber, p.Timestamp
	e.bytes += int64(len(p.Payload))
	if p.Marker {
		e.ends++
	}
	decode := map[string]func(byte) float64{"PCMU": ulaw, "PCMA": alaw}[stream.SoundCodec(e.Track.Codec)]
	if decode == nil {
		return
	}
	for _, b := range p.Payload {
		x := decode(b)
		e.power += x * x
		e.samples++
	}
}

// Result is what was heard so far.
func (e *Ear) Result() stream.Heard {
	out := stream.Heard{Codec: stream.SoundCodec(e.Track.Codec), Lost: int(max(0, e.span-e.got)), Measured: e.seen}
	if e.Track.Clock > 0 && e.last != e.first {
		out.Kbps = float64(e.bytes) * 8 / 1000 / (float64(e.last-e.first) / float64(e.Track.Clock))
	}
	if e.samples > 0 {
		out.Level = max(silence, 10*math.Log10(e.power/float64(e.samples)))
	}
	return out
}

// Noted is what was read so far of metadata.
func (e *Ear) Noted() stream.Noted {
	out := stream.Noted{Documents: e.ends, Lost: int(max(0, e.span-e.got)), Coded: coding(e.Track.Codec)}
	if e.Track.Clock > 0 && e.last != e.first {
		seconds := float64(e.last-e.first) / float64(e.Track.Clock)
		out.Kbps, out.PerSecond = float64(e.bytes)*8/1000/seconds, float64(e.ends-1)/seconds
	}
	return out
}

// silence is the least level told, in dB below full scale.
const silence = -96

// ulaw and alaw are samples of G.711 as parts of full scale (ITU-T G.711, tables 2a and 1a).
func ulaw(b byte) float64 {
	b = ^b
	v := float64((int(b&0x0f)<<3+0x84)<<(b>>4&7)-0x84) / 32768
	if b&0x80 != 0 {
		return -v
	}
	return v
}

func alaw(b byte) float64 {
	b ^= 0x55
	v := int(b&0x0f)<<4 + 8
	if e := b >> 4 & 7; e > 0 {
		v = (v + 0x100) << (e - 1)
	}
	if b&0x80 == 0 {
		v = -v
	}
	return float64(v) / 32768
}

// EncodeULaw is a sample, −1 to 1 of full scale, in µ-law (ITU-T G.711, table 2a).
func EncodeULaw(x float64) byte {
	v, sign := int(max(-1, min(1, x))*32767), byte(0)
	if v < 0 {
		v, sign = -v, 0x80
	}
	v = min(v, 32635) + 0x84
	e := byte(7)
	for mask := 0x4000; v&mask == 0 && e > 0; mask >>= 1 {
		e--
	}
	return ^(sign | e<<4 | byte(v>>(e+3)&0x0f))
}
