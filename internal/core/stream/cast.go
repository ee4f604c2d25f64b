package stream

import (
	"encoding/binary"
	"fmt"
	"net/netip"
	"strconv"

	"duskyharbor/internal/core/finding"
)

// SetCast is the kind of change that has a stream sent to a multicast group, or to none.
const SetCast = "stream.cast"

// Cast is whether a profile's pictures go to a multicast group whether or not anybody asks for them, and to which
// (tt:MulticastConfiguration; AutoStart is only read, and set by StartMulticastStreaming and StopMulticastStreaming).
type Cast struct {
	Group string `json:"group,omitempty"` // IPv4 address; empty: none is set
	Port  int    `json:"port,omitempty"`
	TTL   int    `json:"ttl,omitempty"` // routers that it passes, and one
	On    bool   `json:"on,omitempty"`
}

// NoGroup is what a stream reads that is sent to no group.
const NoGroup = "sent to no group"

// Text is what of it is read back.
func (c Cast) Text() string {
	if !c.On {
		return NoGroup
	}
	return fmt.Sprintf("sent to %s, port %d, TTL %d", c.Group, c.Port, c.TTL)
}

// sends says whether a stream can be sent there: a group of 224.0.0.0/4 that isn't one of the local network's own
// (RFC 5771, section 4), an even port above those that are given out (RFC 3550, section 11).
func (c Cast) sends() bool {
	a, err := netip.ParseAddr(c.Group)
	return err == nil && IsGroup(a) && c.Port >= 1024 && c.Port < 65535 && c.Port%2 == 0
}

// IsGroup says whether streams can be sent to an address.
func IsGroup(a netip.Addr) bool {
	return a.Is4() && a.IsMulticast() && !a.IsLinkLocalMulticast()
}

// Casting is what is wanted of multicast: off, or on.
type Casting string

const (
	CastOff Casting = "off"
	CastOn  Casting = "on"
)

// What a stream is sent with where nobody says otherwise: groups for a site's own use (RFC 2365, section 6.2), the
// port that RTP has by default (RFC 3551, section 8), and no router passed.
const (
	FirstGroup = "239.192.0.1"
	CastPort   = 5004
	CastTTL    = 1
)

// Spread gives every stream a group of its own. One that has one keeps it, unless another has the same, it is taken
// elsewhere, or groups from another address on are asked for: then they are given in order, without those taken. What
// comes out, spread again, stays. ok is false where there aren't as many groups from there on.
func Spread(streams []Cast, taken map[string]bool, from netip.Addr, port, ttl int) (out []Cast, ok bool) {
	asked := from.IsValid()
	if !asked {
		from = netip.MustParseAddr(FirstGroup)
	}
	used, out := map[string]bool{}, make([]Cast, len(streams))
	for i, c := range streams {
		a, err := netip.ParseAddr(c.Group)
		// So far at the most the groups go that are given from there on.
		near := err == nil && !a.Less(from) && number4(a)-number4(from) < len(streams)+len(taken)
		if err == nil && IsGroup(a) && !taken[c.Group] && !used[c.Group] && (near || !asked) {
			out[i].Group, used[c.Group] = c.Group, true
		}
		out[i].Port, out[i].TTL, out[i].On = c.Port, max(c.TTL, CastTTL), true
		if !(Cast{Group: FirstGroup, Port: c.Port}).sends() {
			out[i].Port = CastPort
		}
		if port != 0 {
			out[i].Port = port
		}
		if ttl != 0 {
			out[i].TTL = ttl
		}
	}
	next := from
	for i := range out {
		if out[i].Group != "" {
			continue
		}
		for IsGroup(next) && (taken[next.String()] || used[next.String()]) {
			next = next.Next()
		}
		if !IsGroup(next) {
			return nil, false
		}
		out[i].Group, used[next.String()] = next.String(), true
	}
	return out, true
}

// number4 is an IPv4 address as a number.
func number4(a netip.Addr) int {
	if !a.Is4() {
		return 0
	}
	b := a.As4()
	return int(binary.BigEndian.Uint32(b[:]))
}

// Casters are the view's profiles that tell whether they are sent to a group, one of each encoder, of a role or of
// every one.
func (f Facts) Casters(role Role, w Wishes) []Profile {
	all, _ := f.of(role, w)
	return casters(all)
}

func casters(all []Profile) (out []Profile) {
	done := map[string]bool{}
	for _, p := range all {
		if p.Encoder != "" && p.Cast != nil && !done[p.Encoder] {
			done[p.Encoder] = true
			out = append(out, p)
		}
	}
	return out
}

// cast is what has profiles sent to groups, or to none, and why not.
func (f Facts) cast(of []Profile, w Wishes, want Want) (out []finding.Change, cant []string) {
	all := casters(of)
	if len(all) == 0 {
		return nil, []string{"it doesn't tell whether it sends to a group"}
	}
	for _, p := range all {
		to := *p.Cast
		if given, ok := want.Groups[p.Encoder]; ok {
			to = given
		}
		if to.On = want.Cast == CastOn; to.On && !to.sends() {
			cant = append(cant, p.Name+": it has no group to send to")
			continue
		}
		out = append(out, p.changeCast(to, w)...)
	}
	return out, cant
}

// changeCast has the profile's stream sent so; nothing where it is.
func (p Profile) changeCast(to Cast, w Wishes) []finding.Change {
	from := *p.Cast
	if from.Text() == to.Text() {
		return nil
	}
	risk := finding.NoRisk
	if w.Held {
		risk = finding.Gap // some make a new session of it
	}
	args := func(c Cast) map[string]string {
		return map[string]string{"token": p.Encoder, "profile": p.Token, "group": c.Group, "port": strconv.Itoa(c.Port),
			"ttl": strconv.Itoa(c.TTL), "on": strconv.FormatBool(c.On)}
	}
	return []finding.Change{{Kind: SetCast, Key: SetCast + "/" + p.Token, Title: p.Name + " by multicast", From: from.Text(), To: to.Text(), Why: "Asked for.",
		Risk: risk, Args: back(args(to), args(from)), Undo: finding.Undo{Kind: finding.Reversible, Note: "have it sent as it was."}}}
}

// CastOf reads what a change's arguments say.
func CastOf(args map[string]string) (c Cast, err error) {
	c.Group = args["group"]
	if c.Port, err = strconv.Atoi(args["port"]); err != nil {
		return c, fmt.Errorf("stream: a change's port is no number: %q", args["port"])
	}
	if c.TTL, err = strconv.Atoi(args["ttl"]); err != nil {
		return c, fmt.Errorf("stream: a change's TTL is no number: %q", args["ttl"])
	}
	if c.On, err = strconv.ParseBool(args["on"]); err != nil || c.On && !c.sends() || args["token"] == "" || args["profile"] == "" {
		return c, fmt.Errorf("stream: a change names no group, port or stream: %v", args)
	}
	return c, nil
}
