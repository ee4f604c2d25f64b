package recorder

import (
	"context"
	"fmt"
	"io"
	"maps"
	"net/http"
	"net/netip"
	"net/url"
	"slices"
	"strconv"
	"sync"
	"time"

	"github.com/icholy/digest"

	"duskyharbor/internal/device/dial"
	"duskyharbor/internal/device/onvif"
	"duskyharbor/internal/device/rtsp"
)

// retry is how long a channel waits after it was refused or lost its camera.
const retry = 4 * time.Second

// worker is the part of a recorder that holds one camera.
type worker struct {
	r      *Recorder
	p      placed
	ctx    context.Context
	cancel context.CancelFunc

	mu       sync.Mutex
	state    slot
	jpeg     []byte
	spoken   chan struct{} // closed when the first verdict is known
	once     sync.Once
	pegs     map[string][]string // input → topics
	pegged   chan struct{}       // told when pegs change
	refusals []time.Time         // sign-ins that were refused
	view     shows               // what its profile shows; nothing until it was read

	coming  second           // this second, not over yet
	sent    []second         // the last ones, the oldest first, at most lineLength
	going   map[string]uint8 // what goes on, by event: its bit among causes
	keyUnit bool             // the picture that comes is a key frame
	viewer  context.CancelFunc
	raw     packets // of this second
	track   *rtsp.Track
	taps    map[chan []byte]bool
}

// lineLength is of how many seconds it remembers what came.
const lineLength = 60

func newWorker(r *Recorder, p placed) *worker {
	w := &worker{r: r, p: p, spoken: make(chan struct{}), pegs: maps.Clone(p.Inputs), pegged: make(chan struct{}, 1)}
	w.ctx, w.cancel = context.WithCancel(r.ctx)
	w.state = slot{State: "connecting", Detail: "signing in", Events: "not asked"}
	w.going, w.taps = map[string]uint8{}, map[chan []byte]bool{}
	return w
}

// second takes what came since it was asked for the last time; ok is false while nothing comes.
func (w *worker) second() (s second, raw packets, ok bool) {
	w.mu.Lock()
	defer w.mu.Unlock()
	s, w.coming = w.coming, second{viewing: w.coming.viewing}
	raw, w.raw = w.raw, packets{}
	for _, bit := range w.going {
		s.on |= bit
	}
	if w.state.State != receiving {
		return s, raw, false
	}
	if w.sent = append(w.sent, s); len(w.sent) > lineLength {
		w.sent = w.sent[1:]
	}
	return s, raw, true
}

