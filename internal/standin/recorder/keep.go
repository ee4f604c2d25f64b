package recorder

import (
	"fmt"
	"maps"
	"math"
	"net/http"
	"net/netip"
	"slices"
	"strconv"
	"time"

	"duskyharbor/internal/standin/localtime"
	"duskyharbor/internal/standin/wire"
)

// second is what came of a camera in one second.
type second struct {
	record, view, keys float64 // bytes of coded video
	viewing            bool    // the view stream was pulled
	on                 uint8   // what went on, a bit for each of causes
}

// of is how much is kept of it by a way of keeping.
func (s second) of(keep string) float64 {
	switch keep {
	case keepRecord:
		return s.record
	case keepView:
		return s.view
	case keepKeys:
		return s.keys
	}
	return 0
}

// tally counts one thing that may happen, by day or by night.
type tally struct {
	Seconds float64 `json:"seconds"`
	Active  float64 `json:"active"`
	Gap     float64 `json:"gap"` // since it went on, not over yet
	Gaps    []gap   `json:"gaps"`
}

// flow sums what came by day or by night.
type flow struct {
	Seconds     float64 `json:"seconds"`
	ViewSeconds float64 `json:"view_seconds"`
	Record      float64 `json:"record"`
	View        float64 `json:"view"`
	Keys        float64 `json:"keys"`
}

// rate is the mean of what came, in kbit/s.
func (f flow) rate() (r rate) {
	if f.Seconds > 0 {
		r.Record, r.Keys = f.Record/f.Seconds/125, f.Keys/f.Seconds/125
	}
	if f.ViewSeconds > 0 {
		r.View = f.View / f.ViewSeconds / 125
	}
	return r
}

func (f *flow) add(s second) {
	f.Seconds, f.Record, f.Keys = f.Seconds+1, f.Record+s.record, f.Keys+s.keys
	if s.viewing {
		f.ViewSeconds, f.View = f.ViewSeconds+1, f.View+s.view
	}
}

// ledger is what one channel kept, as it stands over a restart. Times are the recorder's.
type ledger struct {
	Since time.Time          `json:"since"`
	Days  map[string]float64 `json:"days"`  // bytes kept, by local date
	Flow  [2]flow            `json:"flow"`  // by day, by night
	Busy  [2]flow            `json:"busy"`  // while something went on
	Heard [2][16]tally       `json:"heard"` // by day and night, of each set of causes: a bit for each of causes

	store func(string, stamped) // keeps the video of a second; nil: nothing does
	pend  []stamped             // not decided yet: they wait for what comes after them
	since [4]time.Time          // when each cause went on for the last time
	now   string
	// buffer is how many seconds it holds back; 0: as many as are asked for.
	buffer int
}

// maskOf is a set of causes, a bit for each of causes.
func maskOf(all []string) (mask uint8) {
	for i, c := range causes {
		if slices.Contains(all, c) {
			mask |= 1 << i
		}
	}
	return mask
}

// setOf lists the causes of a set.
func setOf(mask uint8) (out []string) {
	for i, c := range causes {
		if mask&(1<<i) != 0 {
			out = append(out, c)
		}
	}
	return out
}

type stamped struct {
	at time.Time
	second
	raw packets
}

const dateFormat = "2006-01-02"

// localTime tells a recorder's local time, reckoning its zone once in half an hour.
type localTime struct {
	zone   string
	half   int64
	offset time.Duration
	date   string
}

func newLocalTime(posix string) *localTime {
	return &localTime{zone: posix, half: math.MinInt64}
}

func (l *localTime) at(t time.Time) time.Time {
	if half := t.Unix() / 1800; half != l.half {
		l.half, l.offset = half, localtime.Ahead(l.zone, true, t)
		l.date = t.UTC().Add(l.offset).Format(dateFormat) // a day begins with a half hour
	}
	return t.UTC().Add(l.offset)
}

// day is the local date.
func (l *localTime) day(t time.Time) string {
	l.at(t)
	return l.date
}

// during is what a plan asks for at a local time.
func during(p plan, local time.Time) mode {
	return p.at((int(local.Weekday())+6)%7, local.Hour()*2+local.Minute()/30)
}

