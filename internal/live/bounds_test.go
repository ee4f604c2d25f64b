package live

import (
	"bytes"
	"testing"
	"time"

	"github.com/pion/rtp"
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
