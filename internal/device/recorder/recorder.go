// Package recorder is the client of the recorder interface (HTTP and JSON over
// TLS, described in docs/recorder-interface.yaml).
package recorder

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"
	"strings"
	"time"

	"duskyharbor/internal/core/channel"
	"duskyharbor/internal/core/clock"
	"duskyharbor/internal/core/route"
	"duskyharbor/internal/device/dial"
)

// Port of the recorder interface.
const Port = 8443

const (
	callLimit = 8 * time.Second
	maxJSON   = 4 << 20 // a table of 256 channels takes half of one
	maxStill  = 4 << 20

	maxInputs  = 64   // of a channel
	maxTopics  = 64   // pegged to one input
	maxEntries = 1000 // of one answer of the event log
)

// Client speaks to one recorder.
type Client struct {
	host    dial.Host
	base    string
	pin     string
	session *dial.Session
}

// New makes a client. pin is the certificate's fingerprint seen before; empty
// trusts the first, which Pin then tells.
func New(host dial.Host, port int, pin string, login dial.Login) *Client {
	c := &Client{host: host, base: fmt.Sprintf("https://%s:%d", host.Addr, port), pin: pin}
	c.session = host.Session(&c.pin, login.Try, dial.Digest(login.Username, login.Password))
	return c
}

// Pin is the fingerprint of the certificate the recorder showed.
func (c *Client) Pin() string { return c.pin }

// Close lets idle connections go.
func (c *Client) Close() { c.session.Close() }

// do asks with the account.
func (c *Client) do(ctx context.Context, method, path string, in, out any, limit time.Duration) error {
	return c.session.Do(ctx, func(ctx context.Context, signed *http.Client) error {
		return c.ask(ctx, signed, method, path, in, out, limit)
	})
}

func (c *Client) ask(ctx context.Context, client *http.Client, method, path string, in, out any, limit time.Duration) error {
	ctx, cancel := context.WithTimeout(ctx, limit)
	defer cancel()
	tried := method + " " + path
	if i := strings.IndexByte(tried, '?'); i > 0 {
		tried = tried[:i]
	}
	on := c.host.Addr.String()
	var body *bytes.Reader
	if in != nil {
		data, err := json.Marshal(in)
		if err != nil {
			return err
		}
		body = bytes.NewReader(data)
	} else {
		body = bytes.NewReader(nil)
	}
	req, err := http.NewRequestWithContext(ctx, method, c.base+path, body)
	if err != nil {
		return err
	}
	req.Header.Set("Content-Type", "application/json")
	res, err := dial.Ask(client, req, tried)
	if err != nil {
		return err
	}
	defer res.Body.Close()
	limitBytes := int64(maxJSON)
	still, wantsStill := out.(*[]byte)
	if wantsStill {
		limitBytes = maxStill
	}
	data, err := dial.ReadAll(res.Body, limitBytes, tried, on)
	if err != nil {
		return err
	}
	if res.StatusCode != http.StatusOK {
		return dial.RefusedIn(res.StatusCode, data, tried, on)
	}
	if wantsStill {
		*still = data
		return nil
	}
	if out == nil {
		return nil
	}
	if err := json.Unmarshal(data, out); err != nil {
		return &dial.Error{Tried: tried, On: on, Kind: dial.ErrMalformed, Says: "it is no JSON of the recorder interface", Beyond: true}
	}
	return nil
}

// Hello is what a recorder says of itself to anyone.
type Hello struct {
	Kind     string `json:"kind"`
	Make     string `json:"make"`
	Model    string `json:"model"`
	Serial   string `json:"serial"`
	MAC      string `json:"mac"`
	Firmware string `json:"firmware"`
}

// Hello asks without signing in whether a recorder answers, or an analyser, which says the same.
func (c *Client) Hello(ctx context.Context) (Hello, error) {
	var h Hello
	if err := c.ask(ctx, c.session.Plain, http.MethodGet, "/api/hello", nil, &h, 3*time.Second); err != nil {
		return h, err
	}
	if h.Kind != "recorder" && h.Kind != "analyser" {
		return h, &dial.Error{Tried: "GET /api/hello", On: c.host.Addr.String(), Kind: dial.ErrMalformed, Says: "it is neither recorder nor analyser"}
	}
	for _, f := range []*string{&h.Make, &h.Model, &h.Serial, &h.MAC, &h.Firmware} {
		*f = dial.CleanText(*f, 128)
	}
	return h, nil
}

// Status reads name, limits, channel table and clock; the offset is the recorder's
// against this server.
func (c *Client) Status(ctx context.Context) (channel.Recorder, clock.Reading, error) {
	var a statusAnswer
	sent := time.Now()
	if err := c.do(ctx, http.MethodGet, "/api/status", nil, &a, callLimit); err != nil {
		return channel.Recorder{}, clock.Reading{}, err
	}
	received := time.Now()
	r := a.table()
	r.At = received.UTC()
	return r, clock.Reading{At: received.UTC(), Device: a.Clock, Offset: clock.Exact(sent, received, a.Clock),
		Zone: dial.CleanText(a.Zone, 64), Daylight: true}, nil
}

