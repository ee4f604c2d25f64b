package shell

import (
	"context"
	"net/netip"

	"duskyharbor/internal/core/stage"
	"duskyharbor/internal/core/trouble"
	"duskyharbor/internal/store"
)

// maxSingles is how many single addresses are looked at besides the networks.
const maxSingles = 16

// LookAt has the network looked at, by the stage that does, that an address is in; where the site has none that holds it,
// the address alone, now and whenever the networks are looked at.
func (s *Server) LookAt(ctx context.Context, me Visitor, by stage.Stage, at netip.Addr) error {
	networks, err := s.Store.Networks(ctx, me.Member.ID)
	if err != nil {
		return err
	}
	p := netip.PrefixFrom(at, at.BitLen())
	singles := 0
	for _, n := range networks {
		if n.Single {
			singles++
		} else if n.Prefix.Contains(at) {
			p = n.Prefix // its network's look covers it
		}
	}
	title := "Look at " + at.String()
	if p.IsSingleIP() {
		if singles >= maxSingles {
			return trouble.Tell("%d single addresses are looked at already: take one off first.", maxSingles)
		}
		if err := s.Store.AddSingle(ctx, me.Member.ID, at.String(), p); err != nil {
			return err
		}
		if err := s.Audit(ctx, me, "looks at an address besides", at.String()); err != nil {
			return err
		}
		if networks, err = s.Store.Networks(ctx, me.Member.ID); err != nil {
			return err
		}
	}
	n := store.NewRun{Site: me.Member.ID, Stage: by, Act: store.Read, Person: me.Person.ID, Title: title}
	for _, w := range networks {
		if w.Prefix == p {
			n.Networks = append(n.Networks, w.ID)
		}
	}
	_, err = s.Engine.Begin(ctx, n, false)
	return err
}
