package shell

import (
	"context"
	"testing"
	"time"

	"duskyharbor/internal/store"
)

// Nobody is told to be in touch before the database is heard, or while it isn't any more: what changes meanwhile
// would be told to nobody.
func TestAListenerWaitsUntilTheDatabaseIsHeard(t *testing.T) {
	t.Parallel()
	h := &hub{listeners: map[*listener]bool{}, listening: make(chan struct{})}
	soon, cancel := context.WithTimeout(t.Context(), 10*time.Millisecond)
	defer cancel()
	if _, _, _, err := h.hear(soon, 1, time.Now()); err == nil || len(h.listeners) != 0 {
		t.Fatalf("it is told to be in touch: %v", err)
	}
	made := time.Now()
	got := make(chan bool)
	go func() {
		l, _, whole, err := h.hear(t.Context(), 1, made)
		got <- whole
		got <- err == nil && <-l.events == store.Event{Site: 1, Topic: "mark", ID: 7}
	}()
	h.heard()
	if <-got {
		t.Error("what came before is said to be known")
	}
	h.tell(told{time.Now(), store.Event{Site: 1, Topic: "mark", ID: 7}})
	if !<-got {
		t.Error("it doesn't hear what changes")
	}
}
