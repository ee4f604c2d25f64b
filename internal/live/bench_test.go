package live

import (
	"io"
	"log/slog"
	"syscall"
	"testing"
	"time"

	"github.com/pion/rtp"
	"github.com/pion/webrtc/v4"
)

// browserOf is a peer that takes what a relay sends, and the viewer that the relay has of it.
func browserOf(b *testing.B, r *Relay) *viewer {
	b.Helper()
	engine := webrtc.SettingEngine{LoggerFactory: quiet{}}
	engine.SetIncludeLoopbackCandidate(true)
	media := &webrtc.MediaEngine{}
	if err := media.RegisterDefaultCodecs(); err != nil {
		b.Fatal(err)
	}
	peer, err := webrtc.NewAPI(webrtc.WithSettingEngine(engine), webrtc.WithMediaEngine(media)).NewPeerConnection(webrtc.Configuration{})
	if err != nil {
		b.Fatal(err)
	}
	b.Cleanup(func() { _ = peer.Close() })
	if _, err := peer.AddTransceiverFromKind(webrtc.RTPCodecTypeVideo, webrtc.RTPTransceiverInit{Direction: webrtc.RTPTransceiverDirectionRecvonly}); err != nil {
		b.Fatal(err)
	}
	peer.OnTrack(func(t *webrtc.TrackRemote, _ *webrtc.RTPReceiver) {
		buf := make([]byte, 1600)
		for {
			if _, _, err := t.Read(buf); err != nil {
				return
			}
		}
	})
	offer, err := peer.CreateOffer(nil)
	if err != nil {
		b.Fatal(err)
	}
	if err := peer.SetLocalDescription(offer); err != nil {
		b.Fatal(err)
	}
	pc, err := r.api.NewPeerConnection(webrtc.Configuration{})
	if err != nil {
		b.Fatal(err)
	}
	b.Cleanup(func() { _ = pc.Close() })
	track, err := webrtc.NewTrackLocalStaticRTP(capability("42e01f"), "picture", "view")
	if err != nil {
		b.Fatal(err)
	}
	v := &viewer{pc: pc, track: track}
	on := make(chan bool, 1)
	pc.OnConnectionStateChange(func(s webrtc.PeerConnectionState) {
		if s == webrtc.PeerConnectionStateConnected {
			on <- true
		}
	})
	answer, err := negotiate(b.Context(), v, offer.SDP)
	if err != nil {
		b.Fatal(err)
	}
	if err := peer.SetRemoteDescription(webrtc.SessionDescription{Type: webrtc.SDPTypeAnswer, SDP: answer}); err != nil {
		b.Fatal(err)
	}
	select {
	case <-on:
	case <-time.After(20 * time.Second):
		b.Fatal("the peers don't meet")
	}
	return v
}

// BenchmarkRelay passes a stream of 1,100-byte packets on to eight browsers. Its bound is a bare
// loop that writes the same packets to the same connections. What a viewer costs is told for a
// stream of 2 Mbit/s, browsers' own part with it: they run in this process.
func BenchmarkRelay(b *testing.B) {
	const viewers, packets, perSecond = 8, 400, 2_000_000 / 8 / 1100
	r, err := New(Options{Listen: "127.0.0.1:0", Log: slog.New(slog.NewTextHandler(io.Discard, nil)), Server: "one"})
	if err != nil {
		b.Fatal(err)
	}
	b.Cleanup(r.Close)
	rd := newReader(r, 1)
	for i := range int64(viewers) {
		v := browserOf(b, r)
		v.on = true
		rd.viewers[i] = v
	}
	payload := make([]byte, 1100)
	packet := func(i int) *rtp.Packet {
		payload[0] = 0x41
		if i%100 == 0 {
			payload[0] = 0x65
		}
		return &rtp.Packet{Header: rtp.Header{Version: 2, SequenceNumber: uint16(i), Timestamp: uint32(i / 4 * 6000), Marker: i%4 == 3}, Payload: payload}
	}
	spent := func() time.Duration {
		var u syscall.Rusage
		if err := syscall.Getrusage(syscall.RUSAGE_SELF, &u); err != nil {
			b.Fatal(err)
		}
		return time.Duration(u.Utime.Nano() + u.Stime.Nano())
	}
	var relayed, bare, burnt time.Duration
	n := 0
	for b.Loop() {
		before, began := spent(), time.Now()
		for range packets {
			rd.pass(packet(n))
			n++
		}
		relayed += time.Since(began)
		burnt += spent() - before
		began = time.Now()
		for range packets {
			p := packet(n)
			for _, v := range rd.viewers {
				q := *p
				q.SequenceNumber = v.seq
				v.seq++
				_ = v.track.WriteRTP(&q)
			}
			n++
		}
		bare += time.Since(began)
	}
	each := burnt.Seconds() / float64(b.N*packets*viewers)
	b.ReportMetric(100*each*perSecond, "%core/viewer")
	b.ReportMetric(relayed.Seconds()/bare.Seconds(), "ratio")
}
