package shell

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"reflect"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/labstack/echo/v5"

	"duskyharbor/internal/act"
	"duskyharbor/internal/core/finding"
	"duskyharbor/internal/core/trouble"
	"duskyharbor/internal/engine"
	"duskyharbor/internal/people"
	"duskyharbor/internal/site"
	"duskyharbor/internal/store"
)

// RegisterActs adds what may be asked. It must be called before Handler. Two of one name are an error.
func (s *Server) RegisterActs(all ...act.Any) error {
	for _, a := range all {
		name := a.Is().Name
		if _, twice := s.acts[name]; twice {
			return errors.New("shell: two acts are called " + name)
		}
		s.acts[name] = a
		s.actNames = append(s.actNames, name)
	}
	return nil
}

// Acts are those that may be asked, in the order in which they were added.
func (s *Server) Acts() []act.Any {
	out := make([]act.Any, len(s.actNames))
	for i, name := range s.actNames {
		out[i] = s.acts[name]
	}
	return out
}

// Asker is who asks for an act.
type Asker struct {
	Actor
	Role people.Role
	Sure bool // they were asked once more, and want it all the same
}

// Done is what became of an act.
type Done struct {
	Says    string
	ID      int64 // of what was made; 0: nothing was
	Secret  *act.Secret
	Preview *store.Preview // of what would be changed; nil: nothing is
	Run     int64          // that reads what is to be read because of it; 0: none does
	Gone    bool           // the site is no more where it was
	To      string         // the page that a person goes on at; empty: where they were
}

// inlineJudged is how many devices are judged before an act is answered; more are judged soon after.
const inlineJudged = 20

// Do does what an act is asked for, with arguments as its Args made them: it has them checked, what is wished
// kept, and what would be changed shown.
func (s *Server) Do(ctx context.Context, by Asker, a act.Any, args any) (out Done, err error) {
	if role := a.Is().Role; !by.Role.MayChange() || role == people.Lead && by.Role != people.Lead {
		return out, echo.NewHTTPError(http.StatusForbidden, "Only a "+string(role)+" of this site may do that.")
	}
	if c, ok := args.(act.Checker); ok {
		if err := c.Check(); err != nil {
			return out, err
		}
	}
	is := a.Is()
	call, err := s.call(ctx, by)
	if err == nil {
		err = act.More(ctx, a, call, args)
	}
	if err != nil {
		return out, err
	}
	if is.AtOnce {
		return s.atOnce(ctx, call, by, a, args)
	}
	if is.Keeps {
		if out, err = s.keeps(ctx, by, a, args); err != nil {
			return out, err
		}
	}
	if is.Plans {
		p, err := s.plans(ctx, by, a, args)
		if err != nil {
			return out, err
		}
		out.Preview = &p
	}
	return out, nil
}

// atOnce has an act do what it does at once, and writes down what it says was done.
func (s *Server) atOnce(ctx context.Context, call *act.Call, by Asker, a act.Any, args any) (Done, error) {
	kept, err := act.Now(ctx, a, call, args)
	if err != nil {
		return Done{}, err
	}
	if kept.Did != "" {
		err = s.Store.Audit(ctx, store.AuditEntry{Site: by.Site, Person: by.Person, Token: by.Token, Act: kept.Did, Detail: kept.Detail})
	}
	return Done{Says: kept.Says, ID: kept.ID}, err
}

// call is one asking, by what the database says of the site now.
func (s *Server) call(ctx context.Context, by Asker) (*act.Call, error) {
	of, err := s.Store.Site(ctx, by.Site)
	return &act.Call{Now: time.Now(), Site: of, Person: by.Person, Token: by.Token, Role: by.Role, Sure: by.Sure, Store: s.Store}, err
}

