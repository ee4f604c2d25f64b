package engine_test

import (
	"context"
	"sync"
	"testing"

	"duskyharbor/internal/app"
	"duskyharbor/internal/core/stage"
	"duskyharbor/internal/store"
	"duskyharbor/internal/testbed"
)

// A reading that is asked for again while it goes is the same one, whoever asks and however many at
// once; another selection, another way to sign in, or one that was stopped is another.
func TestAReadingAskedForTwiceIsOne(t *testing.T) {
	t.Parallel()
	b := openOn(t, testbed.StartOnly(t, "Slipway", "Net loft"), app.Options{})
	b.find()
	ctx := context.Background()
	for _, place := range []string{"Slipway", "Net loft"} {
		b.Fleet.Camera(place).Stall("GetDeviceInformation") // nothing ends while they are asked for
	}
	both := store.NewRun{Site: b.Site, Stage: stage.SignIn, Act: store.Read, Title: "Read", Of: store.OfDevices(b.device("Slipway").ID, b.device("Net loft").ID)}
	ids := make([]int64, 6)
	var all sync.WaitGroup
	for i := range ids {
		all.Go(func() {
			id, err := b.app.Begin(ctx, both, false)
			if err != nil {
				t.Error(err)
			}
			ids[i] = id
		})
	}
	all.Wait()
	for _, id := range ids {
		if id != ids[0] || id == 0 {
			t.Fatalf("asked for at once: %v", ids)
		}
	}
	one, factory := both, both
	one.Of, factory.Factory = one.Of[:1], true
	for name, n := range map[string]store.NewRun{"one of the two": one, "makers' default accounts": factory} {
		if id, err := b.app.Begin(ctx, n, false); err != nil || id == ids[0] {
			t.Errorf("%s: %d, %v", name, id, err)
		}
	}
}
