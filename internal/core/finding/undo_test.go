package finding

import (
	"maps"
	"math/rand"
	"strings"
	"testing"
)

func TestInverseOfAnInverseIsTheChange(t *testing.T) {
	c := Change{Kind: "clock.zone", Key: "clock.zone", Title: "Zone", From: "a", To: "b", Undo: Undo{Kind: Reversible, Note: "back"},
		Args: map[string]string{"zone": "b", "old_zone": "a", "channel": "3"}}
	back, ok := c.Inverse()
	if !ok || back.From != "b" || back.To != "a" || back.Args["zone"] != "a" || back.Args["old_zone"] != "b" || back.Args["channel"] != "3" {
		t.Fatalf("%+v", back)
	}
	again, ok := back.Inverse()
	if !ok || again.From != c.From || again.To != c.To || !maps.Equal(again.Args, c.Args) {
		t.Errorf("%+v", again)
	}
	if c.Args["zone"] != "b" {
		t.Error("the change itself was altered")
	}
}

func TestInverseOfOtherKinds(t *testing.T) {
	c := Change{Kind: "clock.source", Key: "clock.source", From: "set by hand", To: "NTP x",
		Undo: Undo{Kind: Compensating, Note: "by hand again", Act: "clock.manual", To: "set by hand"}}
	back, ok := c.Inverse()
	if !ok || back.Kind != "clock.manual" || back.From != "NTP x" || back.To != "set by hand" || back.Key != c.Key {
		t.Errorf("%+v %v", back, ok)
	}
	if _, ok := back.Inverse(); ok {
		t.Error("a compensating act is taken back")
	}
	for _, u := range []Undo{{Kind: Irreversible}, {Kind: Compensating}, {}} {
		if _, ok := (Change{Undo: u}).Inverse(); ok {
			t.Errorf("%+v is taken back", u)
		}
	}
}

func TestArrangeIsASafeOrder(t *testing.T) {
	risks := []Risk{NoRisk, Gap, Restart, Address}
	for range 200 {
		var all []Change
		for i := range rand.Intn(8) {
			all = append(all, Change{Kind: string(rune('a' + i)), Risk: risks[rand.Intn(4)]})
		}
		out := Arrange(all)
		if len(out) != len(all) {
			t.Fatal("a change was lost")
		}
		for i := 1; i < len(out); i++ {
			a, b := out[i-1], out[i]
			if a.Risk.weight() > b.Risk.weight() || a.Risk == b.Risk && a.Kind > b.Kind {
				t.Fatalf("%v before %v", a, b)
			}
		}
		if len(out) > 0 && Turn(all) != out[len(out)-1].Risk.weight() {
			t.Fatalf("turn %d", Turn(all))
		}
	}
}

// What was written to a device or recorder that is gone can't be taken back, whatever else holds.
func TestNothingIsTakenBackOnWhatIsGone(t *testing.T) {
	c := Change{Kind: "x", From: "a", To: "b", Undo: Undo{Kind: Reversible}}
	if _, why := TakeBack(c, Standing{Made: true, Latest: true, Enrolled: true}); why != "" {
		t.Error(why)
	}
	if _, why := TakeBack(c, Standing{Made: true, Latest: true, Enrolled: true, Gone: true}); !strings.Contains(why, "taken off this site") {
		t.Error(why)
	}
}

func TestTakeBack(t *testing.T) {
	c := Change{Kind: "x", From: "a", To: "b", Undo: Undo{Kind: Reversible}}
	never := Change{Kind: "x", From: "a", To: "b", Undo: Undo{Kind: Irreversible, Note: "A clock that was set stays set."}}
	for _, tc := range []struct {
		name                   string
		c                      Change
		made, latest, enrolled bool
		why                    string
	}{
		{"as it stands", c, true, true, true, ""},
		{"not made", c, false, true, true, "nothing to take back"},
		{"changed again", c, true, false, true, "take that one back first"},
		{"no inverse", never, true, true, true, "stays set"},
		{"its view was given up", c, true, true, false, "isn't one of the site's"},
		{"given up and not made", c, false, false, false, "isn't one of the site's"},
	} {
		back, why := TakeBack(tc.c, Standing{Made: tc.made, Latest: tc.latest, Enrolled: tc.enrolled})
		if (why == "") != (tc.why == "") || !strings.Contains(why, tc.why) || why == "" && (back.From != "b" || back.To != "a") {
			t.Errorf("%s: %+v %q", tc.name, back, why)
		}
	}
}
