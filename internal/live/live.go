// Package live shows cameras' moving pictures in browsers: H.264 as the camera codes it, over
// WebRTC. One server reads a view's stream for all who look at it, on whichever server their
// page is: which one it is, and what browsers and it tell each other, goes through the database.
package live

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"strings"
	"sync"
	"time"

	"github.com/pion/interceptor"
	"github.com/pion/webrtc/v4"

	"duskyharbor/internal/core/trouble"
	"duskyharbor/internal/device/dial"
	"duskyharbor/internal/device/rtsp"
	"duskyharbor/internal/site"
	"duskyharbor/internal/store"
)

// Bounds of what is shown.
const (
	mostViewers  = 8  // of one view
	mostAtOnce   = 48 // of a site
	maxOffer     = 32 << 10
	answerWithin = 6 * time.Second
	claimFor     = 10 * time.Second
	// Quiet is how long a page may not say that it still looks.
	Quiet = 75 * time.Second
)

// Beats of a relay: how often it looks for new calls while it reads anything, renews its
// claims, and asks who still looks.
const (
	callBeat  = 100 * time.Millisecond
	claimBeat = 3 * time.Second
	lookBeat  = 5 * time.Second
)

// Relay reads streams and passes them to browsers. Close ends it.
type Relay struct {
	store  *store.Store
	signIn SignIn
	looked Looked
	dialer *dial.Dialer
	log    *slog.Logger
	server string // its name in claims
	api    *webrtc.API
	conn   net.PacketConn

	mu      sync.Mutex
	readers map[int64]*reader // by view
	talking map[int64]bool    // devices that somebody talks through
	heard   map[int64]bool    // devices that somebody listens to
	boxed   map[int64]bool    // devices whose analytics somebody sees at work
	stop    context.CancelFunc
	ctx     context.Context
	done    sync.WaitGroup
}

// SignIn gives the account that opens a device's streams, with what writes each try down. What
// can't be had is a sentence for the person.
type SignIn func(ctx context.Context, d store.Device, s *site.Snapshot, purpose string) (rtsp.Login, error)

// Looked opens the conversation with the analyser that looks at a view, about what it sees; it lasts as long as lasts does.
type Looked func(ctx, lasts context.Context, s *site.Snapshot, of site.Source) (*rtsp.Conn, error)

// Options of a Relay.
type Options struct {
	Store  *store.Store
	SignIn SignIn
	Looked Looked
	Dialer *dial.Dialer
	Log    *slog.Logger
	Server string // a name that no other server has
	Listen string // UDP address to which browsers send: all pictures go through this one port
}

// New opens the port and is ready to show.
func New(o Options) (*Relay, error) {
	conn, err := net.ListenPacket("udp4", o.Listen)
	if err != nil {
		return nil, fmt.Errorf("moving pictures can't be sent from UDP %s (give another --live, or off): %w", o.Listen, err)
	}
	r := &Relay{store: o.Store, signIn: o.SignIn, looked: o.Looked, dialer: o.Dialer, log: o.Log, server: o.Server, conn: conn, readers: map[int64]*reader{}, talking: map[int64]bool{}, heard: map[int64]bool{}, boxed: map[int64]bool{}}
	media := &webrtc.MediaEngine{}
	for i, profile := range []string{"42e01f", "4d001f", "64001f"} { // constrained baseline, main, high
		err := media.RegisterCodec(webrtc.RTPCodecParameters{RTPCodecCapability: capability(profile),
			PayloadType: webrtc.PayloadType(102 + i)}, webrtc.RTPCodecTypeVideo)
		if err != nil {
			return nil, errors.Join(err, conn.Close())
		}
	}
	for kind, name := range map[webrtc.PayloadType]string{0: webrtc.MimeTypePCMU, 8: webrtc.MimeTypePCMA} {
		spoken := webrtc.RTPCodecParameters{RTPCodecCapability: webrtc.RTPCodecCapability{MimeType: name, ClockRate: 8000}, PayloadType: kind}
		if err := media.RegisterCodec(spoken, webrtc.RTPCodecTypeAudio); err != nil {
			return nil, errors.Join(err, conn.Close())
		}
	}
	engine := webrtc.SettingEngine{LoggerFactory: quiet{}}
	// Lite: it answers a browser's checks and sends none of its own, so that no offer makes it
	// talk to an address that a page names (RFC 8445, section 2.5).
	engine.SetLite(true)
	engine.SetIncludeLoopbackCandidate(true)
	engine.SetNetworkTypes([]webrtc.NetworkType{webrtc.NetworkTypeUDP4})
	engine.SetICEUDPMux(webrtc.NewICEUDPMux(silent{}, conn))
	engine.SetICETimeouts(5*time.Second, 15*time.Second, 2*time.Second)
	r.api = webrtc.NewAPI(webrtc.WithMediaEngine(media), webrtc.WithSettingEngine(engine), webrtc.WithInterceptorRegistry(&interceptor.Registry{}))
	r.ctx, r.stop = context.WithCancel(context.Background())
	r.done.Go(r.run)
	return r, nil
}

