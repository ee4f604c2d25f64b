package live

// maxPayload is how large a payload is passed on at most, in bytes: with RTP, SRTP, UDP and IP
// around it it fits a link of 1,280, the least that IPv6 asks for, so it fits any.
const maxPayload = 1150

// Kinds of H.264 payloads (RFC 6184, table 1).
const (
	kindIDR   = 5
	kindSPS   = 7
	kindPPS   = 8
	kindSTAPA = 24
	kindFUA   = 28
)

// fit parts an H.264 payload into ones that are small enough (RFC 6184, 5.6 to 5.8). Cameras
// send larger ones where they are asked over TCP. What is no payload of a kind that is passed
// on is left out.
func fit(p []byte) [][]byte {
	if len(p) < 2 {
		return nil
	}
	switch kind := p[0] & 0x1f; {
	case kind == kindSTAPA:
		if len(p) <= maxPayload {
			return [][]byte{p}
		}
		var out [][]byte
		for _, nal := range aggregated(p) {
			out = append(out, fit(nal)...)
		}
		return out
	case kind == kindFUA:
		if len(p) <= maxPayload {
			return [][]byte{p}
		}
		return fragments(p[0]&0xe0, p[1]&0x1f, p[2:], p[1]&0x80 != 0, p[1]&0x40 != 0)
	case kind >= 1 && kind <= 23:
		if len(p) <= maxPayload {
			return [][]byte{p}
		}
		return fragments(p[0]&0xe0, kind, p[1:], true, true)
	}
	return nil
}

// fragments are FU-A payloads of a part of a NAL unit, which holds its first and its last byte
// or doesn't.
func fragments(head, kind byte, body []byte, first, last bool) [][]byte {
	var out [][]byte
	for len(body) > 0 {
		n := min(len(body), maxPayload-2)
		fu := kind
		if first {
			fu |= 0x80
		}
		if first = false; last && n == len(body) {
			fu |= 0x40
		}
		out = append(out, append([]byte{head | kindFUA, fu}, body[:n]...))
		body = body[n:]
	}
	return out
}

// aggregated are the NAL units of an aggregation packet.
func aggregated(p []byte) [][]byte {
	var out [][]byte
	for p = p[1:]; len(p) > 2; {
		n := int(p[0])<<8 | int(p[1])
		if n < 2 || n+2 > len(p) || p[2]&0x1f == kindSTAPA {
			break
		}
		out = append(out, p[2:2+n])
		p = p[2+n:]
	}
	return out
}

// begins says whether a payload begins a key frame, and whether it carries a sequence parameter
// set.
func begins(p []byte) (key, set bool) {
	if len(p) < 2 {
		return false, false
	}
	switch p[0] & 0x1f {
	case kindIDR:
		return true, false
	case kindSPS:
		return false, true
	case kindFUA:
		return p[1]&0x80 != 0 && p[1]&0x1f == kindIDR, false
	case kindSTAPA:
		for _, nal := range aggregated(p) {
			switch nal[0] & 0x1f {
			case kindIDR:
				key = true
			case kindSPS:
				set = true
			}
		}
	}
	return key, set
}
