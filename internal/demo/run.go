package demo

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"syscall"
	"time"

	"duskyharbor/internal/pgserver"
	"duskyharbor/internal/standin/camera"
	"duskyharbor/internal/standin/footage"
	"duskyharbor/internal/standin/recorder"
	"duskyharbor/internal/standin/vms"
	"duskyharbor/internal/store"
	"duskyharbor/internal/vault"
)

// Device is one stand-in as the standins command tells of it.
type Device struct {
	Kind     string         `json:"kind"`
	Place    string         `json:"place"`
	Make     string         `json:"make"`
	Model    string         `json:"model"`
	Address  string         `json:"address"`
	HTTPPort int            `json:"http_port"`
	RTSPPort int            `json:"rtsp_port"`
	Username string         `json:"username"`
	Password string         `json:"password"`
	Streams  []DeviceStream `json:"streams"`
	Faults   []string       `json:"faults"`
}

// DeviceStream is one stream of a stand-in camera.
type DeviceStream struct {
	URI    string  `json:"uri"`
	Codec  string  `json:"codec"`
	Width  int     `json:"width"`
	Height int     `json:"height"`
	FPS    float64 `json:"fps"`
}

// Describe lists the stand-ins with what is planted in them.
func Describe(n Net, s Secrets, bulk int) []Device {
	var out []Device
	for _, c := range append(Cameras(n, s, ""), BulkCameras(n, s, "", bulk)...) {
		d := Device{Kind: "camera", Place: c.Place, Make: c.Make, Model: c.Model, Address: c.Address.String(),
			HTTPPort: camera.HTTPPort, RTSPPort: camera.RTSPPort, Username: c.Username, Password: c.Password, Faults: []string{}}
		for _, sub := range []bool{false, true} {
			w, h := footage.Size(sub)
			name := "main"
			if sub {
				name = "sub"
			}
			d.Streams = append(d.Streams, DeviceStream{fmt.Sprintf("rtsp://%s:%d/%s", c.Address, camera.RTSPPort, name),
				"H264", w, h, footage.FPS})
		}
		if c.Skew != 0 {
			d.Faults = append(d.Faults, fmt.Sprintf("clock %+.0f s, set by hand", c.Skew.Seconds()))
		}
		if !c.Daylight {
			d.Faults = append(d.Faults, "daylight rule off")
		}
		d.Faults = append(d.Faults, faults(c)...)
		out = append(out, d)
	}
	for _, r := range Recorders(n, s, "") {
		out = append(out, Device{Kind: "recorder", Place: r.Place, Make: r.Make, Model: r.Model,
			Address: r.Address.String(), HTTPPort: recorder.Port, Username: r.Username, Password: r.Password, Streams: []DeviceStream{}, Faults: []string{}})
	}
	d := Desk(n, s, "")
	return append(out, Device{Kind: "recorder", Place: d.Place, Make: d.Make, Model: d.Model, Address: d.Address.String(), HTTPPort: vms.Port,
		RTSPPort: vms.ReplayPort, Username: d.Username, Password: d.Password, Streams: []DeviceStream{}, Faults: []string{"nobody told the site of it"}})
}

// faults words what is planted in a camera besides its clock.
func faults(c camera.Config) []string {
	var out []string
	m := c.Manners
	for _, f := range []struct {
		so   bool
		says string
	}{{!c.TakesDigest && !c.TakesBasic, "WS-UsernameToken only"}, {c.TakesBasic && !c.TakesDigest,
		"Basic only"}, {c.Username == "", "no first password"}, {m.Strict, "complexity rule"}, {m.LockAfter > 0, "locks after wrong sign-ins"},
		{m.WebOnly, "web account without an ONVIF account"}, {m.Media1, "Media ver10 only"}, {m.TLS,
			"HTTPS, self-signed"}, {m.RTSPOnly, "RTSP only"}, {m.NoONVIF, "ONVIF switched off"}, {m.NoDirected, "ignores directed probes"},
		{m.Silent, "discovery switched off"}, {m.Twice, "answers every probe twice"}, {m.Slow > 0,
			"slow"}, {m.Dialect > 0, "another XML dialect"}, {m.OldPage, "its page wants a plug-in"}, {m.Shadow != "", "a second device on its address"},
		{m.DriftPPM != 0, "its clock drifts"}, {len(m.NTPServers) > 0,
			"its NTP server isn't there"}, {m.DateOrder != "", "burns in " + m.DateOrder}, {m.GivesHost != "", "gives addresses of another network"}, {len(m.Sources) > 1, "several video sources"},
		{m.Behind.IsValid(), "behind a recorder's port"}, {m.MaskBits != 0, "wrong mask"}, {m.Gateway != "", "wrong gateway"}} {
		if f.so {
			out = append(out, f.says)
		}
	}
	return out
}

