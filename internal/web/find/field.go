package find

import (
	"net/netip"
	"slices"

	"duskyharbor/internal/core/identity"
	"duskyharbor/internal/core/netplan"
	"duskyharbor/internal/core/stage"
	"duskyharbor/internal/store"
)

// foldedField draws a network of several /24s, with one of them unfolded where part
// names it.
func foldedField(n store.Network, part netip.Prefix, by map[netip.Addr]store.Dot) field {
	f := field{Network: n}
	wide := 2 // tiles beside each other; a /20 has sixteen
	if n.Prefix.Bits() < 22 {
		wide = 4
	}
	at := map[int]int{}
	a := n.Prefix.Addr().As4()
	for i := range 1 << (24 - n.Prefix.Bits()) {
		t := tile{X: i % wide, Y: i / wide, Kind: "free",
			Prefix: netip.PrefixFrom(netip.AddrFrom4([4]byte{a[0], a[1], a[2] + byte(i), 0}), 24)}
		if t.Open = t.Prefix == part; t.Open {
			p := makeField(n, part, by)
			f.Part = &p
		}
		at[t.Third()] = i
		f.Tiles = append(f.Tiles, t)
	}
	for addr, x := range by {
		if n.Prefix.Contains(addr) {
			f.Tiles[at[int(addr.As4()[2])]].count(kindOf(x))
		}
	}
	if f.Part != nil {
		f.Part.Network.Prefix, f.Part.Network.Name = part, "of "+n.Name
		for _, t := range f.Tiles {
			if t.Open {
				f.Part.Found = t.Found
			}
		}
	}
	return f
}

// count adds a device to a tile; what stands out gives it its mark.
func (t *tile) count(kind string) {
	rank := func(k string) int {
		return slices.Index([]string{"free", "found", "silent", "unexpected", "trouble"}, k)
	}
	switch kind {
	case "silent", "silent-recorder":
		t.Silent++
		kind = "silent"
	case "trouble", "unexpected":
		t.Stand++
		t.Found++
	default:
		t.Found++
		kind = "found"
	}
	if rank(kind) > rank(t.Kind) {
		t.Kind = kind
	}
}

// makeField draws the addresses of a network, or of a /24 of it.
func makeField(n store.Network, part netip.Prefix, by map[netip.Addr]store.Dot) field {
	f := field{Network: n}
	a := part.Addr()
	for i := 0; i < 256 && part.Contains(a); i++ {
		last := int(a.As4()[3])
		c := cell{X: last % 16, Y: last / 16, Kind: "free", Label: a.String()}
		if netplan.Reserved(n.Prefix, a) {
			c.Kind, c.Label = "reserved", a.String()+", reserved"
		}
		if n.Look != nil && slices.ContainsFunc(n.Look.Others, func(o store.Other) bool { return o.Address == a }) {
			c.Kind, c.Label = "other", a.String()+", answers, neither camera nor recorder"
		}
		if x, ok := by[a]; ok {
			if x.Kind == identity.Camera {
				c.Source = x.ID
			}
			c.Kind, c.Label = kindOf(x), a.String()+", "+x.Place+labelOf(x)
		}
		f.Cells = append(f.Cells, c)
		a = a.Next()
	}
	return f
}

func labelOf(x store.Dot) string {
	switch {
	case x.Kind == identity.Camera:
		return ": " + x.State.Label()
	case x.Heard:
		return ": answers"
	}
	return ": not heard"
}

func kindOf(x store.Dot) string {
	recorder := x.Kind == identity.Recorder
	switch {
	case !x.Heard && recorder:
		return "silent-recorder"
	case !x.Heard:
		return "silent"
	case recorder:
		return "recorder"
	case !x.Expected:
		return "unexpected"
	case x.State == stage.Blocked || x.State == stage.Needs:
		return "trouble"
	}
	return "found"
}
