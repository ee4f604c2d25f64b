package identity

import (
	"fmt"
	"math/rand"
	"net/netip"
	"slices"
	"strings"
	"testing"
)

func mac(n int) string { return fmt.Sprintf("02:d5:1a:00:00:%02x", n) }
func at(n int) string  { return fmt.Sprintf("127.40.1.%d", n) }
func seenAt(n int, marks ...string) Sighting {
	s := Sighting{Address: addr(at(n)), Ways: []Way{Multicast}, Kind: Camera}
	for _, m := range marks {
		switch m[0] {
		case 'u':
			s.UUID = m
		case 's':
			s.Serial = m
		case 'c':
			s.Cert = m
		default:
			s.MAC = m
		}
	}
	return s
}

// told writes what a reconciling says, in one order: "Place: outcome [at] [elsewhere …]".
func told(all []Match) string {
	var out []string
	for _, m := range all {
		s := "?"
		if m.Known != nil {
			s = m.Known.Place
		}
		s += " " + string(m.Outcome)
		if m.Seen != nil {
			s += " " + strings.TrimPrefix(m.Seen.Address.String(), "127.40.1.")
		}
		for _, e := range m.Elsewhere {
			s += " ~" + strings.TrimPrefix(e.String(), "127.40.1.")
		}
		for _, c := range m.Claims {
			s += " =" + c.Place
		}
		out = append(out, s)
	}
	slices.Sort(out)
	return strings.Join(out, "; ")
}

