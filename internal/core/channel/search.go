package channel

import (
	"cmp"
	"math"
	"slices"
)

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
				over[b] += float64(s.items[i].kbps[b])
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
		if !row.Takes(x.large) {
			left = 0
		}
		f.free[b] = min(f.free[b], left)
		f.more[b] = min(f.more[b], left-f.free[b])
	}
	for i, it := range s.items {
		for b, x := range s.bins {
			if !math.IsInf(it.cost[b], 1) && (len(x.rows) == 0 || x.rows[choice[b]].Takes(it.large[b])) && (x.kbps < 0 || it.kbps[b] <= x.kbps) {
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
		g, room := s.roomy(f, n.not)
		if !room {
			continue
		}
		to, bound := g.solve(s.narrowed(&g, n.not))
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

// roomy is a flow in which those that are kept together and are bound to a recorder take all of their
// channels, of which it counts one; ok is false where a recorder hasn't so many.
func (s *search) roomy(f flow, not []uint64) (_ flow, ok bool) {
	copied := false
	for i, it := range s.items {
		more := len(it.members) - 1
		if more == 0 {
			continue
		}
		for b := range s.bins {
			if !bound(not, i, b, len(s.bins)) {
				continue
			}
			if !copied {
				f.free, f.more, copied = slices.Clone(f.free), slices.Clone(f.more), true
			}
			free := min(more, f.free[b])
			f.free[b] -= free
			if f.more[b] -= more - free; f.more[b] < 0 {
				return f, false
			}
		}
	}
	return f, true
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
		for _, i := range s.bySize(b) {
			if bound(not, i, b, len(s.bins)) {
				room, n = room-s.items[i].kbps[b], n+1
			}
		}
		for _, i := range s.bySize(b) {
			if not[i]&(1<<b) != 0 || f.allowed[i]&(1<<b) == 0 || bound(not, i, b, len(s.bins)) {
				continue
			}
			if s.items[i].kbps[b] > room {
				break
			}
			room, n = room-s.items[i].kbps[b], n+1
		}
		if most[b] = n; room < 0 {
			most[b] = 0
		}
	}
	return not, most
}

// bySize are the items by what they send to a recorder, the least first.
func (s *search) bySize(b int) []int {
	if s.sized == nil {
		s.sized = make([][]int, len(s.bins))
	}
	if s.sized[b] == nil {
		s.sized[b] = make([]int, len(s.items))
		for i := range s.sized[b] {
			s.sized[b][i] = i
		}
		slices.SortStableFunc(s.sized[b], func(x, y int) int { return cmp.Compare(s.items[x].kbps[b], s.items[y].kbps[b]) })
	}
	return s.sized[b]
}

// broken finds an item that breaks what counting channels alone doesn't see: bit rates, and items
// of several sources; the one that weighs most where it is and isn't bound to be there. −1: nothing
// is broken. stuck says that all are bound: this part of the search holds nothing.
func (s *search) broken(to []int, f flow, not []uint64) (at, b int, stuck bool) {
	kbps, count := make([]int, len(s.bins)), make([]int, len(s.bins))
	for i, b := range to {
		if b < len(s.bins) {
			kbps[b] += s.items[i].kbps[b]
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
		if !bound(not, i, on, len(s.bins)) && (at < 0 || s.weight(i, on) > s.weight(at, b)) {
			at, b = i, on
		}
	}
	if at < 0 {
		return at, b, stuck
	}
	for i, on := range to { // what is kept together is settled first: counting channels sees one of it
		if on < len(s.bins) && len(s.items[i].members) > len(s.items[at].members) && !bound(not, i, on, len(s.bins)) {
			at, b = i, on
		}
	}
	return at, b, false
}

// bound says whether an item may go to one recorder alone, of so many and nowhere.
func bound(not []uint64, item, to, bins int) bool {
	return not[item]|1<<to == 1<<(bins+1)-1 && not[item]&(1<<to) == 0
}

func (s *search) weight(i, b int) int {
	return s.items[i].kbps[b] + 100_000*(len(s.items[i].members)-1)
}

// sends is what an item sends where it is, or the most that it would anywhere.
func (s *search) sends(i, b int) int {
	if b < len(s.bins) {
		return s.items[i].kbps[b]
	}
	most := 0
	for _, k := range s.items[i].kbps {
		most = max(most, k)
	}
	return most
}

// repair moves what is too much elsewhere, what sends most first, or leaves it.
func (s *search) repair(to []int, f flow) []int {
	out := slices.Clone(to)
	kbps, count := make([]int, len(s.bins)), make([]int, len(s.bins))
	order := make([]int, len(out))
	for i := range order {
		order[i] = i
	}
	slices.SortStableFunc(order, func(a, b int) int { return cmp.Compare(s.sends(a, to[a]), s.sends(b, to[b])) })
	fits := func(i, b int) bool {
		x := s.bins[b]
		return f.allowed[i]&(1<<b) != 0 && count[b]+len(s.items[i].members) <= f.free[b]+f.more[b] && (x.kbps < 0 || kbps[b]+s.items[i].kbps[b] <= x.kbps)
	}
	take := func(i, b int) {
		out[i] = b
		kbps[b] += s.items[i].kbps[b]
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
