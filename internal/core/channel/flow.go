package channel

import (
	"math"
	"slices"
)

// flow is the problem without bit rates: items to recorders of so many channels each. Where each
// item is one source it is solved exactly, by successive shortest paths; else the items count as
// one channel each there, which bounds what they cost from below.
type flow struct {
	items   []item
	free    []int    // channels that cost nothing
	more    []int    // channels that cost an analog input
	allowed []uint64 // recorders of each item
}

// solve finds the cheapest assignment in which no item goes where not says, and no more to each
// recorder than most; len(free) is nowhere.
func (f flow) solve(not []uint64, most []int) (to []int, cost float64) {
	return f.priced(not, most, nil)
}

// priced is solve where each kbit/s on a recorder costs something besides.
func (f flow) priced(not []uint64, most []int, rate []float64) (to []int, cost float64) {
	n := len(f.free)
	to = make([]int, len(f.items))
	costs := make([]float64, len(f.items)*(n+1))
	for i, it := range f.items {
		row := costs[i*(n+1) : (i+1)*(n+1)]
		for b := range n + 1 {
			switch {
			case not[i]&(1<<b) != 0 || b < n && f.allowed[i]&(1<<b) == 0:
				row[b] = math.Inf(1)
			case b == n:
				row[b] = weightLeft * float64(len(it.members))
			default:
				row[b] = it.cost[b]
				if rate != nil {
					row[b] += rate[b] * float64(it.kbps[b])
				}
			}
		}
	}
	load, on := make([]int, n), make([][]int, n+1)
	dist, via, from := make([]float64, n+1), make([]int, n+1), make([]int, n+1)
	for i := range f.items {
		for b := range n + 1 {
			dist[b], via[b], from[b] = costs[i*(n+1)+b], i, -1
		}
		for changed := true; changed; { // Bellman and Ford: costs of moves may be negative
			changed = false
			for a := range n + 1 {
				if math.IsInf(dist[a], 1) || a < n && load[a] < min(f.free[a], most[a]) {
					continue // who comes there needn't send anyone on
				}
				for _, k := range on[a] {
					row := costs[k*(n+1) : (k+1)*(n+1)]
					for b, c := range row {
						if d := dist[a] + c - row[a]; b != a && d < dist[b]-0.25 {
							dist[b], via[b], from[b], changed = d, k, a, true
						}
					}
				}
			}
		}
		end, best := -1, math.Inf(1)
		for b := range n + 1 {
			d := dist[b]
			switch {
			case b == n:
			case load[b] >= most[b]:
				continue
			case load[b] < f.free[b]:
			case load[b] < f.free[b]+f.more[b]:
				d += weightInput
			default:
				continue
			}
			if d < best {
				end, best = b, d
			}
		}
		if end < 0 { // it may go nowhere by what this part of the search says
			return to, math.Inf(1)
		}
		cost += best
		if end < n {
			load[end]++
		}
		for b := end; ; {
			k, a := via[b], from[b]
			if a >= 0 {
				on[a] = slices.DeleteFunc(on[a], func(x int) bool { return x == k })
			}
			to[k], on[b] = b, append(on[b], k)
			if a < 0 {
				break
			}
			b = a
		}
	}
	return to, cost
}