// One habit a line: who is known, what a look saw, and what that means.
func TestWhoIsWho(t *testing.T) {
	loft := Known{ID: 1, Place: "Loft", Address: addr(at(1)), UUID: "u1", MAC: mac(1), Serial: "s1", Kind: Camera, Expected: true, Found: true, Pin: "c1"}
	ramp := Known{ID: 2, Place: "Ramp", Address: addr(at(2)), UUID: "u2", MAC: mac(2), Serial: "s2", Kind: Camera, Expected: true, Found: true}
	shed := Known{ID: 3, Place: "Shed", Address: addr(at(3)), MAC: mac(3), Kind: Camera, Expected: true}
	hall := Known{ID: 4, Place: "Hall", MAC: mac(4), Kind: Camera, Expected: true}
	gate := Known{ID: 5, Place: "Gate", Address: addr(at(5)), Kind: Camera, Expected: true}
	guest := Known{ID: 6, Place: "Guest", Address: addr(at(6)), UUID: "u6", MAC: mac(6), Kind: Camera, Found: true}
	with := func(k Known, f func(*Known)) Known { f(&k); return k }
	for _, tc := range []struct {
		habit string
		known []Known
		seen  []Sighting
		want  string
	}{
		{"answers where it was", []Known{loft}, []Sighting{seenAt(1, "u1", mac(1))}, "Loft matched 1"},
		{"shows nothing of itself", []Known{loft}, []Sighting{seenAt(1)}, "Loft matched 1"},
		{"is silent", []Known{loft}, nil, "Loft missing"},
		{"another answers in its stead", []Known{loft}, []Sighting{seenAt(1, "u9", mac(9))}, "Loft doubtful 1"},
		{"was reset: a new endpoint, the same MAC", []Known{loft}, []Sighting{seenAt(1, "u9", mac(1))}, "Loft matched 1"},
		{"its endpoint is shown with another MAC", []Known{loft}, []Sighting{seenAt(1, "u1", mac(9))}, "Loft doubtful 1"},
		{"its MAC is shown with another serial", []Known{loft}, []Sighting{seenAt(1, mac(1), "s9")}, "Loft doubtful 1"},
		{"moved, and shows its certificate", []Known{loft}, []Sighting{seenAt(9, "u1", mac(1), "c1")}, "Loft moved 9"},
		{"moved and reset, and shows its certificate", []Known{loft}, []Sighting{seenAt(9, "u9", mac(1), "c1")}, "Loft moved 9"},
		{"moved, and shows no certificate", []Known{ramp}, []Sighting{seenAt(9, "u2", mac(2))}, "? unexpected 9 =Ramp; Ramp moved ~9"},
		{"moved, and shows another certificate", []Known{loft}, []Sighting{seenAt(9, "u1", mac(1), "c9")}, "? unexpected 9 =Loft; Loft moved ~9"},
		{"is echoed while it answers", []Known{loft}, []Sighting{seenAt(1, "u1", mac(1)), seenAt(9, "u1", mac(1), "s1")}, "? unexpected 9 =Loft; Loft matched 1 ~9"},
		{"is echoed twice while it is silent", []Known{loft}, []Sighting{seenAt(8, "u1", mac(1), "c1"), seenAt(9, "u1", mac(1), "c1")},
			"? unexpected 8 =Loft; ? unexpected 9 =Loft; Loft moved ~8 ~9"},
		{"is echoed, and shows nothing of itself", []Known{ramp}, []Sighting{seenAt(2), seenAt(9, "u2", mac(2))}, "? unexpected 9 =Ramp; Ramp doubtful 2 ~9"},
		{"two swapped their addresses", []Known{loft, ramp}, []Sighting{seenAt(1, "u2", mac(2)), seenAt(2, "u1", mac(1))},
			"Loft doubtful 1 ~2 =Ramp; Ramp doubtful 2 ~1 =Loft"},
		{"one went where another is", []Known{loft, gate}, []Sighting{seenAt(5, "u1", mac(1))}, "Gate doubtful 5 =Loft; Loft moved ~5"},
		{"clones share an endpoint", []Known{loft, with(ramp, func(k *Known) { k.UUID = "u1" })}, []Sighting{seenAt(1, "u1", mac(1)), seenAt(2, "u1", mac(2))},
			"Loft matched 1; Ramp matched 2"},
		{"listed by MAC, at its address", []Known{shed}, []Sighting{seenAt(3, "u3", mac(3))}, "Shed matched 3"},
		{"listed by MAC, elsewhere", []Known{shed}, []Sighting{seenAt(9, "u3", mac(3))}, "Shed moved 9"},
		{"listed by MAC, elsewhere, and another at its address", []Known{shed}, []Sighting{seenAt(9, "u3", mac(3)), seenAt(3, "u8", mac(8))}, "? unexpected 3; Shed moved 9"},
		{"listed by MAC, and shown twice", []Known{shed}, []Sighting{seenAt(8, mac(3)), seenAt(9, mac(3))}, "? unexpected 8 =Shed; ? unexpected 9 =Shed; Shed missing ~8 ~9"},
		{"listed twice by one MAC, elsewhere", []Known{shed, with(shed, func(k *Known) { k.ID, k.Place, k.Address = 8, "Twin", addr(at(8)) })}, []Sighting{seenAt(9, mac(3))},
			"? unexpected 9 =Shed =Twin; Shed missing ~9; Twin missing ~9"},
		{"listed by MAC, and another answers", []Known{shed}, []Sighting{seenAt(3, "u8", mac(8))}, "Shed doubtful 3"},
		{"listed by MAC alone", []Known{hall}, []Sighting{seenAt(9, mac(4))}, "Hall matched 9"},
		{"listed by address alone", []Known{gate}, []Sighting{seenAt(5, "u5", mac(5))}, "Gate matched 5"},
		{"two on the list at one address", []Known{gate, with(gate, func(k *Known) { k.ID, k.Place = 7, "Twin" })}, []Sighting{seenAt(5, "u5")}, "Gate matched 5; Twin missing"},
		{"nobody listed it", nil, []Sighting{seenAt(9, "u9")}, "? unexpected 9"},
		{"nobody listed it, and it moved", []Known{guest}, []Sighting{seenAt(9, "u6", mac(6))}, "Guest moved 9"},
		{"a thief had a row of its own when the camera fell silent", []Known{loft, with(guest, func(k *Known) { k.UUID, k.MAC = "u1", mac(1) })}, []Sighting{seenAt(6, "u1", mac(1))},
			"Guest matched 6 =Loft; Loft moved ~6"},
		{"placeholders identify nothing", []Known{with(loft, func(k *Known) {
			k.UUID, k.MAC, k.Serial = "00000000-0000-0000-0000-000000000000", "00:00:00:00:00:00", "0"
		})},
			[]Sighting{{Address: addr(at(9)), UUID: "00000000-0000-0000-0000-000000000000", MAC: "00:00:00:00:00:00", Serial: "0"}}, "? unexpected 9; Loft missing"},
		{"the broadcast MAC and a serial of noughts", []Known{with(loft, func(k *Known) { k.UUID, k.MAC, k.Serial = "", "ff:ff:ff:ff:ff:ff", "0000" })},
			[]Sighting{{Address: addr(at(9)), MAC: "ff:ff:ff:ff:ff:ff", Serial: "0000"}}, "? unexpected 9; Loft missing"},
		{"a recorder answers where a camera was", []Known{loft}, []Sighting{{Address: addr(at(1)), Kind: Recorder, Serial: "s1"}}, "Loft doubtful 1"},
	} {
		if got := told(Reconcile(tc.known, tc.seen)); got != tc.want {
			t.Errorf("%s:\n got %s\nwant %s", tc.habit, got, tc.want)
		}
	}
}

