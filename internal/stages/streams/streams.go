// Package streams reads what a camera's streams declare, and plays them.
package streams

import (
	"context"
	"fmt"
	"sync"
	"time"

	"duskyharbor/internal/core/access"
	"duskyharbor/internal/core/finding"
	"duskyharbor/internal/core/ground"
	"duskyharbor/internal/core/identity"
	"duskyharbor/internal/core/picture"
	"duskyharbor/internal/core/stage"
	"duskyharbor/internal/core/stream"
	"duskyharbor/internal/core/trouble"
	"duskyharbor/internal/device/onvif"
	"duskyharbor/internal/device/rtsp"
	"duskyharbor/internal/engine"
	"duskyharbor/internal/facts"
	"duskyharbor/internal/site"
	"duskyharbor/internal/stages"
)

// Stage is Streams.
type Stage struct {
	stages.Services
	stills *album
	grips  *grips
}

// New makes the stage.
func New(k stages.Services) *Stage { return &Stage{k, newAlbum(), &grips{all: map[int64]*grip{}}} }

// ID is stage.Streams.
func (t *Stage) ID() stage.Stage { return stage.Streams }

// Judge says whether each stream delivers what it declares.
func (t *Stage) Judge(now time.Time, s *site.Snapshot, of site.Source) stage.Verdict {
	f, w := facts.ForStreams(s, of)
	if len(w.Accepted) > 0 {
		w.Grounds = t.Engine.Grounds(ground.Picture, s, of)
	}
	found, _ := facts.ForIdentity(s, of.Device)
	findings := stream.Judge(now, f, w)
	if setup, held := facts.ForPicture(s, of); setup != nil && f.Read() {
		findings = append(findings, picture.Judge(*setup, held)...)
	}
	if fi, open := stream.JudgeAccepted(w.Accepted); open && f.Read() && f.Trouble == "" {
		findings = append(findings, fi)
	}
	finding.Sort(findings)
	return stage.Verdict{Read: f.Read(), Findings: findings,
		Stale: f.Stale(), Done: stream.Done(w), NotHere: found.OnlyBehind()}
}

// Grounds are which view it is, and what of it is hidden.
func (t *Stage) Grounds(s *site.Snapshot, of site.Source) []ground.Ground {
	view := ground.Ground{Of: "view", Is: of.Video, Under: ground.Proof | ground.Picture}
	masks := ground.Ground{Of: "privacy masks", Under: ground.Proof | ground.Picture}
	if setup, ok := facts.Setup.Of(s, of); ok && setup.Masks != nil {
		masks.Is, masks.Exact = setup.Masks.Ground()
	}
	return []ground.Ground{view, masks}
}

// Read reads profiles and plays those that show the view, each for a while. A recorder is read with its status.
func (t *Stage) Read(ctx context.Context, v *engine.Visit) (string, error) {
	if v.Device.Kind == identity.Recorder {
		return t.Recorders.Read(ctx, v.Device)
	}
	s, err := v.Snapshot(ctx)
	if err != nil {
		return "", err
	}
	began := time.Now().UTC()
	if h, herr := t.Store.HandOn(ctx, v.Device.ID, handQuiet); herr == nil && h.Lapsed { // it didn't answer when it was to be put back
		if err := t.release(ctx, v, h); err != nil {
			t.Log.Warn("a camera that was held by hand can't be put back yet", "camera", v.Source.Place, "err", err)
		}
	}
	says, err := t.playAll(ctx, v.Source, s)
	if kept := t.NoteAsked(ctx, facts.StreamsRead, v.Source, "streams", began, err); kept != nil {
		return "", kept
	}
	return says, err
}

