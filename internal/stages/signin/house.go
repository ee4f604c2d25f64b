package signin

import (
	"context"
	"fmt"
	"strconv"
	"strings"
	"time"

	"duskyharbor/internal/act"
	"duskyharbor/internal/core/access"
	"duskyharbor/internal/core/stage"
	"duskyharbor/internal/core/trouble"
	"duskyharbor/internal/engine"
	"duskyharbor/internal/facts"
	"duskyharbor/internal/site"
	"duskyharbor/internal/store"
)

// House is cameras that are to open by the site's own account.
type House struct {
	act.Selection
	Set  int64 `form:"set" json:"set_id"`
	Take bool  `form:"take" json:"take_old_away,omitempty"` // the account that opens them now goes, once that works
}

func planHouse(now time.Time, s *act.Seen, x House) (p act.Planned, err error) {
	set, ok := s.Sets[x.Set]
	if !ok || set.Device != 0 || s.RecorderSets()[x.Set] {
		return p, act.Wrong("set", "Choose a credential set of the site.")
	}
	for _, of := range s.Of {
		f, w := facts.ForAccess(s.Snapshot, now, of.Device)
		out, why := access.House(f, w, set, dependants(s.Snapshot, of.Device), x.Take)
		switch {
		case why != "":
			p.Refuse(of.Place, why)
		case len(out.Changes) == 0:
			p.Idle++
		default:
			p.Of = append(p.Of, act.Changes{Source: of, All: out.Changes, Ordered: true})
		}
		if out.Stays != "" {
			p.Refuse(of.Place, out.Stays)
		}
	}
	p.Title = fmt.Sprintf("The account of %s on %s", set.Name, act.Count(len(p.Of), "camera"))
	p.Says = fmt.Sprintf("%s opens all of them already.", set.Name)
	return p, nil
}

// accountEditor makes an account by another one, and sees that it opens the device; or takes one away.
func (g *Stage) accountEditor(d store.Device, s *site.Snapshot, c store.Change) engine.Editor {
	x := &accountChange{g: g, d: d, s: s, c: c}
	return engine.EditorFuncs{ReadFunc: x.read, WriteFunc: x.write}
}

type accountChange struct {
	g *Stage
	d store.Device
	s *site.Snapshot
	c store.Change
}

// by signs in with the account that makes this one, or takes it away.
func (x *accountChange) by() (id int64, scheme access.Scheme, err error) {
	opens, ok := facts.Account.Of(x.s, x.d.ID)
	if !ok {
		return 0, "", trouble.UserError("No account opens " + x.d.Place + " any more: sign in first.")
	}
	id, err = strconv.ParseInt(x.c.Args["by"], 10, 64)
	if err != nil {
		return 0, "", fmt.Errorf("signin: change %d names no account that makes it", x.c.ID)
	}
	return id, opens.Scheme, nil
}

func (x *accountChange) read(ctx context.Context) (string, error) {
	by, scheme, err := x.by()
	if err != nil {
		return "", err
	}
	cam, err := x.g.Accounts.OpenWith(ctx, x.d, x.s, by, scheme)
	if err != nil {
		return "", err
	}
	defer cam.Close()
	all, err := cam.Users(ctx)
	if err != nil {
		return "", err
	}
	name := x.c.Args["name"]
	level := ""
	found := false
	for _, u := range all {
		if u.Name == name {
			found, level = true, u.Level
		}
	}
	switch {
	case !found && x.c.Kind == access.MakeAccount:
		return access.NoSuch, x.opens(ctx, by, scheme) // where it was taken away again, the other opens it as before
	case !found:
		return access.NoSuch, nil
	case x.c.Kind == access.TakeAccount:
		return access.AccountText(name, level), nil
	}
	set, err := x.g.namedSet(ctx, x.c)
	if err != nil {
		return "", err
	}
	took, _, err := x.g.tryLevel(ctx, x.d, x.s, set, scheme)
	if err != nil {
		return "", err
	}
	if !took {
		return "an account " + name + " with another password", nil
	}
	return access.AccountText(name, level), x.opens(ctx, set.ID, scheme)
}

// opens keeps what opens the device from now on.
func (x *accountChange) opens(ctx context.Context, id int64, scheme access.Scheme) error {
	set, err := x.g.Store.Set(ctx, id)
	if err != nil {
		return err
	}
	now, _ := facts.Account.Of(x.s, x.d.ID)
	if now.SetID == id {
		return nil
	}
	now.SetID, now.Set, now.Username, now.At = set.ID, set.Name, set.Username, time.Now().UTC()
	return x.g.Store.Write(ctx, store.Writes{Opened: []store.OpenedBy{{Device: x.d.ID, Set: id}},
		Facts: []store.NewFact{facts.Account.New(x.d.ID, string(scheme), now.At, now)}})
}

func (x *accountChange) write(ctx context.Context) error {
	by, scheme, err := x.by()
	if err != nil {
		return err
	}
	cam, err := x.g.Accounts.OpenWith(ctx, x.d, x.s, by, scheme)
	if err != nil {
		return err
	}
	defer cam.Close()
	if x.c.ToText == access.NoSuch {
		return cam.DeleteUser(ctx, x.c.Args["name"])
	}
	set, err := x.g.namedSet(ctx, x.c)
	if err != nil {
		return err
	}
	password, err := x.g.Accounts.Password(set)
	if err != nil {
		return err
	}
	if err := cam.CreateUser(ctx, set.Username, password, x.c.Args["level"]); err != nil {
		return err
	}
	return x.g.Store.Given(ctx, x.d.ID, set.ID, set.Name, scheme)
}

// Typed is an account of one camera, as it is typed.
type Typed struct {
	act.Camera
	Username string `form:"username" json:"username"`
	Password string `form:"password" json:"password"`
}

// Check is what is wrong with it.
func (x Typed) Check() error {
	if name := strings.TrimSpace(x.Username); name == "" || !act.Fits(name, 64) {
		return act.Wrong("username", "A user name has 1 to 64 characters.")
	}
	if x.Password == "" || !act.Fits(x.Password, 128) {
		return act.Wrong("password", "A password has 1 to 128 characters.")
	}
	return nil
}

// keepTyped seals it for the camera alone, and signs in with it and nothing else.
func (g *Stage) keepTyped(ctx context.Context, c *act.Call, x Typed) (act.Kept, error) {
	_, of, err := c.Camera(ctx, x.Source)
	if err != nil {
		return act.Kept{}, err
	}
	user := strings.TrimSpace(x.Username)
	set := access.Set{Name: of.Device.Place + " · typed", Username: user, Make: of.Device.Make, Device: of.Device.ID}
	ids, err := c.Store.AddSets(ctx, c.Site.ID, []access.Set{set}, func(_ int, place string) ([]byte, error) { return g.Accounts.Vault.Seal(x.Password, place) })
	if err != nil {
		return act.Kept{}, err
	}
	ask := engine.Ask{Site: c.Site.ID, Stage: stage.SignIn, Person: c.Person, Token: c.Token}
	target := []int64{of.ID}
	return act.Kept{ID: ids[0], Says: "Kept for " + of.Place + " alone, sealed; it is tried now.", Did: "typed an account for one camera", Detail: of.Place + ", " + user,
		After: func(ctx context.Context) (int64, error) {
			return g.Engine.Read(ctx, ask, store.Selection{Site: c.Site.ID, IDs: target}, false, ids[0])
		}}, nil
}
