package shell

import (
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strings"

	"github.com/labstack/echo/v5"
)

// secretFields are what is typed and never kept.
var secretFields = []string{"_csrf", "password", "new", "again", "code", "set-password"}

// Refused is a form that wasn't taken: what was typed stands in it again, with what is wrong at
// its field.
type Refused struct {
	Act    string              // of the site, as "settings/network"
	Field  string              // empty: the form as a whole
	Says   string              // what is wrong
	Values map[string][]string // without what is secret
}

// Refuse sends the person back with what is wrong with a field; what they typed isn't lost.
func (s *Server) Refuse(c *echo.Context, field, says string) error {
	form, err := c.FormValues()
	if err != nil {
		return echo.NewHTTPError(http.StatusBadRequest, "The form can't be read.")
	}
	r := Refused{Act: actOf(c), Field: field, Says: says, Values: map[string][]string{}}
	size := 0
	for k, v := range form {
		if !slices.Contains(secretFields, k) {
			r.Values[k] = v
			size += len(k) + len(strings.Join(v, ""))
		}
	}
	if size > 64<<10 { // a pasted list: the browser's own memory of it has to do
		r.Values = nil
	}
	kept, err := json.Marshal(r)
	if err != nil {
		return err
	}
	s.sessions.Put(c.Request().Context(), "refused", string(kept))
	return s.Back(c, says)
}

// actOf is what a form asks, below its site.
func actOf(c *echo.Context) string {
	_, act, _ := strings.Cut(strings.TrimPrefix(c.Request().URL.Path, "/sites/"), "/")
	return act
}

// Refuses says whether the form of an act was just refused.
func (b Frame) Refuses(act string) bool { return b.Refused.Says != "" && b.Refused.Act == act }

// Field is what stands in a field of a form: what was typed where the form was just refused,
// else what usually does.
func (b Frame) Field(act, name string, usual any) string {
	if b.Refuses(act) && b.Refused.Values != nil {
		return url.Values(b.Refused.Values).Get(name)
	}
	return fmt.Sprint(usual)
}

// Fields are all values of a field of a form that was just refused.
func (b Frame) Fields(act, name string) []string {
	if !b.Refuses(act) {
		return nil
	}
	return b.Refused.Values[name]
}

// Wrong is what is wrong with a field of a form that was just refused; empty: nothing.
func (b Frame) Wrong(act, name string) string {
	if b.Refuses(act) && b.Refused.Field == name {
		return b.Refused.Says
	}
	return ""
}

// Question is asked once, before a form is taken: what it means, and the button that takes it
// all the same.
type Question struct {
	Heading, Text, Do string
	Act               string
	Values            []Value
	Back              string
}

// Value is one value of a form.
type Value struct{ Name, Value string }

// Sure says whether the person was asked, and wants it all the same.
func Sure(c *echo.Context) bool { return c.FormValue("sure") == "1" }

// Ask asks the person once more, with what they typed.
func (s *Server) Ask(c *echo.Context, heading, text, do string) error {
	form, err := c.FormValues()
	if err != nil {
		return echo.NewHTTPError(http.StatusBadRequest, "The form can't be read.")
	}
	q := Question{Heading: heading, Text: text, Do: do, Act: c.Request().URL.Path, Back: backOf(c)}
	for k, all := range form {
		if slices.Contains(secretFields, k) || k == "sure" {
			continue
		}
		for _, v := range all {
			q.Values = append(q.Values, Value{k, v})
		}
	}
	slices.SortStableFunc(q.Values, func(a, b Value) int { return strings.Compare(a.Name, b.Name) })
	b := s.bare(c, heading, "")
	b.Me, b.Data = VisitorOf(c).Person, q
	c.Response().Header().Set("Cache-Control", "no-store")
	return c.Render(http.StatusOK, "ask", b)
}
