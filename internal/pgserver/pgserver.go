// Package pgserver starts Debian's PostgreSQL on loopback under a folder of its own,
// for the demo and the tests. A server installed as a service is not touched.
package pgserver

import (
	"bytes"
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"hash/fnv"
	"net"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/jackc/pgx/v5"
)

// ErrMissing is returned where PostgreSQL's programs aren't installed.
var ErrMissing = errors.New("PostgreSQL isn't installed: install Debian's package postgresql")

// Options of a server.
type Options struct {
	Dir  string // its folder; made where missing
	Fast bool   // for tests: nothing survives a crash
}

// Server is one running PostgreSQL.
type Server struct {
	DSN  string // of the database "postgres"
	cmd  *exec.Cmd
	done chan struct{}
}

// bin finds the folder of initdb and postgres, the newest version first.
func bin() (string, error) {
	dirs, _ := filepath.Glob("/usr/lib/postgresql/*/bin")
	slices.Sort(dirs)
	for i := len(dirs) - 1; i >= 0; i-- {
		if _, err := os.Stat(filepath.Join(dirs[i], "initdb")); err == nil {
			return dirs[i], nil
		}
	}
	return "", ErrMissing
}

// identity is the user the server runs as: postgres where we are root, which it
// refuses to run as.
func identity() (*syscall.Credential, error) {
	if os.Geteuid() != 0 {
		return nil, nil
	}
	u, err := user.Lookup("postgres")
	if err != nil {
		return nil, ErrMissing
	}
	uid, err1 := strconv.ParseUint(u.Uid, 10, 32)
	gid, err2 := strconv.ParseUint(u.Gid, 10, 32)
	return &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}, errors.Join(err1, err2)
}

// Place is where the cluster of a data folder lives: in it, or, where the postgres
// user can't get there (a folder closed to others), in a folder of the same name
// under /var/tmp.
func Place(data string) string {
	abs, err := filepath.Abs(data)
	if err != nil || os.Geteuid() != 0 {
		return filepath.Join(data, "pg")
	}
	for dir := filepath.Dir(abs); ; dir = filepath.Dir(dir) {
		if info, err := os.Stat(dir); err == nil && info.Mode().Perm()&0o001 == 0 {
			h := fnv.New64a()
			_, _ = h.Write([]byte(abs))
			return filepath.Join("/var/tmp", fmt.Sprintf("duskyharbor-%x", h.Sum64()), "pg")
		}
		if dir == "/" {
			return filepath.Join(abs, "pg")
		}
	}
}

// Start makes the cluster where there is none, and starts it. It ends with ctx, with
// Stop, or with this process.
func Start(ctx context.Context, opt Options) (*Server, error) {
	programs, err := bin()
	if err != nil {
		return nil, err
	}
	who, err := identity()
	if err != nil {
		return nil, err
	}
	dir, err := filepath.Abs(opt.Dir)
	if err != nil {
		return nil, err
	}
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return nil, fmt.Errorf("pgserver: %w", err)
	}
	lock, err := os.OpenFile(filepath.Join(dir, "lock"), os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, fmt.Errorf("pgserver: %w", err)
	}
	defer lock.Close()
	if err := syscall.Flock(int(lock.Fd()), syscall.LOCK_EX); err != nil {
		return nil, fmt.Errorf("pgserver: %w", err)
	}
	if who != nil {
		if err := os.Chown(dir, int(who.Uid), int(who.Gid)); err != nil {
			return nil, fmt.Errorf("pgserver: %w", err)
		}
	}
	password, err := initialise(ctx, programs, dir, who)
	if err != nil {
		return nil, err
	}
	return run(ctx, programs, dir, password, who, opt.Fast)
}

func command(ctx context.Context, who *syscall.Credential, dir, name string, args ...string) *exec.Cmd {
	cmd := exec.CommandContext(ctx, name, args...)
	cmd.Dir = dir
	cmd.SysProcAttr = &syscall.SysProcAttr{Credential: who}
	cmd.Env = []string{"PATH=/usr/bin:/bin", "LC_ALL=C.UTF-8", "HOME=" + dir}
	return cmd
}

