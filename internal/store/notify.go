package store

import (
	"context"
	"fmt"
	"strconv"
	"strings"
)

// Channel is the notification channel of all progress; a payload is an Event's text.
const Channel = "duskyharbor"

// Topic is what about a site changed.
type Topic string

const (
	OnRun    Topic = "run"    // how a run goes
	OnMark   Topic = "mark"   // a device was read and judged
	OnChange Topic = "change" // a change was sent or settled
	OnProof  Topic = "proof"  // a walk was heard
	OnSite   Topic = "site"   // what people decided: settings, list, people
)

// Event says that something of a site changed: what about it, and of which device (0: of
// several, or of none).
type Event struct {
	Site  int64
	Topic Topic
	ID    int64
}

// String is the event as it is notified: "site:topic:id".
func (e Event) String() string { return fmt.Sprintf("%d:%s:%d", e.Site, e.Topic, e.ID) }

// ParseEvent is the inverse of String; ok is false for text that is no event.
func ParseEvent(text string) (e Event, ok bool) {
	site, rest, a := strings.Cut(text, ":")
	topic, id, b := strings.Cut(rest, ":")
	if !a || !b || topic == "" || strings.Contains(id, ":") {
		return Event{}, false
	}
	var err, err2 error
	e.Topic = Topic(topic)
	e.Site, err = strconv.ParseInt(site, 10, 64)
	e.ID, err2 = strconv.ParseInt(id, 10, 64)
	return e, err == nil && err2 == nil
}

// Notify tells every process what changed.
func (s *Store) Notify(ctx context.Context, all ...Event) error {
	texts := make([]string, len(all))
	for i, e := range all {
		texts[i] = e.String()
	}
	_, err := s.db.Exec(ctx, "select pg_notify($1, x) from unnest($2::text[]) x", Channel, texts)
	return err
}
