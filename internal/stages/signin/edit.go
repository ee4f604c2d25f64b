package signin

import (
	"context"
	"errors"
	"fmt"
	"strconv"
	"time"

	"duskyharbor/internal/account"
	"duskyharbor/internal/core/access"
	"duskyharbor/internal/core/channel"
	"duskyharbor/internal/core/finding"
	"duskyharbor/internal/core/stage"
	"duskyharbor/internal/core/trouble"
	"duskyharbor/internal/device/dial"
	"duskyharbor/internal/device/recorder"
	"duskyharbor/internal/engine"
	"duskyharbor/internal/facts"
	"duskyharbor/internal/recorders"
	"duskyharbor/internal/site"
	"duskyharbor/internal/stages"
	"duskyharbor/internal/store"
)

// Editor reads and writes a camera's accounts, the channels that hold them, and whether
// the device is as it left the box.
func (g *Stage) Editor(ctx context.Context, v *engine.Visit, c store.Change) (engine.Editor, error) {
	s, err := v.Snapshot(ctx)
	if err != nil {
		return nil, err
	}
	switch c.Kind {
	case access.SetFirst:
		return g.firstEditor(v.Device, s, c), nil
	case access.CreateAccount:
		return g.createEditor(v.Device, s, c), nil
	case access.Change:
		return g.passwordEditor(v.Device, s, c), nil
	case access.MakeAccount, access.TakeAccount:
		return g.accountEditor(v.Device, s, c), nil
	case access.Reset, access.Restart:
		return g.restartEditor(v.Device, s, c), nil
	case access.Pause, access.Resume, access.Hold, channel.Resume:
		return g.channelEditor(ctx, s, c)
	}
	return nil, engine.ErrKind
}

// firstEditor sets a first password. The set is there, sealed, before it is sent: no
// device is left with a password that nobody holds.
func (g *Stage) firstEditor(d store.Device, s *site.Snapshot, c store.Change) engine.Editor {
	name := c.Args["name"]
	rule := access.Rule{}
	if r, ok := facts.PasswordRule.Of(s, d.ID); ok {
		rule = r
	}
	return engine.EditorFuncs{
		ReadFunc: func(ctx context.Context) (string, error) {
			cam, err := g.Accounts.Plain(d, s)
			if err != nil {
				return "", err
			}
			defer cam.Close()
			schemes, err := cam.Schemes(ctx)
			if err != nil {
				return "", err
			}
			if len(schemes) == 0 {
				return access.NoPassword, nil
			}
			set, err := g.Accounts.OwnSet(ctx, d, name, rule)
			if err != nil {
				return "", err
			}
			took, level, err := g.tryLevel(ctx, d, s, set, schemes[0])
			if !took {
				return "another password than the one that was sealed here", err
			}
			return access.AccountText(name, level), err
		},
		WriteFunc: func(ctx context.Context) error {
			if err := account.Doubted(d, s); err != nil {
				return err
			}
			set, err := g.Accounts.OwnSet(ctx, d, name, rule)
			if err != nil {
				return err
			}
			password, err := g.Accounts.Password(set)
			if err != nil {
				return err
			}
			cam, err := g.Accounts.Plain(d, s)
			if err != nil {
				return err
			}
			defer cam.Close()
			if err := cam.CreateUser(ctx, name, password, access.Administrator); err != nil {
				return err
			}
			return g.Store.Given(ctx, d.ID, set.ID, set.Name, access.Digest)
		},
	}
}

// tryLevel tries a set over ONVIF within the budget: whether it is taken, and the level that it has, as the device tells
// it; empty where it doesn't.
func (g *Stage) tryLevel(ctx context.Context, d store.Device, s *site.Snapshot, set store.SealedSet, scheme access.Scheme) (took bool, level string, err error) {
	cam, err := g.Accounts.OpenWith(ctx, d, s, set.ID, scheme)
	if err != nil {
		return false, "", err
	}
	defer cam.Close()
	if _, err = cam.Information(ctx); errors.Is(err, dial.ErrNotAuthorised) {
		return false, "", nil
	}
	if err != nil {
		return false, "", err
	}
	level, err = cam.Level(ctx, set.Username)
	if errors.Is(err, dial.ErrNotAuthorised) {
		return true, access.NoAdministrator, nil
	}
	return err == nil, level, err
}

