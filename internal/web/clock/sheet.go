package clock

import (
	"context"
	"fmt"
	"time"

	"duskyharbor/internal/core/access"
	"duskyharbor/internal/core/clock"
	"duskyharbor/internal/facts"
	"duskyharbor/internal/web/shell"
)

// sheetExtra is what Clock adds to the side sheet.
type sheetExtra struct {
	Restart bool      // it can be restarted from here
	Watch   bool      // it can be watched
	Until   time.Time // while it is being watched
	Trend   trend
}

// trendReadings is how many readings a trend shows at most.
const trendReadings = 40

// Sheet tells how the camera's clock stands, and how it stood before.
func (pg *Page) Sheet(ctx context.Context, p *shell.Request, sh *shell.Sheet) (err error) {
	d, v := sh.Row.Device, sh.Snapshot
	if f, _ := facts.ForClock(v, d); f.Camera != nil {
		r := *f.Camera
		sh.Code("Camera, UTC", r.Device.Format("2006-01-02 15:04:05"), r.At)
		sh.Fact("Against", f.Reference.Name+" ("+f.Reference.Why+")", r.At)
		sh.Code("Offset", f.Offset().String(), r.At)
		sh.Fact("Band", string(clock.BandOf(f.Offset(), f.Window)), r.At)
		sh.Code("Zone rule", r.ZoneText(), r.At)
		sh.Fact("Takes time from", r.SourceShown(), r.At)
		if r.Drift != nil {
			sh.Code("Drift", fmt.Sprintf("%s over %d readings", r.Drift, r.Drift.N), r.At)
		}
		sh.Code("Burned in", clock.TextText(r.Dates, r.Times), r.At)
		if a, ok := facts.Account.Of(v, d.ID); ok && a.Own {
			sh.Fact("Signed in with", "the camera's own time", a.At)
		}
	}
	sh.Verb = "Set the clock on "
	if sh.Readable, err = pg.ReadableNow(ctx, p, sh); err != nil {
		return err
	}
	readings, err := pg.stage.History(ctx, d.ID, trendReadings)
	if err != nil {
		return err
	}
	a, open := facts.Account.Of(v, d.ID)
	_, read := facts.Clock.Of(v, d.ID)
	watched, _ := facts.Watched.Of(v, d.ID)
	if p.Now.After(watched.Until) {
		watched.Until = time.Time{}
	}
	sh.Extra = sheetExtra{Watch: p.MayChange && read && watched.Until.IsZero(), Until: watched.Until, Restart: p.MayChange && open && read && a.Scheme != access.RTSP, Trend: trendOf(readings, p.Zone)}
	return nil
}
