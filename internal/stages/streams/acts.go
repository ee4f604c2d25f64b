package streams

import (
	"context"
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"
	"time"

	"duskyharbor/internal/act"
	"duskyharbor/internal/core/finding"
	"duskyharbor/internal/core/ground"
	"duskyharbor/internal/core/picture"
	"duskyharbor/internal/core/scene"
	"duskyharbor/internal/core/stage"
	"duskyharbor/internal/core/stream"
	"duskyharbor/internal/core/trouble"
	"duskyharbor/internal/facts"
	"duskyharbor/internal/site"
)

// Acts of the stage.
func (t *Stage) Acts() []act.Any {
	const on = stage.Streams
	return []act.Any{
		act.Act[Encoders]{Name: "streams/encoders", About: "set the encoders of cameras alike", Stage: on, More: readGroups, Plan: t.planEncoders},
		act.Act[Setting]{Name: "streams/setting", About: "keep a named setting of encoders; nothing is written to a camera", Stage: on, Keep: keepSetting},
		act.Act[SettingID]{Name: "streams/setting/remove", About: "take a named setting off the site; encoders stay as they are set", Stage: on, Keep: dropSetting},
		act.Act[Chosen]{Name: "streams/setting/write", About: "choose a named setting for cameras, and set their encoders so", Stage: on, More: readSetting, Keep: chooseSetting, Plan: t.planChosen},
		act.Act[Use]{Name: "streams/use", About: "choose which stream of cameras is recorded, and which looked at", Stage: on, Keep: keepUses},
		act.Act[Texts]{Name: "streams/texts", About: "set the text that cameras burn in alike", Stage: on, Plan: t.planTexts},
		act.Act[Mask]{Name: "streams/masks", About: "hide one part more of a picture, or one less", Stage: on, Plan: planMask},
		act.Act[Imaging]{Name: "streams/imaging", About: "set a property of how a camera's pictures are taken", Stage: on, Plan: planImaging},
		act.Act[Turn]{Name: "streams/turn", About: "move a camera, or what it remembers", Stage: on, Plan: planTurn},
		act.Act[Hand]{Name: "streams/hand", About: "hold a camera by hand: move it, look, zoom, and let it go, which puts it back", Stage: on, Now: t.hand},
		act.Act[Paths]{Name: "streams/paths", About: "name at which addresses a camera's streams are had", Stage: on, Keep: keepPaths},
		act.Act[Usual]{Name: "streams/usual", About: "have the usual addresses asked, and keep those that answer", Stage: on, More: t.askUsual, Keep: keepUsual},
		act.Act[Consent]{Name: "streams/consent", About: "write down that sound may be recorded at a camera, or strike that out", Stage: on, Keep: keepConsent},
		act.Act[Marks]{Name: "streams/marks", About: "keep two marks of known size on a picture, or forget them", Stage: on, Keep: keepMarks},
		act.Act[Acceptance]{Name: "streams/accept", About: "accept the picture that a camera shows now, by day or by night", Stage: on, Alone: true, More: t.takeShot, Keep: keepAcceptance},
		act.Act[Heard]{Name: "streams/heard", About: "say whether what was sent to a speaker was heard there", Stage: on, Alone: true, Keep: keepHeard},
	}
}

// alike is what sets a selection as a person wants it: says names it.
func alike(s *act.Seen, says string, asked func(site.Source) ([]finding.Change, []string)) (p act.Planned) {
	for _, of := range s.Of {
		changes, cant := asked(of)
		switch {
		case len(cant) > 0:
			p.Refuse(of.Place, strings.Join(cant, "; "))
		case len(changes) == 0:
			p.Idle++
		}
		p.Add(of, changes)
	}
	p.Title = says + " on " + act.Count(len(p.Of), "camera")
	return p
}

