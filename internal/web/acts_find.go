package web

import (
	"context"
	"fmt"
	"net/http"
	"net/netip"
	"net/url"
	"slices"
	"strconv"
	"strings"

	"github.com/labstack/echo/v5"

	"duskyharbor/internal/core/access"
	"duskyharbor/internal/core/finding"
	"duskyharbor/internal/core/identity"
	"duskyharbor/internal/core/netplan"
	"duskyharbor/internal/core/stage"
	"duskyharbor/internal/engine"
	"duskyharbor/internal/site"
	"duskyharbor/internal/store"
)

// maxBenches is how many single addresses are looked at besides the networks.
const maxBenches = 16

// alsoLook lets one address be looked at that is in no network of the site, and looks
// there. It takes an address or an address of a stream.
func (s *Server) alsoLook(c *echo.Context) error {
	ctx, me := c.Request().Context(), whoIs(c)
	at, err := oneAddress(c.FormValue("address"))
	if err != nil {
		return s.back(c, err.Error())
	}
	networks, err := s.store.Networks(ctx, me.member.ID)
	if err != nil {
		return err
	}
	p := netip.PrefixFrom(at, 32)
	benches := 0
	for _, n := range networks {
		if n.Single {
			benches++
		} else if n.Prefix.Contains(at) {
			p = n.Prefix // its network's look covers it
		}
	}
	if p.Bits() == 32 {
		if benches >= maxBenches {
			return s.back(c, fmt.Sprintf("%d single addresses are looked at already: take one off first.", maxBenches))
		}
		if err := s.store.AddSingle(ctx, me.member.ID, at.String(), p); err != nil {
			return err
		}
		if err := s.deed(ctx, me, "looks at an address besides", at.String()); err != nil {
			return err
		}
		if networks, err = s.store.Networks(ctx, me.member.ID); err != nil {
			return err
		}
	}
	n := store.NewRun{Site: me.member.ID, Stage: stage.Find, Act: store.Read, Person: me.person.ID, Title: "Look at " + at.String()}
	for _, w := range networks {
		if w.Prefix == p {
			n.Networks = append(n.Networks, w.ID)
		}
	}
	if _, err := s.office.Begin(ctx, n, false); err != nil {
		return s.told(c, err)
	}
	return s.back(c, "")
}

// said is a sentence for the person, as an error.
type said string

func (s said) Error() string { return string(s) }

// oneAddress reads an IPv4 address, or the one that an rtsp:// or http:// address names.
func oneAddress(text string) (netip.Addr, error) {
	text = strings.TrimSpace(text)
	if len(text) > 512 {
		return netip.Addr{}, said(fmt.Sprintf("That is no address: %.60q…", text))
	}
	host := text
	if strings.Contains(text, "://") {
		u, err := url.Parse(text)
		if err != nil {
			return netip.Addr{}, said(fmt.Sprintf("That is no address: %.60q.", text))
		}
		host = u.Hostname()
	}
	a, err := netip.ParseAddr(host)
	if err != nil || !a.Is4() || a.IsUnspecified() || a.IsMulticast() || a == netip.AddrFrom4([4]byte{255, 255, 255, 255}) {
		return netip.Addr{}, said(fmt.Sprintf("Give an IPv4 address as 192.0.2.7, or a stream's address as rtsp://192.0.2.7/main; %.60q is neither.", text))
	}
	return a, nil
}

// dropBench takes such an address off again.
func (s *Server) dropBench(c *echo.Context) error {
	id, err := number(c, "network")
	if err != nil {
		return err
	}
	if err := s.store.DropSingle(c.Request().Context(), whoIs(c).member.ID, id); err != nil {
		return err
	}
	return s.back(c, "It isn't looked at any more.")
}

// judgedBack has a camera judged again after a person decided something about it.
func (s *Server) judgedBack(c *echo.Context, d store.Device, act, detail, sentence string) error {
	ctx, me := c.Request().Context(), whoIs(c)
	if err := s.deed(ctx, me, act, d.Place+detail); err != nil {
		return err
	}
	if err := s.office.Judge(ctx, me.member.ID, []int64{d.ID}); err != nil {
		return err
	}
	return s.back(c, sentence)
}

