// Package act says what may be asked of a stage or of a site: by a person on a page, by a program, by a test, by
// the same name, with the same arguments, held to the same checks.
//
// A stage, or what sets a site up, hands its acts over; the shell routes them, checks who asks, keeps and audits
// what is wished, shows what would be changed before it is, and answers a page or a program. It knows none of them.
package act

import (
	"context"
	"fmt"
	"net/netip"
	"strings"
	"time"
	"unicode/utf8"

	"duskyharbor/internal/core/filter"
	"duskyharbor/internal/core/finding"
	"duskyharbor/internal/core/stage"
	"duskyharbor/internal/people"
	"duskyharbor/internal/site"
	"duskyharbor/internal/store"
)

// Act is one thing that may be asked, with arguments A: a struct whose fields are named for a form (form), for a
// program (json) and where they stand in the address (param). An act that gives a lens another name:
//
//	type Rename struct {
//		Lens int64  `param:"lens" json:"lens"`
//		Name string `form:"name" json:"name"`
//	}
//
//	func (r Rename) Check() error {
//		if r.Name == "" {
//			return act.Wrong("name", "A lens has a name.")
//		}
//		return nil
//	}
//
//	act.Act[Rename]{Name: "lenses/:lens/name", About: "give a lens another name", Keep: func(ctx context.Context, c *act.Call, r Rename) (act.Kept, error) {
//		return act.Kept{Says: "Kept.", Did: "renamed a lens", Detail: r.Name}, c.Store.Rename(ctx, c.Site.ID, r.Lens, r.Name)
//	}}
//
// More is run first, then Keep, then Plan, which sees what was kept.
type Act[A any] struct {
	Name  string      // its address below the site's, "channels/place"
	About string      // one line for those who write programs
	Stage stage.Stage // whose changes it asks for; 0: the site's own
	Role  people.Role // least that may ask; empty: whoever may change something
	Runs  bool        // it has devices read and keeps nothing else: programs need ScopeRun
	// Alone keeps programs from asking it: it makes what opens this product, shows a secret, or wants eyes and ears.
	Alone bool
	// More reads, into a, what is needed besides the site, also from devices, before anything else is done; nil: nothing.
	More func(ctx context.Context, c *Call, a *A) error
	// Plan says what would be changed on devices, from → to, and of whom it can't be and why. It does no I/O.
	Plan func(now time.Time, s *Seen, a A) (Planned, error)
	// Now does something with a device at once, which is put back by itself: nothing is shown before. It is in the log by
	// what Kept says was done. An act that has it has neither Plan nor Keep.
	Now func(ctx context.Context, c *Call, a A) (Kept, error)
	// Keep keeps a wish of the site's own. All that it does by the call's store is one transaction, with its audit.
	Keep func(ctx context.Context, c *Call, a A) (Kept, error)
}

// Any is an Act of whatever arguments.
type Any interface {
	Is() Is
	Args() any // a pointer to arguments that are zero
	more(ctx context.Context, c *Call, args any) error
	plan(now time.Time, s *Seen, args any) (Planned, error)
	keep(ctx context.Context, c *Call, args any) (Kept, error)
	now(ctx context.Context, c *Call, args any) (Kept, error)
}

// Is tells what an act is.
type Is struct {
	Name, About  string
	Stage        stage.Stage
	Role         people.Role
	Runs, Alone  bool
	Plans, Keeps bool
	AtOnce       bool
}

// Is tells what it is.
func (a Act[A]) Is() Is {
	role := a.Role
	if role == "" {
		role = people.Technician
	}
	return Is{a.Name, a.About, a.Stage, role, a.Runs, a.Alone, a.Plan != nil, a.Keep != nil, a.Now != nil}
}

// Args is a pointer to its arguments, zero.
func (a Act[A]) Args() any { return new(A) }

func (a Act[A]) more(ctx context.Context, c *Call, args any) error {
	if a.More == nil {
		return nil
	}
	return a.More(ctx, c, args.(*A))
}

func (a Act[A]) plan(now time.Time, s *Seen, args any) (Planned, error) {
	return a.Plan(now, s, *args.(*A))
}

func (a Act[A]) keep(ctx context.Context, c *Call, args any) (Kept, error) {
	return a.Keep(ctx, c, *args.(*A))
}

func (a Act[A]) now(ctx context.Context, c *Call, args any) (Kept, error) {
	return a.Now(ctx, c, *args.(*A))
}

