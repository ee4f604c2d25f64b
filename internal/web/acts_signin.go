package web

import (
	"fmt"
	"strconv"
	"strings"
	"time"

	"github.com/labstack/echo/v5"

	"duskyharbor/internal/core/identity"
	"duskyharbor/internal/engine"
	"duskyharbor/internal/stages/signin"
	"duskyharbor/internal/store"
)

var timeNow = time.Now

// rotate gives the selected cameras new passwords of their own.
func (s *Server) rotate(c *echo.Context) error {
	ctx, me := c.Request().Context(), whoIs(c)
	sel, asked, err := selected(c)
	if err != nil {
		return err
	}
	devices, err := s.store.Resolve(ctx, sel)
	if err != nil {
		return err
	}
	if len(devices) == 0 {
		return s.back(c, "No camera was selected.")
	}
	title := "New passwords for " + plural(len(devices), "camera")
	_, left, err := s.office.SignIn.Rotate(ctx, engine.Ask{Site: me.member.ID, Title: title, Person: me.person.ID, AskedOf: asked}, devices)
	if err != nil {
		return s.told(c, err)
	}
	if err := s.deed(ctx, me, "asked for new passwords", plural(len(devices)-left, "camera")); err != nil {
		return err
	}
	if left > 0 {
		return s.back(c, plural(left, "camera")+" that no account opens keep what they have.")
	}
	return s.back(c, "")
}

// allowBasic keeps whether a device may be given its password in clear.
func (s *Server) allowBasic(c *echo.Context) error {
	_, d, err := s.camera(c)
	if err != nil {
		return err
	}
	on := c.FormValue("off") != "1"
	if err := s.store.AllowBasic(c.Request().Context(), d.ID, on); err != nil {
		return err
	}
	if !on {
		return s.judgedBack(c, d, "forbade Basic", "", "Its password isn't sent in clear any more.")
	}
	return s.judgedBack(c, d, "allowed Basic in clear", "", "Basic is allowed on "+d.Place+": sign in again.")
}

// trust takes the certificate that a device shows now for its own.
func (s *Server) trust(c *echo.Context) error {
	ctx := c.Request().Context()
	v, d, err := s.camera(c)
	if err != nil {
		return err
	}
	f, _ := signin.Facts(time.Now(), v, d)
	if f.Shown == "" || f.Shown == f.Pinned || f.Shown != c.FormValue("shown") {
		return s.back(c, "It shows another certificate by now: sign in again and compare.")
	}
	if err := s.office.SignIn.Trust(ctx, d, f.Shown); err != nil {
		return err
	}
	return s.judgedBack(c, d, "trusted a certificate", ": "+f.Shown, "Its new certificate is trusted: sign in again.")
}

// within reads a whole number from 1 to most.
func within(text string, most int) (int, error) {
	n, err := strconv.Atoi(strings.TrimSpace(text))
	if err == nil && (n < 1 || n > most) {
		err = strconv.ErrRange
	}
	return n, err
}

// setWishes keeps how often the networks are looked at, where clocks take their time
// from, and how much is worked on at once.
func (s *Server) setWishes(c *echo.Context) error {
	ctx, me := c.Request().Context(), whoIs(c)
	every := map[string]int{"0": 0, "5": 5, "15": 15, "60": 60, "1440": 1440}
	n, ok := every[c.FormValue("every")]
	source := strings.TrimSpace(c.FormValue("source"))
	if source == "named" {
		a, err := oneAddress(c.FormValue("server"))
		if err != nil {
			return s.back(c, err.Error())
		}
		source = a.String()
	} else if source != "recorder" && source != "dhcp" {
		ok = false
	}
	if !ok {
		return s.back(c, "Pick how often to look, and where clocks take their time from.")
	}
	var most store.Limits
	var err error
	if most.Network, err = within(c.FormValue("network"), store.MostNetwork); err == nil {
		most.Recorder, err = within(c.FormValue("recorder"), store.MostRecorder)
	}
	if err != nil {
		return s.back(c, fmt.Sprintf("Say how many devices are worked on at once: 1 to %d of a network, 1 to %d of a recorder.", store.MostNetwork, store.MostRecorder))
	}
	if err := s.store.SetWishes(ctx, me.member.ID, store.Wishes{LookEvery: n, TimeSource: source, AtOnce: most}); err != nil {
		return err
	}
	if err := s.deed(ctx, me, "set the site's wishes", fmt.Sprintf("look every %d min, time from %s, at once %d of a network and %d of a recorder", n, source, most.Network, most.Recorder)); err != nil {
		return err
	}
	if err := s.office.Judge(ctx, me.member.ID, nil); err != nil {
		return err
	}
	return s.back(c, "Kept, and everything was judged by it.")
}

// setLeast asks for a least firmware of a make and model.
func (s *Server) setLeast(c *echo.Context) error {
	ctx, me := c.Request().Context(), whoIs(c)
	l := identity.Least{Make: strings.TrimSpace(c.FormValue("make")), Model: strings.TrimSpace(c.FormValue("model")), Least: strings.TrimSpace(c.FormValue("least"))}
	if l.Make == "" || len(l.Make) > 64 || len(l.Model) > 64 || len(l.Least) > 64 {
		return s.back(c, "A least firmware is of a make, and of a model where it isn't for all of them.")
	}
	if err := s.store.SetLeast(ctx, me.member.ID, l); err != nil {
		return err
	}
	if err := s.deed(ctx, me, "set the least firmware", strings.TrimSpace(l.Make+" "+l.Model)+": "+l.Least); err != nil {
		return err
	}
	if err := s.office.Judge(ctx, me.member.ID, nil); err != nil {
		return err
	}
	return s.back(c, "Kept, and everything was judged by it.")
}
