package shell

import (
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"duskyharbor/internal/core/finding"
	"duskyharbor/internal/core/stage"
	"duskyharbor/internal/store"
)

func TestTabs(t *testing.T) {
	var all []Row
	for i := range 20 {
		all = append(all, Row{Source: store.Source{ID: int64(i + 1)}})
	}
	if tabs, more := Tabs(all[:3], &all[1]); len(tabs) != 3 || more != 0 {
		t.Errorf("%d tabs, %d more", len(tabs), more)
	}
	tabs, more := Tabs(all, &all[15])
	if len(tabs) != MaxTabs || more != 12 || tabs[MaxTabs-1].ID != 16 || all[7].ID != 8 {
		t.Errorf("%+v, %d more", tabs, more)
	}
}

func TestWhatCanBeTakenBack(t *testing.T) {
	undo := finding.Undo{Kind: finding.Reversible}
	all := []store.Change{
		{ID: 4, DeviceID: 1, Key: "a", State: store.Failed, Undo: undo},
		{ID: 3, DeviceID: 1, Key: "a", State: store.Verified, Undo: undo}, // not the newest of its thing
		{ID: 2, DeviceID: 1, Key: "b", State: store.Verified, Undo: undo},
		{ID: 5, DeviceID: 1, SourceID: new(int64(7)), Key: "b", State: store.Verified, Undo: undo}, // of a view: another thing
		{ID: 1, DeviceID: 2, Key: "b", State: store.Verified, Undo: finding.Undo{Kind: finding.Irreversible}},
	}
	var back []int64
	for _, p := range Past(all) {
		if p.Back != "" {
			back = append(back, p.ID)
		}
	}
	if !slices.Equal(back, []int64{2, 5}) {
		t.Errorf("%v can be taken back", back)
	}
}

func TestHowLongARunStillTakes(t *testing.T) {
	now := time.Now()
	for want, r := range map[string]store.Run{
		"":                  {Total: 100, Done: 2, StartedAt: now.Add(-time.Minute)},
		"about 11 s more":   {Total: 200, Done: 100, StartedAt: now.Add(-10 * time.Second)},
		"about 2 min more":  {Total: 100, Done: 25, Failed: 5, StartedAt: now.Add(-30 * time.Second)},
		"about 10 min more": {Total: 1000, Done: 100, StartedAt: now.Add(-61 * time.Second)},
	} {
		if got := timeLeft(now, r); got != want {
			t.Errorf("%+v: %q, want %q", r, got, want)
		}
	}
	for n, want := range map[int]string{0: "0", 999: "999", 3000: "3,000", 1234567: "1,234,567", -1200: "-1,200"} {
		if got := stage.Thousands(n); got != want {
			t.Errorf("%d: %q", n, got)
		}
	}
}

func TestAges(t *testing.T) {
	now := time.Now()
	for want, d := range map[string]time.Duration{"just now": time.Second, "12 s ago": 12 * time.Second,
		"3 min ago": 200 * time.Second, "5 h ago": 5 * time.Hour, "4 days ago": 100 * time.Hour} {
		if got := ago(now, now.Add(-d)); got != want {
			t.Errorf("%v is %q, want %q", d, got, want)
		}
	}
	if ago(now, time.Time{}) != "" || !strings.HasPrefix(Plural(2, "camera"), "2 cameras") || Plural(1, "camera") != "1 camera" {
		t.Error("words")
	}
}

// An attribute that goes on over a line was torn by the formatter: what it is built of
// belongs into Go.
func TestNoAttributeOfATemplateIsTorn(t *testing.T) {
	action, torn := regexp.MustCompile(`(?s)\{\{.*?\}\}`), regexp.MustCompile(`[\w:@.-]+="[^"]*\n[^"]*"`)
	seen := 0
	err := filepath.WalkDir("..", func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(path, ".html") {
			return err
		}
		seen++
		text, err := os.ReadFile(path)
		if err != nil {
			return err
		}
		plain := action.ReplaceAllStringFunc(string(text), func(a string) string { return strings.ReplaceAll(a, `"`, "'") })
		for _, a := range torn.FindAllString(plain, -1) {
			t.Errorf("%s: %s", path, a)
		}
		return nil
	})
	if err != nil || seen < 15 {
		t.Errorf("%d templates were read, %v", seen, err)
	}
}
