// Package log tells who changed what.
package log

import (
	"context"
	"embed"
	"encoding/csv"
	"fmt"
	"io/fs"
	"net/http"
	"slices"
	"strconv"
	"time"

	"github.com/labstack/echo/v5"

	"duskyharbor/internal/core/clock"
	"duskyharbor/internal/core/expected"
	"duskyharbor/internal/store"
	"duskyharbor/internal/web/shell"
)

//go:embed page.html
var files embed.FS

// Page is its page.
type Page struct {
	*shell.Server
}

// New makes the page.
func New(s *shell.Server) *Page { return &Page{s} }

// Slug is its address.
func (*Page) Slug() string { return "log" }

// Files are its template.
func (*Page) Files() fs.FS { return files }

// Routes adds what it answers besides its page.
func (pg *Page) Routes(r *shell.Routes) {
	r.Site.GET("/log/changes.:form", pg.exportLog)
}

// logData is the history of a site or of one camera, and what people did.
type logData struct {
	Part    string // "changes", "runs" or "people"
	Parts   []part
	Changes []shell.PastChange
	Audit   []store.AuditLine
	Runs    []pastRun
	Camera  *store.Source
	From    int // 1 for the newest
	Back    string
	Next    string
}

// part is one part of the log: what is asked of it, and where it is.
type part struct {
	Slug, Name, Question string
}

var parts = []part{
	{"changes", "Changes on devices", "Who changed what, from what to what, and did it hold?"},
	{"runs", "Runs", "What was read, changed and tested, by whom, and how did it end?"},
	{"people", "What people did", "Who did what here?"},
}

// pastRun is a run with how long it took.
type pastRun struct {
	store.Run
	Took string // empty: it is under way
}

// logRows is how many lines the log shows at once.
const logRows = 100

// mostFrom is the last line that can be asked for.
const mostFrom = 1_000_000_000

// Build makes the page's data.
func (pg *Page) Build(ctx context.Context, p *shell.Request) (any, error) {
	q := p.URL.Query()
	d := logData{Part: "changes", From: 1, Parts: parts}
	if slices.ContainsFunc(parts, func(x part) bool { return x.Slug == q.Get("part") }) {
		d.Part = q.Get("part")
	}
	if n, err := strconv.Atoi(q.Get("from")); err == nil {
		d.From = min(max(1, n), mostFrom)
	}
	var source int64
	if id, err := strconv.ParseInt(q.Get("camera"), 10, 64); err == nil {
		of, err := pg.Store.SourceByID(ctx, id)
		if err != nil || of.Device.SiteID != p.Site.ID {
			return nil, store.ErrNotFound
		}
		d.Camera, source = &of, id
	}
	lines := 0
	switch d.Part {
	case "runs":
		all, err := pg.Store.Runs(ctx, p.Site.ID, d.From-1, logRows+1)
		if err != nil {
			return nil, err
		}
		lines = len(all)
		for _, r := range all[:min(lines, logRows)] {
			d.Runs = append(d.Runs, pastRun{r, took(r)})
		}
	case "people":
		all, err := pg.Store.AuditLines(ctx, p.Site.ID, d.From-1, logRows+1)
		if err != nil {
			return nil, err
		}
		d.Audit, lines = all[:min(len(all), logRows)], len(all)
	default:
		all, err := pg.Store.Changes(ctx, p.Site.ID, source, d.From-1, logRows+1)
		if err != nil {
			return nil, err
		}
		d.Changes, lines = shell.Past(all[:min(len(all), logRows)]), len(all)
		if d.From > 1 { // what is newer isn't here to be compared with
			for i := range d.Changes {
				d.Changes[i].Back = ""
			}
		}
	}
	if d.From > 1 {
		d.Back = shell.WithQuery(p.URL, "from", fmt.Sprint(max(1, d.From-logRows)))
	}
	if lines > logRows {
		d.Next = shell.WithQuery(p.URL, "from", fmt.Sprint(d.From+logRows))
	}
	return d, nil
}

// took says how long a run took, as "3 s"; empty where it hasn't ended.
func took(r store.Run) string {
	if r.EndedAt == nil {
		return ""
	}
	d := r.EndedAt.Sub(r.StartedAt)
	if d < 10*time.Second {
		return strconv.FormatFloat(d.Seconds(), 'f', 1, 64) + " s"
	}
	return clock.Length(d)
}

// Question is what the part of the log that is shown answers.
func (d logData) Question() string {
	if d.Camera != nil {
		return "Who changed what on " + d.Camera.Place + ", from what to what, and did it hold?"
	}
	i := slices.IndexFunc(parts, func(x part) bool { return x.Slug == d.Part })
	return parts[i].Question
}

// exportMost is how many lines an export holds at most.
const exportMost = 50_000

// exportLog sends the history of a site, or of one camera, as CSV or JSON.
func (pg *Page) exportLog(c *echo.Context) error {
	ctx, me := c.Request().Context(), shell.VisitorOf(c)
	source, _ := strconv.ParseInt(c.QueryParam("camera"), 10, 64)
	all, err := pg.Store.Changes(ctx, me.Member.ID, source, 0, exportMost)
	if err != nil {
		return err
	}
	if err := pg.Store.Audit(ctx, store.AuditEntry{Site: me.Member.ID, Person: me.Person.ID,
		Act: "exported the history", Detail: fmt.Sprintf("%d changes", len(all))}); err != nil {
		return err
	}
	name := "changes-" + time.Now().UTC().Format("20060102-1504")
	h := c.Response().Header()
	h.Set("Cache-Control", "no-store")
	if c.Param("form") == "json" {
		h.Set("Content-Disposition", `attachment; filename="`+name+`.json"`)
		out := make([]shell.Change, len(all))
		for i, x := range all {
			out[i] = shell.ChangeOut(x)
		}
		return c.JSON(http.StatusOK, map[string]any{"site": me.Member.Name, "changes": out})
	}
	h.Set("Content-Disposition", `attachment; filename="`+name+`.csv"`)
	h.Set("Content-Type", "text/csv; charset=utf-8")
	return writeChanges(c.Response(), all)
}

func writeChanges(w http.ResponseWriter, all []store.Change) error {
	out := csv.NewWriter(w)
	_ = out.Write([]string{"asked at (UTC)", "by", "place", "stage", "what", "from", "to", "state", "says", "reads",
		"times sent", "sent at (UTC)", "settled at (UTC)"})
	for _, c := range all {
		cells := []string{stamp(&c.AskedAt), c.Who, c.Place, c.Stage.String(), c.Title, c.FromText, c.ToText,
			string(c.State), c.Says, c.Reads, strconv.Itoa(c.Writes), stamp(c.SentAt), stamp(c.SettledAt)}
		for i := range cells {
			cells[i] = expected.Plain(cells[i])
		}
		if err := out.Write(cells); err != nil {
			return err
		}
	}
	out.Flush()
	return out.Error()
}

func stamp(t *time.Time) string {
	if t == nil {
		return ""
	}
	return t.UTC().Format("2006-01-02 15:04:05")
}
