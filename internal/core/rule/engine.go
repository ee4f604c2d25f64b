package rule

import (
	"cmp"
	"slices"
	"time"

	"duskyharbor/internal/core/scene"
)

// Engine runs one rule over observations in the order they are given. The zero Engine with a Rule set is ready. What goes
// back in time is left out; an id that comes again after more than Anew is another object's.
type Engine struct {
	Rule   Rule
	tracks map[string]*track
	begun  bool
	since  time.Duration // when looking began
	crowd  crowd
}

// Feed takes one observation and returns what it fired.
func (e *Engine) Feed(o scene.Observation) []Hit {
	p := scene.TrackPoint{At: o.At, Box: o.Box, Score: o.Score}
	return e.feed(o.Object, &p, e.Rule.about(o.Class, o.Traits))
}

// feed takes an object's next point; about says whether the rule is about it.
func (e *Engine) feed(object string, p *scene.TrackPoint, about bool) (out []Hit) {
	if e.tracks == nil {
		e.tracks = map[string]*track{}
	}
	if !e.begun {
		e.begun, e.since = true, p.At
	}
	if !about || !e.Rule.looks(p) {
		return nil
	}
	tr := e.tracks[object]
	if tr != nil && p.At-tr.at > Anew {
		out, tr = e.end(object, tr, tr.at), nil
	}
	if tr == nil {
		tr = &track{}
		e.tracks[object] = tr
	} else if p.At < tr.at {
		return out
	}
	if e.Rule.step(tr, p, e.since) {
		out = append(out, Hit{Rule: e.Rule.Name, Object: object, At: p.At, On: e.Rule.Kind != Inside || tr.in})
	}
	if e.Rule.Kind == Crowd && e.crowd.step(&e.Rule, e.tracks, p.At) {
		out = append(out, Hit{Rule: e.Rule.Name, Object: object, At: p.At, On: true})
	}
	return out
}

// Forget drops a track at a moment: what fires because it ended is returned.
func (e *Engine) Forget(object string, at time.Duration) []Hit {
	tr := e.tracks[object]
	if tr == nil {
		return nil
	}
	return e.end(object, tr, at)
}

func (e *Engine) end(object string, tr *track, at time.Duration) []Hit {
	delete(e.tracks, object)
	if !e.Rule.end(tr) {
		return nil
	}
	return []Hit{{Rule: e.Rule.Name, Object: object, At: at, On: e.Rule.Kind != Inside}}
}

// crowd is since when enough objects have been in.
type crowd struct {
	goes  bool
	began time.Duration
	last  time.Duration // when there were enough
	fired bool
}

// step says whether enough have been in for long enough now. Who wasn't seen for longer than a break isn't in any more.
func (c *crowd) step(r *Rule, tracks map[string]*track, at time.Duration) bool {
	n := 0
	for _, tr := range tracks {
		if tr.in && at-tr.at <= r.pause() {
			n++
		}
	}
	if c.goes && at-c.last > r.pause() {
		c.goes = false
	}
	if n < r.count() {
		return false
	}
	if !c.goes {
		c.goes, c.began, c.fired = true, at, false
	}
	c.last = at
	if c.fired || at-c.began < r.For {
		return false
	}
	c.fired = true
	return true
}

// Span is the time that tracks were gathered in, on their clock. The zero Span begins with the first of them, and has
// ended: nothing is still going on.
type Span struct {
	From, To time.Duration
	Zone     *time.Location // of a rule's hours, where At counts from 1970-01-01 UTC; nil: hours aren't asked for
}

// Rehearse runs a rule over whole tracks and returns every hit in the order of time. It takes each track by itself, but
// for Crowd, which is over all of them.
func Rehearse(r Rule, tracks []scene.Track, over Span) []Hit {
	var out []Hit
	if r.Kind == Crowd {
		out = rehearseAll(r, tracks)
	} else {
		since := over.From
		if over == (Span{}) {
			since = first(tracks)
		}
		for i := range tracks {
			out = r.over(&tracks[i], since, over.To, out)
		}
		slices.SortStableFunc(out, func(a, b Hit) int { return cmp.Compare(a.At, b.At) })
	}
	if over.Zone != nil && r.Hours != (Hours{}) {
		out = r.Hours.only(out, over.Zone)
	}
	return out
}

func first(tracks []scene.Track) (at time.Duration) {
	for i, tr := range tracks {
		for j := range tr.Points {
			if p := tr.Points[j].At; i == 0 && j == 0 || p < at {
				at = p
			}
		}
	}
	return at
}

// over runs the rule over one track.
func (r *Rule) over(tr *scene.Track, since, to time.Duration, out []Hit) []Hit {
	if !r.about(tr.Class, tr.Traits) {
		return out
	}
	st := track{}
	end := func() {
		if st.seen && r.end(&st) {
			out = append(out, Hit{Rule: r.Name, Object: tr.ID, At: st.at, On: r.Kind != Inside})
		}
	}
	for i := range tr.Points {
		p := &tr.Points[i]
		if !r.looks(p) || st.seen && p.At < st.at {
			continue
		}
		if st.seen && p.At-st.at > Anew {
			end()
			st = track{}
		}
		if r.step(&st, p, since) {
			out = append(out, Hit{Rule: r.Name, Object: tr.ID, At: p.At, On: r.Kind != Inside || st.in})
		}
	}
	if to == 0 || to-st.at > Anew {
		end()
	}
	return out
}

// rehearseAll feeds all tracks' points in the order of time.
func rehearseAll(r Rule, tracks []scene.Track) (out []Hit) {
	type at struct{ track, point int }
	var all []at
	for i := range tracks {
		for j := range tracks[i].Points {
			all = append(all, at{i, j})
		}
	}
	slices.SortStableFunc(all, func(a, b at) int {
		return cmp.Compare(tracks[a.track].Points[a.point].At, tracks[b.track].Points[b.point].At)
	})
	e := Engine{Rule: r}
	for _, x := range all {
		tr := &tracks[x.track]
		out = append(out, e.feed(tr.ID, &tr.Points[x.point], r.about(tr.Class, tr.Traits))...)
	}
	return out
}

// only leaves out what fires outside of the hours; what was on goes off whenever it does.
func (h Hours) only(all []Hit, zone *time.Location) (out []Hit) {
	on := map[string]bool{}
	for _, hit := range all {
		at := time.Unix(0, int64(hit.At)).In(zone)
		switch {
		case !hit.On && on[hit.Object]:
			delete(on, hit.Object)
		case !hit.On || !h.Hold(at.Hour()*60+at.Minute()):
			continue
		default:
			on[hit.Object] = true
		}
		out = append(out, hit)
	}
	return out
}

// Fires counts the beginnings among hits.
func Fires(all []Hit) (n int) {
	for _, h := range all {
		if h.On {
			n++
		}
	}
	return n
}