// accept keeps a person's word that a finding stands and is lived with, or takes it back.
func (s *Server) accept(c *echo.Context) error {
	ctx := c.Request().Context()
	_, d, err := s.camera(c)
	if err != nil {
		return err
	}
	st, err := stageOf(c.FormValue("stage"))
	if err != nil {
		return err
	}
	code := c.FormValue("code")
	if c.FormValue("off") == "1" {
		if err := s.store.Unaccept(ctx, d.ID, st, code); err != nil {
			return err
		}
		return s.judgedBack(c, d, "took back that a finding is accepted", ": "+code, "The finding needs a person again.")
	}
	found, err := s.store.Findings(ctx, whoIs(c).member.ID, st, d.SourceID, 0, 50)
	if err != nil {
		return err
	}
	i := slices.IndexFunc(found, func(f store.FindingOf) bool { return f.Code == code })
	if i < 0 {
		return s.back(c, "That finding is gone: nothing is left to accept.")
	}
	if err := s.store.Accept(ctx, d.ID, st, code, whoIs(c).person.ID); err != nil {
		return err
	}
	return s.judgedBack(c, d, "accepted a finding", ": "+found[i].Sentence, "It is accepted: it stays as a note, with your name.")
}

// takeOver gives a place on the list to the device that answers in its stead.
func (s *Server) takeOver(c *echo.Context) error {
	ctx := c.Request().Context()
	v, d, err := s.camera(c)
	if err != nil {
		return err
	}
	place, newcomer := d, int64(0)
	if to := c.FormValue("place"); to != "" { // d is the newcomer
		id, err := strconv.ParseInt(to, 10, 64)
		if err != nil {
			return store.ErrNotFound
		}
		if place, err = s.store.Device(ctx, id); err != nil {
			return err
		}
		if place.SiteID != whoIs(c).member.ID {
			return store.ErrNotFound
		}
		newcomer = d.ID
	}
	was, _ := site.Seen.Of(v, d.ID)
	if err := s.office.Find.TakeOver(ctx, place, newcomer); err != nil {
		return s.told(c, err)
	}
	if err := s.deed(ctx, whoIs(c), "let a device take over a place", fmt.Sprintf("%s, by what answers at %s", place.Place, was.Address)); err != nil {
		return err
	}
	s.sessions.Put(ctx, "flash", fmt.Sprintf("What answers at %s is %s from now on. Sign in to it next.", was.Address, place.Place))
	return c.Redirect(http.StatusSeeOther, fmt.Sprintf("/sites/%d/find?sheet=%d", whoIs(c).member.ID, place.ID))
}

// listAs puts a device that nobody expected on the list, under a place of its own.
func (s *Server) listAs(c *echo.Context) error {
	_, d, err := s.camera(c)
	if err != nil {
		return err
	}
	place := strings.TrimSpace(c.FormValue("place"))
	if place == "" || len(place) > 64 {
		return s.back(c, "A place has a name of at most 64 characters.")
	}
	if err := s.store.Name(c.Request().Context(), d.ID, place); err != nil {
		return err
	}
	d.Place = place
	return s.judgedBack(c, d, "put a device on the list", "", place+" is on the list.")
}

// leaveOut removes a device that nobody expects; a look that hears it finds it again.
func (s *Server) leaveOut(c *echo.Context) error {
	ctx, me := c.Request().Context(), whoIs(c)
	_, d, err := s.camera(c)
	if err != nil {
		return err
	}
	if err := s.store.LeaveOut(ctx, me.member.ID, d.ID); err != nil {
		return err
	}
	if err := s.deed(ctx, me, "left a device out", d.Place); err != nil {
		return err
	}
	s.sessions.Put(ctx, "flash", d.Place+" is left out; the next look that hears it shows it again.")
	return c.Redirect(http.StatusSeeOther, fmt.Sprintf("/sites/%d/find", me.member.ID))
}

// expectHere corrects the list: the device is expected where it answers.
func (s *Server) expectHere(c *echo.Context) error {
	v, d, err := s.camera(c)
	if err != nil {
		return err
	}
	seen, ok := site.Seen.Of(v, d.ID)
	if !ok {
		return s.back(c, "It doesn't answer now: look first.")
	}
	if err := s.store.ExpectAt(c.Request().Context(), d.ID, seen.Address); err != nil {
		return err
	}
	return s.judgedBack(c, d, "corrected the list", ": expected at "+seen.Address.String(), d.Place+" is expected at "+seen.Address.String()+" from now on.")
}

