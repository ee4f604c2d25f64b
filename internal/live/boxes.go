package live

import (
	"context"
	"errors"
	"time"

	"duskyharbor/internal/core/scene"
	"duskyharbor/internal/core/trouble"
	"duskyharbor/internal/device/onvif"
	"duskyharbor/internal/device/rtsp"
	"duskyharbor/internal/facts"
	"duskyharbor/internal/site"
)

// Bounds of telling what analytics see as they see it.
const (
	boxesMost   = 5 * time.Minute // at a time
	boxesQuiet  = 90 * time.Second
	boxesApart  = 60 * time.Millisecond // more often nobody sees
	maxMetadata = 4 << 20               // bytes in a second
	mostBoxes   = 64                    // of a picture
)

// Sentences for who can't see them.
var (
	errNoBoxes   = trouble.UserError("None of its streams is known to carry what its analytics see: read its streams, and play them.")
	errBoxing    = trouble.UserError("Somebody looks at what its analytics see already.")
	errMuchBoxes = trouble.UserErrorf("It sends more than %d MB of metadata a second: it isn't listened to.", maxMetadata>>20)
)

// Boxed is what analytics see in one picture, in the picture.
type Boxed struct {
	Objects []onvif.SeenObject
	Clock   time.Time // the device's own time of it
}

// Boxes tells what a view's analytics see as it comes, until ctx ends, tell fails, or five minutes are over (nil). One at a time
// looks at a device's from this server.
func (r *Relay) Boxes(ctx context.Context, of site.Source, tell func(Boxed) error) error {
	if !r.takes(r.boxed, of.Device.ID) {
		return errBoxing
	}
	w := &way{relay: r, taken: r.boxed, device: of.Device.ID}
	w.ctx, w.end = context.WithTimeout(ctx, boxesMost)
	defer w.close()
	stop := context.AfterFunc(r.ctx, w.end)
	defer stop()
	if err := w.openBoxes(ctx, of); err != nil {
		return err
	}
	defer context.AfterFunc(w.ctx, w.conn.Close)()
	return w.boxes(of.Turned, tell)
}

func (w *way) openBoxes(ctx context.Context, of site.Source) error {
	ctx, cancel := context.WithTimeout(ctx, openLimit)
	defer cancel()
	s, err := site.Load(ctx, w.relay.store, of.Device.SiteID, []int64{of.Device.ID})
	if err != nil {
		return err
	}
	if err := w.dialBoxes(ctx, s, of); err != nil {
		return err
	}
	if w.track, err = w.conn.DescribeMetadata(); err == nil {
		err = w.conn.PlayMetadata(w.track)
	}
	return err
}

// dialBoxes opens the conversation with who tells what is seen of a view: its own camera, or the analyser that looks at it.
func (w *way) dialBoxes(ctx context.Context, s *site.Snapshot, of site.Source) (err error) {
	if of.Paired != nil {
		w.conn, err = w.relay.looked(ctx, w.ctx, s, of)
		return err
	}
	f, _ := facts.ForStreams(s, of)
	p, ok := f.Describes()
	if !ok {
		return errNoBoxes
	}
	return w.dial(ctx, s, of.Device, p, "what its analytics see")
}

// boxes reads documents; of those that come at once the last picture is told.
func (w *way) boxes(turned scene.Turned, tell func(Boxed) error) error {
	docs := rtsp.Documents{Track: *w.track.Meta, Most: onvif.MaxMetadata}
	now := time.Now()
	kept, heard, second, bytes, told := now, now, now, 0, time.Time{}
	for {
		track, raw, err := w.conn.Next()
		now := time.Now()
		switch {
		case err == nil:
			heard = now
		case w.ctx.Err() != nil:
			return nil
		case !errors.Is(err, rtsp.ErrStalled) || now.Sub(heard) > boxesQuiet:
			return err
		}
		if now.Sub(second) > time.Second {
			second, bytes = now, 0
		}
		if bytes += len(raw); bytes > maxMetadata {
			return errMuchBoxes
		}
		if now.Sub(kept) > keepAlive {
			kept = now
			if err := w.conn.KeepAlive(); err != nil {
				return err
			}
		}
		if err != nil || track != rtsp.Metadata {
			continue
		}
		doc, _ := docs.Add(raw)
		if doc == nil {
			continue
		}
		seen, err := onvif.ParseMetadata(doc)
		if err != nil || len(seen.Frames) == 0 || now.Sub(told) < boxesApart {
			continue
		}
		told = now
		last := seen.Frames[len(seen.Frames)-1]
		objects := last.Objects[:min(len(last.Objects), mostBoxes)]
		for i := range objects {
			objects[i].Box = turned.BoxFrom(objects[i].Box)
		}
		if err := tell(Boxed{objects, last.At}); err != nil {
			return nil // who looked is gone
		}
	}
}
