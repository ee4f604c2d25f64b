package web

import (
	"fmt"
	"net/http"
	"net/netip"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/labstack/echo/v5"

	"duskyharbor/internal/core/access"
	"duskyharbor/internal/core/finding"
	"duskyharbor/internal/core/identity"
	"duskyharbor/internal/core/netplan"
	"duskyharbor/internal/core/route"
	"duskyharbor/internal/core/stage"
	"duskyharbor/internal/store"
	"duskyharbor/internal/work"
)

// back sends the person to the page they came from, with a sentence to show.
func (s *Server) back(c *echo.Context, sentence string) error {
	s.sessions.Put(c.Request().Context(), "flash", sentence)
	to := c.FormValue("back")
	if !strings.HasPrefix(to, "/sites/") || strings.ContainsAny(to, "\\\r\n") || strings.HasPrefix(to, "//") {
		to = fmt.Sprintf("/sites/%d/board", whoIs(c).member.ID)
	}
	return c.Redirect(http.StatusSeeOther, to)
}

// picked lists the devices a form names, or all that the stage can act on.
func picked(c *echo.Context, all []store.Device) ([]store.Device, error) {
	form, err := c.FormValues()
	if err != nil {
		return nil, echo.NewHTTPError(http.StatusBadRequest, "The form can't be read.")
	}
	names := form["pick"]
	if len(names) == 0 {
		return all, nil
	}
	return slices.DeleteFunc(slices.Clone(all), func(d store.Device) bool { return !slices.Contains(names, strconv.FormatInt(d.ID, 10)) }), nil
}

func stageOf(c *echo.Context) (stage.Stage, error) {
	st, ok := stage.Parse(c.Param("stage"))
	if !ok || !st.Built() {
		return 0, store.ErrNotFound
	}
	return st, nil
}

// readable lists what a stage can read now: cameras whose way there is free.
func readable(v *work.View, st stage.Stage) []store.Device {
	var out []store.Device
	for _, d := range v.Cameras() {
		seen, ok := v.Seen(d.ID)
		_, open := v.Account(d.ID)
		switch st {
		case stage.SignIn, stage.Clock:
			ok = ok && seen.Service != ""
		case stage.Streams, stage.Routes:
			ok = ok && open
		case stage.Channels:
			ok = false // one reading of a recorder serves all its cameras
		}
		if ok {
			out = append(out, d)
		}
	}
	if st == stage.SignIn || st == stage.Clock || st == stage.Channels {
		for _, r := range v.Recorders() {
			if seen, ok := v.Seen(r.ID); ok && seen.Heard(identity.SaidHello) {
				out = append(out, r)
			}
		}
	}
	return out
}

func plural(n int, one string) string {
	if n == 1 {
		return "1 " + one
	}
	return fmt.Sprintf("%d %ss", n, one)
}

func (s *Server) read(c *echo.Context) error {
	ctx, me := c.Request().Context(), whoIs(c)
	st, err := stageOf(c)
	if err != nil {
		return err
	}
	n := store.NewRun{Site: me.member.ID, Stage: st, Act: store.Read, Person: me.person.ID}
	if st == stage.Find {
		networks, err := s.store.Networks(ctx, me.member.ID)
		if err != nil {
			return err
		}
		for _, w := range networks {
			n.Networks = append(n.Networks, w.ID)
		}
		n.Title = "Look at " + plural(len(networks), "network")
	} else {
		v, err := work.Look(ctx, s.store, me.member.ID, nil)
		if err != nil {
			return err
		}
		devices, err := picked(c, readable(v, st))
		if err != nil {
			return err
		}
		for _, d := range devices {
			n.Devices = append(n.Devices, d.ID)
		}
		n.Title = fmt.Sprintf("Read %s of %s", st, plural(len(devices), "device"))
	}
	if _, err := s.office.Begin(ctx, n, false); err != nil {
		return s.told(c, err)
	}
	return s.back(c, "")
}

// told shows an error that is a sentence for the person, and passes others on.
func (s *Server) told(c *echo.Context, err error) error {
	if work.IsTold(err) {
		return s.back(c, err.Error())
	}
	return err
}

