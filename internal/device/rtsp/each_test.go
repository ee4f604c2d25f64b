package rtsp

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"net"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"duskyharbor/internal/device/dial"
)

// Several addresses are asked for over one connection, which is opened anew where the device ends it.
func TestSeveralAddressesAreAskedOverOneConnection(t *testing.T) {
	const sdp = "v=0\r\no=- 0 0 IN IP4 0.0.0.0\r\ns=-\r\nt=0 0\r\nm=video 0 RTP/AVP 96\r\na=rtpmap:96 H264/90000\r\n"
	for _, tc := range []struct {
		name     string
		each     int // how many answers a connection gives
		opened   int32
		silentAt string // where it closes without an answer, always
		found    []string
		kind     error
	}{
		{"that stays open", 100, 1, "", []string{"/b", "/d"}, nil},
		{"that ends after each answer", 1, 4, "", []string{"/b", "/d"}, nil},
		{"that ends after two", 2, 2, "", []string{"/b", "/d"}, nil},
		{"that breaks at an address", 100, 2, "/c", []string{"/b"}, dial.ErrUnreachable},
	} {
		t.Run(tc.name, func(t *testing.T) {
			var opened atomic.Int32
			host, at := server(t, func(c net.Conn) {
				opened.Add(1)
				r := bufio.NewReader(c)
				for range tc.each {
					line, err := r.ReadString('\n')
					if err != nil {
						return
					}
					seq := ""
					for h := "x"; strings.TrimSpace(h) != ""; h, _ = r.ReadString('\n') {
						if n, ok := strings.CutPrefix(h, "CSeq: "); ok {
							seq = strings.TrimSpace(n)
						}
					}
					switch {
					case tc.silentAt != "" && strings.Contains(line, tc.silentAt+" "):
						return
					case strings.Contains(line, "/b ") || strings.Contains(line, "/d "):
						fmt.Fprintf(c, "RTSP/1.0 200 OK\r\nCSeq: %s\r\nContent-Type: application/sdp\r\nContent-Length: %d\r\n\r\n%s", seq, len(sdp), sdp)
					default:
						fmt.Fprintf(c, "RTSP/1.0 404 Not Found\r\nCSeq: %s\r\n\r\n", seq)
					}
				}
			})
			base := strings.TrimSuffix(at, "/main")
			var found []string
			err := AskEach(t.Context(), host, []string{base + "/a", base + "/b", base + "/c", base + "/d"}, Login{}, func(address string, track Track, err error) bool {
				if err == nil && track.Codec == "H264" {
					found = append(found, strings.TrimPrefix(address, base))
				}
				return err == nil || errors.Is(err, dial.ErrRefused)
			})
			if !slices.Equal(found, tc.found) || !errors.Is(err, tc.kind) || (err == nil) != (tc.kind == nil) {
				t.Errorf("found %v, %v", found, err)
			}
			if n := opened.Load(); n != tc.opened {
				t.Errorf("%d connections were opened, want %d", n, tc.opened)
			}
		})
	}
}

// A conversation that this server ends, because its time is over, isn't told as one that the device broke.
func TestOurOwnTimeLimitIsNoBrokenConnection(t *testing.T) {
	host, at := server(t, func(c net.Conn) { _, _ = bufio.NewReader(c).ReadString(0) })
	ctx, cancel := context.WithTimeout(t.Context(), 50*time.Millisecond)
	defer cancel()
	_, err := Ask(ctx, host, at, Login{})
	if err == nil || !strings.Contains(err.Error(), "the time allowed ran out") {
		t.Errorf("%v", err)
	}
	stopped, stop := context.WithCancel(t.Context())
	time.AfterFunc(50*time.Millisecond, stop)
	if _, err := Ask(stopped, host, at, Login{}); err == nil || !strings.Contains(err.Error(), "it was stopped") {
		t.Errorf("%v", err)
	}
}
