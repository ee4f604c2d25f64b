// Command withpg starts one PostgreSQL for a whole test run, tells it to the tests
// by TEST_DATABASE_URL, runs the command it is given, and ends with its status.
package main

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"

	"duskyharbor/internal/pgserver"
)

func main() {
	if len(os.Args) < 2 {
		fmt.Fprintln(os.Stderr, "withpg: give the command to run")
		os.Exit(2)
	}
	os.Exit(run(os.Args[1:]))
}

func run(args []string) int {
	dir, err := os.MkdirTemp("", "duskyharbor-test-")
	if err != nil {
		fmt.Fprintln(os.Stderr, "withpg:", err)
		return 1
	}
	defer os.RemoveAll(dir)
	if err := os.Chmod(dir, 0o755); err != nil {
		fmt.Fprintln(os.Stderr, "withpg:", err)
		return 1
	}
	s, err := pgserver.Start(context.Background(), pgserver.Options{Dir: filepath.Join(dir, "pg"), Fast: true})
	if err != nil {
		fmt.Fprintln(os.Stderr, "withpg:", err)
		return 1
	}
	defer s.Stop()
	cmd := exec.Command(args[0], args[1:]...)
	cmd.Stdin, cmd.Stdout, cmd.Stderr = os.Stdin, os.Stdout, os.Stderr
	cmd.Env = append(os.Environ(), "TEST_DATABASE_URL="+s.DSN)
	err = cmd.Run()
	var exit *exec.ExitError
	switch {
	case errors.As(err, &exit):
		return exit.ExitCode()
	case err != nil:
		fmt.Fprintln(os.Stderr, "withpg:", err)
		return 1
	}
	return 0
}
