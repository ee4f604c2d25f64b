package camera

import (
	"context"
	_ "embed"
	"encoding/json"
	"fmt"
	"math"
	"net/http"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/pion/rtp"

	"duskyharbor/internal/standin/wire"
)

// Codecs of sound as ONVIF Media2 names them, the names of their RTP payloads.
const (
	pcmu = "PCMU"
	pcma = "PCMA"
	aac  = "MP4A-LATM"
)

// Of the sound of these cameras: 20 ms of G.711 a packet, AAC of 1,024 samples at 16 kHz.
const (
	g711Rate   = 8000
	g711Packet = 160
	aacRate    = 16000
	aacSamples = 1024
)

// hum is twelve seconds of a harbour's hum: AAC LC, mono, 16 kHz, each frame behind its ADTS
// header (ISO/IEC 14496-3, annex 1.A).
//
//go:embed hum.aac
var hum []byte

// aacFrames parts it into raw frames.
var aacFrames = sync.OnceValue(func() (out [][]byte) {
	for data := hum; len(data) > 7; {
		size := int(data[3]&3)<<11 | int(data[4])<<3 | int(data[5])>>5
		if size <= 7 || size > len(data) {
			break
		}
		out = append(out, data[7:size])
		data = data[size:]
	}
	return out
})

// µ-law and A-law (ITU-T G.711), sample by sample.
func encodeULaw(x int16) byte {
	v, sign := int(x), byte(0)
	if v < 0 {
		v, sign = -v, 0x80
	}
	v = min(v, 32635) + 132
	e := 7
	for mask := 0x4000; v&mask == 0 && e > 0; mask >>= 1 {
		e--
	}
	return ^(sign | byte(e<<4) | byte(v>>(e+3)&0x0f))
}

func decodeULaw(b byte) int16 {
	b = ^b
	v := (int(b&0x0f)<<3+132)<<(b>>4&7) - 132
	if b&0x80 != 0 {
		v = -v
	}
	return int16(v)
}

func decodeALaw(b byte) int16 {
	b ^= 0x55
	v, e := int(b&0x0f)<<4+8, b>>4&7
	if e > 0 {
		v = (v + 256) << (e - 1)
	}
	if b&0x80 == 0 {
		v = -v
	}
	return int16(v)
}

// sound sends what the microphone hears until ctx ends.
func (s *rtspSession) sound(ctx context.Context, t *track) {
	codec := s.cam.soundOf(s.profile)
	rate, samples, kind := g711Rate, g711Packet, uint8(0)
	if codec == aac {
		rate, samples, kind = aacRate, aacSamples, 97
	}
	if codec == pcma {
		kind = 8
	}
	begin := time.Now()
	base := uint32(begin.UnixNano() >> 11)
	for n := 0; ; n++ {
		select {
		case <-ctx.Done():
			return
		case <-time.After(time.Until(begin.Add(time.Duration(n*samples) * time.Second / time.Duration(rate)))):
		}
		var payload []byte
		if codec == aac { // RFC 3640, AAC-hbr: one unit behind its 16-bit header
			frames := aacFrames()
			f := frames[n%len(frames)]
			payload = append([]byte{0, 16, byte(len(f) >> 5), byte(len(f) << 3)}, f...)
		} else {
			for i := range samples {
				at := float64(n*samples+i) / g711Rate
				x := int16(3000*math.Sin(2*math.Pi*90*at) + 1200*math.Sin(2*math.Pi*141*at))
				b := encodeULaw(x)
				if codec == pcma {
					b = encodeALaw(x)
				}
				payload = append(payload, b)
			}
		}
		pkt := rtp.Packet{Header: rtp.Header{Version: 2, PayloadType: kind, SSRC: ssrc + 1, SequenceNumber: t.next(),
			Timestamp: base + uint32(n*samples), Marker: codec == aac}, Payload: payload}
		raw, err := pkt.Marshal()
		if err != nil || !s.send(t, raw, pkt.Timestamp) {
			return
		}
	}
}

func encodeALaw(x int16) byte {
	v, sign := int(x), byte(0x80)
	if v < 0 {
		v, sign = -v-1, 0
	}
	v >>= 4
	e := byte(0)
	for v > 31 {
		v >>= 1
		e++
	}
	m := byte(v & 0x0f)
	if v > 15 {
		e++
	}
	return (sign | e<<4 | m) ^ 0x55
}

// Heard is what came out of the camera's speaker.
type Heard struct {
	Codec   string  `json:"codec"`
	Seconds float64 `json:"seconds"` // in all
	Hz      float64 `json:"hz"`      // of the last second, by where it crosses zero
	Level   float64 `json:"level"`   // of the last second, 0 to 1
}

// speaker plays what is sent to it.
type speaker struct {
	mu      sync.Mutex
	codec   string
	samples int
	last    []int16
}

// play takes one packet.
func (k *speaker) play(raw []byte) {
	var p rtp.Packet
	if p.Unmarshal(raw) != nil || p.PayloadType != 0 && p.PayloadType != 8 {
		return
	}
	k.mu.Lock()
	defer k.mu.Unlock()
	decode := decodeULaw
	k.codec = pcmu
	if p.PayloadType == 8 {
		decode, k.codec = decodeALaw, pcma
	}
	for _, b := range p.Payload {
		k.last = append(k.last, decode(b))
	}
	k.samples += len(p.Payload)
	if over := len(k.last) - g711Rate; over > 0 {
		k.last = slices.Clone(k.last[over:])
	}
}

