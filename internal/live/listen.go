package live

import (
	"context"
	"strings"
	"time"

	"github.com/pion/rtp"
	"github.com/pion/webrtc/v4"

	"duskyharbor/internal/core/trouble"
	"duskyharbor/internal/device/rtsp"
	"duskyharbor/internal/site"
)

// listenMost is how long a device is listened to at a time.
const listenMost = 5 * time.Minute

// Sentences for who can't listen.
var (
	errNoSound   = trouble.Told("It sends no sound in G.711, which browsers play, or its streams weren't read since.")
	errListening = trouble.Told("Somebody listens to it already.")
)

// Listen answers a browser's offer to hear a view, and passes its sound on as it is coded until the
// browser ends or has listened for five minutes. Without consent there is none. One at a time
// listens to a device from this server.
func (r *Relay) Listen(ctx context.Context, of site.Source, offer string) (answer string, err error) {
	if len(offer) > maxOffer || !strings.HasPrefix(offer, "v=0") {
		return "", errOffer
	}
	if !r.takes(r.heard, of.Device.ID) {
		return "", errListening
	}
	l := &listening{relay: r, device: of.Device.ID}
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
	relay  *Relay
	device int64
	codec  string
	ctx    context.Context
	end    context.CancelFunc
	conn   *rtsp.Conn
	track  rtsp.Track
	pc     *webrtc.PeerConnection
	out    *webrtc.TrackLocalStaticRTP
}

func (l *listening) close() {
	l.end()
	if l.pc != nil {
		_ = l.pc.Close()
	}
	if l.conn != nil {
		l.conn.Close()
	}
	l.relay.mu.Lock()
	delete(l.relay.heard, l.device)
	l.relay.mu.Unlock()
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
	f, w := s.Streams(of)
	p, codec, ok := f.Listens()
	switch {
	case !w.Consent:
		return errNoConsent
	case !ok:
		return errNoSound
	}
	login, err := l.relay.signIn(ctx, d, s, "listening to it")
	if err != nil {
		return err
	}
	l.codec = codec
	pin, _ := site.Pin.Of(s, d.ID)
	if l.conn, err = rtsp.Open(l.ctx, l.relay.dialer.At(*d.Address).Pinned(&pin), p.Best(), login); err != nil {
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
	defer func() { // an offer that breaks its parser takes nobody along
		if recover() != nil {
			answer, err = "", errOffer
		}
	}()
	if l.pc, err = l.relay.api.NewPeerConnection(webrtc.Configuration{}); err != nil {
		return "", err
	}
	if l.out, err = webrtc.NewTrackLocalStaticRTP(webrtc.RTPCodecCapability{MimeType: "audio/" + l.codec, ClockRate: 8000}, "sound", "view"); err != nil {
		return "", err
	}
	l.pc.OnConnectionStateChange(func(s webrtc.PeerConnectionState) {
		switch s {
		case webrtc.PeerConnectionStateFailed, webrtc.PeerConnectionStateClosed, webrtc.PeerConnectionStateDisconnected:
			l.end()
		}
	})
	if err := l.pc.SetRemoteDescription(webrtc.SessionDescription{Type: webrtc.SDPTypeOffer, SDP: offer}); err != nil {
		return "", errOffer
	}
	sender, err := l.pc.AddTrack(l.out)
	if err != nil {
		return "", err
	}
	go func() { // reports of the browser are read and dropped
		buf := make([]byte, 1500)
		for {
			if _, _, err := sender.Read(buf); err != nil {
				return
			}
		}
	}()
	return described(ctx, l.pc)
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