// truth is a device as it really is: what it shows can be repeated, its certificate can't.
type truth struct {
	uuid, mac, serial, cert string
	place                   int64 // the record that it is, once somebody signed in to it
}

// world is a network over many looks.
type world struct {
	r      *rand.Rand
	known  []Known
	real   map[netip.Addr]*truth // who is where; thieves have no place
	nextID int64
}

func (w *world) address() netip.Addr {
	return netip.AddrFrom4([4]byte{127, 40, byte(1 + w.r.Intn(2)), byte(1 + w.r.Intn(200))})
}

// free is an address where nothing is.
func (w *world) free() netip.Addr {
	for {
		if a := w.address(); w.real[a] == nil {
			return a
		}
	}
}

// any is an address where something is.
func (w *world) any() netip.Addr {
	all := make([]netip.Addr, 0, len(w.real))
	for a := range w.real {
		all = append(all, a)
	}
	slices.SortFunc(all, netip.Addr.Compare)
	return all[w.r.Intn(len(all))]
}

func (w *world) mark(prefix string) string {
	switch n := w.r.Intn(40); {
	case n == 0:
		return map[string]string{"u": "00000000-0000-0000-0000-000000000000", "m": "00:00:00:00:00:00", "s": "0"}[prefix]
	case n == 1:
		return ""
	}
	if prefix == "m" {
		return fmt.Sprintf("02:d5:%02x:%02x:%02x:%02x", w.r.Intn(256), w.r.Intn(256), w.r.Intn(256), w.r.Intn(256))
	}
	return fmt.Sprint(prefix, w.r.Intn(1<<30))
}

// happens lets one thing happen on the network.
func (w *world) happens() {
	a := w.any()
	d := w.real[a]
	switch w.r.Intn(9) {
	case 0: // it gets another address
		delete(w.real, a)
		w.real[w.free()] = d
	case 1: // two swap
		b := w.any()
		w.real[a], w.real[b] = w.real[b], d
	case 2: // a reset makes a new endpoint
		d.uuid = w.mark("u")
	case 3: // it dies
		if len(w.real) > 20 {
			delete(w.real, a)
		}
	case 4, 5: // a thief repeats what one showed, elsewhere or in its place
		thief := &truth{uuid: d.uuid, mac: d.mac, serial: d.serial}
		if w.r.Intn(2) == 0 {
			delete(w.real, a)
		}
		w.real[w.free()] = thief
	case 6: // a clone shares an endpoint
		w.real[w.free()] = &truth{uuid: d.uuid, mac: w.mark("m"), serial: w.mark("s")}
	case 7: // something new
		w.real[w.free()] = &truth{uuid: w.mark("u"), mac: w.mark("m"), serial: w.mark("s")}
	}
}

// look is what a look sees, in any order.
func (w *world) look() []Sighting {
	var out []Sighting
	for a, d := range w.real {
		out = append(out, Sighting{Address: a, Ways: []Way{Directed}, Kind: Camera, UUID: d.uuid, MAC: d.mac, Serial: d.serial, Cert: d.cert})
	}
	slices.SortFunc(out, func(a, b Sighting) int { return a.Address.Compare(b.Address) })
	w.r.Shuffle(len(out), func(i, j int) { out[i], out[j] = out[j], out[i] })
	return out
}