// Heard says what the camera's speaker played.
func (c *Camera) Heard() Heard {
	k := &c.speaker
	k.mu.Lock()
	defer k.mu.Unlock()
	h := Heard{Codec: k.codec, Seconds: float64(k.samples) / g711Rate}
	crossed, sum := 0, 0.0
	for i, x := range k.last {
		sum += float64(x) * float64(x) / (32768 * 32768)
		if i > 0 && k.last[i-1] < 0 && x >= 0 {
			crossed++
		}
	}
	if n := len(k.last); n > 0 {
		h.Hz, h.Level = float64(crossed)*g711Rate/float64(n), math.Sqrt(sum/float64(n))
	}
	return h
}

func (c *Camera) heard(w http.ResponseWriter, _ *http.Request) {
	_ = json.NewEncoder(w).Encode(c.Heard())
}

// soundOf is the codec of a profile's sound, or "".
func (c *Camera) soundOf(p profile) string {
	m := c.memory()
	if p.source > 0 || slices.Contains(m.Mute, p.token) {
		return ""
	}
	return m.Sound
}

// soundsXML is a profile's sound: in and out.
func (c *Camera) soundsXML(p profile) string {
	out := ""
	if codec := c.soundOf(p); codec != "" {
		out = `<tr2:AudioSource token="asc0"><tt:Name>Microphone</tt:Name><tt:UseCount>2</tt:UseCount><tt:SourceToken>as0</tt:SourceToken></tr2:AudioSource>` + soundXML("tr2:AudioEncoder", codec)
	}
	if c.cfg.Manners.Speaker && p.source == 0 {
		out += `<tr2:AudioOutput token="aoc0"><tt:Name>Speaker</tt:Name><tt:UseCount>2</tt:UseCount><tt:OutputToken>ao0</tt:OutputToken><tt:OutputLevel>50</tt:OutputLevel></tr2:AudioOutput><tr2:AudioDecoder token="adc0"><tt:Name>Decoder</tt:Name><tt:UseCount>2</tt:UseCount></tr2:AudioDecoder>`
	}
	return out
}

func soundXML(tag, codec string) string {
	rate, kbps := 8, 64
	if codec == aac {
		rate, kbps = 16, 32
	}
	return fmt.Sprintf(`<%s token="aec0"><tt:Name>Sound</tt:Name><tt:UseCount>2</tt:UseCount><tt:Encoding>%s</tt:Encoding><tt:Bitrate>%d</tt:Bitrate><tt:SampleRate>%d</tt:SampleRate></%s>`, tag, codec, kbps, rate, tag)
}

// sounds answers what Media2 has for sound (ONVIF Media2, 5.4 and 5.5).
func (c *Camera) sounds(op *wire.Node) (string, *fault, bool) {
	name := op.XMLName.Local
	if !slices.Contains([]string{"GetAudioEncoderConfigurations", "GetAudioEncoderConfigurationOptions", "SetAudioEncoderConfiguration",
		"GetAudioDecoderConfigurationOptions", "RemoveConfiguration", "AddConfiguration"}, name) {
		return "", nil, false
	}
	if op.XMLName.Space != media2Space || c.cfg.Manners.Media1 {
		return "", sender("ter:ActionNotSupported", "This device knows no such service."), true
	}
	if m := c.memory(); m.Sound == "" && !c.cfg.Manners.Speaker {
		return "", sender("ter:InvalidArgVal/ter:NoConfig", "It has no sound."), true
	}
	done := func(inner string) (string, *fault, bool) {
		return "<tr2:" + name + "Response>" + inner + "</tr2:" + name + "Response>", nil, true
	}
	codecs := []string{pcmu, pcma, aac}
	switch name {
	case "GetAudioEncoderConfigurations":
		return done(soundXML("tr2:Configurations", c.memory().Sound))
	case "GetAudioEncoderConfigurationOptions":
		var b strings.Builder
		for _, codec := range codecs {
			rate, kbps := 8, 64
			if codec == aac {
				rate, kbps = 16, 32
			}
			fmt.Fprintf(&b, `<tr2:Options><tt:Encoding>%s</tt:Encoding><tt:BitrateList><tt:Items>%d</tt:Items></tt:BitrateList><tt:SampleRateList><tt:Items>%d</tt:Items></tt:SampleRateList></tr2:Options>`, codec, kbps, rate)
		}
		return done(b.String())
	case "GetAudioDecoderConfigurationOptions":
		inner := ""
		for _, codec := range codecs[:2] {
			inner += `<tr2:Options><tt:Encoding>` + codec + `</tt:Encoding><tt:BitrateList><tt:Items>64</tt:Items></tt:BitrateList><tt:SampleRateList><tt:Items>8</tt:Items></tt:SampleRateList></tr2:Options>`
		}
		if !c.cfg.Manners.Speaker {
			inner = ""
		}
		return done(inner)
	case "SetAudioEncoderConfiguration":
		codec := op.Find("Configuration").Get("Encoding")
		if !slices.Contains(codecs, codec) {
			return "", sender("ter:InvalidArgVal/ter:ConfigModify", "The sound can't be coded so."), true
		}
		c.change(func(m *memory) { m.Sound = codec })
	case "RemoveConfiguration", "AddConfiguration":
		p, ok := c.profile(op.Get("ProfileToken"))
		if kind := op.Find("Configuration").Get("Type"); !ok || kind != "AudioEncoder" {
			return "", sender("ter:InvalidArgVal/ter:NoProfile", "Only a profile's sound is put in and taken out."), true
		}
		c.change(func(m *memory) {
			m.Mute = slices.DeleteFunc(slices.Clone(m.Mute), func(t string) bool { return t == p.token })
			if name == "RemoveConfiguration" {
				m.Mute = append(m.Mute, p.token)
			}
		})
	}
	for _, p := range c.profiles() {
		c.hangUp(p.token)
	}
	return done("")
}
