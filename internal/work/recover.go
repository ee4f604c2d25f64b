package work

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
func (o *Office) watch() {
	defer o.done.Done()
	tick := time.NewTicker(beat)
	defer tick.Stop()
	due, tidy := time.Now(), time.Now().Add(tidyUp)
	for {
		ctx, cancel := context.WithTimeout(context.Background(), 10*time.Second)
		if err := o.recover(ctx); err != nil {
			o.opt.Log.Warn("other servers can't be looked after", "err", err)
		}
		if !time.Now().Before(due) {
			due = time.Now().Add(dueRound)
			if err := o.judgeDue(ctx); err != nil {
				o.opt.Log.Warn("marks can't be judged again", "err", err)
			}
			if err := o.lookDue(ctx); err != nil {
				o.opt.Log.Warn("networks can't be looked at again", "err", err)
			}
		}
		if !time.Now().Before(tidy) {
			tidy = time.Now().Add(tidyUp)
			if n, err := o.store.Prune(ctx, o.opt.Keep); err != nil {
				o.opt.Log.Warn("old rows can't be deleted", "err", err)
			} else if n > 0 {
				o.opt.Log.Info("old rows were deleted", "rows", n)
			}
		}
		cancel()
		select {
		case <-o.stop:
			return
		case <-tick.C:
		}
	}
}

// lookDue looks at the networks of sites that ask for it from time to time.
func (o *Office) lookDue(ctx context.Context) error {
	sites, err := o.store.LooksDue(ctx)
	if err != nil {
		return err
	}
	for _, site := range sites {
		networks, err := o.store.Networks(ctx, site)
		if err != nil {
			return err
		}
		n := store.NewRun{Site: site, Stage: stage.Find, Act: store.Read, Title: "Look again, as set"}
		for _, w := range networks {
			n.Networks = append(n.Networks, w.ID)
		}
		if _, err := o.Begin(ctx, n, false); err != nil {
			return err
		}
	}
	return nil
}

func (o *Office) judgeDue(ctx context.Context) error {
	sites, err := o.store.Due(ctx, dueMost)
	for site, devices := range sites {
		if jerr := o.judge(ctx, site, devices); jerr != nil {
			err = errors.Join(err, jerr)
		}
	}
	return err
}

// recover beats and takes up what dead servers had under way, at once: those of this
// machine whose process is gone, and any that was silent for too long. One that was
// only held up finds its fence overtaken when it goes on.
func (o *Office) recover(ctx context.Context) error {
	if err := o.store.Beat(ctx, o.holder); err != nil {
		return fmt.Errorf("work: recovering: %w", err)
	}
	holders, err := o.store.Holders(ctx)
	if err != nil {
		return fmt.Errorf("work: recovering: %w", err)
	}
	var dead []string
	for id, silent := range holders {
		if id != o.holder && (gone(id) || silent > silence) {
			dead = append(dead, id)
		}
	}
	if len(dead) == 0 {
		return nil
	}
	jobs, err := o.store.TakeOver(ctx, dead)
	if err != nil {
		return fmt.Errorf("work: recovering: %w", err)
	}
	o.opt.Log.Info("took up the work of a server that was killed", "jobs", jobs)
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
