package vms

import (
	"fmt"
	"io"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"duskyharbor/internal/standin/wire"
)

const envelope = `<?xml version="1.0" encoding="UTF-8"?>
<s:Envelope xmlns:s="http://www.w3.org/2003/05/soap-envelope" xmlns:tt="http://www.onvif.org/ver10/schema" xmlns:tds="http://www.onvif.org/ver10/device/wsdl" xmlns:trc="http://www.onvif.org/ver10/recording/wsdl" xmlns:trv="http://www.onvif.org/ver10/receiver/wsdl" xmlns:tse="http://www.onvif.org/ver10/search/wsdl" xmlns:trp="http://www.onvif.org/ver10/replay/wsdl" xmlns:ter="http://www.onvif.org/ver10/error"><s:Body>`

// open are the operations that ask for no sign-in (ONVIF Core, 5.9.4.3, PRE_AUTH).
var open = []string{"GetSystemDateAndTime", "GetServices", "GetServiceCapabilities", "GetCapabilities"}

// fault refuses an operation.
type fault struct{ code, text string }

func (f *fault) Error() string { return f.text }

func refuse(code, format string, args ...any) error {
	return &fault{code, fmt.Sprintf(format, args...)}
}

func (v *VMS) soap(w http.ResponseWriter, r *http.Request) {
	doc, err := wire.Parse(r.Body)
	w.Header().Set("Content-Type", "application/soap+xml; charset=utf-8")
	body := doc.Find("Body")
	if err != nil || body == nil || len(body.Kids) == 0 {
		v.fault(w, &fault{"ter:WellFormed", "The request is no SOAP envelope."})
		return
	}
	op := &body.Kids[0]
	if !slices.Contains(open, op.XMLName.Local) {
		if _, ok := v.digest.Check(r.Header.Get("Authorization"), r.Method); ok != wire.Right {
			w.Header().Set("WWW-Authenticate", v.digest.Challenge(true))
			w.WriteHeader(http.StatusUnauthorized)
			return
		}
	}
	out, err := v.operate(op)
	if err != nil {
		f, ok := err.(*fault)
		if !ok {
			f = &fault{"ter:Action", err.Error()}
		}
		v.fault(w, f)
		return
	}
	_, _ = io.WriteString(w, envelope+out+"</s:Body></s:Envelope>")
}

func (v *VMS) fault(w http.ResponseWriter, f *fault) {
	w.WriteHeader(http.StatusBadRequest)
	outer, inner, deeper := strings.Cut(f.code, "/")
	if deeper {
		inner = "<s:Subcode><s:Value>" + inner + "</s:Value></s:Subcode>"
	}
	_, _ = io.WriteString(w, envelope+`<s:Fault><s:Code><s:Value>s:Sender</s:Value><s:Subcode><s:Value>`+outer+`</s:Value>`+inner+
		`</s:Subcode></s:Code><s:Reason><s:Text xml:lang="en">`+wire.Esc(f.text)+`</s:Text></s:Reason></s:Fault></s:Body></s:Envelope>`)
}

// name of the service that an operation is of, as its answers are prefixed.
var services = []struct{ prefix, space string }{
	{"tds", "http://www.onvif.org/ver10/device/wsdl"}, {"trc", "http://www.onvif.org/ver10/recording/wsdl"}, {"trv", "http://www.onvif.org/ver10/receiver/wsdl"},
	{"tse", "http://www.onvif.org/ver10/search/wsdl"}, {"trp", "http://www.onvif.org/ver10/replay/wsdl"}}

