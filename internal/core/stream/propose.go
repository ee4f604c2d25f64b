package stream

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"duskyharbor/internal/core/finding"
)

// Kinds of change.
const (
	SetEncoder = "stream.encoder"
	SetSound   = "stream.sound"
	MuteSound  = "stream.mute" // takes a profile's sound out, or puts it in again
)

// KeyEvery is how far key frames are set apart.
const KeyEvery = time.Second

// judgeCodec says that no profile can be taken, and what would help.
func judgeCodec(f Facts, w Wishes) finding.Finding {
	p := f.Profiles[0]
	out := finding.Finding{Code: "stream.codec", Severity: finding.Needs, Words: Pretty(p.Codec),
		Sentence: fmt.Sprintf("It sends %s, and %s takes %s.", Pretty(p.Codec), w.Recorder, prettyAll(w.Codecs)),
		WayOut:   "Set its encoder as is proposed."}
	_, _, why := forRecorder(f, w)
	switch {
	case why == "":
	case len(w.OtherRecorders) > 0:
		out.WayOut = fmt.Sprintf("It can't be set otherwise: %s. Plan it for a recorder that takes it: %s.", why, strings.Join(w.OtherRecorders, " or "))
	default:
		out.WayOut = fmt.Sprintf("It can't be set otherwise: %s. No recorder of this site takes it: another camera, or another recorder, is needed.", why)
	}
	return out
}

// judgeLess says that what the recorder can take is less than what another profile could be set to; ok
// is false where it isn't.
func judgeLess(f Facts, w Wishes) (out finding.Finding, ok bool) {
	p, set, ok := f.more(w)
	if !ok {
		return out, false
	}
	record, _ := Roles(f.Profiles, w.Codecs)
	r, _, _ := f.Find(record)
	return finding.Finding{Code: "stream.less", Severity: finding.Needs, Words: fmt.Sprintf("%d × %d", r.Width, r.Height),
		Sentence: fmt.Sprintf("The best that %s takes of it is %s, %d × %d; %s could be set to %s %d × %d.", w.Recorder, r.Name, r.Width, r.Height, p.Name, Pretty(set.Codec), set.Width, set.Height),
		WayOut:   "Set its encoder as is proposed, or plan it for a recorder that takes it as it is."}, true
}

// more is the profile that the recorder can't take as it is and that gives it more than any that it
// takes, once it is set otherwise, and how; ok is false where there is none.
func (f Facts) more(w Wishes) (p Profile, set Encoder, ok bool) {
	record, _ := Roles(f.Profiles, w.Codecs)
	r, _, there := f.Find(record)
	if !there || len(w.Codecs) == 0 {
		return p, set, false
	}
	others := f
	others.Profiles = slices.DeleteFunc(slices.Clone(f.Profiles), func(x Profile) bool {
		return slices.Contains(w.Codecs, x.Codec) || x.Encoder == "" || x.Encoder == r.Encoder
	})
	p, set, why := forRecorder(others, w)
	return p, set, why == "" && set.pixels() > r.Width*r.Height
}

// JudgeAccepted is the note that a view's picture wasn't accepted by day, or by night; open is false where
// it was in both lights.
func JudgeAccepted(accepted Pictures) (out finding.Finding, open bool) {
	var lights []string
	for _, l := range []Light{Day, Night} {
		if _, there := accepted[l]; !there {
			lights = append(lights, "by "+string(l))
		}
	}
	if len(lights) == 0 {
		return out, false
	}
	return finding.Finding{Code: "stream.unaccepted", Severity: finding.Note, Words: "not accepted",
		Sentence: "Nobody accepted its picture " + strings.Join(lights, ", nor ") + ": focus, view and masks.",
		WayOut:   "Look at it in its sheet in that light, and accept it."}, true
}

// Done is what a view's streams are where nothing is wrong with them.
func Done(w Wishes) string {
	if fi, open := JudgeAccepted(w.Accepted); open {
		return "Every stream delivers what it declares. " + fi.Sentence
	}
	return "Every stream delivers what it declares, and its picture was accepted by day and by night."
}