// Texts is what cameras are to burn in.
type Texts struct {
	act.Selection
	Name string `form:"text-name" json:"name,omitempty" enum:"place,none"` // place, none; empty: as it is
	Time string `form:"text-time" json:"time,omitempty" enum:"date,none"`  // date, none; empty: as it is
}

func (t *Stage) planTexts(_ time.Time, s *act.Seen, x Texts) (act.Planned, error) {
	var parts []string
	for _, k := range []struct {
		what, want, field string
		says              map[string]string
	}{{"name", x.Name, "text-name", map[string]string{"place": "Burn in the name that each has here", "none": "Take the name out"}},
		{"time", x.Time, "text-time", map[string]string{"date": "Burn in date and time", "none": "Take the time out"}}} {
		switch says, ok := k.says[k.want]; {
		case ok:
			parts = append(parts, says)
		case k.want != "":
			return act.Planned{}, act.Wrong(k.field, "The "+k.what+" in a picture can't be asked for so.")
		}
	}
	if len(parts) == 0 {
		return act.Planned{}, act.Wrong("text-name", "Choose what is to be burned in: the name, the time, or neither.")
	}
	want := picture.Want{Name: x.Name, Time: x.Time}
	return alike(s, strings.Join(parts, ", "), func(of site.Source) ([]finding.Change, []string) { return t.AskedText(s.Snapshot, of, want) }), nil
}

// Picture is a camera whose picture is meant, and whose picture was looked at; 0: none was shown.
type Picture struct {
	act.Camera
	Shown int64 `form:"shown" json:"shown_camera_id,omitempty"`
}

// Other says that what a person drew on, marked or saw was another camera's picture than the one that it is meant
// for; nil where it wasn't, or nothing was shown.
func (x Picture) Other(of site.Source) error {
	if x.Shown == 0 || x.Shown == of.ID {
		return nil
	}
	return trouble.UserErrorf("The picture on the page wasn't that of %s: nothing was kept. Open its sheet again, and look at its own.", of.Place)
}

// one is what changes one view's picture.
func (x Picture) one(s *act.Seen, change func(picture.Setup) (finding.Change, error)) (p act.Planned, err error) {
	of, err := s.The()
	if err != nil {
		return p, err
	}
	if err := x.Other(of); err != nil {
		return p, err
	}
	setup, _ := facts.ForPicture(s.Snapshot, of)
	if setup == nil {
		return p, trouble.UserError("Read the streams of " + of.Place + " first: how its picture is made isn't known.")
	}
	asked, err := change(*setup)
	if err != nil {
		return p, err
	}
	p.Title = asked.Title + ": " + of.Place
	p.Add(of, []finding.Change{asked})
	return p, nil
}

// Mask is a part of a picture that is hidden: by its corners, or a rectangle by its edges, in hundredths of the
// picture from its upper left corner; or it is one that isn't any more.
type Mask struct {
	Picture
	Without string `form:"without" json:"without,omitempty"` // the place, from 0, of one that goes
	Corners string `form:"corners" json:"corners,omitempty"` // "20 10, 40 10, 30 30"
	Left    string `form:"left" json:"left,omitempty"`
	Top     string `form:"top" json:"top,omitempty"`
	Right   string `form:"right" json:"right,omitempty"`
	Bottom  string `form:"bottom" json:"bottom,omitempty"`
}

func planMask(_ time.Time, s *act.Seen, x Mask) (act.Planned, error) {
	return x.one(s, func(setup picture.Setup) (finding.Change, error) {
		var areas []scene.Polygon
		if setup.Masks != nil {
			areas = slices.Clone(setup.Masks.Areas())
		}
		if i, err := strconv.Atoi(x.Without); err == nil {
			if i < 0 || i >= len(areas) {
				return finding.Change{}, trouble.UserError("That mask isn't there any more: read the streams again.")
			}
			return setup.Hide(slices.Delete(areas, i, i+1))
		}
		if x.Corners != "" {
			a, err := picture.ParseCorners(x.Corners)
			if err != nil {
				return finding.Change{}, err
			}
			return setup.Hide(append(areas, a))
		}
		var at [4]float64
		for i, text := range []string{x.Left, x.Top, x.Right, x.Bottom} {
			v, err := number(text)
			if err != nil {
				return finding.Change{}, trouble.UserError("Draw the mask on the picture, or type its edges or corners in hundredths of the picture.")
			}
			at[i] = v
		}
		a, err := picture.Rectangle(at[0], at[1], at[2], at[3])
		if err != nil {
			return finding.Change{}, err
		}
		return setup.Hide(append(areas, a))
	})
}

