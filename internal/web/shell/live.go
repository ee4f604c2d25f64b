package shell

import (
	"context"
	"fmt"
	"log/slog"
	"net/http"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/labstack/echo/v5"

	"duskyharbor/internal/store"
)

// hub hears the database's notifications on one connection and fans them out to the
// open pages.
type hub struct {
	store     *store.Store
	log       *slog.Logger
	stop      context.CancelFunc
	done      chan struct{}
	mu        sync.Mutex
	listeners map[chan struct{}]string // → site
}

func newHub(st *store.Store, log *slog.Logger) *hub {
	ctx, stop := context.WithCancel(context.Background())
	h := &hub{store: st, log: log, stop: stop, done: make(chan struct{}), listeners: map[chan struct{}]string{}}
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
		// Pages read everything again when they come back, so nothing is missed.
		h.mu.Lock()
		for listener := range h.listeners {
			close(listener)
			delete(h.listeners, listener)
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
	for {
		n, err := conn.WaitForNotification(ctx)
		if err != nil {
			return err
		}
		h.mu.Lock()
		for listener, site := range h.listeners {
			if site == n.Payload {
				select {
				case listener <- struct{}{}:
				default: // it has one to read already
				}
			}
		}
		h.mu.Unlock()
	}
}

func (h *hub) hear(site string) (listener chan struct{}, leave func()) {
	listener = make(chan struct{}, 1)
	h.mu.Lock()
	h.listeners[listener] = site
	h.mu.Unlock()
	return listener, func() {
		h.mu.Lock()
		delete(h.listeners, listener)
		h.mu.Unlock()
	}
}

// live tells a page that its site changed, and every 15 s that it is still heard.
func (s *Server) live(c *echo.Context) error {
	listener, leave := s.hub.hear(c.Param("site"))
	defer leave()
	w := c.Response()
	w.Header().Set("Content-Type", "text/event-stream")
	w.Header().Set("Cache-Control", "no-store")
	rc := http.NewResponseController(w)
	if err := rc.SetWriteDeadline(time.Time{}); err != nil {
		return err
	}
	beat := time.NewTicker(15 * time.Second)
	defer beat.Stop()
	say := func(event string) error {
		if _, err := fmt.Fprintf(w, "event: %s\ndata: %d\n\n", event, time.Now().UnixMilli()); err != nil {
			return err
		}
		return rc.Flush()
	}
	if say("hello") != nil {
		return nil
	}
	for {
		select {
		case <-c.Request().Context().Done():
			return nil
		case _, ok := <-listener:
			if !ok || say("changed") != nil {
				return nil
			}
		case <-beat.C:
			if say("beat") != nil {
				return nil
			}
		}
	}
}
