package setup

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"duskyharbor/internal/act"
	"duskyharbor/internal/core/expected"
	"duskyharbor/internal/core/trouble"
	"duskyharbor/internal/people"
	"duskyharbor/internal/store"
	"duskyharbor/internal/workbook"
)

// uploads are a list that one person looks at before they take it: a program takes it at once, see Lines.
func uploads() []act.Any {
	return []act.Any{
		act.Act[Upload]{Name: "expected/upload", About: "keep a file of an expected list, to be looked at", Alone: true, Keep: keepUpload},
		act.Act[Pasted]{Name: "expected/paste", About: "keep pasted rows of an expected list, to be looked at", Alone: true, Keep: paste},
		act.Act[Columns]{Name: "expected/take", About: "take the list that was looked at", Alone: true, Keep: takeUpload},
		act.Act[struct{}]{Name: "expected/drop", About: "leave the list that was looked at", Alone: true, Keep: dropUpload},
	}
}

// Upload is a file as it was sent.
type Upload struct {
	file act.File
	sent bool
}

// ReadForm takes the file.
func (x *Upload) ReadForm(f act.Form) (err error) {
	x.file, x.sent, err = f.File("list", act.MaxFile)
	return err
}

// Check is what is wrong with it.
func (x Upload) Check() error {
	switch {
	case !x.sent:
		return act.Wrong("list", "Choose a CSV or XLSX file first.")
	case len(x.file.Data) > act.MaxFile:
		return act.Wrongf("list", "%.60s is larger than %d MB: a list of cameras isn't.", x.file.Name, act.MaxFile>>20)
	}
	return nil
}

// maxFileName is how much of a file's name is kept, in bytes.
const maxFileName = 100

func keepUpload(ctx context.Context, c *act.Call, x Upload) (act.Kept, error) {
	t, err := workbook.Read(x.file.Data)
	if err != nil { // what was shown before isn't this file's
		return act.Kept{Says: fmt.Sprintf("%.60s can't be taken: %v.", x.file.Name, err)}, c.Store.DropUpload(ctx, c.Site.ID, c.Person)
	}
	name := strings.ToValidUTF8(strings.ReplaceAll(x.file.Name[:min(len(x.file.Name), maxFileName)], "\x00", ""), "")
	return act.Kept{}, c.Store.KeepUpload(ctx, c.Site.ID, c.Person, name, t)
}

// Pasted are rows from a spreadsheet, with their heading or in the usual order.
type Pasted struct {
	Rows string `form:"rows"`
}

func paste(ctx context.Context, c *act.Call, x Pasted) (act.Kept, error) {
	t, err := expected.ParseCSV([]byte(x.Rows))
	if errors.Is(err, expected.ErrEmpty) && len(t.Head) > 0 {
		err = nil // a single line without a heading
	}
	if t = t.Headed(); err == nil && len(t.Lines) == 0 {
		err = expected.ErrEmpty
	}
	if err != nil {
		return act.Kept{}, act.Wrongf("rows", "That can't be taken: %v.", err)
	}
	return act.Kept{}, c.Store.KeepUpload(ctx, c.Site.ID, c.Person, "Pasted rows", t)
}

// Columns say from which column of a list, counted from 0, each field is read: "none" from none; empty, from the one
// that the heading names.
type Columns struct {
	Place    string `form:"col-place" json:"place,omitempty"`
	Address  string `form:"col-address" json:"address,omitempty"`
	MAC      string `form:"col-mac" json:"mac,omitempty"`
	Make     string `form:"col-make" json:"make,omitempty"`
	Model    string `form:"col-model" json:"model,omitempty"`
	Recorder string `form:"col-recorder" json:"recorder,omitempty"`
	Channel  string `form:"col-channel" json:"channel,omitempty"`
	Input    string `form:"col-input" json:"input,omitempty"`
}

// Mapping is where the fields of a list with that heading stand.
func (x Columns) Mapping(head []string) expected.Mapping {
	return expected.Choose(head, map[expected.Field]string{expected.Place: x.Place, expected.Address: x.Address, expected.MAC: x.MAC, expected.Make: x.Make,
		expected.Model: x.Model, expected.Recorder: x.Recorder, expected.Channel: x.Channel, expected.Input: x.Input})
}

// takeUpload writes the lines that can be taken; the others stay, for their person to see what each lacks.
func takeUpload(ctx context.Context, c *act.Call, x Columns) (act.Kept, error) {
	u, err := c.Store.Upload(ctx, c.Site.ID, c.Person)
	if errors.Is(err, store.ErrNotFound) {
		return act.Kept{}, trouble.UserError("That list is gone: upload it again.")
	}
	if err != nil {
		return act.Kept{}, err
	}
	says, left, touched, err := take(ctx, c, u.Lines, x.Mapping(u.Lines.Head))
	if err != nil {
		return act.Kept{}, err
	}
	says = u.Name + ": " + says
	if len(left) > 0 {
		says += "; " + act.Count(len(left), "line") + " left out: what each lacks stands here still"
		u.Lines.Lines = slices.DeleteFunc(u.Lines.Lines, func(l expected.Line) bool {
			return !slices.ContainsFunc(left, func(m expected.Message) bool { return m.Line == l.Number })
		})
		err = c.Store.KeepUpload(ctx, c.Site.ID, c.Person, u.Name, u.Lines)
	} else {
		err = c.Store.DropUpload(ctx, c.Site.ID, c.Person)
	}
	return act.Kept{Says: says + ".", Did: "took an expected list", Detail: says, Judge: touched}, err
}

// take writes the lines of a list that can be taken, and tells what is wrong with the others.
func take(ctx context.Context, c *act.Call, t expected.Table, m expected.Mapping) (says string, left []expected.Message, touched []int64, err error) {
	recorders, err := RecorderNames(ctx, c.Store, c.Site.ID)
	if err != nil {
		return "", nil, nil, err
	}
	rows, left, err := Understood(ctx, c.Store, c.Site, t, m, recorders, c.Role == people.Lead)
	if err != nil {
		return "", nil, nil, err
	}
	if len(rows) == 0 {
		return "", left, nil, trouble.UserError("No line of it can be taken: see what each one lacks.")
	}
	added, changed, touched, err := c.Store.Expect(ctx, c.Site.ID, rows, recorders)
	return fmt.Sprintf("%s new, %s known", act.Count(added, "camera"), act.Count(changed, "camera")), left, touched, err
}

func dropUpload(ctx context.Context, c *act.Call, _ struct{}) (act.Kept, error) {
	was, err := c.Store.Upload(ctx, c.Site.ID, c.Person)
	if errors.Is(err, store.ErrNotFound) {
		return act.Kept{}, c.Store.DropUpload(ctx, c.Site.ID, c.Person) // one that nobody took in an hour
	}
	if err != nil {
		return act.Kept{}, err
	}
	return act.Kept{Did: "left an uploaded list", Detail: was.Name}, c.Store.DropUpload(ctx, c.Site.ID, c.Person)
}
