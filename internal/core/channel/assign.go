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
	Together   string // places of one name go to one recorder; empty: alone
	// Fits says for each recorder, by its number, by which way and with what loss it takes the
	// source; one with a reason doesn't.
	Fits map[int64]Fit
}

// Fit is how a recorder takes a source.
type Fit struct {
	Way     string
	Losses  int    // things that the site needs and that this way drops
	Refused string // why it can't; empty: it can
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
	Restarts []int64 // recorders that must start again for it
	Exact    bool    // it is proven that none is better, but for how many analog inputs are switched off
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
	members []int // places in the sources
	kbps    int
	large   float64
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
	return s.assignment(all, bins)
}

type search struct {
	items []item
	bins  []bin
	best  []int // recorder by item; len(bins): none
	cost  float64
	nodes int
	open  float64 // the least bound of what wasn't looked into
	sized []int
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
			s.items = append(s.items, item{cost: make([]float64, len(bins))})
			if p.Together != "" {
				groups[strings.ToLower(p.Together)] = at
			}
		}
		it := &s.items[at]
		it.members, it.kbps, it.large = append(it.members, i), it.kbps+p.Kbps, max(it.large, p.Megapixels)
		for b, r := range bins {
			f, known := p.Fits[r.ID]
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
		b.kbps = max(0, int(math.Round((l-mbit)*1000)))
	}
	for _, s := range r.Slots {
		b.large = max(b.large, float64(s.Width*s.Height)/1e6)
	}
	return b
}

// part is one choice of rows of tables and of restarts, which makes of each recorder a plain number
// of channels.
type part struct {
	flow  flow
	fixed float64 // what its restarts cost
	bound float64
}

// run searches every choice of rows and restarts, the most promising first; in each, where bit rates
// or places that are kept together break it, by branching.
func (s *search) run() {
	var parts []part
	choice, restart := make([]int, len(s.bins)), make([]bool, len(s.bins))
	wide := s.configurations() > maxParts
	var choose func(b int)
	choose = func(b int) {
		if b == len(s.bins) {
			parts = append(parts, s.configured(choice, restart))
			return
		}
		for row := range max(1, len(s.bins[b].rows)) {
			if choice[b] = row; wide && row > 0 {
				break // the row with most channels comes first
			}
			for _, on := range []bool{false, true} {
				if on && s.bins[b].more == 0 || wide && !on && s.bins[b].more > 0 {
					continue
				}
				restart[b] = on
				choose(b + 1)
			}
		}
		restart[b] = false
	}
	if wide = wide || len(s.items) > mostSearched; wide {
		s.open = 0
	}
	choose(0)
	if len(s.items) > mostSearched {
		s.greedy(parts[0])
		return
	}
	for i := range parts {
		_, parts[i].bound = parts[i].flow.solve(s.narrowed(&parts[i].flow, make([]uint64, len(s.items))))
		parts[i].bound += parts[i].fixed
	}
	byBound := func(a, b part) int { return cmp.Compare(a.bound, b.bound) }
	slices.SortStableFunc(parts, byBound)
	for i := range parts[:min(len(parts), mostRelaxed, s.limit()/8)] {
		parts[i].bound = s.relaxed(parts[i], make([]uint64, len(s.items)), parts[i].bound)
	}
	slices.SortStableFunc(parts, byBound)
	for _, p := range parts {
		s.branch(p)
	}
}

// relaxed bounds what a part of the search costs from below, better than counting channels does: bit
// rates that are too much are priced, a price for each recorder, and what fits is given back
// (Lagrange's relaxation, with prices by subgradients). Sources are left whole: the bound is rounded
// up to that.
func (s *search) relaxed(p part, not []uint64, least float64) float64 {
	price := make([]float64, len(s.bins))
	limited := false
	for _, x := range s.bins {
		limited = limited || x.kbps >= 0
	}
	if !limited {
		return least
	}
	_, most := s.narrowed(&p.flow, not)
	step, best := weightLeft, math.Inf(-1)
	for range 30 {
		to, cost := p.flow.priced(not, most, price)
		if math.IsInf(cost, 1) {
			return cost
		}
		over, size := make([]float64, len(s.bins)), 0.0
		for b, x := range s.bins {
			if x.kbps >= 0 {
				over[b] = -float64(x.kbps)
				cost -= price[b] * float64(x.kbps)
			}
		}
		for i, b := range to {
			if b < len(s.bins) && s.bins[b].kbps >= 0 {
				over[b] += float64(s.items[i].kbps)
			}
		}
		if cost > best {
			best = cost
		} else {
			step *= 0.8
		}
		for b := range over {
			if s.bins[b].kbps >= 0 {
				size += over[b] * over[b]
			}
		}
		if size == 0 {
			break
		}
		for b := range price {
			if s.bins[b].kbps >= 0 {
				price[b] = max(0, price[b]+step*over[b]/size)
			}
		}
	}
	best += p.fixed
	whole := math.Floor(best / weightLeft)
	if best-whole*weightLeft > 0.2*weightLeft { // all else together is less than that
		best = (whole + 1) * weightLeft
	}
	return max(least, best)
}