func (v *VMS) operate(op *wire.Node) (string, error) {
	prefix := ""
	for _, s := range services {
		if s.space == op.XMLName.Space {
			prefix = s.prefix
		}
	}
	name := prefix + ":" + op.XMLName.Local
	answer := func(inner string) (string, error) {
		return "<" + name + "Response>" + inner + "</" + name + "Response>", nil
	}
	done := func(err error) (string, error) {
		if err != nil {
			return "", err
		}
		return answer("")
	}
	switch name {
	case "tds:GetSystemDateAndTime":
		return answer(v.time())
	case "tds:SetSystemDateAndTime":
		return done(v.setTime(op))
	case "tds:GetServices":
		var b strings.Builder
		for _, s := range services {
			fmt.Fprintf(&b, `<tds:Service><tds:Namespace>%s</tds:Namespace><tds:XAddr>https://%s:%d/onvif/device_service</tds:XAddr><tds:Version><tt:Major>2</tt:Major><tt:Minor>6</tt:Minor></tds:Version></tds:Service>`, s.space, v.cfg.Address, Port)
		}
		return answer(b.String())
	case "tds:GetServiceCapabilities":
		return answer(`<tds:Capabilities><tds:Network/><tds:Security HttpDigest="true" UsernameToken="false"/><tds:System/></tds:Capabilities>`)
	case "tds:GetDeviceInformation":
		return answer(fmt.Sprintf(`<tds:Manufacturer>%s</tds:Manufacturer><tds:Model>%s</tds:Model><tds:FirmwareVersion>%s</tds:FirmwareVersion><tds:SerialNumber>%s</tds:SerialNumber><tds:HardwareId>%s</tds:HardwareId>`,
			wire.Esc(v.cfg.Make), wire.Esc(v.cfg.Model), v.cfg.Firmware, v.cfg.Serial, wire.Esc(v.cfg.Model)))
	case "tds:SystemReboot":
		v.done.Go(v.restart)
		return answer("<tds:Message>It starts again.</tds:Message>")
	case "trc:GetServiceCapabilities":
		return answer(fmt.Sprintf(`<trc:Capabilities DynamicRecordings="true" DynamicTracks="false" Encoding="%s" MaxTotalRate="400000" MaxRecordings="%d" MaxRecordingJobs="%d" Options="false"/>`,
			strings.Join(v.cfg.Codecs, " "), v.cfg.Most, v.cfg.Most))
	case "trv:GetServiceCapabilities":
		return answer(fmt.Sprintf(`<trv:Capabilities RTP_RTSP_TCP="true" SupportedReceivers="%d" MaximumRTSPURILength="256"/>`, v.cfg.Most))
	case "trp:GetReplayUri":
		token := op.Get("RecordingToken")
		v.mu.Lock()
		_, ok := v.mem.Recordings[token]
		v.mu.Unlock()
		if !ok {
			return "", refuse("ter:InvalidArgVal/ter:NoRecording", "There is no recording %s.", token)
		}
		return answer(fmt.Sprintf("<trp:Uri>rtsp://%s:%d/replay/%s</trp:Uri>", v.cfg.Address, ReplayPort, url.PathEscape(token)))
	case "tse:GetRecordingSummary":
		return answer(v.summary())
	}
	inner, known, err := v.recordings(name, op)
	if !known && err == nil {
		inner, known, err = v.receivers(name, op)
	}
	if err != nil {
		return "", err
	}
	if !known {
		return "", refuse("ter:ActionNotSupported", "It has no %s.", op.XMLName.Local)
	}
	return answer(inner)
}

func stamp(tag string, t time.Time) string {
	return fmt.Sprintf(`<tt:%s><tt:Time><tt:Hour>%d</tt:Hour><tt:Minute>%d</tt:Minute><tt:Second>%d</tt:Second></tt:Time><tt:Date><tt:Year>%d</tt:Year><tt:Month>%d</tt:Month><tt:Day>%d</tt:Day></tt:Date></tt:%s>`,
		tag, t.Hour(), t.Minute(), t.Second(), t.Year(), t.Month(), t.Day(), tag)
}

func (v *VMS) time() string {
	return `<tds:SystemDateAndTime><tt:DateTimeType>Manual</tt:DateTimeType><tt:DaylightSavings>true</tt:DaylightSavings><tt:TimeZone><tt:TZ>` + wire.Esc(v.cfg.Zone) + `</tt:TZ></tt:TimeZone>` +
		stamp("UTCDateTime", v.Now().UTC()) + `</tds:SystemDateAndTime>`
}

func (v *VMS) setTime(op *wire.Node) error {
	u := op.Find("UTCDateTime")
	if op.Get("DateTimeType") != "Manual" || u == nil {
		return refuse("ter:ActionNotSupported", "Its time is set by hand.")
	}
	t, err := time.Parse("2006-1-2 15:4:5", fmt.Sprintf("%s-%s-%s %s:%s:%s", u.Get("Year"), u.Get("Month"), u.Get("Day"), u.Get("Hour"), u.Get("Minute"), u.Get("Second")))
	if err != nil {
		return refuse("ter:InvalidArgVal/ter:InvalidDateTime", "The date and time is none.")
	}
	return v.change(func(m *memory) error {
		m.Skew = time.Until(t)
		return nil
	})
}

func (v *VMS) summary() string {
	v.mu.Lock()
	defer v.mu.Unlock()
	var from time.Time
	n := 0
	for token := range v.mem.Recordings {
		if at, _, ok := v.shelf.Since(token); ok {
			n++
			if from.IsZero() || at.Before(from) {
				from = at
			}
		}
	}
	now := time.Now()
	if n == 0 {
		from = now
	}
	skew := v.mem.Skew
	return fmt.Sprintf(`<tse:Summary><tt:DataFrom>%s</tt:DataFrom><tt:DataUntil>%s</tt:DataUntil><tt:NumberRecordings>%d</tt:NumberRecordings></tse:Summary>`,
		from.Add(skew).UTC().Format(time.RFC3339), now.Add(skew).UTC().Format(time.RFC3339), n)
}