// createEditor makes an ONVIF account with the account that opens the web page. Before it
// is sent, what sign-in read a moment ago counts: asking again would cost a wrong try.
func (g *Stage) createEditor(d store.Device, s *site.Snapshot, c store.Change) engine.Editor {
	return engine.EditorFuncs{
		ReadFunc: func(ctx context.Context) (string, error) {
			if c.State == store.Asked && c.Writes == 0 {
				if f, _ := facts.ForAccess(s, time.Now(), d); f.Web != nil && f.Account == nil {
					c.Writes = 1 // from here on it is read over the wire
					return access.NoAccount, nil
				}
			}
			set, err := g.namedSet(ctx, c)
			if err != nil {
				return "", err
			}
			took, level, err := g.tryLevel(ctx, d, s, set, access.Digest)
			if !took {
				return access.NoAccount, err
			}
			if asked := c.Args["level"]; level == access.NoAdministrator && asked != access.Administrator {
				level = asked // which of the lesser levels it is, an account like that may not read
			}
			return access.AccountText(set.Username, level), err
		},
		WriteFunc: func(ctx context.Context) error {
			set, err := g.namedSet(ctx, c)
			if err != nil {
				return err
			}
			password, err := g.Accounts.Password(set)
			if err != nil {
				return err
			}
			cam, err := g.Accounts.OpenWith(ctx, d, s, set.ID, access.Digest)
			if err != nil {
				return err
			}
			defer cam.Close()
			if err := cam.CreateUser(ctx, set.Username, password, c.Args["level"]); err != nil {
				return err
			}
			return g.Store.Given(ctx, d.ID, set.ID, set.Name, access.Digest)
		},
	}
}

func (g *Stage) namedSet(ctx context.Context, c store.Change) (store.SealedSet, error) {
	id, err := strconv.ParseInt(c.Args["set"], 10, 64)
	if err != nil {
		return store.SealedSet{}, fmt.Errorf("signin: change %d names no set", c.ID)
	}
	set, err := g.Store.Set(ctx, id)
	if errors.Is(err, store.ErrNotFound) {
		return set, trouble.UserError("That credential set is gone.")
	}
	return set, err
}

// passwordEditor gives a camera the password of another set. Which one it has is read by
// signing in, the likelier first; each is a try within the budget.
func (g *Stage) passwordEditor(d store.Device, s *site.Snapshot, c store.Change) engine.Editor {
	opens, _ := facts.Account.Of(s, d.ID)
	oldID, _ := strconv.ParseInt(c.Args["old_set"], 10, 64)
	newID, _ := strconv.ParseInt(c.Args["set"], 10, 64)
	sent := c.State == store.Sent || c.Writes > 0
	opened := func(ctx context.Context, id int64) error { // what opens it now is known at once
		set, err := g.Store.Set(ctx, id)
		if err != nil {
			return err
		}
		opens.SetID, opens.Set, opens.Username, opens.At = set.ID, set.Name, set.Username, time.Now().UTC()
		return g.Store.Write(ctx, store.Writes{Opened: []store.OpenedBy{{Device: d.ID, Set: id}},
			Facts: []store.NewFact{facts.Account.New(d.ID, string(opens.Scheme), opens.At, opens)}})
	}
	return engine.EditorFuncs{
		ReadFunc: func(ctx context.Context) (string, error) {
			first, second, firstText, secondText := oldID, newID, c.FromText, c.ToText
			if sent {
				first, second, firstText, secondText = newID, oldID, c.ToText, c.FromText
			}
			for i, id := range []int64{first, second} {
				set, err := g.Store.Set(ctx, id)
				if err != nil {
					return "", err
				}
				took, _, err := g.tryLevel(ctx, d, s, set, opens.Scheme)
				if err != nil {
					return "", err
				}
				if took {
					return []string{firstText, secondText}[i], opened(ctx, id)
				}
			}
			return "neither the old password nor the new one", nil
		},
		WriteFunc: func(ctx context.Context) error {
			cam, err := g.Accounts.OpenWith(ctx, d, s, oldID, opens.Scheme)
			if err != nil {
				return err
			}
			defer cam.Close()
			set, err := g.Store.Set(ctx, newID)
			if err != nil {
				return err
			}
			password, err := g.Accounts.Password(set)
			if err != nil {
				return err
			}
			level, err := access.Kept(opens.Level, opens.Username)
			if err != nil { // it wasn't told at the last reading
				told, lerr := cam.Level(ctx, opens.Username)
				if lerr != nil && !errors.Is(lerr, dial.ErrNotAuthorised) {
					return lerr
				}
				if level, err = access.Kept(told, opens.Username); err != nil {
					return err
				}
			}
			sent = true
			if err := cam.SetUser(ctx, set.Username, password, level); err != nil {
				return err
			}
			return g.Store.Given(ctx, d.ID, set.ID, set.Name, opens.Scheme)
		},
	}
}

