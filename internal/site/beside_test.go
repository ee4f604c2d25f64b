package site

import (
	"testing"

	"duskyharbor/internal/store"
)

// What is as it was isn't decoded again; what is otherwise is, and so is what was never asked for, or of another view.
func TestWhatIsAsItWasIsNotDecodedAgain(t *testing.T) {
	type reading struct {
		N    int `json:"n"`
		Seen bool
	}
	fact, viewed := Fact[*reading]{Name: "lens"}, SourceFact[*reading]{Name: "lens"}
	of := func(value string) store.Fact { return store.Fact{DeviceID: 7, Name: "lens", Value: []byte(value)} }
	ofView := func(view int64, value string) store.Fact {
		return store.Fact{DeviceID: 7, View: view, Name: "lens", Value: []byte(value)}
	}
	snapshot := func(had *Snapshot, device, view string) *Snapshot {
		return &Snapshot{had: had, decoded: map[kept]any{}, facts: map[int64]store.Facts{7: {"lens": of(device)}}, ofView: map[int64]store.Facts{3: {"lens": ofView(3, view)}}}
	}
	first := snapshot(nil, `{"n": 1}`, `{"n": 2}`)
	a, _ := fact.Of(first, 7)
	b, _ := viewed.Of(first, Source{ID: 3})
	a.Seen, b.Seen = true, true // by this they are known again
	for name, tc := range map[string]struct {
		device, view string
		same         [2]bool
	}{
		"both as they were":     {`{"n": 1}`, `{"n": 2}`, [2]bool{true, true}},
		"the device's is new":   {`{"n": 3}`, `{"n": 2}`, [2]bool{false, true}},
		"the view's is new":     {`{"n": 1}`, `{"n": 3}`, [2]bool{true, false}},
		"each as the other was": {`{"n": 2}`, `{"n": 1}`, [2]bool{false, false}},
	} {
		s := snapshot(first, tc.device, tc.view)
		x, ok := fact.Of(s, 7)
		y, ok2 := viewed.Of(s, Source{ID: 3})
		if !ok || !ok2 || x.Seen != tc.same[0] || y.Seen != tc.same[1] {
			t.Errorf("%s: %+v, %+v", name, x, y)
		}
	}
	never := snapshot(snapshot(nil, `{"n": 1}`, `{"n": 2}`), `{"n": 1}`, `{"n": 2}`)
	if x, ok := fact.Of(never, 7); !ok || x.N != 1 || x.Seen {
		t.Errorf("what nobody asked for before: %+v %v", x, ok)
	}
	bad := snapshot(first, `{"n": "x"}`, `{"n": 2}`)
	if _, ok := fact.Of(bad, 7); ok || bad.Err() == nil {
		t.Error("what can't be decoded now is taken from before")
	}
}