func capability(profile string) webrtc.RTPCodecCapability {
	return webrtc.RTPCodecCapability{MimeType: webrtc.MimeTypeH264, ClockRate: 90000,
		SDPFmtpLine: "level-asymmetry-allowed=1;packetization-mode=1;profile-level-id=" + profile}
}

// Close ends all pictures and gives the port back.
func (r *Relay) Close() {
	r.mu.Lock() // nothing begins any more
	r.stop()
	r.mu.Unlock()
	r.done.Wait()
	_ = r.conn.Close()
}

// Shown is an answer to a browser.
type Shown struct {
	Call   int64  // see Keep
	Answer string // session description
}

// Sentences for who can't be shown a picture.
var (
	errOffer   = trouble.UserError("The browser's offer can't be read.")
	errCrowded = trouble.UserErrorf("As many look at moving pictures already as may: %d a camera, %d a site. The still is fetched again and again.", mostViewers, mostAtOnce)
	errOver    = trouble.UserError("This server is being stopped: the picture is asked for again.")
	errBroke   = trouble.UserError("Its stream broke off just then: the picture is asked for again.")
	errSlow    = trouble.UserErrorf("No answer came within %d s: the still is fetched again and again.", int(answerWithin.Seconds()))
)

// Show answers a browser's offer to see a view. The one who reads the view's stream answers;
// where nobody does, this server begins to.
func (r *Relay) Show(ctx context.Context, site, source int64, offer string) (Shown, error) {
	if len(offer) > maxOffer || !strings.HasPrefix(offer, "v=0") {
		return Shown{}, errOffer
	}
	if r.ctx.Err() != nil {
		return Shown{}, errOver
	}
	id, err := r.store.CallLive(ctx, site, source, withoutCandidates(offer), mostViewers, mostAtOnce)
	if errors.Is(err, store.ErrCrowded) {
		return Shown{}, errCrowded
	}
	if err != nil {
		return Shown{}, err
	}
	for end := time.Now().Add(answerWithin); ; {
		if err := r.claim(ctx, source); err != nil {
			_ = r.store.DropCalls(context.WithoutCancel(ctx), id)
			return Shown{}, err
		}
		call, err := r.store.Call(ctx, id)
		switch {
		case errors.Is(err, store.ErrNotFound): // who read it ended, and its calls with it
			return Shown{}, errBroke
		case err != nil:
			return Shown{}, err
		case call.Answer != nil:
			return Shown{id, *call.Answer}, nil
		case call.Trouble != nil:
			_ = r.store.DropCalls(ctx, id)
			return Shown{}, trouble.UserError(*call.Trouble)
		case time.Now().After(end):
			_ = r.store.DropCalls(ctx, id)
			return Shown{}, errSlow
		}
		select {
		case <-ctx.Done():
			_ = r.store.DropCalls(context.WithoutCancel(ctx), id)
			return Shown{}, ctx.Err()
		case <-time.After(callBeat):
		}
	}
}