// channelEditor pauses or resumes a recorder's channel, or gives it the account of a set.
func (g *Stage) channelEditor(ctx context.Context, s *site.Snapshot, c store.Change) (engine.Editor, error) {
	rec, err := g.Recorders.Named(ctx, s, c.Args["recorder"])
	if err != nil {
		return nil, err
	}
	number, err := strconv.Atoi(c.Args["channel"])
	if err != nil {
		rec.Close()
		return nil, fmt.Errorf("signin: change %d names no channel", c.ID)
	}
	wrote := c.Writes > 0
	return engine.EditorFuncs{
		ReadFunc: func(ctx context.Context) (string, error) {
			slot, taken, err := recorders.Slot(ctx, rec, number)
			switch {
			case err != nil:
				return "", err
			case !taken:
				return channel.Empty, nil
			case c.Kind == access.Hold:
				return access.LabelText(slot.Label), nil
			case slot.Paused:
				return access.Paused, nil
			case c.ToText == access.Receive && slot.State == channel.Receiving, c.FromText == access.Receive:
				return access.Receive, nil
			}
			// It was let sign in, by this server or by one that died then, and is about to.
			if c.ToText == access.Receive && wrote && channel.MayComeYet(slot, stages.Sent(c)) {
				return "", engine.PendingError{Says: fmt.Sprintf("channel %d signs in again", number)}
			}
			return access.Signing, nil
		},
		WriteFunc: func(ctx context.Context) error {
			wrote = true
			if c.Kind == access.Hold {
				return g.giveAccount(ctx, rec, number, c)
			}
			return rec.Pause(ctx, number, c.ToText == access.Paused)
		},
		Shut: rec.Close,
	}, nil
}

// giveAccount gives a channel the account of a set.
func (g *Stage) giveAccount(ctx context.Context, rec recorder.Driver, number int, c store.Change) error {
	set, err := g.namedSet(ctx, c)
	if err != nil {
		return err
	}
	password, err := g.Accounts.Password(set)
	if err != nil {
		return err
	}
	label := c.ToText
	if label == access.LabelText("") {
		label = ""
	}
	return rec.SetAccount(ctx, number, set.Username, password, label)
}

// restart is a device that is started again, or put back as it left the box.
type restart struct {
	g     *Stage
	d     store.Device
	s     *site.Snapshot
	c     store.Change
	wrote bool // it was told to by this editor
	gone  bool // and was seen to be away since
}

// awayText is what a device reads that was seen to be away since it was told to start again.
const awayText = "away"

func (g *Stage) restartEditor(d store.Device, s *site.Snapshot, c store.Change) engine.Editor {
	r := &restart{g: g, d: d, s: s, c: c, gone: c.Writes > 0 && c.Reads == awayText}
	return engine.EditorFuncs{ReadFunc: r.read, WriteFunc: r.write}
}

// read says whether the device is set up. Once it was told to start again it is waited for
// until it was away and is there again.
func (r *restart) read(ctx context.Context) (string, error) {
	schemes, err := r.schemes(ctx)
	stands := finding.Await(r.wrote || r.c.Writes > 0, errors.Is(err, dial.ErrUnreachable), stages.Sent(r.c), r.g.Away)
	switch {
	case err != nil && stands == finding.Underway:
		return "", engine.PendingError{Reads: awayText, Says: "it starts again"}
	case err != nil:
		return "", err
	case r.c.Kind == access.Reset && len(schemes) == 0:
		return access.AsNew, nil
	case r.c.Kind == access.Restart && r.gone:
		return access.Restarted, nil
	case stands == finding.Lingers && !r.gone:
		return "", engine.PendingError{Says: "it hasn't gone away yet to start again"}
	case r.c.Kind == access.Restart && stands != finding.Untold:
		return "", engine.UnknownError{Err: trouble.UserErrorf("It took the order and wasn't seen to start again within %v.", finding.LingersFor)}
	}
	return access.SetUp, nil
}

