package engine

import (
	"cmp"
	"context"
	"fmt"
	"strings"

	"duskyharbor/internal/core/stage"
	"duskyharbor/internal/core/trouble"
	"duskyharbor/internal/store"
)

// Subject is what a stage's readings are of.
type Subject int

const (
	Cameras             Subject = iota
	CamerasAndRecorders         // recorders too, where no camera is named one by one
	Recorders                   // recorders alone: one reading serves all cameras of one
	Networks
	Nothing // it is asked for by itself, not for a selection
)

// Read begins a run that reads a stage of a selection: what of it can be read now. factory
// and set are as Visit has them.
func (e *Engine) Read(ctx context.Context, q Ask, sel store.Selection, factory bool, set int64) (int64, error) {
	n := store.NewRun{Site: q.Site, Stage: q.Stage, Act: store.Read, Person: q.Person, Token: q.Token,
		AskedOf: q.AskedOf, Factory: factory, Set: set, Then: q.Then, After: q.after, Chain: q.chain}
	of := e.manner(q.Stage).Of
	switch {
	case of == Nothing || !e.Does(q.Stage):
		return 0, store.ErrNotFound
	case of == Networks:
		networks, err := e.store.Networks(ctx, q.Site)
		if err != nil {
			return 0, err
		}
		for _, w := range networks {
			n.Networks = append(n.Networks, w.ID)
		}
		if len(n.Then) == 0 {
			n.AskedOf = "" // what was asked matters to the stages that follow alone
		}
		n.Title = fmt.Sprintf("Look at %s", counted(len(networks), "network"))
		return e.Begin(ctx, n, false)
	}
	named := sel.IDs != nil || !sel.Filter.Empty() // not all of the site
	if of == Recorders {
		matched, err := e.store.Resolve(ctx, sel, q.Stage)
		if err != nil {
			return 0, err
		}
		if named && len(matched) == 0 {
			return 0, errNoneMatches
		}
	}
	var err error
	sel.Ready = q.Stage
	if of != Recorders {
		if n.Of, err = e.store.Resolve(ctx, sel, q.Stage); err != nil {
			return 0, err
		}
	}
	cameras := len(n.Of)
	if of != Recorders && cameras == 0 && (named || q.after != 0) {
		return 0, errNoneMatches
	}
	if of == Recorders || of == CamerasAndRecorders && sel.IDs == nil {
		recorders, err := e.store.RecordersHeard(ctx, q.Site)
		if err != nil {
			return 0, err
		}
		n.Of = append(n.Of, store.OfDevices(recorders...)...)
	}
	noun := "view"
	if q.Stage.OfDevice() {
		noun = "camera"
	}
	var what []string
	if cameras > 0 {
		what = append(what, counted(cameras, noun))
	}
	if recorders := len(n.Of) - cameras; recorders > 0 {
		what = append(what, counted(recorders, "recorder"))
	}
	n.Title = fmt.Sprintf("Read %s of %s", q.Stage, cmp.Or(strings.Join(what, " and "), "nothing"))
	return e.Begin(ctx, n, false)
}

// errNoneMatches says that there is nothing of a selection that can be read.
const errNoneMatches = trouble.UserError("None of what was asked for can be read now: nothing was read.")

func counted(n int, one string) string {
	if n == 1 {
		return "1 " + one
	}
	return stage.Thousands(n) + " " + one + "s"
}

// errLater says that a stage isn't done by this version.
func errLater(st stage.Stage) error {
	return trouble.UserErrorf("%s is still to come in this version.", st)
}
