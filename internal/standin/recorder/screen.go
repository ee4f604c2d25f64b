package recorder

import (
	"errors"
	"fmt"
	"html/template"
	"io"
	"net/http"
	"net/netip"
	"slices"
	"strconv"
	"time"

	"duskyharbor/internal/standin/wire"
)

// ScreenPort is where a recorder without an interface shows its own screen.
const ScreenPort = 8080

// screen is a recorder whose only way in is its own screen: pages that a person types into, and the
// picture of each channel.
func (r *Recorder) screen() error {
	l, err := wire.Listen(r.ctx, netip.AddrPortFrom(r.cfg.Address, ScreenPort).String())
	if err != nil {
		r.stop()
		return err
	}
	mux := http.NewServeMux()
	mux.HandleFunc("GET /favicon.ico", func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(http.StatusNoContent) })
	title := "<!doctype html><html lang=en><title>" + wire.Esc(r.cfg.Make+" "+r.cfg.Model) + "</title>"
	mux.HandleFunc("GET /{$}", func(w http.ResponseWriter, q *http.Request) {
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		_, _ = io.WriteString(w, title+`<h1>`+wire.Esc(r.cfg.Model)+`</h1><p>This recorder is set up at its own screen. <a href="/setup">Set it up</a>`)
	})
	signed := func(pattern string, h http.HandlerFunc) {
		mux.HandleFunc(pattern, func(w http.ResponseWriter, q *http.Request) {
			if _, v := r.digest.Check(q.Header.Get("Authorization"), q.Method); v != wire.Right {
				w.Header().Set("WWW-Authenticate", r.digest.Challenge(true))
				http.Error(w, "sign in", http.StatusUnauthorized)
				return
			}
			h(w, q)
		})
	}
	signed("GET /setup", func(w http.ResponseWriter, q *http.Request) { r.shown(w, title, "") })
	signed("POST /setup", func(w http.ResponseWriter, q *http.Request) { r.shown(w, title, r.typed(q)) })
	signed("GET /picture/{n}", r.channelPicture)
	srv := &http.Server{ReadHeaderTimeout: 10 * time.Second, Handler: http.MaxBytesHandler(mux, 64<<10), ErrorLog: wire.Silent}
	r.run(func() {
		if err := srv.Serve(l); !errors.Is(err, http.ErrServerClosed) {
			r.stop()
		}
	})
	r.run(func() { <-r.ctx.Done(); _ = srv.Close() })
	r.mu.Lock()
	for _, p := range r.mem.Channels {
		r.begin(p)
	}
	r.mu.Unlock()
	r.run(r.keep)
	return nil
}

var setup = template.Must(template.New("").Parse(`<h1>Channels</h1>{{ with .Says }}<p id="says">{{ . }}{{ end }}
<table>{{ range .Rows }}<tr><td>{{ .Number }}<td>{{ .Name }}<td>{{ .Address }}<td>{{ .State }}{{ end }}</table>
<h2>Add a camera</h2><form method="post" action="/setup">
<label>Channel <input name="number"></label> <label>Name <input name="name"></label> <label>Address <input name="address"></label>
<label>ONVIF port <input name="port"></label> <label>User <input name="user"></label> <label>Password <input name="password" type="password"></label>
<label>Profile <input name="profile"></label> <button>Save</button></form>`))

func (r *Recorder) shown(w http.ResponseWriter, title, says string) {
	type row struct {
		Number               int
		Name, Address, State string
	}
	var rows []row
	r.mu.Lock()
	for n, p := range r.mem.Channels {
		rows = append(rows, row{n, p.Name, p.Address, r.live[n].slot().State})
	}
	r.mu.Unlock()
	slices.SortFunc(rows, func(a, b row) int { return a.Number - b.Number })
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	_, _ = io.WriteString(w, title)
	_ = setup.Execute(w, map[string]any{"Says": says, "Rows": rows})
}

// typed takes what a person typed of one camera, and says how that went.
func (r *Recorder) typed(q *http.Request) string {
	n, err := strconv.Atoi(q.FormValue("number"))
	port, err2 := strconv.Atoi(q.FormValue("port"))
	if err != nil || n < 1 || n > r.cfg.Limits.Channels {
		return fmt.Sprintf("There are channels 1 to %d.", r.cfg.Limits.Channels)
	}
	at, err := netip.ParseAddr(q.FormValue("address"))
	if err != nil || err2 != nil || port < 1 || port > 65535 || q.FormValue("name") == "" {
		return "Type a name, an address and a port."
	}
	p := placed{Number: n, Name: q.FormValue("name"), Address: at.String(), Service: fmt.Sprintf("http://%s:%d/onvif/device_service", at, port),
		Username: q.FormValue("user"), Password: q.FormValue("password"), Profile: q.FormValue("profile"), Inputs: map[string][]string{}, Way: ONVIF}
	r.mu.Lock()
	if old := r.live[n]; old != nil {
		old.stop()
	}
	r.mem.Channels[n] = &p
	_ = wire.Save(r.cfg.StateFile, r.mem)
	r.begin(&p)
	w := r.live[n]
	r.mu.Unlock()
	w.firstWord(q.Context())
	return fmt.Sprintf("Channel %d is saved: %s.", n, w.slot().State)
}

func (r *Recorder) channelPicture(w http.ResponseWriter, q *http.Request) {
	n, err := strconv.Atoi(q.PathValue("n"))
	r.mu.Lock()
	wk := r.live[n]
	r.mu.Unlock()
	if err != nil || wk == nil || wk.picture() == nil {
		http.Error(w, "no picture", http.StatusNotFound)
		return
	}
	w.Header().Set("Content-Type", "image/jpeg")
	_, _ = w.Write(wk.picture())
}
