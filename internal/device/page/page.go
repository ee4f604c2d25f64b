// Package page looks at a device's own web page: what it calls itself, whether it asks
// for a sign-in, and whether it wants a browser of the past.
package page

import (
	"context"
	"fmt"
	"net/http"
	"net/netip"
	"regexp"
	"strings"
	"time"

	"golang.org/x/net/html"

	"duskyharbor/internal/device/dial"
)

// Limits of one page.
const (
	limit    = 4 * time.Second
	maxBytes = 256 << 10
)

// Page is what a device shows to anyone.
type Page struct {
	URL    string
	Title  string // cleaned, at most 80 bytes
	Old    string // what of a past browser it wants; empty: nothing
	Digest bool   // it asks for an account, by HTTP Digest
}

// At is the address of a device's page; Look takes port 443 and 8443 to be HTTPS.
func At(addr netip.Addr, port int) string {
	scheme := "http"
	if port == 443 || port == 8443 {
		scheme = "https"
	}
	return fmt.Sprintf("%s://%s/", scheme, netip.AddrPortFrom(addr, uint16(port)))
}

// Fetch fetches the page, without signing in. Over HTTPS pin holds the certificate's
// fingerprint, see dial.Host.Client; nil trusts whatever is shown, since nothing is sent.
func Fetch(ctx context.Context, host dial.Host, at string, pin *string) (Page, error) {
	if pin == nil {
		pin = new(string)
	}
	client := host.Client(pin)
	defer client.CloseIdleConnections()
	p := Page{URL: at}
	res, data, err := get(ctx, client, at)
	if err != nil {
		return p, err
	}
	switch {
	case res.StatusCode == http.StatusUnauthorized:
		for _, h := range res.Header.Values("WWW-Authenticate") {
			p.Digest = p.Digest || strings.HasPrefix(strings.ToLower(h), "digest ")
		}
	case res.StatusCode == http.StatusNotFound, res.StatusCode >= 500:
		return p, &dial.Error{Tried: "GET /", On: host.Addr.String(), Kind: dial.ErrNotSupported,
			Says: fmt.Sprintf("HTTP %d", res.StatusCode)}
	}
	p.Title, p.Old = Read(data)
	return p, nil
}

// Opens says whether an account opens the page by HTTP Digest: nil, or an error of kind
// dial.ErrNotAuthorised, dial.ErrLocked, or dial.ErrElsewhere where it points to another
// page, which isn't followed.
func Opens(ctx context.Context, host dial.Host, at string, pin *string, login dial.Login) error {
	session := host.Session(pin, login.Try, dial.Digest(login.Username, login.Password))
	defer session.Close()
	on := host.Addr.String()
	return session.Do(ctx, func(ctx context.Context, signed *http.Client) error {
		res, _, err := get(ctx, signed, at)
		if err != nil {
			return err
		}
		refused := dial.Refusal(res, "its web page", on)
		switch {
		case refused == nil && !dial.Sent(ctx):
			return &dial.Error{Tried: "its web page", On: on, Kind: dial.ErrNotSupported, Says: "it asks for no account"}
		case refused == nil:
			return nil
		case refused.Beyond: // a page that isn't shown says nothing of the account
			refused.Kind, refused.Says, refused.Beyond = dial.ErrElsewhere, fmt.Sprintf("it answers HTTP %d", res.StatusCode), false
		}
		return refused
	})
}

func get(ctx context.Context, client *http.Client, at string) (*http.Response, []byte, error) {
	ctx, cancel := context.WithTimeout(ctx, limit)
	defer cancel()
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, at, nil)
	if err != nil {
		return nil, nil, &dial.Error{Tried: "GET /", On: at, Kind: dial.ErrMalformed, Says: "that is no address of a page"}
	}
	res, err := dial.Ask(client, req, "GET /")
	if err != nil {
		return nil, nil, err
	}
	defer res.Body.Close()
	data, err := dial.ReadAll(res.Body, maxBytes, "GET /", req.URL.Host)
	return res, data, err
}

// past is what pages of a past browser hold, and what each asks for.
var past = []struct {
	mark *regexp.Regexp
	what string
}{
	{regexp.MustCompile(`(?i)<object[^>]+classid\s*=\s*["']?clsid:`), "an ActiveX plug-in"},
	{regexp.MustCompile(`(?i)new\s+ActiveXObject`), "an ActiveX plug-in"},
	{regexp.MustCompile(`(?i)application/x-shockwave-flash|\.swf\b`), "a Flash plug-in"},
	{regexp.MustCompile(`(?i)<applet\b|application/x-java-applet`), "a Java applet"},
	{regexp.MustCompile(`(?i)application/x-silverlight`), "a Silverlight plug-in"},
}

// Read finds a page's title and what of a past browser it wants.
func Read(data []byte) (title, old string) {
	z := html.NewTokenizer(strings.NewReader(string(data[:min(len(data), maxBytes)])))
	for in := false; ; {
		switch z.Next() {
		case html.ErrorToken:
			for _, p := range past {
				if p.mark.Match(data) {
					return title, p.what
				}
			}
			return title, ""
		case html.StartTagToken:
			name, _ := z.TagName()
			in = title == "" && string(name) == "title"
		case html.TextToken:
			if in {
				title = dial.CleanText(string(z.Text()), 80)
				in = false
			}
		}
	}
}
