package work

import (
	"context"
	"slices"

	"duskyharbor/internal/store/rounds"
)

// asked is what one step has judged: devices that it touched.
type asked struct {
	site    int64
	devices []int64
}

// verdicts judges devices together that different steps of this process touched at
// about the same time: one reading and one writing of the database serve them all.
type verdicts = rounds.Rounds[asked, error]

// judgeAsked judges what a round gathered, site by site.
func (o *Office) judgeAsked(ctx context.Context, all []asked) ([]error, error) {
	bySite := map[int64][]int64{}
	for _, a := range all {
		bySite[a.site] = append(bySite[a.site], a.devices...)
	}
	said := map[int64]error{}
	for site, devices := range bySite {
		slices.Sort(devices)
		said[site] = o.judge(ctx, site, slices.Compact(devices))
	}
	out := make([]error, len(all))
	for i, a := range all {
		out[i] = said[a.site]
	}
	return out, nil
}

// judgeSoon has devices judged with others, and waits until they were.
func (o *Office) judgeSoon(ctx context.Context, site int64, devices []int64) error {
	said, err := o.verdicts.Call(ctx, asked{site, devices})
	if err != nil {
		return err
	}
	return said
}