// add takes one second in, and keeps what the plan asks for of those that can be decided now.
func (l *ledger) add(at time.Time, s second, p plan, hears []string, zone *localTime, raw packets) {
	if l.Days == nil {
		l.Days = map[string]float64{}
	}
	if l.Since.IsZero() {
		l.Since = at
	}
	local := zone.at(at)
	half := 0
	if local.Hour() >= 20 || local.Hour() < 6 {
		half = 1
	}
	l.Flow[half].add(s)
	if s.on != 0 {
		l.Busy[half].add(s)
	}
	mask := maskOf(hears)
	for set := range l.Heard[half] {
		if set != 0 && uint8(set)&^mask == 0 {
			l.Heard[half][set].add(s.on&uint8(set) != 0)
		}
	}
	l.pend = append(l.pend, stamped{at, s, raw})
	wait := 0 // until it is known what comes after a second
	for _, m := range p.Modes {
		wait = max(wait, m.Lead)
	}
	if l.buffer > 0 {
		wait = min(wait, l.buffer) // it holds no more back
	}
	for len(l.pend) > 0 && at.Sub(l.pend[0].at) >= time.Duration(wait)*time.Second {
		l.decide(p, hears, zone)
	}
}

// decide keeps what the plan asks for of the oldest second that waits.
func (l *ledger) decide(p plan, hears []string, zone *localTime) {
	s := l.pend[0]
	day, m := zone.day(s.at), during(p, zone.at(s.at))
	event := false
	for i, c := range causes {
		if s.on&(1<<i) != 0 {
			l.since[i] = s.at
		}
		if !slices.Contains(m.Causes, c) || !slices.Contains(hears, c) {
			continue
		}
		if !l.since[i].IsZero() && s.at.Sub(l.since[i]) <= time.Duration(m.Tail)*time.Second {
			event = true
			continue
		}
		for _, later := range l.pend[1:] {
			if later.at.Sub(s.at) > time.Duration(m.Lead)*time.Second {
				break
			}
			if later.on&(1<<i) != 0 {
				event = true
				break
			}
		}
	}
	if l.now = m.Idle; event {
		l.now = m.Event
	}
	if bytes := s.of(l.now); bytes > 0 {
		l.Days[day] += bytes
	}
	if l.store != nil {
		l.store(l.now, s)
	}
	l.pend = l.pend[1:]
}

// gapBounds are the lengths by which gaps are counted, in seconds; 0: any length.
var gapBounds = []float64{1, 2, 5, 10, 20, 30, 60, 120, 300, 600, 1800, 0}

func (t *tally) add(on bool) {
	if t.Gaps == nil {
		for _, b := range gapBounds {
			t.Gaps = append(t.Gaps, gap{UpTo: b})
		}
	}
	t.Seconds++
	if !on {
		t.Gap++
		return
	}
	t.Active++
	t.close()
}

// close counts the gap that is over.
func (t *tally) close() {
	for i := range t.Gaps {
		if g := &t.Gaps[i]; t.Gap > 0 && (g.UpTo == 0 || t.Gap <= g.UpTo) {
			g.Count, g.Seconds, t.Gap = g.Count+1, g.Seconds+t.Gap, 0
		}
	}
}

// slot is what the recorder tells of the ledger.
func (l *ledger) slot(p plan, hears []string, whole []string) kept {
	out := kept{Plan: &p, Hears: hears, Now: l.now, Rates: rates{Day: l.Flow[0].rate(), Night: l.Flow[1].rate(),
		BusyDay: l.Busy[0].rate(), BusyNight: l.Busy[1].rate()}}
	for i := range l.Heard {
		for k, t := range l.Heard[i] {
			if t.Seconds == 0 {
				continue
			}
			set := setOf(uint8(k))
			t.Gaps = slices.Clone(t.Gaps)
			t.close() // as if it were over: else a long quiet isn't told
			t.Gaps = slices.DeleteFunc(t.Gaps, func(g gap) bool { return g.Count == 0 })
			out.Activity = append(out.Activity, activity{Cause: set[0], With: set[1:], Night: i == 1, Seconds: t.Seconds, Active: t.Active, Gaps: t.Gaps})
		}
	}
	for _, day := range whole {
		out.KeptDay += l.Days[day]
	}
	if len(whole) > 0 {
		out.KeptDay /= float64(len(whole))
	}
	return out
}

