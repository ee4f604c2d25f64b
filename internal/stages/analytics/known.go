package analytics

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"image"
	"image/jpeg"
	"slices"
	"strconv"
	"strings"
	"time"

	xdraw "golang.org/x/image/draw"

	"duskyharbor/internal/act"
	"duskyharbor/internal/core/fact"
	"duskyharbor/internal/core/known"
	"duskyharbor/internal/core/pairing"
	"duskyharbor/internal/core/scene"
	"duskyharbor/internal/core/trouble"
	"duskyharbor/internal/device/analyser"
	"duskyharbor/internal/device/picture"
	"duskyharbor/internal/engine"
	"duskyharbor/internal/facts"
	"duskyharbor/internal/site"
	"duskyharbor/internal/store"
)

// KnownSet is a set of reference pictures, with what becomes of who isn't among them.
type KnownSet struct {
	ID      int64   `form:"set" json:"id,omitempty"` // 0: a new one
	Name    string  `form:"name" json:"name"`
	Kind    string  `form:"kind" json:"kind" enum:"face,vehicle,thing"` // of one that is there it stays
	Least   float64 `form:"least" json:"known_from,omitempty"`          // 0 to 1; 0: 0.8
	Nearly  float64 `form:"nearly" json:"nearly_from,omitempty"`        // 0 to 1, the other one at the most; 0: 0.65, or that
	Close   bool    `form:"close" json:"tells_nearly,omitempty"`
	Unknown bool    `form:"unknown" json:"tells_unknown,omitempty"`
}

func (x KnownSet) set() known.Set {
	out := known.Set{ID: x.ID, Name: strings.TrimSpace(x.Name), Kind: known.Kind(x.Kind), Least: x.Least, Nearly: x.Nearly, Close: x.Close, Unknown: x.Unknown}
	if out.Least == 0 {
		out.Least = known.UsualLeast
	}
	if out.Nearly == 0 {
		out.Nearly = min(known.UsualNearly, out.Least)
	}
	return out
}

// Check is what is wrong with it.
func (x KnownSet) Check() error {
	s := x.set()
	if x.ID != 0 {
		s.Kind = known.Thing // it stays what it is
	}
	if field, says := s.Wrong(); field != "" {
		return act.Wrong(field, says)
	}
	return nil
}

func keepKnownSet(ctx context.Context, c *act.Call, x KnownSet) (act.Kept, error) {
	s := x.set()
	id, err := c.Store.KeepKnownSet(ctx, c.Site.ID, s)
	switch {
	case errors.Is(err, store.ErrTaken):
		err = act.Wrongf("name", "Another set of this site is called %q: give this one another name.", s.Name)
	case errors.Is(err, store.ErrFull):
		err = trouble.UserError("No more sets are kept for this site: forget one.")
	}
	return act.Kept{ID: id, Says: s.Name + " is kept. Nothing was written to an analyser.", Did: "kept a set of references", Detail: s.Name, To: setAt(id)}, err
}

func setAt(id int64) string { return fmt.Sprintf("known?set=%d", id) }

// AKnownSet is a set of references.
type AKnownSet struct {
	ID int64 `form:"set" json:"id"`
}

func dropKnownSet(ctx context.Context, c *act.Call, x AKnownSet) (act.Kept, error) {
	s, of, err := setOf(ctx, c, x.ID)
	switch {
	case err != nil:
		return act.Kept{}, err
	case len(of.Entries) > 0:
		return act.Kept{}, trouble.UserError(of.Name + " isn't empty: delete who or what is in it first.")
	}
	for _, d := range s.Analysers() {
		if held, _ := facts.Known.Of(s, d.ID); held.Reads(of.Key) != known.None {
			return act.Kept{}, trouble.UserError(d.Place + " holds it: have it hold " + of.Name + " no more first.")
		}
	}
	return act.Kept{Says: of.Name + " is forgotten.", Did: "forgot a set of references", Detail: of.Name, To: "known"}, c.Store.DropKnownSet(ctx, c.Site.ID, x.ID)
}

// setOf reads a set of references, with what analysers hold.
func setOf(ctx context.Context, c *act.Call, id int64) (*site.Snapshot, known.Set, error) {
	all, err := c.Store.KnownSets(ctx, c.Site.ID)
	if err != nil {
		return nil, known.Set{}, err
	}
	i := slices.IndexFunc(all, func(s known.Set) bool { return s.ID == id })
	if i < 0 {
		return nil, known.Set{}, store.ErrNotFound
	}
	s, err := site.Load(ctx, c.Store, c.Site.ID, []int64{})
	return s, all[i], err
}