// number reads a number as a person types it.
func number(text string) (float64, error) {
	v, err := strconv.ParseFloat(strings.Replace(strings.TrimSpace(text), ",", ".", 1), 64)
	if err == nil && (math.IsNaN(v) || math.IsInf(v, 0)) {
		err = strconv.ErrRange
	}
	return v, err
}

// Imaging is a property of how pictures are taken, and its value.
type Imaging struct {
	Picture
	Property string `form:"property" json:"property" enum:"day and night,exposure,exposure time,brightness,focusing,focus"`
	Value    string `form:"value" json:"value"`
}

func planImaging(_ time.Time, s *act.Seen, x Imaging) (act.Planned, error) {
	return x.one(s, func(setup picture.Setup) (finding.Change, error) {
		return setup.Set(picture.Property(x.Property), x.Value)
	})
}

// Turn moves a camera, or what it remembers.
type Turn struct {
	Picture
	Do     string `form:"do" json:"do"`                   // try, save, forget:preset, call:preset, aim
	Preset string `form:"preset" json:"preset,omitempty"` // the name of one that is saved
	Pan    string `form:"pan" json:"pan,omitempty"`       // of an aim, as its limits are given
	Tilt   string `form:"tilt" json:"tilt,omitempty"`
	Zoom   string `form:"zoom" json:"zoom,omitempty"`
}

func planTurn(now time.Time, s *act.Seen, x Turn) (act.Planned, error) {
	return x.one(s, func(setup picture.Setup) (finding.Change, error) {
		switch do, preset, _ := strings.Cut(x.Do, ":"); do {
		case "try":
			return setup.Try(now)
		case "save":
			return setup.Remember(x.Preset)
		case "forget":
			return setup.Forget(preset)
		case "call":
			return setup.Recall(preset)
		case "aim":
			var to picture.Aim
			for _, f := range []struct {
				text string
				to   *float64
			}{{x.Pan, &to.Pan}, {x.Tilt, &to.Tilt}, {x.Zoom, &to.Zoom}} {
				v, err := number(strings.Replace(f.text, "−", "-", 1))
				if err != nil {
					return finding.Change{}, trouble.UserError("Say where it is to look in figures, as its limits are given.")
				}
				*f.to = v
			}
			return setup.Turn(to, picture.Preset{})
		}
		return finding.Change{}, act.Wrong("do", "Say what it is to do: try, save, forget, call or aim.")
	})
}

// Paths are where a camera's streams are had, a path a line.
type Paths struct {
	act.Camera
	Paths string `form:"paths" json:"paths"`
}

// keepPaths keeps at which addresses a camera's streams are had, as a person typed them.
func keepPaths(ctx context.Context, c *act.Call, x Paths) (act.Kept, error) {
	paths, err := stream.ParsePaths(x.Paths)
	if err != nil {
		return act.Kept{}, act.Wrong("paths", err.Error())
	}
	return namePaths(ctx, c, x.Source, paths, "named the streams")
}

func namePaths(ctx context.Context, c *act.Call, source int64, paths []string, did string) (act.Kept, error) {
	_, of, err := c.Camera(ctx, source)
	if err != nil {
		return act.Kept{}, err
	}
	named := strings.Join(paths, ", ")
	out := act.Kept{Did: did, Detail: of.Place + ": " + named, Says: fmt.Sprintf("Streams of %s: %s. Read and play them now.", of.Place, named), Judge: []int64{of.Device.ID}}
	if len(paths) == 0 {
		out.Detail, out.Says = of.Place+": none", "No stream of "+of.Place+" is named any more."
	}
	return out, c.Store.SetPaths(ctx, c.Site.ID, of.Device.ID, paths)
}

