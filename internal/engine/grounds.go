package engine

import (
	"duskyharbor/internal/core/ground"
	"duskyharbor/internal/site"
)

// Grounded is a stage on whose facts a proof or an accepted picture rests. What it says is always the same list of
// grounds, those that aren't known among them:
//
//	func (l *Lens) Grounds(s *site.Snapshot, of site.Source) []ground.Ground {
//		fitted, _ := lensFitted.Of(s, of)
//		return []ground.Ground{{Of: "lens", Is: fitted.Name, Under: ground.Proof | ground.Picture}}
//	}
type Grounded interface {
	Grounds(s *site.Snapshot, of site.Source) []ground.Ground
}

// Grounds are those of a view that all stages say of their facts, for what rests on them.
func (e *Engine) Grounds(u ground.Under, s *site.Snapshot, of site.Source) (out []ground.Ground) {
	for _, st := range e.stages {
		if g, ok := st.(Grounded); ok {
			out = append(out, ground.For(u, g.Grounds(s, of))...)
		}
	}
	return out
}
