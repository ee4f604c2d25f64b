package analyser

import (
	"fmt"
	"testing"
	"time"

	"duskyharbor/internal/standin/footage"
)

func TestProbe(t *testing.T) {
	for _, sc := range []footage.Scene{footage.CrewMess, footage.Slipway, footage.Berth2} {
		name := sc.Name

		for _, night := range []bool{false, true} {
			sc.Night = night
			var l look
			var tr tracker
			at := time.Unix(0, 0)
			for _, walk := range []bool{false, true, false} {
				for d := time.Duration(0); d < footage.Length; d += 500 * time.Millisecond {
					img := sc.DrawLook(walk, d, 640, 360, footage.Look{})
					seen, _ := tr.follow(at, l.at(img), 0)
					at = at.Add(500 * time.Millisecond)
					s := ""
					for _, o := range seen {
						s += fmt.Sprintf(" %s:%s %.2f [%.2f %.2f %.2f %.2f]", o.Object, o.Class, o.Score, o.Box.Left, o.Box.Bottom, o.Box.Right, o.Box.Top)
					}
					if s != "" || walk {
						m := sc.Moving(walk, d)
						t.Log(name, night, walk, d, s, " TRUE ", len(m))
					}
				}
			}
		}
	}
}
