package channels

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"

	"duskyharbor/internal/core/channel"
	"duskyharbor/internal/core/finding"
	"duskyharbor/internal/core/trouble"
	"duskyharbor/internal/device/dial"
	"duskyharbor/internal/device/recorder"
	"duskyharbor/internal/engine"
	"duskyharbor/internal/recorders"
	"duskyharbor/internal/stages"
	"duskyharbor/internal/store"
)

// wholeEditor reads and writes what is of a recorder as a whole: an analog input, a restart, which
// models it takes.
func (c *Stage) wholeEditor(ctx context.Context, v *engine.Visit, ch store.Change) (engine.Editor, error) {
	client, err := c.Accounts.Recorder(ctx, v.Device)
	if err != nil {
		return nil, err
	}
	if ch.Kind == channel.TakeChannel || ch.Kind == channel.NameTaken {
		return c.cascadeEditor(ctx, v, client, ch)
	}
	w := &whole{c, client, ch, false}
	e := engine.EditorFuncs{ReadFunc: w.readRestart, WriteFunc: w.restart, Shut: client.Close}
	status := func(text func(channel.Recorder) string) func(context.Context) (string, error) {
		return func(ctx context.Context) (string, error) {
			r, _, err := client.Status(ctx)
			return text(r), err
		}
	}
	switch ch.Kind {
	case channel.RenewList:
		e.ReadFunc = status(channel.Recorder.ListText)
		e.WriteFunc = client.RenewList
	case channel.RestartServices:
		e.ReadFunc, e.WriteFunc = status(channel.Recorder.ServicesText), client.RestartServices
	case channel.AllowOthers:
		e.ReadFunc = status(channel.Recorder.OthersText)
		e.WriteFunc = func(ctx context.Context) error { return client.AllowOthers(ctx, ch.Args["allow"] == "true") }
	case channel.TakeOut:
		number, err := strconv.Atoi(ch.Args["channel"])
		if err != nil {
			client.Close()
			return nil, fmt.Errorf("change %d names no channel", ch.ID)
		}
		e.ReadFunc = func(ctx context.Context) (string, error) {
			slot, taken, err := recorders.Slot(ctx, client, number)
			if err != nil || !taken {
				return channel.Empty, err
			}
			return channel.SlotText(slot.Name, slot.Address), nil
		}
		e.WriteFunc = func(ctx context.Context) error { return client.Remove(ctx, number) }
	case channel.SwitchInput:
		number, err := strconv.Atoi(ch.Args["input"])
		if err != nil {
			client.Close()
			return nil, fmt.Errorf("change %d names no input", ch.ID)
		}
		e.ReadFunc = func(ctx context.Context) (string, error) { return w.readInput(ctx, number) }
		e.WriteFunc = func(ctx context.Context) error { return client.SetAnalog(ctx, number, ch.Args["on"] == "true") }
	}
	return e, nil
}

type whole struct {
	stage  *Stage
	client recorder.Driver
	c      store.Change
	wrote  bool // by this editor
}

func (w *whole) readInput(ctx context.Context, number int) (string, error) {
	r, _, err := w.client.Status(ctx)
	if err != nil {
		return "", err
	}
	i := slices.IndexFunc(r.Analog, func(a channel.Analog) bool { return a.Number == number })
	if i < 0 {
		return "", trouble.UserError(fmt.Sprintf("It has no analog input %d any more.", number))
	}
	return r.Analog[i].Text(), nil
}

func (w *whole) restart(ctx context.Context) error {
	w.wrote, w.c.SentAt = true, nil // it is told now, whenever it was before
	return w.client.Restart(ctx)
}

// awayText is what a recorder reads that was told to start again and is silent.
const awayText = "away"

// readRestart says whether anything waits. Once it was told to start again it is waited for until
// nothing does.
func (w *whole) readRestart(ctx context.Context) (string, error) {
	r, _, err := w.client.Status(ctx)
	told := w.wrote || w.c.Writes > 0
	switch stands := finding.Await(told, errors.Is(err, dial.ErrUnreachable), stages.Sent(w.c), w.stage.Away); {
	case err != nil && stands == finding.Underway:
		return "", engine.PendingError{Reads: awayText, Says: "it starts again"}
	case err != nil:
		return "", err
	case r.WaitText() == channel.NothingLeft:
		return channel.NothingLeft, nil
	case stands == finding.Lingers:
		return "", engine.PendingError{Says: "it hasn't gone away yet to start again"}
	}
	return channel.Waiting, nil
}