// Keep notes that a call's page still looks: it says so every half minute.
func (r *Relay) Keep(ctx context.Context, site, call int64) error {
	return r.store.TouchCall(ctx, site, call)
}

// withoutCandidates is an offer without the addresses that it names: a browser is spoken to at
// the one from which it calls.
func withoutCandidates(offer string) string {
	var b strings.Builder
	for line := range strings.Lines(offer) {
		if !strings.HasPrefix(line, "a=candidate:") && !strings.HasPrefix(line, "a=end-of-candidates") {
			b.WriteString(line)
		}
	}
	return b.String()
}

// claim makes this server the reader of a view where nobody is.
func (r *Relay) claim(ctx context.Context, source int64) error {
	r.mu.Lock()
	_, reads := r.readers[source]
	over := r.ctx.Err() != nil
	r.mu.Unlock()
	switch {
	case over: // it claims nothing that it won't read
		return errOver
	case reads:
		return nil
	}
	mine, err := r.store.ClaimReader(ctx, source, r.server, claimFor)
	if err != nil || !mine {
		return err
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.readers[source] == nil && r.ctx.Err() == nil {
		rd := newReader(r, source)
		r.readers[source] = rd
		r.done.Go(func() {
			rd.run(r.ctx)
			r.forget(rd)
		})
	}
	return nil
}

// forget ends a reader.
func (r *Relay) forget(rd *reader) {
	r.mu.Lock()
	delete(r.readers, rd.source)
	r.mu.Unlock()
	ctx, cancel := context.WithTimeout(context.WithoutCancel(r.ctx), 3*time.Second)
	defer cancel()
	calls := rd.end()
	if err := errors.Join(r.store.ReleaseReader(ctx, rd.source, r.server), r.store.DropCalls(ctx, calls...)); err != nil {
		r.log.Warn("a picture's reader wasn't given back; its claim runs out by itself", "err", err)
	}
}

// run answers calls, renews claims, and lets go who doesn't look any more.
func (r *Relay) run() {
	beat := time.NewTicker(callBeat)
	defer beat.Stop()
	var claimed, looked time.Time
	for {
		select {
		case <-r.ctx.Done():
			return
		case <-beat.C:
		}
		all := r.all()
		if len(all) == 0 {
			continue
		}
		if time.Since(claimed) > claimBeat {
			claimed = time.Now()
			r.renew(all)
		}
		if time.Since(looked) > lookBeat {
			looked = time.Now()
			r.letGo(all)
		}
		r.answer()
	}
}

func (r *Relay) all() []*reader {
	r.mu.Lock()
	defer r.mu.Unlock()
	out := make([]*reader, 0, len(r.readers))
	for _, rd := range r.readers {
		out = append(out, rd)
	}
	return out
}

// renew keeps the claims; a reader whose claim another has ends.
func (r *Relay) renew(all []*reader) {
	for _, rd := range all {
		if mine, err := r.store.ClaimReader(r.ctx, rd.source, r.server, claimFor); err == nil && !mine {
			rd.stop()
		}
	}
}

// letGo ends what nobody looks at any more.
func (r *Relay) letGo(all []*reader) {
	var ids []int64
	for _, rd := range all {
		ids = append(ids, rd.calls()...)
	}
	left, err := r.store.LeftCalls(r.ctx, ids, Quiet)
	if err != nil {
		return // it is asked again
	}
	for _, rd := range all {
		for _, id := range left {
			rd.drop(id)
		}
		if rd.idle() {
			rd.stop() // whatever its camera keeps it busy with
		}
	}
}

// answer answers who waits. A call is answered by a goroutine of its own, once.
func (r *Relay) answer() {
	waiting, err := r.store.WaitingCalls(r.ctx, r.server)
	if err != nil {
		return
	}
	for _, c := range waiting {
		r.mu.Lock()
		rd := r.readers[c.SourceID]
		r.mu.Unlock()
		if rd != nil && rd.takes(c.ID) {
			r.done.Go(func() { rd.meet(c) })
		}
	}
}
