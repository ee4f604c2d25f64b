// Package wire is how the stand-ins read and write HTTP sign-in, SOAP and their
// own state: code of their own, so that a mistake in the product's client isn't
// mirrored here.
package wire

import (
	"bytes"
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/md5"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/hex"
	"encoding/json"
	"encoding/pem"
	"encoding/xml"
	"errors"
	"io"
	"log"
	"math/big"
	"net"
	"net/http"
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"
)

// Shut ends a server: what it is answering it answers to its end, for up to a second.
func Shut(srv *http.Server) {
	ctx, cancel := context.WithTimeout(context.Background(), time.Second)
	defer cancel()
	if srv.Shutdown(ctx) != nil {
		_ = srv.Close()
	}
}

// Node is an XML element as a tree.
type Node struct {
	XMLName xml.Name
	Attrs   []xml.Attr `xml:",any,attr"`
	Text    string     `xml:",chardata"`
	Kids    []Node     `xml:",any"`
}

// Find is the first element of that local name at or below n.
func (n *Node) Find(local string) *Node {
	if n == nil {
		return nil
	}
	if n.XMLName.Local == local {
		return n
	}
	for i := range n.Kids {
		if f := n.Kids[i].Find(local); f != nil {
			return f
		}
	}
	return nil
}

// Get is the trimmed text of the first element of that name, or "".
func (n *Node) Get(local string) string {
	if f := n.Find(local); f != nil {
		return strings.TrimSpace(f.Text)
	}
	return ""
}

// Attr is the value of an attribute by local name.
func (n *Node) Attr(local string) string {
	if n != nil {
		for _, a := range n.Attrs {
			if a.Name.Local == local {
				return a.Value
			}
		}
	}
	return ""
}

// ErrXML is returned for a request that is no small well-formed XML.
var ErrXML = errors.New("malformed request")

// Parse reads at most 256 kB of XML.
func Parse(r io.Reader) (*Node, error) {
	data, err := io.ReadAll(io.LimitReader(r, 256<<10))
	if err != nil {
		return nil, err
	}
	var n Node
	d := xml.NewDecoder(bytes.NewReader(data))
	if err := d.Decode(&n); err != nil {
		return nil, ErrXML
	}
	return &n, nil
}

// Esc escapes text for XML.
func Esc(s string) string {
	var b bytes.Buffer
	_ = xml.EscapeText(&b, []byte(s))
	return b.String()
}

// Digest checks HTTP and RTSP Digest sign-in (RFC 7616, MD5).
type Digest struct {
	Realm    string
	Password func(user string) (string, bool)
	Life     time.Duration // of a nonce [5 min]
	mu       sync.Mutex
	nonces   map[string]time.Time
}

// Challenge is a WWW-Authenticate value with a fresh nonce; qop is for HTTP.
func (d *Digest) Challenge(qop bool) string {
	raw := make([]byte, 12)
	_, _ = rand.Read(raw)
	nonce := hex.EncodeToString(raw)
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.nonces == nil || len(d.nonces) > 10000 {
		d.nonces = map[string]time.Time{}
	}
	d.nonces[nonce] = time.Now()
	s := `Digest realm="` + d.Realm + `", nonce="` + nonce + `"`
	if qop {
		s += `, qop="auth", algorithm=MD5`
	}
	return s
}

// Verdict on an Authorization value.
type Verdict int

const (
	Wrong Verdict = iota
	Right
	Stale // right, but for a nonce that is too old (RFC 7616, section 3.3): it is no wrong password
)

// Check says whether an Authorization value opens method and which user it is.
func (d *Digest) Check(header, method string) (string, Verdict) {
	rest, ok := strings.CutPrefix(header, "Digest ")
	if !ok {
		return "", Wrong
	}
	p := params(rest)
	life := d.Life
	if life == 0 {
		life = 5 * time.Minute
	}
	d.mu.Lock()
	made, known := d.nonces[p["nonce"]]
	d.mu.Unlock()
	if !known {
		return "", Wrong
	}
	pass, ok := d.Password(p["username"])
	if !ok {
		return "", Wrong
	}
	h := func(s string) string {
		sum := md5.Sum([]byte(s))
		return hex.EncodeToString(sum[:])
	}
	ha1, ha2 := h(p["username"]+":"+d.Realm+":"+pass), h(method+":"+p["uri"])
	want := h(ha1 + ":" + p["nonce"] + ":" + ha2)
	if p["qop"] != "" {
		want = h(ha1 + ":" + p["nonce"] + ":" + p["nc"] + ":" + p["cnonce"] + ":" + p["qop"] + ":" + ha2)
	}
	switch {
	case want != p["response"]:
		return "", Wrong
	case time.Since(made) > life:
		return "", Stale
	}
	return p["username"], Right
}

// params reads comma-separated key=value pairs, minding quotes.
func params(s string) map[string]string {
	out := map[string]string{}
	for s != "" {
		s = strings.TrimLeft(s, " ,\t")
		key, rest, ok := strings.Cut(s, "=")
		if !ok {
			break
		}
		var value string
		if strings.HasPrefix(rest, `"`) {
			value, rest, _ = strings.Cut(rest[1:], `"`)
		} else {
			value, rest, _ = strings.Cut(rest, ",")
		}
		out[strings.ToLower(strings.TrimSpace(key))] = strings.TrimSpace(value)
		s = rest
	}
	return out
}

// Load reads a stand-in's state; a file that isn't there leaves v as it is.
func Load(path string, v any) error {
	data, err := os.ReadFile(path)
	if errors.Is(err, os.ErrNotExist) || path == "" {
		return nil
	}
	if err != nil {
		return err
	}
	return json.Unmarshal(data, v)
}

// Save writes a stand-in's state whole or not at all.
func Save(path string, v any) error {
	if path == "" {
		return nil
	}
	data, err := json.MarshalIndent(v, "", "  ")
	if err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return err
	}
	if err := os.WriteFile(path+".new", data, 0o600); err != nil {
		return err
	}
	return os.Rename(path+".new", path)
}

// Silent is a log for servers whose peers may break off at any time.
var Silent = log.New(io.Discard, "", 0)

// KeyPair is a self-signed certificate as a device keeps it.
type KeyPair struct {
	Cert string `json:"cert"`
	Key  string `json:"key"`
}

// Certificate is k, made first where it is empty.
func (k *KeyPair) Certificate(name string, at netip.Addr) (tls.Certificate, error) {
	if k.Cert == "" {
		key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
		if err != nil {
			return tls.Certificate{}, err
		}
		t := &x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: name},
			NotBefore: time.Now().AddDate(-1, 0, 0), NotAfter: time.Now().AddDate(20, 0, 0),
			IPAddresses: []net.IP{at.AsSlice()}}
		der, err := x509.CreateCertificate(rand.Reader, t, t, &key.PublicKey, key)
		if err != nil {
			return tls.Certificate{}, err
		}
		raw, err := x509.MarshalECPrivateKey(key)
		if err != nil {
			return tls.Certificate{}, err
		}
		k.Cert = string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}))
		k.Key = string(pem.EncodeToMemory(&pem.Block{Type: "EC PRIVATE KEY", Bytes: raw}))
	}
	return tls.X509KeyPair([]byte(k.Cert), []byte(k.Key))
}
