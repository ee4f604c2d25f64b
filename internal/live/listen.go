package live

import (
	"context"
	"strings"
	"time"

	"github.com/pion/rtp"
	"github.com/pion/webrtc/v4"

	"duskyharbor/internal/core/trouble"
	"duskyharbor/internal/device/rtsp"
	"duskyharbor/internal/facts"
	"duskyharbor/internal/site"
)

// listenMost is how long a device is listened to at a time.
const listenMost = 5 * time.Minute

// Sentences for who can't listen.
var (
	errNoSound   = trouble.UserError("It sends no sound in G.711, which browsers play, or its streams weren't read since.")
	errListening = trouble.UserError("Somebody listens to it already.")
)

// Listen answers a browser's offer to hear a view, and passes its sound on as it is coded until the
// browser ends or has listened for five minutes. Without consent there is none. One at a time
// listens to a device from this server.
func (r *Relay) Listen(ctx context.Context, of site.Source, offer string) (answer string, err error) {
	if !isOffer(offer) {
		return "", errOffer
	}
	if !r.takes(r.heard, of.Device.ID) {
		return "", errListening
	}
	l := &listening{way: way{relay: r, taken: r.heard, device: of.Device.ID}}
	l.ctx, l.end = context.WithTimeout(r.ctx, listenMost)
	defer func() {
		if err != nil {
			l.close()
		}
	}()
	if err := l.open(ctx, of); err != nil {
		return "", err
	}
	if answer, err = l.answer(ctx, withoutCandidates(offer)); err != nil {
		return "", err
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.ctx.Err() != nil {
		return "", errSlow
	}
	r.done.Go(l.pass)
	return answer, nil
}

type listening struct {
	way
	out *webrtc.TrackLocalStaticRTP
}

// open plays the view's sound.
func (l *listening) open(ctx context.Context, of site.Source) error {
	ctx, cancel := context.WithTimeout(ctx, openLimit)
	defer cancel()
	d := of.Device
	s, err := site.Load(ctx, l.relay.store, d.SiteID, []int64{d.ID})
	if err != nil {
		return err
	}
	f, w := facts.ForStreams(s, of)
	p, codec, ok := f.Listens()
	switch {
	case !w.Consent:
		return errNoConsent
	case !ok:
		return errNoSound
	}
	l.codec = codec
	if err := l.dial(ctx, s, d, p, "listening to it"); err != nil {
		return err
	}
	if l.track, err = l.conn.Describe(); err != nil {
		return err
	}
	if l.track.Sound == nil || !strings.EqualFold(l.track.Sound.Codec, codec) {
		return errNoSound
	}
	return l.conn.PlaySound(l.track)
}

// answer meets the browser.
func (l *listening) answer(ctx context.Context, offer string) (answer string, err error) {
	if l.out, err = webrtc.NewTrackLocalStaticRTP(webrtc.RTPCodecCapability{MimeType: "audio/" + l.codec, ClockRate: 8000}, "sound", "view"); err != nil {
		return "", err
	}
	return l.meet(ctx, offer, nothing, func(pc *webrtc.PeerConnection) error {
		sender, err := pc.AddTrack(l.out)
		if err == nil {
			go discard(sender)
		}
		return err
	})
}

// pass passes packets on, numbered anew, until nobody listens any more.
func (l *listening) pass() {
	defer l.close()
	kept, seq := time.Now(), uint16(0)
	for l.ctx.Err() == nil {
		track, raw, err := l.conn.Next()
		if err != nil {
			return
		}
		var p rtp.Packet
		if track != rtsp.Sound || p.Unmarshal(raw) != nil || p.PayloadType != l.track.Sound.Payload || len(p.Payload) == 0 {
			continue
		}
		_ = l.out.WriteRTP(&rtp.Packet{Header: rtp.Header{Version: 2, SequenceNumber: seq, Timestamp: p.Timestamp, Marker: p.Marker}, Payload: p.Payload})
		seq++
		if time.Since(kept) > keepAlive {
			kept = time.Now()
			if l.conn.KeepAlive() != nil {
				return
			}
		}
	}
}