// Placement is what a recorder needs to hold a camera.
type Placement struct {
	Name        string `json:"name"`
	Address     string `json:"address"`
	Service     string `json:"service"`       // ONVIF device service; empty where URI is given
	URI         string `json:"uri,omitempty"` // RTSP address of the stream, for a camera without ONVIF
	Username    string `json:"username"`
	Password    string `json:"password"`
	Profile     string `json:"profile"`
	Label       string `json:"label"`           // comes back in the channel table
	Way         string `json:"way,omitempty"`   // see channel.Way; empty: ONVIF, or RTSP where URI is given
	Make        string `json:"make,omitempty"`  // that it is taken as
	Model       string `json:"model,omitempty"` // that it is taken as
	ViewProfile string `json:"view,omitempty"`  // profile of its view stream; empty: it has none
}

// Place puts a camera on a channel; doing it again with the same camera changes nothing.
func (c *Client) Place(ctx context.Context, number int, p Placement) error {
	return c.do(ctx, http.MethodPut, fmt.Sprintf("/api/channels/%d", number), p, nil, 20*time.Second)
}

// SetAnalog switches an analog input on or off; that holds after a restart.
func (c *Client) SetAnalog(ctx context.Context, number int, on bool) error {
	return c.do(ctx, http.MethodPut, fmt.Sprintf("/api/analog/%d", number), map[string]bool{"on": on}, nil, callLimit)
}

// Restart starts the recorder again: it answers, and is away for a while.
func (c *Client) Restart(ctx context.Context) error {
	return c.do(ctx, http.MethodPost, "/api/restart", nil, nil, callLimit)
}

// SetClock sets the recorder's own clock.
func (c *Client) SetClock(ctx context.Context, utc time.Time) error {
	return c.do(ctx, http.MethodPut, "/api/clock", map[string]any{"utc": utc.UTC()}, nil, callLimit)
}

// SetAccount gives a channel another account to sign in with; label comes back in the
// channel table. It answers when it knows whether the channel receives.
func (c *Client) SetAccount(ctx context.Context, number int, username, password, label string) error {
	return c.do(ctx, http.MethodPut, fmt.Sprintf("/api/channels/%d/account", number),
		map[string]string{"username": username, "password": password, "label": label}, nil, 20*time.Second)
}

// Pause keeps a channel from signing in until it is resumed; Pause false resumes it.
func (c *Client) Pause(ctx context.Context, number int, on bool) error {
	verb := "resume"
	if on {
		verb = "pause"
	}
	return c.do(ctx, http.MethodPost, fmt.Sprintf("/api/channels/%d/%s", number, verb), nil, nil, 20*time.Second)
}

// Remove takes a camera off a channel.
func (c *Client) Remove(ctx context.Context, number int) error {
	return c.do(ctx, http.MethodDelete, fmt.Sprintf("/api/channels/%d", number), nil, nil, callLimit)
}

// Still is the last picture the recorder fetched from a channel's camera, as JPEG
// bytes that must still be checked.
func (c *Client) Still(ctx context.Context, number int) ([]byte, error) {
	var data []byte
	err := c.do(ctx, http.MethodGet, fmt.Sprintf("/api/channels/%d/still", number), nil, &data, callLimit)
	return data, err
}

// Inputs reads what a channel can hear and what is pegged to it.
func (c *Client) Inputs(ctx context.Context, number int) (route.Inputs, error) {
	var a struct {
		Inputs []struct {
			Name   string   `json:"name"`
			Topics []string `json:"topics"`
		} `json:"inputs"`
		Events string `json:"events"`
	}
	if err := c.do(ctx, http.MethodGet, fmt.Sprintf("/api/channels/%d/inputs", number), nil, &a, callLimit); err != nil {
		return route.Inputs{}, err
	}
	out := route.Inputs{Events: dial.CleanText(a.Events, 300)}
	for _, in := range a.Inputs[:min(len(a.Inputs), maxInputs)] {
		name := dial.CleanText(in.Name, 32)
		out.Names = append(out.Names, name)
		for _, t := range in.Topics[:min(len(in.Topics), maxTopics)] {
			out.Pegs = append(out.Pegs, route.Peg{Topic: dial.CleanText(t, 256), Input: name})
		}
	}
	return out, nil
}

// SetInput pegs exactly these topics to an input.
func (c *Client) SetInput(ctx context.Context, number int, input string, topics []string) error {
	return c.do(ctx, http.MethodPut, fmt.Sprintf("/api/channels/%d/inputs/%s", number, url.PathEscape(input)),
		map[string]any{"topics": topics}, nil, callLimit)
}

// Entry is one line of the recorder's event log.
type Entry struct {
	Seq     int64     `json:"seq"`
	At      time.Time `json:"at"` // the recorder's clock
	Channel int       `json:"channel"`
	Name    string    `json:"name"`
	Input   string    `json:"input"`
	Topic   string    `json:"topic"`
	Phase   string    `json:"phase"`
}

// Events waits up to wait for log entries after a sequence number; −1 asks only
// where the log stands. next is what to ask for the next time.
func (c *Client) Events(ctx context.Context, after int64, wait time.Duration) (entries []Entry, next int64, err error) {
	var a struct {
		Events []Entry `json:"events"`
		Next   int64   `json:"next"`
	}
	path := fmt.Sprintf("/api/events?after=%d&wait=%d", after, int(wait.Seconds()))
	err = c.do(ctx, http.MethodGet, path, nil, &a, wait+callLimit)
	a.Events = a.Events[:min(len(a.Events), maxEntries)]
	for i := range a.Events {
		e := &a.Events[i]
		for _, f := range []*string{&e.Name, &e.Input, &e.Topic, &e.Phase} {
			*f = dial.CleanText(*f, 256)
		}
	}
	return a.Events, a.Next, err
}
