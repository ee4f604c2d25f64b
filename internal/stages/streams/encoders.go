package streams

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"time"

	"duskyharbor/internal/act"
	"duskyharbor/internal/core/channel"
	"duskyharbor/internal/core/finding"
	"duskyharbor/internal/core/stage"
	"duskyharbor/internal/core/stream"
	"duskyharbor/internal/facts"
	"duskyharbor/internal/site"
	"duskyharbor/internal/store"
)

// OfferedCodecs can be asked for in bulk.
var OfferedCodecs = []string{"H264", "H265", "JPEG"}

// Figures are how encoders are to be set; what is empty or 0 stays as it is.
type Figures struct {
	Of      string  `form:"of" json:"of,omitempty" enum:"record,view"`                     // the stream that is meant; empty: every one
	Codec   string  `form:"codec" json:"codec,omitempty" enum:"H264,H265,JPEG"`            // H264, H265, JPEG
	Size    string  `form:"size" json:"size,omitempty"`                                    // "1280x720"
	FPS     float64 `form:"fps" json:"fps,omitempty"`                                      // frames a second, to 240
	Kbps    int     `form:"kbps" json:"kbps,omitempty"`                                    // the limit of the bit rate, or the constant rate, to 200,000
	Rate    string  `form:"rate" json:"rate,omitempty" enum:"constant,variable"`           // what the bit rate is
	Quality float64 `form:"quality" json:"quality,omitempty"`                              // on each device's own scale, to 100
	Key     float64 `form:"key" json:"key_frame_every,omitempty"`                          // s, 0.2 to 10
	Level   string  `form:"level" json:"level,omitempty" enum:"Baseline,Main,High,Main10"` // profile of the codec
	Cast    string  `form:"cast" json:"multicast,omitempty" enum:"on,off"`                 // whether it is sent to a group that nobody asked for
}

// figure is one of them as a person says it.
type figure struct {
	set   bool
	field string
	ok    bool
	wrong string
	says  string
}

// Want is what is asked for, and in which words.
func (x Figures) Want() (want stream.Want, says string, err error) {
	size, sized := parseSize(x.Size)
	want = stream.Want{Of: stream.Role(x.Of), Size: size, FPS: x.FPS, Kbps: x.Kbps, KeyEvery: time.Duration(x.Key * float64(time.Second)), Cast: stream.Casting(x.Cast),
		Fine: stream.Fine{Rate: stream.Rating(x.Rate), Quality: x.Quality, Level: x.Level}}
	if x.Codec != "" {
		want.Codecs = []string{x.Codec}
	}
	kind := "at most"
	if want.Rate == stream.Constant {
		kind = "constantly"
	}
	var parts []string
	for _, f := range []figure{
		{x.Of != "", "of", want.Of == stream.Record || want.Of == stream.View, "A stream is meant as record or view.", ""},
		{x.Codec != "", "codec", slices.Contains(OfferedCodecs, x.Codec), "That isn't a codec that can be asked for.", "send " + stream.Pretty(x.Codec)},
		{x.Size != "", "size", sized, "A size is width and height, as 1280x720.", size.Text()},
		{x.FPS != 0, "fps", x.FPS > 0 && x.FPS <= 240, "Frames a second are more than 0, and 240 at the most.", fmt.Sprintf("%g frames a second", x.FPS)},
		{x.Kbps != 0, "kbps", x.Kbps > 0 && x.Kbps <= 200000, "A bit rate is 1 to 200,000 kbit/s.", fmt.Sprintf("%s %d kbit/s", kind, x.Kbps)},
		{x.Rate != "", "rate", want.Rate == stream.Constant || want.Rate == stream.Variable, "A bit rate is constant or variable.", x.Rate + " bit rate"},
		{x.Quality != 0, "quality", x.Quality > 0 && x.Quality <= 100, "A quality is more than 0, and 100 at the most.", fmt.Sprintf("quality %g", x.Quality)},
		{x.Key != 0, "key", x.Key >= 0.2 && x.Key <= 10, "From key frame to key frame it is 0.2 to 10 seconds.", fmt.Sprintf("%g s between key frames", x.Key)},
		{x.Level != "", "level", len(x.Level) <= 16 && !strings.ContainsAny(x.Level, " \t\r\n"), "That isn't a profile of a codec.", x.Level + " profile"},
		{x.Cast != "", "cast", want.Cast == stream.CastOn || want.Cast == stream.CastOff, "Multicast is on or off.", "multicast " + x.Cast},
	} {
		switch {
		case f.set && !f.ok:
			return want, "", act.Wrong(f.field, f.wrong)
		case f.set && f.says != "":
			parts = append(parts, f.says)
		}
	}
	if len(parts) == 0 {
		return want, "", act.Wrong("codec", "Say what is to be set: codec, size, frames, bit rate, quality, key frames or multicast.")
	}
	says = strings.ToUpper(parts[0][:1]) + strings.Join(parts, ", ")[1:]
	if x.Of != "" {
		says += " in the " + x.Of + " stream"
	}
	return want, says, nil
}

