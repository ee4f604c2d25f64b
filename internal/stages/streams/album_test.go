package streams

import (
	"context"
	"errors"
	"strconv"
	"sync"
	"sync/atomic"
	"testing"
	"time"
)

// clocked is an album with a clock of its own.
func clocked() (*album, *time.Time) {
	a, now := newAlbum(), time.Unix(1000, 0)
	a.now = func() time.Time { return now }
	return a, &now
}

// However many look, a camera is asked once, and again when its still is old.
func TestACameraIsAskedOnceHoweverManyLook(t *testing.T) {
	a, now := clocked()
	var asked atomic.Int32
	begin := make(chan struct{})
	get := func(context.Context) ([]byte, error) {
		asked.Add(1)
		<-begin
		return []byte("picture"), nil
	}
	var all sync.WaitGroup
	for range 20 {
		all.Go(func() {
			if data, err := a.of(t.Context(), "7", get); err != nil || string(data) != "picture" {
				t.Errorf("%q %v", data, err)
			}
		})
	}
	close(begin)
	all.Wait()
	if n := asked.Load(); n != 1 {
		t.Errorf("20 who look asked it %d times", n)
	}
	*now = now.Add(stillAge)
	if _, err := a.of(t.Context(), "7", get); err != nil || asked.Load() != 2 {
		t.Errorf("an old still is given again: asked %d times, %v", asked.Load(), err)
	}
}

// A camera that gives none isn't asked again at once; whoever goes away takes nobody's still along.
func TestAMissIsKeptAndWhoGoesTakesNobodyAlong(t *testing.T) {
	a, now := clocked()
	var asked atomic.Int32
	miss := func(context.Context) ([]byte, error) { asked.Add(1); return nil, errors.New("silent") }
	for range 3 {
		if _, err := a.of(t.Context(), "1", miss); err == nil {
			t.Error("it gave a still")
		}
		*now = now.Add(missAge / 4)
	}
	if asked.Load() != 1 {
		t.Errorf("asked %d times", asked.Load())
	}
	if _, err := a.of(t.Context(), "3", func(context.Context) ([]byte, error) { panic("broken picture") }); err == nil {
		t.Error("a picture that breaks the decoder is given")
	}
	gone, leave := context.WithCancel(t.Context())
	begun, end := make(chan struct{}), make(chan struct{})
	slow := func(ctx context.Context) ([]byte, error) {
		close(begun)
		<-end
		return []byte("late"), ctx.Err()
	}
	first := make(chan error)
	go func() { _, err := a.of(gone, "2", slow); first <- err }()
	<-begun
	leave()
	if err := <-first; !errors.Is(err, context.Canceled) {
		t.Errorf("who went away got %v", err)
	}
	second := make(chan error)
	go func() {
		data, err := a.of(t.Context(), "2", slow)
		if string(data) != "late" {
			err = errors.Join(err, errors.New("no still"))
		}
		second <- err
	}()
	close(end)
	if err := <-second; err != nil {
		t.Errorf("who stayed got %v", err)
	}
}

// The album never holds more than its bytes, and nothing that is old.
func TestTheAlbumIsBounded(t *testing.T) {
	a, now := clocked()
	large := make([]byte, stillsBytes/4+1)
	for i := range 50 {
		v := strconv.Itoa(i)
		*now = now.Add(time.Millisecond)
		if _, err := a.of(t.Context(), v, func(context.Context) ([]byte, error) { return large, nil }); err != nil {
			t.Fatal(err)
		}
		if a.bytes > stillsBytes || len(a.kept) > 3 {
			t.Fatalf("%d stills of %d bytes are kept", len(a.kept), a.bytes)
		}
	}
	if _, newest := a.kept["49"]; !newest {
		t.Error("the newest went")
	}
	*now = now.Add(time.Minute)
	if _, err := a.of(t.Context(), "60", func(context.Context) ([]byte, error) { return []byte("x"), nil }); err != nil || len(a.kept) != 1 || a.bytes != 1 {
		t.Errorf("%d stills of %d bytes are kept, %v", len(a.kept), a.bytes, err)
	}
}