func (s *Server) apply(c *echo.Context) error {
	ctx, me := c.Request().Context(), whoIs(c)
	st, err := stageOf(c)
	if err != nil {
		return err
	}
	v, err := work.Look(ctx, s.store, me.member.ID, nil)
	if err != nil {
		return err
	}
	devices, err := picked(c, v.Cameras())
	if err != nil {
		return err
	}
	var picks []work.Pick
	count := 0
	for _, d := range devices {
		p := v.Proposals(time.Now(), d, st)
		if len(p) > 0 {
			picks = append(picks, work.Pick{Device: d, Changes: p})
			count += len(p)
		}
	}
	// Several sources placed at once must not all take the same free channel.
	if st == stage.Channels {
		picks = spread(v, picks)
	}
	title := fmt.Sprintf("%s: %s on %s", st, plural(count, "change"), plural(len(picks), "camera"))
	if _, err := s.office.Apply(ctx, me.member.ID, st, title, me.person.ID, picks); err != nil {
		return s.told(c, err)
	}
	if err := s.store.Audit(ctx, me.member.ID, me.person.ID, "asked for changes", title); err != nil {
		return err
	}
	return s.back(c, "")
}

// spread asks the rules again for each source with the ones before it placed.
func spread(v *work.View, picks []work.Pick) []work.Pick {
	var out []work.Pick
	for _, p := range picks {
		if c := v.PlaceAfter(time.Now(), p.Device, out); len(c) > 0 {
			out = append(out, work.Pick{Device: p.Device, Changes: c})
		}
	}
	return out
}

func (s *Server) camera(c *echo.Context, v *work.View) (store.Device, error) {
	id, err := strconv.ParseInt(c.FormValue("device"), 10, 64)
	if err != nil {
		return store.Device{}, store.ErrNotFound
	}
	d, ok := v.Device(id)
	if !ok || d.Kind != identity.Camera {
		return store.Device{}, store.ErrNotFound
	}
	return d, nil
}

func (s *Server) peg(c *echo.Context) error {
	ctx, me := c.Request().Context(), whoIs(c)
	v, err := work.Look(ctx, s.store, me.member.ID, nil)
	if err != nil {
		return err
	}
	d, err := s.camera(c, v)
	if err != nil {
		return err
	}
	f := v.Routes(d)
	topic, input := c.FormValue("topic"), c.FormValue("input")
	if f.Channel == 0 || !slices.Contains(f.Inputs, input) || !knows(f, topic) {
		return s.back(c, "That topic or input isn't there any more: read the routes again.")
	}
	on := !slices.Contains(f.Pegs, route.Peg{Topic: topic, Input: input})
	ch := route.Change(f, topic, input, "A person pegged it.", on)
	if _, err := s.office.Apply(ctx, me.member.ID, stage.Routes, d.Place+": "+ch.Title, me.person.ID, []work.Pick{{Device: d, Changes: []finding.Change{ch}}}); err != nil {
		return s.told(c, err)
	}
	return s.back(c, "")
}

func knows(f route.Facts, topic string) bool {
	for _, t := range f.Topics {
		if t.Topic == topic {
			return true
		}
	}
	return slices.ContainsFunc(f.Pegs, func(p route.Peg) bool { return p.Topic == topic })
}

func (s *Server) walk(c *echo.Context) error {
	ctx, me := c.Request().Context(), whoIs(c)
	v, err := work.Look(ctx, s.store, me.member.ID, nil)
	if err != nil {
		return err
	}
	d, err := s.camera(c, v)
	if err != nil {
		return err
	}
	tell := c.FormValue("tell") == "1"
	if tell && !me.member.Demo {
		return s.back(c, "Only a demo site's stand-ins can be told to walk.")
	}
	n := store.NewRun{Site: me.member.ID, Stage: stage.Prove, Act: store.Prove, Title: "Walk test at " + d.Place, Person: me.person.ID, Devices: []int64{d.ID}}
	if _, err := s.office.Begin(ctx, n, tell); err != nil {
		return s.told(c, err)
	}
	return s.back(c, "")
}

func (s *Server) stopRun(c *echo.Context) error {
	ctx, me := c.Request().Context(), whoIs(c)
	id, err := strconv.ParseInt(c.Param("run"), 10, 64)
	if err != nil {
		return store.ErrNotFound
	}
	if err := s.store.StopRun(ctx, me.member.ID, id); err != nil {
		return err
	}
	if err := s.store.Audit(ctx, me.member.ID, me.person.ID, "stopped a run", fmt.Sprintf("run %d", id)); err != nil {
		return err
	}
	return s.back(c, "The run stops: what is under way ends, nothing more begins.")
}