// parseSize reads "1280x720".
func parseSize(text string) (s stream.Size, ok bool) {
	w, h, cut := strings.Cut(text, "x")
	var errW, errH error
	s.Width, errW = strconv.Atoi(w)
	s.Height, errH = strconv.Atoi(h)
	const most = 1 << 15
	if !cut || errW != nil || errH != nil || s.Width < 16 || s.Height < 16 || s.Width > most || s.Height > most {
		return stream.Size{}, false
	}
	return s, true
}

// Encoders is how the encoders of cameras are to be set. With multicast on, every stream is given a group of its own:
// the one that it has, or the next that is free.
type Encoders struct {
	act.Selection
	Figures
	Group string `form:"group" json:"first_group,omitempty"` // from which on groups are given, IPv4; empty: where none is had, from 239.192.0.1
	Port  int    `form:"port" json:"port,omitempty"`         // even, 1024 to 65534; 0: as it is, or 5004
	TTL   int    `form:"ttl" json:"ttl,omitempty"`           // 1 to 255; 0: as it is, or 1, which passes no router
	taken map[int64][]string
}

// readGroups reads which groups the site's cameras send to.
func readGroups(ctx context.Context, c *act.Call, x *Encoders) (err error) {
	if stream.Casting(x.Cast) == stream.CastOn {
		x.taken, err = c.Store.CastGroups(ctx, c.Site.ID)
	}
	return err
}

func (t *Stage) planEncoders(_ time.Time, s *act.Seen, x Encoders) (act.Planned, error) {
	want, says, err := x.Want()
	if err != nil {
		return act.Planned{}, err
	}
	groups, err := x.groups(s, want)
	if err != nil {
		return act.Planned{}, err
	}
	p := alike(s, says, func(of site.Source) ([]finding.Change, []string) {
		want.Groups = groups[of.ID]
		return t.Asked(s.Snapshot, of, want)
	})
	p.Makes = makes(s.Snapshot, p.Of)
	return p, nil
}

