package api

import (
	"context"
	"encoding/json"
	"net/http"
	"reflect"
	"regexp"
	"strings"
	"time"

	"github.com/getkin/kin-openapi/openapi3"
	"github.com/getkin/kin-openapi/openapi3gen"
	"github.com/labstack/echo/v5"

	"duskyharbor/internal/act"
	"duskyharbor/internal/people"
	"duskyharbor/internal/web/shell"
)

// scopeOf is the scope that a program needs to ask for an act.
func scopeOf(is act.Is) people.Scope {
	switch {
	case is.Runs:
		return people.ScopeRun
	case is.Keeps:
		return people.ScopeSetUp
	}
	return people.ScopeApply
}

// Act is an act as programs are told of it.
type Act struct {
	Name  string `json:"name"`
	About string `json:"about"`
	Stage string `json:"stage,omitempty"` // whose changes it asks for
	Scope string `json:"scope" enum:"run,apply,setup"`
	// Plans says that it answers with a preview, which is made by itself; Keeps that it keeps a wish.
	Plans bool `json:"plans"`
	Keeps bool `json:"keeps"`
}

// Done is what became of an act that changes nothing on a device.
type Done struct {
	Says string `json:"says"`
	ID   int64  `json:"id,omitempty"`     // of what was made
	Run  int64  `json:"run_id,omitempty"` // that reads what is to be read because of it
}

// routeActs has each act asked for by programs that may.
func (pg *Page) routeActs(site *echo.Group) {
	site.GET("/acts", pg.acts)
	for _, a := range pg.Acts() {
		if is := a.Is(); !is.Alone {
			site.POST("/acts/"+is.Name, pg.ProgramAct(a, answer), pg.Scoped(scopeOf(is)))
		}
	}
}

func answer(c *echo.Context, d shell.Done) error {
	if d.Preview != nil {
		return sendPreview(c, *d.Preview)
	}
	return c.JSON(http.StatusOK, Done{d.Says, d.ID, d.Run})
}

// acts answers with what may be asked for.
func (pg *Page) acts(c *echo.Context) error {
	out := []Act{}
	for _, a := range pg.Acts() {
		if is := a.Is(); !is.Alone {
			out = append(out, Act{is.Name, is.About, is.Stage.Slug(), string(scopeOf(is)), is.Plans, is.Keeps})
		}
	}
	return c.JSON(http.StatusOK, map[string]any{"acts": out})
}

var pathArgument = regexp.MustCompile(`:([a-z]+)`)

// Describe is the description of the interface: the readings as they are written down, and the acts from their
// own arguments.
func Describe(all []act.Any) (*openapi3.T, error) {
	doc, err := openapi3.NewLoader().LoadFromData(openAPI)
	if err != nil {
		return nil, err
	}
	for name, v := range schemas {
		told, err := schemaOf(v)
		if err != nil {
			return nil, err
		}
		*doc.Components.Schemas[name].Value = *told.Value // all that refer to it have it
	}
	for _, a := range all {
		is := a.Is()
		if is.Alone {
			continue
		}
		args, err := openapi3gen.NewSchemaRefForValue(a.Args(), nil, openapi3gen.SchemaCustomizer(texts))
		if err != nil {
			return nil, err
		}
		args.Value.AdditionalProperties = openapi3.AdditionalProperties{Has: new(bool)}
		doc.Paths.Set("/api/v1/sites/{site}/acts/"+pathArgument.ReplaceAllString(is.Name, "{$1}"), pathOf(doc, is, args))
	}
	for _, r := range readings {
		out, err := schemaOf(r.Out)
		if err != nil {
			return nil, err
		}
		answer := openapi3.NewObjectSchema().WithRequired([]string{r.As, "total"})
		answer.Properties = openapi3.Schemas{r.As: out, "total": openapi3.NewSchemaRef("", openapi3.NewIntegerSchema())}
		op := &openapi3.Operation{Summary: r.About, Responses: openapi3.NewResponses(),
			Parameters: openapi3.Parameters{doc.Components.Parameters["words"], doc.Components.Parameters["after"], doc.Components.Parameters["limit"]}}
		op.Responses.Delete("default")
		op.AddResponse(http.StatusOK, openapi3.NewResponse().WithDescription(r.As).WithJSONSchema(answer))
		op.AddResponse(http.StatusBadRequest, openapi3.NewResponse().WithDescription("after and limit are numbers").
			WithJSONSchemaRef(openapi3.NewSchemaRef("#/components/schemas/Error", doc.Components.Schemas["Error"].Value)))
		op.AddResponse(http.StatusNotModified, openapi3.NewResponse().WithDescription("as it was, by the tag that was sent as If-None-Match"))
		doc.Paths.Set("/api/v1/sites/{site}/"+r.Path, &openapi3.PathItem{Get: op, Parameters: openapi3.Parameters{doc.Components.Parameters["site"]}})
	}
	return doc, doc.Validate(context.Background())
}

