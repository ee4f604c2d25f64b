package shelf

import (
	"bytes"
	"fmt"
	"testing"
	"time"
)

// What is kept comes back in order and as it was; the oldest goes first where the bound is reached, and
// what another recording holds stays.
func TestAShelfKeepsTheNewestWithinItsBound(t *testing.T) {
	s := &Shelf{Dir: t.TempDir(), Most: 40_000}
	defer s.Close()
	begin := time.UnixMilli(1_790_000_000_000)
	packet := func(i int) []byte { return bytes.Repeat([]byte{byte(i)}, 1000) }
	for i := range 120 {
		if err := s.Put("a", begin.Add(time.Duration(i)*time.Second), [][]byte{packet(i)}); err != nil {
			t.Fatal(err)
		}
	}
	if err := s.Put("b", begin, [][]byte{packet(1)}); err != nil {
		t.Fatal(err)
	}
	var seen []string
	last := time.Time{}
	if err := s.Read("a", func(p Packet) bool {
		i := int(p.At.Sub(begin) / time.Second)
		if !bytes.Equal(p.Raw, packet(i)) || !p.At.After(last) {
			t.Errorf("second %d came as %d of %d bytes", i, p.Raw[0], len(p.Raw))
		}
		last, seen = p.At, append(seen, fmt.Sprint(i))
		return true
	}); err != nil {
		t.Fatal(err)
	}
	if len(seen) < 20 || len(seen) > 50 || seen[len(seen)-1] != "119" {
		t.Errorf("%d seconds are left, up to %s", len(seen), seen[len(seen)-1])
	}
	since, size, ok := s.Since("a")
	if !ok || size > s.Most+12_000 || since.Before(begin.Add(60*time.Second)) {
		t.Errorf("since %v, %d bytes", since, size)
	}
	s.Drop("a")
	if _, _, ok := s.Since("a"); ok {
		t.Error("it is still there")
	}
	if _, _, ok := s.Since("b"); !ok {
		t.Error("another went with it")
	}
}
