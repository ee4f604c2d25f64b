package analytics

import (
	"context"
	"fmt"
	"slices"
	"strconv"
	"time"

	"duskyharbor/internal/act"
	"duskyharbor/internal/core/fact"
	"duskyharbor/internal/core/known"
	"duskyharbor/internal/core/pairing"
	"duskyharbor/internal/core/scene"
	"duskyharbor/internal/core/trouble"
	"duskyharbor/internal/device/analyser"
	"duskyharbor/internal/engine"
	"duskyharbor/internal/facts"
	"duskyharbor/internal/site"
	"duskyharbor/internal/store"
)

// KnownAt asks that an analyser hold a set as it is here.
type KnownAt struct {
	Set      int64 `form:"set" json:"set_id"`
	Analyser int64 `form:"analyser" json:"analyser_id"`
	Off      bool  `form:"off" json:"off,omitempty"` // hold it no more
	of       known.Set
}

// readKnown reads the set.
func (a *Stage) readKnown(ctx context.Context, c *act.Call, x *KnownAt) (err error) {
	_, x.of, err = setOf(ctx, c, x.Set)
	return err
}

func planKnownAt(now time.Time, s *act.Seen, x KnownAt) (p act.Planned, err error) {
	d, ok := s.Device(x.Analyser)
	told, read := facts.Analyser.Of(s.Snapshot, x.Analyser)
	switch {
	case !ok:
		return p, act.Wrong("analyser", "Pick an analyser of this site.")
	case !read:
		return p, act.Wrong("analyser", d.Place+" wasn't read yet: read the analysers on Analytics first.")
	case !x.Off && !slices.Contains(told.Knows, x.of.Kind):
		return p, act.Wrong("analyser", d.Place+" takes no references of "+x.of.Kind.Plural()+".")
	}
	held, _ := facts.Known.Of(s.Snapshot, d.ID)
	all := x.of.Give(held, d.Place, known.Day(now, s.Site.Location()))
	if x.Off {
		all = x.of.Take(held, d.Place)
	}
	p.Add(d.Whole(), all)
	for i := range p.Of {
		p.Of[i].Ordered = true
	}
	p.Title = d.Place + " holds " + x.of.Name
	if x.Off {
		p.Title += " no more"
	}
	if len(all) == 0 {
		p.Says = "Nothing is changed: " + d.Place + " holds " + x.of.Name + " as it is here."
		if x.Off {
			p.Says = d.Place + " doesn't hold " + x.of.Name + "."
		}
	}
	return p, nil
}

// heldBy reads of whom an analyser holds references, where it takes any: of this site's sets alone, what others have it hold is theirs.
func (a *Stage) heldBy(ctx context.Context, c *analyser.Client, d store.Device, told pairing.Analyser) ([]store.NewFact, error) {
	if len(told.Knows) == 0 {
		return nil, nil
	}
	ours, err := a.Store.KnownSets(ctx, d.SiteID)
	if err != nil {
		return nil, err
	}
	all, err := c.Known(ctx)
	if err != nil {
		return nil, err
	}
	of, err := a.Store.Site(ctx, d.SiteID)
	if err != nil {
		return nil, err
	}
	var was known.Held
	if facts, err := a.Store.FactsOf(ctx, []int64{d.ID}); err != nil {
		return nil, err
	} else if _, err := facts[d.ID].Into(fact.Known, &was); err != nil {
		return nil, err
	}
	held := known.Held{At: all.At}
	for _, s := range ours {
		h, there := all.Set(s.Key)
		if !there {
			continue
		}
		h.Name, h.Differs = s.Name, len(s.Give(all, d.Place, known.Day(all.At, of.Location())))
		if had, there := was.Set(s.Key); there && had.Same(h) {
			h.Likeness = had.Likeness
		} else if h.Likeness, err = c.Likeness(ctx, s.Key); err != nil {
			return nil, err
		}
		held.Sets = append(held.Sets, h)
	}
	return []store.NewFact{facts.Known.New(d.ID, "GET /api/known", held.At, held)}, nil
}

