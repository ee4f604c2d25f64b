package identity

import (
	"net/netip"
	"slices"
)

// Known is a device the site knows, expected or found before.
type Known struct {
	ID       int64
	Place    string
	Address  netip.Addr // expected, or where it was reached last
	UUID     string
	MAC      string
	Serial   string
	Make     string
	Model    string
	Kind     Kind
	Expected bool   // a person listed it
	Found    bool   // it answered before: its marks were read from it
	Pin      string // fingerprint of its certificate that is trusted; empty: none
}

// Outcome of reconciling one known device or one sighting.
type Outcome string

const (
	Matched    Outcome = "matched"
	Moved      Outcome = "moved" // same identity, other address
	Missing    Outcome = "missing"
	Unexpected Outcome = "unexpected"
	Doubtful   Outcome = "doubtful" // same address, other identity
)

// Match says what a look means for a known device, or for a sighting that is none.
type Match struct {
	Outcome Outcome
	Known   *Known
	// Seen is what answers where the device is, or is from now on; nil: nothing does. Moved
	// with nothing seen is a device that is silent, and that something elsewhere says to be:
	// it goes there only by a person's word.
	Seen *Sighting
	// Elsewhere are the addresses at which something says to be the device, beside Seen.
	Elsewhere []netip.Addr
	// Claims are the known devices elsewhere that Seen says to be.
	Claims []Claim
}

// Claim is a known device that something at another address says to be.
type Claim struct {
	Device int64      `json:"device"`
	Place  string     `json:"place"`
	At     netip.Addr `json:"at"` // where the device is known
}

// Reconcile says for each known device, in their order, what a look means, and then for each
// sighting that is none of them. Addresses of sightings are distinct. What comes out depends
// neither on the order of either list nor on looking again.
//
// UUID, MAC and serial are public: they say who something claims to be. So a device is first
// what answers at its own address and shows none of another (another one there is Doubtful).
// One that was found before moves to another address by itself only where its own is silent
// and the certificate that it showed before is shown there; all else waits for a person, as
// Elsewhere on the device and Claims on what claims. Whom nobody listed follows its marks, and
// what is on the list and was never found goes where alone its marks are shown.
func Reconcile(known []Known, seen []Sighting) []Match {
	r := reconciling{known: known, seen: seen, homes: map[netip.Addr][]int{}, out: make([]Match, len(known)), marks: make([]marks, len(known)),
		alike: make([][]int, len(known)), shown: make([]marks, len(seen)), holder: make([]int, len(seen)), owner: make([]int, len(seen))}
	for j := range seen {
		r.holder[j], r.owner[j], r.shown[j] = -1, -1, marksOf(seen[j].UUID, seen[j].MAC, seen[j].Serial)
	}
	r.ix = index(seen, r.shown)
	for i, k := range known {
		r.out[i] = Match{Outcome: Missing, Known: &known[i]}
		r.homes[k.Address] = append(r.homes[k.Address], i)
		r.marks[i] = marksOf(k.UUID, k.MAC, k.Serial)
		r.alike[i] = r.like(i)
	}
	for at := range r.homes {
		slices.SortFunc(r.homes[at], r.before)
	}
	r.own()
	r.atHome()
	r.follow()
	return r.finish()
}

type reconciling struct {
	known  []Known
	seen   []Sighting
	ix     sightings
	marks  []marks              // of the known devices
	shown  []marks              // of the sightings
	alike  [][]int              // by known device: the sightings elsewhere that show its identity
	homes  map[netip.Addr][]int // known devices by address, who goes first first
	out    []Match
	holder []int // the known device that a sighting is; −1: none
	owner  []int // the one that answers at its own address and shows itself there; −1: none
}

// before orders known devices, whatever order they come in: found and listed ones first.
func (r *reconciling) before(i, j int) int {
	a, b := r.known[i], r.known[j]
	rank := func(k Known) int {
		n := 0
		if !k.Found {
			n++
		}
		if !k.Expected {
			n += 2
		}
		return n
	}
	if ra, rb := rank(a), rank(b); ra != rb {
		return ra - rb
	}
	return int(a.ID - b.ID)
}

