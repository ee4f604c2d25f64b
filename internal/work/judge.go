package work

import (
	"context"
	"fmt"
	"net/netip"
	"slices"
	"time"

	"duskyharbor/internal/core/access"
	"duskyharbor/internal/core/channel"
	"duskyharbor/internal/core/clock"
	"duskyharbor/internal/core/finding"
	"duskyharbor/internal/core/identity"
	"duskyharbor/internal/core/proof"
	"duskyharbor/internal/core/route"
	"duskyharbor/internal/core/stage"
	"duskyharbor/internal/core/stream"
	"duskyharbor/internal/store"
)

// Proposals of a device in a stage, as the rules propose them from the facts.
func (v *View) Proposals(now time.Time, d store.Device, st stage.Stage) []finding.Change {
	_, open := v.Account(d.ID)
	switch st {
	case stage.Find:
		f, w := v.Find(d)
		return identity.Propose(now, f, w, open)
	case stage.SignIn:
		f, w := v.SignIn(d)
		return access.Propose(now, f, w)
	case stage.Clock:
		if d.Kind == identity.Recorder {
			r, ok := v.Reading(d.ID)
			if status, known := v.Recorder(d.ID); !ok || !known || !status.SetsTime {
				return nil
			}
			return clock.ProposeRecorder(r)
		}
		f, w := v.Clock(d)
		if a, _ := v.Account(d.ID); !open || a.Scheme == access.RTSP {
			return nil // nothing can be written to a device that isn't open
		}
		return clock.Propose(now, f, w)
	case stage.Channels:
		f, w := v.Channel(d)
		return channel.Propose(now, f, w)
	case stage.Routes:
		return route.Propose(now, v.Routes(d), route.Wishes{})
	}
	return nil
}

// NotHere says why a stage doesn't apply to a device; empty where it does.
func (v *View) NotHere(d store.Device, st stage.Stage) string {
	s, ok := v.Seen(d.ID)
	if !ok {
		return ""
	}
	if b, behind := v.ports[s.Address]; behind && s.Heard(identity.OnAPort) && (st == stage.SignIn || st == stage.Clock || st == stage.Streams) {
		return fmt.Sprintf("It is reached only from %s, which signs in and sets its clock itself.", b.Recorder)
	}
	if s.Heard(identity.SpokeRTSP) && !s.ONVIF() && (st == stage.Clock || st == stage.Routes) {
		return "It speaks RTSP alone: there is no clock or event of it that can be read."
	}
	return ""
}

// Found judges a device, recorders too, in one of the first three stages.
func (v *View) Found(now time.Time, d store.Device, st stage.Stage) []finding.Finding {
	var all []finding.Finding
	switch st {
	case stage.Find:
		f, w := v.Find(d)
		all = identity.Judge(now, f, w)
	case stage.SignIn:
		f, w := v.SignIn(d)
		all = access.Judge(now, f, w)
	case stage.Clock:
		if d.Kind == identity.Recorder {
			if r, ok := v.Reading(d.ID); ok {
				all = clock.JudgeRecorder(r, d.Place)
			}
			break
		}
		f, w := v.Clock(d)
		all = clock.Judge(now, f, w)
	}
	return finding.Accept(all, v.seal[d.ID][st])
}