// clearLegs says that a stream came here in clear where the site asks for encryption, and what
// is known of the way to its recorder.
func clearLegs(p Profile, w Wishes, ev []finding.Evidence) finding.Finding {
	f := finding.Finding{Code: "stream.clear", Severity: finding.Needs, Words: "in clear", Evidence: ev,
		Sentence: fmt.Sprintf("%s came here in clear, and this site asks for encryption.", p.Name),
		WayOut:   "The device offers no stream over TLS (RTSPS): switch that on on its page, or accept it as it is."}
	if w.Held {
		f.Sentence += " How " + w.Recorder + " plays it isn't told."
	}
	return f
}

// whoElse names who plays its streams, as far as it is known.
func (w Wishes) whoElse() string {
	if w.Held {
		return w.Recorder + " plays it; nothing was taken from there."
	}
	return "It may already feed another recorder."
}

// keysRare says whether the profile is set to key frames too far apart.
func (p Profile) keysRare() bool {
	return p.FPS > 0 && KeysTooFar(time.Duration(float64(p.GOP)/p.FPS*float64(time.Second)))
}

// forRecorder is the profile that gives the recorder most when it is set otherwise, and how.
func forRecorder(f Facts, w Wishes) (best Profile, set Encoder, why string) {
	why = "it offers no profile"
	for _, p := range f.Profiles {
		if p.Trouble != "" {
			continue
		}
		s, no := Nearest(p.Set(), p.Options, Want{Codecs: w.Codecs, KeyEvery: KeyEvery})
		switch {
		case no != "" && set.Token == "":
			why = no
		case no == "" && s.pixels() > set.pixels():
			best, set, why = p, s, ""
		}
	}
	return best, set, why
}

// judgeSound asks whether sound may be sent here, and whether the other end can talk back.
func judgeSound(f Facts, w Wishes) (out []finding.Finding) {
	for _, p := range f.Profiles {
		codec := p.sends(f)
		if codec == "" || w.Consent {
			continue
		}
		out = append(out, finding.Finding{Code: "stream.consent", Severity: finding.Needs, Words: "sound on",
			Sentence: fmt.Sprintf("%s sends sound (%s), and no consent to record sound here is on record.", p.Name, PrettySound(codec)),
			WayOut:   "Take the sound out of its profiles, as is proposed; or write the consent down in its sheet."})
		break
	}
	if p, ok := f.talks(); ok && len(w.Talkback) > 0 && p.Sound.Codec != "" && !slices.Contains(w.Talkback, p.Sound.Codec) {
		out = append(out, finding.Finding{Code: "stream.talkback", Severity: finding.Needs, Words: PrettySound(p.Sound.Codec) + " sound",
			Sentence: fmt.Sprintf("Talkback of %s wants %s, and this sends %s.", w.Recorder, anyOf(w.Talkback), PrettySound(p.Sound.Codec)),
			WayOut:   "Set its sound as is proposed."})
	}
	return out
}

// sends is the codec of a profile's sound as it is declared, or as its stream offers it.
func (p Profile) sends(f Facts) string {
	if p.Sound.Codec != "" {
		return p.Sound.Codec
	}
	if _, m, _ := f.Find(p.Token); m != nil && m.Sound != nil {
		return m.Sound.Codec
	}
	return ""
}

// talks is the first profile with a speaker.
func (f Facts) talks() (Profile, bool) {
	for _, p := range f.Profiles {
		if len(p.Sound.Takes) > 0 {
			return p, true
		}
	}
	return Profile{}, false
}

func anyOf(codecs []string) string {
	pretty := make([]string, len(codecs))
	for i, c := range codecs {
		pretty[i] = PrettySound(c)
	}
	return strings.Join(pretty, " or ")
}

