package site_test

import (
	"context"
	"os"
	"slices"
	"testing"

	"github.com/jackc/pgx/v5"

	"duskyharbor/internal/core/stage"
	"duskyharbor/internal/facts"
	"duskyharbor/internal/site"
	"duskyharbor/internal/store"
	"duskyharbor/internal/testbed"
)

// restored is a database as an earlier version left it, brought forward.
func restored(t *testing.T, dump string) *store.Store {
	t.Helper()
	ctx := context.Background()
	sql, err := os.ReadFile(dump)
	if err != nil {
		t.Fatal(err)
	}
	dsn := testbed.EmptyDatabase(t)
	conn, err := pgx.Connect(ctx, dsn)
	if err != nil {
		t.Fatal(err)
	}
	_, err = conn.PgConn().Exec(ctx, string(sql)).ReadAll()
	conn.Close(ctx)
	if err != nil {
		t.Fatal(err)
	}
	st, err := store.Open(ctx, dsn)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(st.Close)
	if err := st.Migrate(ctx); err != nil {
		t.Fatal(err)
	}
	return st
}

// A database from before a view was a row of its own is brought forward with all that it
// held: what was the device's stays the device's, what was of its one view is that view's,
// and a second view that was picked is a row with the device's recorder.
func TestADatabaseOfBeforeViewsWereRows(t *testing.T) {
	st := restored(t, "../store/testdata/schema-006.sql")
	ctx := context.Background()
	s, err := site.Load(ctx, st, 1, nil)
	if err != nil {
		t.Fatal(err)
	}
	var places []string
	for _, of := range s.Sources {
		places = append(places, of.Place)
	}
	if !slices.Equal(places, []string{"Ticket hall", "Customs shed", "Customs shed · Input 3", "Crew mess"}) {
		t.Fatalf("%q", places)
	}
	hall, shed, third, mess := s.Sources[0], s.Sources[1], s.Sources[2], s.Sources[3]
	if shed.Device.ID != third.Device.ID || !shed.First() || third.First() || shed.Video != "in1" || third.Video != "in3" {
		t.Errorf("%+v and %+v", shed, third)
	}
	if hall.RecorderID == nil || hall.Channel != 4 || shed.Channel != 7 || third.RecorderID == nil || third.Channel != 0 || mess.RecorderID != nil {
		t.Errorf("planned: %+v", s.Sources)
	}
	if rec, slot, ok := s.HolderOf(hall); !ok || slot == nil || slot.Number != 4 || rec.Place != "Terminal recorder" {
		t.Errorf("the hall is on %v of %q", slot, rec.Place)
	}
	if _, ok := facts.Clock.Of(s, shed.Device.ID); !ok {
		t.Error("the clock, a fact of the device, is gone")
	}
	f, _ := facts.ForStreams(s, shed)
	if len(f.Profiles) != 1 || f.Profiles[0].Token != "p1" || len(f.Measured) != 1 || f.LookedAt.IsZero() {
		t.Errorf("the first view's streams: %+v", f)
	}
	if f, _ := facts.ForStreams(s, third); len(f.Profiles) != 1 || f.Profiles[0].Token != "p3" || len(f.Measured) != 0 || !f.LookedAt.IsZero() {
		t.Errorf("the second view's streams: %+v", f)
	}
	if in, ok := facts.Inputs.Of(s, shed); !ok || len(in.Names) != 1 {
		t.Errorf("the inputs of the channel: %+v", in)
	}
	// What was renamed since says the same.
	if _, slot, _ := s.HolderOf(hall); slot == nil || slot.AuthFailures != 3 {
		t.Errorf("sign-ins that were refused: %+v", slot)
	}
	if asked, ok := facts.Attempted.Of(s, shed.Device.ID); !ok || !asked.NoPassword {
		t.Errorf("that no first password is set: %+v", asked)
	}
	if ip, ok := facts.IPConfig.Of(s, shed.Device.ID); !ok || ip.Bits != 24 {
		t.Errorf("address settings: %+v", ip)
	}
	if err := s.Err(); err != nil {
		t.Error(err)
	}
	for of, want := range map[*store.Source]map[stage.Stage]string{&shed: {stage.Clock: "clock.text",
		stage.Streams: "stream.keys"}, &third: {stage.Clock: "clock.text"}} {
		for _, in := range []stage.Stage{stage.Clock, stage.Streams} {
			if _, ok := s.Accepted(*of, in)[want[in]]; ok != (want[in] != "") {
				t.Errorf("%s in %s: accepted %v", of.Place, in, s.Accepted(*of, in))
			}
		}
	}
	changes, err := st.ChangesOf(ctx, third, 9)
	if err != nil || len(changes) != 1 || changes[0].Stage != stage.Clock || changes[0].SourceID != nil {
		t.Errorf("what was made on the device shows with every view of it: %+v %v", changes, err)
	}
	if changes, err = st.ChangesOf(ctx, shed, 9); err != nil || len(changes) != 2 {
		t.Errorf("%+v %v", changes, err)
	}
	if p := s.Proofs[hall.ID]; p.Test.Topic == "" {
		t.Errorf("the proof is gone: %+v", s.Proofs)
	}
	all, err := st.Results(ctx, 1, 3, 0, 9)
	if err != nil || len(all) != 1 || all[0].What != "Customs shed" || all[0].SourceID != shed.ID {
		t.Errorf("a step that waits: %+v %v", all, err)
	}
	// Older rules made the marks: all are due, and with them the view that has none.
	due, err := st.Due(ctx, 100)
	if err != nil || !slices.Contains(due[1], third.Device.ID) {
		t.Errorf("due: %v %v", due, err)
	}
}