func (t *Stage) playAll(ctx context.Context, of site.Source, s *site.Snapshot) (string, error) {
	d := of.Device
	profiles, via, err := t.profiles(ctx, of, s)
	if err != nil {
		return "", err
	}
	if err := t.Store.KeepFacts(ctx, site.Profiles.New(d.ID, via, time.Now().UTC(), profiles)); err != nil {
		return "", err
	}
	opens, _ := facts.Account.Of(s, d.ID)
	login, err := t.Accounts.LoginOf(ctx, d, s, opens.ForRTSP(), access.RTSP, t.ID().String())
	if err != nil {
		return "", err
	}
	pin, _ := facts.Pin.Of(s, d.ID)
	host := t.Dialer.At(*d.Address).Pinned(&pin)
	own, _ := stream.OfSource(profiles, of.Video)
	until := time.Now().Add(readLimit)
	if end, ok := ctx.Deadline(); ok {
		until = end
	}
	play := rtsp.WithMetadata
	if of.Consent.Given() {
		play = rtsp.WithSound
	}
	most := atOnce
	if _, slot, _ := s.HolderOf(of); slot != nil {
		most = 1
	}
	least := func(p stream.Profile) time.Duration { return rtsp.MostOf(p, t.Measure) }
	all := playEach(own, until.Add(-keepLimit), least, most, func(p stream.Profile) stream.Measured {
		return rtsp.MeasureOver(ctx, host, p, rtsp.Login(login), t.Measure, play)
	})
	if ctx.Err() != nil {
		return "", ctx.Err()
	}
	if err := t.Store.KeepFacts(ctx, facts.Measured.New(of, "RTSP PLAY", time.Now().UTC(), all)); err != nil {
		return "", err
	}
	if err := t.keepStill(ctx, of); err != nil {
		return "", err
	}
	return fmt.Sprintf("%d profiles read, %d played", len(profiles), len(own)), nil
}

// profiles reads what a device's streams declare and where they are had, and by which calls.
func (t *Stage) profiles(ctx context.Context, of site.Source, s *site.Snapshot) ([]stream.Profile, string, error) {
	d := of.Device
	if seen, ok := facts.Seen.Of(s, d.ID); ok && seen.RTSPAlone() {
		all, err := t.described(ctx, of, s)
		return all, "RTSP DESCRIBE", err
	}
	c, err := t.Accounts.Open(ctx, d, s, t.ID().String())
	if err != nil {
		return nil, "", err
	}
	defer c.Close()
	services, _ := facts.Services.Of(s, d.ID)
	all, err := c.Profiles(ctx, services)
	if err != nil {
		return nil, "", err
	}
	if err := addresses(ctx, c, services, all, s.Views(d.ID)); err != nil {
		return nil, "", err
	}
	return all, "GetProfiles, GetStreamUri", t.keepSetup(ctx, c, of, services, all)
}

// Limits of reading one camera: as many streams as it has are played one after the other.
const (
	readLimit = 4 * time.Minute
	keepLimit = 10 * time.Second // what is left for writing down what was measured
)

// Manner gives a camera the time that its streams take.
func (t *Stage) Manner() engine.Manner { return engine.Manner{Limit: readLimit} }

// addresses reads where the profiles are had that show an enrolled view; the others are
// listed. A profile whose address the device doesn't give costs only itself.
func addresses(ctx context.Context, c *onvif.Client, services map[string]string, profiles []stream.Profile, views []site.Source) error {
	videos := make([]string, len(views))
	for i, v := range views {
		videos[i] = v.Video
	}
	for i := range profiles {
		if !profiles[i].ShowsAny(videos) {
			continue
		}
		err := c.Addresses(ctx, services, &profiles[i])
		if err == nil {
			err = c.Options(ctx, services, &profiles[i])
		}
		if err != nil && !costsItself(err) {
			return err
		}
		if err != nil {
			profiles[i].Trouble = trouble.Sentence(err)
		}
	}
	return nil
}

// atOnce is how many streams of a camera are played at once where no recorder plays any: where one
// does, they are played one after the other, so that one session more is taken at the most.
const atOnce = 3

// playEach plays streams, each of which takes least at the most, until the time is over: those
// that are left say so. The first is played alone: by it the account is tried. The others go at
// once, so many; where the camera plays no more than it does, what it refused is asked for again
// alone.
func playEach(own []stream.Profile, until time.Time, least func(stream.Profile) time.Duration, most int, play func(stream.Profile) stream.Measured) []stream.Measured {
	out := make([]stream.Measured, len(own))
	one := func(i int) {
		p := own[i]
		switch {
		case p.Trouble != "":
			out[i] = stream.Measured{Profile: p.Token, At: time.Now().UTC(), Trouble: p.Trouble}
		case time.Until(until) < least(p):
			out[i] = stream.Measured{Profile: p.Token, At: time.Now().UTC(), Skipped: true,
				Trouble: fmt.Sprintf("There was no time left for it here: the %d before it took too long.", i)}
		default:
			out[i] = play(p)
		}
	}
	for i := 0; i < len(own); {
		n := min(most, len(own)-i)
		if i == 0 || n < 1 {
			n = 1
		}
		var group sync.WaitGroup
		for k := i; k < i+n; k++ {
			group.Go(func() { one(k) })
		}
		group.Wait()
		for k := i; k < i+n; k++ {
			if n > 1 && out[k].Full {
				most = 1
				one(k)
			}
		}
		i += n
	}
	return out
}