// forgetGone forgets what was deleted here once no analyser of its site holds it.
func (a *Stage) forgetGone(ctx context.Context, siteID int64) error {
	all, err := a.Store.KnownSets(ctx, siteID)
	if err != nil {
		return err
	}
	s, err := site.Load(ctx, a.Store, siteID, []int64{})
	if err != nil {
		return err
	}
	var at []known.Held
	for _, d := range s.Analysers() {
		held, _ := facts.Known.Of(s, d.ID)
		at = append(at, held)
	}
	gone, held := known.Over(all, at)
	if len(gone) == len(held) {
		return nil
	}
	return a.Store.Unknow(ctx, siteID, gone, held)
}

// knownEditor reads and writes what an analyser holds of a set of references.
func (a *Stage) knownEditor(ctx context.Context, v *engine.Visit, c store.Change) (engine.Editor, error) {
	set, entry := c.Args["set"], int64(0)
	if c.Kind == known.PutEntry {
		n, err := strconv.ParseInt(c.Args["entry"], 10, 64)
		if err != nil {
			return nil, fmt.Errorf("change %d names no entry of a set of references: %w", c.ID, err)
		}
		entry = n
	}
	client, err := a.Accounts.Analyser(ctx, v.Device)
	if err != nil {
		return nil, err
	}
	return engine.EditorFuncs{
		ReadFunc: func(ctx context.Context) (string, error) {
			held, err := client.Known(ctx)
			if c.Kind == known.PutSet {
				return held.Reads(set), err
			}
			return held.ReadsEntry(set, entry), err
		},
		WriteFunc: func(ctx context.Context) error {
			switch {
			case c.ToText == known.None && c.Kind == known.PutSet:
				return client.ForgetSet(ctx, set)
			case c.ToText == known.None:
				return client.Forget(ctx, set, entry)
			}
			return a.give(ctx, client, v.Site, set, entry, c.ToText)
		},
		Shut: client.Close,
	}, nil
}

// errKnownSince is told where a set was changed here since a change was shown.
var errKnownSince = trouble.UserError("It was changed here since this was shown: have the set held again.")

// give sends a set, or an entry of it, as it is here, where that is as text says.
func (a *Stage) give(ctx context.Context, client *analyser.Client, siteID int64, set string, entry int64, text string) error {
	all, err := a.Store.KnownSets(ctx, siteID)
	if err != nil {
		return err
	}
	i := slices.IndexFunc(all, func(s known.Set) bool { return s.Key == set })
	if i < 0 {
		return errKnownSince
	}
	if entry == 0 {
		if all[i].Text() != text {
			return errKnownSince
		}
		return client.HoldSet(ctx, all[i])
	}
	k := slices.IndexFunc(all[i].Entries, func(e known.Entry) bool { return e.ID == entry })
	if k < 0 || all[i].Entries[k].Gone || all[i].Entries[k].Text() != text {
		return errKnownSince
	}
	sealed, err := a.Store.KnownPictures(ctx, siteID, entry)
	if err != nil {
		return err
	}
	out := make([]analyser.Reference, len(sealed))
	for i, p := range sealed {
		data, err := a.Accounts.Vault.Open(p.Sealed, store.KnownPlace(p.ID))
		if err != nil {
			return err
		}
		out[i] = analyser.Reference{ID: p.ID, JPEG: []byte(data)}
	}
	return client.Hold(ctx, set, entry, all[i].Entries[k].Name, out)
}

// names are who is known, by the keys of their sets.
type names map[string]known.Set

// who names those that objects were held to be.
func (a *Stage) who(ctx context.Context, siteID int64, tracks []scene.Track) (names, error) {
	if !slices.ContainsFunc(tracks, func(t scene.Track) bool { return len(t.Traits.Held) > 0 }) {
		return nil, nil
	}
	all, err := a.Store.KnownSets(ctx, siteID)
	out := names{}
	for _, s := range all {
		out[s.Key] = s
	}
	return out, err
}

// of words who or what an object was held to be. By a set that is forgotten, or is none of this site, it was nobody.
func (n names) of(t scene.Traits) (out []string) {
	for _, h := range t.Held {
		if set, there := n[h.Set]; there {
			out = append(out, set.Says(h))
		}
	}
	return out
}
