package live

import (
	"bytes"
	"context"
	"errors"
	"testing"
	"time"

	"github.com/pion/rtp"

	"duskyharbor/internal/device/rtsp"
)

// What a description makes us repeat is bounded: large sets aren't taken, and those that are don't come
// with each of many tiny key frames. Who comes late has them all the same.
func TestParameterSetsAreBounded(t *testing.T) {
	set := func(n int) []byte { return append([]byte{0x67}, bytes.Repeat([]byte{1}, n-1)...) }
	for _, x := range []struct {
		sizes []int
		want  int
	}{{[]int{40, 8}, 2}, {[]int{maxSet, maxSet, maxSet, maxSet}, 4}, {[]int{maxSet, maxSet, maxSet, maxSet, 1}, 4}, {[]int{maxSet + 1}, 0}, {[]int{23000, 23000}, 0}, {nil, 0}} {
		var all [][]byte
		for _, n := range x.sizes {
			all = append(all, set(n))
		}
		if got := len(bounded(all)); got != x.want {
			t.Errorf("of sets of %v bytes %d are taken, want %d", x.sizes, got, x.want)
		}
	}
	rd := newReader(relay(t), 1)
	rd.sets = bounded([][]byte{set(1000), set(1000)})
	sent := 0
	began := time.Now()
	for i := range uint32(500) {
		before := rd.setsAt
		rd.pass(&rtp.Packet{Header: rtp.Header{Version: 2, Timestamp: i, Marker: true}, Payload: []byte{0x65, 1}})
		if rd.setsAt != before {
			sent++
		}
		if len(rd.group) != 3 || rd.group[0].Payload[0]&0x1f != kindSPS {
			t.Fatalf("who comes now gets %d packets", len(rd.group))
		}
	}
	if most := 1 + int(time.Since(began)/setsApart); sent > most {
		t.Errorf("the sets were sent on %d times, and %d would do", sent, most)
	}
}

// endless sends the same packet over and over, as fast as it is asked or at a pace.
type endless struct {
	packet []byte
	pace   time.Duration
	sent   int // bytes
	asked  int
}

func (e *endless) Packet() ([]byte, error) {
	time.Sleep(e.pace)
	e.sent += len(e.packet)
	e.asked++
	return e.packet, nil
}

func (e *endless) KeepAlive() error { return errors.New("nobody is to ask") }

// A stream of more than any camera sends is let go, and one at which nobody looks ends by itself,
// whatever it sends: also what is no packet of the picture.
func TestAReaderEnds(t *testing.T) {
	whole, err := (&rtp.Packet{Header: rtp.Header{Version: 2, PayloadType: 96}, Payload: bytes.Repeat([]byte{0x41}, 1200)}).Marshal()
	if err != nil {
		t.Fatal(err)
	}
	of := rtsp.Track{Codec: "H264", Payload: 96}
	for name, packet := range map[string][]byte{"packets": whole, "packets of another payload": append([]byte{0x80, 97}, whole[2:]...), "no packets at all": {0}} {
		ctx, cancel := context.WithTimeout(t.Context(), 20*time.Second)
		defer cancel()
		rd := newReader(relay(t), 1)
		rd.taken[1] = true // somebody looks
		flood := &endless{packet: packet}
		if len(packet) < 1000 {
			flood.packet = make([]byte, 1000)
		}
		rd.read(ctx, flood, of)
		if flood.sent <= maxSecond || flood.sent > maxSecond+2000 {
			t.Errorf("a flood of %s is let go after %d bytes, want %d", name, flood.sent, maxSecond)
		}
		alone := newReader(relay(t), 1)
		alone.empty = time.Now().Add(100*time.Millisecond - idleFor)
		slow := &endless{packet: packet, pace: time.Millisecond}
		alone.read(ctx, slow, of)
		if slow.asked < 2 || ctx.Err() != nil {
			t.Errorf("with nobody looking %s are read %d times: %v", name, slow.asked, ctx.Err())
		}
	}
}
