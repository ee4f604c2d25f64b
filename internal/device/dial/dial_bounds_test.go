package dial

import (
	"io"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"net/url"
	"testing"
	"time"

	"github.com/icholy/digest"
)

// A refusal without end is read to a limit by whoever reads on to answer the challenge.
func TestARefusalWithoutEndIsCut(t *testing.T) {
	sent := 0
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("WWW-Authenticate", `Digest realm="x", nonce="y", qop="auth"`)
		w.WriteHeader(http.StatusUnauthorized)
		for r.Context().Err() == nil && sent < 1<<30 {
			n, err := w.Write(make([]byte, 64<<10))
			if sent += n; err != nil {
				return
			}
		}
	}))
	defer srv.Close()
	u, err := url.Parse(srv.URL)
	if err != nil {
		t.Fatal(err)
	}
	base := (&Dialer{}).At(netip.MustParseAddrPort(u.Host).Addr()).Client(nil)
	client := &http.Client{Timeout: 20 * time.Second, Transport: &digest.Transport{Username: "a", Password: "b", Transport: base.Transport}}
	begun := time.Now()
	res, err := client.Get(srv.URL)
	if err != nil {
		t.Fatal(err)
	}
	defer res.Body.Close()
	n, err := io.Copy(io.Discard, res.Body)
	if err != nil || n != refusalMost {
		t.Errorf("%d bytes were read of it: %v", n, err)
	}
	if took := time.Since(begun); took > 15*time.Second {
		t.Errorf("it held us for %v", took)
	}
}