// keep writes what a look means into the records, as Find does.
func (w *world) keep(all []Match) {
	for _, m := range all {
		switch {
		case m.Known == nil:
			w.nextID++
			s := Written(Known{}, *m.Seen)
			w.known = append(w.known, Known{ID: w.nextID, Address: s.Address, UUID: s.UUID, MAC: s.MAC, Serial: s.Serial, Kind: Camera, Found: true})
		case m.Seen != nil && m.Outcome != Doubtful:
			i := slices.IndexFunc(w.known, func(k Known) bool { return k.ID == m.Known.ID })
			k, s := &w.known[i], Written(*m.Known, *m.Seen)
			k.Address, k.Found = s.Address, true
			for _, f := range []struct{ into, from *string }{{&k.UUID, &s.UUID}, {&k.MAC, &s.MAC}, {&k.Serial, &s.Serial}} {
				if *f.from != "" {
					*f.into = *f.from
				}
			}
		}
	}
}

// However 200 devices with shared, swapped, placeholder and stolen identities appear, move and
// reset: no listed record that was found goes to another address without the certificate that
// it showed, none is in doubt of nothing, what comes out depends on no order, and looking again
// says the same.
func TestNoNameMovesWithoutProof(t *testing.T) {
	for seed := range int64(5) {
		w := &world{r: rand.New(rand.NewSource(seed)), real: map[netip.Addr]*truth{}, nextID: 1000}
		for i := range 200 {
			d := &truth{uuid: w.mark("u"), mac: w.mark("m"), serial: w.mark("s"), place: int64(i + 1)}
			if i%3 == 0 {
				d.cert = fmt.Sprint("cert", i)
			}
			a := w.free()
			w.real[a] = d
			k := Known{ID: d.place, Place: fmt.Sprint("Place ", i), Address: a, Kind: Camera, Expected: true, Pin: d.cert}
			if i%5 == 0 { // listed by MAC as well
				k.MAC = CleanMAC(d.mac)
			}
			w.known = append(w.known, k)
		}
		w.keep(Reconcile(w.known, w.look()))
		for round := range 40 {
			for range 1 + w.r.Intn(6) {
				w.happens()
			}
			look := w.look()
			said := Reconcile(slices.Clone(w.known), look)
			w.proven(t, seed, round, said)
			// In any order of both lists.
			known := slices.Clone(w.known)
			w.r.Shuffle(len(known), func(i, j int) { known[i], known[j] = known[j], known[i] })
			if a, b := inOrder(said), inOrder(Reconcile(known, w.look())); a != b {
				t.Fatalf("seed %d, round %d: another order says something else:\n%s\n%s", seed, round, a, b)
			}
			w.keep(said)
			// Looked at again, nothing has moved: who followed its marks is where it was seen.
			again := Reconcile(slices.Clone(w.known), look)
			was := map[int64]netip.Addr{}
			for _, k := range w.known {
				was[k.ID] = k.Address
			}
			w.keep(again)
			for _, k := range w.known {
				if a, ok := was[k.ID]; ok && a != k.Address && k.Expected {
					t.Fatalf("seed %d, round %d: %s moved from %s to %s though nothing had happened", seed, round, k.Place, a, k.Address)
				}
			}
			third := Reconcile(slices.Clone(w.known), look)
			w.keep(third)
			if a, b := inOrder(third), inOrder(Reconcile(slices.Clone(w.known), look)); a != b {
				t.Fatalf("seed %d, round %d: looking again says something else:\n%s\n%s", seed, round, a, b)
			}
		}
	}
}

