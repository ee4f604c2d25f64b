package recorder

import (
	"context"
	"fmt"
	"image"
	"time"

	"duskyharbor/internal/core/channel"
	"duskyharbor/internal/core/clock"
	"duskyharbor/internal/core/stream"
	"duskyharbor/internal/core/trouble"
	"duskyharbor/internal/device/dial"
	"duskyharbor/internal/device/page"
	"duskyharbor/internal/device/picture"
)

// Sheet is a recorder that has no way in but its own screen. It tells nothing: its table is what a
// person typed there, as far as the pictures that its page shows bear it out.
type Sheet struct {
	unable
	name     string
	bench    channel.Bench
	typed    []Typed
	base     string // where its page answers
	pictures page.Pictures
}

// Typed is a channel that a person ticked, with the print of the picture that its camera showed
// itself; nil: that wasn't seen.
type Typed struct {
	Entry channel.BenchEntry
	Own   *stream.Print
}

// NewSheet makes a driver of a recorder that is called name. The login is for the pictures that its
// page shows.
func NewSheet(host dial.Host, name string, b channel.Bench, typed []Typed, login dial.Login) *Sheet {
	return &Sheet{unable{host.Addr.String(), "it has no way in but its own screen"}, name, b, typed,
		fmt.Sprintf("http://%s:%d", host.Addr, b.Port), page.NewPictures(host, new(string), login)}
}

// Via names where the table is from.
func (d *Sheet) Via() string { return "bench sheet" }

// Pin is none: nothing is kept of a certificate.
func (d *Sheet) Pin() string { return "" }

// Close lets idle connections go.
func (d *Sheet) Close() { d.pictures.Close() }

// Status is what was typed, as far as it can be seen from outside. It tells no time.
func (d *Sheet) Status(ctx context.Context) (channel.Recorder, clock.Reading, error) {
	entries, looks := make([]channel.BenchEntry, len(d.typed)), map[int]channel.Observation{}
	for i, t := range d.typed {
		entries[i] = t.Entry
		if d.bench.Picture == "" {
			continue
		}
		l, err := d.look(ctx, t)
		if err != nil {
			return channel.Recorder{}, clock.Reading{}, err
		}
		looks[t.Entry.Channel] = l
	}
	return d.bench.Table(d.name, time.Now().UTC(), entries, looks), clock.Reading{}, nil
}

// look fetches a channel's picture and compares it with the camera's own.
func (d *Sheet) look(ctx context.Context, t Typed) (channel.Observation, error) {
	l := channel.Observation{At: time.Now().UTC(), Likeness: -1}
	data, err := d.pictures.Get(ctx, d.base+d.bench.PictureOf(t.Entry.Channel), "its picture")
	if ctx.Err() != nil {
		return l, ctx.Err()
	}
	if err != nil {
		l.Trouble = trouble.Sentence(err)
		return l, nil
	}
	if img := pictureOf(ctx, data); img != nil {
		l.Pictured, l.Width, l.Height = true, img.Bounds().Dx(), img.Bounds().Dy()
		if t.Own != nil {
			l.Likeness = stream.PrintOf(img).Likeness(*t.Own)
		}
	}
	return l, nil
}

// pictureOf decodes a picture that a recorder sent; nil where it is none.
func pictureOf(ctx context.Context, data []byte) image.Image {
	img, err := picture.Decode(ctx, data)
	if err != nil {
		return nil
	}
	return img
}
