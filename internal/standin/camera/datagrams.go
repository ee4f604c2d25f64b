package camera

import (
	"errors"
	"fmt"
	"net"
	"net/netip"
	"strings"
	"time"

	"github.com/pion/rtcp"
)

// ssrc is the synchronisation source of every stream here (RFC 3550, section 3).
const ssrc = 0x0d05c0de

// reportEvery is how often a sender report goes beside packets (RFC 3550, section 6.2).
const reportEvery = time.Second

// datagrams is RTP over UDP to whoever set a stream up: an even port and the odd one after it
// on both sides (RFC 2326, section 12.39; RFC 3550, section 11).
type datagrams struct {
	rtp, rtcp     *net.UDPConn
	packets, size uint32
	reported      time.Time
}

var errTransport = errors.New("no such transport")

// transport sets up what a Transport header asks for, the first of its offers that there is,
// and answers it.
func (s *rtspSession) transport(t *track, header string) (string, error) {
	for _, offer := range strings.Split(header, ",") {
		offer = strings.TrimSpace(offer)
		first := -1
		for _, p := range strings.Split(offer, ";") {
			for _, name := range []string{"interleaved=", "client_port="} {
				if after, ok := strings.CutPrefix(p, name); ok {
					if _, err := fmt.Sscanf(after, "%d", &first); err != nil {
						first = -1
					}
				}
			}
		}
		switch protocol, _, _ := strings.Cut(offer, ";"); {
		case protocol == "RTP/AVP/TCP" && !s.cam.cfg.Manners.OnlyUDP:
			t.channel = byte(2 * t.kind)
			if first >= 0 && first < 255 {
				t.channel = byte(first)
			}
			return fmt.Sprintf("RTP/AVP/TCP;unicast;interleaved=%d-%d", t.channel, t.channel+1), nil
		case (protocol == "RTP/AVP" || protocol == "RTP/AVP/UDP") && !strings.Contains(offer, "multicast") && first > 0 && first < 65535:
			d, err := s.cam.datagrams(s.conn, uint16(first))
			if err != nil {
				return "", err
			}
			if t.udp = d; t.kind == soundOut {
				s.cam.run(func() { d.listen(s.cam.speaker.play) })
			}
			port := d.rtp.LocalAddr().(*net.UDPAddr).Port
			return fmt.Sprintf("RTP/AVP;unicast;client_port=%d-%d;server_port=%d-%d;ssrc=%08X", first, first+1, port, port+1, ssrc), nil
		}
	}
	return "", errTransport
}

// datagrams opens a pair of ports here to a pair there: only to who asked.
func (c *Camera) datagrams(conn net.Conn, to uint16) (*datagrams, error) {
	here, ok1 := conn.LocalAddr().(*net.TCPAddr)
	there, ok2 := conn.RemoteAddr().(*net.TCPAddr)
	if !ok1 || !ok2 {
		return nil, errTransport
	}
	dial := func(from, to uint16) (*net.UDPConn, error) {
		return net.DialUDP("udp", net.UDPAddrFromAddrPort(netip.AddrPortFrom(here.AddrPort().Addr(), from)),
			net.UDPAddrFromAddrPort(netip.AddrPortFrom(there.AddrPort().Addr(), to)))
	}
	for range 32 {
		first, err := dial(0, to)
		if err != nil {
			return nil, err
		}
		port := first.LocalAddr().(*net.UDPAddr).AddrPort().Port()
		if port%2 == 0 && port < 65535 {
			if second, err := dial(port+1, to+1); err == nil {
				return &datagrams{rtp: first, rtcp: second}, nil
			}
		}
		_ = first.Close()
	}
	return nil, errTransport
}

// send sends one packet, and from time to time a report. What is lost on the way is lost.
func (d *datagrams) send(raw []byte, stamp uint32) {
	_, _ = d.rtp.Write(raw)
	d.packets++
	d.size += uint32(len(raw))
	now := time.Now()
	if now.Sub(d.reported) < reportEvery {
		return
	}
	d.reported = now
	seconds := uint64(now.Unix()) + 2208988800 // from 1900 (RFC 3550, section 4)
	report := rtcp.SenderReport{SSRC: ssrc, NTPTime: seconds<<32 | uint64(now.Nanosecond())<<32/1e9, RTPTime: stamp, PacketCount: d.packets, OctetCount: d.size}
	if out, err := report.Marshal(); err == nil {
		_, _ = d.rtcp.Write(out)
	}
}

// listen takes what comes until the ports are given back.
func (d *datagrams) listen(take func([]byte)) {
	buf := make([]byte, 2048)
	for {
		n, err := d.rtp.Read(buf)
		if errors.Is(err, net.ErrClosed) {
			return
		}
		if err == nil {
			take(append([]byte(nil), buf[:n]...))
		}
	}
}

// close gives the ports back; of none it does nothing.
func (d *datagrams) close() {
	if d != nil {
		_ = d.rtp.Close()
		_ = d.rtcp.Close()
	}
}
