package engine

import (
	"context"
	"slices"

	"duskyharbor/internal/store/coalesce"
)

// touched is what one step has judged: devices that it touched.
type touched struct {
	site    int64
	devices []int64
}

// verdicts judges devices together that different steps of this process touched at
// about the same time: one reading and one writing of the database serve them all.
type verdicts = coalesce.Group[touched, error]

// judgeAsked judges what a round gathered, site by site.
func (e *Engine) judgeAsked(ctx context.Context, all []touched) ([]error, error) {
	bySite := map[int64][]int64{}
	for _, a := range all {
		bySite[a.site] = append(bySite[a.site], a.devices...)
	}
	said := map[int64]error{}
	for site, devices := range bySite {
		slices.Sort(devices)
		said[site] = e.judge(ctx, site, slices.Compact(devices))
	}
	out := make([]error, len(all))
	for i, a := range all {
		out[i] = said[a.site]
	}
	return out, nil
}

// judgeSoon has devices judged with others, and waits until they were.
func (e *Engine) judgeSoon(ctx context.Context, site int64, devices []int64) error {
	said, err := e.verdicts.Call(ctx, touched{site, devices})
	if err != nil {
		return err
	}
	return said
}