func (x recordingOf) xml() string {
	return "<tt:Source><tt:SourceId>" + wire.Esc(x.SourceID) + "</tt:SourceId><tt:Name>" + wire.Esc(x.Name) + "</tt:Name><tt:Location>" + wire.Esc(x.Location) +
		"</tt:Location><tt:Description>" + wire.Esc(x.Description) + "</tt:Description><tt:Address>" + wire.Esc(x.Address) + "</tt:Address></tt:Source><tt:Content>" +
		wire.Esc(x.Content) + "</tt:Content><tt:MaximumRetentionTime>" + wire.Esc(x.Keep) + "</tt:MaximumRetentionTime>"
}

func (j job) xml() string {
	return "<tt:RecordingToken>" + j.Recording + "</tt:RecordingToken><tt:Mode>" + j.Mode + `</tt:Mode><tt:Priority>1</tt:Priority><tt:Source><tt:SourceToken Type="http://www.onvif.org/ver10/schema/Receiver"><tt:Token>` +
		j.Receiver + "</tt:Token></tt:SourceToken></tt:Source>"
}

// xml is a receiver as it is told: without its password.
func (x receiver) xml() string {
	shown := x.URI
	if u, err := url.Parse(x.URI); err == nil && u.User != nil {
		u.User = url.User(u.User.Username())
		shown = u.String()
	}
	return "<tt:Token>" + x.Token + "</tt:Token><tt:Configuration><tt:Mode>" + x.Mode + "</tt:Mode><tt:MediaUri>" + wire.Esc(shown) +
		"</tt:MediaUri><tt:StreamSetup><tt:Stream>RTP-Unicast</tt:Stream><tt:Transport><tt:Protocol>RTSP</tt:Protocol></tt:Transport></tt:StreamSetup></tt:Configuration>"
}

// token makes one; v.mu is held.
func (m *memory) token(kind string) string {
	m.Next++
	return kind + "-" + strconv.Itoa(1000+m.Next)
}

