package pgserver

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"syscall"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
)

// A server that was killed is started again with all that was committed.
func TestItRecoversFromAKill(t *testing.T) {
	if _, err := bin(); errors.Is(err, ErrMissing) {
		t.Skip("PostgreSQL isn't installed: make test installs it")
	}
	ctx, cancel := context.WithTimeout(context.Background(), 60*time.Second)
	defer cancel()
	dir, err := os.MkdirTemp("/var/tmp", "duskyharbor-pg-test-")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = os.RemoveAll(dir) })
	if err := os.Chmod(dir, 0o755); err != nil {
		t.Fatal(err)
	}
	s, err := Start(ctx, Options{Dir: filepath.Join(dir, "pg")})
	if err != nil {
		t.Fatal(err)
	}
	runSQL(t, ctx, s.DSN, "create table kept (n int)")
	runSQL(t, ctx, s.DSN, "insert into kept values (7)")
	if err := s.cmd.Process.Signal(syscall.SIGKILL); err != nil {
		t.Fatal(err)
	}
	<-s.Done()
	s, err = Start(ctx, Options{Dir: filepath.Join(dir, "pg")})
	if err != nil {
		t.Fatal(err)
	}
	defer s.Stop()
	conn, err := pgx.Connect(ctx, s.DSN)
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close(ctx)
	var n int
	if err := conn.QueryRow(ctx, "select n from kept").Scan(&n); err != nil || n != 7 {
		t.Errorf("%d %v", n, err)
	}
}

func runSQL(t *testing.T, ctx context.Context, dsn, sql string) {
	t.Helper()
	conn, err := pgx.Connect(ctx, dsn)
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close(ctx)
	if _, err := conn.Exec(ctx, sql); err != nil {
		t.Fatal(err)
	}
}

func TestAFolderClosedToOthersGetsItsClusterElsewhere(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("only root hands the server to another user")
	}
	closed := t.TempDir()
	if err := os.Chmod(closed, 0o700); err != nil {
		t.Fatal(err)
	}
	if got := Place(filepath.Join(closed, "data")); filepath.Dir(filepath.Dir(got)) != "/var/tmp" {
		t.Errorf("%s", got)
	}
}
