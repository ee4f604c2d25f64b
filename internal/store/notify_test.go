package store

import "testing"

func TestEventsRoundTrip(t *testing.T) {
	for _, e := range []Event{{1, OnRun, 0}, {7, OnMark, 1 << 40}, {-1, "x", -2}} {
		if back, ok := ParseEvent(e.String()); !ok || back != e {
			t.Errorf("%v reads back as %v %v", e, back, ok)
		}
	}
	for _, bad := range []string{"", "1", "1:run", "1:run:x", "x:run:1", "1::1", "1:run:1:2", ":::"} {
		if e, ok := ParseEvent(bad); ok {
			t.Errorf("%q is read as %v", bad, e)
		}
	}
}

func FuzzParseEvent(f *testing.F) {
	f.Add("1:run:2")
	f.Fuzz(func(t *testing.T, text string) {
		if e, ok := ParseEvent(text); ok {
			if back, ok := ParseEvent(e.String()); !ok || back != e {
				t.Errorf("%q: %v, then %v", text, e, back)
			}
		}
	})
}
