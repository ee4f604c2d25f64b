package pgserver

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"

	"github.com/jackc/pgx/v5/pgconn"
)

// Dump writes a database to a file with pg_dump, whole or not at all. Sessions and
// what is under way at the moment aren't in it.
func Dump(ctx context.Context, dsn, file string) error {
	part := file + ".part"
	f, err := os.OpenFile(part, os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	defer os.Remove(part)
	cmd, err := program(ctx, dsn, "pg_dump", "--format=custom", "--no-owner", "--no-privileges", "--no-unlogged-table-data",
		"--exclude-table-data=sessions", "--exclude-table-data=river_job", "--exclude-table-data=river_leader", "--exclude-table-data=river_client*", "--exclude-table-data=server", "--exclude-table-data=lease")
	if err != nil {
		return errors.Join(err, f.Close())
	}
	cmd.Stdout = f
	if err := errors.Join(runTold(cmd), f.Sync(), f.Close()); err != nil {
		return err
	}
	return os.Rename(part, file)
}

// Restore puts a file that Dump wrote into an empty database with pg_restore, all of
// it or nothing.
func Restore(ctx context.Context, dsn, file string) error {
	f, err := os.Open(file)
	if err != nil {
		return err
	}
	defer f.Close()
	cfg, err := pgconn.ParseConfig(dsn)
	if err != nil {
		return errors.New("the database address can't be read")
	}
	cmd, err := program(ctx, dsn, "pg_restore", "--no-owner", "--no-privileges", "--single-transaction",
		"--exit-on-error", "--dbname", cfg.Database)
	if err != nil {
		return err
	}
	cmd.Stdin = f
	return runTold(cmd)
}

// program is one of PostgreSQL's own, told where to connect by its environment: a
// password among the arguments would be there for everyone to read.
func program(ctx context.Context, dsn, name string, args ...string) (*exec.Cmd, error) {
	dir, err := bin()
	path := filepath.Join(dir, name)
	if err != nil || !exists(path) {
		if path, err = exec.LookPath(name); err != nil {
			return nil, fmt.Errorf("%s isn't installed: it comes with Debian's postgresql-client", name)
		}
	}
	cfg, err := pgconn.ParseConfig(dsn)
	if err != nil {
		return nil, errors.New("the database address can't be read")
	}
	cmd := exec.CommandContext(ctx, path, args...)
	cmd.Env = append(os.Environ(), "PGHOST="+cfg.Host, "PGPORT="+strconv.Itoa(int(cfg.Port)), "PGUSER="+cfg.User,
		"PGPASSWORD="+cfg.Password, "PGDATABASE="+cfg.Database)
	if cfg.TLSConfig == nil {
		cmd.Env = append(cmd.Env, "PGSSLMODE=disable")
	}
	return cmd, nil
}

func exists(path string) bool {
	_, err := os.Stat(path)
	return err == nil
}

func runTold(cmd *exec.Cmd) error {
	var said tailWriter
	cmd.Stderr = &said
	if err := cmd.Run(); err != nil {
		return fmt.Errorf("%s: %w: %s", filepath.Base(cmd.Path), err, tail(said))
	}
	return nil
}

// tailWriter keeps the last 4 kB of what a program says.
type tailWriter []byte

// Write keeps the end of p.
func (w *tailWriter) Write(p []byte) (int, error) {
	*w = append(*w, p...)
	if len(*w) > 4096 {
		*w = (*w)[len(*w)-4096:]
	}
	return len(p), nil
}