// Known is somebody or something that is known. Days are as "2026-12-31".
type Known struct {
	Set    int64  `form:"set" json:"set_id"`
	ID     int64  `form:"entry" json:"id,omitempty"` // 0: a new one
	Name   string `form:"name" json:"name"`          // kept as it is typed
	Ground string `form:"ground" json:"ground"`      // the consent, or the legal ground
	Since  string `form:"since" json:"since"`        // the day of that
	Ends   string `form:"ends" json:"ends"`          // the day on which the pictures are deleted
}

func (x Known) entry() known.Entry {
	day := func(text string) time.Time {
		t, err := time.Parse(time.DateOnly, text)
		if err != nil {
			return time.Time{}
		}
		return t
	}
	return known.Entry{ID: x.ID, Name: strings.TrimSpace(x.Name), Ground: strings.TrimSpace(x.Ground), Since: day(x.Since), Ends: day(x.Ends)}
}

func keepKnown(ctx context.Context, c *act.Call, x Known) (act.Kept, error) {
	e := x.entry()
	if field, says := e.Wrong(known.Day(c.Now, c.Site.Zone)); field != "" {
		return act.Kept{}, act.Wrong(field, says)
	}
	id, err := c.Store.KeepKnown(ctx, c.Site.ID, x.Set, e)
	switch {
	case errors.Is(err, store.ErrTaken):
		err = act.Wrongf("name", "%q is in this set already.", e.Name)
	case errors.Is(err, store.ErrFull):
		err = trouble.UserErrorf("The set is gone, or has %d entries: no more are kept in one.", known.MostEntries)
	}
	return act.Kept{ID: id, Says: e.Name + " is kept, until " + e.Ends.Format("2 January 2006") + ". Nothing was written to an analyser.", Did: "kept who or what is known",
		Detail: fmt.Sprintf("%s, on the ground of %s, %s, until %s", e.Name, e.Ground, e.Since.Format(time.DateOnly), e.Ends.Format(time.DateOnly)), To: setAt(x.Set)}, err
}

// Unknown is somebody or something that is to be known no more.
type Unknown struct {
	Set   int64 `form:"set" json:"set_id"`
	Entry int64 `form:"entry" json:"id"`
}

// dropKnown deletes an entry's pictures here. What no analyser holds is gone with them.
func dropKnown(ctx context.Context, c *act.Call, x Unknown) (act.Kept, error) {
	s, of, err := setOf(ctx, c, x.Set)
	if err != nil {
		return act.Kept{}, err
	}
	i := slices.IndexFunc(of.Entries, func(e known.Entry) bool { return e.ID == x.Entry })
	if i < 0 {
		return act.Kept{}, store.ErrNotFound
	}
	e := of.Entries[i]
	if !c.Sure && !e.Gone {
		return act.Kept{}, act.AskError{Heading: "Delete " + e.Name + "?", Text: "All its pictures are deleted here at once, for good. An analyser that holds them does until it is told: that is shown next.",
			Do: "Delete it"}
	}
	var held []int64
	at := heldAt(s, of.Key, x.Entry)
	says := e.Name + " is deleted."
	if len(at) > 0 {
		held, says = []int64{x.Entry}, e.Name+" is deleted here. "+holders(at)+" yet: have it deleted there as well."
	}
	out := act.Kept{Says: says, To: setAt(x.Set)}
	if !e.Gone {
		out.Did, out.Detail = "deleted who or what was known", e.Name+" of "+of.Name
	}
	return out, c.Store.Unknow(ctx, c.Site.ID, []int64{x.Entry}, held)
}

// heldAt are the analysers that hold an entry, as they told last.
func heldAt(s *site.Snapshot, set string, entry int64) (out []store.Device) {
	for _, d := range s.Analysers() {
		if held, _ := facts.Known.Of(s, d.ID); held.ReadsEntry(set, entry) != known.None {
			out = append(out, d)
		}
	}
	return out
}

func holders(all []store.Device) string {
	out := make([]string, len(all))
	for i, d := range all {
		out[i] = d.Place
	}
	if len(out) == 1 {
		return out[0] + " holds it"
	}
	return strings.Join(out, ", ") + " hold it"
}

// KnownPicture is a reference picture: a file, or what was seen.
type KnownPicture struct {
	Entry   int64  `form:"entry" json:"entry_id"`
	Picture []byte `form:"-" json:"picture,omitempty"`                // JPEG or PNG, at most 4 MB
	Camera  int64  `form:"camera" json:"camera_id,omitempty"`         // else the picture of an object that this one's analytics saw
	Object  string `form:"object" json:"object,omitempty"`            // as the rehearsal tells it
	At      string `form:"at" json:"at,omitempty" format:"date-time"` // within an hour of when it was seen, RFC 3339
}

// ReadForm reads the picture that comes along.
func (x *KnownPicture) ReadForm(f act.Form) error {
	file, _, err := f.File("picture", act.MaxFile)
	x.Picture = file.Data
	return err
}

