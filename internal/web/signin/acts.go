package signin

import (
	"time"

	"github.com/labstack/echo/v5"

	"duskyharbor/internal/core/identity"
	"duskyharbor/internal/core/stage"
	"duskyharbor/internal/engine"
	"duskyharbor/internal/site"
	"duskyharbor/internal/web/shell"
)

// rotate gives the selected cameras new passwords of their own.
func (pg *Page) rotate(c *echo.Context) error {
	ctx, me := c.Request().Context(), shell.VisitorOf(c)
	sel, asked, err := shell.Selected(c)
	if err != nil {
		return err
	}
	targets, err := pg.Store.Resolve(ctx, sel, stage.SignIn)
	if err != nil {
		return err
	}
	devices := make([]int64, len(targets))
	for i, t := range targets {
		devices[i] = t.Device
	}
	if len(devices) == 0 {
		return pg.Back(c, "No camera was selected.")
	}
	picks, left, err := pg.stage.Rotations(ctx, me.Member.ID, devices)
	if err != nil {
		return pg.Told(c, err)
	}
	title := "New passwords for " + shell.Plural(len(picks), "camera")
	return pg.ShowPreview(c, engine.Ask{Stage: stage.SignIn, Title: title, AskedOf: asked}, picks, shell.Left{Idle: left})
}

// allowBasic keeps whether a device may be given its password in clear.
func (pg *Page) allowBasic(c *echo.Context) error {
	v, of, err := pg.Camera(c)
	if err != nil {
		return err
	}
	on := c.FormValue("off") != "1"
	var what *identity.Word
	seen, heard := site.Seen.Of(v, of.Device.ID)
	if on && !heard {
		return pg.Back(c, "It doesn't answer now: look first.")
	}
	if on { // it is allowed to what shows itself now, and to nothing else
		seen.Cert, _ = site.ShownPin.Of(v, of.Device.ID)
		w := identity.WordOn(seen)
		what = &w
	}
	if err := pg.Store.AllowBasic(c.Request().Context(), of.Device.ID, what); err != nil {
		return err
	}
	if !on {
		return pg.JudgedBack(c, of, "forbade Basic", "", "Its password isn't sent in clear any more.")
	}
	return pg.JudgedBack(c, of, "allowed Basic in clear", "", "Basic is allowed on "+of.Device.Place+": sign in again.")
}

// trust takes the certificate that a device shows now for its own.
func (pg *Page) trust(c *echo.Context) error {
	ctx := c.Request().Context()
	v, of, err := pg.Camera(c)
	if err != nil {
		return err
	}
	f, _ := v.SignIn(time.Now(), of.Device)
	if f.Shown == "" || f.Shown == f.Pinned || f.Shown != c.FormValue("shown") {
		return pg.Back(c, "It shows another certificate by now: sign in again and compare.")
	}
	if err := pg.stage.Trust(ctx, of.Device, f.Shown); err != nil {
		return err
	}
	return pg.JudgedBack(c, of, "trusted a certificate", ": "+f.Shown, "Its new certificate is trusted: sign in again.")
}
