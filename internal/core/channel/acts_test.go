package channel

import (
	"testing"

	"duskyharbor/internal/testbed/moment"
)

// What a recorder can't do, as it is spoken to, is told in words, is proposed by no rule, and names no act
// twice.
func TestWhatARecorderCanNotDo(t *testing.T) {
	for _, tc := range []struct {
		cannot []Act
		says   string
	}{
		{nil, ""},
		{[]Act{ActPlan}, "keep by a plan"},
		{[]Act{ActLog, ActPlan, ActInputs}, "keep by a plan, tell what its channels hear or tell what it heard"},
		{[]Act{"no act"}, ""},
	} {
		if got := (Recorder{Cannot: tc.cannot}).CannotText(); got != tc.says {
			t.Errorf("%v: %q, want %q", tc.cannot, got, tc.says)
		}
	}
	sheet := Bench{Channels: 4, Codecs: []string{"H264"}}.Table("Store recorder", moment.Now(), nil, nil)
	if sheet.Speech != BySheet || !sheet.Lacks(ActPlace) || !sheet.Lacks(ActName) || sheet.Summary() != "0 channels typed in, 0 seen from outside" {
		t.Errorf("%+v", sheet)
	}
	f := Facts{Recorder: &sheet, Slot: &Slot{Number: 1, Name: "CAM 1", State: Receiving}}
	if all := Propose(moment.Now(), f, Wishes{Name: "Slipway"}); len(all) != 0 {
		t.Errorf("a name is written where nothing can be: %+v", all)
	}
	p := &CascadePlanner{Recorder: 1, R: sheet}
	if _, why, ok := p.Take(feed(1, "Slipway")); ok || why != "Store recorder can't be given a channel as it is spoken to" {
		t.Errorf("%v %q", ok, why)
	}
}
