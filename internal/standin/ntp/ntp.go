// Package ntp is the stand-ins' time service: a small SNTP server and client
// (RFC 4330), so that a camera told to follow its recorder really asks it.
package ntp

import (
	"context"
	"encoding/binary"
	"errors"
	"net"
	"net/netip"
	"time"
)

// Port of the service; ONVIF gives NTP no other.
const Port = 123

const epoch = 2208988800 // seconds from 1900 to 1970

func put(b []byte, t time.Time) {
	binary.BigEndian.PutUint32(b, uint32(t.Unix()+epoch))
	binary.BigEndian.PutUint32(b[4:], uint32(uint64(t.Nanosecond())<<32/1e9))
}

func get(b []byte) time.Time {
	sec := int64(binary.BigEndian.Uint32(b)) - epoch
	frac := uint64(binary.BigEndian.Uint32(b[4:])) * 1e9 >> 32
	return time.Unix(sec, int64(frac))
}

// Serve answers time requests at addr with now until ctx ends.
func Serve(ctx context.Context, addr netip.Addr, now func() time.Time) error {
	conn, err := net.ListenUDP("udp4", net.UDPAddrFromAddrPort(netip.AddrPortFrom(addr, Port)))
	if err != nil {
		return err
	}
	go func() {
		<-ctx.Done()
		_ = conn.Close()
	}()
	go func() {
		buf := make([]byte, 256)
		for {
			n, from, err := conn.ReadFromUDPAddrPort(buf)
			if err != nil {
				return
			}
			if n < 48 || buf[0]&7 != 3 {
				continue
			}
			out := make([]byte, 48)
			out[0] = buf[0]&0x38 | 4 // same version, mode server
			out[1], out[2], out[3] = 2, buf[2], 0xec
			copy(out[12:16], "LOCL")
			t := now()
			put(out[16:], t)
			copy(out[24:32], buf[40:48])
			put(out[32:], t)
			put(out[40:], now())
			_, _ = conn.WriteToUDPAddrPort(out, from)
		}
	}()
	return nil
}

// ErrNoTime is returned when a server gives no usable time.
var ErrNoTime = errors.New("the server gave no time")

// Ask returns how far server is ahead of now, asking from the address local.
func Ask(ctx context.Context, local, server netip.Addr, now func() time.Time) (time.Duration, error) {
	conn, err := net.DialUDP("udp4", net.UDPAddrFromAddrPort(netip.AddrPortFrom(local, 0)),
		net.UDPAddrFromAddrPort(netip.AddrPortFrom(server, Port)))
	if err != nil {
		return 0, err
	}
	defer conn.Close()
	limit := time.Now().Add(time.Second)
	if d, ok := ctx.Deadline(); ok && d.Before(limit) {
		limit = d
	}
	if err := conn.SetDeadline(limit); err != nil {
		return 0, err
	}
	out := make([]byte, 48)
	out[0] = 4<<3 | 3
	sent := now()
	put(out[40:], sent)
	if _, err := conn.Write(out); err != nil {
		return 0, err
	}
	in := make([]byte, 256)
	n, err := conn.Read(in)
	if err != nil {
		return 0, err
	}
	back := now()
	if n < 48 || in[0]&7 != 4 || string(in[24:32]) != string(out[40:48]) || in[1] == 0 {
		return 0, ErrNoTime
	}
	there, thence := get(in[32:]), get(in[40:])
	return (there.Sub(sent) + thence.Sub(back)) / 2, nil
}
