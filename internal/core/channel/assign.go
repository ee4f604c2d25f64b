package channel

import (
	"cmp"
	"fmt"
	"math"
	"slices"
	"strings"
)

// Placing is one source that is to be placed.
type Placing struct {
	ID         int64
	Name       string
	Kbps       int
	Megapixels float64
	Wish       int64  // recorder that it is planned for; 0: any
	Locked     bool   // no other than Wish
	Channel    int    // wished there; 0: any
	Together   string // places of one name go to one recorder; empty: alone
	// Fits says for each recorder, by its number, by which way and with what loss it takes the
	// source; one with a reason doesn't.
	Fits map[int64]Fit
}

// Fit is how a recorder takes a source, and which stream of it: one takes a large one where another
// takes a small one. What is 0 is as in Placing.
type Fit struct {
	Kbps       int
	Megapixels float64
	FPS        float64
	Way        string
	Losses     int    // things that the site needs and that this way drops
	Refused    string // why it can't; empty: it can
}

// demand is what the source asks of a recorder.
func (p Placing) demand(recorder int64) Demand {
	f := p.Fits[recorder]
	d := Demand{Kbps: f.Kbps, Megapixels: f.Megapixels, FPS: f.FPS}
	if d.Kbps == 0 {
		d.Kbps = p.Kbps
	}
	if d.Megapixels == 0 {
		d.Megapixels = p.Megapixels
	}
	return d
}

// Bin is a recorder that sources are placed on.
type Bin struct {
	ID       int64
	Recorder Recorder
}

// Assignment is where each source goes.
type Assignment struct {
	To       map[int64]int64 // recorder by source; those that find no room aren't in it
	Why      map[int64]string
	Number   map[int64]int // channel by source, as it is once the recorders have room
	Restarts []int64       // recorders that must start again for it
	Exact    bool          // it is proven that none is better, but for how many analog inputs are switched off
	// Beyond is how many sources more a better one could place at most; 0: none.
	Beyond int
}

// Weights of what an assignment is judged by, each more than all of the next together: that a
// source finds no room, that it isn't where it was wished, that the way in drops what is needed,
// that a recorder must start again, that an analog input is switched off.
const (
	weightLeft    = 1e12
	weightWish    = 1e9
	weightLoss    = 1e6
	weightRestart = 1e4
	weightInput   = 1
)

// slack is what two assignments may differ in for neither to be better: fewer analog inputs switched
// off, which isn't worth a search.
const slack = weightRestart / 2

// maxWork bounds the search for the best assignment, in sources times recorders of each step: what
// isn't proven by then is told as such.
const maxWork = 3 << 20

// limit is how many steps the search may take.
func (s *search) limit() int {
	size := max(1, len(s.items)*(len(s.bins)+1))
	return max(4, maxWork/size/max(1, size/1000))
}

// item is what goes to one recorder as a whole: a source, or those that are kept together.
type item struct {
	members []int     // places in the sources
	kbps    []int     // by recorder
	large   []float64 // largest picture, in megapixels, by recorder
	cost    []float64 // by recorder; +Inf: it can't go there
}

// bin is a recorder's room as the search sees it.
type bin struct {
	free  int // channels without a restart
	more  int // and with one
	kbps  int // that may come in more; −1: any number
	rows  []Table
	used  int     // channels that are taken
	large float64 // largest picture on them
}

// Assign places sources on recorders, as many as find room, breaking no limit: where a recorder
// tells tables, any one row of each holds. It is exact where the search ends within its bound, and
// else the best that was found, with how far from the best it may be.
func Assign(all []Placing, bins []Bin) Assignment {
	s := newSearch(all, bins)
	s.run()
	out := s.assignment(all, bins)
	out.numbers(all, bins)
	return out
}

type search struct {
	items []item
	bins  []bin
	best  []int // recorder by item; len(bins): none
	cost  float64
	nodes int
	open  float64 // the least bound of what wasn't looked into
	sized [][]int
}

func newSearch(all []Placing, bins []Bin) *search {
	s := &search{cost: math.Inf(1), open: math.Inf(1)}
	groups := map[string]int{}
	for i, p := range all {
		at := -1
		if p.Together != "" {
			if g, ok := groups[strings.ToLower(p.Together)]; ok {
				at = g
			}
		}
		if at < 0 {
			at = len(s.items)
			s.items = append(s.items, item{cost: make([]float64, len(bins)), kbps: make([]int, len(bins)), large: make([]float64, len(bins))})
			if p.Together != "" {
				groups[strings.ToLower(p.Together)] = at
			}
		}
		it := &s.items[at]
		it.members = append(it.members, i)
		for b, r := range bins {
			f, known := p.Fits[r.ID]
			d := p.demand(r.ID)
			it.kbps[b], it.large[b] = it.kbps[b]+d.Kbps, max(it.large[b], d.Megapixels)
			switch {
			case !known || f.Refused != "" || p.Locked && p.Wish != 0 && p.Wish != r.ID:
				it.cost[b] = math.Inf(1)
			case p.Wish != 0 && p.Wish != r.ID:
				it.cost[b] += weightWish + float64(f.Losses)*weightLoss
			default:
				it.cost[b] += float64(f.Losses) * weightLoss
			}
		}
	}
	for _, r := range bins {
		s.bins = append(s.bins, room(r.Recorder))
	}
	return s
}

