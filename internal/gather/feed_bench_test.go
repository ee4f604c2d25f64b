package gather

import (
	"bytes"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"image"
	"image/jpeg"
	"io"
	"net/http"
	"net/url"
	"testing"
	"time"

	"github.com/icholy/digest"

	"duskyharbor/internal/core/pairing"
	client "duskyharbor/internal/device/analyser"
	"duskyharbor/internal/device/dial"
	"duskyharbor/internal/standin/analyser"
	"duskyharbor/internal/testbed"
)

// BenchmarkStills sends stills as the product does, and posts the same ones bare.
func BenchmarkStills(b *testing.B) {
	n := testbed.Net(b)
	still := make([]byte, 40<<10)
	a, err := analyser.Start(b.Context(), analyser.Config{Place: "Analyser", Model: "CRM L4", Address: n.At(".2.30"), Network: n.Prefix(2), Username: "install", Password: "right-one"})
	if err != nil {
		b.Fatal(err)
	}
	defer a.Close()
	var file bytes.Buffer
	if err := jpeg.Encode(&file, image.NewRGBA(image.Rect(0, 0, 16, 16)), nil); err != nil {
		b.Fatal(err)
	}
	still = append(file.Bytes(), still...) // what follows a picture isn't looked at
	c := client.New((&dial.Dialer{}).At(a.Config().Address), "", dial.Login{Username: "install", Password: "right-one"})
	defer c.Close()
	// None but the first few are taken, since so many come at once: each is read, weighed, and answered all the same.
	if err := c.Pair(b.Context(), "one", "Crew mess", pairing.Wish{PerSecond: 5}); err != nil {
		b.Fatal(err)
	}
	b.Run("product", func(b *testing.B) {
		f := &Feed{Take: func(context.Context) ([]byte, error) { return still, nil },
			Give: func(ctx context.Context, at time.Time, jpeg []byte) error {
				if err := c.Still(ctx, "one", at, jpeg); err != nil && !errors.Is(err, dial.ErrRefused) {
					return err
				}
				return nil
			}}
		for b.Loop() {
			if err := f.one(b.Context()); err != nil {
				b.Fatal(err)
			}
		}
	})
	b.Run("bare", func(b *testing.B) {
		plain := &http.Client{Transport: &digest.Transport{Username: "install", Password: "right-one", Transport: &http.Transport{TLSClientConfig: &tls.Config{InsecureSkipVerify: true}}}}
		at := fmt.Sprintf("https://%s:%d/api/views/one/stills?at=", a.Config().Address, client.Port)
		for b.Loop() {
			res, err := plain.Post(at+url.QueryEscape(time.Now().UTC().Format(time.RFC3339Nano)), "image/jpeg", bytes.NewReader(still))
			if err != nil {
				b.Fatal(err)
			}
			_, _ = io.Copy(io.Discard, res.Body)
			_ = res.Body.Close()
		}
	})
}
