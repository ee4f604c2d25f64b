package access

import (
	"fmt"
	"strings"
	"testing"

	"duskyharbor/internal/core/finding"
)

func TestTheSitesOwnAccountIsMade(t *testing.T) {
	house := Set{ID: 1, Name: "House", Username: "harbour"}
	open := func() Facts {
		return Facts{Account: &Account{SetID: 2, Set: "Old", Username: "otter", Level: Administrator, Scheme: Digest, RTSP: SameAccount},
			Users: []string{"otter, Administrator", "guest, User"}}
	}
	dep := Dependant{Recorder: 9, Name: "Pier recorder", Channel: 3, Receiving: true, Label: Label(2)}
	hand := Dependant{Recorder: 8, Name: "Store recorder", Channel: 4, ByHand: true}
	for _, tc := range []struct {
		name  string
		with  func(*Facts)
		w     Wishes
		house Set
		deps  []Dependant
		take  bool
		want  string // kinds and what they come to
		stays string
		why   string
	}{
		{name: "beside the old one, at the least level", want: "account.make harbour, Operator", house: house},
		{name: "something is to be written", w: Wishes{Writes: true}, want: "account.make harbour, Administrator", house: house},
		{name: "the old one goes: it is the last administrator that is known", take: true, want: "account.make harbour, Administrator; account.take no such account", house: house},
		{name: "its recorder is given it first", take: true, deps: []Dependant{dep}, house: house,
			want: "account.make harbour, Administrator; rotate.hold set 1; rotate.resume receives; account.take no such account"},
		{name: "its recorder is paused", take: true, deps: []Dependant{{Recorder: 9, Name: "Pier recorder", Channel: 3, Receiving: true, Paused: true}}, house: house,
			want: "account.make harbour, Administrator; rotate.hold set 1; account.take no such account"},
		{name: "its recorder holds it already", take: true, deps: []Dependant{{Recorder: 9, Name: "Pier recorder", Channel: 3, Receiving: true, Label: Label(1)}}, house: house,
			want: "account.make harbour, Administrator; account.take no such account"},
		{name: "one is given another by hand alone", take: true, deps: []Dependant{dep, hand}, house: house,
			want: "account.make harbour, Operator; rotate.hold set 1; rotate.resume receives", stays: "channel 4 of Store recorder"},
		{name: "its streams take another", take: true, with: func(f *Facts) { f.Account.RTSP = "another" }, house: house, want: "account.make harbour, Operator", stays: "streams"},
		{name: "it isn't among those told", take: true, with: func(f *Facts) { f.Users = []string{"guest, User"} }, house: house, want: "account.make harbour, Operator", stays: "isn't among those"},
		{name: "of the same name, with another password", with: func(f *Facts) { f.Account.Username = "harbour" }, house: house, want: "rotate.password House"},
		{name: "it opens it already", with: func(f *Facts) { f.Account.SetID = 1 }, house: house},
		{name: "an account of that name is there", with: func(f *Facts) { f.Users = append(f.Users, "harbour, User") }, house: house, why: "try House on it first"},
		{name: "nothing opens it", with: func(f *Facts) { f.Account = nil }, house: house, why: "sign in first"},
		{name: "in doubt", with: func(f *Facts) { f.Doubt = "two answer" }, house: house, why: "in doubt"},
		{name: "RTSP alone", with: func(f *Facts) { f.Account.Scheme = RTSP }, house: house, why: "RTSP alone"},
		{name: "no administrator", with: func(f *Facts) { f.Account.Level = Operator }, house: house, why: "otter is Operator here"},
		{name: "a level that isn't told", with: func(f *Facts) { f.Account.Level = "" }, house: house, why: "a level that isn't told"},
		{name: "its accounts aren't told", with: func(f *Facts) { f.Users = nil }, house: house, why: "didn't tell its accounts"},
		{name: "a maker's default", house: Set{ID: 1, Name: "Factory", Username: "admin", Factory: true}, why: "no account of the site's own"},
		{name: "left by others", house: Set{ID: 1, Name: "Former", Username: "admin", Former: true}, why: "no account of the site's own"},
		{name: "another device's own", house: Set{ID: 1, Name: "Slipway · own 1", Username: "admin", Device: 4}, why: "no account of the site's own"},
	} {
		f := open()
		if tc.with != nil {
			tc.with(&f)
		}
		got, why := House(f, tc.w, tc.house, tc.deps, tc.take)
		var parts []string
		for _, c := range got.Changes {
			parts = append(parts, c.Kind+" "+c.To)
		}
		if text := strings.Join(parts, "; "); text != tc.want || !strings.Contains(why, tc.why) || (why == "") != (tc.why == "") ||
			!strings.Contains(got.Stays, tc.stays) || (got.Stays == "") != (tc.stays == "") {
			t.Errorf("%s:\n got %q, stays %q, %q\nwant %q, stays %q, %q", tc.name, text, got.Stays, why, tc.want, tc.stays, tc.why)
		}
	}
}

// Nothing is taken away before the new one works, and what takes it away signs in with the new one.
func TestTheOldAccountGoesLast(t *testing.T) {
	f := Facts{Account: &Account{SetID: 2, Set: "Old", Username: "otter", Level: Administrator, Scheme: Digest}, Users: []string{"otter, Administrator"}}
	got, _ := House(f, Wishes{}, Set{ID: 1, Name: "House", Username: "harbour"}, []Dependant{{Recorder: 9, Name: "Pier", Channel: 3}}, true)
	last := got.Changes[len(got.Changes)-1]
	if last.Kind != TakeAccount || !last.Removes || last.Args["by"] != "1" || last.Args["set"] != "2" {
		t.Errorf("%+v", last)
	}
	first := got.Changes[0]
	if first.Args["by"] != "2" || first.Args["set"] != "1" || first.Undo.Kind != finding.Reversible || !strings.Contains(first.Account, "Administrator") {
		t.Errorf("%+v", first)
	}
	back, ok := last.Inverse()
	if ok != true || back.From != NoSuch || back.To != "otter, Administrator" || back.Args["by"] != "1" {
		t.Errorf("taken back it is %+v", back)
	}
}

func TestAccountsAsTheyAreTold(t *testing.T) {
	for text, want := range map[string]User{
		"otter, Administrator": {"otter", Administrator}, "a, b, User": {"a, b", "User"}, "otter, level not told": {"otter", ""}, "otter": {"otter", ""}, "": {},
	} {
		if got := UserOf(text); got != want {
			t.Errorf("%q is %+v", text, got)
		}
		if u := UserOf(text); u.Name != "" && strings.Contains(text, ", ") && AccountText(u.Name, u.Level) != text {
			t.Errorf("%q is written %q", text, fmt.Sprint(u))
		}
	}
}