func (s *Server) keeps(ctx context.Context, by Asker, a act.Any, args any) (out Done, err error) {
	call, err := s.call(ctx, by)
	if err != nil {
		return out, err
	}
	var kept act.Kept
	err = s.Store.Within(ctx, func(tx *store.Store) (err error) {
		call.Store = tx
		if kept, err = act.Keep(ctx, a, call, args); err != nil {
			return err
		}
		if kept.Did != "" {
			call.Audit(kept.Did, kept.Detail)
		}
		for _, e := range call.Audits() {
			if err := tx.Audit(ctx, store.AuditEntry{Site: by.Site, Person: by.Person, Token: by.Token, Act: e.Did, Detail: e.Detail}); err != nil {
				return err
			}
		}
		if kept.All || len(kept.Judge) > inlineJudged {
			return s.Engine.QueueJudging(ctx, tx, by.Site, map[bool][]int64{false: kept.Judge}[kept.All])
		}
		return nil
	})
	if err != nil {
		return out, err
	}
	s.Engine.Touch(by.Site)
	if n := len(kept.Judge); !kept.All && n > 0 && n <= inlineJudged {
		if err := s.Engine.Judge(ctx, by.Site, kept.Judge); err != nil {
			return out, err
		}
	}
	out = Done{Says: kept.Says, ID: kept.ID, Secret: kept.Secret, Gone: kept.Gone, To: kept.To}
	if l := kept.Scan; l != nil {
		if out.Run, err = s.lookAt(ctx, by.Actor, l.Stage, l.At); err != nil {
			return out, err
		}
	}
	if r := kept.Read; r != nil {
		if out.Run, err = s.StartRead(ctx, by.Actor, r.Stage, r.Of, r.Title); err != nil {
			return out, err
		}
	}
	if kept.After != nil {
		out.Run, err = kept.After(ctx)
	}
	return out, err
}

// plans keeps what an act would change, as it is shown to who asks.
func (s *Server) plans(ctx context.Context, by Asker, a act.Any, args any) (store.Preview, error) {
	is := a.Is()
	call, err := s.call(ctx, by)
	if err != nil {
		return store.Preview{}, err
	}
	seen, asked, err := s.seen(ctx, by.Site, a, args)
	if err != nil {
		return store.Preview{}, err
	}
	planned, err := act.Plan(a, call.Now, seen, args)
	if err != nil {
		return store.Preview{}, err
	}
	devices := make([]int64, 0, len(planned.Of))
	for _, x := range planned.Of {
		devices = append(devices, x.Source.Device.ID)
	}
	slices.Sort(devices)
	open, err := s.Store.OpenChanges(ctx, slices.Compact(devices))
	if err != nil {
		return store.Preview{}, err
	}
	left := Left{Idle: planned.Idle, Cant: planned.Cant, Makes: planned.Makes}
	picks := make([]engine.Pick, 0, len(planned.Of))
	for _, x := range planned.Of {
		all := slices.DeleteFunc(slices.Clone(x.All), func(c finding.Change) bool {
			return slices.ContainsFunc(open, func(o store.Change) bool { return o.About(x.Source) && o.Key == c.Key })
		})
		left.UnderWay += len(x.All) - len(all)
		if x.Ordered && len(all) < len(x.All) { // they are one thing: none of it is done beside what goes on
			left.UnderWay += len(all)
			all = nil
		}
		if len(all) > 0 {
			picks = append(picks, engine.Pick{Source: x.Source, Changes: all, Ordered: x.Ordered})
		}
	}
	if len(picks) == 0 && left.UnderWay == 0 && planned.Says != "" {
		return store.Preview{}, trouble.UserError(planned.Says)
	}
	return s.KeepPreview(ctx, by.Actor, engine.Ask{Stage: cmp.Or(planned.Stage, is.Stage), Title: planned.Title, AskedOf: asked}, picks, left)
}

