package setup

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"duskyharbor/internal/act"
	"duskyharbor/internal/core/expected"
	"duskyharbor/internal/core/identity"
	"duskyharbor/internal/core/trouble"
	"duskyharbor/internal/store"
)

func list() []act.Any {
	return append(uploads(),
		act.Act[Row]{Name: "expected/row", About: "put one camera on the expected list", Keep: addRow},
		act.Act[ChangedRow]{Name: "expected/row/:row", About: "change a row of the expected list: all of it is given anew", Keep: setRow},
		act.Act[RowID]{Name: "expected/row/:row/remove", About: "take a row off the expected list", Keep: dropRow},
		act.Act[Lines]{Name: "expected/lines", About: "take an expected list: CSV with a heading", Keep: takeLines})
}

// Row is a row of the expected list as it is typed.
type Row struct {
	Place    string `form:"place" json:"place"`
	Address  string `form:"address" json:"address,omitempty"`
	MAC      string `form:"mac" json:"mac,omitempty"`
	Make     string `form:"make" json:"make,omitempty"`
	Model    string `form:"model" json:"model,omitempty"`
	Recorder string `form:"recorder" json:"recorder,omitempty"` // its name, or its number
	Channel  string `form:"channel" json:"channel,omitempty"`
	Input    string `form:"input" json:"input,omitempty"`
}

func (x Row) typed() expected.Typed {
	return expected.Typed{expected.Place: x.Place, expected.Address: x.Address, expected.MAC: x.MAC, expected.Make: x.Make,
		expected.Model: x.Model, expected.Recorder: x.Recorder, expected.Channel: x.Channel, expected.Input: x.Input}
}

// ChangedRow is a row that is changed.
type ChangedRow struct {
	ID int64 `param:"row" json:"-"`
	Row
}

// RowID names a row.
type RowID struct {
	ID int64 `param:"row" json:"-"`
}

// RecorderNames are a site's recorders, by name.
func RecorderNames(ctx context.Context, st *store.Store, siteID int64) (map[string]int64, error) {
	read, err := st.ReadSite(ctx, siteID, []int64{})
	out := map[string]int64{}
	for _, d := range read.Devices {
		out[d.Place] = d.ID
	}
	return out, err
}

// ByID are recorders' names by their number.
func ByID(recorders map[string]int64) map[int64]string {
	names := make(map[int64]string, len(recorders))
	for name, id := range recorders {
		names[id] = name
	}
	return names
}

// read reads a row that a person typed, beside the list's other rows. but is the row that is edited; the zero
// Source: none.
func (x Row) read(ctx context.Context, c *act.Call, but store.Source) (r expected.Row, recorder int64, err error) {
	recorders, err := RecorderNames(ctx, c.Store, c.Site.ID)
	if err != nil {
		return r, 0, err
	}
	typed := x.typed()
	for name, id := range recorders {
		if typed[expected.Recorder] == strconv.FormatInt(id, 10) { // a form picks it by number
			typed[expected.Recorder] = name
		}
	}
	sources, _, err := c.Store.Window(ctx, store.Selection{Site: c.Site.ID}, store.Sort{}, 0, selectedMost)
	if err != nil {
		return r, 0, err
	}
	names := ByID(recorders)
	there := make([]expected.Entry, len(sources))
	for i, o := range sources {
		there[i] = o.Entry(names)
	}
	var edited expected.Entry
	if but.ID != 0 {
		edited = but.Entry(names)
	}
	r, bad := expected.ReadOne(typed, slices.Sorted(maps.Keys(recorders)), there, edited)
	if bad != nil {
		return r, 0, act.Wrong(string(bad.Field), bad.Says)
	}
	if r.Address.IsValid() && (but.Device.ExpectedAt == nil || *but.Device.ExpectedAt != r.Address) {
		err = Outside(ctx, c, string(expected.Address), r.Address, "Expect it there all the same")
	}
	return r, recorders[r.Recorder], err
}

func addRow(ctx context.Context, c *act.Call, x Row) (act.Kept, error) {
	r, recorder, err := x.read(ctx, c, store.Source{})
	if err != nil {
		return act.Kept{}, err
	}
	known := map[string]int64{}
	if recorder != 0 { // else it is planned for none
		known[r.Recorder] = recorder
	}
	added, _, touched, err := c.Store.Expect(ctx, c.Site.ID, []expected.Row{r}, known)
	says := r.Place + " is on the list: look for it on Find."
	if added == 0 {
		says = r.Place + " is on the list: it is what was found there already."
	}
	return act.Kept{Says: says, Did: "put a camera on the list", Detail: describe(r), Judge: touched}, err
}

// rowOf is a row of the site's list.
func rowOf(ctx context.Context, c *act.Call, id int64) (store.Source, error) {
	of, err := c.Store.SourceByID(ctx, id)
	if err == nil && (of.Device.SiteID != c.Site.ID || of.Device.Kind != identity.Camera) {
		err = store.ErrNotFound
	}
	return of, err
}