// own finds who shows itself at its own address.
func (r *reconciling) own() {
	for j := range r.seen {
		for _, i := range r.homes[r.seen[j].Address] {
			if r.agree(i, j) == same {
				r.owner[j] = i
				break
			}
		}
	}
}

func (r *reconciling) agree(i, j int) verdict {
	return agreeAs(r.known[i].Kind, r.seen[j].Kind, r.marks[i], r.shown[j])
}

// like lists the sightings elsewhere that show a known device's identity, by address.
func (r *reconciling) like(i int) []int {
	var out []int
	for _, j := range r.ix.like(r.marks[i]) {
		if r.seen[j].Address != r.known[i].Address && r.agree(i, j) == same {
			out = append(out, j)
		}
	}
	slices.SortFunc(out, func(a, b int) int { return r.seen[a].Address.Compare(r.seen[b].Address) })
	return out
}

// strangers are the sightings that show a never found device's identity and are no other's.
func (r *reconciling) strangers(i int) []int {
	return slices.DeleteFunc(slices.Clone(r.alike[i]), func(j int) bool { return r.owner[j] >= 0 })
}

// atHome gives each address to the known device that is there.
func (r *reconciling) atHome() {
	claimed := r.claimed()
	for at, here := range r.homes {
		j, answers := r.ix.at[at]
		if !answers || !at.IsValid() {
			continue
		}
		take := func(i int, o Outcome) { r.out[i].Outcome, r.out[i].Seen, r.holder[j] = o, &r.seen[j], i }
		if i := r.owner[j]; i >= 0 {
			take(i, Matched)
			continue
		}
		here = slices.DeleteFunc(slices.Clone(here), func(i int) bool { // it is on its way elsewhere
			return !r.known[i].Found && len(r.strangers(i)) == 1
		})
		if len(here) == 0 {
			continue
		}
		i := here[0]
		for _, x := range here { // who isn't known to be another goes before who is
			if r.agree(x, j) == unknown {
				i = x
				break
			}
		}
		switch {
		case r.agree(i, j) != unknown, claimed[j], r.known[i].Found && len(r.alike[i]) > 0:
			take(i, Doubtful)
		default:
			take(i, Matched)
		}
	}
}

// claimed tells which sightings show the identity of a listed device that was found elsewhere.
func (r *reconciling) claimed() map[int]bool {
	out := map[int]bool{}
	for i, k := range r.known {
		if k.Found && k.Expected {
			for _, j := range r.alike[i] {
				out[j] = true
			}
		}
	}
	return out
}

// follow lets devices go where they may without a person: who goes first first.
func (r *reconciling) follow() {
	order := make([]int, len(r.known))
	wants := map[int]int{} // how many known devices would go to a sighting
	for i := range r.known {
		order[i] = i
		if j := r.next(i); j >= 0 {
			wants[j]++
		}
	}
	slices.SortFunc(order, r.before)
	for _, i := range order {
		k, m := r.known[i], &r.out[i]
		if j := r.next(i); j >= 0 && r.holder[j] < 0 && (wants[j] == 1 || !k.Expected) {
			m.Outcome, m.Seen, r.holder[j] = Moved, &r.seen[j], i
			if !k.Address.IsValid() {
				m.Outcome = Matched
			}
		}
		for _, j := range r.alike[i] {
			if r.holder[j] != i {
				m.Elsewhere = append(m.Elsewhere, r.seen[j].Address)
			}
		}
		if m.Outcome == Missing && k.Found && len(m.Elsewhere) > 0 {
			m.Outcome = Moved // by what they say: a person decides
		}
	}
}

// next is the sighting that a known device may go to by itself; −1: none.
func (r *reconciling) next(i int) int {
	k := r.known[i]
	if r.out[i].Seen != nil {
		return -1
	}
	if !k.Found {
		if at := r.strangers(i); len(at) == 1 {
			return at[0]
		}
		return -1
	}
	like := r.alike[i]
	if len(like) == 1 && (!k.Expected || k.Pin != "" && k.Pin == r.seen[like[0]].Cert) {
		return like[0]
	}
	return -1
}

