package recorder

import (
	"context"
	"fmt"
	"net/netip"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"duskyharbor/internal/device/rtsp"
	"duskyharbor/internal/standin/relay"
	"duskyharbor/internal/standin/shelf"
)

const (
	// StreamPort is where it gives its channels on, over RTSP: /channel/n.
	StreamPort = 8554
	// videoBytes is how much video of a channel it keeps on disk; what it kept longer ago it knows
	// by its ledger alone.
	videoBytes = 1 << 20
)

// packets are what came in one second, as it came.
type packets struct{ record, view, keys [][]byte }

// of is what is kept of a second by a way of keeping.
func (p packets) of(k string) [][]byte {
	switch k {
	case keepRecord:
		return p.record
	case keepView:
		return p.view
	case keepKeys:
		return p.keys
	}
	return nil
}

func newShelf(stateFile string) *shelf.Shelf {
	s := &shelf.Shelf{Most: videoBytes}
	if stateFile != "" {
		s.Dir = strings.TrimSuffix(stateFile, filepath.Ext(stateFile)) + "-video"
	}
	return s
}

func shelfName(number int) string { return fmt.Sprintf("channel-%d", number) }

// Video gives what it holds on disk of a channel: how many packets, and when the first and the last
// came.
func (r *Recorder) Video(number int) (n int, first, last time.Time, err error) {
	err = r.shelf.Read(shelfName(number), func(p shelf.Packet) bool {
		if n == 0 {
			first = p.At
		}
		n, last = n+1, p.At
		return true
	})
	return n, first, last, err
}

// relays serves its channels to others.
func (r *Recorder) relays() error {
	return relay.Serve(r.ctx, netip.AddrPortFrom(r.cfg.Address, StreamPort), r.digest, func(path string) *relay.Stream {
		number, ok := strings.CutPrefix(path, "channel/")
		n, err := strconv.Atoi(number)
		if !ok || err != nil {
			return nil
		}
		r.mu.Lock()
		defer r.mu.Unlock()
		return r.live[n].stream()
	})
}

// stream is what a channel receives, for others; nil while it receives nothing.
func (w *worker) stream() *relay.Stream {
	if w == nil {
		return nil
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.track == nil {
		return nil
	}
	return &relay.Stream{Codec: w.track.Codec, Payload: w.track.Payload, Sets: w.track.Sets, Play: w.feed}
}

// feed sends what comes from now on, until the channel ends or send says no.
func (w *worker) feed(ctx context.Context, send func([]byte) bool) {
	tap := make(chan []byte, 512)
	w.mu.Lock()
	w.taps[tap] = true
	w.mu.Unlock()
	defer func() {
		w.mu.Lock()
		defer w.mu.Unlock()
		delete(w.taps, tap)
	}()
	for {
		select {
		case <-ctx.Done():
			return
		case <-w.ctx.Done():
			return
		case raw := <-tap:
			if !send(raw) {
				return
			}
		}
	}
}

// give passes a packet on to who listens; one who is too slow loses it.
func (w *worker) give(track *rtsp.Track, raw []byte) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.track = track
	for tap := range w.taps {
		select {
		case tap <- raw:
		default:
		}
	}
}
