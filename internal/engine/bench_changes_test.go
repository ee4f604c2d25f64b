package engine_test

import (
	"context"
	"errors"
	"fmt"
	"net/url"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"duskyharbor/internal/app"
	"duskyharbor/internal/core/clock"
	"duskyharbor/internal/core/finding"
	"duskyharbor/internal/core/stage"
	"duskyharbor/internal/engine"
	"duskyharbor/internal/facts"
	"duskyharbor/internal/site"
)

// BenchmarkChanges makes a change on each of 300 cameras through the engine: written
// down, read, sent, read back, settled, judged. Its bound is what the same database
// does in bare transactions of pgbench at the same concurrency.
func BenchmarkChanges(b *testing.B) {
	const cameras = 300
	y := openBulk(b, cameras, app.Options{})
	y.read(stage.SignIn)
	y.read(stage.Clock)
	ctx := context.Background()
	for b.Loop() {
		v, err := site.Load(ctx, y.h.Store, y.h.Site, y.ids)
		if err != nil {
			b.Fatal(err)
		}
		var picks []engine.Pick
		for _, d := range v.Cameras() {
			r, ok := facts.Clock.Of(v, d.ID)
			if !ok {
				continue
			}
			to, daylight := "UTC0", "off"
			if r.Zone == to {
				to, daylight = "WET0", "off"
			}
			picks = append(picks, engine.Pick{Source: v.Of(d),
				Changes: []finding.Change{{Kind: clock.SetZone, Key: clock.SetZone, Title: "Zone rule",
					From: r.ZoneText(), To: clock.ZoneText(to, false), Risk: finding.NoRisk,
					Undo: finding.Undo{Kind: finding.Reversible}, Args: map[string]string{"zone": to, "daylight": daylight}}}})
		}
		begun := time.Now()
		run, err := y.app.Apply(ctx, engine.Ask{Site: y.h.Site, Stage: stage.Clock, Title: "Zones"}, picks)
		if err != nil {
			b.Fatal(err)
		}
		if r := y.ended(run); r.Failed > 0 {
			b.Fatalf("%+v", r)
		}
		rate := float64(len(picks)) / time.Since(begun).Seconds()
		bound, err := pgbench(y.h.DSN)
		if err != nil {
			b.Skip(err)
		}
		b.ReportMetric(rate, "changes/s")
		b.ReportMetric(bound, "pgbench-tx/s")
		b.ReportMetric(bound/rate, "tx/change")
	}
}

// pgbench is how many of its standard transactions the database does in a second.
func pgbench(dsn string) (float64, error) {
	dirs, _ := filepath.Glob("/usr/lib/postgresql/*/bin/pgbench")
	if len(dirs) == 0 {
		return 0, errors.New("pgbench isn't installed")
	}
	u, err := url.Parse(dsn)
	if err != nil {
		return 0, err
	}
	for _, args := range [][]string{{"-i", "-q", "-s", "4"}, {"-c", "16", "-j", "2", "-T", "4"}} {
		out, err := exec.Command(dirs[len(dirs)-1], append(args, u.String())...).CombinedOutput()
		if err != nil {
			return 0, fmt.Errorf("pgbench: %w: %s", err, out)
		}
		if _, after, ok := strings.Cut(string(out), "tps = "); ok {
			number, _, _ := strings.Cut(after, " ")
			return strconv.ParseFloat(number, 64)
		}
	}
	return 0, errors.New("pgbench says no rate")
}
