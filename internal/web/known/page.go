// Package known shows who or what is known by reference pictures, whether each would be known again, and what analysers hold of it.
package known

import (
	"context"
	"embed"
	"fmt"
	"io/fs"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"time"

	"github.com/labstack/echo/v5"

	"duskyharbor/internal/core/known"
	"duskyharbor/internal/facts"
	"duskyharbor/internal/store"
	"duskyharbor/internal/vault"
	"duskyharbor/internal/web/shell"
)

//go:embed page.html page.css
var files embed.FS

// Page is its page.
type Page struct {
	*shell.Server
	vault *vault.Vault
}

// New makes the page.
func New(s *shell.Server, v *vault.Vault) *Page { return &Page{s, v} }

// Slug is its address.
func (*Page) Slug() string { return "known" }

// Files are its template and style.
func (*Page) Files() fs.FS { return files }

// Routes adds the pictures.
func (pg *Page) Routes(r *shell.Routes) { r.Change.GET("/known/pictures/:picture", pg.picture) }

// picture is a reference picture. Who looked at whom is in the log, once an hour.
func (pg *Page) picture(c *echo.Context) error {
	id, err := shell.Number(c, "picture")
	if err != nil {
		return err
	}
	ctx, me := c.Request().Context(), shell.VisitorOf(c)
	sealed, name, err := pg.Store.KnownPicture(ctx, me.Member.ID, id)
	if err != nil {
		return err
	}
	data, err := pg.vault.Open(sealed, store.KnownPlace(id))
	if err != nil {
		return err
	}
	if err := pg.AuditOnce(ctx, me.Member.ID, me.Person.ID, 0, shell.LookedAtKnown, name); err != nil {
		return err
	}
	c.Response().Header().Set("Cache-Control", "no-store")
	return c.Blob(http.StatusOK, "image/jpeg", []byte(data))
}

type data struct {
	Sets    []known.Set
	Chosen  *known.Set // nil: a new one
	Kind    string     // of the chosen one
	Entries []entry
	Doubles []string
	Places  []place
	By      string // the analyser whose likeness is shown; empty: none compared them
	At      time.Time
	Fresh   fresh  // what the form of a new entry holds
	Refused int64  // the entry whose form was just refused; 0: none, or the new one's
	Most    string // the last day that can be
	Kinds   []known.Kind
	Held    bool // some analyser holds it
	Lately  []seen
}

// fresh is what stands in the form of a new entry.
type fresh struct{ Name, Ground, Since, Ends string }

// seen is a picture of an object that was seen lately.
type seen struct {
	Camera       int64
	Object       string
	Class, Place string
	When, Moment string
	At           string // its address
}

// lately is how many pictures of what was seen are offered.
const lately = 10

// offer fills in what was seen lately of the set's kind, where there is somebody whose picture it may be.
func (d *data) offer(ctx context.Context, p *shell.Request, st *store.Store) error {
	if !slices.ContainsFunc(d.Chosen.Entries, func(e known.Entry) bool { return !e.Gone }) {
		return nil
	}
	all, err := st.Crops(ctx, p.Site.ID, d.Chosen.Kind.Classes(), lately)
	for _, c := range all {
		moment := c.At.UTC().Format(time.RFC3339Nano)
		q := url.Values{"camera": {strconv.FormatInt(c.SourceID, 10)}, "object": {c.Object}, "at": {moment}}
		d.Lately = append(d.Lately, seen{Camera: c.SourceID, Object: c.Object, Class: c.Class, Place: c.Place, When: c.At.In(p.Zone).Format("15:04:05 on 2 Jan"), Moment: moment,
			At: p.Path("analytics/crop") + "?" + q.Encode()})
	}
	return err
}

// entry is who or what is known, as it stands.
type entry struct {
	known.Entry
	Shown   []shown
	Figure  known.Figure
	Helps   string
	Effect  string         // what the latest picture changed; empty: that can't be said
	Waiting []store.Device // where it is to be deleted yet
	Since   string
	Ends    string
}

// shown is one of its pictures.
type shown struct {
	ID      int64
	Nth     int
	Outcome string
	Score   string
	Good    bool
}

// place is an analyser that takes references of the chosen set's kind.
type place struct {
	ID      int64
	Name    string
	Holds   bool
	Changes int // until it holds the set as it is here
	Trouble string
	Refuses bool // it takes none of the kind
	ReadAt  time.Time
}