// longSide is how many pixels a reference picture has along its longer side at the most.
const longSide = 512

// reference codes a picture anew, as it is sent: what else stood in the file is gone with that.
func reference(ctx context.Context, data []byte) ([]byte, error) {
	if len(data) > act.MaxFile {
		return nil, act.Wrong("picture", "That picture is larger than 4 MB.")
	}
	img, err := picture.Decode(ctx, data)
	if err != nil {
		return nil, act.Wrong("picture", "That is no picture that can be read: send a JPEG or a PNG.")
	}
	b := img.Bounds()
	if b.Dx() < 16 || b.Dy() < 16 {
		return nil, act.Wrong("picture", "That picture is smaller than 16 × 16: nobody is known by it.")
	}
	if long := max(b.Dx(), b.Dy()); long > longSide {
		small := image.NewRGBA(image.Rect(0, 0, max(1, b.Dx()*longSide/long), max(1, b.Dy()*longSide/long)))
		xdraw.ApproxBiLinear.Scale(small, small.Bounds(), img, b, xdraw.Src, nil)
		img = small
	}
	var out bytes.Buffer
	err = jpeg.Encode(&out, img, &jpeg.Options{Quality: 90})
	return out.Bytes(), err
}

func (a *Stage) keepKnownPicture(ctx context.Context, c *act.Call, x KnownPicture) (act.Kept, error) {
	data := x.Picture
	if len(data) == 0 {
		at, err := time.Parse(time.RFC3339Nano, x.At)
		if err != nil || x.Camera == 0 || x.Object == "" {
			return act.Kept{}, act.Wrong("picture", "Send a picture, or say of what was seen which it is.")
		}
		if data, err = c.Store.Crop(ctx, c.Site.ID, x.Camera, x.Object, at); errors.Is(err, store.ErrNotFound) {
			err = act.Wrong("picture", "No picture of that was kept.")
		}
		if err != nil {
			return act.Kept{}, err
		}
	}
	coded, err := reference(ctx, data)
	if err != nil {
		return act.Kept{}, err
	}
	who, err := c.Who(ctx)
	if err != nil {
		return act.Kept{}, err
	}
	sum := sha256.Sum256(coded)
	id, err := c.Store.AddKnownPicture(ctx, c.Site.ID, x.Entry, hex.EncodeToString(sum[:]), who, func(place string) ([]byte, error) { return a.Accounts.Vault.Seal(string(coded), place) })
	switch {
	case errors.Is(err, store.ErrTaken):
		err = act.Wrong("picture", "That very picture is kept of it already.")
	case errors.Is(err, store.ErrFull):
		err = act.Wrongf("picture", "It has %d pictures, or its set %d: no more are kept.", known.MostPictures, known.MostOfSet)
	}
	return act.Kept{ID: id, Says: "The picture is kept. Nothing was written to an analyser.", Did: "kept a reference picture", Detail: fmt.Sprintf("picture %d", id)}, err
}

// AKnownPicture is a reference picture.
type AKnownPicture struct {
	ID int64 `form:"picture" json:"id"`
}

func dropKnownPicture(ctx context.Context, c *act.Call, x AKnownPicture) (act.Kept, error) {
	name, err := c.Store.DropKnownPicture(ctx, c.Site.ID, x.ID)
	return act.Kept{Says: "A picture of " + name + " is deleted here. An analyser that holds it does until it is given the set again.", Did: "deleted a reference picture", Detail: name}, err
}

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
	all := x.of.Give(held, d.Place, known.Day(now, s.Site.Zone))
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
		h.Name, h.Differs = s.Name, len(s.Give(all, d.Place, known.Day(all.At, of.Zone)))
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
	var gone, held []int64
	for _, of := range all {
		for _, e := range of.Entries {
			if !e.Gone {
				continue
			}
			gone = append(gone, e.ID)
			if len(heldAt(s, of.Key, e.ID)) > 0 {
				held = append(held, e.ID)
			}
		}
	}
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

// of words who or what an object was held to be.
func (n names) of(t scene.Traits) (out []string) {
	for _, h := range t.Held {
		set, there := n[h.Set]
		if !there {
			continue // the set is forgotten, or it is none of this site
		}
		i := slices.IndexFunc(set.Entries, func(e known.Entry) bool { return e.ID == h.Entry && !e.Gone })
		switch {
		case h.Entry == 0:
			out = append(out, fmt.Sprintf("unknown to %s (%.2f)", set.Name, h.Score))
		case i < 0:
			out = append(out, "somebody of "+set.Name+" who was deleted since")
		default:
			out = append(out, fmt.Sprintf("%s as %s (%.2f)", h.As, set.Entries[i].Name, h.Score))
		}
	}
	return out
}