// Now has an act do at once what arguments ask, as Args gave them.
func Now(ctx context.Context, a Any, c *Call, args any) (Kept, error) { return a.now(ctx, c, args) }

// More reads what an act's plan needs besides the site, into arguments as Args gave them; the site is read after it.
func More(ctx context.Context, a Any, c *Call, args any) error { return a.more(ctx, c, args) }

// Plan is what an act plans for arguments as Args gave them, on a site as it was read.
func Plan(a Any, now time.Time, s *Seen, args any) (Planned, error) { return a.plan(now, s, args) }

// Keep has an act keep what arguments wish, as Args gave them.
func Keep(ctx context.Context, a Any, c *Call, args any) (Kept, error) { return a.keep(ctx, c, args) }

// Call is one asking of an act.
type Call struct {
	Now           time.Time
	Site          store.Site
	Person, Token int64
	Role          people.Role
	Sure          bool         // they were asked once more, and want it all the same
	Store         *store.Store // of the act's transaction
	audits        []Entry
}

// Audit writes down one thing more that was done, besides what Kept says.
func (c *Call) Audit(did, detail string) { c.audits = append(c.audits, Entry{did, detail}) }

// Audits are what was written down.
func (c *Call) Audits() []Entry { return c.audits }

// Entry is one line of what people did.
type Entry struct{ Did, Detail string }

// Kept is what became of a wish.
type Kept struct {
	Says   string // for who asked
	ID     int64  // of what was made; 0: nothing was
	Did    string // for what people did: "added a recorder"; empty: nothing is written down
	Detail string
	Judge  []int64 // devices that are judged by it
	All    bool    // all of the site are
	Scan   *Scan
	Read   *Reading
	// After is done once the wish is kept: it begins a run, and answers with it.
	After  func(context.Context) (run int64, err error)
	Secret *Secret
	Gone   bool   // the site is no more where it was
	To     string // the page that a person goes on at, below the site: "find?sheet=7"; empty: where they were
}

// Scan is where something is looked for now, by which stage: on the network that holds the address, or there alone.
type Scan struct {
	Stage stage.Stage
	At    netip.Addr
}

// Reading is what is read because of a wish.
type Reading struct {
	Stage stage.Stage
	Of    store.Selection
	Title string // what it was asked of, in words
}

// Secret is shown once, and kept nowhere.
type Secret struct{ Heading, Text, Note string }

// Seen is the site as an act plans from it.
type Seen struct {
	*site.Snapshot
	Of []site.Source // those that the arguments select, in the site's order
}

// Planned is what an act would change.
type Planned struct {
	Title string
	Stage stage.Stage // whose changes they are, where that isn't the act's
	Of    []Changes
	Cant  []string // whose it is and why it can't be, a sentence each
	Makes []string // what it makes of recorders, a sentence each
	Idle  int      // of those selected, how many it changes nothing of
	Says  string   // where nothing is changed: why; empty: what is usually said
}

// Changes are those of one view, or of a whole device.
type Changes struct {
	Source  site.Source
	All     []finding.Change
	Ordered bool // they are made in this order, not in the usual one
}

// Add adds the changes of one source, where there are any.
func (p *Planned) Add(of site.Source, all []finding.Change) {
	if len(all) > 0 {
		p.Of = append(p.Of, Changes{Source: of, All: all})
	}
}

// Refuse says that something of a source can't be, and why.
func (p *Planned) Refuse(place, why string) {
	p.Cant = append(p.Cant, fmt.Sprintf("%s: %s.", place, why))
}

// Few words some of those that can't be, and how many more there are.
func (p Planned) Few() string {
	const shown = 4
	says := strings.Join(p.Cant[:min(shown, len(p.Cant))], " ")
	if more := len(p.Cant) - shown; more > 0 {
		says += fmt.Sprintf(" And %d more.", more)
	}
	return says
}

// WrongError is what is wrong with one argument; with none named, with all of them together.
type WrongError struct{ Field, Says string }

// Error is what is wrong.
func (w WrongError) Error() string { return w.Says }

// Wrong says what is wrong with an argument, named as in a form.
func Wrong(field, says string) error { return WrongError{field, says} }

// Wrongf is Wrong, worded by format.
func Wrongf(field, format string, args ...any) error {
	return WrongError{field, fmt.Sprintf(format, args...)}
}

// AskError asks once more before something is done.
type AskError struct {
	Heading, Text, Do string // Do is what its button says
}

// Error is what is asked.
func (a AskError) Error() string { return a.Heading + " " + a.Text }

