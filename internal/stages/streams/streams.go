// Package streams reads what a camera's streams declare, and plays them.
package streams

import (
	"context"
	"fmt"
	"time"

	"duskyharbor/internal/core/access"
	"duskyharbor/internal/core/finding"
	"duskyharbor/internal/core/identity"
	"duskyharbor/internal/core/stage"
	"duskyharbor/internal/core/stream"
	"duskyharbor/internal/device/rtsp"
	"duskyharbor/internal/engine"
	"duskyharbor/internal/site"
	"duskyharbor/internal/stages"
	"duskyharbor/internal/store"
)

// Stage is Streams.
type Stage struct{ stages.Kit }

// New makes the stage.
func New(k stages.Kit) *Stage { return &Stage{k} }

// ID is stage.Streams.
func (t *Stage) ID() stage.Stage { return stage.Streams }

// Judge says whether each stream delivers what it declares.
func (t *Stage) Judge(now time.Time, s *site.Snapshot, of site.Source) stage.Verdict {
	f, w := s.Streams(of)
	found, _ := s.Find(of.Device)
	return stage.Verdict{Read: f.Read(), Findings: stream.Judge(now, f, w),
		Done: "Every stream delivers what it declares.", NotHere: found.OnlyBehind()}
}

// Propose lists nothing: encoder settings aren't written yet.
func (t *Stage) Propose(time.Time, *site.Snapshot, site.Source) []finding.Change { return nil }

// Editor knows no kind of change.
func (t *Stage) Editor(context.Context, *engine.Visit, store.Change) (engine.Editor, error) {
	return nil, engine.ErrKind
}

// AfterChange reads nothing: no change so far touches a stream.
func (t *Stage) AfterChange(context.Context, *engine.Visit, []store.Change) error { return nil }

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
	says, err := t.playAll(ctx, v.Source, s)
	if kept := t.KeepAsked(ctx, site.StreamsAsked, v.Source, "streams", began, err); kept != nil {
		return "", kept
	}
	return says, err
}

func (t *Stage) playAll(ctx context.Context, of site.Source, s *site.Snapshot) (string, error) {
	d := of.Device
	c, err := t.Accounts.Open(ctx, d, s, t.ID().String())
	if err != nil {
		return "", err
	}
	defer c.Close()
	services, _ := site.Services.Of(s, d.ID)
	profiles, err := c.Profiles(ctx, services)
	if err != nil {
		return "", err
	}
	if err := t.Store.KeepFacts(ctx, site.Profiles.New(d.ID, "GetProfiles, GetStreamUri", time.Now().UTC(), profiles)); err != nil {
		return "", err
	}
	opens, _ := site.Account.Of(s, d.ID)
	login, err := t.Accounts.LoginOf(ctx, d, s, opens.ForRTSP(), access.RTSP, t.ID().String())
	if err != nil {
		return "", err
	}
	host := t.Dialer.At(*d.Address)
	var all []stream.Measured
	own, _ := stream.OfView(profiles, of.Video)
	for _, p := range own {
		all = append(all, rtsp.Measure(ctx, host, p, rtsp.Login(login), t.Measure))
	}
	if ctx.Err() != nil {
		return "", ctx.Err()
	}
	if err := t.Store.KeepFacts(ctx, site.Measured.New(of, "RTSP PLAY", time.Now().UTC(), all)); err != nil {
		return "", err
	}
	return fmt.Sprintf("%d profiles read, %d played", len(profiles), len(own)), nil
}
