package api

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"net/http"
	"net/netip"
	"reflect"
	"regexp"
	"slices"
	"strings"
	"time"

	"github.com/labstack/echo/v5"

	"duskyharbor/internal/core/channel"
	"duskyharbor/internal/core/expected"
	"duskyharbor/internal/core/recording"
	"duskyharbor/internal/facts"
	"duskyharbor/internal/site"
	"duskyharbor/internal/store"
	"duskyharbor/internal/web/shell"
)

// reading is one thing of a site that is read whole. Out is what it answers with, for the description.
type reading struct {
	Path, About, As string // As names the list in the answer
	Out             any
	Read            func(ctx context.Context, st *store.Store, siteID int64) (any, error)
}

var readings = []reading{
	{"networks", "The networks that are looked at", "networks", []Network{}, networks},
	{"recorders", "Recorders with what they told last: channels, gauges, storage and for how long it lasts", "recorders", []Recorder{}, recorders},
	{"analysers", "Analysers with what they told last: limits, the views that they look at, what waits, clocks", "analysers", []Analyser{}, analysers},
	{"systems", "Other systems: video management, monitoring stations, time servers", "systems", []System{}, systems},
	{"sets", "Credential sets, without passwords", "sets", []Set{}, sets},
	{"plans", "Recording plans", "plans", []Plan{}, plans},
	{"people", "Who may use the site", "people", []Person{}, persons},
	{"expected", "The expected list", "rows", []Row{}, rows},
}

// Network is a network that is looked at.
type Network struct {
	ID         int64        `json:"id"`
	Name       string       `json:"name"`
	Prefix     string       `json:"prefix"`
	Gateway    *netip.Addr  `json:"gateway,omitempty"`
	TimeServer *netip.Addr  `json:"time_server,omitempty"`
	DNS        []netip.Addr `json:"dns,omitempty"`
	Ports      []int        `json:"ports,omitempty"` // besides the usual ones
	AtOnce     int          `json:"at_once,omitempty"`
	Single     bool         `json:"single,omitempty"` // one address, and no network of the site
	LookedAt   *time.Time   `json:"looked_at,omitempty"`
}

func networks(ctx context.Context, st *store.Store, siteID int64) (any, error) {
	all, err := st.Networks(ctx, siteID)
	out := make([]Network, len(all))
	for i, n := range all {
		out[i] = Network{n.ID, n.Name, n.Prefix.String(), n.Gateway, n.TimeServer, n.DNS, n.Ports, n.AtOnce, n.Single, n.LookedAt}
	}
	return out, err
}

// Recorder is a recorder with what it told last.
type Recorder struct {
	ID       int64      `json:"id"`
	Place    string     `json:"place"`
	Make     string     `json:"make"`
	Model    string     `json:"model"`
	Address  string     `json:"address"`
	Account  *int64     `json:"set_id,omitempty"`
	Trouble  string     `json:"trouble,omitempty"` // why it can't be read
	ReadAt   *time.Time `json:"read_at,omitempty"` // absent: it wasn't
	Channels []Channel  `json:"channels,omitempty"`
	Gauges   []Gauge    `json:"gauges,omitempty"`
	Storage  *Storage   `json:"storage,omitempty"`
}

// Channel is a channel of a recorder that something holds.
type Channel struct {
	Number  int     `json:"number"`
	Name    string  `json:"name"`
	Address string  `json:"address"`
	State   string  `json:"state"`
	Detail  string  `json:"detail,omitempty"`
	Codec   string  `json:"codec,omitempty"`
	Width   int     `json:"width,omitempty"`
	Height  int     `json:"height,omitempty"`
	FPS     float64 `json:"fps,omitempty"`
	Kbps    float64 `json:"kbps,omitempty"`
	Lost    float64 `json:"lost,omitempty"` // part of the packets, 0 to 1
	Events  string  `json:"events,omitempty"`
	Way     string  `json:"way,omitempty"`
	Plan    string  `json:"plan,omitempty"` // what it keeps, in words
}

// Gauge is how much of a limit is used.
type Gauge struct {
	Name string  `json:"name"`
	Used float64 `json:"used"`
	Most float64 `json:"most"`
}

// Storage is for how long a recorder's disks last.
type Storage struct {
	Usable float64  `json:"usable_bytes"`     // 0: not told
	Bytes  float64  `json:"bytes_a_day"`      // that its channels make
	Days   *float64 `json:"days,omitempty"`   // absent: any number, or how much it can hold isn't told
	Bound  bool     `json:"bound,omitempty"`  // bytes are the least, days the most: a rate isn't known
	Lived  float64  `json:"lived,omitempty"`  // whole days over which it was really kept
	Oldest float64  `json:"oldest,omitempty"` // days
}