// mostRelaxed is for how many of the most promising parts the better bound is reckoned.
const mostRelaxed = 64

// mostSearched is up to how many items are searched for the best; of more each goes where it costs
// least and there is room, what sends least first.
const mostSearched = 600

func (s *search) greedy(p part) {
	to, room := make([]int, len(s.items)), 0
	for i, it := range s.items {
		to[i] = len(s.bins)
		for b := range s.bins {
			if p.flow.allowed[i]&(1<<b) != 0 && (to[i] == len(s.bins) || it.cost[b] < it.cost[to[i]]) {
				to[i] = b
			}
		}
	}
	s.best = s.repair(to, p.flow)
	s.cost = s.price(s.best, p.flow) + p.fixed
	sources := 0
	for _, it := range s.items {
		sources += len(it.members)
	}
	for b := range s.bins {
		room += p.flow.free[b] + p.flow.more[b]
	}
	s.open = weightLeft * float64(max(0, sources-room))
}

// maxParts bounds the rows and restarts that are gone through; where there are more, each recorder
// is taken at its most, and nothing is proven.
const maxParts = 512

// configurations counts the rows and restarts to choose from.
func (s *search) configurations() int {
	n := 1
	for _, b := range s.bins {
		n *= max(1, len(b.rows))
		if b.more > 0 {
			n *= 2
		}
		if n > maxParts {
			return n
		}
	}
	return n
}

// configured is what a choice of rows and restarts leaves.
func (s *search) configured(choice []int, restart []bool) part {
	p := part{flow: flow{items: s.items, free: make([]int, len(s.bins)), more: make([]int, len(s.bins)), allowed: make([]uint64, len(s.items))}}
	f := &p.flow
	for b, x := range s.bins {
		f.free[b] = x.free
		if restart[b] {
			f.more[b] = x.more
			p.fixed += weightRestart
		}
		if len(x.rows) == 0 {
			continue
		}
		row := x.rows[choice[b]]
		left := max(0, row.Channels-x.used)
		if x.large > row.Megapixels+1e-9 {
			left = 0
		}
		f.free[b] = min(f.free[b], left)
		f.more[b] = min(f.more[b], left-f.free[b])
	}
	for i, it := range s.items {
		for b, x := range s.bins {
			if !math.IsInf(it.cost[b], 1) && (len(x.rows) == 0 || it.large <= x.rows[choice[b]].Megapixels+1e-9) && (x.kbps < 0 || it.kbps <= x.kbps) {
				f.allowed[i] |= 1 << b
			}
		}
	}
	return p
}

// node is a part of what is searched: which items may not go where, a bit for each recorder and
// one more for nowhere.
type node struct {
	not   []uint64
	bound float64
}

// branch searches one choice of rows and restarts.
func (s *search) branch(p part) {
	f, all := p.flow, uint64(1)<<(len(s.bins)+1)-1
	limit := s.limit()
	stack := []node{{not: make([]uint64, len(s.items)), bound: p.bound}}
	for len(stack) > 0 {
		n := stack[len(stack)-1]
		stack = stack[:len(stack)-1]
		if n.bound >= s.cost-slack {
			continue
		}
		if s.nodes++; s.nodes > limit && s.best != nil {
			s.open = min(s.open, n.bound)
			continue
		}
		to, bound := f.solve(s.narrowed(&f, n.not))
		if bound = max(bound+p.fixed, n.bound); bound >= s.cost-slack {
			continue
		}
		at, b, stuck := s.broken(to, f, n.not)
		if stuck {
			continue
		}
		if at < 0 {
			c := s.price(to, f) + p.fixed
			if c < s.cost {
				s.best, s.cost = to, c
			}
			continue
		}
		repaired := s.repair(to, f)
		if c := s.price(repaired, f) + p.fixed; c < s.cost {
			s.best, s.cost = repaired, c
		}
		// The item goes there and nowhere else, or it doesn't.
		there, away := slices.Clone(n.not), slices.Clone(n.not)
		away[at] |= 1 << b
		there[at] = all &^ (1 << b)
		stack = append(stack, node{away, bound}, node{there, bound})
	}
}

