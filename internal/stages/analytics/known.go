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
	"strings"
	"time"

	xdraw "golang.org/x/image/draw"

	"duskyharbor/internal/act"
	"duskyharbor/internal/core/known"
	"duskyharbor/internal/core/trouble"
	"duskyharbor/internal/device/picture"
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
	if field, says := e.Wrong(known.Day(c.Now, c.Site.Location())); field != "" {
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
	at := facts.HeldAt(s, of.Key, x.Entry)
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
