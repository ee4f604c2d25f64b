package store_test

import (
	"errors"
	"testing"
	"time"

	"duskyharbor/internal/core/picture"
	"duskyharbor/internal/store"
)

// One holds a camera by hand at a time: who is taken over holds it no more, who falls silent or held it for too long is
// let go, and where it looked when the first of them took it stays known.
func TestHands(t *testing.T) {
	st, _, view, _ := shed(t)
	ctx := t.Context()
	const quiet = 8 * time.Second
	var people [2]int64
	for i, name := range []string{"maren", "anselm"} {
		var err error
		if people[i], err = st.AddPerson(ctx, name, name, "x"); err != nil {
			t.Fatal(err)
		}
	}
	hand := func(person int, pan float64) store.Hand {
		return store.Hand{DeviceID: view.Device.ID, SourceID: view.ID, PersonID: &people[person], Home: picture.Aim{Pan: pan}}
	}
	if _, err := st.HandOn(ctx, view.Device.ID, quiet); !errors.Is(err, store.ErrNotFound) {
		t.Fatalf("before anyone took it: %v", err)
	}
	first, err := st.TakeHand(ctx, hand(0, 0.1), quiet, false)
	if err != nil || first.Who != "maren" || first.Lapsed || first.Home.Pan != 0.1 {
		t.Fatalf("%+v %v", first, err)
	}
	if _, err := st.TakeHand(ctx, hand(1, 0.5), quiet, false); !errors.Is(err, store.ErrHeld) {
		t.Errorf("another takes it unasked: %v", err)
	}
	if err := st.KeepHand(ctx, first); err != nil {
		t.Error(err)
	}
	mine := first
	mine.PersonID = &people[1]
	if err := st.KeepHand(ctx, mine); !errors.Is(err, store.ErrHeld) {
		t.Errorf("another's number is no hand: %v", err)
	}
	second, err := st.TakeHand(ctx, hand(1, 0.5), quiet, true)
	if err != nil || second.Number <= first.Number || second.Who != "anselm" || second.Home.Pan != 0.1 {
		t.Fatalf("taken over: %+v %v", second, err)
	}
	if err := st.KeepHand(ctx, first); !errors.Is(err, store.ErrHeld) {
		t.Errorf("who was taken over holds it still: %v", err)
	}
	if err := st.DropHand(ctx, view.Device.ID, first.Number); !errors.Is(err, store.ErrHeld) {
		t.Errorf("and lets it go: %v", err)
	}
	for _, since := range []string{"kept_at = now() - interval '9 s'", "kept_at = now(), taken_at = now() - interval '16 min'"} {
		if _, err := st.Pool.Exec(ctx, `update hand set `+since); err != nil {
			t.Fatal(err)
		}
		if h, err := st.HandOn(ctx, view.Device.ID, quiet); err != nil || !h.Lapsed || h.Home.Pan != 0.1 {
			t.Errorf("%s: %+v %v", since, h, err)
		}
	}
	if err := st.KeepHand(ctx, second); !errors.Is(err, store.ErrHeld) {
		t.Errorf("held for longer than one may: %v", err)
	}
	third, err := st.TakeHand(ctx, hand(0, 0.9), quiet, false)
	if err != nil || third.Lapsed || third.Home.Pan != 0.1 {
		t.Errorf("after it lapsed: %+v %v", third, err)
	}
	if err := st.DropHand(ctx, view.Device.ID, third.Number); err != nil {
		t.Error(err)
	}
	if h, err := st.TakeHand(ctx, hand(1, 0.9), quiet, false); err != nil || h.Home.Pan != 0.9 {
		t.Errorf("taken afresh: %+v %v", h, err)
	}
}
