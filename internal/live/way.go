package live

import (
	"context"
	"strings"

	"github.com/pion/webrtc/v4"

	"duskyharbor/internal/core/stream"
	"duskyharbor/internal/device/rtsp"
	"duskyharbor/internal/facts"
	"duskyharbor/internal/site"
	"duskyharbor/internal/store"
)

// way is one browser's sound to a device or from it: a session at the device and a connection to
// the browser, which end together.
type way struct {
	relay  *Relay
	taken  map[int64]bool // devices that have one of its kind; the relay's lock guards it
	device int64
	codec  string
	ctx    context.Context
	end    context.CancelFunc
	conn   *rtsp.Conn
	track  rtsp.Track
	pc     *webrtc.PeerConnection
}

func (w *way) close() {
	w.end()
	if w.pc != nil {
		_ = w.pc.Close()
	}
	if w.conn != nil {
		w.conn.Close()
	}
	w.relay.mu.Lock()
	delete(w.taken, w.device)
	w.relay.mu.Unlock()
}

// dial opens the conversation with a view's device about a profile's stream.
func (w *way) dial(ctx context.Context, s *site.Snapshot, d store.Device, p stream.Profile, purpose string) error {
	login, err := w.relay.signIn(ctx, d, s, purpose)
	if err != nil {
		return err
	}
	pin, _ := facts.Pin.Of(s, d.ID)
	w.conn, err = rtsp.Open(w.ctx, w.relay.dialer.At(*d.Address).Pinned(&pin), p.Best(), login)
	return err
}

// meet makes the connection that a browser offers; prepare is asked before, and add after its offer
// was taken.
func (w *way) meet(ctx context.Context, offer string, prepare, add func(*webrtc.PeerConnection) error) (answer string, err error) {
	defer func() { // an offer that breaks its parser takes nobody along
		if recover() != nil {
			answer, err = "", errOffer
		}
	}()
	if w.pc, err = w.relay.api.NewPeerConnection(webrtc.Configuration{}); err != nil {
		return "", err
	}
	w.pc.OnConnectionStateChange(func(s webrtc.PeerConnectionState) {
		switch s {
		case webrtc.PeerConnectionStateFailed, webrtc.PeerConnectionStateClosed, webrtc.PeerConnectionStateDisconnected:
			w.end()
		}
	})
	if err := prepare(w.pc); err != nil {
		return "", err
	}
	if err := w.pc.SetRemoteDescription(webrtc.SessionDescription{Type: webrtc.SDPTypeOffer, SDP: offer}); err != nil {
		return "", errOffer
	}
	if err := add(w.pc); err != nil {
		return "", err
	}
	return described(ctx, w.pc)
}

// nothing is what there is to do before an offer, or after it, where there is nothing.
func nothing(*webrtc.PeerConnection) error { return nil }

// isOffer says whether a text may be a session description.
func isOffer(text string) bool { return len(text) <= maxOffer && strings.HasPrefix(text, "v=0") }

// discard reads what a browser reports of a line, and drops it.
func discard(sender *webrtc.RTPSender) {
	buf := make([]byte, 1500)
	for {
		if _, _, err := sender.Read(buf); err != nil {
			return
		}
	}
}
