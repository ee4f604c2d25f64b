// Package stages holds the stages of the job, one package each: how its facts are read
// from a device, what its rules are asked, and how its changes are made. A stage knows no
// other; what several read is in recorders and account.
package stages

import (
	"context"
	"fmt"
	"log/slog"
	"net/netip"
	"strconv"
	"time"

	"duskyharbor/internal/account"
	"duskyharbor/internal/core/fact"
	"duskyharbor/internal/core/trouble"
	"duskyharbor/internal/device/dial"
	"duskyharbor/internal/device/recorder"
	"duskyharbor/internal/engine"
	"duskyharbor/internal/recorders"
	"duskyharbor/internal/site"
	"duskyharbor/internal/store"
)

// Services is what every stage is made with.
type Services struct {
	Store     *store.Store
	Accounts  *account.Clients
	Recorders *recorders.Reader
	Dialer    *dial.Dialer
	Engine    *engine.Engine
	Log       *slog.Logger
	Measure   time.Duration // how long a stream is played [3 s]
	Listen    time.Duration // how long answers to probes are gathered [1.2 s]
	WalkFor   time.Duration // how long a walk test waits for a person [60 s]
	// Neighbours reads which MAC this machine's own links have at which address; nil: the
	// system's table.
	Neighbours func() (map[netip.Addr]string, error)
	Away       time.Duration // how long a device may be away that starts again or moves [3 min]
}

// Within is how long a device is watched at once after it was told to start again or to
// move; what takes longer is read later, see engine.PendingError.
const Within = 3 * time.Second

// Sent is how long ago a change was sent; 0 where it is being sent now.
func Sent(c store.Change) time.Duration {
	if c.SentAt == nil || c.Writes == 0 {
		return 0
	}
	return time.Since(*c.SentAt)
}

// NoteAsked keeps how asking for a view went: when it began, and in which words it failed.
// Trouble of ours isn't kept as the device's, it comes back.
func (k Services) NoteAsked(ctx context.Context, key site.SourceFact[fact.LastRead], of site.Source, via string,
	began time.Time, failed error) error {
	if failed != nil && engine.Ours(failed) {
		return failed
	}
	asked := fact.LastRead{At: began}
	if failed != nil {
		asked.Trouble = trouble.Sentence(failed)
	}
	return k.Store.KeepFacts(ctx, key.New(of, via, began, asked))
}

// ChannelOf opens the recorder that a change names, else the one that holds a view or is planned
// to, at the channel that the change names. The client is the caller's to close.
func (k Services) ChannelOf(ctx context.Context, s *site.Snapshot, of site.Source, c store.Change) (rec recorder.Driver,
	number int, err error) {
	holder, _, ok := s.HolderOf(of)
	if id, none := strconv.ParseInt(c.Args["recorder"], 10, 64); none == nil && id != 0 {
		holder, ok = s.Device(id)
	}
	if !ok {
		return nil, 0, trouble.UserError("No recorder is planned for " + of.Place + ".")
	}
	if number, err = strconv.Atoi(c.Args["channel"]); err != nil {
		return nil, 0, fmt.Errorf("change %d names no channel", c.ID)
	}
	rec, err = k.Accounts.Recorder(ctx, holder)
	return rec, number, err
}