// line is what came in the last minute, second by second.
func (w *worker) line() []second {
	if w == nil {
		return nil
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	return slices.Clone(w.sent)
}

func (w *worker) stop() { w.cancel() }

func (w *worker) slot() slot {
	if w == nil {
		return slot{}
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	s := w.state
	s.HasStill = w.jpeg != nil
	for _, t := range w.refusals {
		if time.Since(t) < 30*time.Minute {
			s.Refused++
		}
	}
	return s
}

func (w *worker) picture() []byte {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.jpeg
}

func (w *worker) set(f func(s *slot)) {
	now := w.r.Now().UTC()
	w.mu.Lock()
	defer w.mu.Unlock()
	was := w.state.State
	f(&w.state)
	if w.state.State != was || w.state.Since.IsZero() {
		w.state.Since = now
	}
}

// firstWord waits until the channel knows whether it receives, at most 10 s.
func (w *worker) firstWord(ctx context.Context) {
	if w.r.slow() > 0 { // it answers before it has begun
		return
	}
	select {
	case <-w.spoken:
	case <-ctx.Done():
	case <-time.After(10 * time.Second):
	}
}

func (w *worker) listenTo(pegs map[string][]string) {
	w.mu.Lock()
	w.pegs = maps.Clone(pegs)
	w.mu.Unlock()
	select {
	case w.pegged <- struct{}{}:
	default:
	}
}

func (w *worker) wants() map[string][]string {
	w.mu.Lock()
	defer w.mu.Unlock()
	out := map[string][]string{}
	for in, topics := range w.pegs {
		if len(topics) > 0 {
			out[in] = topics
		}
	}
	return out
}

func (w *worker) run() {
	if w.p.Paused {
		w.set(func(s *slot) { s.State, s.Detail = "paused", "it doesn't sign in until it is resumed" })
		w.once.Do(func() { close(w.spoken) })
		return
	}
	go w.hear()
	pause(w.ctx, w.r.slow())
	for w.ctx.Err() == nil {
		err := w.hold()
		if w.ctx.Err() != nil {
			return
		}
		clock := w.r.Now().UTC().Format("15:04:05")
		w.set(func(s *slot) {
			s.State, s.FPS, s.Kbps = "lost", 0, 0
			if refused(err) {
				s.State = "refused"
				w.refusals = append(w.refusals, time.Now())
			}
			s.Detail = err.Error() + " (by this recorder's clock " + clock + " UTC)"
		})
		w.once.Do(func() { close(w.spoken) })
		pause(w.ctx, retry)
	}
}

func refused(err error) bool {
	de, ok := err.(*dial.Error)
	return ok && de.Kind == dial.ErrNotAuthorised
}

func pause(ctx context.Context, d time.Duration) {
	select {
	case <-ctx.Done():
	case <-time.After(d):
	}
}

// client signs in as this recorder does: a token with its own clock.
func (w *worker) client() (*onvif.Client, dial.Host, error) {
	addr, err := netip.ParseAddr(w.p.Address)
	if err != nil {
		return nil, dial.Host{}, fmt.Errorf("its address is none: %.40q", w.p.Address)
	}
	host := w.r.dialer.At(addr)
	c, err := onvif.New(host, w.p.Service, onvif.Login{Username: w.p.Username, Password: w.p.Password,
		Scheme: "WS-UsernameToken", Ahead: time.Until(w.r.Now())})
	return c, host, err
}

// hold signs in and receives until something breaks.
func (w *worker) hold() error {
	if w.p.URI != "" {
		return w.byAddress()
	}
	c, host, err := w.client()
	if err != nil {
		return err
	}
	defer c.Close()
	at, err := profileOf(w.ctx, c, w.p.Profile)
	if err != nil {
		return err
	}
	if !slices.Contains(w.r.cfg.Limits.Codecs, at.codec) {
		return fmt.Errorf("the profile is %s, this recorder takes others", at.codec)
	}
	if err := w.knows(c); err != nil {
		return err
	}
	w.mu.Lock()
	w.view = at.view
	w.mu.Unlock()
	go w.stills(host, at.snapshot)
	return w.receive(host, at.uri)
}

// profile is what a camera says of the profile that is taken.
type profile struct {
	codec, uri, snapshot string
	view                 shows
}

// profileOf reads a profile by its token, and where its stream and its still are.
func profileOf(ctx context.Context, c *onvif.Client, token string) (profile, error) {
	services, _, err := c.Services(ctx)
	if err != nil {
		return profile{}, err
	}
	profiles, err := c.Profiles(ctx, services)
	if err != nil {
		return profile{}, err
	}
	var all []tokens
	i := -1
	for k, p := range profiles {
		if all = append(all, tokens{p.Source, p.SourceConfig}); p.Token == token && i < 0 {
			i = k
		}
	}
	if i < 0 {
		return profile{}, fmt.Errorf("the camera has no profile %q any more", token)
	}
	p := &profiles[i]
	if err := c.Addresses(ctx, services, p); err != nil {
		return profile{}, err
	}
	return profile{p.Codec, p.URI, p.Snapshot, viewOf(all, all[i])}, nil
}

// knows reads the camera's firmware; taken as a model of its list it must be that one.
func (w *worker) knows(c *onvif.Client) error {
	if len(w.r.cfg.Limits.Ways) == 0 {
		return nil
	}
	info, err := c.Information(w.ctx)
	if err != nil {
		return err
	}
	if w.p.way() == Native && (info.Make != w.p.Make || info.Model != w.p.Model) {
		return fmt.Errorf("it was taken as %s %s, and says that it is %s %s", w.p.Make, w.p.Model, info.Make, info.Model)
	}
	w.set(func(s *slot) { s.Firmware = info.Firmware })
	return nil
}

// byAddress receives a camera without ONVIF: video, and nothing else of it.
func (w *worker) byAddress() error {
	addr, err := netip.ParseAddr(w.p.Address)
	if err != nil {
		return fmt.Errorf("its address is none: %.40q", w.p.Address)
	}
	w.set(func(s *slot) { s.Events = "none: it is taken by its stream's address" })
	return w.receive(w.r.dialer.At(addr), w.p.URI)
}

func (w *worker) receive(host dial.Host, uri string) error {
	conn, err := rtsp.Open(w.ctx, host, uri, rtsp.Login{Username: w.p.Username, Password: w.p.Password})
	if err != nil {
		return err
	}
	defer conn.Close()
	track, err := conn.Describe()
	if err != nil {
		return err
	}
	if !slices.Contains(w.r.cfg.Limits.Codecs, track.Codec) {
		return fmt.Errorf("the stream is %s, this recorder takes others", track.Codec)
	}
	if err := conn.Play(track); err != nil {
		return err
	}
	w.set(func(s *slot) {
		s.Over = "RTSP over TCP"
		if u, err := url.Parse(uri); err == nil {
			s.Port, _ = strconv.Atoi(u.Port())
		}
	})
	w.replan()
	m := &rtsp.Meter{Track: track}
	begun, alive, packets := time.Now(), time.Now(), 0
	for {
		raw, err := conn.Packet()
		if err != nil {
			return err
		}
		now := time.Now()
		m.Add(raw, now)
		packets++
		w.count(track, raw)
		w.give(&track, raw)
		if now.Sub(begun) >= 2200*time.Millisecond { // two whole groups of pictures
			w.received(m, packets)
			m, begun, packets = &rtsp.Meter{Track: track}, now, 0
		}
		if now.Sub(alive) > 20*time.Second {
			alive = now
			if err := conn.KeepAlive(); err != nil {
				return err
			}
		}
	}
}

// received reports the last two seconds: what its packets carried.
func (w *worker) received(m *rtsp.Meter, packets int) {
	got, skew := m.Result(), time.Until(w.r.Now())
	w.set(func(s *slot) {
		s.State, s.Detail = "receiving", "since it signed in with its own clock"
		s.Codec, s.FPS, s.Kbps = got.Codec, got.FPS, got.MeanKbps
		s.Lost = float64(got.Lost) / float64(max(1, got.Lost+packets))
		if got.Width > 0 {
			s.Width, s.Height = got.Width, got.Height
		}
		if !m.LastKey().IsZero() {
			s.LastKey = m.LastKey().Add(skew).UTC()
		}
	})
	w.once.Do(func() { close(w.spoken) })
}

// stills fetches a picture now and every ten seconds while the camera is held.
func (w *worker) stills(host dial.Host, uri string) {
	if uri == "" {
		return
	}
	base := host.Client(new(string))
	client := &http.Client{Timeout: 8 * time.Second, CheckRedirect: base.CheckRedirect,
		Transport: &digest.Transport{Username: w.p.Username, Password: w.p.Password, Transport: base.Transport}}
	for w.ctx.Err() == nil {
		if req, err := http.NewRequestWithContext(w.ctx, http.MethodGet, uri, nil); err == nil {
			if res, err := client.Do(req); err == nil {
				data, err := io.ReadAll(io.LimitReader(res.Body, 4<<20))
				_ = res.Body.Close()
				if err == nil && res.StatusCode == http.StatusOK {
					w.mu.Lock()
					w.jpeg = data
					w.mu.Unlock()
				}
			}
		}
		pause(w.ctx, 10*time.Second)
		if w.slot().State != "receiving" {
			return
		}
	}
}
