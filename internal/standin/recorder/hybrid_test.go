package recorder_test

import (
	"errors"
	"fmt"
	"strings"
	"testing"
	"time"

	"duskyharbor/internal/demo"
	"duskyharbor/internal/device/dial"
	client "duskyharbor/internal/device/recorder"
	"duskyharbor/internal/testbed"
)

// The hybrid recorder takes ten IP cameras after one restart of all that was switched off, and
// refuses the eleventh; before the restart nothing has changed, and it is away for it.
func TestAHybridRecorderTakesTenAfterOneRestart(t *testing.T) {
	t.Parallel()
	n, s := testbed.Net(t), demo.NewSecrets()
	cfg := demo.Recorders(n, s, t.TempDir())[1]
	cfg.Plugged, cfg.Entries, cfg.RestartTime, cfg.Limits.Licences = nil, nil, 500*time.Millisecond, 16
	cfg.Limits.Ways, cfg.Lists = nil, nil
	_, rec := started(t, cfg)
	status := func() (now, next, waits int) {
		t.Helper()
		a, _, err := rec.Status(t.Context())
		if err != nil {
			t.Fatal(err)
		}
		return a.ChannelsNow(), a.ChannelsNext(), len(a.Pending())
	}
	for i := range cfg.Analog {
		if err := rec.SetAnalog(t.Context(), i+1, false); err != nil {
			t.Fatal(err)
		}
	}
	if now, next, waits := status(); now != 4 || next != 10 || waits != 6 {
		t.Fatalf("before the restart: %d, %d, %d", now, next, waits)
	}
	place := func(number int) error {
		return rec.Place(t.Context(), number, client.Placement{Name: fmt.Sprint("View ", number), Address: n.At(fmt.Sprintf(".1.%d", 100+number)).String(), Service: "x", Username: "otter", Profile: "main"})
	}
	if err := place(5); !errors.Is(err, dial.ErrNotSupported) || !strings.Contains(err.Error(), "there are channels 1 to 4") {
		t.Errorf("a fifth before the restart: %v", err)
	}
	if err := rec.Restart(t.Context()); err != nil {
		t.Fatal(err)
	}
	testbed.Until(t, 5*time.Second, "it is away", func() bool { _, _, err := rec.Status(t.Context()); return errors.Is(err, dial.ErrUnreachable) })
	testbed.Until(t, 10*time.Second, "it is back", func() bool { _, _, err := rec.Status(t.Context()); return err == nil })
	if now, _, waits := status(); now != 10 || waits != 0 {
		t.Fatalf("after it: %d channels, %d wait", now, waits)
	}
	for number := 1; number <= 10; number++ {
		if err := place(number); err != nil {
			t.Fatal(err)
		}
	}
	if err := place(11); err == nil || !strings.Contains(err.Error(), "there are channels 1 to 10") {
		t.Errorf("the eleventh: %v", err)
	}
	if err := rec.SetAnalog(t.Context(), 3, true); !errors.Is(err, dial.ErrRefused) || !strings.Contains(err.Error(), "channel 10 is taken") {
		t.Errorf("an input under a taken channel: %v", err)
	}
	if err := rec.SetAnalog(t.Context(), 9, true); !errors.Is(err, dial.ErrNotSupported) {
		t.Errorf("an input that isn't there: %v", err)
	}
}
