package expected

import "net/netip"

// Camera is what a list's rows are matched with: a camera that the site knows.
type Camera struct {
	ID      int64
	Place   string
	MAC     string       // as identity.CleanMAC writes it; empty: not known
	Address []netip.Addr // where it is reached, and where it is expected
}

// Match finds for each row the camera that it is about, 0 where it is a new one: the one
// with the row's MAC, else at its address, else at its place. Of several that agree the
// first counts, and no camera is taken twice: the second row that names it goes on to the
// next mark, or is a new camera.
func Match(rows []Row, known []Camera) []int64 {
	byMAC, byAddress, byPlace := map[string]int64{}, map[netip.Addr]int64{}, map[string]int64{}
	for i := len(known) - 1; i >= 0; i-- { // the first of equals wins
		c := known[i]
		byPlace[c.Place] = c.ID
		if c.MAC != "" {
			byMAC[c.MAC] = c.ID
		}
		for _, a := range c.Address {
			byAddress[a] = c.ID
		}
	}
	used := map[int64]bool{}
	out := make([]int64, len(rows))
	for i, r := range rows {
		for _, id := range []int64{byMAC[r.MAC], byAddress[r.Address], byPlace[r.Place]} {
			if id != 0 && !used[id] {
				out[i], used[id] = id, true
				break
			}
		}
	}
	return out
}
