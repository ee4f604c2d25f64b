package live

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/pion/webrtc/v4"

	"duskyharbor/internal/core/stream"
	"duskyharbor/internal/core/trouble"
	"duskyharbor/internal/device/rtsp"
	"duskyharbor/internal/facts"
	"duskyharbor/internal/site"
)

// Bounds of talking through a device.
const (
	talkMost   = 2 * time.Minute // at a time
	talkSilent = 4 * time.Second // without a packet from the browser
	maxSpoken  = 1200            // bytes of a packet
)

// Sentences for who can't talk.
var (
	errNoConsent = trouble.UserError("Sound is off here: no consent to record sound is on record.")
	errNoSpeaker = trouble.UserError("It has no speaker that takes G.711, or its streams weren't read since.")
	errTalking   = trouble.UserError("Somebody talks through it already.")
)

// Talk answers a browser's offer to send sound, and passes what it sends to the device's speaker
// (ONVIF Streaming, 5.3) until the browser ends, falls silent, or has talked for two minutes.
// One at a time talks through a device from this server.
func (r *Relay) Talk(ctx context.Context, of site.Source, offer string) (answer string, err error) {
	if !isOffer(offer) {
		return "", errOffer
	}
	if !r.takes(r.talking, of.Device.ID) {
		return "", errTalking
	}
	t := &talk{way: way{relay: r, taken: r.talking, device: of.Device.ID}, packets: make(chan []byte, 64)}
	t.ctx, t.end = context.WithTimeout(r.ctx, talkMost)
	defer func() {
		if err != nil {
			t.close()
		}
	}()
	if err := t.open(ctx, of); err != nil {
		return "", err
	}
	if answer, err = t.answer(ctx, withoutCandidates(offer)); err != nil {
		return "", err
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	if err = r.ctx.Err(); err != nil {
		return "", errSlow
	}
	r.done.Go(t.pass)
	return answer, nil
}

// takes takes a device to talk through or to listen to; false where somebody does.
func (r *Relay) takes(by map[int64]bool, device int64) bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	if by[device] || r.ctx.Err() != nil {
		return false
	}
	by[device] = true
	return true
}

type talk struct {
	way
	packets chan []byte
}

// open makes the way to the speaker.
func (t *talk) open(ctx context.Context, of site.Source) error {
	ctx, cancel := context.WithTimeout(ctx, openLimit)
	defer cancel()
	d := of.Device
	s, err := site.Load(ctx, t.relay.store, d.SiteID, []int64{d.ID})
	if err != nil {
		return err
	}
	f, w := facts.ForStreams(s, of)
	p, codec, ok := f.Talker(w)
	switch {
	case !w.Consent:
		return errNoConsent
	case !ok:
		return errNoSpeaker
	}
	t.codec = codec
	if err := t.dial(ctx, s, d, p, "talking through its speaker"); err != nil {
		return err
	}
	if t.track, err = t.conn.DescribeTalk(); err != nil {
		return err
	}
	return t.conn.Talk(t.track)
}

// answer meets the browser.
func (t *talk) answer(ctx context.Context, offer string) (string, error) {
	return t.meet(ctx, offer, func(pc *webrtc.PeerConnection) error {
		pc.OnTrack(func(in *webrtc.TrackRemote, _ *webrtc.RTPReceiver) { t.hear(in) })
		return nil
	}, nothing)
}

// hear takes what the browser sends.
func (t *talk) hear(in *webrtc.TrackRemote) {
	if !strings.EqualFold(in.Codec().MimeType, "audio/"+t.codec) {
		t.end()
		return
	}
	for t.ctx.Err() == nil {
		p, _, err := in.ReadRTP()
		if err != nil {
			return
		}
		if len(p.Payload) == 0 || len(p.Payload) > maxSpoken {
			continue
		}
		p.Header.PayloadType = map[string]uint8{"PCMU": 0, "PCMA": 8}[t.codec]
		p.Header.Extension, p.Header.Extensions, p.Header.CSRC, p.Header.Padding, p.PaddingSize = false, nil, nil, false, 0
		raw, err := p.Marshal()
		if err != nil {
			continue
		}
		select {
		case t.packets <- raw:
		default: // the device doesn't keep up: what is old by then is dropped
		}
	}
}

// pass passes packets on until nobody talks any more.
func (t *talk) pass() {
	defer t.close()
	quiet := time.NewTimer(connectTime) // until the first comes
	defer quiet.Stop()
	go t.drain()
	for {
		select {
		case <-t.ctx.Done():
			return
		case <-quiet.C:
			return
		case raw := <-t.packets:
			quiet.Reset(talkSilent)
			if t.conn.Say(raw) != nil {
				return
			}
		}
	}
}

// drain reads what the device sends meanwhile, and ends with it: it hangs up, or says nothing,
// which is usual where only its speaker was asked for.
func (t *talk) drain() {
	for t.ctx.Err() == nil {
		if _, _, err := t.conn.Next(); err != nil && !errors.Is(err, rtsp.ErrStalled) {
			t.end()
			return
		}
	}
}

// Through words what is talked through.
func Through(place, codec string) string {
	return fmt.Sprintf("%s's speaker, %s", place, stream.PrettySound(codec))
}
