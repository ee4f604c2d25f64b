package onvif

import (
	"context"
	"errors"
	"fmt"
	"net/url"
	"strconv"
	"strings"
	"time"

	"duskyharbor/internal/device/dial"
)

const (
	// recordingNS, ReceiverNS and SearchNS are the services of what records over a network (ONVIF
	// Recording Control, Receiver and Recording Search).
	recordingNS = "http://www.onvif.org/ver10/recording/wsdl"
	ReceiverNS  = "http://www.onvif.org/ver10/receiver/wsdl"
	searchNS    = "http://www.onvif.org/ver10/search/wsdl"
	replayNS    = "http://www.onvif.org/ver10/replay/wsdl"
)

// maxRecordings is how many recordings, jobs and receivers are read.
const maxRecordings = 512

// RecordsOthers says whether a device records what others send: it has receivers, as a camera that
// keeps its own pictures hasn't.
func RecordsOthers(services map[string]string) bool {
	return services[recordingNS] != "" && services[ReceiverNS] != ""
}

// RecordingLimits is what a recorder says that it can hold (Recording Control, 5.23,
// GetServiceCapabilities). What isn't told is zero.
type RecordingLimits struct {
	Recordings int
	Jobs       int
	TotalKbps  float64
	Codecs     []string // "H264", "H265", "JPEG"
	Dynamic    bool     // recordings can be made and deleted
	Receivers  int
}

// RecordingLimits asks the recording and the receiver service for what they can hold.
func (c *Client) RecordingLimits(ctx context.Context, services map[string]string) (l RecordingLimits, err error) {
	ask := func(ns string) (*node, error) {
		r, err := c.call(ctx, services[ns], ns, "GetServiceCapabilities", `<GetServiceCapabilities xmlns="`+ns+`"/>`, CallLimit)
		return r.at("Capabilities"), err
	}
	r, err := ask(recordingNS)
	if err != nil {
		return l, err
	}
	number := func(n *node, name string) float64 {
		v, err := strconv.ParseFloat(n.attr(name), 64)
		if err != nil || v != v || v < 0 {
			return 0
		}
		return min(v, 1e9)
	}
	l.Recordings, l.Jobs, l.TotalKbps = int(number(r, "MaxRecordings")), int(number(r, "MaxRecordingJobs")), number(r, "MaxTotalRate")
	for _, name := range strings.Fields(r.attr("Encoding")) {
		if name == "H264" || name == "H265" || name == "JPEG" {
			l.Codecs = append(l.Codecs, name)
		}
	}
	l.Dynamic = r.attr("DynamicRecordings") == "true" || r.attr("DynamicRecordings") == "1"
	if r, err = ask(ReceiverNS); err != nil {
		return l, err
	}
	l.Receivers = int(number(r, "SupportedReceivers"))
	return l, nil
}

// Recording is one recording of a recorder (Recording Control, 5.3): Source says what is recorded.
// SourceID is its client's own: a device keeps it as it came.
type Recording struct {
	Token, SourceID, Name, Location, Description, Address, Content string
	Hours                                                          float64 // what is older is deleted; 0: nothing is
}

// Recordings lists what a device has (GetRecordings; Recording Control, 5.11).
func (c *Client) Recordings(ctx context.Context, services map[string]string) (out []Recording, err error) {
	r, err := c.call(ctx, services[recordingNS], recordingNS, "GetRecordings", `<GetRecordings xmlns="`+recordingNS+`"/>`, CallLimit)
	if err != nil {
		return nil, err
	}
	for _, n := range first(r.all("RecordingItem")) {
		cfg := n.at("Configuration")
		x := Recording{Token: n.str("RecordingToken"), SourceID: cfg.str("Source", "SourceId"), Name: cfg.str("Source", "Name"),
			Location: cfg.str("Source", "Location"), Description: cfg.str("Source", "Description"), Address: cfg.str("Source", "Address"), Content: cfg.str("Content")}
		if keep, ok := parseDuration(cfg.str("MaximumRetentionTime")); ok {
			x.Hours = keep.Hours()
		}
		if x.Token != "" {
			out = append(out, x)
		}
	}
	return out, nil
}

func first(all []*node) []*node { return all[:min(len(all), maxRecordings)] }

func (x Recording) configuration() string {
	return `<RecordingConfiguration><tt:Source xmlns:tt="` + schemaNS + `">` + tt("SourceId", x.SourceID) + tt("Name", x.Name) + tt("Location", x.Location) +
		tt("Description", x.Description) + tt("Address", x.Address) + `</tt:Source><tt:Content xmlns:tt="` + schemaNS + `">` + escape(x.Content) +
		`</tt:Content><tt:MaximumRetentionTime xmlns:tt="` + schemaNS + `">` + durationOfHours(x.Hours) + `</tt:MaximumRetentionTime></RecordingConfiguration>`
}

func tt(name, value string) string { return element("tt:"+name, value) }