// Usual is a camera that the usual addresses are asked of.
type Usual struct {
	act.Camera
	paths []string
}

// askUsual asks the usual addresses, because a person wants it.
func (t *Stage) askUsual(ctx context.Context, c *act.Call, x *Usual) error {
	_, of, err := c.Camera(ctx, x.Source)
	if err != nil {
		return err
	}
	if x.paths, err = t.Usual(ctx, of); err == nil && len(x.paths) == 0 {
		err = trouble.UserErrorf("None of the %d usual addresses has a stream of %s: its papers or its own page name them.", len(stream.UsualPaths()), of.Place)
	}
	return err
}

func keepUsual(ctx context.Context, c *act.Call, x Usual) (act.Kept, error) {
	return namePaths(ctx, c, x.Source, x.paths, "had the usual streams asked")
}

// Consent is who agreed that sound is recorded at a camera, and when.
type Consent struct {
	act.Camera
	Text string `form:"text" json:"text,omitempty"`
	Off  bool   `form:"off" json:"off,omitempty"` // it is struck out
}

func keepConsent(ctx context.Context, c *act.Call, x Consent) (act.Kept, error) {
	_, of, err := c.Camera(ctx, x.Source)
	if err != nil {
		return act.Kept{}, err
	}
	out := act.Kept{Did: "struck out the consent to record sound", Says: "No sound may be recorded at " + of.Place + " any more: read its streams again.", Judge: []int64{of.Device.ID}}
	text := ""
	if !x.Off {
		if text, err = stream.ParseConsent(x.Text); err != nil {
			return act.Kept{}, act.Wrong("text", err.Error())
		}
		out.Did, out.Says = "wrote down consent to record sound", "Sound may be recorded at "+of.Place+": read its streams again to hear whether it is there."
	}
	out.Detail = of.Place + ": " + text
	who, err := c.Who(ctx)
	if err != nil {
		return act.Kept{}, err
	}
	return out, c.Store.SetConsent(ctx, c.Site.ID, of.ID, text, who)
}

// Marks are two lines of known size on a picture: "x1 y1 x2 y2" in parts of it, and metres.
type Marks struct {
	Picture
	Off     bool   `form:"off" json:"off,omitempty"` // they are forgotten
	Mark0   string `form:"mark-0" json:"mark_0,omitempty"`
	Metres0 string `form:"metres-0" json:"metres_0,omitempty"`
	Mark1   string `form:"mark-1" json:"mark_1,omitempty"`
	Metres1 string `form:"metres-1" json:"metres_1,omitempty"`
}

func keepMarks(ctx context.Context, c *act.Call, x Marks) (act.Kept, error) {
	s, of, err := c.Camera(ctx, x.Source)
	if err != nil {
		return act.Kept{}, err
	}
	judge := []int64{of.Device.ID}
	if x.Off {
		return act.Kept{Says: "The marks on the picture of " + of.Place + " are gone.", Did: "took the marks off a picture", Detail: of.Place, Judge: judge},
			c.Store.SetMarks(ctx, c.Site.ID, of.ID, nil)
	}
	if err := x.Other(of); err != nil {
		return act.Kept{}, err
	}
	who, err := c.Who(ctx)
	if err != nil {
		return act.Kept{}, err
	}
	f, w := facts.ForStreams(s, of)
	setup, _ := facts.ForPicture(s, of)
	scale := stream.Scale{Size: f.Marked(w.Codecs), By: who, Aim: setup.AimText()}
	if f.Still != nil {
		scale.Seen = &f.Still.Print
	}
	for i, m := range [][2]string{{x.Mark0, x.Metres0}, {x.Mark1, x.Metres1}} {
		k, err := stream.ParseMark(m[0])
		if err != nil {
			return act.Kept{}, err
		}
		if k.Metres, err = strconv.ParseFloat(m[1], 64); err != nil {
			return act.Kept{}, act.Wrongf(fmt.Sprintf("metres-%d", i), "Say how long mark %d is, in metres, as 2.05.", i+1)
		}
		scale.Marks[i] = k
	}
	if scale.Size.Width == 0 {
		return act.Kept{}, trouble.UserError("The size of its picture isn't known: read and play its streams first.")
	}
	if err := scale.Check(); err != nil {
		return act.Kept{}, act.Wrong("mark-0", err.Error())
	}
	return act.Kept{Says: scale.Text(), Did: "marked sizes on a picture", Judge: judge,
		Detail: fmt.Sprintf("%s: %g m, %g m", of.Place, scale.Marks[0].Metres, scale.Marks[1].Metres)}, c.Store.SetMarks(ctx, c.Site.ID, of.ID, &scale)
}

