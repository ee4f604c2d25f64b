package recorders

import (
	"bytes"
	"context"
	"fmt"
	"image"
	"image/jpeg"
	"time"

	"duskyharbor/internal/core/channel"
	"duskyharbor/internal/core/stream"
	"duskyharbor/internal/core/trouble"
	"duskyharbor/internal/device/page"
	"duskyharbor/internal/site"
	"duskyharbor/internal/store"
)

// look sees from outside what it can of a recorder that is set up by hand: whether it shows, on each
// channel that was ticked, the picture of the camera that was typed in there.
func (r *Reader) look(ctx context.Context, d store.Device) (string, error) {
	entries, err := r.Store.BenchEntries(ctx, d.ID)
	if err != nil {
		return "", err
	}
	looks := map[int]channel.Look{}
	if d.Bench.Picture != "" && d.Address != nil && len(entries) > 0 {
		if looks, err = r.pictures(ctx, d, entries); err != nil {
			return "", err
		}
	}
	now := time.Now().UTC()
	table := d.Bench.Table(d.Place, now, entries, looks)
	table.Make, table.Model, table.Serial = d.Make, d.Model, d.Serial
	if err := r.Store.KeepFacts(ctx, site.Recorder.New(d.ID, "bench sheet", now, table)); err != nil {
		return "", err
	}
	seen := 0
	for _, s := range table.Slots {
		if s.State == channel.Receiving {
			seen++
		}
	}
	return fmt.Sprintf("%d channels typed in, %d seen from outside", len(table.Slots), seen), nil
}

// pictures fetches what a recorder shows on the channels that were ticked, and compares it with what
// the cameras showed themselves.
func (r *Reader) pictures(ctx context.Context, d store.Device, entries []channel.BenchEntry) (map[int]channel.Look, error) {
	login, err := r.Accounts.PageLogin(ctx, d, "the pictures of "+d.Place)
	if err != nil {
		return nil, err
	}
	var ids []int64
	for _, e := range entries {
		of, err := r.Store.SourceByID(ctx, e.Source)
		if err != nil {
			return nil, err
		}
		ids = append(ids, of.Device.ID)
	}
	s, err := site.Load(ctx, r.Store, d.SiteID, ids)
	if err != nil {
		return nil, err
	}
	client := page.NewPictures(r.Dialer.At(*d.Address), d.Bench.Port, login.Username, login.Password, login.Try)
	defer client.Close()
	out := map[int]channel.Look{}
	for _, e := range entries {
		l := channel.Look{At: time.Now().UTC(), Likeness: -1}
		data, err := client.Get(ctx, d.Bench.PictureOf(e.Channel))
		if err != nil {
			l.Trouble = trouble.Sentence(err)
			out[e.Channel] = l
			continue
		}
		if img := pictureOf(data); img != nil {
			l.Pictured, l.Width, l.Height = true, img.Bounds().Dx(), img.Bounds().Dy()
			of, _ := s.Source(e.Source)
			if own, ok := site.Still.Of(s, of); ok {
				l.Likeness = stream.PrintOf(img).Likeness(own.Print)
			}
		}
		out[e.Channel] = l
	}
	return out, nil
}

// maxPixels is how large a picture may be that is decoded.
const maxPixels = 40_000_000

// pictureOf decodes a picture that a recorder sent; nil where it is none. What breaks the decoder is
// none either.
func pictureOf(data []byte) (img image.Image) {
	defer func() {
		if recover() != nil {
			img = nil
		}
	}()
	cfg, err := jpeg.DecodeConfig(bytes.NewReader(data))
	if err != nil || cfg.Width*cfg.Height > maxPixels {
		return nil
	}
	if img, err = jpeg.Decode(bytes.NewReader(data)); err != nil {
		return nil
	}
	return img
}
