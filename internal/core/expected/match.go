package expected

import "net/netip"

// Camera is what a list's rows are matched with: a camera that the site knows, or one view
// of a device that has several.
type Camera struct {
	ID      int64 // of the view
	Device  int64
	Place   string
	MAC     string       // as identity.CleanMAC writes it; empty: not known
	Address []netip.Addr // where it is reached, and where it is expected
	Input   int          // see Row; 0: not known
}

// About says what a row is about: a view that is known; else a further view of a device that
// is; else a new device, or a further view of the one that an earlier row is about.
type About struct {
	View   int64 // 0: none that is known
	Device int64 // of View, or the one that gets a further view; 0: none that is known
	With   int   // index of the row that is about the same new device; −1: none
}

// Match finds for each row what it is about: the view with the row's MAC, else at its
// address, else at its place. Of several that agree the one of the row's input counts, else
// the one at its place, else the first; a row that names an input never takes the view of
// another one, and is a further view of the device then. No view is taken twice: the second
// row that names it goes on to the next, or is a new camera.
func Match(rows []Row, known []Camera) []About {
	byMAC, byAddress, byPlace := map[string][]Camera{}, map[netip.Addr][]Camera{}, map[string][]Camera{}
	for _, c := range known {
		byPlace[c.Place] = append(byPlace[c.Place], c)
		if c.MAC != "" {
			byMAC[c.MAC] = append(byMAC[c.MAC], c)
		}
		for _, a := range c.Address {
			byAddress[a] = append(byAddress[a], c)
		}
	}
	m := matching{used: map[int64]bool{}, told: map[any]About{}}
	out := make([]About, len(rows))
	for i, r := range rows {
		out[i] = m.of(r, byMAC[r.MAC], byAddress[r.Address], byPlace[r.Place])
		m.keep(r, out[i], i)
	}
	return out
}

// matching is what the rows before are about.
type matching struct {
	used map[int64]bool // views
	told map[any]About  // by MAC and by address: the device, for rows that name a further input of it
}

func (m matching) of(r Row, ways ...[]Camera) About {
	for n, alike := range ways {
		if c := pick(alike, r, m.used); c.ID != 0 {
			m.used[c.ID] = true
			return About{View: c.ID, Device: c.Device, With: -1}
		}
		if byPlace := n == len(ways)-1; r.Input > 0 && len(alike) > 0 && !byPlace {
			return About{Device: alike[0].Device, With: -1}
		}
	}
	for _, k := range r.keys() {
		if a, ok := m.told[k]; ok && r.Input > 0 {
			return a
		}
	}
	return About{With: -1}
}

// keep remembers which device the ith row is about.
func (m matching) keep(r Row, a About, i int) {
	further := About{Device: a.Device, With: a.With}
	if a == (About{With: -1}) {
		further.With = i
	}
	for _, k := range r.keys() {
		if _, ok := m.told[k]; !ok {
			m.told[k] = further
		}
	}
}

// keys are what rows of one device share.
func (r Row) keys() (keys []any) {
	if r.MAC != "" {
		keys = append(keys, r.MAC)
	}
	if r.Address.IsValid() {
		keys = append(keys, r.Address)
	}
	return keys
}

// pick is the view that a row is about among those that nobody took: of its input, else at
// its place, else the first; its ID is 0 where there is none.
func pick(alike []Camera, r Row, used map[int64]bool) (best Camera) {
	rank := 0
	for _, c := range alike {
		if used[c.ID] || r.Input > 0 && c.Input > 0 && c.Input != r.Input {
			continue
		}
		is := 1
		switch {
		case r.Input > 0 && c.Input == r.Input:
			is = 3
		case c.Place == r.Place:
			is = 2
		}
		if is > rank {
			best, rank = c, is
		}
	}
	return best
}