// Heard says whether a speaker was heard.
type Heard struct {
	act.Camera
	Heard bool `form:"heard" json:"heard"`
}

func keepHeard(ctx context.Context, c *act.Call, x Heard) (act.Kept, error) {
	_, of, err := c.Camera(ctx, x.Source)
	if err != nil {
		return act.Kept{}, err
	}
	did := "heard nothing of a speaker"
	if x.Heard {
		did = "heard a speaker"
	}
	return act.Kept{Did: did, Detail: of.Place}, nil
}

// Acceptance is a picture that is accepted, by a person who looks at it: the still that the camera gives now, or of one that gives none what was
// seen moving.
type Acceptance struct {
	Picture
	Light string `form:"light" json:"light"`         // day, night
	Shot  []byte `form:"-" json:"picture,omitempty"` // JPEG, at most 2 MB
	of    site.Source
	shot  taken
	on    []ground.Ground // it rests on them
}

// ReadForm reads the picture that comes along, where one does.
func (x *Acceptance) ReadForm(f act.Form) error {
	file, _, err := f.File("picture", maxShown)
	x.Shot = file.Data
	return err
}

// Check is what is wrong with it.
func (x Acceptance) Check() error {
	if l := stream.Light(x.Light); l != stream.Day && l != stream.Night {
		return act.Wrong("light", "A picture is accepted by day or by night.")
	}
	return nil
}

// maxShown is how large a picture may be that a browser took of what it shows, in bytes.
const maxShown = 2 << 20

// takeShot fetches the picture, or checks the one that was sent.
func (t *Stage) takeShot(ctx context.Context, c *act.Call, x *Acceptance) error {
	s, of, err := c.Camera(ctx, x.Source)
	if err != nil {
		return err
	}
	if err := x.Other(of); err != nil {
		return err
	}
	if len(x.Shot) > maxShown {
		return act.Wrong("picture", "That picture is larger than 2 MB.")
	}
	x.of, x.on = of, t.Engine.Grounds(ground.Picture, s, of)
	if x.Shot != nil {
		x.shot, err = shown(ctx, s, of, x.Shot)
		return err
	}
	x.shot, err = t.fetch(ctx, of)
	return err
}

func keepAcceptance(ctx context.Context, c *act.Call, x Acceptance) (act.Kept, error) {
	who, err := c.Who(ctx)
	if err != nil {
		return act.Kept{}, err
	}
	via := "its still"
	if x.Shot != nil {
		via = "its moving picture"
	}
	light := stream.Light(x.Light)
	return act.Kept{Says: "The picture of " + x.of.Place + " by " + x.Light + " is accepted as it is now.", Did: "accepted a picture",
		Detail: x.of.Place + ", by " + x.Light, Judge: []int64{x.of.Device.ID}}, keepAccepted(ctx, c.Store, x.of, light, c.Person, who, via, x.shot, x.on)
}