func recorders(ctx context.Context, st *store.Store, siteID int64) (any, error) {
	s, err := site.Load(ctx, st, siteID, []int64{})
	if err != nil {
		return nil, err
	}
	out := []Recorder{}
	for _, d := range s.Recorders() {
		r := Recorder{ID: d.ID, Place: d.Place, Make: d.Make, Model: d.Model, Address: shell.AddressText(d.Address), Account: d.SetID, Trouble: s.RecorderTrouble(d.ID)}
		if told, ok := site.Recorder.Of(s, d.ID); ok {
			r.told(told, facts.SumOf(s, d.ID, told))
		}
		out = append(out, r)
	}
	return out, nil
}

// told fills in what a recorder told.
func (r *Recorder) told(t channel.Recorder, sum recording.Sum) {
	r.ReadAt = &t.At
	for _, x := range t.Slots {
		c := Channel{x.Number, x.Name, x.Address, x.State, x.Detail, x.Codec, x.Width, x.Height, x.FPS, x.Kbps, x.Lost, x.Events, x.Way, ""}
		if p := x.Recording.Plan; p != nil {
			c.Plan = p.String()
		}
		r.Channels = append(r.Channels, c)
	}
	for _, g := range channel.Gauges(t) {
		r.Gauges = append(r.Gauges, Gauge{g.Name, g.Used, g.Most})
	}
	r.Storage = &Storage{Usable: t.Storage.Usable, Bytes: sum.Bytes, Bound: sum.Unknown, Lived: sum.Lived, Oldest: t.Storage.Oldest}
	if sum.Days > 0 && sum.Bytes > 0 {
		r.Storage.Days = &sum.Days
	}
}

// System is a system that isn't a camera or recorder.
type System struct {
	ID      int64      `json:"id"`
	Kind    string     `json:"kind"`
	Name    string     `json:"name"`
	Address string     `json:"address"`
	Account *int64     `json:"set_id,omitempty"`
	Note    string     `json:"note,omitempty"`
	AskedAt *time.Time `json:"asked_at,omitempty"`
	Answers bool       `json:"answers"`
	Says    string     `json:"says,omitempty"`
}

func systems(ctx context.Context, st *store.Store, siteID int64) (any, error) {
	all, err := st.Systems(ctx, siteID)
	out := make([]System, len(all))
	for i, y := range all {
		out[i] = System{y.ID, string(y.Kind), y.Name, y.Address.String(), y.SetID, y.Note, y.AskedAt, y.Answers, y.Says}
	}
	return out, err
}

// Set is a credential set. Its password is nowhere here.
type Set struct {
	ID       int64  `json:"id"`
	Name     string `json:"name"`
	Username string `json:"username"`
	Make     string `json:"make,omitempty"`
	Network  int64  `json:"network_id,omitempty"`
	Factory  bool   `json:"factory,omitempty"`
	Former   bool   `json:"former,omitempty"`
}

func sets(ctx context.Context, st *store.Store, siteID int64) (any, error) {
	all, err := st.SharedSets(ctx, siteID)
	out := make([]Set, len(all))
	for i, v := range all {
		out[i] = Set{v.ID, v.Name, v.Username, v.Make, v.Network, v.Factory, v.Former}
	}
	return out, err
}

// Plan is a recording plan.
type Plan struct {
	ID   int64          `json:"id"`
	Name string         `json:"name"`
	Says string         `json:"says"` // what it keeps, in words
	For  int            `json:"cameras"`
	Plan recording.Plan `json:"plan"`
}

func plans(ctx context.Context, st *store.Store, siteID int64) (any, error) {
	all, err := st.RecordingPlans(ctx, siteID)
	out := make([]Plan, len(all))
	for i, p := range all {
		out[i] = Plan{p.ID, p.Name, p.Plan.String(), p.For, p.Plan}
	}
	return out, err
}

// Person is who may use the site.
type Person struct {
	ID   int64  `json:"id"`
	Name string `json:"name"`
	Role string `json:"role"`
}

func persons(ctx context.Context, st *store.Store, siteID int64) (any, error) {
	all, err := st.PeopleOf(ctx, siteID)
	out := make([]Person, len(all))
	for i, p := range all {
		out[i] = Person{p.ID, p.Name, string(p.Role)}
	}
	return out, err
}

