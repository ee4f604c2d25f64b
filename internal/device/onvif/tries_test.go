package onvif

import (
	"context"
	"errors"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"net/url"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"duskyharbor/internal/core/access"
	"duskyharbor/internal/device/dial"
)

// counted are tries that were written down.
type counted struct{ begun, sent, wrong int }

func (c *counted) Begin(context.Context) error { c.begun++; return nil }

func (c *counted) End(_ context.Context, sent bool, verdict error) error {
	if sent {
		c.sent++
	}
	if errors.Is(verdict, dial.ErrNotAuthorised) {
		c.wrong++
	}
	return nil
}

// A device that tells some things to anyone hasn't taken an account by that: the first request that it asks an account
// for is a try like any, and so is the next after it was refused.
func TestWhatIsToldToAnyoneTakesNoAccount(t *testing.T) {
	for _, scheme := range []access.Scheme{access.Digest, access.Basic} {
		t.Run(string(scheme), func(t *testing.T) {
			var carried atomic.Int32 // requests that came with an account
			srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
				if strings.Contains(r.Header.Get("Content-Type"), "GetDeviceInformation") {
					soap(`<tds:GetDeviceInformationResponse><tds:Model>M</tds:Model></tds:GetDeviceInformationResponse>`)(w, r)
					return
				}
				if r.Header.Get("Authorization") != "" {
					carried.Add(1)
				}
				w.Header().Set("WWW-Authenticate", map[access.Scheme]string{
					access.Digest: `Digest realm="r", nonce="n", qop="auth", algorithm=MD5`, access.Basic: `Basic realm="r"`}[scheme])
				w.WriteHeader(http.StatusUnauthorized)
			}))
			defer srv.Close()
			u, err := url.Parse(srv.URL)
			if err != nil {
				t.Fatal(err)
			}
			tries := &counted{}
			c, err := New((&dial.Dialer{}).At(netip.MustParseAddr(u.Hostname())), srv.URL, Login{Username: "u", Password: "p", Scheme: scheme, Try: tries})
			if err != nil {
				t.Fatal(err)
			}
			defer c.Close()
			if _, err := c.Information(t.Context()); err != nil {
				t.Fatal(err)
			}
			for range 2 {
				if _, err := c.Level(t.Context(), "u"); !errors.Is(err, dial.ErrNotAuthorised) {
					t.Fatalf("%v, want not authorised", err)
				}
			}
			if n := int(carried.Load()); n < 2 || tries.wrong != n {
				t.Errorf("the account was sent %d times, and %d tries were written down as wrong", n, tries.wrong)
			}
		})
	}
}

// A device that refuses a token, and then no longer tells its time to anyone, keeps nobody waiting.
func TestARefusedTokenEnds(t *testing.T) {
	var refused atomic.Bool
	c, _ := device(t, func(w http.ResponseWriter, r *http.Request) {
		refused.Store(true)
		w.WriteHeader(http.StatusUnauthorized)
	})
	tries := &counted{}
	c, err := New(c.host, c.service, Login{Username: "u", Password: "p", Scheme: access.Token, Try: tries})
	if err != nil {
		t.Fatal(err)
	}
	done := make(chan error, 1)
	go func() {
		_, err := c.Information(t.Context())
		done <- err
	}()
	select {
	case err = <-done:
	case <-time.After(5 * time.Second):
		t.Fatal("it waits for itself")
	}
	if !refused.Load() || !errors.Is(err, dial.ErrNotAuthorised) || tries.begun != 1 || tries.wrong != 1 {
		t.Errorf("%v after %d tries, %d of them wrong", err, tries.begun, tries.wrong)
	}
}

// Who took an account and is given another password meanwhile refuses it: that counts, and so does each further sending.
func TestAnAccountThatIsTakenNoMoreCounts(t *testing.T) {
	var changed atomic.Bool
	c, _ := device(t, func(w http.ResponseWriter, r *http.Request) {
		if changed.Load() {
			w.WriteHeader(http.StatusUnauthorized)
			return
		}
		soap(`<tds:GetDeviceInformationResponse><tds:Model>M</tds:Model></tds:GetDeviceInformationResponse>`)(w, r)
	})
	tries := &counted{}
	c, err := New(c.host, c.service, Login{Username: "u", Password: "p", Scheme: access.Basic, Try: tries})
	if err != nil {
		t.Fatal(err)
	}
	for range 3 {
		if _, err := c.Information(t.Context()); err != nil {
			t.Fatal(err)
		}
	}
	if tries.begun != 1 || tries.wrong != 0 {
		t.Errorf("%d tries of an account that was taken, %d of them wrong", tries.begun, tries.wrong)
	}
	changed.Store(true)
	for i := range 2 {
		if _, err := c.Information(t.Context()); !errors.Is(err, dial.ErrNotAuthorised) || tries.wrong != i+1 {
			t.Errorf("%v, %d wrong tries after %d refusals", err, tries.wrong, i+1)
		}
	}
}
