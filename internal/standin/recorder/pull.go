package recorder

import (
	"context"
	"time"

	"github.com/pion/rtp"

	"duskyharbor/internal/device/rtsp"
)

// replan has it pull the view stream where the plan keeps it, and listen where the plan waits.
func (w *worker) replan() {
	w.r.mu.Lock()
	p := w.r.mem.Channels[w.p.Number]
	views := p != nil && p.keeps().uses(keepView)
	w.r.mu.Unlock()
	w.mu.Lock()
	viewer := w.viewer
	switch {
	case views && viewer == nil && w.ctx.Err() == nil:
		ctx, cancel := context.WithCancel(w.ctx)
		w.viewer = cancel
		w.r.run(func() { w.pullView(ctx) })
	case !views && viewer != nil:
		viewer()
		w.viewer, w.coming.viewing = nil, false
	}
	w.mu.Unlock()
	select {
	case w.pegged <- struct{}{}:
	default:
	}
}

// pullView receives the view stream beside the other, while the plan keeps it.
func (w *worker) pullView(ctx context.Context) {
	for ctx.Err() == nil {
		if w.slot().State == receiving {
			_ = w.views(ctx)
		}
		w.mu.Lock()
		w.coming.viewing = false
		w.mu.Unlock()
		pause(ctx, time.Second)
	}
}

func (w *worker) views(ctx context.Context) error {
	c, host, err := w.client()
	if err != nil {
		return err
	}
	defer c.Close()
	at, err := profileOf(ctx, c, w.p.View)
	if err != nil {
		return err
	}
	conn, err := rtsp.Open(ctx, host, at.uri, rtsp.Login{Username: w.p.Username, Password: w.p.Password})
	if err != nil {
		return err
	}
	defer conn.Close()
	track, err := conn.Describe()
	if err != nil {
		return err
	}
	if err := conn.Play(track); err != nil {
		return err
	}
	for alive := time.Now(); ; {
		raw, err := conn.Packet()
		if err != nil {
			return err
		}
		size, _ := payload(track, raw)
		w.mu.Lock()
		w.coming.view, w.coming.viewing = w.coming.view+size, true
		w.raw.view = append(w.raw.view, raw)
		w.mu.Unlock()
		if time.Since(alive) > 20*time.Second {
			alive = time.Now()
			if err := conn.KeepAlive(); err != nil {
				return err
			}
		}
	}
}

// count takes in one packet of the record stream.
func (w *worker) count(track rtsp.Track, raw []byte) {
	size, key := payload(track, raw)
	if size == 0 {
		return
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	w.coming.record += size
	w.raw.record = append(w.raw.record, raw)
	if w.keyUnit = w.keyUnit || key; w.keyUnit {
		w.coming.keys += size
		w.raw.keys = append(w.raw.keys, raw)
	}
	if raw[1]&0x80 != 0 { // the marker ends a picture (RFC 3550, section 5.1)
		w.keyUnit = false
	}
}

// payload is how many bytes of coded video a packet holds, and whether they are of a key frame
// (RFC 6184, section 5.2; RFC 7798, section 4.4).
func payload(track rtsp.Track, raw []byte) (size float64, key bool) {
	var p rtp.Packet
	if len(raw) < 12 || p.Unmarshal(raw) != nil || p.PayloadType != track.Payload || len(p.Payload) < 3 {
		return 0, false
	}
	n := float64(len(p.Payload))
	switch track.Codec {
	case "H264":
		switch kind := p.Payload[0] & 31; kind {
		case 28: // FU-A
			first := float64(p.Payload[1]>>7) * 5 // with it goes its start code and header
			return n - 2 + first, p.Payload[1]&31 == 5
		case 24:
			return n + 4, true // parameter sets go together before a key frame
		default:
			return n + 4, kind == 5 || kind == 7 || kind == 8
		}
	case "H265":
		kind := p.Payload[0] >> 1 & 63
		if kind == 49 {
			kind = p.Payload[2] & 63
			return n - 3, kind >= 16 && kind <= 21
		}
		return n + 4, kind >= 16 && kind <= 21 || kind >= 32 && kind <= 34 || kind == 48
	}
	return n, true // each picture stands alone
}
