package live

import (
	"context"
	"time"

	"github.com/pion/webrtc/v4"

	"duskyharbor/internal/device/picture"
)

// A view that is sent as JPEG goes to browsers picture by picture, over a data channel: each in
// parts, the last of which begins with 1, the others with 0.
const (
	partSize    = 16 << 10
	maxWaiting  = 1 << 20               // bytes that a browser may be behind; then it misses pictures
	maxPixels   = 8_000_000             // of one picture
	leastApart  = 90 * time.Millisecond // pictures that come faster are left out
	partFollows = 0
	partIsLast  = 1
)

// show passes a picture on to all who look. What is none isn't.
func (rd *reader) show(file []byte, now time.Time) {
	if now.Sub(rd.shown) < leastApart {
		return
	}
	if size, err := picture.Measure(file); err != nil || size.Width*size.Height > maxPixels {
		return
	}
	waits, cancel := context.WithTimeout(rd.relay.ctx, leastApart)
	defer cancel()
	if _, err := picture.Decode(waits, file); err != nil {
		return
	}
	rd.shown = now
	rd.mu.Lock()
	rd.last = file
	all := make([]*viewer, 0, len(rd.viewers))
	for _, v := range rd.viewers {
		all = append(all, v)
	}
	rd.mu.Unlock()
	for _, v := range all {
		v.picture(file)
	}
}

// picture sends a browser a whole picture, unless it is behind.
func (v *viewer) picture(file []byte) {
	v.mu.Lock()
	defer v.mu.Unlock()
	if v.pictures == nil || v.pictures.BufferedAmount() > maxWaiting {
		return
	}
	for at := 0; at < len(file); at += partSize {
		end, head := min(at+partSize, len(file)), byte(partFollows)
		if end == len(file) {
			head = partIsLast
		}
		if v.pictures.Send(append([]byte{head}, file[at:end]...)) != nil {
			return
		}
	}
}

// openTo takes the channel that a browser opened for pictures; it gets the last one at once.
func (rd *reader) openTo(v *viewer, channel *webrtc.DataChannel) {
	channel.OnOpen(func() {
		rd.mu.Lock()
		last := rd.last
		rd.mu.Unlock()
		v.mu.Lock()
		v.pictures = channel
		v.mu.Unlock()
		if last != nil {
			v.picture(last)
		}
	})
}