// finish tells what claims to be whom, and adds who is nobody known.
func (r *reconciling) finish() []Match {
	claims := map[netip.Addr][]Claim{}
	for i := range r.out {
		for _, at := range r.out[i].Elsewhere {
			claims[at] = append(claims[at], Claim{r.known[i].ID, r.known[i].Place, r.known[i].Address})
		}
	}
	for at := range claims {
		slices.SortFunc(claims[at], func(a, b Claim) int { return int(a.Device - b.Device) })
	}
	out := r.out
	for i := range out {
		if out[i].Seen != nil {
			out[i].Claims = claims[out[i].Seen.Address]
		}
	}
	for j := range r.seen {
		if r.holder[j] < 0 {
			out = append(out, Match{Outcome: Unexpected, Seen: &r.seen[j], Claims: claims[r.seen[j].Address]})
		}
	}
	return out
}

// marks are a cleaned UUID, MAC and serial; empty where there is none that identifies anything.
type marks struct{ uuid, mac, serial string }

func marksOf(uuid, mac, serial string) marks {
	return marks{CleanUUID(uuid), CleanMAC(mac), CleanSerial(serial)}
}

// each lists the marks that there are, with a letter that tells which one each is.
func (m marks) each() []string {
	all := []string{"u" + m.uuid, "m" + m.mac, "s" + m.serial}
	return slices.DeleteFunc(all, func(s string) bool { return len(s) == 1 })
}

// sightings finds sightings by what identifies them: positions in their order.
type sightings struct {
	by map[string][]int
	at map[netip.Addr]int
}

func index(seen []Sighting, shown []marks) sightings {
	ix := sightings{map[string][]int{}, map[netip.Addr]int{}}
	for j, s := range seen {
		for _, m := range shown[j].each() {
			ix.by[m] = append(ix.by[m], j)
		}
		ix.at[s.Address] = j
	}
	return ix
}

// like lists the sightings that share something with a known device.
func (ix sightings) like(known marks) []int {
	var out []int
	for _, m := range known.each() {
		out = append(out, ix.by[m]...)
	}
	slices.Sort(out)
	return slices.Compact(out)
}

type verdict int

const (
	unknown verdict = iota // nothing can be compared
	same
	other
	torn // some of it agrees and some disagrees: a finding, not a guess
)

// agree compares UUID, MAC and serial; placeholders identify nothing. All that can be
// compared must agree, but for the UUID, which a factory reset makes anew: where the MAC or the
// serial agrees and the other of them doesn't disagree, it is the same device. A recorder is
// no camera.
func agree(k Known, s Sighting) verdict {
	return agreeAs(k.Kind, s.Kind, marksOf(k.UUID, k.MAC, k.Serial), marksOf(s.UUID, s.MAC, s.Serial))
}

func agreeAs(known, seen Kind, k, s marks) verdict {
	if known == Camera && seen == Recorder {
		return other
	}
	uuid, mac, serial := compare(k.uuid, s.uuid), compare(k.mac, s.mac), compare(k.serial, s.serial)
	switch yes, no := count3(same, uuid, mac, serial), count3(other, uuid, mac, serial); {
	case yes == 0 && no == 0:
		return unknown
	case yes == 0:
		return other
	case no == 0, no == 1 && uuid == other:
		return same
	}
	return torn
}

func compare(a, b string) verdict {
	switch {
	case a == "" || b == "":
		return unknown
	case a == b:
		return same
	}
	return other
}

func count3(want verdict, all ...verdict) int {
	n := 0
	for _, v := range all {
		if v == want {
			n++
		}
	}
	return n
}

// Written is what of a sighting is written to the record of the device that it is: marks
// that weren't known, and a UUID that a reset made anew. What contradicts the record is
// left to a finding.
func Written(k Known, s Sighting) Sighting {
	if agree(k, s) == other || agree(k, s) == torn {
		s.UUID, s.MAC, s.Serial = "", "", ""
		return s
	}
	s.UUID, s.MAC, s.Serial = CleanUUID(s.UUID), CleanMAC(s.MAC), CleanSerial(s.Serial)
	if k.MAC != "" {
		s.MAC = ""
	}
	if k.Serial != "" {
		s.Serial = ""
	}
	return s
}

// Carry is the outcome that is kept after a look that found is, where was was kept before:
// what a person must settle holds until one does, not for one look.
func Carry(was, is Outcome) Outcome {
	if was == Moved && is == Matched {
		return Moved
	}
	return is
}
