package main

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/cookiejar"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"duskyharbor/internal/testbed"
)

// built is the program, made once for all tests, in a folder that everybody may read.
var built = sync.OnceValues(func() (string, error) {
	dir, err := os.MkdirTemp("", "duskyharbor")
	if err != nil {
		return "", err
	}
	builtIn = dir
	bin := filepath.Join(dir, "duskyharbor")
	if out, err := exec.Command("go", "build", "-o", bin, ".").CombinedOutput(); err != nil {
		return bin, fmt.Errorf("%w: %s", err, out)
	}
	return bin, os.Chmod(dir, 0o755)
})

var builtIn string

func TestMain(m *testing.M) {
	code := m.Run()
	if builtIn != "" {
		_ = os.RemoveAll(builtIn)
	}
	os.Exit(code)
}

func program(t *testing.T) string {
	t.Helper()
	bin, err := built()
	if err != nil {
		t.Fatal(err)
	}
	return bin
}

type ready struct{ URL, Username, Password, Token string }

// start runs a demo until the test ends and returns what it prints when ready.
func start(t *testing.T, bin, data, listen, network string) (*exec.Cmd, ready) {
	t.Helper()
	cmd := exec.Command(bin, "demo", "--data", data, "--listen", listen, "--net", network, "--json")
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
	var r ready
	if err == nil {
		err = json.Unmarshal([]byte(line), &r)
	}
	if err != nil {
		t.Fatalf("the demo didn't get ready: %v %q", err, line)
	}
	return cmd, r
}

// freePort is where a server can listen: an address of a network that no other test has.
func freePort(t *testing.T) string {
	t.Helper()
	return net.JoinHostPort(testbed.Net(t).At(".99.98").String(), "8420")
}

// child finds the process of that sub-command under a demo.
func child(t *testing.T, demo int, sub string) int {
	t.Helper()
	found := 0
	testbed.Until(t, 20*time.Second, sub+" runs", func() bool {
		stats, _ := filepath.Glob("/proc/[0-9]*/stat")
		for _, s := range stats {
			raw, err := os.ReadFile(s)
			if err != nil {
				continue
			}
			f := strings.Fields(string(raw[strings.LastIndexByte(string(raw), ')')+1:]))
			args, _ := os.ReadFile(filepath.Join(filepath.Dir(s), "cmdline"))
			if len(f) > 1 && f[1] == strconv.Itoa(demo) && strings.Contains(string(args), "\x00"+sub+"\x00") {
				found, _ = strconv.Atoi(filepath.Base(filepath.Dir(s)))
				return true
			}
		}
		return false
	})
	return found
}

type person struct {
	t     *testing.T
	c     *http.Client
	url   string
	shown string // the preview that the last press led to
}

// get reads a page; while the server is down it gives "".
func (p *person) get(path string) string {
	res, err := p.c.Get(p.url + path)
	if err != nil {
		return ""
	}
	defer res.Body.Close()
	body, _ := io.ReadAll(res.Body)
	return strings.Join(strings.Fields(string(body)), " ") // as it is read
}

var token = regexp.MustCompile(`name="_csrf" value="([^"]+)"`)

func (p *person) press(page, act string, form url.Values) {
	p.t.Helper()
	m := token.FindStringSubmatch(p.get(page))
	if m == nil {
		p.t.Fatalf("%s has no form", page)
	}
	if form == nil {
		form = url.Values{}
	}
	form.Set("_csrf", m[1])
	res, err := p.c.PostForm(p.url+act, form)
	if err != nil {
		p.t.Fatal(err)
	}
	_ = res.Body.Close()
	if res.StatusCode != http.StatusOK {
		p.t.Fatalf("%s: %d", act, res.StatusCode)
	}
	p.shown = res.Request.URL.Query().Get("preview")
}

func (p *person) sees(page, part string) {
	p.t.Helper()
	testbed.Until(p.t, 90*time.Second, page+" shows "+part, func() bool { return strings.Contains(p.get(page), part) })
}

func visitor(t *testing.T, r ready) *person {
	t.Helper()
	jar, err := cookiejar.New(nil)
	if err != nil {
		t.Fatal(err)
	}
	p := &person{t: t, c: &http.Client{Jar: jar, Timeout: 10 * time.Second}, url: r.URL}
	p.press("/sign-in", "/sign-in", url.Values{"login": {r.Username}, "password": {r.Password}})
	return p
}

// channels lists the address on every channel that a stand-in recorder has kept.
func channels(t *testing.T, dir string) (addresses []string) {
	t.Helper()
	files, err := filepath.Glob(dir + "/*")
	if err != nil {
		t.Fatal(err)
	}
	for _, f := range files {
		var mem struct {
			Channels map[string]struct{ Address string }
		}
		data, err := os.ReadFile(f)
		if err != nil || json.Unmarshal(data, &mem) != nil {
			continue // a camera's, or one that is just being written
		}
		for _, c := range mem.Channels {
			addresses = append(addresses, c.Address)
		}
	}
	return addresses
}