// bookkeeping, once a second: what each camera sent and what went on is taken in.
func (r *Recorder) bookkeeping() {
	tick := time.NewTicker(time.Second)
	defer tick.Stop()
	for {
		select {
		case <-r.ctx.Done():
			return
		case <-tick.C:
		}
		r.mu.Lock()
		now := r.now().UTC()
		for n, w := range r.live {
			p := r.mem.Channels[n]
			if s, raw, receives := w.second(); receives && p != nil && r.records(n) {
				p.Ledger.buffer = r.cfg.Buffer
				p.Ledger.store = func(k string, x stamped) { _ = r.shelf.Put(shelfName(n), x.at, x.raw.of(k)) }
				p.Ledger.add(now, s, p.keeps(), r.hears(p), r.local, raw)
			}
		}
		r.other(now, 1)
		r.trim(now)
		r.mu.Unlock()
	}
}

// records says whether it has a licence to record a channel: it shows the others, and keeps nothing of
// them. r.mu is held.
func (r *Recorder) records(number int) bool {
	before := 0
	for n := range r.mem.Channels {
		if n < number {
			before++
		}
	}
	return r.cfg.Records == 0 || before < r.cfg.Records
}

// other keeps what its analog inputs make: 2 Mbit/s of each that has a picture; r.mu is held.
func (r *Recorder) other(at time.Time, seconds float64) {
	if bytes := r.otherADay() / 86400 * seconds; bytes > 0 {
		if r.mem.Other == nil {
			r.mem.Other = map[string]float64{}
		}
		r.mem.Other[r.local.day(at)] += bytes
	}
}

func (r *Recorder) otherADay() float64 {
	n := 0
	for i, a := range r.cfg.Analog {
		if a.Signal && !r.mem.Off[i+1] {
			n++
		}
	}
	return float64(n) * 2e6 / 8 * 86400
}

// trim deletes whole days while there is more than it has room for, and those that are too old;
// r.mu is held.
func (r *Recorder) trim(now time.Time) {
	for {
		days := r.days()
		if len(days) < 2 {
			return
		}
		total := 0.0
		for _, d := range days {
			total += r.dayBytes(d)
		}
		oldest := days[0]
		old := r.mem.Deletes > 0 && oldest < r.local.at(now).AddDate(0, 0, -r.mem.Deletes).Format(dateFormat)
		if !old && (r.cfg.Usable <= 0 || total <= r.cfg.Usable) {
			return
		}
		delete(r.mem.Other, oldest)
		delete(r.mem.Left, oldest)
		for _, p := range r.mem.Channels {
			delete(p.Ledger.Days, oldest)
		}
	}
}

// days lists the local dates of which it holds anything, the oldest first; r.mu is held.
func (r *Recorder) days() []string {
	all := map[string]bool{}
	for _, of := range []map[string]float64{r.mem.Other, r.mem.Left} {
		for d := range of {
			all[d] = true
		}
	}
	for _, p := range r.mem.Channels {
		for d := range p.Ledger.Days {
			all[d] = true
		}
	}
	return slices.Sorted(maps.Keys(all))
}

func (r *Recorder) dayBytes(day string) float64 {
	total := r.mem.Other[day] + r.mem.Left[day]
	for _, p := range r.mem.Channels {
		total += p.Ledger.Days[day]
	}
	return total
}

// storage is what it tells of its disks, and the whole days that it holds; r.mu is held.
func (r *Recorder) storage() (storage, []string) {
	s := storage{Usable: r.cfg.Usable, Other: r.otherADay(), Buffer: r.cfg.Buffer, Deletes: r.mem.Deletes}
	now := r.now().UTC()
	today, days := r.local.at(now).Format(dateFormat), r.days()
	set := ""
	if !r.mem.Set.IsZero() {
		set = r.local.at(r.mem.Set).Format(dateFormat)
	}
	var whole []string
	for i, d := range days {
		if i > 0 && d < today && d > set { // the first one was begun in the middle, and so was the one in which it was set
			whole = append(whole, d)
			s.Kept += r.dayBytes(d)
			if at, err := time.Parse(dateFormat, d); err == nil {
				s.KeptWeek[(int(at.Weekday())+6)%7]++
			}
		}
	}
	if s.KeptDays = float64(len(whole)); s.KeptDays > 0 {
		s.Kept /= s.KeptDays
	}
	if len(days) > 0 {
		if first, err := time.Parse(dateFormat, days[0]); err == nil {
			s.Oldest = max(0, r.local.at(now).Sub(first).Hours()/24)
		}
	}
	return s, whole
}

// clipSeconds is how long what cameras show takes until it is shown again: whole ones are repeated.
const clipSeconds = 12

