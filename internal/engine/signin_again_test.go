package engine_test

import (
	"slices"
	"strings"
	"testing"

	"duskyharbor/internal/app"
	"duskyharbor/internal/core/access"
	"duskyharbor/internal/core/finding"
	"duskyharbor/internal/core/stage"
	"duskyharbor/internal/testbed"
)

// A device whose page opens and that lacks an ONVIF account is read again and again: no other set is
// guessed, what is proposed stays, and it works. A set that was added since is tried; where that costs
// the last try, what is known stays known.
func TestReadingAgainGuessesNothingWhereAPageOpens(t *testing.T) {
	t.Parallel()
	b := openOn(t, testbed.StartOnly(t, "Ticket hall", "Terminal recorder"), app.Options{})
	b.find()
	wrong := func() (n int) {
		t.Helper()
		tries, err := b.Store.Tries(t.Context(), b.device("Ticket hall").ID)
		if err != nil {
			t.Fatal(err)
		}
		for _, try := range tries {
			if try.Outcome == access.Wrong {
				n++
			}
		}
		return n
	}
	told := func(when string, spent int) {
		t.Helper()
		d := b.device("Ticket hall")
		if got := b.codes(d); !strings.Contains(got, "access.onvif-account") {
			t.Errorf("%s: %q", when, got)
		}
		if !slices.ContainsFunc(b.proposals(d, stage.SignIn), func(c finding.Change) bool { return c.Kind == access.CreateAccount }) {
			t.Errorf("%s: the account isn't proposed", when)
		}
		if n := wrong(); n != spent {
			t.Errorf("%s: %d wrong tries, want %d", when, n, spent)
		}
	}
	for _, when := range []string{"read", "read again", "read a third time"} {
		b.read(stage.SignIn, "Ticket hall")
		told(when, 1)
	}
	b.triesAreOver()
	b.read(stage.SignIn, "Ticket hall")
	told("read half an hour later", 0) // what it refused isn't sent again
	_, err := b.Store.AddSet(t.Context(), b.Site, access.Set{Name: "Another", Username: "guess"}, func(place string) ([]byte, error) {
		return b.Vault.Seal("not-it-1234", place)
	})
	if err != nil {
		t.Fatal(err)
	}
	b.read(stage.SignIn, "Ticket hall")
	told("with a set that was added", 2) // over ONVIF, and on its page
	b.read(stage.SignIn, "Ticket hall")
	told("without a try left", 2)
	b.triesAreOver()
	if r := b.apply(stage.SignIn, "Ticket hall"); r.Failed > 0 {
		t.Fatalf("%+v", r)
	}
	b.want("Ticket hall", stage.SignIn, stage.Ready)
}
