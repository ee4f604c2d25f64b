// Package stages holds the stages of the job, one package each: how its facts are read
// from a device, what its rules are asked, and how its changes are made. A stage knows no
// other; what several read is in recorders and account.
package stages

import (
	"log/slog"
	"time"

	"duskyharbor/internal/account"
	"duskyharbor/internal/device/dial"
	"duskyharbor/internal/engine"
	"duskyharbor/internal/recorders"
	"duskyharbor/internal/store"
)

// Kit is what every stage is made with.
type Kit struct {
	Store     *store.Store
	Accounts  *account.Keeper
	Recorders *recorders.Reader
	Dialer    *dial.Dialer
	Engine    *engine.Engine
	Log       *slog.Logger
	Measure   time.Duration // how long a stream is played [3 s]
	Listen    time.Duration // how long answers to probes are gathered [1.2 s]
	WalkFor   time.Duration // how long a walk test waits for a person [60 s]
}