// Checker is what arguments are that check themselves, before anything is read. It returns what Wrong makes.
type Checker interface{ Check() error }

// MaxPicks is how many can be named one by one; more are named by a filter.
const MaxPicks = 1000

// Selection is which cameras are meant: those that are named, else all that a filter takes.
type Selection struct {
	Picks []int64 `form:"pick" json:"cameras,omitempty"`
	All   string  `form:"all" json:"-"` // "1": the filter, whatever was picked
	Q     string  `form:"q" json:"q,omitempty"`
}

// Asked words a selection that was a query; empty where cameras were named.
func (s Selection) Asked() string {
	switch {
	case s.named():
		return ""
	case s.Q == "":
		return "all"
	}
	return s.Q
}

func (s Selection) named() bool { return s.Picks != nil && s.All != "1" }

// Selects is the selection on a site.
func (s Selection) Selects(siteID int64) (store.Selection, error) {
	out := store.Selection{Site: siteID}
	if s.named() {
		if len(s.Picks) > MaxPicks {
			return out, Wrongf("pick", "%d cameras were picked one by one, and %d can be: filter them, and select all that match.", len(s.Picks), MaxPicks)
		}
		out.IDs = s.Picks
		return out, nil
	}
	out.Filter = filter.Parse(s.Q)
	if len(out.Filter.Unknown) > 0 {
		return out, Wrongf("q", "The filter means nothing: %s.", strings.Join(out.Filter.Unknown, ", "))
	}
	return out, nil
}

// Camera is one camera.
type Camera struct {
	Source int64 `form:"source" json:"camera_id"`
}

// Selects is the camera on a site.
func (c Camera) Selects(siteID int64) (store.Selection, error) {
	return store.Selection{Site: siteID, IDs: []int64{c.Source}}, nil
}

// Selecter is what arguments are that mean cameras.
type Selecter interface {
	Selects(site int64) (store.Selection, error)
}

// Wide is what arguments are whose plan needs more than the recorders and those that they select: the devices,
// or nil, all of the site.
type Wide interface{ Devices() []int64 }

// Selected are the views that a selection is of, in a stage, with what is known of their devices.
func (c *Call) Selected(ctx context.Context, x Selection, st stage.Stage) (*site.Snapshot, []site.Source, error) {
	sel, err := x.Selects(c.Site.ID)
	if err != nil {
		return nil, nil, err
	}
	targets, err := c.Store.Resolve(ctx, sel, st)
	if err != nil {
		return nil, nil, err
	}
	devices, wanted := make([]int64, len(targets)), map[int64]bool{}
	for i, t := range targets {
		devices[i], wanted[t.Source] = t.Device, true
	}
	s, err := site.Load(ctx, c.Store, c.Site.ID, devices)
	if err != nil {
		return nil, nil, err
	}
	var of []site.Source
	for _, x := range s.Sources {
		if wanted[x.ID] {
			of = append(of, x)
		}
	}
	return s, of, nil
}

// Camera reads the view that arguments name, with its device and the recorders; ErrNotFound where the site has none.
func (c *Call) Camera(ctx context.Context, source int64) (*site.Snapshot, site.Source, error) {
	of, err := c.Store.SourceByID(ctx, source)
	if err == nil && of.Device.SiteID != c.Site.ID {
		err = store.ErrNotFound
	}
	if err != nil {
		return nil, site.Source{}, err
	}
	s, err := site.Load(ctx, c.Store, c.Site.ID, []int64{of.Device.ID})
	if err != nil {
		return nil, site.Source{}, err
	}
	of, ok := s.Source(source)
	if !ok {
		return nil, site.Source{}, store.ErrNotFound
	}
	return s, of, nil
}

// The is the one view that camera arguments name; ErrNotFound where it went.
func (s *Seen) The() (site.Source, error) {
	if len(s.Of) != 1 {
		return site.Source{}, store.ErrNotFound
	}
	return s.Of[0], nil
}

// Who is who asks, by name.
func (c *Call) Who(ctx context.Context) (string, error) {
	if c.Person == 0 {
		return "a program", nil
	}
	p, err := c.Store.Person(ctx, c.Person)
	return p.Name, err
}

// Count counts things: "1 camera", "3,000 cameras".
func Count(n int, one string) string {
	if n == 1 {
		return "1 " + one
	}
	return stage.Thousands(n) + " " + one + "s"
}

// Fits says whether a text that a person gave has at most so many characters: letters with accents are one each,
// however many bytes they take.
func Fits(text string, most int) bool { return utf8.RuneCountInString(text) <= most }