// groups are where the streams of each view are to be sent, by their encoders.
func (x Encoders) groups(s *act.Seen, want stream.Want) (map[int64]map[string]stream.Cast, error) {
	if want.Cast != stream.CastOn {
		return nil, nil
	}
	var from netip.Addr
	if x.Group != "" {
		var err error
		if from, err = netip.ParseAddr(strings.TrimSpace(x.Group)); err != nil || !stream.IsGroup(from) {
			return nil, act.Wrong("group", "A group to send to is an address as 239.192.0.1.")
		}
	}
	switch {
	case x.Port != 0 && (x.Port < 1024 || x.Port >= 65535 || x.Port%2 != 0):
		return nil, act.Wrong("port", "A port for RTP is even, 1024 to 65534.")
	case x.TTL < 0 || x.TTL > 255:
		return nil, act.Wrong("ttl", "A TTL is 1 to 255: 1 passes no router.")
	}
	type at struct {
		source  int64
		encoder string
	}
	var all []at
	var casts []stream.Cast
	chosen := map[int64]bool{}
	for _, of := range s.Of {
		f, w := facts.ForStreams(s.Snapshot, of)
		for _, p := range f.Casters(want.Of, w) {
			all, casts = append(all, at{of.ID, p.Encoder}), append(casts, *p.Cast)
			chosen[of.Device.ID] = true
		}
	}
	taken := map[string]bool{}
	for device, groups := range x.taken {
		for _, g := range groups {
			if !chosen[device] {
				taken[g] = true
			}
		}
	}
	spread, ok := stream.Spread(casts, taken, from, x.Port, x.TTL)
	if !ok {
		return nil, act.Wrongf("group", "There aren't %d free groups from there on.", len(casts))
	}
	out := map[int64]map[string]stream.Cast{}
	for i, a := range all {
		if out[a.source] == nil {
			out[a.source] = map[string]stream.Cast{}
		}
		out[a.source][a.encoder] = spread[i]
	}
	return out, nil
}

// makes says what changes of encoders make of the recorders that hold their views.
func makes(s *site.Snapshot, all []act.Changes) (out []string) {
	of := map[int64]map[int]*channel.Restream{}
	for _, x := range all {
		rec, slot, _ := s.HolderOf(x.Source)
		if slot == nil {
			continue
		}
		f, w := facts.ForStreams(s, x.Source)
		record, view := stream.Roles(f.Profiles, w.Codecs)
		if slot.Profile != "" {
			record = slot.Profile
		}
		for role, token := range map[stream.Role]string{stream.Record: record, stream.View: view} {
			p, _, ok := f.Find(token)
			set, changed := setTo(p, x.All)
			if !ok || !changed {
				continue
			}
			if of[rec.ID] == nil {
				of[rec.ID] = map[int]*channel.Restream{}
			}
			if of[rec.ID][slot.Number] == nil {
				of[rec.ID][slot.Number] = &channel.Restream{Channel: slot.Number}
			}
			of[rec.ID][slot.Number].Join(role, set, p.Becomes(set))
		}
	}
	for _, rec := range s.Recorders() {
		r, known := site.Recorder.Of(s, rec.ID)
		if !known || of[rec.ID] == nil {
			continue
		}
		var on []channel.Restream
		for _, slot := range r.Slots {
			if x := of[rec.ID][slot.Number]; x != nil {
				on = append(on, *x)
			}
		}
		out = append(out, channel.Makes(rec.Place, r, on, facts.Assume(s)))
	}
	return out
}

// setTo is how one of the changes sets the profile's encoder.
func setTo(p stream.Profile, all []finding.Change) (set stream.Encoder, ok bool) {
	for _, c := range all {
		if c.Kind == stream.SetEncoder && p.Encoder != "" && c.Args["token"] == p.Encoder {
			set, err := stream.EncoderOf(c.Args)
			return set, err == nil
		}
	}
	return set, false
}

// Setting is a named setting of encoders.
type Setting struct {
	ID   int64  `form:"setting" json:"id,omitempty"` // 0: a new one
	Name string `form:"name" json:"name"`
	Figures
}

// maxSettingName is how long its name may be, in characters.
const maxSettingName = 60

// Check is what is wrong with it.
func (x Setting) Check() error {
	if name := strings.TrimSpace(x.Name); name == "" || !act.Fits(name, maxSettingName) {
		return act.Wrongf("name", "Name the setting, in up to %d characters.", maxSettingName)
	}
	_, _, err := x.Want()
	return err
}