// narrowed is a node with how many items each recorder can take at most by bit rate: those that are
// bound to it, and of the others the smallest.
func (s *search) narrowed(f *flow, not []uint64) (_ []uint64, most []int) {
	most = make([]int, len(s.bins))
	for b, x := range s.bins {
		most[b] = len(s.items)
		if x.kbps < 0 {
			continue
		}
		room, n := x.kbps, 0
		for _, i := range s.bySize() {
			if bound(not, i, b, len(s.bins)) {
				room, n = room-s.items[i].kbps, n+1
			}
		}
		for _, i := range s.bySize() {
			if not[i]&(1<<b) != 0 || f.allowed[i]&(1<<b) == 0 || bound(not, i, b, len(s.bins)) {
				continue
			}
			if s.items[i].kbps > room {
				break
			}
			room, n = room-s.items[i].kbps, n+1
		}
		if most[b] = n; room < 0 {
			most[b] = 0
		}
	}
	return not, most
}

// bySize are the items by what they send, the least first.
func (s *search) bySize() []int {
	if s.sized == nil {
		s.sized = make([]int, len(s.items))
		for i := range s.sized {
			s.sized[i] = i
		}
		slices.SortStableFunc(s.sized, func(a, b int) int { return cmp.Compare(s.items[a].kbps, s.items[b].kbps) })
	}
	return s.sized
}

// broken finds an item that breaks what counting channels alone doesn't see: bit rates, and items
// of several sources; the one that weighs most where it is and isn't bound to be there. −1: nothing
// is broken. stuck says that all are bound: this part of the search holds nothing.
func (s *search) broken(to []int, f flow, not []uint64) (at, b int, stuck bool) {
	kbps, count := make([]int, len(s.bins)), make([]int, len(s.bins))
	for i, b := range to {
		if b < len(s.bins) {
			kbps[b] += s.items[i].kbps
			count[b] += len(s.items[i].members)
		}
	}
	at, b = -1, -1
	for i, on := range to {
		if on >= len(s.bins) {
			continue
		}
		x := s.bins[on]
		if (x.kbps < 0 || kbps[on] <= x.kbps) && count[on] <= f.free[on]+f.more[on] {
			continue
		}
		stuck = true
		if !bound(not, i, on, len(s.bins)) && (at < 0 || s.weight(i) > s.weight(at)) {
			at, b = i, on
		}
	}
	return at, b, stuck && at < 0
}

// bound says whether an item may go to one recorder alone, of so many and nowhere.
func bound(not []uint64, item, to, bins int) bool {
	return not[item]|1<<to == 1<<(bins+1)-1 && not[item]&(1<<to) == 0
}

func (s *search) weight(i int) int { return s.items[i].kbps + 100_000*(len(s.items[i].members)-1) }

// repair moves what is too much elsewhere, what sends most first, or leaves it.
func (s *search) repair(to []int, f flow) []int {
	out := slices.Clone(to)
	kbps, count := make([]int, len(s.bins)), make([]int, len(s.bins))
	order := make([]int, len(out))
	for i := range order {
		order[i] = i
	}
	slices.SortStableFunc(order, func(a, b int) int { return cmp.Compare(s.items[a].kbps, s.items[b].kbps) })
	fits := func(i, b int) bool {
		x := s.bins[b]
		return f.allowed[i]&(1<<b) != 0 && count[b]+len(s.items[i].members) <= f.free[b]+f.more[b] && (x.kbps < 0 || kbps[b]+s.items[i].kbps <= x.kbps)
	}
	take := func(i, b int) {
		out[i] = b
		kbps[b] += s.items[i].kbps
		count[b] += len(s.items[i].members)
	}
	var left []int
	for _, i := range order {
		if b := to[i]; b < len(s.bins) && fits(i, b) {
			take(i, b)
		} else {
			left = append(left, i)
		}
	}
	for _, i := range left {
		best := len(s.bins)
		for b := range s.bins {
			if fits(i, b) && (best == len(s.bins) || s.items[i].cost[b] < s.items[i].cost[best]) {
				best = b
			}
		}
		if out[i] = best; best < len(s.bins) {
			take(i, best)
		}
	}
	return out
}

// price is what an assignment costs, restarts aside.
func (s *search) price(to []int, f flow) float64 {
	total := 0.0
	count := make([]int, len(s.bins))
	for i, b := range to {
		if b == len(s.bins) {
			total += weightLeft * float64(len(s.items[i].members))
			continue
		}
		total += s.items[i].cost[b]
		count[b] += len(s.items[i].members)
	}
	for b, n := range count {
		total += weightInput * float64(max(0, n-f.free[b]))
	}
	return total
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
			after[b].Slots = append(after[b].Slots, Slot{Kbps: float64(all[m].Kbps), Width: int(math.Round(all[m].Megapixels * 1e6)), Height: 1})
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
			if why = after[b].Binds(p.Kbps, int(p.Megapixels*1e6)); why != "" && after[b].Hybrid() && after[b].ChannelsNow() < len(after[b].Slots) {
				why = fmt.Sprintf("all %d channels that it can have are taken", after[b].Limits.Capacity.Of(after[b].off(true)+len(after[b].Spare())))
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
