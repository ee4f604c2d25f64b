package demo

import (
	"context"
	"encoding/json"
	"net/http"
	"time"

	"duskyharbor/internal/standin/camera"
	"duskyharbor/internal/standin/wire"
)

// Cabinet is where the cables of the stand-in cameras are: `POST /unplug?place=Slipway` takes one off its network as if its
// cable were pulled, `POST /plug?place=Slipway` puts it on again, and `GET /` tells which are unplugged.
func (n Net) Cabinet() string { return n.At(".0.1").String() + ":8099" }

// Cables serves the cabinet of a fleet until ctx ends.
func (f *Fleet) Cables(ctx context.Context, n Net) error {
	l, err := wire.Listen(ctx, n.Cabinet())
	if err != nil {
		return err
	}
	srv := &http.Server{Handler: f.cables(), ReadHeaderTimeout: 10 * time.Second, ErrorLog: wire.Silent}
	go func() { _ = srv.Serve(l) }()
	go func() { <-ctx.Done(); _ = srv.Close() }()
	return nil
}

func (f *Fleet) cables() http.Handler {
	mux := http.NewServeMux()
	of := func(do func(*camera.Camera) error) http.HandlerFunc {
		return func(w http.ResponseWriter, r *http.Request) {
			c := f.Camera(r.URL.Query().Get("place"))
			if c == nil {
				http.Error(w, "No camera stands at that place: name one as /unplug?place=Slipway.", http.StatusNotFound)
				return
			}
			if err := do(c); err != nil {
				http.Error(w, err.Error(), http.StatusConflict)
				return
			}
			w.WriteHeader(http.StatusNoContent)
		}
	}
	mux.HandleFunc("POST /unplug", of(func(c *camera.Camera) error { c.Unplug(); return nil }))
	mux.HandleFunc("POST /plug", of((*camera.Camera).Plug))
	mux.HandleFunc("GET /{$}", func(w http.ResponseWriter, _ *http.Request) {
		unplugged := []string{}
		for _, c := range f.Cameras {
			if !c.Plugged() {
				unplugged = append(unplugged, c.Config().Place)
			}
		}
		w.Header().Set("Content-Type", "application/json")
		_ = json.NewEncoder(w).Encode(map[string][]string{"unplugged": unplugged})
	})
	return mux
}
