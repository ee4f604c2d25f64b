package shell

import (
	"context"
	"fmt"
	"log/slog"
	"net/http"
	"strconv"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/labstack/echo/v5"

	"duskyharbor/internal/store"
)

const (
	// rememberMost is how many events are remembered for pages that come a moment after
	// they happened.
	rememberMost = 1024
	// overlap is how much longer before a page was made its missed events may have been
	// told: what a page reads, it reads over some time.
	overlap = 2 * time.Second
	// hearFor is how long a page waits until the database is heard, before it comes back and waits anew.
	hearFor = 20 * time.Second
)

// told is an event with when it was heard.
type told struct {
	at time.Time
	store.Event
}

// hub hears the database's notifications on one connection and fans them out to the
// open pages. It remembers the last ones, so that a page misses none between the moment
// it was made and the one it listens.
type hub struct {
	store     *store.Store
	log       *slog.Logger
	stop      context.CancelFunc
	done      chan struct{}
	mu        sync.Mutex
	past      []told
	since     time.Time     // from when on past is whole
	listening chan struct{} // closed while the database is heard
	listeners map[*listener]bool
}

// listener is one open page.
type listener struct {
	site   int64
	events chan store.Event // closed where it missed one
}

func newHub(st *store.Store, log *slog.Logger) *hub {
	ctx, stop := context.WithCancel(context.Background())
	h := &hub{store: st, log: log, stop: stop, done: make(chan struct{}), listeners: map[*listener]bool{}, listening: make(chan struct{})}
	go h.run(ctx)
	return h
}

func (h *hub) close() {
	h.stop()
	<-h.done
}

func (h *hub) run(ctx context.Context) {
	defer close(h.done)
	for ctx.Err() == nil {
		if err := h.listen(ctx); err != nil && ctx.Err() == nil {
			h.log.Warn("the live connection to the database broke; it is made again", "err", err)
		}
		// Pages come back and read everything again, so nothing is missed.
		h.mu.Lock()
		h.past = nil
		if !h.since.IsZero() {
			h.since, h.listening = time.Time{}, make(chan struct{})
		}
		for l := range h.listeners {
			h.drop(l)
		}
		h.mu.Unlock()
		select {
		case <-ctx.Done():
		case <-time.After(time.Second):
		}
	}
}

func (h *hub) listen(ctx context.Context) error {
	conn, err := pgx.ConnectConfig(ctx, h.store.Pool.Config().ConnConfig.Copy())
	if err != nil {
		return err
	}
	defer conn.Close(context.WithoutCancel(ctx))
	if _, err := conn.Exec(ctx, "listen "+store.Channel); err != nil {
		return err
	}
	h.heard()
	for {
		n, err := conn.WaitForNotification(ctx)
		if err != nil {
			return err
		}
		if e, ok := store.ParseEvent(n.Payload); ok {
			h.tell(told{time.Now(), e})
		}
	}
}

// heard says that the database is heard from now on.
func (h *hub) heard() {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.since = time.Now()
	close(h.listening)
}

// tell remembers an event and passes it on.
func (h *hub) tell(e told) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.past = append(h.past, e); len(h.past) > rememberMost {
		h.since = h.past[len(h.past)-rememberMost-1].at
		h.past = append([]told(nil), h.past[len(h.past)-rememberMost:]...)
	}
	for l := range h.listeners {
		if l.site != e.Site {
			continue
		}
		select {
		case l.events <- e.Event:
		default: // it doesn't keep up: it comes back and reads everything again
			h.drop(l)
		}
	}
}

// drop ends a listener; h.mu is held.
func (h *hub) drop(l *listener) {
	if h.listeners[l] {
		delete(h.listeners, l)
		close(l.events)
	}
}

