package signin

import (
	"context"
	"time"

	"duskyharbor/internal/act"
	"duskyharbor/internal/core/access"
	"duskyharbor/internal/core/identity"
	"duskyharbor/internal/core/stage"
	"duskyharbor/internal/core/trouble"
	"duskyharbor/internal/engine"
	"duskyharbor/internal/facts"
	"duskyharbor/internal/stages"
)

// Acts of the stage.
func (g *Stage) Acts() []act.Any {
	const on = stage.SignIn
	return []act.Any{
		act.Act[Rotation]{Name: "sign-in/rotate", About: "give cameras new passwords of their own, also on the recorders that hold them", Stage: on, More: g.makeSets, Plan: planRotation},
		act.Act[House]{Name: "sign-in/house", About: "make the site's own account on cameras that another opens, and take the old one away once it is seen to work", Stage: on, Plan: planHouse},
		act.Act[Typed]{Name: "sign-in/typed", About: "sign in to one camera with an account that is typed, and kept for it alone; its password is sealed", Stage: on, Keep: g.keepTyped},
		act.Act[Basic]{Name: "sign-in/basic", About: "let a device be given its password in clear, or not", Stage: on, Keep: allowBasic},
		act.Act[stages.Device]{Name: "sign-in/reset", About: "reset a device to what its maker set", Stage: on, Plan: planReset},
		act.Act[Shown]{Name: "sign-in/trust", About: "take the certificate that a device shows now for its own", Stage: on, Keep: trust},
	}
}

// Rotation are cameras that get new passwords.
type Rotation struct {
	act.Selection
	picks []engine.Pick
	left  int
}

// makeSets makes and seals the passwords first, see Rotations.
func (g *Stage) makeSets(ctx context.Context, c *act.Call, x *Rotation) error {
	sel, err := x.Selects(c.Site.ID)
	if err != nil {
		return err
	}
	targets, err := g.Store.Resolve(ctx, sel, stage.SignIn)
	if err != nil {
		return err
	}
	devices := make([]int64, len(targets))
	for i, t := range targets {
		devices[i] = t.Device
	}
	if len(devices) == 0 {
		return act.Wrong("pick", "No camera was selected.")
	}
	x.picks, x.left, err = g.Rotations(ctx, c.Site.ID, devices)
	return err
}

func planRotation(_ time.Time, _ *act.Seen, x Rotation) (act.Planned, error) {
	p := act.Planned{Title: "New passwords for " + act.Count(len(x.picks), "camera"), Idle: x.left}
	for _, k := range x.picks {
		p.Of = append(p.Of, act.Changes{Source: k.Source, All: k.Changes, Ordered: k.Ordered})
	}
	return p, nil
}

// Basic says whether a device may be given its password in clear.
type Basic struct {
	act.Camera
	Off bool `form:"off" json:"off,omitempty"`
}

func allowBasic(ctx context.Context, c *act.Call, x Basic) (act.Kept, error) {
	s, of, err := c.Camera(ctx, x.Source)
	if err != nil {
		return act.Kept{}, err
	}
	judge := []int64{of.Device.ID}
	if x.Off {
		return act.Kept{Says: "Its password isn't sent in clear any more.", Did: "forbade Basic", Detail: of.Place, Judge: judge}, c.Store.AllowBasic(ctx, of.Device.ID, nil)
	}
	seen, heard := facts.Seen.Of(s, of.Device.ID)
	if !heard {
		return act.Kept{}, trouble.UserError("It doesn't answer now: look first.")
	}
	seen.Cert, _ = facts.ShownPin.Of(s, of.Device.ID) // it is allowed to what shows itself now, and to nothing else
	w := identity.WordOn(seen)
	return act.Kept{Says: "Basic is allowed on " + of.Device.Place + ": sign in again.", Did: "allowed Basic in clear", Detail: of.Place, Judge: judge},
		c.Store.AllowBasic(ctx, of.Device.ID, &w)
}

// Shown is a certificate that a device was seen to show.
type Shown struct {
	act.Camera
	Shown string `form:"shown" json:"fingerprint"`
}

func trust(ctx context.Context, c *act.Call, x Shown) (act.Kept, error) {
	s, of, err := c.Camera(ctx, x.Source)
	if err != nil {
		return act.Kept{}, err
	}
	f, _ := facts.ForAccess(s, c.Now, of.Device)
	if f.Shown == "" || f.Shown == f.Pinned || f.Shown != x.Shown {
		return act.Kept{}, trouble.UserError("It shows another certificate by now: sign in again and compare.")
	}
	return act.Kept{Says: "Its new certificate is trusted: sign in again.", Did: "trusted a certificate", Detail: of.Place + ": " + f.Shown, Judge: []int64{of.Device.ID}},
		c.Store.KeepFacts(ctx, facts.Pin.New(of.Device.ID, "a person trusted it", c.Now.UTC(), f.Shown))
}

// planReset resets a device that an account opens.
func planReset(_ time.Time, s *act.Seen, x stages.Device) (act.Planned, error) {
	return x.Opened(s, access.ResetNow())
}
