package find

import (
	"encoding/binary"
	"net/netip"
	"slices"

	"duskyharbor/internal/core/identity"
	"duskyharbor/internal/core/netplan"
	"duskyharbor/internal/core/stage"
	"duskyharbor/internal/store"
)

// tileBits is the prefix of a network's tiles: /20s of one that is wider than that, else
// /24s; a /20 has sixteen of those.
func tileBits(network int) int {
	if network < 20 {
		return 20
	}
	return 24
}

// foldedField draws a network of several /24s as tiles, with the one unfolded beside it
// that holds part: a /20 shows its /24s in turn, a /24 its addresses.
func foldedField(n store.Network, part netip.Prefix, by map[netip.Addr]store.Dot) field {
	return fold(n, netip.Prefix{}, part, by)
}

// fold draws a network, or a part of one, whose parts fold into up; invalid: into all of it.
func fold(n store.Network, up, part netip.Prefix, by map[netip.Addr]store.Dot) field {
	f := field{Network: n}
	bits := tileBits(n.Prefix.Bits())
	count := 1 << (bits - n.Prefix.Bits())
	wide := 2 // tiles beside each other
	if count > 4 {
		wide = 4
	}
	first, size := number(n.Prefix.Addr()), uint32(1)<<(32-bits)
	for i := range count {
		p := netip.PrefixFrom(address(first+uint32(i)*size), bits)
		t := tile{X: i % wide, Y: i / wide, Kind: "free", Prefix: p}
		if t.Open = part.IsValid() && part.Bits() >= bits && p.Contains(part.Addr()); t.Open {
			inner := n
			inner.Prefix, inner.Name = p, "of "+n.Name
			if bits < 24 {
				x := fold(inner, p, part, by)
				f.Part = &x
			} else {
				x := makeField(n, p, by)
				x.Network = inner
				f.Part = &x
			}
			t.Up = up
		}
		f.Tiles = append(f.Tiles, t)
	}
	for addr, x := range by {
		if n.Prefix.Contains(addr) {
			f.Tiles[(number(addr)-first)/size].count(kindOf(x))
		}
	}
	for _, t := range f.Tiles {
		if t.Open {
			f.Part.Found = t.Found
		}
	}
	return f
}

func number(a netip.Addr) uint32 {
	b := a.As4()
	return binary.BigEndian.Uint32(b[:])
}

func address(n uint32) netip.Addr {
	var b [4]byte
	binary.BigEndian.PutUint32(b[:], n)
	return netip.AddrFrom4(b)
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
	recorder := x.Kind != identity.Camera // an analyser stands among them
	switch {
	case !x.Heard && recorder:
		return "silent-recorder"
	case !x.Heard:
		return "silent"
	case recorder:
		return "recorder"
	case x.State == stage.Blocked:
		return "trouble"
	case !x.Expected || x.State == stage.Needs:
		return "unexpected"
	}
	return "found"
}
