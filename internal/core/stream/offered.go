package stream

import (
	"cmp"
	"slices"
)

// Offered is what encoders of views can be set to, each with how many of the views offer it in one of their streams.
type Offered struct {
	Views  int // whose options are told
	Codecs map[string]int
	Sizes  []Count[Size] // the largest first
	Rates  []Count[float64]
	Levels []Count[string]
	Names  []Count[string] // what their streams are called
	Read   int             // whose streams are known
}

// Count is one thing that is offered, and by how many.
type Count[T any] struct {
	Of T
	By int
}

// OfferedBy gathers what views can be set to.
func OfferedBy(views []Facts) Offered {
	out := Offered{Codecs: map[string]int{}}
	sizes, rates, levels, names := map[Size]int{}, map[float64]int{}, map[string]int{}, map[string]int{}
	for _, f := range views {
		codecs, hasSizes, hasRates, hasLevels := map[string]bool{}, map[Size]bool{}, map[float64]bool{}, map[string]bool{}
		hasNames := map[string]bool{}
		for _, p := range f.Profiles {
			hasNames[p.Name] = p.Name != ""
			for _, o := range p.Options {
				codecs[o.Codec] = true
				for _, s := range o.Sizes {
					hasSizes[s] = true
				}
				for _, r := range o.frames() {
					hasRates[r] = true
				}
				for _, l := range o.Levels {
					hasLevels[l] = true
				}
			}
		}
		if len(codecs) > 0 {
			out.Views++
		}
		add(out.Codecs, codecs)
		add(sizes, hasSizes)
		add(rates, hasRates)
		add(levels, hasLevels)
		add(names, hasNames)
		if len(f.Profiles) > 0 {
			out.Read++
		}
	}
	out.Sizes = counted(sizes, func(a, b Size) int {
		return cmp.Or(b.pixels()-a.pixels(), b.Width-a.Width)
	})
	out.Rates = counted(rates, func(a, b float64) int { return cmp.Compare(b, a) })
	out.Levels = counted(levels, cmp.Compare[string])
	out.Names = counted(names, cmp.Compare[string])
	return out
}

// usual are frame rates that a range is told by.
var usual = []float64{60, 50, 30, 25, 20, 15, 12.5, 12, 10, 8, 6, 5, 3, 2, 1}

// frames are the frame rates to choose from.
func (o Options) frames() []float64 {
	if len(o.Rates) > 0 {
		return o.Rates
	}
	return slices.DeleteFunc(slices.Clone(usual), func(r float64) bool { return o.MaxFPS == 0 || !o.offersRate(r) })
}

func add[T comparable](to map[T]int, has map[T]bool) {
	for v, so := range has {
		if so {
			to[v]++
		}
	}
}

func counted[T comparable](all map[T]int, order func(a, b T) int) []Count[T] {
	var out []Count[T]
	for v, n := range all {
		out = append(out, Count[T]{v, n})
	}
	slices.SortFunc(out, func(a, b Count[T]) int { return order(a.Of, b.Of) })
	return out
}