// hear opens a listener once the database is heard, and tells what a page missed that was made at made; whole is
// false where that isn't known. It fails where ctx ends first: whoever is told to be in touch is.
func (h *hub) hear(ctx context.Context, site int64, made time.Time) (l *listener, missed []store.Event, whole bool, err error) {
	h.mu.Lock()
	defer h.mu.Unlock()
	for h.since.IsZero() {
		listening := h.listening
		h.mu.Unlock()
		select {
		case <-listening:
		case <-ctx.Done():
		}
		h.mu.Lock()
		if err := ctx.Err(); err != nil {
			return nil, nil, false, err
		}
	}
	l = &listener{site, make(chan store.Event, 256)}
	h.listeners[l] = true
	seen := map[store.Event]bool{}
	for _, e := range h.past {
		if e.Site == site && e.at.After(made.Add(-overlap)) && !seen[e.Event] {
			seen[e.Event] = true
			missed = append(missed, e.Event)
		}
	}
	return l, missed, !made.Before(h.since), nil
}

func (h *hub) leave(l *listener) {
	h.mu.Lock()
	h.drop(l)
	h.mu.Unlock()
}

// live tells a page what of its site changes, and with every beat that it is still heard. A
// page says when it was made; one that comes back, what it heard last. It ends with the
// sign-in, and with the person's place on the site.
func (s *Server) live(c *echo.Context) error {
	ctx, site := c.Request().Context(), VisitorOf(c).Member.ID
	signIn := s.SignInOf(ctx)
	return s.tell(c, site, func() (bool, error) { return s.Store.SignInStands(ctx, signIn, site) })
}

// ProgramEvents tells a program what of its site changes, until its token ends.
func (s *Server) ProgramEvents(c *echo.Context) error {
	t := TokenOf(c)
	return s.tell(c, t.SiteID, func() (bool, error) { return s.Store.TokenStands(c.Request().Context(), t.ID) })
}

// tell tells what of a site changes, and with every beat that it is still heard, as long as who hears it stands.
func (s *Server) tell(c *echo.Context, site int64, stands func() (bool, error)) error {
	made := c.QueryParam("since")
	if last := c.Request().Header.Get("Last-Event-ID"); last != "" {
		made = last
	}
	micro, err := strconv.ParseInt(made, 10, 64)
	if err != nil {
		micro = 0
	}
	w := c.Response()
	w.Header().Set("Content-Type", "text/event-stream")
	w.Header().Set("Cache-Control", "no-store")
	ctx, cancel := context.WithTimeout(c.Request().Context(), hearFor)
	l, missed, whole, err := s.hub.hear(ctx, site, time.UnixMicro(micro))
	cancel()
	if err != nil {
		return c.NoContent(http.StatusOK) // it comes back by itself
	}
	defer s.hub.leave(l)
	rc := http.NewResponseController(w)
	say := func(event, data string) error {
		// A page that takes nothing for so long is gone, or comes back.
		if err := rc.SetWriteDeadline(time.Now().Add(20 * time.Second)); err != nil {
			return err
		}
		_, err := fmt.Fprintf(w, "id: %d\nevent: %s\ndata: %s\n\n", time.Now().UnixMicro(), event, data)
		return err
	}
	changed := func(e store.Event) error { return say("changed", fmt.Sprintf("%s:%d", e.Topic, e.ID)) }
	if err := say("hello", "-"); err != nil {
		return nil
	}
	if !whole {
		err = say("all", "-")
	}
	for _, e := range missed {
		if whole && err == nil {
			err = changed(e)
		}
	}
	beat := time.NewTicker(s.opt.Beat)
	defer beat.Stop()
	for err == nil {
		if err = rc.Flush(); err != nil {
			break
		}
		select {
		case <-c.Request().Context().Done():
			return nil
		case e, ok := <-l.events:
			if !ok {
				return nil // it comes back by itself, and reads everything again
			}
			err = changed(e)
			for more := true; more && err == nil; { // what waits goes with it
				select {
				case e, ok := <-l.events:
					if !ok {
						return nil
					}
					err = changed(e)
				default:
					more = false
				}
			}
		case <-beat.C:
			still, serr := stands()
			if serr == nil && !still {
				return nil // whoever comes back is asked to sign in
			}
			err = say("beat", "-")
		}
	}
	return nil
}