// The server is killed in the middle of placing two cameras: it comes back by
// itself, the run is settled and neither camera was placed twice. Then everything
// is killed, and the next start has kept it all.
func TestKilledInTheMiddleItComesBackAndSettles(t *testing.T) {
	t.Parallel()
	if os.Getenv("TEST_DATABASE_URL") == "" {
		t.Skip("make test installs what this needs")
	}
	bin, network, listen := program(t), string(testbed.Net(t)), freePort(t)
	data, err := os.MkdirTemp("/var/tmp", "duskyharbor-demo-test-")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = os.RemoveAll(data) })
	if err := os.Chmod(data, 0o755); err != nil {
		t.Fatal(err)
	}
	cmd, r := start(t, bin, data, listen, network)
	if !strings.HasPrefix(r.Token, "dh_") {
		t.Errorf("it gives the token %q", r.Token)
	}
	p := visitor(t, r)
	p.press("/sites/1/find", "/sites/1/find/read", nil)
	p.sees("/sites/1/find", "multicast heard 1") // and some: it is heard on three networks
	two := url.Values{"q": {"412 net:quay"}}
	p.press("/sites/1/sign-in", "/sites/1/sign-in/read", two)
	p.sees("/sites/1/sign-in", "HTTP Digest, Administrator")
	p.sees("/sites/1/sign-in", "WS-UsernameToken, Administrator")
	p.press("/sites/1/streams", "/sites/1/streams/read", two)
	p.sees("/sites/1/streams", "2 cameras read")
	p.sees("/sites/1/channels", "Place 2 cameras")
	p.press("/sites/1/channels", "/sites/1/channels/apply", two)
	if len(p.shown) == 0 {
		t.Fatal("what will be changed isn't shown")
	}
	p.press("/sites/1/channels", "/sites/1/previews/"+p.shown+"/make", nil)
	p.sees("/sites/1/log", ">sent</b>")

	if err := syscall.Kill(child(t, cmd.Process.Pid, "serve"), syscall.SIGKILL); err != nil {
		t.Fatal(err)
	}
	testbed.Until(t, 90*time.Second, "both changes are verified after the kill", func() bool {
		return strings.Count(p.get("/sites/1/log"), ">verified<") == 2
	})
	p.sees("/sites/1/channels?recorder=2", "H.264 1280 × 720") // the Terminal recorder
	// What the recorder itself keeps. A change that was marked as sent and never left is
	// sent again, so the log's count may be 2; the camera is on one channel all the same.
	var held []string
	testbed.Until(t, 20*time.Second, "the recorder keeps its channels", func() bool { held = channels(t, data+"/standins"); return len(held) >= 3 })
	slices.Sort(held)
	held = slices.DeleteFunc(held, func(a string) bool { return strings.HasSuffix(a, ".90.12") }) // the dead entry
	if len(held) != 2 || held[0] == held[1] {
		t.Errorf("the recorder holds %v", held)
	}

	children := []int{child(t, cmd.Process.Pid, "serve"), child(t, cmd.Process.Pid, "standins")}
	for _, pid := range children {
		_ = syscall.Kill(pid, syscall.SIGSTOP) // so that none is started again
	}
	_ = cmd.Process.Kill()
	_, _ = cmd.Process.Wait()
	for _, pid := range children { // what is stopped can't take the signal that ends it with its parent
		_ = syscall.Kill(pid, syscall.SIGCONT)
	}
	_, again := start(t, bin, data, listen, network)
	if again != r {
		t.Errorf("the next start says %+v, not %+v", again, r)
	}
	p = visitor(t, again)
	p.sees("/sites/1/log", ">verified<")
	if out, err := exec.Command(bin, "demo-reset", "--data",
		data).CombinedOutput(); err == nil || !strings.Contains(string(out), "end it first") {
		t.Errorf("a running demo is reset: %v %s", err, out)
	}
	if out, err := exec.Command(bin, "demo", "--data", data, "--listen", freePort(t), "--net",
		network).CombinedOutput(); err == nil || !strings.Contains(string(out), "is in use by another server of this product") {
		t.Errorf("a second demo in one folder: %v %s", err, out)
	}
}

func TestStandinsTellWhatTheyAre(t *testing.T) {
	t.Parallel()
	bin, network := program(t), string(testbed.Net(t))
	ctx, cancel := context.WithTimeout(context.Background(), 30*time.Second)
	defer cancel()
	cmd := exec.CommandContext(ctx, bin, "standins", "--net", network, "--json")
	out, err := cmd.StdoutPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	kinds, scan := map[string]int{}, bufio.NewScanner(out)
	for scan.Scan() {
		var d struct {
			Kind, Place, Make, Model, Address, Username, Password string
			Streams                                               []struct{ URI string }
			Faults                                                []string
			Ready                                                 bool
		}
		if err := json.Unmarshal(scan.Bytes(), &d); err != nil {
			t.Fatalf("%q: %v", scan.Text(), err)
		}
		if d.Ready {
			break
		}
		kinds[d.Kind]++
		open := slices.Contains(d.Faults, "no first password") || d.Place == "Store recorder"
		if d.Password == "" && !open || d.Faults == nil || d.Kind == "camera" && len(d.Streams) != 2 || !strings.HasPrefix(d.Address, network) {
			t.Errorf("%s", scan.Text())
		}
	}
	if fmt.Sprint(kinds) != "map[camera:16 recorder:4]" {
		t.Errorf("%v", kinds)
	}
	_ = cmd.Process.Signal(os.Interrupt)
	if err := cmd.Wait(); err != nil {
		t.Errorf("it ends with %v", err)
	}
	if out, err := exec.Command(bin, "standins", "--net",
		"10.1").CombinedOutput(); err == nil || !strings.Contains(string(out), "loopback") {
		t.Errorf("a network that isn't loopback: %v %s", err, out)
	}
}
