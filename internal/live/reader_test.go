package live

import (
	"io"
	"log/slog"
	"strings"
	"testing"

	"github.com/pion/rtp"
	"github.com/pion/webrtc/v4"

	"duskyharbor/internal/store"
)

func relay(t *testing.T) *Relay {
	t.Helper()
	r, err := New(Options{Listen: "127.0.0.1:0", Log: slog.New(slog.NewTextHandler(io.Discard, nil)), Server: "one"})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(r.Close)
	return r
}

// Who comes in the middle begins with the last key frame and its parameter sets, those of the
// description where the stream carries none; what came before a key frame isn't kept, and a group
// is kept up to its bounds.
func TestWhoComesLateBeginsWithAKeyFrame(t *testing.T) {
	rd := newReader(relay(t), 1)
	rd.sets = [][]byte{{0x67, 1, 2}, {0x68, 3}}
	send := func(stamp uint32, payload ...byte) {
		rd.pass(&rtp.Packet{Header: rtp.Header{Version: 2, Timestamp: stamp, Marker: true}, Payload: payload})
	}
	kinds := func() string {
		var b strings.Builder
		for _, p := range rd.group {
			b.WriteString(map[byte]string{1: "p", 5: "K", 7: "s", 8: "t"}[p.Payload[0]&0x1f])
		}
		return b.String()
	}
	send(0, 0x41, 1)
	if kinds() != "" {
		t.Errorf("before a key frame: %s", kinds())
	}
	send(1, 0x65, 1)
	send(1, 0x65, 2) // a second slice
	send(2, 0x41, 1)
	if kinds() != "stKKp" {
		t.Errorf("with the description's sets: %s", kinds())
	}
	send(3, 0x67, 1, 2)
	send(3, 0x68, 3)
	send(3, 0x65, 1)
	send(4, 0x41, 1)
	if kinds() != "stKp" {
		t.Errorf("with its own sets: %s", kinds())
	}
	for i := range uint32(2 * maxPackets) {
		send(5+i, 0x41, 1)
	}
	if len(rd.group) > maxPackets {
		t.Errorf("%d packets are kept", len(rd.group))
	}
}

// An offer that is none is told as such, and nobody is left who looks.
func TestOffersThatAreNone(t *testing.T) {
	r := relay(t)
	rd := newReader(r, 1)
	close(rd.ready)
	pc, err := webrtc.NewPeerConnection(webrtc.Configuration{})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = pc.Close() })
	if _, err := pc.AddTransceiverFromKind(webrtc.RTPCodecTypeVideo, webrtc.RTPTransceiverInit{Direction: webrtc.RTPTransceiverDirectionRecvonly}); err != nil {
		t.Fatal(err)
	}
	offer, err := pc.CreateOffer(nil)
	if err != nil {
		t.Fatal(err)
	}
	for i, bad := range []string{"v=0", "v=0\r\no=- 1 1 IN IP4 0.0.0.0\r\ns=-\r\nt=0 0\r\n", strings.ReplaceAll(offer.SDP, "fingerprint", "finger"),
		offer.SDP[:len(offer.SDP)/2], strings.Repeat("v=0\r\n", 1000)} {
		if answer, err := rd.greet(t.Context(), store.LiveCall{ID: int64(i), Offer: bad}); err == nil {
			t.Errorf("offer %d is answered: %.60q", i, answer)
		}
	}
	if len(rd.viewers) != 0 {
		t.Errorf("%d look", len(rd.viewers))
	}
	if !rd.takes(99) || rd.takes(99) {
		t.Error("a call is one's to answer once")
	}
	answer, err := rd.greet(t.Context(), store.LiveCall{ID: 99, Offer: offer.SDP})
	if err != nil || !strings.Contains(answer, "a=ice-lite") || strings.Count(answer, "a=candidate:") == 0 || len(rd.viewers) != 1 {
		t.Errorf("%v %.400s", err, answer)
	}
	if rd.end(); len(rd.viewers) != 0 {
		t.Errorf("%d look after the end", len(rd.viewers))
	}
}
