package live

import (
	"context"
	"errors"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/pion/rtp"
	"github.com/pion/webrtc/v4"

	"duskyharbor/internal/core/stream"
	"duskyharbor/internal/core/trouble"
	"duskyharbor/internal/device/rtsp"
	"duskyharbor/internal/facts"
	"duskyharbor/internal/site"
	"duskyharbor/internal/store"
)

const (
	maxGroup    = 3 << 20 // bytes of a group of pictures that are kept for who comes next
	keepAlive   = 20 * time.Second
	meetWithin  = 8 * time.Second
	idleFor     = 2 * time.Second // after the last one left
	openLimit   = 5 * time.Second
	purpose     = "a moving picture"
	maxPackets  = 4000                   // of a group
	maxSet      = 1 << 10                // bytes of a parameter set
	maxSets     = 4 << 10                // bytes of all of them
	setsApart   = 500 * time.Millisecond // the description's are repeated that often
	maxSecond   = 12 << 20               // bytes that a stream sends in a second
	connectTime = 10 * time.Second
)

// reader reads one view's stream while somebody looks.
type reader struct {
	relay  *Relay
	source int64
	cancel context.CancelFunc

	mu      sync.Mutex
	viewers map[int64]*viewer
	taken   map[int64]bool // calls that are answered, or being answered
	failed  error          // why there is no picture
	ready   chan struct{}  // closed when there is one, or none
	sets    [][]byte       // parameter sets from the description
	group   []*rtp.Packet  // from the last key frame on, as it is passed on
	bytes   int
	empty   time.Time // since when nobody looks
	codec   string    // "H264", "JPEG"; once it is ready
	last    []byte    // the last picture, of JPEG
	shown   time.Time // when it was passed on; of run alone
	setsAt  time.Time // when the description's parameter sets were sent on
}

// viewer is one browser.
type viewer struct {
	call     int64
	pc       *webrtc.PeerConnection
	track    *webrtc.TrackLocalStaticRTP
	mu       sync.Mutex
	seq      uint16
	on       bool                // it is connected, and has the group so far
	pictures *webrtc.DataChannel // of JPEG; nil until it is open
}

func newReader(r *Relay, source int64) *reader {
	return &reader{relay: r, source: source, viewers: map[int64]*viewer{}, taken: map[int64]bool{}, ready: make(chan struct{}), cancel: func() {}, empty: time.Now()}
}

func (rd *reader) stop() {
	rd.mu.Lock()
	defer rd.mu.Unlock()
	rd.cancel()
}

// takes says whether a call is this caller's to answer: it is so once.
func (rd *reader) takes(call int64) bool {
	rd.mu.Lock()
	defer rd.mu.Unlock()
	if rd.taken[call] {
		return false
	}
	rd.taken[call] = true
	return true
}

// calls that are shown the picture, or are about to be.
func (rd *reader) calls() []int64 {
	rd.mu.Lock()
	defer rd.mu.Unlock()
	out := make([]int64, 0, len(rd.taken))
	for id := range rd.taken {
		out = append(out, id)
	}
	return out
}

// drop lets one go, and says whether it was there.
func (rd *reader) drop(call int64) bool {
	rd.mu.Lock()
	v, there := rd.viewers[call], rd.taken[call]
	delete(rd.viewers, call)
	delete(rd.taken, call)
	if len(rd.viewers) == 0 && rd.empty.IsZero() {
		rd.empty = time.Now()
	}
	rd.mu.Unlock()
	if v != nil {
		_ = v.pc.Close()
	}
	return there
}

// left lets one go that went by itself.
func (rd *reader) left(call int64) {
	if !rd.drop(call) {
		return
	}
	ctx, cancel := context.WithTimeout(context.WithoutCancel(rd.relay.ctx), 3*time.Second)
	defer cancel()
	_ = rd.relay.store.DropCalls(ctx, call) // else it is forgotten when it was quiet for long enough
}

// end lets all go, and says who that was.
func (rd *reader) end() []int64 {
	all := rd.calls()
	for _, id := range all {
		rd.drop(id)
	}
	return all
}

// run reads until nobody looks any more, the stream ends, or ctx does.
func (rd *reader) run(ctx context.Context) {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	rd.mu.Lock()
	rd.cancel = cancel
	rd.mu.Unlock()
	c, t, err := rd.open(ctx)
	if err != nil {
		rd.fail(err)
		// Who waits is told; a moment later the claim is given back.
		select {
		case <-ctx.Done():
		case <-time.After(idleFor):
		}
		return
	}
	defer c.Close()
	rd.mu.Lock()
	rd.sets, rd.codec = bounded(t.Sets), t.Codec
	rd.mu.Unlock()
	close(rd.ready)
	rd.read(ctx, c, t)
}

// conversation is what a reader reads from.
type conversation interface {
	Packet() ([]byte, error)
	KeepAlive() error
}

