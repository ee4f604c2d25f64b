package gather

import (
	"testing"
	"time"

	"duskyharbor/internal/testbed/moment"
)

// A device's times go on as it tells them, through what comes late and a clock that drifts; one that was set begins anew.
func TestTimesAreTheDevices(t *testing.T) {
	begin := moment.Now()
	for name, x := range map[string]struct {
		told, came []time.Duration // since the beginning, on either clock
		want       []time.Duration
	}{
		"in step":        {[]time.Duration{0, 200e6, 400e6}, []time.Duration{10e6, 210e6, 410e6}, []time.Duration{10e6, 210e6, 410e6}},
		"an hour ahead":  {[]time.Duration{3600e9, 3600e9 + 200e6}, []time.Duration{0, 200e6}, []time.Duration{0, 200e6}},
		"one comes late": {[]time.Duration{0, 200e6, 400e6}, []time.Duration{10e6, 1500e6, 1501e6}, []time.Duration{10e6, 210e6, 410e6}},
		"the first late": {[]time.Duration{0, 200e6, 400e6}, []time.Duration{900e6, 901e6, 902e6}, []time.Duration{900e6, 901e6, 902e6}},
		"set forward":    {[]time.Duration{0, 60e9}, []time.Duration{0, 200e6}, []time.Duration{0, 200e6}},
		"set back":       {[]time.Duration{60e9, 200e6}, []time.Duration{0, 200e6}, []time.Duration{0, 200e6}},
	} {
		var b batch
		for i, told := range x.told {
			got := b.at(begin.Add(told), begin.Add(x.came[i])).Sub(begin)
			if off := (got - x.want[i]).Abs(); off > time.Millisecond {
				t.Errorf("%s: the %d. is at %v, want %v", name, i+1, got, x.want[i])
			}
		}
	}
	// What is centuries away is no time, and leaves those that follow as they are.
	var none batch
	if got := none.at(time.Time{}, begin); !got.Equal(begin) || none.heard {
		t.Errorf("the year 1 is taken for %v", got)
	}
	// A clock that gains 40 parts per million is followed.
	var b batch
	for i := range 5 * 3600 {
		now := begin.Add(time.Duration(i) * 200 * time.Millisecond)
		told := now.Add(-time.Duration(float64(i) * 200e6 * 40e-6))
		if off := b.at(told, now).Sub(now).Abs(); off > 20*time.Millisecond {
			t.Fatalf("after %d documents it is %v off", i, off)
		}
	}
}