// do calls an operation of a service of what records, and gives its answer.
func (c *Client) do(ctx context.Context, services map[string]string, ns, op, inner string) (*node, error) {
	return c.call(ctx, services[ns], ns, op, "<"+op+` xmlns="`+ns+`">`+inner+"</"+op+">", CallLimit)
}

// CreateRecording makes a recording and gives its token (Recording Control, 5.7).
func (c *Client) CreateRecording(ctx context.Context, services map[string]string, x Recording) (token string, err error) {
	r, err := c.do(ctx, services, recordingNS, "CreateRecording", x.configuration())
	if token = r.str("RecordingToken"); err == nil && token == "" {
		err = c.untoken("CreateRecording")
	}
	return token, err
}

func (c *Client) untoken(op string) error {
	return &dial.Error{Tried: op, On: c.on(), Kind: dial.ErrMalformed, Says: "it names no token of what it made"}
}

// SetRecording changes what a recording says of its source, and how long it is kept (Recording
// Control, 5.9).
func (c *Client) SetRecording(ctx context.Context, services map[string]string, x Recording) error {
	_, err := c.do(ctx, services, recordingNS, "SetRecordingConfiguration", element("RecordingToken", x.Token)+x.configuration())
	return err
}

// DeleteRecording deletes a recording with all that it holds (Recording Control, 5.8).
func (c *Client) DeleteRecording(ctx context.Context, services map[string]string, token string) error {
	_, err := c.do(ctx, services, recordingNS, "DeleteRecording", element("RecordingToken", token))
	return err
}

// Job fills a recording from a receiver (Recording Control, 5.14).
type Job struct {
	Token, Recording, Receiver string
	Active                     bool
}

// Jobs lists what a device does (GetRecordingJobs; Recording Control, 5.16).
func (c *Client) Jobs(ctx context.Context, services map[string]string) (out []Job, err error) {
	r, err := c.do(ctx, services, recordingNS, "GetRecordingJobs", "")
	for _, n := range first(r.all("JobItem")) {
		cfg := n.at("JobConfiguration")
		out = append(out, Job{Token: n.str("JobToken"), Recording: cfg.str("RecordingToken"), Receiver: cfg.str("Source", "SourceToken", "Token"),
			Active: cfg.str("Mode") == "Active"})
	}
	return out, err
}

// CreateJob has a recording filled from a receiver.
func (c *Client) CreateJob(ctx context.Context, services map[string]string, j Job) (token string, err error) {
	mode := map[bool]string{true: "Active", false: "Idle"}[j.Active]
	r, err := c.do(ctx, services, recordingNS, "CreateRecordingJob", `<JobConfiguration xmlns:tt="`+schemaNS+`">`+tt("RecordingToken", j.Recording)+tt("Mode", mode)+tt("Priority", "1")+
		`<tt:Source><tt:SourceToken Type="http://www.onvif.org/ver10/schema/Receiver">`+tt("Token", j.Receiver)+`</tt:SourceToken></tt:Source></JobConfiguration>`)
	if token = r.str("JobToken"); err == nil && token == "" {
		err = c.untoken("CreateRecordingJob")
	}
	return token, err
}

// DeleteJob ends a job (Recording Control, 5.15).
func (c *Client) DeleteJob(ctx context.Context, services map[string]string, token string) error {
	_, err := c.do(ctx, services, recordingNS, "DeleteRecordingJob", element("JobToken", token))
	return err
}

// JobState is how a job stands (Recording Control, 5.20): State is "Active", "Idle" or "Error".
type JobState struct{ State, Trouble string }

// JobState asks for how a job stands: the worst of its tracks counts.
func (c *Client) JobState(ctx context.Context, services map[string]string, token string) (s JobState, err error) {
	r, err := c.do(ctx, services, recordingNS, "GetRecordingJobState", element("JobToken", token))
	if err != nil {
		return s, err
	}
	s.State = r.str("State", "State")
	for _, src := range r.at("State").all("Sources") {
		if v := src.str("State"); v == "Error" {
			s.State = v
		}
		for _, t := range src.at("Tracks").all("Track") {
			if e := dial.CleanText(t.str("Error"), 300); e != "" && s.Trouble == "" {
				s.Trouble = e
			}
		}
	}
	return s, nil
}

// Receiver takes a stream from an address (Receiver, 5.2).
type Receiver struct {
	Token    string
	URI      string // without the account that it may carry
	Username string // that it signs in with; empty: not told
	Connects bool   // it connects; else it waits
}

// Receivers lists a device's receivers (GetReceivers; Receiver, 5.4). What a device gives away of a
// password isn't taken in.
func (c *Client) Receivers(ctx context.Context, services map[string]string) (out []Receiver, err error) {
	r, err := c.do(ctx, services, ReceiverNS, "GetReceivers", "")
	for _, n := range first(r.all("Receivers")) {
		x := Receiver{Token: n.str("Token"), Connects: n.str("Configuration", "Mode") != "NeverConnect"}
		if u, perr := url.Parse(n.str("Configuration", "MediaUri")); perr == nil {
			x.Username = dial.CleanText(u.User.Username(), 64)
			u.User = nil
			x.URI = dial.CleanText(u.String(), 256)
		}
		out = append(out, x)
	}
	return out, err
}

