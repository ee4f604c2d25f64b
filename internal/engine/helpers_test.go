package engine_test

import (
	"time"

	"duskyharbor/internal/app"
	"duskyharbor/internal/engine"
)

// paused are options that call f at each point of a change.
func paused(f func(point string)) app.Options {
	return app.Options{Options: engine.Options{Pause: f}, Listen: 900 * time.Millisecond}
}