// Row is a row of the expected list.
type Row struct {
	ID       int64  `json:"id"` // of the camera, or its view
	Place    string `json:"place"`
	Address  string `json:"address,omitempty"`
	MAC      string `json:"mac,omitempty"`
	Make     string `json:"make,omitempty"`
	Model    string `json:"model,omitempty"`
	Recorder string `json:"recorder,omitempty"`
	Channel  int    `json:"channel,omitempty"`
	Input    int    `json:"input,omitempty"`
}

func rows(ctx context.Context, st *store.Store, siteID int64) (any, error) {
	all, err := st.Expected(ctx, siteID)
	out := make([]Row, len(all))
	for i, r := range all {
		out[i] = rowOut(r)
	}
	return out, err
}

func rowOut(r expected.Row) Row {
	out := Row{r.Source, r.Place, "", r.MAC, r.Make, r.Model, r.Recorder, r.Channel, r.Input}
	if r.Address.IsValid() {
		out.Address = r.Address.String()
	}
	return out
}

// maxWords is how long a query of words may be, in bytes.
const maxWords = 200

// routeReadings has a window of each of them read.
func (pg *Page) routeReadings(of *echo.Group) {
	for _, r := range readings {
		of.GET("/"+r.Path, func(c *echo.Context) error {
			after, limit, err := pageOf(c)
			if err != nil {
				return shell.Problem(c, http.StatusBadRequest, err.Error())
			}
			out, err := r.Read(c.Request().Context(), pg.Store, shell.TokenOf(c).SiteID)
			if err != nil {
				return err
			}
			q := c.QueryParam("q")
			if len(q) > maxWords {
				return shell.Problem(c, http.StatusBadRequest, fmt.Sprintf("q has at most %d characters", maxWords))
			}
			all, err := having(out, q)
			if err != nil {
				return err
			}
			from := min(after, all.Len())
			return c.JSON(http.StatusOK, map[string]any{r.As: all.Slice(from, min(from+limit, all.Len())).Interface(), "total": all.Len()})
		})
	}
}

// key is a name in JSON: within a value its quotes would be escaped.
var key = regexp.MustCompile(`"[a-z_]+":`)

// having are the rows of a reading in which each word of a query stands, in the value of whatever field, in upper or
// lower case.
func having(out any, query string) (reflect.Value, error) {
	all, words := reflect.ValueOf(out), strings.Fields(strings.ToLower(query))
	if len(words) == 0 {
		return all, nil
	}
	kept := reflect.MakeSlice(all.Type(), 0, 0)
	for i := range all.Len() {
		text, err := json.Marshal(all.Index(i).Interface())
		if err != nil {
			return kept, err
		}
		row := strings.ToLower(key.ReplaceAllString(string(text), ""))
		if !slices.ContainsFunc(words, func(w string) bool { return !strings.Contains(row, w) }) {
			kept = reflect.Append(kept, all.Index(i))
		}
	}
	return kept, nil
}

// unchanged answers 304 where a program has what it asks for already: it says so by the tag that it got with it.
func unchanged(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c *echo.Context) error {
		if c.Request().Method != http.MethodGet || strings.HasSuffix(c.Path(), "/events") {
			return next(c)
		}
		kept := &keptAnswer{ResponseWriter: c.Response()}
		c.SetResponse(kept)
		err := next(c)
		c.SetResponse(kept.ResponseWriter)
		if err != nil {
			return err
		}
		sum := sha256.Sum256(kept.body.Bytes())
		tag := `"` + base64.RawURLEncoding.EncodeToString(sum[:12]) + `"`
		w := kept.ResponseWriter
		w.Header().Set("ETag", tag)
		if kept.status == http.StatusOK && c.Request().Header.Get("If-None-Match") == tag {
			w.Header().Del("Content-Type")
			w.WriteHeader(http.StatusNotModified)
			return nil
		}
		w.WriteHeader(kept.status)
		_, err = w.Write(kept.body.Bytes())
		return err
	}
}

// keptAnswer holds an answer back.
type keptAnswer struct {
	http.ResponseWriter
	status int
	body   bytes.Buffer
}

// WriteHeader keeps the status.
func (k *keptAnswer) WriteHeader(status int) { k.status = status }

// Write keeps what is written.
func (k *keptAnswer) Write(p []byte) (int, error) {
	if k.status == 0 {
		k.status = http.StatusOK
	}
	return k.body.Write(p)
}
