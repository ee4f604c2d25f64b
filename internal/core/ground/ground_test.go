package ground

import (
	"math/rand"
	"slices"
	"testing"
)

func TestWhatIsOtherwise(t *testing.T) {
	g := func(of, is, exact string) Ground { return Ground{Of: of, Is: is, Exact: exact} }
	for name, tc := range map[string]struct {
		then, now []Ground
		want      string
	}{
		"nothing kept":                 {nil, []Ground{g("channel", "3", "")}, ""},
		"nothing asked":                {[]Ground{g("channel", "3", "")}, nil, ""},
		"the same":                     {[]Ground{g("channel", "3", "")}, []Ground{g("channel", "3", "")}, ""},
		"in another order":             {[]Ground{g("channel", "3", ""), g("firmware", "5", "")}, []Ground{g("firmware", "5", ""), g("channel", "3", "")}, ""},
		"another":                      {[]Ground{g("channel", "3", "")}, []Ground{g("channel", "5", "")}, "its channel changed from 3 to 5"},
		"not known any more":           {[]Ground{g("channel", "3", "")}, []Ground{g("channel", "", "")}, "its channel (3 then) can't be told now"},
		"not known then":               {[]Ground{g("firmware", "", "")}, []Ground{g("firmware", "5.2", "")}, ""},
		"called otherwise, the same":   {[]Ground{g("channel", "Old name 3", "7/3")}, []Ground{g("channel", "New name 3", "7/3")}, ""},
		"called alike, not the same":   {[]Ground{g("masks", "2 areas", "a b")}, []Ground{g("masks", "2 areas", "a c")}, "its masks changed (still called 2 areas)"},
		"two at once, as they were":    {[]Ground{g("b", "1", ""), g("a", "1", "")}, []Ground{g("a", "2", ""), g("b", "3", "")}, "its b changed from 1 to 3; its a changed from 1 to 2"},
		"a stage that is new":          {[]Ground{g("a", "1", "")}, []Ground{g("a", "1", ""), g("b", "3", "")}, ""},
		"a stage that went, and a new": {[]Ground{g("a", "1", "")}, []Ground{g("b", "3", "")}, ""},
	} {
		if got := Words(Changed(tc.then, tc.now)); got != tc.want {
			t.Errorf("%s: %q, want %q", name, got, tc.want)
		}
	}
}

// Whatever the grounds, nothing is otherwise than itself, and one that is changed is told and no other.
func TestOneChangeIsOne(t *testing.T) {
	r := rand.New(rand.NewSource(1))
	for range 500 {
		var all []Ground
		for i := range 1 + r.Intn(8) {
			all = append(all, Ground{Of: string(rune('a' + i)), Is: string(rune('0' + r.Intn(3))), Under: Under(r.Intn(4))})
		}
		now := slices.Clone(all)
		r.Shuffle(len(now), func(i, j int) { now[i], now[j] = now[j], now[i] })
		if got := Changed(all, now); len(got) != 0 {
			t.Fatalf("%v against itself: %v", all, got)
		}
		i := r.Intn(len(now))
		now[i].Is += "x"
		if got := Changed(all, now); len(got) != 1 || got[0].Of != now[i].Of {
			t.Fatalf("%v, and %s otherwise: %v", all, now[i].Of, got)
		}
		for _, g := range For(Picture, all) {
			if g.Under&Picture == 0 {
				t.Fatalf("%v doesn't bear a picture", g)
			}
		}
	}
}
