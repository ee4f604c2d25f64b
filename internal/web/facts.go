package web

import (
	"fmt"
	"strings"
	"time"

	"duskyharbor/internal/core/access"
	"duskyharbor/internal/core/clock"
	"duskyharbor/internal/core/proof"
	"duskyharbor/internal/core/stage"
	"duskyharbor/internal/core/stream"
	"duskyharbor/internal/core/topic"
	"duskyharbor/internal/site"
	"duskyharbor/internal/stages/channels"
	"duskyharbor/internal/stages/signin"
	"duskyharbor/internal/store"
)

// facts lists what was read of a camera for a stage, for the sheet.
func facts(v *site.Snapshot, now time.Time, d store.Device, st stage.Stage) []sheetFact {
	var out []sheetFact
	add := func(name, value string, at time.Time, mono bool) {
		if value != "" {
			out = append(out, sheetFact{name, value, at, mono})
		}
	}
	switch st {
	case stage.Find:
		f, _ := v.Find(d)
		add("Expected at", addrText(d.ExpectedAt), time.Time{}, true)
		if s := f.Seen; s != nil {
			add("Answers at", s.Address.String(), s.At, true)
			add("Heard by", s.WaysText(), s.At, false)
			add("Calls itself", strings.TrimSpace(s.Make+" "+s.Model), s.At, false)
			add("Endpoint", s.UUID, s.At, true)
			add("MAC", s.MAC, s.At, true)
			add("Open ports", strings.Trim(fmt.Sprint(s.Ports), "[]"), s.At, true)
			add("Service", s.Service, s.At, true)
			add("Web page", s.Title, s.At, false)
			if f.IPConfig != nil {
				add("Address settings", f.IPConfig.String(), site.IPConfig.ReadAt(v, d.ID), true)
			}
			add("Firmware", f.Firmware, site.Info.ReadAt(v, d.ID), true)
			if b := f.Behind; b != nil {
				add("Hangs on", fmt.Sprintf("port %d of %s", b.Port, b.Recorder), b.At, false)
			}
		} else if !f.LookedAt.IsZero() {
			add("Tried", f.Tried, f.LookedAt, false)
		}
	case stage.SignIn:
		signInFacts(v, now, d, add)
	case stage.Clock:
		clockFacts(v, d, add)
	case stage.Streams:
		f, _ := v.Streams(d)
		for _, x := range f.Profiles {
			at := site.Profiles.ReadAt(v, d.ID)
			add(x.Name+" declares", fmt.Sprintf("%s %d × %d, %.0f/s, ≤ %d kbit/s, key frame every %d frames", stream.Pretty(x.Codec), x.Width, x.Height, x.FPS, x.Kbps, x.GOP), at, false)
			if _, m, _ := f.Find(x.Token); m != nil {
				add(x.Name+" sends", fmt.Sprintf("%s %d × %d, %.1f/s, %.0f kbit/s, key frame every %.1f s, %d lost", stream.Pretty(m.Codec), m.Width, m.Height, m.FPS, m.MeanKbps, m.KeyEvery.Seconds(), m.Lost), m.At, false)
			}
			add(x.Name+" address", x.URI, at, true)
		}
	case stage.Channels:
		f, w := channels.Facts(v, d)
		add("Planned for", f.Planned, time.Time{}, false)
		add("Record stream", w.Stream, time.Time{}, true)
		if s := f.Slot; s != nil {
			at := f.Recorder.At
			add("Channel", fmt.Sprint(s.Number), at, true)
			add("Recorder says", s.State+": "+s.Detail, at, false)
			add("It receives", received(*s), at, false)
			add("Events", s.Events, at, false)
		}
	case stage.Routes:
		f := v.Routes(d)
		at := site.Topics.ReadAt(v, d.ID)
		for _, t := range f.Topics {
			add(topic.Title(t.Topic), topic.Short(t.Topic), at, true)
		}
		for _, g := range f.Pegs {
			add("Pegged", topic.Title(g.Topic)+" → "+g.Input, site.Inputs.ReadAt(v, d.ID), false)
		}
		add("Recorder", f.Events, site.Inputs.ReadAt(v, d.ID), false)
	case stage.Prove:
		if last, ok := v.Proofs[d.SourceID]; ok {
			t := &last.Test
			for _, b := range proof.Judge(now, *t, d.Place) {
				add(legName(b.Leg)+" leg", fmt.Sprintf("%s, %.2f s", b.Verdict, b.Took.Seconds()), t.Started, false)
			}
			add("Walked by", t.Walk, t.Started, false)
			add("Asked by", t.By, t.Started, false)
		}
	}
	return out
}

func legName(l proof.Leg) string { return strings.ToUpper(string(l)[:1]) + string(l)[1:] }

func signInFacts(v *site.Snapshot, now time.Time, d store.Device, add func(string, string, time.Time, bool)) {
	f, _ := signin.Facts(time.Now(), v, d)
	if a := f.Account; a != nil {
		add("Opened with", a.Set, a.At, false)
		add("User name", a.Username, a.At, true)
		add("Sent by", string(a.Scheme), a.At, false)
		if a.Own {
			add("Token's time", "the camera's own ("+clock.Offset{Low: a.Offset, High: a.Offset}.Seconds()+" s)", a.At, false)
		}
		add("Level", a.Level, a.At, false)
		add("Its ONVIF accounts", strings.Join(f.Users, "; "), site.Users.ReadAt(v, d.ID), false)
		add("RTSP", a.RTSP, a.At, false)
	}
	if i, ok := site.Info.Of(v, d.ID); ok {
		add("Firmware", i.Firmware, i.At, true)
		add("Serial", i.Serial, i.At, true)
	}
	if f.Rule != nil {
		add("Rule for passwords", f.Rule.String(), site.PasswordRule.ReadAt(v, d.ID), false)
	}
	if f.Pinned != "" {
		add("Certificate", f.Pinned[:min(16, len(f.Pinned))]+"…", site.Pin.ReadAt(v, d.ID), true)
	}
	left, _ := f.Left(now)
	add("Wrong tries left", fmt.Sprintf("%d of %d", left, access.Budget), f.LookedAt, false)
}

func clockFacts(v *site.Snapshot, d store.Device, add func(string, string, time.Time, bool)) {
	f, _ := v.Clock(d)
	if f.Camera == nil {
		return
	}
	r := *f.Camera
	add("Camera, UTC", r.Device.Format("2006-01-02 15:04:05"), r.At, true)
	add("Against", f.Reference.Name+" ("+f.Reference.Why+")", r.At, false)
	add("Offset", f.Offset().String(), r.At, true)
	add("Band", string(clock.BandOf(f.Offset(), f.Window)), r.At, false)
	add("Zone rule", r.ZoneText(), r.At, true)
	add("Takes time from", r.Source(), r.At, false)
	if r.Drift != nil {
		add("Drift", fmt.Sprintf("%s over %d readings", r.Drift, r.Drift.N), r.At, true)
	}
	add("Burned in", clock.TextText(r.Dates, r.Times), r.At, true)
	if a, ok := site.Account.Of(v, d.ID); ok && a.Own {
		add("Signed in with", "the camera's own time", a.At, false)
	}
}
