package camera_test

import (
	"net"
	"net/netip"
	"strings"
	"testing"
	"time"

	"github.com/pion/rtp"
	"golang.org/x/net/ipv4"

	"duskyharbor/internal/core/stream"
	"duskyharbor/internal/standin/camera"
	"duskyharbor/internal/testbed"
)

// hears joins a group, and answers how many packets of RTP come from a camera within a while.
func hears(t *testing.T, from netip.Addr, to stream.Cast) func(time.Duration) int {
	t.Helper()
	conn, err := net.ListenPacket("udp4", netip.AddrPortFrom(netip.MustParseAddr(to.Group), uint16(to.Port)).String())
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = conn.Close() })
	lo, err := net.InterfaceByName("lo")
	if err == nil {
		err = ipv4.NewPacketConn(conn).JoinGroup(lo, &net.UDPAddr{IP: net.ParseIP(to.Group)})
	}
	if err != nil {
		t.Fatal(err)
	}
	return func(d time.Duration) (n int) {
		buf := make([]byte, 2048)
		_ = conn.SetReadDeadline(time.Now().Add(d))
		for {
			size, who, err := conn.ReadFrom(buf)
			if err != nil {
				return n
			}
			var p rtp.Packet
			if a := who.(*net.UDPAddr).AddrPort().Addr().Unmap(); a == from && p.Unmarshal(buf[:size]) == nil {
				n++
			}
		}
	}
}

// A stream goes to its group once it is started, whoever listens; over a restart too, and no more once it is stopped.
// Its encoder's other figures stay. Both services of media know it.
func TestAStreamIsSentToAGroup(t *testing.T) {
	t.Parallel()
	for name, media1 := range map[string]bool{"Media2": false, "Media ver10": true} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			s := newStudio(t, func(c *camera.Config) { c.Manners.Media1 = media1 })
			to := stream.Cast{Group: "239" + strings.TrimPrefix(s.cfg.Address.String(), "127"), Port: 5004, TTL: 1, On: true}
			set := func(want stream.Cast) {
				t.Helper()
				if err := s.cl.SetCast(t.Context(), s.services, "main", "vec_main", want); err != nil {
					t.Fatal(err)
				}
				if got, err := s.cl.Cast(t.Context(), s.services, "vec_main"); err != nil || got.Text() != want.Text() {
					t.Errorf("%v is read: %v %v", want, got, err)
				}
			}
			was, err := s.cl.Encoder(t.Context(), s.services, "vec_main")
			if err != nil {
				t.Fatal(err)
			}
			count := hears(t, s.cfg.Address, to)
			set(to)
			testbed.Until(t, 20*time.Second, "it sends to its group", func() bool { return count(time.Second) > 0 })
			if now, err := s.cl.Encoder(t.Context(), s.services, "vec_main"); err != nil || now != was {
				t.Errorf("its encoder is %+v, and was %+v: %v", now, was, err)
			}
			s.cam.Restart()
			testbed.Until(t, 20*time.Second, "it sends on after a restart", func() bool { return count(time.Second) > 0 })
			other := to
			other.Port = 5006
			there := hears(t, s.cfg.Address, other)
			testbed.Until(t, 20*time.Second, "it answers again", func() bool {
				_, err := s.cl.Cast(t.Context(), s.services, "vec_main")
				return err == nil
			})
			set(other)
			testbed.Until(t, 20*time.Second, "it sends to the other port alone", func() bool { return there(time.Second) > 0 && count(time.Second) == 0 })
			other.On = false
			set(other)
			testbed.Until(t, 20*time.Second, "it sends no more", func() bool { return there(time.Second) == 0 })
		})
	}
}

// What isn't a group isn't taken, and one that knows no multicast tells none.
func TestWhatIsNoGroupIsRefused(t *testing.T) {
	t.Parallel()
	s := newStudio(t, func(c *camera.Config) { c.Manners.Group = netip.AddrPort{} })
	if err := s.cl.SetCast(t.Context(), s.services, "main", "vec_main", stream.Cast{Group: "10.1.1.1", Port: 5004, TTL: 1, On: true}); err == nil {
		t.Error("10.1.1.1 is taken for a group")
	}
	if got, err := s.cl.Cast(t.Context(), s.services, "vec_main"); err != nil || got.On || got.Group != "" {
		t.Errorf("it is %+v: %v", got, err)
	}
	if err := s.cl.SetCast(t.Context(), s.services, "other", "vec_main", stream.Cast{Group: "239.1.1.1", Port: 5004, TTL: 1, On: true}); err == nil {
		t.Error("another profile is started")
	}
	none := newStudio(t, func(c *camera.Config) { c.Manners.NoGroups = true })
	if got, err := none.cl.Cast(t.Context(), none.services, "vec_main"); err == nil {
		t.Errorf("it knows no multicast, and is %+v", got)
	}
}
