package engine

import (
	"context"
	"errors"
	"fmt"
	"os"
	"strconv"
	"strings"
	"syscall"
	"time"

	"duskyharbor/internal/core/stage"
	"duskyharbor/internal/store"
)

const (
	beat     = 2 * time.Second  // how often a server tells the others that it lives
	silence  = 15 * time.Second // after which its work is taken over
	dueRound = 20 * time.Second // how often marks that are no longer valid are looked for
	dueMost  = 300              // sources judged again in one round
	tidyUp   = 10 * time.Minute // how often what is too old to be of use is deleted
)

// watch beats, takes over the work of servers that died, and has marks judged again
// whose time is over or that older rules made.
func (e *Engine) watch() {
	defer e.done.Done()
	tick := time.NewTicker(beat)
	defer tick.Stop()
	due, tidy := time.Now(), time.Now().Add(tidyUp)
	for {
		ctx, cancel := context.WithTimeout(context.Background(), 10*time.Second)
		if err := e.recover(ctx); err != nil {
			e.opt.Log.Warn("other servers can't be looked after", "err", err)
		}
		if err := e.goOn(ctx); err != nil {
			e.opt.Log.Warn("runs can't go on with their next stage", "err", err)
		}
		if !time.Now().Before(due) {
			due = time.Now().Add(dueRound)
			if err := e.judgeDue(ctx); err != nil {
				e.opt.Log.Warn("marks can't be judged again", "err", err)
			}
			if err := e.lookDue(ctx); err != nil {
				e.opt.Log.Warn("networks can't be looked at again", "err", err)
			}
			if n, err := e.store.SweepChanges(ctx); err != nil {
				e.opt.Log.Warn("changes of ended steps can't be settled", "err", err)
			} else if n > 0 {
				e.opt.Log.Warn("changes were settled that their steps had left open", "changes", n)
			}
		}
		if !time.Now().Before(tidy) {
			tidy = time.Now().Add(tidyUp)
			if n, err := e.store.Prune(ctx, e.opt.Keep); err != nil {
				e.opt.Log.Warn("old rows can't be deleted", "err", err)
			} else if n > 0 {
				e.opt.Log.Info("old rows were deleted", "rows", n)
			}
			if ended, err := e.store.EndKnown(ctx, time.Now().UTC()); err != nil {
				e.opt.Log.Warn("reference pictures whose end has come can't be deleted", "err", err)
			} else if len(ended) > 0 {
				e.opt.Log.Info("reference pictures whose end has come were deleted", "sites", len(ended))
			}
		}
		cancel()
		select {
		case <-e.stop:
			return
		case <-tick.C:
		}
	}
}

// lookDue looks at the networks of sites that ask for it from time to time.
func (e *Engine) lookDue(ctx context.Context) error {
	reads, ok := e.networkStage()
	if !ok {
		return nil
	}
	sites, err := e.store.LooksDue(ctx, reads)
	if err != nil {
		return err
	}
	for _, site := range sites {
		networks, err := e.store.Networks(ctx, site)
		if err != nil {
			return err
		}
		n := store.NewRun{Site: site, Stage: reads, Act: store.Read, Title: "Look again, as set"}
		for _, w := range networks {
			n.Networks = append(n.Networks, w.ID)
		}
		if _, err := e.Begin(ctx, n, false); err != nil {
			return err
		}
	}
	return nil
}

// networkStage is the stage that reads whole networks.
func (e *Engine) networkStage() (stage.Stage, bool) {
	for _, s := range e.stages {
		if e.manner(s.ID()).Of == Networks {
			return s.ID(), true
		}
	}
	return 0, false
}

func (e *Engine) judgeDue(ctx context.Context) error {
	sites, err := e.store.Due(ctx, dueMost)
	for site, devices := range sites {
		if jerr := e.judge(ctx, site, devices); jerr != nil {
			err = errors.Join(err, jerr)
		}
	}
	return err
}

// recover beats and takes up what dead servers had under way, at once: those of this
// machine whose process is gone, and any that was silent for too long. One that was
// only held up finds its fence overtaken when it goes on.
func (e *Engine) recover(ctx context.Context) error {
	if err := e.store.Beat(ctx, e.holder); err != nil {
		return fmt.Errorf("engine: recovering: %w", err)
	}
	holders, err := e.store.Holders(ctx)
	if err != nil {
		return fmt.Errorf("engine: recovering: %w", err)
	}
	var dead []string
	for id, silent := range holders {
		if id != e.holder && (gone(id) || silent > silence) {
			dead = append(dead, id)
		}
	}
	if len(dead) == 0 {
		return nil
	}
	jobs, err := e.store.TakeOver(ctx, dead)
	if err != nil {
		return fmt.Errorf("engine: recovering: %w", err)
	}
	e.opt.Log.Info("took up the work of a server that was killed", "jobs", jobs)
	return nil
}

// gone says whether a holder's name ("host/pid/started") is a process of this
// machine that no longer runs. A process number may have been given to another
// process since: then its silence tells.
func gone(holder string) bool {
	host, err := os.Hostname()
	parts := strings.Split(holder, "/")
	if err != nil || len(parts) != 3 || parts[0] != host {
		return false
	}
	pid, err := strconv.Atoi(parts[1])
	if err != nil || pid <= 0 {
		return false
	}
	return errors.Is(syscall.Kill(pid, 0), syscall.ESRCH)
}
