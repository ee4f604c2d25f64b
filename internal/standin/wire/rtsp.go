package wire

import (
	"bufio"
	"errors"
	"net/textproto"
	"strings"
)

// RTSPRequest reads one request of RTSP 1.0 (RFC 2326, section 6).
func RTSPRequest(r *bufio.Reader) (method, target string, h textproto.MIMEHeader, err error) {
	tp := textproto.NewReader(r)
	line, err := tp.ReadLine()
	if err != nil {
		return "", "", nil, err
	}
	f := strings.Fields(line)
	if len(f) != 3 || f[2] != "RTSP/1.0" {
		return "", "", nil, errors.New("not RTSP")
	}
	h, err = tp.ReadMIMEHeader()
	return f[0], f[1], h, err
}