// seen reads what an act plans from: the recorders, and the devices that its arguments mean.
func (s *Server) seen(ctx context.Context, siteID int64, a act.Any, args any) (*act.Seen, string, error) {
	st := a.Is().Stage
	only, asked := []int64{}, ""
	wanted := map[store.Target]bool{}
	if x, ok := args.(act.Selecter); ok {
		sel, err := x.Selects(siteID)
		if err != nil {
			return nil, "", err
		}
		targets, err := s.Store.Resolve(ctx, sel, st)
		if err != nil {
			return nil, "", err
		}
		for _, t := range targets {
			wanted[t] = true
			only = append(only, t.Device)
		}
	}
	if x, ok := args.(interface{ Asked() string }); ok {
		asked = x.Asked()
	}
	if x, ok := args.(act.Wide); ok {
		only = x.Devices()
	}
	snap, err := site.Load(ctx, s.Store, siteID, only)
	if err != nil {
		return nil, "", err
	}
	seen := &act.Seen{Snapshot: snap}
	for _, of := range snap.Sources {
		if wanted[engine.TargetOf(of, st)] && (!st.OfDevice() || of.First()) {
			seen.Of = append(seen.Of, of)
		}
	}
	return seen, asked, nil
}

// pageAct answers a form that asks for an act.
func (s *Server) pageAct(a act.Any) echo.HandlerFunc {
	return func(c *echo.Context) error {
		args := a.Args()
		if err := bindForm(c, args); err != nil {
			return s.notDone(c, err)
		}
		me := VisitorOf(c)
		done, err := s.Do(c.Request().Context(), Asker{me.Actor(), me.Member.Role, Sure(c)}, a, args)
		switch {
		case c.Request().Header.Get("Accept") == "application/json": // a page's script asks, and stays where it is
			return answerScript(c, done, err)
		case err != nil && (done.To == "" || !IsTold(err)):
			return s.notDone(c, err)
		case err != nil: // what was wished is kept, and nothing can be changed for it
			s.Flash(c.Request().Context(), err.Error())
			return c.Redirect(http.StatusSeeOther, fmt.Sprintf("/sites/%d/%s", me.Member.ID, done.To))
		case done.Preview != nil:
			return s.toPreview(c, *done.Preview, done.To)
		case done.Gone:
			s.Flash(c.Request().Context(), done.Says)
			return c.Redirect(http.StatusSeeOther, "/sites")
		case done.To != "":
			s.Flash(c.Request().Context(), done.Says)
			return c.Redirect(http.StatusSeeOther, fmt.Sprintf("/sites/%d/%s", me.Member.ID, done.To))
		case done.Secret != nil:
			return s.Show(c, Secret{Heading: done.Secret.Heading, Secret: done.Secret.Text, Note: done.Secret.Note, Back: backOf(c)})
		}
		return s.Back(c, done.Says)
	}
}

// answerScript answers a page's script in one sentence.
func answerScript(c *echo.Context, done Done, err error) error {
	var asks act.AskError
	switch {
	case errors.As(err, &asks):
		return c.JSON(http.StatusConflict, map[string]string{"error": asks.Error(), "asks": asks.Do})
	case IsTold(err):
		return c.JSON(http.StatusUnprocessableEntity, map[string]string{"error": err.Error()})
	case err != nil:
		return err
	}
	return c.JSON(http.StatusOK, map[string]any{"says": done.Says, "id": done.ID})
}

// notDone tells a person why an act wasn't done: at the field that is wrong, or by asking once more.
func (s *Server) notDone(c *echo.Context, err error) error {
	var wrong act.WrongError
	var asks act.AskError
	switch {
	case errors.As(err, &wrong):
		return s.Refuse(c, wrong.Field, wrong.Says)
	case errors.As(err, &asks):
		return s.Ask(c, asks.Heading, asks.Text, asks.Do)
	}
	return s.Told(c, err)
}

// ProgramAct answers a program that asks for an act, by JSON.
func (s *Server) ProgramAct(a act.Any, answer func(c *echo.Context, d Done) error) echo.HandlerFunc {
	return func(c *echo.Context) error {
		args := a.Args()
		if err := bindJSON(c, args); err != nil {
			return programNotDone(c, err)
		}
		t := TokenOf(c)
		role := people.Technician
		if slices.Contains(t.Scopes, string(people.ScopeSetUp)) {
			role = people.Lead // who made the token is one, and gave it that
		}
		done, err := s.Do(c.Request().Context(), Asker{ByToken(c), role, c.QueryParam("sure") == "1"}, a, args)
		if err != nil {
			return programNotDone(c, err)
		}
		return answer(c, done)
	}
}

