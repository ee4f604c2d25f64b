package expected

import "net/netip"

// Camera is what a list's rows are matched with: a camera that the site knows, or one view
// of a device that has several.
type Camera struct {
	ID      int64
	Place   string
	MAC     string       // as identity.CleanMAC writes it; empty: not known
	Address []netip.Addr // where it is reached, and where it is expected
}

// Match finds for each row the camera that it is about, 0 where it is a new one: the one
// with the row's MAC, else at its address, else at its place. Of several that agree the one
// at the row's place counts, else the first, and no camera is taken twice: the second row
// that names it goes on to the next, or is a new camera.
func Match(rows []Row, known []Camera) []int64 {
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
	used := map[int64]bool{}
	out := make([]int64, len(rows))
	for i, r := range rows {
		for _, alike := range [][]Camera{byMAC[r.MAC], byAddress[r.Address], byPlace[r.Place]} {
			if id := pick(alike, r.Place, used); id != 0 {
				out[i], used[id] = id, true
				break
			}
		}
	}
	return out
}

// pick is the camera at a place among those that nobody took, else the first of them; 0
// where all were taken.
func pick(alike []Camera, place string, used map[int64]bool) (first int64) {
	for _, c := range alike {
		switch {
		case used[c.ID]:
		case c.Place == place:
			return c.ID
		case first == 0:
			first = c.ID
		}
	}
	return first
}