// Lines are what each channel received a moment ago, up to a minute, second by second.
type Lines map[int][]second

// Lines takes what came a moment ago, whole clips of each camera that it receives; it says which
// hasn't sent for long enough yet.
func (r *Recorder) Lines() (Lines, error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	out := Lines{}
	for n, w := range r.live {
		if w.slot().State != receiving {
			continue
		}
		line := w.line()
		if line = line[len(line)%clipSeconds:]; len(line) < 2*clipSeconds {
			return nil, fmt.Errorf("channel %d received for %d s, and %d are needed", n, len(line), 2*clipSeconds)
		}
		out[n] = even(line)
	}
	return out, nil
}

// Moved says whether of each channel there are seconds in which something went on, and others.
func (l Lines) Moved() bool {
	for _, line := range l {
		busy := 0
		for _, s := range line {
			if s.on != 0 {
				busy++
			}
		}
		if busy == 0 || busy == len(line) {
			return false
		}
	}
	return len(l) > 0
}

// even gives each second what those like it have in the mean: those in which the same went on. On which side
// of a second's edge a packet came, and how a clip lay to a happening, is chance in half a minute, and would be
// a rule of the camera's in a week of the same half minute.
func even(line []second) []second {
	sums, all := map[uint8]*flow{}, flow{}
	for _, s := range line {
		all.add(s)
		if sums[s.on] == nil {
			sums[s.on] = &flow{}
		}
		sums[s.on].add(s)
	}
	out := slices.Clone(line)
	for i := range out {
		f := sums[out[i].on]
		out[i].record, out[i].keys = f.Record/f.Seconds, f.Keys/f.Seconds
		if f.ViewSeconds == 0 {
			f = &all // its view stream came just then not once
		}
		if out[i].viewing = f.ViewSeconds > 0; out[i].viewing {
			out[i].view = f.View / f.ViewSeconds
		}
	}
	return out
}

// RunDays has it keep as though it had recorded so many days until a time, in a moment: each camera
// sends its line again and again, and the same happens in it. What it counted before is forgotten. By
// its own time it is that time then.
func (r *Recorder) RunDays(until time.Time, days int, lines Lines) {
	r.mu.Lock()
	defer r.mu.Unlock()
	now := until.UTC().Truncate(time.Second)
	r.mem.Skew, r.mem.Set = time.Until(until), time.Time{}
	from := now.AddDate(0, 0, -days)
	r.mem.Other, r.mem.Left = nil, nil
	for n, p := range r.mem.Channels {
		p.Ledger = ledger{buffer: r.cfg.Buffer}
		line, plan, hears := lines[n], p.keeps(), r.hears(p)
		if len(line) == 0 || !r.records(n) {
			continue
		}
		for i, at := 0, from; at.Before(now); i, at = i+1, at.Add(time.Second) {
			p.Ledger.add(at, line[i%len(line)], plan, hears, r.local, packets{})
		}
	}
	for at := from; at.Before(now); at = at.Add(time.Hour) {
		r.other(at, 3600)
	}
	r.trim(now)
	r.dirty = true
}

// ControlPort is where the stand-in is told what no recorder is: it isn't part of its interface.
const ControlPort = 8099

// control listens for what a person, or a test, wants of the stand-in: POST /run with days has it
// keep as though so many days had gone by.
func (r *Recorder) control() error {
	l, err := wire.Listen(r.ctx, netip.AddrPortFrom(r.cfg.Address, ControlPort).String())
	if err != nil {
		return err
	}
	mux := http.NewServeMux()
	mux.HandleFunc("POST /run", func(w http.ResponseWriter, q *http.Request) {
		days, err := strconv.Atoi(q.FormValue("days"))
		if err != nil || days < 1 || days > 60 {
			refuse(w, http.StatusBadRequest, "days is 1 to 60")
			return
		}
		lines, err := r.Lines()
		if err != nil {
			refuse(w, http.StatusConflict, err.Error())
			return
		}
		r.RunDays(r.Now(), days, lines)
		reply(w, map[string]int{"days": days})
	})
	srv := &http.Server{Handler: mux, ReadHeaderTimeout: 10 * time.Second, ErrorLog: wire.Silent}
	r.run(func() {
		<-r.ctx.Done()
		_ = srv.Close()
	})
	r.run(func() { _ = srv.Serve(l) })
	return nil
}