// schemas are what the interface answers with, by its name in the description.
var schemas = map[string]any{"Act": Act{}, "Done": Done{}, "Mark": Mark{}, "Camera": Camera{}, "Fact": Fact{}, "Finding": Finding{}, "Run": Run{},
	"Step": Step{}, "Proposal": Proposal{}, "Preview": Preview{}, "Change": shell.Change{}}

// schemaOf describes what is answered: a field that isn't left out where it is empty is always there.
func schemaOf(v any) (*openapi3.SchemaRef, error) {
	return openapi3gen.NewSchemaRefForValue(v, nil, openapi3gen.SchemaCustomizer(func(name string, t reflect.Type, tag reflect.StructTag, schema *openapi3.Schema) error {
		if err := texts(name, t, tag, schema); err != nil {
			return err
		}
		if t.Kind() != reflect.Struct || t == reflect.TypeFor[time.Time]() || t.PkgPath() == "net/netip" {
			return nil
		}
		for i := range t.NumField() {
			field, opts, _ := strings.Cut(t.Field(i).Tag.Get("json"), ",")
			if field == "" || field == "-" || strings.Contains(opts, "omit") || schema.Properties[field] == nil {
				continue
			}
			schema.Required = append(schema.Required, field)
			if t.Field(i).Type.Kind() == reflect.Slice { // none of a list that is always told is null
				schema.Properties[field].Value.Nullable = true
			}
		}
		return nil
	}))
}

// texts describes what is written otherwise than Go would have it: addresses, and a week of half hours.
//
// What a field may be is in its tag enum, parted by commas.
func texts(_ string, t reflect.Type, tag reflect.StructTag, schema *openapi3.Schema) error {
	if may, ok := tag.Lookup("enum"); ok {
		for is := range strings.SplitSeq(may, ",") {
			schema.Enum = append(schema.Enum, is)
		}
	}
	switch t.String() {
	case "netip.Addr":
		*schema = *openapi3.NewStringSchema()
	case "recording.Week":
		day := openapi3.NewStringSchema().WithPattern("^[0-9]{48}$")
		*schema = *openapi3.NewArraySchema().WithItems(day).WithMinItems(7).WithMaxItems(7)
		schema.Description = "Monday first; of each half hour the place, from 0, of the kind of hours among modes"
	}
	return nil
}

func pathOf(doc *openapi3.T, is act.Is, args *openapi3.SchemaRef) *openapi3.PathItem {
	op := &openapi3.Operation{Summary: strings.ToUpper(is.About[:1]) + is.About[1:] + " (scope " + string(scopeOf(is)) + ")",
		RequestBody: &openapi3.RequestBodyRef{Value: openapi3.NewRequestBody().WithJSONSchemaRef(args)}, Responses: openapi3.NewResponses()}
	op.Responses.Delete("default")
	status, says := http.StatusOK, "Done"
	if is.Plans {
		status, says = http.StatusCreated, "Preview"
	}
	for code, of := range map[int]string{status: says, http.StatusForbidden: "Error", http.StatusNotFound: "Error", http.StatusConflict: "Asks", http.StatusUnprocessableEntity: "Wrong"} {
		ref := openapi3.NewSchemaRef("#/components/schemas/"+of, doc.Components.Schemas[of].Value)
		op.AddResponse(code, openapi3.NewResponse().WithDescription(http.StatusText(code)).WithJSONSchemaRef(ref))
	}
	item := &openapi3.PathItem{Post: op, Parameters: openapi3.Parameters{doc.Components.Parameters["site"]}}
	for _, m := range pathArgument.FindAllStringSubmatch(is.Name, -1) {
		item.Parameters = append(item.Parameters, &openapi3.ParameterRef{Value: openapi3.NewPathParameter(m[1]).WithSchema(openapi3.NewInt64Schema())})
	}
	op.AddParameter(openapi3.NewQueryParameter("sure").WithSchema(openapi3.NewStringSchema().WithEnum("1")).
		WithDescription("it was asked once more, and is meant"))
	return item
}

// described serves the description.
func (pg *Page) described(c *echo.Context) error {
	doc, err := Describe(pg.Acts())
	if err != nil {
		return err
	}
	text, err := json.Marshal(doc)
	if err != nil {
		return err
	}
	return c.JSONBlob(http.StatusOK, text)
}