// proven fails where a listed record that was found moved without its certificate.
func (w *world) proven(t *testing.T, seed int64, round int, said []Match) {
	t.Helper()
	used := map[netip.Addr]int{}
	for _, m := range said {
		if m.Seen != nil {
			used[m.Seen.Address]++
		}
		if m.Known == nil || m.Seen == nil {
			continue
		}
		k, d := m.Known, w.real[m.Seen.Address]
		f := Facts{Seen: m.Seen, Outcome: m.Outcome, Elsewhere: m.Elsewhere, Claims: m.Claims}
		switch {
		case m.Seen.Address == k.Address || !k.Found || !k.Expected:
		case m.Outcome != Moved || k.Pin == "" || d.cert != k.Pin:
			t.Fatalf("seed %d, round %d: %s went from %s to %s, where %+v is", seed, round, k.Place, k.Address, m.Seen.Address, *d)
		}
		if agree(*k, *m.Seen) == other && Doubt(f, Wishes{Known: *k}) == "" {
			t.Fatalf("seed %d, round %d: %s isn't in doubt, and another answers: %+v", seed, round, k.Place, *m.Seen)
		}
		if len(m.Elsewhere) > 0 && Doubt(f, Wishes{Known: *k}) == "" {
			t.Fatalf("seed %d, round %d: %s is echoed and isn't in doubt", seed, round, k.Place)
		}
	}
	for a := range w.real {
		if used[a] != 1 {
			t.Fatalf("seed %d, round %d: what answers at %s is told %d times", seed, round, a, used[a])
		}
	}
}

// inOrder writes what a reconciling says by numbers, in one order.
func inOrder(all []Match) string {
	var out []string
	for _, m := range all {
		s := fmt.Sprint(m.Outcome, m.Elsewhere, m.Claims)
		if m.Known != nil {
			s = fmt.Sprintf("%06d ", m.Known.ID) + s
		}
		if m.Seen != nil {
			s += " " + m.Seen.Address.String()
		}
		out = append(out, s)
	}
	slices.Sort(out)
	return strings.Join(out, "\n")
}

// A person's word holds for what showed itself then.
func TestAWordHoldsForWhatShowedItself(t *testing.T) {
	word := WordOn(seenAt(1, "u1", mac(1), "c1"))
	for _, tc := range []struct {
		what string
		s    Sighting
		want bool
	}{
		{"the same", seenAt(1, "u1", mac(1), "c1"), true},
		{"part of it", seenAt(1, mac(1), "c1"), true},
		{"at another address", seenAt(2, "u1", mac(1), "c1"), false},
		{"another certificate", seenAt(1, "u1", mac(1), "c2"), false},
		{"no certificate any more", seenAt(1, "u1", mac(1)), false},
		{"reset", seenAt(1, "u2", mac(1), "c1"), false},
		{"another MAC", seenAt(1, "u1", mac(2), "c1"), false},
		{"nothing of itself", seenAt(1, "c1"), false},
	} {
		if got := word.Holds(tc.s); got != tc.want {
			t.Errorf("%s: %v", tc.what, got)
		}
	}
	if (Word{}).Holds(Sighting{}) {
		t.Error("no word holds for anything")
	}
	if !WordOn(seenAt(1)).Holds(seenAt(1)) {
		t.Error("a word on what shows nothing holds for that")
	}
}

// What is known without signing in is provisional, and what contradicts the record isn't
// written over it.
func TestWhatIsWritten(t *testing.T) {
	k := Known{UUID: "u1", MAC: mac(1), Kind: Camera}
	for _, tc := range []struct {
		s                 Sighting
		uuid, mac, serial string
	}{
		{seenAt(1, "u1", mac(1), "s1"), "u1", "", "s1"},
		{seenAt(1, "u2", mac(1)), "u2", "", ""},     // reset
		{seenAt(1, "u1", mac(2), "s1"), "", "", ""}, // torn
		{seenAt(1, "u2", mac(2)), "", "", ""},       // another
	} {
		if w := Written(k, tc.s); w.UUID != tc.uuid || w.MAC != tc.mac || w.Serial != tc.serial {
			t.Errorf("%+v: writes %q %q %q", tc.s, w.UUID, w.MAC, w.Serial)
		}
	}
}

// What no list gives was read from the device: silence doesn't make it new.
func TestWhoWasFoundBefore(t *testing.T) {
	for _, tc := range []struct {
		k     Known
		heard bool
		want  bool
	}{{Known{}, false, false}, {Known{}, true, true}, {Known{MAC: mac(1)}, false, false}, {Known{UUID: "u1"}, false, true},
		{Known{Serial: "s1"}, false, true}, {Known{Serial: "0"}, false, false}} {
		if got := WasFound(tc.k, tc.heard); got != tc.want {
			t.Errorf("%+v, heard %v: %v", tc.k, tc.heard, got)
		}
	}
}