// Propose lists what would have the recorder take the streams, key frames come often enough,
// and sound be as it may be.
func Propose(_ time.Time, f Facts, w Wishes) (out []finding.Change) {
	if !f.Read() || f.Trouble != "" || f.Unnamed {
		return nil
	}
	done := map[string]bool{}
	for _, s := range w.Settings {
		changes, _ := s.Changes(f, w)
		for _, c := range changes {
			if token := c.Args["token"]; !done[token] {
				done[token] = true
				out = append(out, c)
			}
		}
	}
	if record, _ := Roles(f.Profiles, w.Codecs); record == "" && len(f.Profiles) > 0 {
		if p, set, why := forRecorder(f, w); why == "" && !done[p.Encoder] {
			done[p.Encoder] = true
			out = append(out, p.change(set, w, fmt.Sprintf("%s takes %s.", w.Recorder, prettyAll(w.Codecs))))
		}
	} else if p, set, ok := f.more(w); ok && !done[p.Encoder] {
		done[p.Encoder] = true
		out = append(out, p.change(set, w, fmt.Sprintf("%s takes %s, and %d × %d is more than what it takes now.", w.Recorder, prettyAll(w.Codecs), set.Width, set.Height)))
	}
	for _, p := range f.Profiles {
		if done[p.Encoder] || p.Encoder == "" || !p.keysRare() {
			continue
		}
		if set, why := Nearest(p.Set(), p.Options, Want{KeyEvery: KeyEvery}); why == "" && set != p.Set() {
			done[p.Encoder] = true
			out = append(out, p.change(set, w, "More than 2 s apart, playback starts late and events lose their beginning."))
		}
	}
	return append(out, f.proposeSound(w)...)
}

// Asked is what sets the encoders of a view as a person wants it, and why not, with the
// profiles of which that is true where it isn't of all; what is so already is left out.
func Asked(f Facts, w Wishes, want Want) (out []finding.Change, cant []string) {
	of, why := f.of(want.Of, w)
	if why != "" {
		return nil, []string{why}
	}
	if want.Cast != "" {
		if out, cant = f.cast(of, w, want); !want.figures() {
			return out, cant
		}
	}
	done, named, whys := map[string]bool{}, map[string][]string{}, []string(nil)
	for _, p := range of {
		if p.Encoder == "" || done[p.Encoder] || p.Trouble != "" {
			continue
		}
		done[p.Encoder] = true
		set, why := Nearest(p.Set(), p.Options, want)
		switch {
		case why != "" && len(named[why]) == 0:
			whys = append(whys, why)
			fallthrough
		case why != "":
			named[why] = append(named[why], p.Name)
		case set != p.Set():
			out = append(out, p.change(set, w, "Asked for."))
		}
	}
	for _, why := range whys {
		if len(named[why]) < len(done) {
			why = strings.Join(named[why], ", ") + ": " + why
		}
		cant = append(cant, why)
	}
	return out, cant
}

// of is the profiles that play a role for the recorder, every one where none is named, or why there is none.
func (f Facts) of(role Role, w Wishes) ([]Profile, string) {
	record, view := Roles(f.Profiles, w.Codecs)
	token := map[Role]string{Record: record, View: view}[role]
	switch {
	case role == "":
		return f.Profiles, ""
	case token == "" && role == Record && len(w.Codecs) > 0:
		return nil, "none of its streams is one that " + w.Recorder + " takes"
	case token == "":
		return nil, "it has no " + string(role) + " stream"
	}
	p, _, _ := f.Find(token)
	return []Profile{p}, ""
}

// back joins arguments with those that undo exchanges them for.
func back(args, old map[string]string) map[string]string {
	for k, v := range old {
		args["old_"+k] = v
	}
	return args
}

// change sets the profile's encoder.
func (p Profile) change(set Encoder, w Wishes, why string) finding.Change {
	risk := finding.NoRisk
	if w.Held {
		risk = finding.Gap
	}
	from, to := texts(p.Set(), set)
	return finding.Change{Kind: SetEncoder, Key: SetEncoder + "/" + p.Encoder, Title: p.Name + "'s encoder", From: from, To: to, Why: why,
		Risk: risk, Args: back(set.Args(), p.Set().Args()), Undo: finding.Undo{Kind: finding.Reversible, Note: "set it as it was."}}
}