// Options of Run.
type Options struct {
	Program string // this program, started again for each part
	Data    string
	Listen  string
	Net     Net
	Bulk    int // cameras beside the scenario's, for load
	JSON    bool
}

// Run starts database, stand-ins and server as processes of their own, seeds the
// site and watches them until ctx ends. A part that dies is started again.
func Run(ctx context.Context, o Options, out io.Writer) error {
	if err := o.Net.Check(); err != nil {
		return err
	}
	data, err := filepath.Abs(o.Data)
	if err != nil {
		return err
	}
	release, err := pgserver.Hold(data)
	if err != nil {
		return err
	}
	defer release()
	if err := ours(data); err != nil {
		return err
	}
	if err := free(ctx, o.Listen); err != nil {
		return err
	}
	secrets, err := LoadSecrets(data)
	if err != nil {
		return err
	}
	pg, err := pgserver.Start(ctx, pgserver.Options{Dir: pgserver.Place(data)})
	if err != nil {
		return err
	}
	defer func() { pg.Stop() }()
	key := filepath.Join(data, "vault.key")
	if err := prepare(ctx, pg.DSN, key, o, secrets); err != nil {
		return err
	}
	ctx, cancel := context.WithCancel(ctx)
	ended := make(chan struct{}, 2)
	defer func() {
		cancel()
		<-ended
		<-ended
	}()
	log, err := os.OpenFile(filepath.Join(data, "server.log"), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	defer log.Close()
	if err := forgetFleet(data); err != nil {
		return err
	}
	go func() {
		keep(ctx, log, nil, o.Program, "standins", "--net", string(o.Net), "--data", data, "--bulk", fmt.Sprint(o.Bulk))
		ended <- struct{}{}
	}()
	go func() {
		keep(ctx, log, []string{"DUSKYHARBOR_DSN=" + pg.DSN, "DUSKYHARBOR_KEY=" + key}, o.Program, "serve", "--listen", o.Listen, "--dial-within", "127.0.0.0/8")
		ended <- struct{}{}
	}()
	url := "http://" + o.Listen
	failed, err := ready(ctx, url, data)
	if err != nil {
		return fmt.Errorf("%w; see %s", err, filepath.Join(o.Data, "server.log"))
	}
	if err := announce(out, o.JSON, url, secrets, failed); err != nil {
		return err
	}
	select {
	case <-ctx.Done():
		return nil
	case <-pg.Done():
		return errors.New("the database ended; start the demo again, it keeps its data")
	}
}

// free waits until an address can be listened at: the server of a demo that was
// just killed may linger for some seconds.
func free(ctx context.Context, listen string) error {
	for end := time.Now().Add(10 * time.Second); ; {
		l, err := net.Listen("tcp", listen)
		if err == nil {
			return l.Close()
		}
		if !errors.Is(err, syscall.EADDRINUSE) {
			return fmt.Errorf("the pages can't be served at %s: %w", listen, err)
		}
		if time.Now().After(end) {
			return fmt.Errorf("something else listens at %s already: give another --listen", listen)
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(300 * time.Millisecond):
		}
	}
}

// ours says why a demo keeps its hands off a folder: somebody's own site lives there.
func ours(data string) error {
	_, scenario := os.Stat(filepath.Join(data, "scenario.json"))
	if _, err := os.Stat(pgserver.Place(data)); err == nil && errors.Is(scenario, os.ErrNotExist) {
		return fmt.Errorf("the folder %s keeps a database that isn't the demo's: give another --data", data)
	}
	return nil
}

// Reset removes all that a demo kept under its data folder, unless one runs there.
func Reset(data string) error {
	abs, err := filepath.Abs(data)
	if err != nil {
		return err
	}
	lock, err := os.OpenFile(filepath.Join(abs, pgserver.LockFile), os.O_RDWR, 0o600)
	if errors.Is(err, os.ErrNotExist) {
		return nil // nothing was kept
	}
	if err != nil {
		return err
	}
	defer lock.Close()
	if syscall.Flock(int(lock.Fd()), syscall.LOCK_EX|syscall.LOCK_NB) != nil {
		return fmt.Errorf("a demo runs with the folder %s: end it first", data)
	}
	if err := ours(abs); err != nil {
		return err
	}
	for _, name := range []string{pgserver.Place(abs), filepath.Join(abs, "standins"),
		filepath.Join(abs, "scenario.json"), filepath.Join(abs, "vault.key"), filepath.Join(abs,
			"server.log"), told(abs), filepath.Join(abs, pgserver.LockFile)} {
		if err := os.RemoveAll(name); err != nil {
			return err
		}
	}
	return nil
}

func announce(out io.Writer, asJSON bool, url string, s Secrets, failed []Failure) error {
	if asJSON {
		return json.NewEncoder(out).Encode(map[string]any{"url": url, "username": Lead, "password": s.Lead,
			"token": s.Token, "desk_username": "install", "desk_password": s.Desk, "analyser_username": "install", "analyser_password": s.Look, "failed": failed})
	}
	for _, f := range failed {
		if _, err := fmt.Fprintf(out, "  %s can't start: %s\n", f.Place, f.Why); err != nil {
			return err
		}
	}
	_, err := fmt.Fprintf(out, "\n  Dusky Harbor is at  %s\n  sign in as          %s (lead)\n  password            %s\n\n  anselm (technician): %s · office (viewer): %s\n  token for programs: %s\n  Harbour desk, which the site doesn't know yet: install, %s\n  the two analysers: install, %s\n  Ctrl-C ends it; the next start keeps what was done.\n\n", url, Lead, s.Lead, s.Tech, s.Viewer, s.Token, s.Desk, s.Look)
	return err
}

func prepare(ctx context.Context, dsn, key string, o Options, s Secrets) error {
	st, err := store.Open(ctx, dsn)
	if err != nil {
		return err
	}
	defer st.Close()
	if err := st.Migrate(ctx); err != nil {
		return err
	}
	v, err := vault.Load(key)
	if err != nil {
		return err
	}
	site, err := Seed(ctx, st, v, o.Net, s)
	if err != nil || o.Bulk == 0 {
		return err
	}
	return SeedBulk(ctx, st, o.Net, site, o.Bulk)
}

// keep runs a program until ctx ends and starts it again when it dies. It dies with
// this process.
func keep(ctx context.Context, log io.Writer, environ []string, name string, args ...string) {
	runtime.LockOSThread() // Pdeathsig belongs to the thread that starts the child
	defer runtime.UnlockOSThread()
	for wait := 200 * time.Millisecond; ctx.Err() == nil; wait = min(2*wait, 5*time.Second) {
		cmd := exec.Command(name, args...)
		cmd.Env = append(os.Environ(), environ...)
		cmd.Stdout, cmd.Stderr = log, log
		cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true, Pdeathsig: syscall.SIGTERM}
		began := time.Now()
		if err := cmd.Start(); err != nil {
			fmt.Fprintf(log, "%s can't be started: %v\n", args[0], err)
		} else {
			done := make(chan struct{})
			go func() {
				select {
				case <-ctx.Done():
					_ = cmd.Process.Signal(syscall.SIGTERM)
				case <-done:
				}
			}()
			err := cmd.Wait()
			close(done)
			if ctx.Err() == nil {
				fmt.Fprintf(log, "%s ended (%v) and is started again\n", args[0], err)
			}
		}
		if time.Since(began) > 10*time.Second {
			wait = 200 * time.Millisecond
		}
		select {
		case <-ctx.Done():
		case <-time.After(wait):
		}
	}
}

