package main

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"errors"
	"fmt"
	"io/fs"
	"math/big"
	"net"
	"os"
	"path/filepath"
	"strings"
	"time"
)

// certificate is what serve shows over TLS, nil where it serves plain HTTP; the
// fingerprint is that of a certificate of our own.
func certificate(o serveOptions) (*tls.Config, string, error) {
	given := o.cert != "" || o.certKey != ""
	switch {
	case given && o.selfSigned != "":
		return nil, "", errors.New("give a certificate or have one made, not both")
	case given && (o.cert == "" || o.certKey == ""):
		return nil, "", errors.New("--tls-cert and --tls-key go together")
	case given:
		c, err := tls.LoadX509KeyPair(o.cert, o.certKey)
		if err != nil {
			return nil, "", fmt.Errorf("the certificate can't be used: %w", err)
		}
		return config(c), "", nil
	case o.selfSigned != "":
		c, err := ownCertificate(o.selfSigned, o.hosts, o.listen)
		if err != nil {
			return nil, "", fmt.Errorf("no certificate of our own: %w", err)
		}
		sum := sha256.Sum256(c.Certificate[0])
		parts := make([]string, len(sum))
		for i, b := range sum {
			parts[i] = fmt.Sprintf("%02X", b)
		}
		return config(c), strings.Join(parts, ":"), nil
	}
	return nil, "", nil
}

func config(c tls.Certificate) *tls.Config {
	return &tls.Config{MinVersion: tls.VersionTLS12, Certificates: []tls.Certificate{c}, NextProtos: []string{"http/1.1"}}
}

// ownCertificate reads the certificate kept in a folder, or makes one for two years; a
// month before it ends it is made anew.
func ownCertificate(dir string, hosts []string, listen string) (tls.Certificate, error) {
	certFile, keyFile := filepath.Join(dir, "cert.pem"), filepath.Join(dir, "key.pem")
	c, err := tls.LoadX509KeyPair(certFile, keyFile)
	if err == nil && time.Until(c.Leaf.NotAfter) > 30*24*time.Hour {
		return c, nil
	}
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return c, err
	}
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return c, err
	}
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return c, err
	}
	serial, err := rand.Int(rand.Reader, new(big.Int).Lsh(big.NewInt(1), 120))
	if err != nil {
		return c, err
	}
	t := &x509.Certificate{SerialNumber: serial, Subject: pkix.Name{CommonName: "Dusky Harbor"},
		NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().AddDate(2, 0, 0),
		KeyUsage: x509.KeyUsageDigitalSignature, ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth}, BasicConstraintsValid: true}
	names := append([]string{"localhost", "127.0.0.1"}, hosts...)
	if host, _, err := net.SplitHostPort(listen); err == nil && host != "" {
		names = append(names, host)
	}
	for _, n := range names {
		if ip := net.ParseIP(n); ip != nil {
			t.IPAddresses = append(t.IPAddresses, ip)
		} else {
			t.DNSNames = append(t.DNSNames, n)
		}
	}
	der, err := x509.CreateCertificate(rand.Reader, t, t, &key.PublicKey, key)
	if err != nil {
		return c, err
	}
	raw, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		return c, err
	}
	if err := os.WriteFile(keyFile, pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: raw}), 0o600); err != nil {
		return c, err
	}
	if err := os.WriteFile(certFile, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}), 0o600); err != nil {
		return c, err
	}
	return tls.LoadX509KeyPair(certFile, keyFile)
}
