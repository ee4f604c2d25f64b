package engine

import (
	"context"
	"net/netip"
	"slices"
	"time"

	"duskyharbor/internal/core/finding"
	"duskyharbor/internal/core/identity"
	"duskyharbor/internal/core/stage"
	"duskyharbor/internal/site"
	"duskyharbor/internal/store"
)

// Proposals of a stage for a source, as its rules propose them from the facts; where the
// stage is the device's, those for the device.
func (e *Engine) Proposals(now time.Time, s *site.Snapshot, of site.Source, st stage.Stage) []finding.Change {
	if x, ok := e.byID[st]; ok {
		return x.Propose(now, s, judged(s, of, st))
	}
	return nil
}

// judged is the source that is judged in a stage for another: where the stage is the
// device's, the device's first view.
func judged(s *site.Snapshot, of site.Source, st stage.Stage) site.Source {
	if st.OfDevice() && !of.First() {
		return s.Of(of.Device)
	}
	return of
}

// Findings of a stage for a source, recorders too. What a person lives with is a note.
func (e *Engine) Findings(now time.Time, s *site.Snapshot, of site.Source, st stage.Stage) []finding.Finding {
	return e.verdict(now, s, judged(s, of, st), st).Findings
}

func (e *Engine) verdict(now time.Time, s *site.Snapshot, of site.Source, st stage.Stage) stage.Verdict {
	x, ok := e.byID[st]
	if !ok {
		return stage.Verdict{Later: true}
	}
	v := x.Judge(now, s, of)
	v.Findings = finding.Accept(v.Findings, s.Accepted(of, st))
	return v
}

// Mark of a recorder, which has no row on the Board, in one stage by itself.
func (e *Engine) Mark(now time.Time, s *site.Snapshot, d store.Device, st stage.Stage) stage.Mark {
	return stage.Derive(st, e.verdict(now, s, d.Whole(), st), func(stage.Stage) stage.State { return stage.Ready })
}

// Marks derives all marks of a device's views, view by view. A stage that is the device's
// is judged once; its findings and proposals are with the first view.
func (e *Engine) Marks(now time.Time, s *site.Snapshot, d store.Device) []store.Judged {
	views := s.Views(d.ID)
	out := make([]store.Judged, 0, len(views)*len(stage.All()))
	for _, of := range views {
		marks := map[stage.Stage]stage.State{}
		before := func(st stage.Stage) stage.State { return marks[st] }
		for i, st := range stage.All() {
			var j store.Judged
			if st.OfDevice() && !of.First() {
				j = out[i] // of the first view
				j.SourceID, j.Act, j.Changes, j.Findings = of.ID, j.Act.OfSource(st, of.Nth), 0, nil
			} else {
				j = e.judgeOne(now, s, of, st, before)
			}
			marks[st] = j.Mark.State
			out = append(out, j)
		}
	}
	return out
}

func (e *Engine) judgeOne(now time.Time, s *site.Snapshot, of site.Source, st stage.Stage,
	before func(stage.Stage) stage.State) store.Judged {
	v := e.verdict(now, s, of, st)
	j := store.Judged{Site: s.Site.ID, SourceID: of.ID, Stage: st, Version: s.Version(of.Device),
		Mark: stage.Derive(st, v, before), Findings: v.Findings, ValidUntil: v.ValidUntil}
	j.Changes = len(e.Proposals(now, s, of, st))
	if !v.Later {
		j.Act = stage.ActOf(st, j.Mark, j.Changes, stage.Free(st, before) && v.Asks == "")
	}
	return j
}

// judgeAround judges a device again, and with a recorder the cameras that hang on it. It
// doesn't hang on a context that ended.
func (e *Engine) judgeAround(ctx context.Context, d store.Device) error {
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), 10*time.Second)
	defer cancel()
	only := []int64{d.ID}
	if d.Kind == identity.Recorder {
		facts, err := e.store.FactsOf(ctx, only)
		if err != nil {
			return err
		}
		table, _, err := site.Recorder.From(facts[d.ID])
		if err != nil {
			return err
		}
		var at []netip.Addr
		for _, s := range table.Slots {
			if a, err := netip.ParseAddr(s.Address); err == nil {
				at = append(at, a)
			}
		}
		if only, err = e.store.Hanging(ctx, d, at); err != nil {
			return err
		}
	}
	if d.Kind == identity.Analyser {
		var err error
		if only, err = e.store.LookedAtBy(ctx, d.ID); err != nil {
			return err
		}
	}
	return e.judgeSoon(ctx, d.SiteID, only)
}

// portion is how many cameras are read and judged at once.
const portion = 500

// judge derives the marks of these devices again, a portion at a time.
func (e *Engine) judge(ctx context.Context, site int64, only []int64) error {
	for part := range slices.Chunk(only, portion) {
		if err := e.judgePart(ctx, site, part); err != nil {
			return err
		}
	}
	e.touch(site, store.OnMark, only...)
	return nil
}

func (e *Engine) judgePart(ctx context.Context, siteID int64, only []int64) error {
	s, err := site.Load(ctx, e.store, siteID, only)
	if err != nil {
		return err
	}
	var all []store.Judged
	for _, d := range s.Cameras() {
		all = append(all, e.Marks(time.Now(), s, d)...)
	}
	if err := s.Err(); err != nil {
		e.opt.Log.Warn("a kept fact can't be read", "err", err)
	}
	return e.store.KeepMarks(ctx, all)
}

// Judge derives the marks of these devices of a site again; nil: of all.
func (e *Engine) Judge(ctx context.Context, site int64, devices []int64) error {
	if devices == nil {
		var err error
		if devices, err = e.store.CameraIDs(ctx, site); err != nil {
			return err
		}
	}
	return e.judge(ctx, site, devices)
}