func setRow(ctx context.Context, c *act.Call, x ChangedRow) (act.Kept, error) {
	of, err := rowOf(ctx, c, x.ID)
	if err != nil {
		return act.Kept{}, err
	}
	r, recorder, err := x.read(ctx, c, of)
	if err != nil {
		return act.Kept{}, err
	}
	return act.Kept{Says: r.Place + " is kept. Nothing was written to it.", Did: "changed a row of the list", Detail: describe(of.Entry(nil).Row) + " → " + describe(r),
		Judge: []int64{of.Device.ID}}, c.Store.SetExpected(ctx, c.Site.ID, of.ID, r, recorder)
}

// dropRow takes a camera off the list, or a further view of one.
func dropRow(ctx context.Context, c *act.Call, x RowID) (act.Kept, error) {
	of, err := rowOf(ctx, c, x.ID)
	if err != nil {
		return act.Kept{}, err
	}
	judge := []int64{of.Device.ID}
	if !of.First() {
		if err = c.Store.DropSource(ctx, c.Site.ID, of.ID); errors.Is(err, store.ErrBusy) {
			err = trouble.UserError("A change of " + of.Device.Place + " is being made: let it end, or stop its run first.")
		}
		return act.Kept{Says: of.Place + " is off the list; the other views of its device stay.", Did: "took a view off the list", Detail: of.Place, Judge: judge}, err
	}
	stays, err := c.Store.Unlist(ctx, c.Site.ID, of.Device.ID)
	if errors.Is(err, store.ErrBusy) {
		err = trouble.UserError("A change of " + of.Place + " is being made: let it end, or stop its run first.")
	}
	if !stays {
		return act.Kept{Says: of.Place + " is off the list. It was never found, so nothing of it is left.", Did: "took a camera off the list", Detail: of.Place}, err
	}
	return act.Kept{Says: of.Place + " is off the list. What was found stays on Find, and gets no account before it is on the list again.",
		Did: "took a camera off the list", Detail: of.Place, Judge: judge}, err
}

// describe is a row in one line, for the log.
func describe(r expected.Row) string {
	parts := []string{r.Place}
	if r.Address.IsValid() {
		parts = append(parts, r.Address.String())
	}
	for _, s := range []string{r.MAC, strings.TrimSpace(r.Make + " " + r.Model), r.Recorder} {
		if s != "" {
			parts = append(parts, s)
		}
	}
	if r.Input > 0 {
		parts = append(parts, fmt.Sprintf("input %d", r.Input))
	}
	return strings.Join(parts, ", ")
}

// Understood are the rows of a table that can be taken by who takes them (a lead, or not), and what is wrong with
// the others, in the order of their lines.
func Understood(ctx context.Context, st *store.Store, of store.Site, t expected.Table, m expected.Mapping, recorders map[string]int64, lead bool) ([]expected.Row, []expected.Message, error) {
	rows, messages := expected.Read(t, m, slices.Sorted(maps.Keys(recorders)))
	rows, far := expected.MayReach(rows, lead, of.Demo)
	messages = append(messages, far...)
	lines, _, err := st.Compare(ctx, of.ID, rows, ByID(recorders))
	if err != nil {
		return nil, nil, err
	}
	var may []expected.Row
	for i, l := range lines { // a row whose channel a view has that the list doesn't name
		if bad := l.Clash(); bad != nil {
			messages = append(messages, *bad)
			continue
		}
		may = append(may, rows[i])
	}
	slices.SortStableFunc(messages, func(a, b expected.Message) int { return a.Line - b.Line })
	return may, messages, nil
}

// Lines are an expected list.
type Lines struct {
	CSV      string  `form:"csv" json:"csv"`
	Columns  Columns `json:"columns,omitzero"`
	LeaveOut bool    `form:"leave_out" json:"leave_out,omitempty"` // lines that can't be taken
}

// takeLines takes a whole list: where a line of it can't be, none is, unless those may be left out.
func takeLines(ctx context.Context, c *act.Call, x Lines) (act.Kept, error) {
	t, err := expected.ParseCSV([]byte(x.CSV))
	if err != nil {
		return act.Kept{}, act.Wrongf("csv", "That can't be taken: %v.", err)
	}
	says, left, touched, err := take(ctx, c, t, x.Columns.Mapping(t.Head))
	if err != nil && !trouble.IsUserError(err) {
		return act.Kept{}, err
	}
	if len(left) > 0 && (!x.LeaveOut || err != nil) {
		return act.Kept{}, act.Wrongf("csv", "Line %d: %s None of the list was taken.", left[0].Line, left[0].Says)
	}
	if len(left) > 0 {
		says += "; " + act.Count(len(left), "line") + " left out"
	}
	return act.Kept{Says: says + ".", Did: "took an expected list", Detail: says, Judge: touched}, err
}
