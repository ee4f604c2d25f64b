package identity

import (
	"fmt"
	"math/rand/v2"
	"net/netip"
	"reflect"
	"strings"
	"testing"
	"time"

	"duskyharbor/internal/testbed/moment"
)

// Fifteen thousand answers of one address make one sentence, the same in any order.
func TestAFloodOfEndpointsIsOneSentence(t *testing.T) {
	at := netip.MustParseAddr("127.40.1.9")
	all := make([]Sighting, 15_000)
	for i := range all {
		all[i] = Sighting{Address: at, UUID: fmt.Sprintf("7d7b8a10-0000-4000-8000-%012x", i), Ways: []Way{Multicast}}
	}
	merged := func() Sighting {
		s := all[0]
		for _, x := range all[1:] {
			s = Merge(s, x)
		}
		return s
	}
	first := merged()
	for range 3 {
		rand.Shuffle(len(all), func(i, j int) { all[i], all[j] = all[j], all[i] })
		if got := merged(); !reflect.DeepEqual(got, first) {
			t.Fatalf("another order makes %+v of %+v", got, first)
		}
	}
	if len(first.Also) != maxAlso || first.UUID != "7d7b8a10-0000-4000-8000-000000000000" {
		t.Errorf("%d further endpoints, first %s", len(first.Also), first.UUID)
	}
	why := Doubt(Facts{Seen: &first}, Wishes{Known: Known{Kind: Camera, Expected: true}})
	if len(why) > 300 || !strings.Contains(why, "More than 8 devices answer at 127.40.1.9") {
		t.Errorf("%d bytes: %s", len(why), why)
	}
}

func TestSeveralOnOneAreCounted(t *testing.T) {
	for n, want := range map[int]string{1: "Two devices answer at 127.40.1.9: endpoints u and a.", 2: "3 devices answer at 127.40.1.9: endpoints u, a and 1 more.",
		7: "8 devices answer at 127.40.1.9: endpoints u, a and 6 more."} {
		s := Sighting{Address: netip.MustParseAddr("127.40.1.9"), UUID: "u", Also: strings.Split("a,b,c,d,e,f,g", ",")[:n]}
		if got := severalOnOne(s); got != want {
			t.Errorf("%d: %s", n, got)
		}
	}
}

// What a look saw before an account opened the device is settled by that; a look since isn't.
func TestAFirstPasswordThatWasSetIsNoFindingAnyMore(t *testing.T) {
	now := moment.Now()
	seen := Sighting{At: now, NoPassword: true}
	for opened, want := range map[time.Time]bool{{}: true, now.Add(-time.Minute): true, now.Add(time.Minute): false} {
		if got := seen.Since(opened).NoPassword; got != want {
			t.Errorf("opened at %v: %v", opened, got)
		}
	}
}
