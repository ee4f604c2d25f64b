package gather

import (
	"context"
	"errors"
	"slices"
	"sync"
	"testing"
	"time"

	"duskyharbor/internal/testbed/moment"
)

// What an analyser says of our stills has our times; what lies too far off isn't by our clock, and is taken as a device's.
func TestTimesOfStillsAreOurs(t *testing.T) {
	t.Parallel()
	now := moment.Now()
	for name, tc := range map[string]struct{ told, want time.Time }{
		"at once":             {now, now},
		"after five minutes":  {now.Add(-5 * time.Minute), now.Add(-5 * time.Minute)},
		"on the bound":        {now.Add(-longest + 1), now.Add(-longest + 1)},
		"beyond it":           {now.Add(-longest), now},
		"never set":           {time.Time{}, now},
		"of a second to come": {now.Add(2 * time.Second), now},
		"of the next year":    {now.AddDate(1, 0, 0), now},
	} {
		b := batch{ours: true}
		if got := b.at(tc.told, now); !got.Equal(tc.want) {
			t.Errorf("%s: %v, want %v", name, got, tc.want)
		}
	}
}

// While one still can't be given none is taken: nothing of a stopped analyser piles up. How it goes is told when it changes.
func TestStillsAreSentOneAtATime(t *testing.T) {
	t.Parallel()
	ctx, stop := context.WithCancel(t.Context())
	defer stop()
	var mu sync.Mutex
	taken, given, under := 0, 0, 0
	var at []time.Time
	hold := make(chan struct{})
	f := &Feed{Every: time.Millisecond, Most: 10,
		Take: func(context.Context) ([]byte, error) {
			mu.Lock()
			defer mu.Unlock()
			taken++
			if taken == 40 {
				return make([]byte, 11), nil
			}
			return []byte("jpeg"), nil
		},
		Give: func(ctx context.Context, when time.Time, jpeg []byte) error {
			mu.Lock()
			given++
			under = max(under, taken-given)
			at = append(at, when)
			stops := given == 20
			mu.Unlock()
			if stops {
				<-hold
			}
			return nil
		}}
	var news []error
	done := make(chan struct{})
	go func() {
		defer close(done)
		f.send(ctx, func(err error) {
			mu.Lock()
			defer mu.Unlock()
			if news = append(news, err); err != nil {
				stop()
			}
		})
	}()
	begin := time.Now()
	for stopped := false; !stopped && time.Since(begin) < 10*time.Second; time.Sleep(time.Millisecond) {
		mu.Lock()
		stopped = given == 20
		mu.Unlock()
	}
	mu.Lock()
	if taken != 20 {
		t.Errorf("%d stills were taken while the analyser stands still at the 20th", taken)
	}
	mu.Unlock()
	close(hold)
	<-done
	if under > 0 || given != 39 || len(news) != 2 || news[0] != nil || !errors.Is(news[1], errLarge) {
		t.Errorf("%d more taken than given, %d given, told %v", under, given, news)
	}
	if !slices.IsSortedFunc(at, time.Time.Compare) {
		t.Error("stills are given out of order")
	}
}

func TestTroubleIsToldOnce(t *testing.T) {
	t.Parallel()
	ctx, stop := context.WithTimeout(t.Context(), 50*time.Millisecond)
	defer stop()
	tries := 0
	var told []string
	f := &Feed{Every: time.Millisecond, again: time.Millisecond, Take: func(context.Context) ([]byte, error) {
		if tries++; tries > 5 {
			return nil, errors.New("another answer")
		}
		return nil, errors.New("no answer")
	}}
	f.send(ctx, func(err error) { told = append(told, err.Error()) })
	if tries < 7 || !slices.Equal(told, []string{"no answer", "another answer"}) {
		t.Errorf("in %d tries told %q", tries, told)
	}
}