// Judge derives all marks of one camera.
func (v *View) Judge(now time.Time, d store.Device) []store.Judged {
	cases := map[stage.Stage]stage.Case{}
	ff, _ := v.Find(d)
	cases[stage.Find] = stage.Case{Read: ff.Seen != nil, Findings: v.Found(now, d, stage.Find), Done: "It answers where it is expected."}
	sf, _ := v.SignIn(d)
	cases[stage.SignIn] = stage.Case{Read: sf.Account != nil, Findings: v.Found(now, d, stage.SignIn), Done: "An account opens it."}
	cf, _ := v.Clock(d)
	cases[stage.Clock] = stage.Case{Read: cf.Camera != nil, Findings: v.Found(now, d, stage.Clock), Stale: clock.Stale(cf), Done: "Its time agrees with " + cf.Reference.Name + "'s."}
	tf, tw := v.Streams(d)
	cases[stage.Streams] = stage.Case{Read: !tf.LookedAt.IsZero(), Findings: stream.Judge(now, tf, tw), Done: "Every stream delivers what it declares."}
	hf, hw := v.Channel(d)
	cases[stage.Channels] = stage.Case{Read: hf.Slot != nil, Findings: channel.Judge(now, hf, hw), Done: "Its recorder receives it."}
	rf := v.Routes(d)
	cases[stage.Routes] = stage.Case{Read: len(rf.Pegs) > 0, Findings: route.Judge(now, rf, route.Wishes{}), Done: "Its events reach the recorder's inputs."}
	pf := v.Proof(d)
	found, stale := proof.JudgeSource(now, pf, d.Place)
	cases[stage.Prove] = stage.Case{Read: pf.Last != nil && !pf.Last.Ended.IsZero(), Findings: found, Stale: stale, Done: "Walked, and every leg was on time."}
	marks := map[stage.Stage]stage.State{}
	before := func(s stage.Stage) stage.State { return marks[s] }
	out := make([]store.Judged, 0, len(stage.All()))
	for _, st := range stage.All() {
		c := cases[st]
		c.NotHere = v.NotHere(d, st)
		c.Findings = finding.Accept(c.Findings, v.seal[d.ID][st])
		m := stage.Derive(st, c, before)
		marks[st] = m.State
		j := store.Judged{Site: v.Site.ID, SourceID: d.SourceID, Stage: st, Version: d.Version + v.around, Mark: m, Findings: c.Findings}
		if st == stage.SignIn {
			if left, until := sf.Left(now); left == 0 {
				j.ValidUntil = until
			} else if sf.LockedTo.After(now) {
				j.ValidUntil = sf.LockedTo
			}
		}
		j.Changes = len(v.Proposals(now, d, st))
		j.Act = stage.ActOf(st, m, j.Changes, stage.Free(st, before))
		out = append(out, j)
	}
	return out
}

// Err is set when a kept fact couldn't be read.
func (v *View) Err() error { return v.bad }

// judgeAround judges a device again, and with a recorder the cameras that hang on it.
func (o *Office) judgeAround(ctx context.Context, d store.Device) error {
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), 10*time.Second)
	defer cancel()
	only := []int64{d.ID}
	if d.Kind == identity.Recorder {
		facts, err := o.store.FactsOf(ctx, only)
		if err != nil {
			return err
		}
		var status channel.Recorder
		if _, err := facts[d.ID].Into(factRecorder, &status); err != nil {
			return err
		}
		var at []netip.Addr
		for _, s := range status.Slots {
			if a, err := netip.ParseAddr(s.Address); err == nil {
				at = append(at, a)
			}
		}
		if only, err = o.store.Hanging(ctx, d, at); err != nil {
			return err
		}
	}
	return o.judgeSoon(ctx, d.SiteID, only)
}

// portion is how many cameras are read and judged at once.
const portion = 500

// judge derives the marks of these devices again, a portion at a time.
func (o *Office) judge(ctx context.Context, site int64, only []int64) error {
	for part := range slices.Chunk(only, portion) {
		if err := o.judgePart(ctx, site, part); err != nil {
			return err
		}
	}
	o.touch(site)
	return nil
}

func (o *Office) judgePart(ctx context.Context, site int64, only []int64) error {
	v, err := Look(ctx, o.store, site, only)
	if err != nil {
		return err
	}
	var all []store.Judged
	for _, d := range v.Cameras() {
		all = append(all, v.Judge(time.Now(), d)...)
	}
	if v.bad != nil {
		o.opt.Log.Warn("a kept fact can't be read", "err", v.bad)
	}
	return o.store.KeepMarks(ctx, all)
}

// Judge derives every mark of a site again.
func (o *Office) Judge(ctx context.Context, site int64) error {
	all, err := o.store.Resolve(ctx, store.Selection{Site: site})
	if err != nil {
		return err
	}
	return o.judge(ctx, site, all)
}

// JudgeThese derives the marks of some devices again.
func (o *Office) JudgeThese(ctx context.Context, site int64, devices []int64) error {
	return o.judge(ctx, site, devices)
}

func addrOf(d store.Device) (netip.Addr, error) {
	if d.Address == nil {
		return netip.Addr{}, toldError(d.Place + " wasn't found yet: look for it first.")
	}
	return *d.Address, nil
}