// read passes on what comes until nobody looks any more, the stream ends, ctx does, or more comes
// than any camera sends.
func (rd *reader) read(ctx context.Context, c conversation, t rtsp.Track) {
	kept, pictures := time.Now(), &rtsp.JPEG{}
	second, came := kept, 0
	for ctx.Err() == nil && !rd.idle() {
		raw, err := c.Packet()
		if err != nil {
			return
		}
		if now := time.Now(); now.Sub(second) >= time.Second {
			second, came = now, 0
		}
		if came += len(raw); came > maxSecond {
			return
		}
		var p rtp.Packet
		switch {
		case p.Unmarshal(raw) != nil || p.PayloadType != t.Payload || len(p.Payload) == 0:
		case t.Codec == "JPEG":
			if file, whole := pictures.Add(&p); whole {
				rd.show(file, time.Now())
			}
		default:
			rd.pass(&p)
		}
		if time.Since(kept) > keepAlive {
			kept = time.Now()
			if c.KeepAlive() != nil {
				return
			}
		}
	}
}

// idle says whether nobody has looked for a while.
func (rd *reader) idle() bool {
	rd.mu.Lock()
	defer rd.mu.Unlock()
	return len(rd.viewers) == 0 && len(rd.taken) == 0 && !rd.empty.IsZero() && time.Since(rd.empty) > idleFor
}

func (rd *reader) fail(err error) {
	if errors.Is(err, context.Canceled) {
		err = errSlow
	}
	rd.mu.Lock()
	rd.failed = err
	rd.mu.Unlock()
	close(rd.ready)
}

// ErrNoH264 says that a browser can't show what the view sends.
const ErrNoH264 = trouble.UserError("None of its streams is H.264 or JPEG, which browsers show moving; its still is fetched again and again.")

// errAnother says that the page expects another coding than the view is sent in now.
const errAnother = trouble.UserError("Its stream is coded otherwise now than when this page was loaded: load it again.")

// open plays the view's stream that browsers show.
func (rd *reader) open(ctx context.Context) (*rtsp.Conn, rtsp.Track, error) {
	opening, cancel := context.WithTimeout(ctx, openLimit)
	defer cancel()
	of, err := rd.relay.store.SourceByID(opening, rd.source)
	if err != nil {
		return nil, rtsp.Track{}, err
	}
	d := of.Device
	s, err := site.Load(opening, rd.relay.store, d.SiteID, []int64{d.ID})
	if err != nil {
		return nil, rtsp.Track{}, err
	}
	p, err := picked(s, of)
	if err != nil {
		return nil, rtsp.Track{}, err
	}
	login, err := rd.relay.signIn(opening, d, s, purpose)
	if err != nil {
		return nil, rtsp.Track{}, err
	}
	pin, _ := facts.Pin.Of(s, d.ID)
	c, err := rtsp.Open(ctx, rd.relay.dialer.At(*d.Address).Pinned(&pin), p.Best(), login)
	if err != nil {
		return nil, rtsp.Track{}, err
	}
	t, err := c.Describe()
	if err == nil && t.Codec != "H264" && t.Codec != "JPEG" {
		err = ErrNoH264
	}
	if err == nil {
		err = c.Play(t)
	}
	if err != nil {
		c.Close()
		return nil, t, err
	}
	return c, t, nil
}

// picked is the profile of a view that a browser is shown.
func picked(s *site.Snapshot, of site.Source) (stream.Profile, error) {
	f, _ := facts.ForStreams(s, of)
	if p, ok := f.Moves(); ok {
		return p, nil
	}
	if len(f.Profiles) == 0 {
		return stream.Profile{}, trouble.UserError("Its streams weren't read yet.")
	}
	return stream.Profile{}, ErrNoH264
}

// bounded are the parameter sets that are passed on: those of a usual size.
func bounded(sets [][]byte) (out [][]byte) {
	total := 0
	for _, nal := range sets {
		if total += len(nal); len(nal) > maxSet || total > maxSets {
			break
		}
		out = append(out, nal)
	}
	return out
}

// pass passes a packet on to all who look, and keeps it for who comes next.
func (rd *reader) pass(p *rtp.Packet) {
	key, set := begins(p.Payload)
	rd.mu.Lock()
	fresh := len(rd.group) == 0 || rd.group[len(rd.group)-1].Timestamp != p.Timestamp
	if (key || set) && fresh {
		rd.group, rd.bytes = rd.group[:0:0], 0
	}
	var out, sets []*rtp.Packet
	if key && fresh { // a key frame that no parameter set came before: those of the description
		for _, nal := range rd.sets {
			for _, part := range fit(nal) {
				sets = append(sets, &rtp.Packet{Header: rtp.Header{Version: 2, Timestamp: p.Timestamp}, Payload: part})
			}
		}
		rd.group = append(rd.group, sets...) // who comes next needs them
		if now := time.Now(); now.Sub(rd.setsAt) >= setsApart {
			rd.setsAt, out = now, sets
		}
		sets = sets[:len(out)] // those that are among out are kept already
	}
	parts := fit(p.Payload)
	for i, part := range parts {
		out = append(out, &rtp.Packet{Header: rtp.Header{Version: 2, Timestamp: p.Timestamp, Marker: p.Marker && i == len(parts)-1}, Payload: part})
	}
	begun := len(rd.group) > 0 || key || set
	if begun && rd.bytes < maxGroup && len(rd.group) < maxPackets {
		rd.group = append(rd.group, out[len(sets):]...)
		rd.bytes += len(p.Payload)
	}
	all := make([]*viewer, 0, len(rd.viewers))
	for _, v := range rd.viewers {
		all = append(all, v)
	}
	rd.mu.Unlock()
	for _, v := range all {
		v.write(out)
	}
}