// Build makes the page's data.
func (pg *Page) Build(ctx context.Context, p *shell.Request) (any, error) {
	p.Title = "Known"
	if !p.MayChange {
		return (*data)(nil), nil
	}
	all, err := pg.Store.KnownSets(ctx, p.Site.ID)
	if err != nil {
		return nil, err
	}
	if err := p.Load(ctx); err != nil {
		return nil, err
	}
	today := known.Day(p.Now, p.Zone)
	d := data{Sets: all, Kinds: known.Kinds, Most: today.AddDate(10, 0, 0).Format(time.DateOnly)}
	want := p.URL.Query().Get("set")
	for i := range all {
		if strconv.FormatInt(all[i].ID, 10) == want || want == "" && d.Chosen == nil {
			d.Chosen = &all[i]
		}
	}
	if d.Chosen == nil {
		return &d, nil
	}
	d.Kind = d.Chosen.Kind.Plural()
	d.fill(p, today)
	d.Refused, _ = strconv.ParseInt(p.Field("known/entry", "entry", ""), 10, 64)
	d.Fresh = fresh{Since: today.Format(time.DateOnly), Ends: today.AddDate(1, 0, 0).Format(time.DateOnly)}
	if d.Refused == 0 {
		d.Fresh = fresh{p.Field("known/entry", "name", ""), p.Field("known/entry", "ground", ""), p.Field("known/entry", "since", d.Fresh.Since), p.Field("known/entry", "ends", d.Fresh.Ends)}
	}
	if err := d.offer(ctx, p, pg.Store); err != nil {
		return nil, err
	}
	return &d, pg.AuditOnce(ctx, p.Site.ID, p.Me.ID, 0, shell.LookedAtKnown, d.Chosen.Name)
}

func (d *data) fill(p *shell.Request, today time.Time) {
	set := *d.Chosen
	likeness, by, at := facts.LikenessOf(p.Snapshot, set.Key)
	d.By, d.At = by.Place, at
	for _, dev := range p.Snapshot.Analysers() {
		told, _ := facts.Analyser.Of(p.Snapshot, dev.ID)
		held, _ := facts.Known.Of(p.Snapshot, dev.ID)
		x := place{ID: dev.ID, Name: dev.Place, Holds: held.Reads(set.Key) != known.None, Trouble: p.Snapshot.RecorderTrouble(dev.ID),
			Changes: len(set.Give(held, dev.Place, today)), Refuses: !slices.Contains(told.Knows, set.Kind), ReadAt: held.At}
		d.Places, d.Held = append(d.Places, x), d.Held || x.Holds
	}
	names := set.Names()
	figures := set.LeaveOneOut(likeness)
	for _, e := range set.WorstFirst(figures) {
		x := entry{Entry: e, Figure: figures[e.ID], Since: e.Since.Format(time.DateOnly), Ends: e.Ends.Format(time.DateOnly)}
		if e.Gone {
			x.Waiting = facts.HeldAt(p.Snapshot, set.Key, e.ID)
		} else {
			x.Helps = x.Figure.Helps(names)
			x.show(set, likeness)
		}
		d.Entries = append(d.Entries, x)
	}
	for _, two := range set.Doubles(likeness) {
		says := fmt.Sprintf("%s and %s are alike by %.2f: one would be taken for the other. Take out the pictures that are alike, or have it known from a higher score.", names[two.A], names[two.B], two.Score)
		if two.A == two.B {
			says = fmt.Sprintf("Two pictures of %s are the same: one is enough.", names[two.A])
		}
		d.Doubles = append(d.Doubles, says)
	}
}

func (x *entry) show(set known.Set, l known.Likeness) {
	for i, j := range x.Figure.Pictures {
		s := shown{ID: j.Picture, Nth: i + 1, Outcome: string(j.Outcome), Good: !j.Outcome.Wants()}
		if j.Own >= 0 {
			s.Score = fmt.Sprintf("%.2f", j.Own)
		}
		if j.Outcome == known.Mixed {
			s.Score = fmt.Sprintf("%.2f", j.Other)
		}
		x.Shown = append(x.Shown, s)
	}
	if n := len(x.Pictures); n > 0 {
		if before, after, ok := set.Effect(l, x.Pictures[n-1].ID); ok {
			x.Effect = fmt.Sprintf("With picture %d the others are known at %.2f on the mean, without it at %.2f.", n, after, before)
		}
	}
}
