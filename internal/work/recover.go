package work

import (
	"context"
	"errors"
	"fmt"
	"os"
	"strconv"
	"strings"
	"syscall"
)

// recover takes up what a killed server of this machine had under way, at once:
// its jobs are made available again and its leases are given back. The jobs of
// other machines are left to River's own rescue.
func (o *Office) recover(ctx context.Context) error {
	rows, err := o.store.Pool.Query(ctx, `select distinct attempted_by[array_upper(attempted_by, 1)] from river_job where state = 'running' and attempted_by is not null`)
	if err != nil {
		return fmt.Errorf("work: recovering: %w", err)
	}
	var dead []string
	for rows.Next() {
		var id string
		if err := rows.Scan(&id); err != nil {
			rows.Close()
			return fmt.Errorf("work: recovering: %w", err)
		}
		if gone(id) {
			dead = append(dead, id)
		}
	}
	if err := rows.Err(); err != nil || len(dead) == 0 {
		return err
	}
	for _, id := range dead {
		if _, err := o.store.Pool.Exec(ctx, `delete from lease where starts_with(holder, $1 || '/')`, id); err != nil {
			return fmt.Errorf("work: recovering: %w", err)
		}
	}
	tag, err := o.store.Pool.Exec(ctx, `update river_job set state = 'available', scheduled_at = now() where state = 'running' and attempted_by[array_upper(attempted_by, 1)] = any($1)`, dead)
	if err != nil {
		return fmt.Errorf("work: recovering: %w", err)
	}
	o.opt.Log.Info("took up the work of a server that was killed", "jobs", tag.RowsAffected())
	return nil
}

// gone says whether a holder's name ("host/pid/started") is a process of this
// machine that no longer runs. A process number may have been given to another
// process since: then River's rescue does it later.
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
