package engine_test

import (
	"slices"
	"strings"
	"testing"

	"duskyharbor/internal/core/expected"
	"duskyharbor/internal/core/stage"
	"duskyharbor/internal/facts"
)

// Rows of one address that name the device's inputs are enrolled as that: before it was found
// they wait, signed in to it each shows its own input, and one that it hasn't got is told.
func TestTheListNamesInputs(t *testing.T) {
	t.Parallel()
	b := openWhole(t)
	const place = "Customs shed" // four inputs
	at := *b.device(place).ExpectedAt
	added, known, _, err := b.Store.Expect(t.Context(), b.Site, []expected.Row{{Place: place, Address: at, Input: 2},
		{Place: "Customs yard", Address: at, Input: 4}, {Place: "Customs gate", Address: at, Input: 5}}, nil)
	if err != nil || added != 2 || known != 1 {
		t.Fatalf("%d new, %d known: %v", added, known, err)
	}
	shows := func() (out []string) {
		for _, x := range b.view().Views(b.device(place).ID) {
			out = append(out, x.Place+": "+x.Video)
		}
		return out
	}
	if got := shows(); len(got) != 3 || got[0] != place+": " || got[1] != "Customs yard: " {
		t.Errorf("before it was read: %q", got)
	}
	b.find()
	b.read(stage.SignIn, place)
	inputs, _ := facts.VideoSources.Of(b.view(), b.device(place).ID)
	if len(inputs) != 4 {
		t.Fatalf("%+v", inputs)
	}
	if got := shows(); !slices.Equal(got, []string{place + ": " + inputs[1].Token, "Customs yard: " + inputs[3].Token, "Customs gate: input 5 of none"}) {
		t.Errorf("signed in: %q", got)
	}
	codes := b.codes(b.device(place))
	if !strings.Contains(codes, "find.no-input") || strings.Contains(codes, "find.sources") {
		t.Errorf("its codes are %q", codes)
	}

	// The streams of each are its own; one that shows nothing has none.
	views := b.view().Views(b.device(place).ID)
	b.readOf(stage.Streams, views...)
	for i, x := range views {
		own, _ := facts.ForStreams(b.view(), x)
		if i < 2 && len(own.Profiles) != 2 {
			t.Errorf("%s has %d streams of its own", x.Place, len(own.Profiles))
		}
		for _, p := range own.Profiles {
			if i < 2 && p.Source != x.Video || i == 2 {
				t.Errorf("%s has the stream %s of %s", x.Place, p.Token, p.Source)
			}
		}
	}

	// The list is corrected: the row shows the other input, and knows nothing of it yet.
	gate := views[2]
	if err := b.Store.SetExpected(t.Context(), b.Site, gate.ID, expected.Row{Place: gate.Place, Input: 1}, 0); err != nil {
		t.Fatal(err)
	}
	if err := b.app.Judge(t.Context(), b.Site, []int64{gate.Device.ID}); err != nil {
		t.Fatal(err)
	}
	if got := shows(); got[2] != "Customs gate: "+inputs[0].Token || strings.Contains(b.codes(b.device(place)), "find.no-input") {
		t.Errorf("corrected: %q, %s", got, b.codes(b.device(place)))
	}
	if m := b.markOf(b.view().Views(gate.Device.ID)[2], stage.Streams); m.State != stage.NotYet {
		t.Errorf("nobody read the streams of that input: %+v", m)
	}

	// What is exported is taken again as the same, and a row that goes leaves the others.
	rows, err := b.Store.Expected(t.Context(), b.Site)
	if err != nil {
		t.Fatal(err)
	}
	table, err := expected.FromCells(expected.Cells(rows))
	if err != nil {
		t.Fatal(err)
	}
	again, bad := expected.Read(table, expected.Map(table.Head), []string{"Quay recorder", "Terminal recorder", "Store recorder"})
	lines, gone, err := b.Store.Compare(t.Context(), b.Site, again, map[int64]string{})
	if err != nil || len(bad) > 0 || len(gone) > 0 || slices.ContainsFunc(lines, func(l expected.Taking) bool { return l.New }) {
		t.Errorf("exported and taken again: %+v, gone %v, %v", bad, gone, err)
	}
	if err := b.Store.DropSource(t.Context(), b.Site, gate.ID); err != nil {
		t.Fatal(err)
	}
	if err := b.Store.DropSource(t.Context(), b.Site, views[0].ID); err == nil {
		t.Error("a device's first view was dropped")
	}
	if got := shows(); len(got) != 2 || b.device(place).Views != 2 {
		t.Errorf("%q, %d views", got, b.device(place).Views)
	}
}
