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

// lookAt has the network looked at, by the stage that does, that an address is in; where the site has none that
// holds it, the address alone, now and whenever the networks are looked at. It answers with the run.
func (s *Server) lookAt(ctx context.Context, me Actor, by stage.Stage, at netip.Addr) (int64, error) {
	networks, err := s.Store.Networks(ctx, me.Site)
	if err != nil {
		return 0, err
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
	if p.IsSingleIP() {
		if singles >= maxSingles {
			return 0, trouble.UserErrorf("%d single addresses are looked at already: take one off first.", maxSingles)
		}
		if err := s.Store.AddSingle(ctx, me.Site, at.String(), p); err != nil {
			return 0, err
		}
		if err := s.Store.Audit(ctx, store.AuditEntry{Site: me.Site, Person: me.Person, Token: me.Token, Act: "looks at an address besides", Detail: at.String()}); err != nil {
			return 0, err
		}
		s.Engine.Touch(me.Site)
		if networks, err = s.Store.Networks(ctx, me.Site); err != nil {
			return 0, err
		}
	}
	n := store.NewRun{Site: me.Site, Stage: by, Act: store.Read, Person: me.Person, Token: me.Token, Title: "Look at " + at.String()}
	for _, w := range networks {
		if w.Prefix == p {
			n.Networks = append(n.Networks, w.ID)
		}
	}
	return s.Engine.Begin(ctx, n, false)
}
