package streams

import (
	"fmt"
	"runtime"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"duskyharbor/internal/core/stream"
)

// Streams are played while there is time; what was played is kept, and the rest says why not.
func TestStreamsArePlayedWhileThereIsTime(t *testing.T) {
	own := []stream.Profile{{Token: "a"}, {Token: "b", Trouble: "GetStreamUri on 192.0.2.7: refused."}, {Token: "c"}, {Token: "d"}}
	var played []string
	until := time.Now().Add(time.Hour)
	play := func(p stream.Profile) stream.Measured {
		played = append(played, p.Token)
		return stream.Measured{Profile: p.Token, Frames: 1}
	}
	all := playEach(own, until, minute, 1, play)
	if len(all) != 4 || !slices.Equal(played, []string{"a", "c", "d"}) || all[1].Trouble != own[1].Trouble || all[3].Frames != 1 {
		t.Errorf("%v: %+v", played, all)
	}
	played = nil
	all = playEach(own, time.Now().Add(30*time.Second), minute, 1, play)
	if len(played) != 0 || len(all) != 4 || !strings.HasPrefix(all[2].Trouble, "There was no time left for it here: the 2 before it") || all[1].Trouble != own[1].Trouble {
		t.Errorf("%v: %+v", played, all)
	}
}

// Several are played at once, never more than may be, the first alone; what a camera with fewer
// sessions refuses is asked for again when it is alone.
func TestStreamsArePlayedAtOnceWithinTheCamerasLimit(t *testing.T) {
	own := make([]stream.Profile, 8)
	for i := range own {
		own[i].Token = fmt.Sprint(i)
	}
	for _, sessions := range []int{1, 2, 8} {
		var mu sync.Mutex
		playing, highest := 0, 0
		play := func(p stream.Profile) stream.Measured {
			mu.Lock()
			if playing >= sessions {
				mu.Unlock()
				return stream.Measured{Profile: p.Token, Full: true}
			}
			playing++
			highest = max(highest, playing)
			mu.Unlock()
			for deadline := time.Now().Add(5 * time.Millisecond); time.Now().Before(deadline); {
				runtime.Gosched()
			}
			mu.Lock()
			playing--
			mu.Unlock()
			return stream.Measured{Profile: p.Token, Frames: 1}
		}
		all := playEach(own, time.Now().Add(time.Hour), minute, 3, play)
		for i, m := range all {
			if m.Frames != 1 || m.Profile != own[i].Token {
				t.Errorf("%d sessions: %+v", sessions, m)
			}
		}
		if highest > min(3, sessions) || sessions == 8 && highest != 3 {
			t.Errorf("%d sessions: %d at once", sessions, highest)
		}
	}
}

func minute(stream.Profile) time.Duration { return time.Minute }