// ReceiverLogin is the account that a receiver signs in with. ONVIF gives it no field of its own: it
// goes into the address (RFC 3986, 3.2.1), so that it is sent over TLS alone.
type ReceiverLogin struct{ Username, Password string }

// hidden is an error without the password, which a device may have said back.
func (l ReceiverLogin) hidden(err error) error {
	var e *dial.Error
	if l.Password == "" || !errors.As(err, &e) {
		return err
	}
	shown := *e
	for _, form := range []string{l.Password, url.QueryEscape(l.Password), url.PathEscape(l.Password), strings.TrimPrefix(url.UserPassword("", l.Password).String(), ":")} {
		shown.Says = strings.ReplaceAll(shown.Says, form, "…")
	}
	return &shown
}

func (c *Client) receiver(x Receiver, login ReceiverLogin) (string, error) {
	if !strings.HasPrefix(c.service, "https:") && login != (ReceiverLogin{}) {
		return "", &dial.Error{Tried: "CreateReceiver", On: c.on(), Kind: dial.ErrRefused, Says: "it answers without TLS, and a camera's password isn't sent in clear", Beyond: true}
	}
	u, err := url.Parse(x.URI)
	if err != nil || u.Scheme != "rtsp" && u.Scheme != "rtsps" {
		return "", fmt.Errorf("onvif: a receiver's address is no RTSP address")
	}
	if login != (ReceiverLogin{}) {
		u.User = url.UserPassword(login.Username, login.Password)
	}
	mode := map[bool]string{true: "AlwaysConnect", false: "NeverConnect"}[x.Connects]
	return `<Configuration xmlns:tt="` + schemaNS + `">` + tt("Mode", mode) + tt("MediaUri", u.String()) +
		`<tt:StreamSetup><tt:Stream>RTP-Unicast</tt:Stream><tt:Transport><tt:Protocol>RTSP</tt:Protocol></tt:Transport></tt:StreamSetup></Configuration>`, nil
}

// CreateReceiver makes a receiver and gives its token (Receiver, 5.6).
func (c *Client) CreateReceiver(ctx context.Context, services map[string]string, x Receiver, login ReceiverLogin) (token string, err error) {
	inner, err := c.receiver(x, login)
	if err != nil {
		return "", err
	}
	r, err := c.do(ctx, services, ReceiverNS, "CreateReceiver", inner)
	err = login.hidden(err)
	if token = r.str("Receiver", "Token"); err == nil && token == "" {
		err = c.untoken("CreateReceiver")
	}
	return token, err
}

// ConfigureReceiver gives a receiver another address or account (Receiver, 5.8).
func (c *Client) ConfigureReceiver(ctx context.Context, services map[string]string, x Receiver, login ReceiverLogin) error {
	inner, err := c.receiver(x, login)
	if err != nil {
		return err
	}
	_, err = c.do(ctx, services, ReceiverNS, "ConfigureReceiver", element("ReceiverToken", x.Token)+inner)
	return login.hidden(err)
}

// SetReceiverMode has a receiver connect, or not (Receiver, 5.9).
func (c *Client) SetReceiverMode(ctx context.Context, services map[string]string, token string, connects bool) error {
	mode := map[bool]string{true: "AlwaysConnect", false: "NeverConnect"}[connects]
	_, err := c.do(ctx, services, ReceiverNS, "SetReceiverMode", element("ReceiverToken", token)+element("Mode", mode))
	return err
}

// DeleteReceiver ends a receiver (Receiver, 5.7).
func (c *Client) DeleteReceiver(ctx context.Context, services map[string]string, token string) error {
	_, err := c.do(ctx, services, ReceiverNS, "DeleteReceiver", element("ReceiverToken", token))
	return err
}

// RecordedSince asks for the time of the oldest recording (GetRecordingSummary; Recording Search,
// 5.2); the zero time where there is none, or it doesn't tell.
func (c *Client) RecordedSince(ctx context.Context, services map[string]string) (time.Time, error) {
	if services[searchNS] == "" {
		return time.Time{}, nil
	}
	r, err := c.do(ctx, services, searchNS, "GetRecordingSummary", "")
	if err != nil || r.num("Summary", "NumberRecordings") == 0 {
		return time.Time{}, untold(err)
	}
	at, _ := time.Parse(time.RFC3339, r.str("Summary", "DataFrom"))
	return at.UTC(), nil
}

// ReplayURI asks for the RTSP address at which a recording is played back (GetReplayUri; Replay
// Control, 5.2).
func (c *Client) ReplayURI(ctx context.Context, services map[string]string, recording string) (string, error) {
	r, err := c.do(ctx, services, replayNS, "GetReplayUri", `<StreamSetup xmlns:tt="`+schemaNS+
		`"><tt:Stream>RTP-Unicast</tt:Stream><tt:Transport><tt:Protocol>RTSP</tt:Protocol></tt:Transport></StreamSetup>`+element("RecordingToken", recording))
	return r.str("Uri"), err
}