func (f Facts) proposeSound(w Wishes) (out []finding.Change) {
	if p, ok := f.talks(); ok && len(w.Talkback) > 0 && p.Sound.Encoder != "" && !slices.Contains(w.Talkback, p.Sound.Codec) {
		for _, codec := range w.Talkback {
			if !slices.Contains(p.Sound.Options, codec) {
				continue
			}
			out = append(out, finding.Change{Kind: SetSound, Key: SetSound + "/" + p.Sound.Encoder, Title: "Sound's coding", From: PrettySound(p.Sound.Codec), To: PrettySound(codec),
				Why: fmt.Sprintf("%s talks back in %s.", w.Recorder, anyOf(w.Talkback)), Risk: finding.NoRisk,
				Args: map[string]string{"token": p.Sound.Encoder, "codec": codec, "old_codec": p.Sound.Codec, "profile": p.Token},
				Undo: finding.Undo{Kind: finding.Reversible, Note: "code it as it was."}})
			break
		}
	}
	if w.Consent {
		return out
	}
	for _, p := range f.Profiles {
		if p.Sound.Codec == "" || p.Sound.Encoder == "" {
			continue
		}
		args := map[string]string{"token": p.Sound.Encoder, "profile": p.Token, "to": NoSound, "old_to": WithSound}
		out = append(out, finding.Change{Kind: MuteSound, Key: MuteSound + "/" + p.Token, Title: "Sound in " + p.Name, From: WithSound, To: NoSound,
			Why: "No consent to record sound here is on record.", Risk: finding.NoRisk, Args: args,
			Undo: finding.Undo{Kind: finding.Reversible, Note: "put it in again."}})
	}
	return out
}

// What a profile reads of its sound.
const (
	WithSound = "sound is sent"
	NoSound   = "no sound"
)

// Talker is the view's profile whose speaker can be talked through from a browser, and in which
// coding: the one that the recorder talks back in where the speaker takes it. ok is false where
// it has no speaker that takes G.711.
func (f Facts) Talker(w Wishes) (p Profile, codec string, ok bool) {
	for _, p := range f.Profiles {
		if p.URI == "" {
			continue
		}
		for _, codec := range append(slices.Clone(w.Talkback), "PCMU", "PCMA") {
			if (codec == "PCMU" || codec == "PCMA") && slices.Contains(p.Sound.Takes, codec) {
				return p, codec, true
			}
		}
	}
	return Profile{}, "", false
}

// Listens is the view's profile whose sound a browser can play, and its coding: G.711. ok is false
// where it sends none.
func (f Facts) Listens() (p Profile, codec string, ok bool) {
	for _, p := range f.Profiles {
		if codec := p.sends(f); p.URI != "" && (codec == "PCMU" || codec == "PCMA") {
			return p, codec, true
		}
	}
	return Profile{}, "", false
}

// Describes is the profile whose stream is known to carry what analytics see; ok is false where none is.
func (f Facts) Describes() (p Profile, ok bool) {
	for _, p := range f.Profiles {
		if _, m, _ := f.Find(p.Token); p.Trouble == "" && (p.Metadata || m != nil && m.Metadata != nil) {
			return p, true
		}
	}
	return Profile{}, false
}

// Moves is the profile that a browser is shown moving: the smallest one of H.264 that is wide
// enough to look at, else the largest; of JPEG where none is H.264. ok is false where neither is
// had from here.
func (f Facts) Moves() (p Profile, ok bool) {
	for _, codec := range []string{"H264", "JPEG"} {
		record, view := Roles(f.Profiles, []string{codec})
		for _, token := range []string{view, record} {
			if p, _, there := f.Find(token); there && token != "" && p.URI != "" {
				return p, true
			}
		}
	}
	return Profile{}, false
}
