package recorder_test

import (
	"testing"
	"time"

	"duskyharbor/internal/core/channel"
	"duskyharbor/internal/demo"
	"duskyharbor/internal/testbed"
)

// A port stays bound to its channel when the entry there is taken out, and the recorder takes what hangs
// on the port on it by an account of its own; without one it leaves the channel free.
func TestWhatHangsOnABoundPortIsTaken(t *testing.T) {
	for name, user := range map[string]string{"with an account for its ports": "otter", "without one": ""} {
		t.Run(name, func(t *testing.T) {
			b := open(t, nil)
			cfg, at := demo.Recorders(b.net, b.s, t.TempDir())[1], b.net.At(".90.13") // a dead entry is on channel 3, which is bound to port 3
			cfg.PortUser = user
			_, rec := started(t, cfg)
			table := func() channel.Recorder {
				got, _, err := rec.Status(t.Context())
				if err != nil {
					t.Fatal(err)
				}
				return got
			}
			port := func() channel.Port {
				p, _ := table().OnPort(at.String())
				return p
			}
			testbed.Until(t, 20*time.Second, "the port has its device", func() bool { return port().Linked && port().Channel == 3 })
			if err := rec.Remove(t.Context(), 3); err != nil {
				t.Fatal(err)
			}
			if user == "" {
				if got := table(); len(got.Slots) != 0 || port().Channel != 3 || got.Free(3) == 3 {
					t.Errorf("the channel of the port isn't kept for it: %+v", got.Slots)
				}
				return
			}
			testbed.Until(t, 30*time.Second, "what hangs there is received on its channel", func() bool {
				s := table().Slots
				return len(s) == 1 && s[0].Number == 3 && s[0].Address == at.String() && s[0].State == channel.Receiving
			})
		})
	}
}
