package engine

import (
	"testing"

	"duskyharbor/internal/store"
)

func TestManyDevicesAreToldAsOne(t *testing.T) {
	dirty := map[store.Event]bool{{Site: 1, Topic: store.OnRun}: true, {Site: 2, Topic: store.OnMark, ID: 9}: true}
	for i := range 3000 {
		dirty[store.Event{Site: 1, Topic: store.OnMark, ID: int64(i + 1)}] = true
	}
	got := map[store.Event]bool{}
	for _, e := range joined(dirty) {
		got[e] = true
	}
	if len(got) != 3 || !got[store.Event{Site: 1, Topic: store.OnMark}] || !got[store.Event{Site: 2,
		Topic: store.OnMark, ID: 9}] || !got[store.Event{Site: 1, Topic: store.OnRun}] {
		t.Errorf("%v", got)
	}
}