// room is how much a recorder takes more, by each of its limits.
func room(r Recorder) bin {
	used, mbit := r.Used()
	b := bin{kbps: -1, used: used, rows: slices.Clone(r.Limits.Tables)}
	slices.SortStableFunc(b.rows, func(x, y Table) int { return cmp.Compare(y.Channels, x.Channels) })
	b.free = max(0, r.ChannelsNow()-used)
	if r.Hybrid() {
		full := r.Limits.Capacity.Of(r.off(true) + len(r.Spare()))
		b.more = max(0, full-max(used, r.ChannelsNow()))
	}
	if l := r.Limits.Licences; l > 0 {
		left := max(0, l-used)
		b.free = min(b.free, left)
		b.more = min(b.more, left-b.free)
	}
	if l := r.Limits.MbitIn; l > 0 {
		b.kbps = max(0, int(math.Floor((l-mbit)*1000+sumTolerance+1e-6)))
	}
	for _, s := range r.Slots {
		b.large = max(b.large, s.megapixels())
	}
	return b
}

// assignment words what was found.
func (s *search) assignment(all []Placing, bins []Bin) Assignment {
	out := Assignment{To: map[int64]int64{}, Why: map[int64]string{}, Exact: s.open >= s.cost-slack}
	if s.best == nil {
		s.best = make([]int, len(s.items))
		for i := range s.best {
			s.best[i] = len(bins)
		}
	}
	after := make([]Recorder, len(bins))
	count := make([]int, len(bins))
	for b, r := range bins {
		after[b] = r.Recorder
		after[b].Slots = slices.Clone(r.Recorder.Slots)
	}
	left := 0
	for i, b := range s.best {
		if b == len(bins) {
			left += len(s.items[i].members)
			continue
		}
		for _, m := range s.items[i].members {
			out.To[all[m].ID] = bins[b].ID
			count[b]++
			after[b].Slots = append(after[b].Slots, all[m].demand(bins[b].ID).slot())
		}
	}
	for b, r := range bins {
		if count[b] > s.bins[b].free {
			out.Restarts = append(out.Restarts, r.ID)
		}
	}
	if !out.Exact {
		out.Beyond = max(0, left-int(math.Floor(s.open/weightLeft)))
	}
	for i, b := range s.best {
		if b < len(bins) {
			continue
		}
		for _, m := range s.items[i].members {
			out.Why[all[m].ID] = whyLeft(all[m], len(s.items[i].members), bins, after)
		}
	}
	return out
}

// whyLeft names for each recorder the limit that keeps a source off it, and what would free it.
func whyLeft(p Placing, together int, bins []Bin, after []Recorder) string {
	var says []string
	for b, r := range bins {
		f, known := p.Fits[r.ID]
		why := ""
		switch {
		case p.Locked && p.Wish != 0 && p.Wish != r.ID:
			continue
		case !known:
			why = "it wasn't read yet"
		case f.Refused != "":
			why = f.Refused
		default:
			full := after[b] // with all the channels that it can have
			if full.Hybrid() {
				full.Analog = slices.Clone(full.Analog)
				for _, a := range full.Spare() {
					k := slices.IndexFunc(full.Analog, func(x Analog) bool { return x.Number == a.Number })
					full.Analog[k].On, full.Analog[k].Next = false, false
				}
				for k := range full.Analog {
					full.Analog[k].On = full.Analog[k].Next
				}
			}
			if why = full.BindsFor(p.demand(r.ID)); full.Hybrid() {
				why = strings.Replace(why, "IP channels are taken", "channels that it can have are taken", 1)
			}
		}
		if why == "" && together > 1 {
			why = fmt.Sprintf("the %d that are kept together don't all fit", together)
		}
		if why != "" {
			says = append(says, r.Recorder.Name+": "+why)
		}
	}
	if len(says) == 0 {
		return "no recorder was read yet"
	}
	return strings.Join(says, "; ")
}

// numbers gives each source that found room a channel of its recorder: the wished one where it is free,
// else the lowest that is, of those that it has, or will have once it was started again for them.
func (a *Assignment) numbers(all []Placing, bins []Bin) {
	a.Number = make(map[int64]int, len(a.To))
	for _, b := range bins {
		var ids []int64
		var wishes []int
		for _, p := range all {
			if a.To[p.ID] == b.ID {
				ids, wishes = append(ids, p.ID), append(wishes, p.Channel)
			}
		}
		most := b.Recorder.ChannelsNow()
		if slices.Contains(a.Restarts, b.ID) {
			most = max(most, b.Recorder.Limits.Capacity.Of(b.Recorder.off(true)+len(b.Recorder.Spare())))
		}
		for i, n := range b.Recorder.Numbers(wishes, most) {
			a.Number[ids[i]] = n
		}
	}
}

// Numbers gives channels of a recorder that has so many: to each the one that it wishes where that is
// free and nobody before it wished it, else the lowest that is left; 0: none is. A wish of 0 is none.
func (r Recorder) Numbers(wishes []int, most int) []int {
	taken := map[int]bool{}
	for _, s := range r.Slots {
		taken[s.Number] = true
	}
	for n := 1; n <= most; n++ {
		if _, kept := r.bound(n); kept {
			taken[n] = true
		}
	}
	out := make([]int, len(wishes))
	for i, n := range wishes {
		if n > 0 && n <= most && !taken[n] {
			out[i], taken[n] = n, true
		}
	}
	next := 1
	for i := range out {
		for out[i] == 0 && next <= most {
			if !taken[next] {
				out[i], taken[next] = next, true
			}
			next++
		}
	}
	return out
}