// pickViews keeps which video sources of a device the site uses.
func (s *Server) pickViews(c *echo.Context) error {
	v, d, err := s.camera(c)
	if err != nil {
		return err
	}
	form, err := c.FormValues()
	if err != nil {
		return echo.NewHTTPError(http.StatusBadRequest, "The form can't be read.")
	}
	var tokens, names []string
	for _, x := range viewsOf(v, d.ID) {
		if slices.Contains(form["view"], x.Token) {
			tokens, names = append(tokens, x.Token), append(names, x.Name)
		}
	}
	if len(tokens) == 0 {
		return s.back(c, "Pick at least one view.")
	}
	if err := s.store.PickViews(c.Request().Context(), d.ID, d.Place, tokens, names); err != nil {
		return err
	}
	return s.judgedBack(c, d, "picked views", ": "+strings.Join(names, ", "), plural(len(tokens), "view")+" of "+d.Place+" picked: "+strings.Join(names, ", ")+".")
}

// move gives a device another address, or has its network give it one.
func (s *Server) move(c *echo.Context) error {
	ctx, me := c.Request().Context(), whoIs(c)
	v, d, err := s.camera(c)
	if err != nil {
		return err
	}
	f, _ := v.Find(d)
	if f.IPConfig == nil || f.Seen == nil {
		return s.back(c, "Its address settings weren't read: sign in to it first.")
	}
	to := netplan.IPConfig{Automatic: true}
	if c.FormValue("automatic") != "1" {
		if to, err = s.seatOf(c.FormValue("address"), v.Networks()); err != nil {
			return s.back(c, err.Error())
		}
		if says, err := s.inUse(ctx, me.member.ID, d.ID, to.Address); err != nil || says != "" {
			if err != nil {
				return err
			}
			return s.back(c, says)
		}
	}
	if to == *f.IPConfig {
		return s.back(c, "It has that address already.")
	}
	ch := identity.ChangeIPConfig(*f.IPConfig, to)
	if _, err := s.office.Once(ctx, engine.Ask{Stage: stage.Find, Person: me.person.ID}, d, ch); err != nil {
		return s.told(c, err)
	}
	if err := s.deed(ctx, me, "asked for changes", d.Place+": "+ch.From+" → "+ch.To); err != nil {
		return err
	}
	return s.back(c, "")
}

// seatOf is an address of the site's networks with mask and gateway of its network.
func (s *Server) seatOf(text string, networks []netplan.Network) (netplan.IPConfig, error) {
	a, err := oneAddress(text)
	if err != nil {
		return netplan.IPConfig{}, err
	}
	n, ok := netplan.Of(networks, a)
	if !ok || netplan.Reserved(n.Prefix, a) {
		return netplan.IPConfig{}, said(fmt.Sprintf("%s is no address of the site's networks that a device can have.", a))
	}
	return netplan.IPConfig{Address: a, Bits: n.Prefix.Bits(), Gateway: netplan.First(n.Prefix)}, nil
}

// inUse says which other device is at an address, or expected there.
func (s *Server) inUse(ctx context.Context, site, device int64, a netip.Addr) (string, error) {
	dots, err := s.store.Dots(ctx, site, []netip.Prefix{netip.PrefixFrom(a, 32)})
	for _, x := range dots {
		if x.ID != device && x.Heard {
			return fmt.Sprintf("%s answers at %s: give another address.", x.Place, a), err
		}
	}
	return "", err
}

// settle makes one change of a device that the sheet offers by itself: a restart, a
// reset, a recorder's clock.
func (s *Server) settle(c *echo.Context) error {
	ctx, me := c.Request().Context(), whoIs(c)
	id, err := strconv.ParseInt(c.FormValue("device"), 10, 64)
	if err != nil {
		return store.ErrNotFound
	}
	v, err := site.Load(ctx, s.store, me.member.ID, []int64{id})
	if err != nil {
		return err
	}
	d, ok := v.Device(id)
	if !ok {
		return store.ErrNotFound
	}
	var ch finding.Change
	st := stage.Clock
	_, open := site.Account.Of(v, d.ID)
	switch what := c.FormValue("what"); {
	case what == "restart" && open:
		ch = access.RestartNow()
	case what == "reset" && open:
		ch, st = access.ResetNow(), stage.SignIn
	case what == "clock" && d.Kind == identity.Recorder:
		if all := s.office.Proposals(timeNow(), v, d, stage.Clock); len(all) > 0 {
			ch = all[0]
		}
	}
	if ch.Kind == "" {
		return s.back(c, "That can't be done to "+d.Place+" now: read it again.")
	}
	if _, err := s.office.Once(ctx, engine.Ask{Stage: st, Person: me.person.ID}, d, ch); err != nil {
		return s.told(c, err)
	}
	if err := s.deed(ctx, me, "asked for changes", d.Place+": "+ch.Title); err != nil {
		return err
	}
	return s.back(c, "")
}
