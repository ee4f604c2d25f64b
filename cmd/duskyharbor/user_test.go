package main

import (
	"bufio"
	"encoding/json"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"duskyharbor/internal/demo"
	"duskyharbor/internal/testbed"
)

// asUser makes a command run as an ordinary user, in a folder of that user's own; where
// the tests run as one already, as that.
func asUser(t *testing.T, cmd *exec.Cmd) (home string) {
	t.Helper()
	const nobody = 65534
	home = t.TempDir()
	if os.Geteuid() != 0 {
		return home
	}
	for dir := home; dir != "/" && dir != os.TempDir(); dir = filepath.Dir(dir) {
		if err := os.Chmod(dir, 0o755); err != nil {
			t.Fatal(err)
		}
	}
	if err := os.Chown(home, nobody, nobody); err != nil {
		t.Fatal(err)
	}
	cmd.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: nobody, Gid: nobody}}
	cmd.Env = append(os.Environ(), "HOME="+home)
	cmd.Dir = home
	return home
}

// Whoever may run programs may run the demo: every stand-in starts, the one behind a
// recorder's port too.
func TestTheDemoOfAnOrdinaryUser(t *testing.T) {
	t.Parallel()
	if testing.Short() {
		t.Skip("it starts a demo")
	}
	bin := program(t)
	n := testbed.Net(t)
	cmd := exec.Command(bin, "demo", "--listen", freePort(t), "--net", string(n), "--json")
	data := filepath.Join(asUser(t, cmd), "data")
	cmd.Args = append(cmd.Args, "--data", data)
	said := demoSays(t, cmd)
	if len(said.Failed) != 0 || said.URL == "" {
		t.Errorf("%+v", said)
	}
}

// A stand-in that can't start names itself, and the others run.
func TestAStandInThatCannotStartIsNamed(t *testing.T) {
	t.Parallel()
	n := testbed.Net(t)
	l, err := net.Listen("tcp4", net.JoinHostPort(n.At(".1.11").String(), "8080"))
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	cmd := exec.Command(program(t), "demo", "--data", t.TempDir(), "--listen", freePort(t), "--net", string(n), "--json")
	said := demoSays(t, cmd)
	if len(said.Failed) != 1 || said.Failed[0].Place != "Slipway" || !strings.Contains(said.Failed[0].Why, "address already in use") {
		t.Errorf("%+v", said)
	}
}

// demoSays starts a demo until the test ends, and returns what it prints when ready.
func demoSays(t *testing.T, cmd *exec.Cmd) (said struct {
	URL    string
	Failed []demo.Failure
}) {
	t.Helper()
	cmd.Stderr = os.Stderr
	out, err := cmd.StdoutPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		_ = cmd.Process.Signal(os.Interrupt)
		_, _ = cmd.Process.Wait()
	})
	line, err := bufio.NewReader(out).ReadString('\n')
	if err == nil {
		err = json.Unmarshal([]byte(line), &said)
	}
	if err != nil {
		t.Fatalf("the demo didn't get ready: %v %q", err, line)
	}
	return said
}