func (s *Server) addSet(c *echo.Context) error {
	ctx, me := c.Request().Context(), whoIs(c)
	v := access.Set{Name: strings.TrimSpace(c.FormValue("name")), Username: strings.TrimSpace(c.FormValue("username")), Make: strings.TrimSpace(c.FormValue("make")), Factory: c.FormValue("factory") == "1"}
	password := c.FormValue("password")
	if v.Name == "" || v.Username == "" || password == "" || len(v.Name) > 64 || len(v.Username) > 64 || len(password) > 128 || len(v.Make) > 64 {
		return s.back(c, "A credential set has a name, a user name and a password, each at most 64 characters (the password 128).")
	}
	sets, err := s.store.Sets(ctx, me.member.ID)
	if err != nil {
		return err
	}
	if slices.ContainsFunc(sets, func(o store.SealedSet) bool { return o.Name == v.Name }) {
		return s.back(c, fmt.Sprintf("A set called %q is there already: give it another name.", v.Name))
	}
	if _, err := s.store.AddSet(ctx, me.member.ID, v, func(place string) ([]byte, error) { return s.vault.Seal(password, place) }); err != nil {
		return err
	}
	if err := s.store.Audit(ctx, me.member.ID, me.person.ID, "added a credential set", v.Name); err != nil {
		return err
	}
	return s.back(c, fmt.Sprintf("%s was added; its password is sealed.", v.Name))
}

func (s *Server) addNetwork(c *echo.Context) error {
	ctx, me := c.Request().Context(), whoIs(c)
	name := strings.TrimSpace(c.FormValue("name"))
	p, err := netplan.ParsePrefix(c.FormValue("prefix"))
	if err != nil || name == "" || len(name) > 64 {
		return s.back(c, "A network has a name and an IPv4 prefix of at most 4,096 addresses, as 192.0.2.0/24.")
	}
	networks, err := s.store.Networks(ctx, me.member.ID)
	if err != nil {
		return err
	}
	if slices.ContainsFunc(networks, func(n store.Network) bool { return n.Prefix == p }) {
		return s.back(c, p.String()+" is there already.")
	}
	if len(networks) >= 16 {
		return s.back(c, "A site has at most 16 networks in this version.")
	}
	if err := s.store.AddNetwork(ctx, me.member.ID, name, p); err != nil {
		return err
	}
	if err := s.store.Audit(ctx, me.member.ID, me.person.ID, "added a network", name+" "+p.String()); err != nil {
		return err
	}
	return s.back(c, name+" was added: look at it on Find.")
}

// cameraStill passes a camera's still on, decoded and checked on the way.
func (s *Server) cameraStill(c *echo.Context) error {
	return s.still(c, func(d store.Device) ([]byte, error) { return s.office.Still(c.Request().Context(), d) })
}

func (s *Server) channelStill(c *echo.Context) error {
	number, err := strconv.Atoi(c.Param("number"))
	if err != nil {
		return store.ErrNotFound
	}
	return s.still(c, func(d store.Device) ([]byte, error) { return s.office.ChannelStill(c.Request().Context(), d, number) })
}

func (s *Server) still(c *echo.Context, get func(store.Device) ([]byte, error)) error {
	id, err := strconv.ParseInt(c.Param("device"), 10, 64)
	if err != nil {
		return store.ErrNotFound
	}
	d, err := s.store.Device(c.Request().Context(), id)
	if err != nil {
		return err
	}
	if d.SiteID != whoIs(c).member.ID {
		return store.ErrNotFound
	}
	data, err := get(d)
	if err != nil {
		s.opt.Log.Info("no still", "device", d.ID, "err", err)
		return c.NoContent(http.StatusNotFound)
	}
	c.Response().Header().Set("Cache-Control", "no-store")
	return c.Blob(http.StatusOK, "image/jpeg", data)
}

// withQuery is a page's address with one query value changed.
func withQuery(u *url.URL, key, value string) string {
	q := u.Query()
	if value == "" {
		q.Del(key)
	} else {
		q.Set(key, value)
	}
	if len(q) == 0 {
		return u.Path
	}
	return u.Path + "?" + q.Encode()
}

func addrText(a *netip.Addr) string {
	if a == nil {
		return ""
	}
	return a.String()
}
