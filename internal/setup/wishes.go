package setup

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"duskyharbor/internal/act"
	"duskyharbor/internal/core/clock"
	"duskyharbor/internal/core/identity"
	"duskyharbor/internal/core/netplan"
	"duskyharbor/internal/core/trouble"
	"duskyharbor/internal/people"
	"duskyharbor/internal/store"
)

func wishes() []act.Any {
	return []act.Any{
		act.Act[Wishes]{Name: "settings/wishes", About: "say how often networks are looked at, where clocks take their time from, how much is worked on at once", Keep: setWishes},
		act.Act[Least]{Name: "settings/least", About: "ask for a least firmware of a make, or of a model; empty: for none", Keep: setLeast},
		act.Act[Site]{Name: "settings/site", About: "give the site another name and zone", Role: people.Lead, Alone: true, Keep: setSite},
	}
}

// every are the minutes between looks that may be asked for; 0: only when asked.
var every = []int{0, 5, 15, 60, 1440}

// Wishes is what a site asks for.
type Wishes struct {
	Every    int    `form:"every" json:"look_every"`                              // minutes: 0 (only when asked), 5, 15, 60 or 1440
	Source   string `form:"source" json:"time_source" enum:"recorder,dhcp,named"` // recorder, dhcp or named
	Server   string `form:"server" json:"server,omitempty"`                       // the named one's address
	Network  int    `form:"network" json:"at_once_network"`                       // devices of a network worked on at once
	Recorder int    `form:"recorder" json:"at_once_recorder"`                     // devices of a recorder
	Encrypt  bool   `form:"encrypt" json:"encrypted,omitempty"`                   // streams are to be
}

func setWishes(ctx context.Context, c *act.Call, x Wishes) (act.Kept, error) {
	source := strings.TrimSpace(x.Source)
	switch source {
	case "named":
		a, err := netplan.ParseAddress(x.Server)
		if err != nil {
			return act.Kept{}, act.Wrong("server", err.Error())
		}
		source = a.String()
	case "recorder", clock.DHCP:
	default:
		return act.Kept{}, act.Wrong("source", "Pick where clocks take their time from.")
	}
	if !slices.Contains(every, x.Every) {
		return act.Kept{}, act.Wrong("every", "Pick how often to look.")
	}
	if x.Network < 1 || x.Network > store.MostNetwork || x.Recorder < 1 || x.Recorder > store.MostRecorder {
		return act.Kept{}, act.Wrongf("network", "Say how many devices are worked on at once: 1 to %d of a network, 1 to %d of a recorder.", store.MostNetwork, store.MostRecorder)
	}
	return act.Kept{Says: "Kept; everything is judged by it.", Did: "set the site's wishes", All: true,
			Detail: fmt.Sprintf("look every %d min, time from %s, at once %d of a network and %d of a recorder, streams encrypted: %t", x.Every, source, x.Network, x.Recorder, x.Encrypt)},
		c.Store.SetWishes(ctx, c.Site.ID, store.Wishes{LookEvery: x.Every, TimeSource: source, AtOnce: store.Limits{Network: x.Network, Recorder: x.Recorder}, Encrypt: x.Encrypt})
}

// Least is a least firmware that is asked for.
type Least struct {
	Make  string `form:"make" json:"make"`
	Model string `form:"model" json:"model,omitempty"` // empty: all models of the make
	Least string `form:"least" json:"least"`           // empty: none is asked for
}

func setLeast(ctx context.Context, c *act.Call, x Least) (act.Kept, error) {
	l := identity.Least{Make: strings.TrimSpace(x.Make), Model: strings.TrimSpace(x.Model), Least: strings.TrimSpace(x.Least)}
	if l.Make == "" || len(l.Make) > 64 || len(l.Model) > 64 || len(l.Least) > 64 {
		return act.Kept{}, act.Wrong("make", "A least firmware is of a make, and of a model where it isn't for all of them.")
	}
	return act.Kept{Says: "Kept; everything is judged by it.", Did: "set the least firmware", Detail: strings.TrimSpace(l.Make+" "+l.Model) + ": " + l.Least, All: true},
		c.Store.SetLeast(ctx, c.Site.ID, l)
}

// Site is what a site is called, and where its clocks are.
type Site struct {
	Name string `form:"name" json:"name"`
	Zone string `form:"zone" json:"zone"` // of clock.ZoneNames
}

// SiteOf reads a site's name and zone; the error is a sentence for the person.
func SiteOf(x Site, now time.Time) (store.Site, error) {
	v := store.Site{Name: strings.TrimSpace(x.Name), Zone: strings.TrimSpace(x.Zone)}
	if err := named("name", v.Name, "A site"); err != nil {
		return v, err
	}
	loc, err := time.LoadLocation(v.Zone)
	if err != nil || !clock.IsZoneName(v.Zone) {
		return v, act.Wrong("zone", "Pick the site's time zone from the list.")
	}
	v.ZonePosix, _ = clock.PosixOf(loc, now)
	return v, nil
}

func setSite(ctx context.Context, c *act.Call, x Site) (act.Kept, error) {
	v, err := SiteOf(x, c.Now)
	if err != nil {
		return act.Kept{}, err
	}
	v.ID = c.Site.ID
	if err = c.Store.SetSite(ctx, c.Person, v); errors.Is(err, store.ErrNameTaken) {
		err = trouble.UserErrorf("Another of your sites is called %q: nothing was changed.", v.Name)
	}
	return act.Kept{Says: "Kept: " + v.Name + ", " + v.Zone + ".", Did: "changed the site", All: c.Site.ZonePosix != v.ZonePosix, // clocks are held against it
		Detail: fmt.Sprintf("%s, %s → %s, %s", c.Site.Name, c.Site.Zone, v.Name, v.Zone)}, err
}
