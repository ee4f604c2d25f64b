// Package lenstest is a stage and its page as somebody adds them: nothing of the product
// knows it. Tests register it and use it as any other.
package lenstest

import (
	"context"
	"embed"
	"fmt"
	"io/fs"
	"sync"
	"time"

	"duskyharbor/internal/act"
	"duskyharbor/internal/core/finding"
	"duskyharbor/internal/core/ground"
	"duskyharbor/internal/core/stage"
	"duskyharbor/internal/engine"
	"duskyharbor/internal/site"
	"duskyharbor/internal/stages"
	"duskyharbor/internal/store"
	"duskyharbor/internal/web/shell"
)

// Lens is a fact of a stage of one's own.
type Lens struct {
	At    time.Time `json:"at"`
	Focus string    `json:"focus"`
}

var lens = site.SourceFact[Lens]{Name: "lens.reading"}

// Kind of the change that this stage makes.
const Kind = "lens.focus"

// Stage reads lenses and sets them; the lenses themselves are kept here, as a device keeps
// its own.
type Stage struct {
	stages.Services
	mu    sync.Mutex
	focus map[int64]string
}

// New makes the stage.
func New(k stages.Services) engine.Stage { return &Stage{Services: k, focus: map[int64]string{}} }

// ID is a stage that the product doesn't do yet.
func (*Stage) ID() stage.Stage { return stage.Handover }

func (l *Stage) of(view int64) string {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.focus[view] == "" {
		return "near"
	}
	return l.focus[view]
}

// Read reads a lens.
func (l *Stage) Read(ctx context.Context, v *engine.Visit) (string, error) {
	now := time.Now().UTC()
	return "lens read", l.Store.KeepFacts(ctx, lens.New(v.Source, "GetLens", now, Lens{now, l.of(v.Source.ID)}))
}

// Judge says whether it is sharp.
func (*Stage) Judge(_ time.Time, s *site.Snapshot, of site.Source) stage.Verdict {
	x, ok := lens.Of(s, of)
	v := stage.Verdict{Read: ok, Done: "It is sharp."}
	if ok && x.Focus != "far" {
		v.Findings = []finding.Finding{{Code: "lens.blurred", Severity: finding.Needs, Words: "blurred",
			Sentence: "Its lens looks near.", WayOut: "Focus it."}}
	}
	return v
}

// Grounds are how it looks: a proof rests on it.
func (*Stage) Grounds(s *site.Snapshot, of site.Source) []ground.Ground {
	x, _ := lens.Of(s, of)
	return []ground.Ground{{Of: "lens", Is: x.Focus, Under: ground.Proof}}
}

// Propose focuses it.
func (*Stage) Propose(_ time.Time, s *site.Snapshot, of site.Source) []finding.Change {
	x, ok := lens.Of(s, of)
	if !ok || x.Focus == "far" {
		return nil
	}
	return []finding.Change{{Kind: Kind, Key: Kind, Title: "Focus", From: x.Focus, To: "far",
		Why: "What matters is far away.", Risk: finding.NoRisk, Undo: finding.Undo{Kind: finding.Reversible, Note: "Focus it near again."}}}
}

// Editor turns the lens.
func (l *Stage) Editor(_ context.Context, v *engine.Visit, c store.Change) (engine.Editor, error) {
	if c.Kind != Kind {
		return nil, engine.ErrKind
	}
	return engine.EditorFuncs{
		ReadFunc: func(context.Context) (string, error) { return l.of(v.Source.ID), nil },
		WriteFunc: func(context.Context) error {
			l.mu.Lock()
			defer l.mu.Unlock()
			l.focus[v.Source.ID] = c.ToText
			return nil
		},
	}, nil
}

// AfterChange reads the lens again.
func (l *Stage) AfterChange(ctx context.Context, v *engine.Visit, changes []store.Change) error {
	if !engine.AnyOf(changes, stage.Handover) {
		return nil
	}
	_, err := l.Read(ctx, v)
	return err
}

// Focus is how a lens is to look.
type Focus struct {
	act.Camera
	To string `form:"to" json:"to"`
}

// Acts of the stage.
func (*Stage) Acts() []act.Any {
	return []act.Any{act.Act[Focus]{Name: "handover/focus", About: "focus a lens", Stage: stage.Handover, Plan: planFocus}}
}

func planFocus(_ time.Time, s *act.Seen, x Focus) (p act.Planned, err error) {
	of, err := s.The()
	if err != nil {
		return p, err
	}
	if x.To != "near" && x.To != "far" {
		return p, act.Wrong("to", "A lens looks near or far.")
	}
	now, _ := lens.Of(s.Snapshot, of)
	if now.Focus == x.To {
		p.Says = "It looks " + x.To + " already."
		return p, nil
	}
	p.Title = "Focus " + of.Place
	p.Add(of, []finding.Change{{Kind: Kind, Key: Kind, Title: "Focus", From: now.Focus, To: x.To, Why: "A person wants it so.", Risk: finding.NoRisk,
		Undo: finding.Undo{Kind: finding.Reversible, Note: "Focus it as before."}}})
	return p, nil
}

//go:embed page.html page.js page.css sheet.html
var files embed.FS

// Page shows lenses.
type Page struct{ *shell.Server }

// NewPage makes the page.
func NewPage(s *shell.Server) shell.Page { return &Page{s} }

// Slug is its address.
func (*Page) Slug() string { return stage.Handover.Slug() }

// Files are its template, script, style sheet and sheet.
func (*Page) Files() fs.FS { return files }

// Stage is the lens' stage.
func (*Page) Stage() stage.Stage { return stage.Handover }

// Routes adds nothing.
func (*Page) Routes(*shell.Routes) {}

// Build makes the page's data.
func (pg *Page) Build(ctx context.Context, p *shell.Request) (any, error) {
	if err := p.Load(ctx); err != nil {
		return nil, err
	}
	can, err := p.Can(ctx, stage.Handover)
	read := 0
	for _, r := range p.Rows {
		if _, ok := lens.Of(p.Snapshot, r.Source); ok {
			read++
		}
	}
	return map[string]any{"Rows": p.Rows, "Can": can, "Read": read, "Made": time.Now().UnixNano()}, err
}

// Sheet tells how the lens stands.
func (*Page) Sheet(_ context.Context, _ *shell.Request, sh *shell.Sheet) error {
	x, ok := lens.Of(sh.Snapshot, sh.Row.Source)
	if !ok {
		return nil
	}
	sh.Fact("Looks", x.Focus, x.At)
	sh.Verb, sh.Readable = "Focus ", true
	sh.Extra = fmt.Sprintf("its lens looks %s", x.Focus)
	return nil
}