// write sends packets to a browser that has what came before.
func (v *viewer) write(out []*rtp.Packet) {
	v.mu.Lock()
	defer v.mu.Unlock()
	if v.on {
		v.send(out)
	}
}

// send numbers packets anew and sends them; v.mu is held. What the camera's way lost stays
// lost: the browser sees that a picture is broken by its missing part, and waits for the next.
func (v *viewer) send(out []*rtp.Packet) {
	for _, p := range out {
		q := *p
		q.SequenceNumber = v.seq
		v.seq++
		_ = v.track.WriteRTP(&q)
	}
}

// begin sends the group so far, from its key frame on.
func (rd *reader) begin(v *viewer) {
	rd.mu.Lock()
	group := slices.Clone(rd.group)
	v.mu.Lock() // before what comes next
	rd.mu.Unlock()
	defer v.mu.Unlock()
	v.on = true
	v.send(group)
}

// meet answers a browser.
func (rd *reader) meet(c store.LiveCall) {
	ctx, cancel := context.WithTimeout(rd.relay.ctx, meetWithin)
	defer cancel()
	answer, err := rd.greet(ctx, c)
	says := ""
	if err != nil {
		says = trouble.Sentence(err)
		rd.drop(c.ID)
	}
	if err := rd.relay.store.AnswerCall(ctx, c.ID, answer, says); err != nil {
		rd.drop(c.ID)
	}
}

func (rd *reader) greet(ctx context.Context, c store.LiveCall) (answer string, err error) {
	defer func() { // an offer that breaks its parser takes nobody along
		if r := recover(); r != nil {
			rd.relay.log.Warn("a browser's offer can't be read", "err", r)
			answer, err = "", errOffer
		}
	}()
	select {
	case <-ctx.Done():
		return "", errSlow
	case <-rd.ready:
	}
	rd.mu.Lock()
	failed := rd.failed
	rd.mu.Unlock()
	if failed != nil {
		return "", failed
	}
	pc, err := rd.relay.api.NewPeerConnection(webrtc.Configuration{})
	if err != nil {
		return "", err
	}
	v := &viewer{call: c.ID, pc: pc}
	rd.mu.Lock()
	codec := rd.codec
	rd.mu.Unlock()
	switch wantsPictures := strings.Contains(c.Offer, "m=application"); {
	case wantsPictures != (codec == "JPEG"):
		_ = pc.Close()
		return "", errAnother
	case wantsPictures:
		pc.OnDataChannel(func(channel *webrtc.DataChannel) { rd.openTo(v, channel) })
	default:
		if v.track, err = webrtc.NewTrackLocalStaticRTP(capability("42e01f"), "picture", "view"); err != nil {
			return "", errors.Join(err, pc.Close())
		}
	}
	if answer, err = negotiate(ctx, v, c.Offer); err != nil {
		_ = pc.Close()
		return "", err
	}
	connected := time.AfterFunc(connectTime, func() { rd.left(c.ID) })
	pc.OnConnectionStateChange(func(s webrtc.PeerConnectionState) {
		switch s {
		case webrtc.PeerConnectionStateConnected:
			connected.Stop()
			if v.track != nil {
				rd.begin(v)
			}
		case webrtc.PeerConnectionStateFailed, webrtc.PeerConnectionStateClosed, webrtc.PeerConnectionStateDisconnected:
			connected.Stop()
			go rd.left(c.ID)
		}
	})
	rd.mu.Lock()
	rd.viewers[c.ID], rd.empty = v, time.Time{}
	rd.mu.Unlock()
	return answer, nil
}

// negotiate answers an offer, whole: no candidate comes later.
func negotiate(ctx context.Context, v *viewer, offer string) (string, error) {
	if err := v.pc.SetRemoteDescription(webrtc.SessionDescription{Type: webrtc.SDPTypeOffer, SDP: offer}); err != nil {
		return "", errOffer
	}
	if v.track == nil {
		return described(ctx, v.pc)
	}
	sender, err := v.pc.AddTrack(v.track)
	if err != nil {
		return "", err
	}
	go discard(sender)
	return described(ctx, v.pc)
}

// described is the whole answer of a connection that has the offer.
func described(ctx context.Context, pc *webrtc.PeerConnection) (string, error) {
	answer, err := pc.CreateAnswer(nil)
	if err != nil {
		return "", errOffer
	}
	whole := webrtc.GatheringCompletePromise(pc)
	if err := pc.SetLocalDescription(answer); err != nil {
		return "", err
	}
	select {
	case <-whole:
	case <-ctx.Done():
		return "", errSlow
	}
	return pc.LocalDescription().SDP, nil
}
