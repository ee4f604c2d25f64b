// Package app puts the product together: it is where stages are registered, for the
// program and for tests alike. Adding a stage is one line in Stages.
package app

import (
	"cmp"
	"context"
	"crypto/rand"
	"encoding/hex"
	"log/slog"
	"time"

	"duskyharbor/internal/account"
	"duskyharbor/internal/core/access"
	"duskyharbor/internal/core/trouble"
	"duskyharbor/internal/device/dial"
	"duskyharbor/internal/device/rtsp"
	"duskyharbor/internal/engine"
	"duskyharbor/internal/facts"
	"duskyharbor/internal/gather"
	"duskyharbor/internal/live"
	"duskyharbor/internal/recorders"
	"duskyharbor/internal/site"
	"duskyharbor/internal/stages"
	"duskyharbor/internal/stages/analytics"
	"duskyharbor/internal/stages/channels"
	"duskyharbor/internal/stages/clock"
	"duskyharbor/internal/stages/find"
	"duskyharbor/internal/stages/prove"
	"duskyharbor/internal/stages/recording"
	"duskyharbor/internal/stages/routes"
	"duskyharbor/internal/stages/signin"
	"duskyharbor/internal/stages/streams"
	"duskyharbor/internal/store"
	"duskyharbor/internal/vault"
)

// Options of an App. Zero values take the defaults in brackets.
type Options struct {
	engine.Options
	Measure time.Duration // how long a stream is played [3 s]
	Listen  time.Duration // how long answers to probes are gathered [1.2 s]
	WalkFor time.Duration // how long a walk test waits for a person [60 s]
	Away    time.Duration // how long a device may be away that starts again or moves [3 min]
	Extra   []func(stages.Services) engine.Stage
	Live    string // UDP address that moving pictures are sent from; empty: none are
	Gather  bool   // what cameras' analytics see is gathered by this process, where people asked for it
}

// App is the work of one process: its engine with all stages. Pages ask some of the
// stages for what only they do.
type App struct {
	*engine.Engine
	Services  stages.Services
	Find      *find.Stage
	SignIn    *signin.Stage
	Clock     *clock.Stage
	Streams   *streams.Stage
	Live      *live.Relay      // nil: no moving pictures
	Gatherer  *gather.Gatherer // nil: this process gathers nothing
	Analytics *analytics.Stage
}

// New puts one together; Start lets it work.
func New(st *store.Store, v *vault.Vault, d *dial.Dialer, opt Options) (*App, error) {
	opt.Log = cmp.Or(opt.Log, slog.Default())
	e, err := engine.New(st, opt.Options)
	if err != nil {
		return nil, err
	}
	clients := &account.Clients{Store: st, Vault: v, Dialer: d}
	services := stages.Services{Store: st, Accounts: clients, Dialer: d, Engine: e, Log: opt.Log,
		Recorders: &recorders.Reader{Store: st, Accounts: clients, Dialer: d, Engine: e},
		Measure:   cmp.Or(opt.Measure, 3*time.Second), Listen: cmp.Or(opt.Listen,
			1200*time.Millisecond), WalkFor: cmp.Or(opt.WalkFor, time.Minute), Away: cmp.Or(opt.Away, 3*time.Minute)}
	a := &App{Engine: e, Services: services, Find: find.New(services), SignIn: signin.New(services), Clock: clock.New(services), Streams: streams.New(services), Analytics: analytics.New(services)}
	if err := e.Register(a.Find, a.SignIn, a.Clock, a.Streams, channels.New(services), recording.New(services), a.Analytics, routes.New(services), prove.New(services)); err != nil {
		return nil, err
	}
	name := make([]byte, 8)
	rand.Read(name)
	server := hex.EncodeToString(name)
	if opt.Live != "" {
		a.Live, err = live.New(live.Options{Store: st, SignIn: streamLogin(clients), Looked: seenBy(services), Dialer: d, Log: opt.Log, Server: server, Listen: opt.Live})
		if err != nil {
			return nil, err
		}
	}
	for _, more := range opt.Extra {
		if err := e.Register(more(services)); err != nil {
			return nil, err
		}
	}
	if opt.Gather {
		a.Gatherer = gather.Start(gather.Options{Store: st, SignIn: gather.SignIn(streamLogin(clients)), Dialer: d, Log: opt.Log, Server: server, Age: seenFor, Hold: a.Analytics.Hold, Sits: a.Analytics.KeepSits,
			Glance: a.glance, Feed: a.feed, Sent: a.Analytics.Sent, Health: a.Analytics.Health})
	}
	return a, nil
}

// glance looks at a view's picture, where it isn't known how its boxes sit.
func (a *App) glance(ctx context.Context, source int64) (gather.Glances, error) {
	due, err := a.Analytics.SitsDue(ctx, source)
	switch {
	case err != nil:
		return nil, err
	case !due:
		return nil, gather.ErrKnown
	}
	return a.Streams.Glance(ctx, source)
}

// seenFor is for how long what analytics saw is kept.
const seenFor = 7 * 24 * time.Hour

// streamLogin signs in to streams for moving pictures.
func streamLogin(clients *account.Clients) live.SignIn {
	return func(ctx context.Context, d store.Device, s *site.Snapshot, purpose string) (rtsp.Login, error) {
		opens, ok := facts.Account.Of(s, d.ID)
		if !ok || d.Address == nil {
			return rtsp.Login{}, trouble.UserError("No account opens " + d.Place + ".")
		}
		login, err := clients.LoginOf(ctx, d, s, opens.ForRTSP(), access.RTSP, purpose)
		return rtsp.Login(login), err
	}
}

// Stop ends the work of this process and what it shows.
func (a *App) Stop(ctx context.Context) error {
	if a.Live != nil {
		a.Live.Close()
	}
	if a.Gatherer != nil {
		a.Gatherer.Close()
	}
	return a.Engine.Stop(ctx)
}