// initialise makes the cluster under another name and renames it when it is whole.
func initialise(ctx context.Context, programs, dir string, who *syscall.Credential) (string, error) {
	secret := filepath.Join(dir, "password")
	if kept, err := os.ReadFile(secret); err == nil {
		if _, err := os.Stat(filepath.Join(dir, "data", "PG_VERSION")); err == nil {
			return strings.TrimSpace(string(kept)), nil
		}
	}
	raw := make([]byte, 18)
	if _, err := rand.Read(raw); err != nil {
		return "", err
	}
	password := hex.EncodeToString(raw)
	if err := os.WriteFile(secret, []byte(password+"\n"), 0o600); err != nil {
		return "", fmt.Errorf("pgserver: %w", err)
	}
	if who != nil {
		if err := os.Chown(secret, int(who.Uid), int(who.Gid)); err != nil {
			return "", fmt.Errorf("pgserver: %w", err)
		}
	}
	fresh := filepath.Join(dir, "data.new")
	if err := os.RemoveAll(fresh); err != nil {
		return "", fmt.Errorf("pgserver: %w", err)
	}
	out, err := command(ctx, who, dir, filepath.Join(programs, "initdb"), "-D", fresh, "-U", "postgres",
		"--auth=scram-sha-256", "--pwfile="+secret, "-E", "UTF8", "--locale=C.UTF-8", "--no-sync").CombinedOutput()
	if err != nil {
		return "", fmt.Errorf("pgserver: initdb: %w: %s", err, tail(out))
	}
	return password, os.Rename(fresh, filepath.Join(dir, "data"))
}

func tail(out []byte) string {
	s := strings.TrimSpace(string(out))
	if len(s) > 400 {
		s = s[len(s)-400:]
	}
	return s
}

func freePort() (int, error) {
	l, err := net.Listen("tcp4", "127.0.0.1:0")
	if err != nil {
		return 0, err
	}
	defer l.Close()
	return l.Addr().(*net.TCPAddr).Port, nil
}

func run(ctx context.Context, programs, dir, password string, who *syscall.Credential, fast bool) (*Server, error) {
	// A server that was just killed may linger for a moment and hold its lock file.
	var last error
	for try := 0; try < 10; try++ {
		s, err := runOnce(ctx, programs, dir, password, who, fast)
		if err == nil {
			return s, nil
		}
		last = err
		select {
		case <-ctx.Done():
			return nil, ctx.Err()
		case <-time.After(700 * time.Millisecond):
		}
	}
	return nil, last
}

func runOnce(ctx context.Context, programs, dir, password string, who *syscall.Credential, fast bool) (*Server, error) {
	port, err := freePort()
	if err != nil {
		return nil, err
	}
	args := []string{"-D", filepath.Join(dir, "data"), "-p", strconv.Itoa(port), "-c", "listen_addresses=127.0.0.1",
		"-c", "unix_socket_directories=", "-c", "logging_collector=off", "-c", "max_connections=200", "-c", "shared_buffers=64MB"}
	if fast { // one server serves all tests that run side by side, each with a pool or several of its own
		for _, s := range []string{"max_connections=1000", "fsync=off", "synchronous_commit=off", "full_page_writes=off",
			"autovacuum=off", "wal_level=minimal", "max_wal_senders=0"} {
			args = append(args, "-c", s)
		}
	}
	cmd := command(context.WithoutCancel(ctx), who, dir, filepath.Join(programs, "postgres"), args...)
	// SIGINT is PostgreSQL's fast shutdown; it comes too when this process dies.
	cmd.SysProcAttr.Setpgid = true
	cmd.SysProcAttr.Pdeathsig = syscall.SIGINT
	var log bytes.Buffer
	cmd.Stdout, cmd.Stderr = &log, &log
	s := &Server{cmd: cmd, done: make(chan struct{}),
		DSN: fmt.Sprintf("postgres://postgres:%s@127.0.0.1:%d/postgres?sslmode=disable", password, port)}
	started := make(chan error, 1)
	go func() {
		runtime.LockOSThread() // Pdeathsig belongs to the thread that starts the child
		defer runtime.UnlockOSThread()
		err := cmd.Start()
		started <- err
		if err == nil {
			_ = cmd.Wait()
		}
		close(s.done)
	}()
	if err := <-started; err != nil {
		return nil, fmt.Errorf("pgserver: %w", err)
	}
	for end := time.Now().Add(30 * time.Second); time.Now().Before(end); {
		select {
		case <-s.done:
			return nil, fmt.Errorf("pgserver: the server ended at once: %s", tail(log.Bytes()))
		case <-time.After(50 * time.Millisecond):
		}
		try, cancel := context.WithTimeout(ctx, 2*time.Second)
		conn, err := pgx.Connect(try, s.DSN)
		cancel()
		if err == nil {
			return s, conn.Close(ctx)
		}
	}
	s.Stop()
	return nil, errors.New("pgserver: the server didn't answer within 30 s")
}

// Done is closed when the server has ended.
func (s *Server) Done() <-chan struct{} { return s.done }

// Stop ends the server and waits for it.
func (s *Server) Stop() {
	if s.cmd.Process != nil {
		_ = s.cmd.Process.Signal(syscall.SIGINT)
	}
	select {
	case <-s.done:
	case <-time.After(10 * time.Second):
		_ = s.cmd.Process.Kill()
		<-s.done
	}
}
