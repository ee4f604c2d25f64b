package vms

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"net/url"
	"slices"
	"sync"
	"time"

	"duskyharbor/internal/device/dial"
	"duskyharbor/internal/device/rtsp"
	"duskyharbor/internal/standin/relay"
)

const (
	again  = 3 * time.Second        // after it was refused or lost its source
	gather = 500 * time.Millisecond // of packets before they go to disk
)

// pull is one receiver at work for a recording.
type pull struct {
	v         *VMS
	from      string
	recording string
	ctx       context.Context
	cancel    context.CancelFunc

	mu    sync.Mutex
	last  time.Time // of a packet
	err   error
	track *rtsp.Track
}

func newPull(v *VMS, from, recording string) *pull {
	p := &pull{v: v, from: from, recording: recording}
	p.ctx, p.cancel = context.WithCancel(v.ctx)
	return p
}

// stands is how the job stands, as ONVIF words it.
func (p *pull) stands() (state, trouble string) {
	if p == nil {
		return "Idle", ""
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	switch {
	case time.Since(p.last) < 2*time.Second:
		return "Active", ""
	case p.err != nil:
		return "Error", p.err.Error()
	}
	return "Idle", "it waits for the first picture"
}

func (p *pull) described() *relay.Stream {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.track == nil {
		return nil
	}
	return &relay.Stream{Codec: p.track.Codec, Payload: p.track.Payload, Sets: p.track.Sets}
}

func (p *pull) run() {
	for p.ctx.Err() == nil {
		err := p.hold()
		p.mu.Lock()
		p.err = err
		p.mu.Unlock()
		select {
		case <-p.ctx.Done():
		case <-time.After(again):
		}
	}
}

// hold receives until something breaks.
func (p *pull) hold() error {
	u, err := url.Parse(p.from)
	if err != nil {
		return errors.New("its address is none")
	}
	addr, err := netip.ParseAddr(u.Hostname())
	if err != nil {
		return errors.New("its address names no host that is known")
	}
	password, _ := u.User.Password()
	login := rtsp.Login{Username: u.User.Username(), Password: password}
	u.User = nil
	conn, err := rtsp.Open(p.ctx, p.v.dialer.At(addr), u.String(), login)
	if err != nil {
		return plain(err)
	}
	defer conn.Close()
	track, err := conn.Describe()
	if err != nil {
		return plain(err)
	}
	if !slices.Contains(p.v.cfg.Codecs, track.Codec) {
		return fmt.Errorf("the stream is %s, it takes others", track.Codec)
	}
	if err := conn.Play(track); err != nil {
		return plain(err)
	}
	p.mu.Lock()
	p.track = &track
	p.mu.Unlock()
	return p.keep(conn)
}

// plain words a refusal as such recorders do, with the status.
func plain(err error) error {
	if errors.Is(err, dial.ErrNotAuthorised) {
		return errors.New("401 Unauthorized")
	}
	return err
}

func (p *pull) keep(conn *rtsp.Conn) error {
	alive, began := time.Now(), time.Now()
	var some [][]byte
	for {
		raw, err := conn.Packet()
		if err != nil {
			return plain(err)
		}
		now := time.Now()
		some = append(some, slices.Clone(raw))
		if now.Sub(began) >= gather {
			if err := p.v.shelf.Put(p.recording, began, some); err != nil {
				return err
			}
			some, began = nil, now
		}
		p.mu.Lock()
		p.last, p.err = now, nil
		p.mu.Unlock()
		if now.Sub(alive) > 20*time.Second {
			alive = now
			if err := conn.KeepAlive(); err != nil {
				return plain(err)
			}
		}
	}
}
