package channel

import "testing"

func TestWhyASourceWaits(t *testing.T) {
	r := &Recorder{Name: "Quay recorder", Limits: Limits{Channels: 1}}
	full := &Recorder{Name: "Quay recorder", Limits: Limits{Channels: 1}, Slots: []Slot{{Number: 1}}}
	for _, tc := range []struct {
		f     Facts
		w     Wishes
		found bool
		want  string
	}{
		{Facts{}, Wishes{}, false, "not found yet"},
		{Facts{}, Wishes{}, true, "no recorder planned"},
		{Facts{Planned: "Quay recorder"}, Wishes{}, true, "streams not read yet"},
		{Facts{Planned: "Quay recorder", Recorder: r}, Wishes{Unfit: true}, true, "none of its streams is one that Quay recorder takes"},
		{Facts{Planned: "Quay recorder"}, Wishes{Stream: "main"}, true, "recorder not read yet"},
		{Facts{Planned: "Quay recorder", Recorder: r}, Wishes{Stream: "main"}, true, ""},
		{Facts{Planned: "Quay recorder", Recorder: full}, Wishes{Stream: "main"}, true, "all 1 IP channels are taken"},
	} {
		if got := Waits(tc.f, tc.w, tc.found); got != tc.want {
			t.Errorf("%+v: %q, want %q", tc.f, got, tc.want)
		}
	}
}

func TestGauges(t *testing.T) {
	if got := Gauges(Recorder{}); len(got) != 0 {
		t.Errorf("limits that weren't told: %+v", got)
	}
	r := Recorder{Limits: Limits{Channels: 10, MbitIn: 10}, Slots: []Slot{{Kbps: 9000}, {Kbps: 500}}}
	got := Gauges(r)
	if len(got) != 2 || got[0].Used != 2 || got[0].Tight || !got[0].Exact || got[1].Used != 9.5 || !got[1].Tight {
		t.Errorf("%+v", got)
	}
}