// told is where the stand-ins' process tells the demo what couldn't start.
func told(data string) string { return filepath.Join(data, "standins.json") }

// TellFleet writes down that the stand-ins are up, and which of them aren't.
func TellFleet(data string, f *Fleet) error {
	failed := f.Failed
	if failed == nil {
		failed = []Failure{}
	}
	raw, err := json.Marshal(failed)
	if err != nil {
		return err
	}
	return os.WriteFile(told(data), raw, 0o600)
}

func forgetFleet(data string) error {
	if err := os.Remove(told(data)); err != nil && !errors.Is(err, os.ErrNotExist) {
		return err
	}
	return nil
}

// ready waits until the server answers and the stand-ins are up, and tells which of those
// aren't.
func ready(ctx context.Context, url, data string) ([]Failure, error) {
	ctx, cancel := context.WithTimeout(ctx, 60*time.Second)
	defer cancel()
	client := &http.Client{Timeout: 2 * time.Second}
	missing := "server"
	for {
		req, err := http.NewRequestWithContext(ctx, http.MethodGet, url+"/healthz", nil)
		if err != nil {
			return nil, err
		}
		if res, err := client.Do(req); err == nil {
			_ = res.Body.Close()
			if res.StatusCode == http.StatusOK {
				missing = "stand-ins"
				if raw, err := os.ReadFile(told(data)); err == nil {
					var failed []Failure
					return failed, json.Unmarshal(raw, &failed)
				}
			}
		}
		select {
		case <-ctx.Done():
			return nil, fmt.Errorf("the %s didn't answer within a minute", missing)
		case <-time.After(150 * time.Millisecond):
		}
	}
}
