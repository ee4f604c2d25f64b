package store_test

import (
	"context"
	"errors"
	"fmt"
	"testing"
	"time"

	"duskyharbor/internal/core/known"
	"duskyharbor/internal/store"
)

// kept is a set of a site with one who is known by two pictures, until a day.
func kept(t *testing.T, st *store.Store, siteID int64, ends time.Time) (set, entry int64, pictures []int64) {
	t.Helper()
	ctx := context.Background()
	set, err := st.KeepKnownSet(ctx, siteID, known.Set{Name: "Crew", Kind: known.Face, Least: 0.83, Nearly: 0.61})
	if err != nil {
		t.Fatal(err)
	}
	if entry, err = st.KeepKnown(ctx, siteID, set, known.Entry{Name: " as  typed", Ground: "consent", Since: ends.AddDate(-1, 0, 0), Ends: ends}); err != nil {
		t.Fatal(err)
	}
	for i := range 2 {
		id, err := st.AddKnownPicture(ctx, siteID, entry, fmt.Sprint("digest ", i), "Maren Ostby", func(place string) ([]byte, error) { return []byte("sealed in " + place), nil })
		if err != nil {
			t.Fatal(err)
		}
		pictures = append(pictures, id)
	}
	return set, entry, pictures
}

// Sets come back as they were kept, and are a site's own; nothing of one is had by way of another site.
func TestWhoIsKnownIsASitesOwn(t *testing.T) {
	st, siteID, _ := site(t)
	ctx := context.Background()
	ends := time.Date(2027, 3, 1, 0, 0, 0, 0, time.UTC)
	set, entry, pictures := kept(t, st, siteID, ends)
	all, err := st.KnownSets(ctx, siteID)
	if err != nil || len(all) != 1 || all[0].Text() != "Crew, faces, known from 0.83, nearly from 0.61" || len(all[0].Entries) != 1 || len(all[0].Entries[0].Pictures) != 2 {
		t.Fatalf("%+v %v", all, err)
	}
	if e := all[0].Entries[0]; e.Name != " as  typed" || !e.Ends.Equal(ends) || e.Gone || e.Pictures[1] != (known.Picture{ID: pictures[1], Digest: "digest 1"}) {
		t.Errorf("%+v", e)
	}
	other := siteID + 1000
	_, e1 := st.KeepKnown(ctx, other, set, known.Entry{Name: "A", Ground: "g", Since: ends, Ends: ends})
	_, e2 := st.AddKnownPicture(ctx, other, entry, "d", "x", nil)
	_, e3 := st.DropKnownPicture(ctx, other, pictures[0])
	_, _, e4 := st.KnownPicture(ctx, other, pictures[0])
	_, e5 := st.KeepKnownSet(ctx, other, known.Set{ID: set, Name: "B", Least: 1})
	for i, err := range []error{e1, e2, e3, e4, e5, st.DropKnownSet(ctx, other, set)} {
		if !errors.Is(err, store.ErrNotFound) && !errors.Is(err, store.ErrFull) {
			t.Errorf("by another site, %d: %v", i, err)
		}
	}
	if err := st.Unknow(ctx, other, []int64{entry}, nil); err != nil {
		t.Fatal(err)
	}
	if left, err := st.KnownPictures(ctx, siteID, entry); err != nil || len(left) != 2 || string(left[0].Sealed) != "sealed in "+store.KnownPlace(pictures[0]) {
		t.Errorf("%+v %v", left, err)
	}
	if _, err := st.KeepKnownSet(ctx, siteID, known.Set{Name: "Crew", Kind: known.Thing, Least: 1}); !errors.Is(err, store.ErrTaken) {
		t.Error(err)
	}
	if _, err := st.AddKnownPicture(ctx, siteID, entry, "digest 0", "x", nil); !errors.Is(err, store.ErrTaken) {
		t.Error(err)
	}
	if err := st.DropKnownSet(ctx, siteID, set); !errors.Is(err, store.ErrNotFound) {
		t.Errorf("a set that isn't empty: %v", err)
	}
	// Pictures are sealed anew with the rest.
	n := 0
	if _, err := st.Reseal(ctx, func(sealed []byte, place string) ([]byte, error) {
		if string(sealed) == "sealed in "+place {
			n++
		}
		return append([]byte("anew "), sealed...), nil
	}); err != nil || n != 2 {
		t.Errorf("%d were sealed anew, %v", n, err)
	}
	if sealed, _, err := st.KnownPicture(ctx, siteID, pictures[0]); err != nil || string(sealed[:5]) != "anew " {
		t.Errorf("%q %v", sealed, err)
	}
}

// On the day of their end pictures are deleted, by themselves; what an analyser holds yet stays named until it doesn't.
func TestPicturesAreDeletedOnTheirDay(t *testing.T) {
	st, siteID, _ := site(t)
	ctx := context.Background()
	ends := time.Date(2027, 3, 1, 0, 0, 0, 0, time.UTC)
	_, entry, _ := kept(t, st, siteID, ends)
	for _, tc := range []struct {
		day  time.Time
		gone bool
	}{{ends.AddDate(0, 0, -1), false}, {ends.Add(-time.Second), false}, {ends, true}} {
		ended, err := st.EndKnown(ctx, tc.day)
		if err != nil || (len(ended[siteID]) == 1) != tc.gone {
			t.Errorf("%s: %v %v", tc.day, ended, err)
		}
	}
	if again, err := st.EndKnown(ctx, ends.AddDate(1, 0, 0)); err != nil || len(again) != 0 {
		t.Errorf("%v %v", again, err)
	}
	all, err := st.KnownSets(ctx, siteID)
	if err != nil || len(all[0].Entries) != 1 || !all[0].Entries[0].Gone || len(all[0].Entries[0].Pictures) != 0 {
		t.Fatalf("%+v %v", all, err)
	}
	var told int
	if err := st.Pool.QueryRow(ctx, `select count(*) from audit where site_id = $1 and act = 'deleted reference pictures' and detail = ' as  typed: their end has come'`, siteID).Scan(&told); err != nil || told != 1 {
		t.Errorf("%d times in the log, %v", told, err)
	}
	if err := st.Unknow(ctx, siteID, []int64{entry}, []int64{entry}); err != nil {
		t.Fatal(err)
	}
	if all, _ = st.KnownSets(ctx, siteID); len(all[0].Entries) != 1 {
		t.Error("an analyser holds it yet")
	}
	if err := st.Unknow(ctx, siteID, []int64{entry}, nil); err != nil {
		t.Fatal(err)
	}
	if all, _ = st.KnownSets(ctx, siteID); len(all[0].Entries) != 0 {
		t.Error("it is named yet")
	}
}
