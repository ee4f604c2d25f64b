package rtsp

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"os"
	"time"

	"duskyharbor/internal/device/dial"
)

// Over is what carries the packets of a stream.
type Over string

const (
	TCP Over = "TCP" // interleaved in the conversation (RFC 2326, section 10.12)
	UDP Over = "UDP" // to a pair of ports here, as ONVIF Streaming demands of devices (5.1.1)
)

const (
	statusTransport = 461 // Unsupported Transport (RFC 2326, section 11.3.14)
	statusBandwidth = 453 // Not Enough Bandwidth (11.3.7)
	portTries       = 32
	maxDatagram     = 65535
	readBuffer      = 1 << 20 // a key frame of a large picture comes at once
)

// pair is a port for RTP and the next one for RTCP (RFC 3550, section 11: the first is even).
type pair struct {
	rtp, rtcp *net.UDPConn
	buf       []byte
	stop      func() bool // waiting for the conversation's end
}

// ports opens a pair on the address of this machine that the conversation has.
func (c *Conn) ports() (*pair, error) {
	local, ok := c.conn.LocalAddr().(*net.TCPAddr)
	if !ok {
		return nil, errors.New("no address of this machine")
	}
	ip := local.AddrPort().Addr()
	for range portTries {
		first, err := net.ListenUDP("udp", net.UDPAddrFromAddrPort(netip.AddrPortFrom(ip, 0)))
		if err != nil {
			return nil, err
		}
		port := first.LocalAddr().(*net.UDPAddr).AddrPort().Port()
		if port%2 != 0 || port == 65535 {
			_ = first.Close()
			continue
		}
		second, err := net.ListenUDP("udp", net.UDPAddrFromAddrPort(netip.AddrPortFrom(ip, port+1)))
		if err != nil {
			_ = first.Close()
			continue
		}
		_ = first.SetReadBuffer(readBuffer)
		p := &pair{rtp: first, rtcp: second, buf: make([]byte, maxDatagram)}
		p.stop = context.AfterFunc(c.ctx, func() { _, _ = first.Close(), second.Close() })
		return p, nil
	}
	return nil, errors.New("no even port and the next one were free")
}

// transport is the header that asks for it.
func (p *pair) transport() string {
	port := p.rtp.LocalAddr().(*net.UDPAddr).AddrPort().Port()
	return fmt.Sprintf("RTP/AVP;unicast;client_port=%d-%d", port, port+1)
}

// close gives the ports back; of none it does nothing.
func (p *pair) close() {
	if p == nil {
		return
	}
	p.stop()
	_ = p.rtp.Close()
	_ = p.rtcp.Close()
}

// read waits until end for a packet that comes from the device; what others send is passed
// over. The packet is its own memory.
func (p *pair) read(from netip.Addr, end time.Time) ([]byte, error) {
	_ = p.rtp.SetReadDeadline(end)
	for {
		n, by, err := p.rtp.ReadFromUDPAddrPort(p.buf)
		if err != nil {
			return nil, err
		}
		if by.Addr().Unmap() == from {
			return append([]byte(nil), p.buf[:n]...), nil
		}
	}
}

// PlayOver sets the track up over TCP or UDP and starts it; packets come from Packet.
func (c *Conn) PlayOver(t Track, over Over) error {
	transport := "RTP/AVP/TCP;unicast;interleaved=0-1"
	if over == UDP {
		p, err := c.ports()
		if err != nil {
			return c.fail("SETUP", dial.ErrUnreachable, "this machine has no ports for it: "+dial.Plain(err))
		}
		c.udp, transport = p, p.transport()
	}
	res, err := c.do("SETUP", t.Control, "Transport: "+transport+"\r\n")
	if err != nil {
		if c.udp != nil {
			c.udp.close()
			c.udp = nil
		}
		return err
	}
	c.over = over
	c.takes(Picture, res.header.Get("Transport"))
	c.session = sessionOf(res.header.Get("Session"))
	if err := c.setUpBeside(t); err != nil {
		return err
	}
	_, err = c.do("PLAY", c.aggregate(), "Range: npt=0.000-\r\n")
	return err
}

// Play is PlayOver TCP, and over UDP where the device doesn't offer that.
func (c *Conn) Play(t Track) error {
	err := c.PlayOver(t, TCP)
	if err != nil && c.status == statusTransport && !c.Encrypted { // packets over UDP would go in clear
		return c.PlayOver(t, UDP)
	}
	return err
}

// datagram is a packet of one track, or why no more come.
type datagram struct {
	track int
	data  []byte
	err   error
}

// queued is how many packets wait to be taken before the ports' own buffers fill.
const queued = 256

// pump passes what comes on a pair on, until the conversation ends.
func (c *Conn) pump(p *pair, track int) {
	for {
		data, err := p.read(c.host.Addr, time.Time{})
		select {
		case c.came <- datagram{track, data, err}:
		case <-c.ctx.Done():
			return
		}
		if err != nil {
			return
		}
	}
}

// nextDatagram waits for the next packet of any track.
func (c *Conn) nextDatagram() (int, []byte, error) {
	limit := time.NewTimer(stepLimit)
	defer limit.Stop()
	select {
	case d := <-c.came:
		if d.err != nil {
			return 0, nil, c.stalled(d.err)
		}
		return d.track, d.data, nil
	case <-limit.C:
		return 0, nil, c.stalled(os.ErrDeadlineExceeded)
	case <-c.ctx.Done():
		return 0, nil, c.stalled(c.ctx.Err())
	}
}

// Over is what carries the packets; empty before something plays.
func (c *Conn) Over() Over { return c.over }