// schemes asks the device without signing in how one signs in to it.
func (r *restart) schemes(ctx context.Context) ([]access.Scheme, error) {
	cam, err := r.g.Accounts.Plain(r.d, r.s)
	if err != nil {
		return nil, err
	}
	defer cam.Close()
	return cam.Schemes(ctx)
}

func (r *restart) write(ctx context.Context) error {
	cam, err := r.g.Accounts.Open(ctx, r.d, r.s, r.g.ID().String())
	if err != nil {
		return err
	}
	defer cam.Close()
	if r.c.Kind == access.Reset {
		err = cam.Reset(ctx, false)
	} else {
		err = cam.Reboot(ctx)
	}
	if err != nil {
		return err
	}
	r.wrote, r.c.SentAt = true, nil // it is told now, whenever it was before
	return r.watch(ctx)
}

// watch looks whether the device goes away, and is there again, for a moment: it may be
// quick at both.
func (r *restart) watch(ctx context.Context) error {
	for end := time.Now().Add(stages.Within); time.Now().Before(end); {
		ask, cancel := context.WithTimeout(ctx, time.Second)
		_, err := r.schemes(ask)
		cancel()
		if err == nil && r.gone {
			return nil
		}
		r.gone = r.gone || errors.Is(err, dial.ErrUnreachable)
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(100 * time.Millisecond):
		}
	}
	return nil
}

// Rotate gives each of these cameras a new password of its own at once, as Rotations words
// it: for who was shown that.
func (g *Stage) Rotate(ctx context.Context, q engine.Ask, devices []int64) (run int64, left int, err error) {
	picks, left, err := g.Rotations(ctx, q.Site, devices)
	if err != nil {
		return 0, left, err
	}
	q.Stage = stage.SignIn
	run, err = g.Engine.Apply(ctx, q, picks)
	return run, left, err
}

// Rotations are the changes that give each of these cameras a new password of its own: made by
// its rule and sealed here first, then changed on the camera and on every recorder that holds
// it. One that was made before and never sent is taken again. Cameras that no account opens are
// left out and counted.
func (g *Stage) Rotations(ctx context.Context, siteID int64, devices []int64) (picks []engine.Pick, left int, err error) {
	s, err := site.Load(ctx, g.Store, siteID, devices)
	if err != nil {
		return nil, 0, err
	}
	unsent, err := g.Store.UnsentSets(ctx, siteID, devices)
	if err != nil {
		return nil, 0, err
	}
	type rotation struct {
		d    store.Device
		from access.Set
		to   int64 // the set with the new password
	}
	var all []rotation
	var fresh []account.NewSet
	for _, d := range s.Cameras() {
		f, _ := facts.ForAccess(s, time.Now(), d)
		if f.Account == nil || f.Account.Scheme == access.RTSP {
			left++
			continue
		}
		r := rotation{d: d, from: access.Set{ID: f.Account.SetID, Name: f.Account.Set, Username: f.Account.Username}}
		for _, x := range unsent {
			if x.Device == d.ID && x.Username == f.Account.Username {
				r.to = x.ID
			}
		}
		if r.to == 0 {
			n := account.NewSet{Device: d, Username: f.Account.Username}
			if f.Rule != nil {
				n.Rule = *f.Rule
			}
			fresh = append(fresh, n)
		}
		all = append(all, r)
	}
	if len(all) == 0 {
		return nil, left, trouble.UserError("No account opens any of them: sign in first.")
	}
	ids, err := g.Accounts.MakeSets(ctx, siteID, fresh)
	if err != nil {
		return nil, left, err
	}
	for _, r := range all {
		if r.to == 0 {
			r.to, ids = ids[0], ids[1:]
		}
		to := access.Set{ID: r.to, Name: r.d.Place + " · own " + fmt.Sprint(r.to), Username: r.from.Username, Device: r.d.ID}
		picks = append(picks, engine.Pick{Source: s.Of(r.d), Changes: access.Rotate(r.from, to, dependants(s, r.d)), Ordered: true})
	}
	return picks, left, nil
}
