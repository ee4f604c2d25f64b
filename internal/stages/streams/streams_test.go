package streams

import (
	"slices"
	"strings"
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
	all := playEach(own, until, time.Minute, play)
	if len(all) != 4 || !slices.Equal(played, []string{"a", "c", "d"}) || all[1].Trouble != own[1].Trouble || all[3].Frames != 1 {
		t.Errorf("%v: %+v", played, all)
	}
	played = nil
	all = playEach(own, time.Now().Add(30*time.Second), time.Minute, play)
	if len(played) != 0 || len(all) != 4 || !strings.HasPrefix(all[2].Trouble, "There was no time left for it here: the 2 before it") || all[1].Trouble != own[1].Trouble {
		t.Errorf("%v: %+v", played, all)
	}
}