// programNotDone tells a program which argument is wrong, or what is asked once more.
func programNotDone(c *echo.Context, err error) error {
	var wrong act.WrongError
	var asks act.AskError
	switch {
	case errors.As(err, &wrong):
		return c.JSON(http.StatusUnprocessableEntity, map[string]string{"error": wrong.Says, "field": wrong.Field})
	case errors.As(err, &asks):
		return c.JSON(http.StatusConflict, map[string]string{"error": asks.Error() + " Send it again with ?sure=1 if you mean it.", "asks": asks.Do})
	}
	return err
}

// bindForm reads arguments from the address and a form.
func bindForm(c *echo.Context, args any) error {
	if err := echo.BindPathValues(c, args); err != nil {
		return store.ErrNotFound
	}
	form, err := c.FormValues()
	if err != nil {
		return echo.NewHTTPError(http.StatusBadRequest, "The form can't be read.")
	}
	if field := badNumber(reflect.TypeOf(args).Elem(), form); field != "" {
		return act.Wrong(field, strings.ToUpper(field[:1])+strings.ReplaceAll(field[1:], "-", " ")+" is a number.")
	}
	if err := echo.BindBody(c, args); err != nil {
		return echo.NewHTTPError(http.StatusBadRequest, "The form can't be read.")
	}
	if r, ok := args.(act.FormReader); ok {
		return r.ReadForm(act.Form{Values: form, File: func(name string, most int64) (act.File, bool, error) { return fileOf(c, name, most) }})
	}
	return nil
}

// fileOf reads a file that a form brings, of at most so many bytes and one more.
func fileOf(c *echo.Context, name string, most int64) (out act.File, ok bool, err error) {
	h, none := c.FormFile(name)
	if none != nil {
		return out, false, nil
	}
	f, err := h.Open()
	if err != nil {
		return out, false, err
	}
	defer f.Close()
	out.Name = h.Filename
	out.Data, err = io.ReadAll(io.LimitReader(f, most+1))
	return out, true, err
}

// badNumber names the field of a form that should be a number and isn't; empty: none.
func badNumber(t reflect.Type, form url.Values) string {
	for i := range t.NumField() {
		f := t.Field(i)
		if f.Anonymous && f.Type.Kind() == reflect.Struct {
			if bad := badNumber(f.Type, form); bad != "" {
				return bad
			}
			continue
		}
		name, kind := f.Tag.Get("form"), f.Type.Kind()
		if kind == reflect.Slice || kind == reflect.Pointer {
			kind = f.Type.Elem().Kind()
		}
		for _, v := range form[name] {
			var err error
			switch {
			case v == "" || name == "":
			case kind == reflect.Float64:
				_, err = strconv.ParseFloat(v, 64)
			case kind >= reflect.Int && kind <= reflect.Int64:
				_, err = strconv.ParseInt(v, 10, 64)
			case kind == reflect.Bool:
				_, err = strconv.ParseBool(v)
			}
			if err != nil {
				return name
			}
		}
	}
	return ""
}

// bindJSON reads arguments from the address and a program's JSON, which may hold nothing else.
func bindJSON(c *echo.Context, args any) error {
	if err := echo.BindPathValues(c, args); err != nil {
		return store.ErrNotFound
	}
	d := json.NewDecoder(c.Request().Body)
	d.DisallowUnknownFields()
	err := d.Decode(args)
	var kind *json.UnmarshalTypeError
	switch {
	case errors.Is(err, io.EOF): // nothing was sent: it needs no arguments, or says which
		return nil
	case errors.As(err, &kind):
		return act.Wrongf(kind.Field, "%s isn't a %s.", kind.Field, kind.Type.Kind())
	case err != nil:
		return act.Wrongf("", "The arguments can't be read: %s.", strings.TrimPrefix(err.Error(), "json: "))
	case d.More():
		return act.Wrong("", "The arguments can't be read: something follows them.")
	}
	return nil
}