// recordings are the operations of Recording Control.
func (v *VMS) recordings(name string, op *wire.Node) (inner string, known bool, err error) {
	read := func(token string) recordingOf {
		src := op.Find("Source")
		return recordingOf{token, src.Get("SourceId"), src.Get("Name"), src.Get("Location"), src.Get("Description"), src.Get("Address"), op.Get("Content"), op.Get("MaximumRetentionTime")}
	}
	of := op.Get("RecordingToken")
	switch name {
	case "trc:GetRecordings":
		v.mu.Lock()
		defer v.mu.Unlock()
		for _, x := range sorted(v.mem.Recordings) {
			inner += "<trc:RecordingItem><tt:RecordingToken>" + x.Token + "</tt:RecordingToken><tt:Configuration>" + x.xml() +
				"</tt:Configuration><tt:Tracks><tt:Track><tt:TrackToken>VIDEO001</tt:TrackToken><tt:Configuration><tt:TrackType>Video</tt:TrackType><tt:Description/></tt:Configuration></tt:Track></tt:Tracks></trc:RecordingItem>"
		}
		return inner, true, nil
	case "trc:CreateRecording":
		err = v.change(func(m *memory) error {
			if len(m.Recordings) >= v.cfg.Most {
				return refuse("ter:Receiver/ter:MaxRecordings", "It holds %d recordings at most.", v.cfg.Most)
			}
			x := read(m.token("REC"))
			m.Recordings[x.Token], inner = x, "<trc:RecordingToken>"+x.Token+"</trc:RecordingToken>"
			return nil
		})
	case "trc:SetRecordingConfiguration":
		err = v.change(func(m *memory) error {
			if _, ok := m.Recordings[of]; !ok {
				return refuse("ter:InvalidArgVal/ter:NoRecording", "There is no recording %s.", of)
			}
			m.Recordings[of] = read(of)
			return nil
		})
	case "trc:DeleteRecording":
		err = v.change(func(m *memory) error {
			if _, ok := m.Recordings[of]; !ok {
				return refuse("ter:InvalidArgVal/ter:NoRecording", "There is no recording %s.", of)
			}
			delete(m.Recordings, of)
			for token, j := range m.Jobs {
				if j.Recording == of {
					delete(m.Jobs, token)
				}
			}
			v.shelf.Drop(of)
			return nil
		})
	case "trc:GetRecordingJobs":
		v.mu.Lock()
		defer v.mu.Unlock()
		for _, j := range sorted(v.mem.Jobs) {
			inner += "<trc:JobItem><tt:JobToken>" + j.Token + "</tt:JobToken><tt:JobConfiguration>" + j.xml() + "</tt:JobConfiguration></trc:JobItem>"
		}
		return inner, true, nil
	case "trc:CreateRecordingJob":
		err = v.change(func(m *memory) error {
			j := job{m.token("JOB"), of, op.Find("SourceToken").Get("Token"), op.Get("Mode")}
			if _, ok := m.Recordings[of]; !ok {
				return refuse("ter:InvalidArgVal/ter:NoRecording", "There is no recording %s.", of)
			}
			if _, ok := m.Receivers[j.Receiver]; !ok {
				return refuse("ter:InvalidArgVal/ter:NoReceiver", "There is no receiver %s.", j.Receiver)
			}
			m.Jobs[j.Token], inner = j, "<trc:JobToken>"+j.Token+"</trc:JobToken><trc:JobConfiguration>"+j.xml()+"</trc:JobConfiguration>"
			return nil
		})
	case "trc:DeleteRecordingJob":
		err = v.change(func(m *memory) error {
			delete(m.Jobs, op.Get("JobToken"))
			return nil
		})
	case "trc:GetRecordingJobState":
		v.mu.Lock()
		j, ok := v.mem.Jobs[op.Get("JobToken")]
		state, trouble := v.pulls[j.Token].stands()
		v.mu.Unlock()
		if !ok {
			return "", true, refuse("ter:InvalidArgVal/ter:NoRecordingJob", "There is no job %s.", op.Get("JobToken"))
		}
		return "<trc:State><tt:RecordingToken>" + j.Recording + "</tt:RecordingToken><tt:State>" + state + `</tt:State><tt:Sources><tt:SourceToken Type="http://www.onvif.org/ver10/schema/Receiver"><tt:Token>` + j.Receiver +
			"</tt:Token></tt:SourceToken><tt:State>" + state + "</tt:State><tt:Tracks><tt:Track><tt:SourceTag>video</tt:SourceTag><tt:Destination>VIDEO001</tt:Destination><tt:Error>" + wire.Esc(trouble) +
			"</tt:Error><tt:State>" + state + "</tt:State></tt:Track></tt:Tracks></tt:Sources></trc:State>", true, nil
	default:
		return "", false, nil
	}
	return inner, true, err
}

// receivers are the operations of Receiver.
func (v *VMS) receivers(name string, op *wire.Node) (inner string, known bool, err error) {
	token := op.Get("ReceiverToken")
	alter := func(f func(x *receiver) error) error {
		return v.change(func(m *memory) error {
			x, ok := m.Receivers[token]
			if !ok {
				return refuse("ter:InvalidArgVal/ter:UnknownToken", "There is no receiver %s.", token)
			}
			if err := f(&x); err != nil {
				return err
			}
			m.Receivers[token] = x
			return nil
		})
	}
	configure := func(x *receiver) error {
		x.Mode, x.URI = op.Get("Mode"), op.Get("MediaUri")
		if u, err := url.Parse(x.URI); err != nil || u.Scheme != "rtsp" || u.Host == "" {
			return refuse("ter:InvalidArgVal/ter:BadConfiguration", "The address is no RTSP address.")
		}
		return nil
	}
	switch name {
	case "trv:GetReceivers":
		v.mu.Lock()
		defer v.mu.Unlock()
		for _, x := range sorted(v.mem.Receivers) {
			inner += "<trv:Receivers>" + x.xml() + "</trv:Receivers>"
		}
		return inner, true, nil
	case "trv:CreateReceiver":
		err = v.change(func(m *memory) error {
			if len(m.Receivers) >= v.cfg.Most {
				return refuse("ter:Action/ter:MaxReceivers", "It has %d receivers at most.", v.cfg.Most)
			}
			x := receiver{Token: m.token("RCV")}
			if err := configure(&x); err != nil {
				return err
			}
			m.Receivers[x.Token], inner = x, "<trv:Receiver>"+x.xml()+"</trv:Receiver>"
			return nil
		})
	case "trv:ConfigureReceiver":
		err = alter(configure)
	case "trv:SetReceiverMode":
		err = alter(func(x *receiver) error {
			x.Mode = op.Get("Mode")
			return nil
		})
	case "trv:DeleteReceiver":
		err = v.change(func(m *memory) error {
			delete(m.Receivers, token)
			return nil
		})
	default:
		return "", false, nil
	}
	return inner, true, err
}