func keepSetting(ctx context.Context, c *act.Call, x Setting) (act.Kept, error) {
	want, says, err := x.Want()
	if err != nil {
		return act.Kept{}, err
	}
	name := strings.TrimSpace(x.Name)
	id, err := c.Store.KeepEncoderSetting(ctx, c.Site.ID, store.EncoderSetting{ID: x.ID, Name: name, Want: want})
	if errors.Is(err, store.ErrTaken) {
		err = act.Wrongf("name", "Another setting is called %q: give this one another name.", name)
	}
	return act.Kept{ID: id, Says: name + " is kept. Nothing was written to a camera.", Did: "kept a setting of encoders",
		Detail: name + ": " + says, All: x.ID != 0, To: "streams?set=encoders"}, err
}

// SettingID names a setting.
type SettingID struct {
	ID int64 `form:"setting" json:"id"`
}

func dropSetting(ctx context.Context, c *act.Call, x SettingID) (act.Kept, error) {
	name, devices, err := c.Store.DropEncoderSetting(ctx, c.Site.ID, x.ID)
	return act.Kept{Says: name + " is gone. What encoders are set to stays as it is.", Did: "took a setting of encoders off",
		Detail: name, Judge: devices, To: "streams?set=encoders"}, err
}

// Chosen is a setting for cameras; 0: none is chosen for them any more.
type Chosen struct {
	act.Selection
	ID      int64 `form:"setting" json:"id"`
	setting stream.Setting
}

// readSetting reads the setting that is meant.
func readSetting(ctx context.Context, c *act.Call, x *Chosen) error {
	if x.ID == 0 {
		return nil
	}
	all, err := c.Store.EncoderSettings(ctx, c.Site.ID)
	if err != nil {
		return err
	}
	i := slices.IndexFunc(all, func(e store.EncoderSetting) bool { return e.ID == x.ID })
	if i < 0 {
		return store.ErrNotFound
	}
	x.setting = stream.Setting{ID: x.ID, Name: all[i].Name, Want: all[i].Want}
	return nil
}

// chooseSetting chooses it for those of the selection that can be set so; the plan names the others.
func chooseSetting(ctx context.Context, c *act.Call, x Chosen) (act.Kept, error) {
	s, all, err := c.Selected(ctx, x.Selection, stage.Streams)
	if err != nil {
		return act.Kept{}, err
	}
	var sources []int64
	for _, of := range all {
		if _, cant := x.on(s, of); x.ID == 0 || len(cant) == 0 {
			sources = append(sources, of.ID)
		}
	}
	if len(sources) == 0 {
		return act.Kept{}, nil // the plan says why
	}
	_, judge, err := c.Store.ChooseSetting(ctx, c.Site.ID, x.ID, sources)
	count := act.Count(len(sources), "camera")
	if x.ID == 0 {
		return act.Kept{Did: "chose no setting of encoders", Detail: count, Judge: judge}, err
	}
	return act.Kept{ID: x.ID, Did: "chose a setting of encoders", Detail: x.setting.Name + " for " + count, Judge: judge}, err
}

// on is what sets a view so, and why it can't be.
func (x Chosen) on(s *site.Snapshot, of site.Source) ([]finding.Change, []string) {
	return settable(s, of, x.setting.Changes)
}

// planChosen says what the chosen setting changes.
func (t *Stage) planChosen(_ time.Time, s *act.Seen, x Chosen) (p act.Planned, err error) {
	if x.ID == 0 {
		p.Says = "No setting is chosen for " + act.Count(len(s.Of), "camera") + " any more. Their encoders stay as they are set."
		return p, nil
	}
	p = alike(s, "", func(of site.Source) ([]finding.Change, []string) { return x.on(s.Snapshot, of) })
	p.Title = x.setting.Name + " on " + act.Count(len(p.Of), "camera")
	p.Makes = makes(s.Snapshot, p.Of)
	if chosen := len(s.Of) - len(p.Cant); chosen > 0 {
		p.Says = x.setting.Name + " is chosen for " + act.Count(chosen, "camera") + ", whose encoders are set so already."
	} else {
		p.Says = "Nothing is changed, and it is chosen for none."
	}
	if len(p.Cant) > 0 {
		p.Says += " " + p.Few()
	}
	return p, nil
}
