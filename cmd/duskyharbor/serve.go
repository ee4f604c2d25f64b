package main

import (
	"bufio"
	"cmp"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"time"

	"github.com/jackc/pgx/v5/pgxpool"
	"github.com/spf13/cobra"

	"duskyharbor/internal/app"
	"duskyharbor/internal/device/dial"
	"duskyharbor/internal/engine"
	"duskyharbor/internal/people"
	"duskyharbor/internal/pgserver"
	"duskyharbor/internal/store"
	"duskyharbor/internal/vault"
	"duskyharbor/internal/web/shell"
)

// serveOptions are serve's flags.
type serveOptions struct {
	data             string // folder that keeps database and key; empty: both are given
	dsn, key, listen string
	hosts            []string
	within           string // where devices may be; empty: anywhere
	proxies          []string
	cert, certKey    string // TLS with a certificate that was given
	selfSigned       string // TLS with one of our own, kept in this folder
	live             string // UDP address of moving pictures; "off": none
}

func serveCommand() *cobra.Command {
	var o serveOptions
	c := &cobra.Command{Use: "serve", Short: "Serve the pages and do the work", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error { return serve(cmd.Context(), o, cmd.OutOrStdout()) }}
	c.Flags().StringVar(&o.data, "data", env("DUSKYHARBOR_DATA", ""),
		"folder that keeps everything, made where missing: a database is started in it, on loopback (or DUSKYHARBOR_DATA)")
	dsnFlag(c, &o.dsn)
	c.Flags().StringVar(&o.within, "dial-within", "", "prefix outside of which no device is dialled, as 192.168.0.0/16; empty: anywhere")
	c.Flags().StringVar(&o.key, "key", env("DUSKYHARBOR_KEY", ""), "key file of the vault, made where missing (or DUSKYHARBOR_KEY)")
	c.Flags().StringVar(&o.listen, "listen", env("DUSKYHARBOR_LISTEN", "127.0.0.1:8420"), "listen address (or DUSKYHARBOR_LISTEN)")
	c.Flags().StringSliceVar(&o.hosts, "host", strings.FieldsFunc(env("DUSKYHARBOR_HOSTS",
		""), func(r rune) bool { return r == ',' }), "further host names this server is called by (or DUSKYHARBOR_HOSTS)")
	c.Flags().StringSliceVar(&o.proxies, "trusted-proxy", strings.FieldsFunc(env("DUSKYHARBOR_TRUSTED_PROXIES", ""), func(r rune) bool { return r == ',' }),
		"address or prefix of a proxy that ends TLS before this server: its X-Forwarded-For is believed (or DUSKYHARBOR_TRUSTED_PROXIES)")
	c.Flags().StringVar(&o.cert, "tls-cert", env("DUSKYHARBOR_TLS_CERT", ""),
		"certificate chain in PEM; with --tls-key the pages are served over TLS")
	c.Flags().StringVar(&o.certKey, "tls-key", env("DUSKYHARBOR_TLS_KEY", ""), "its private key in PEM")
	c.Flags().StringVar(&o.selfSigned, "tls-self-signed", env("DUSKYHARBOR_TLS_SELF_SIGNED", ""),
		"folder that keeps a certificate of our own, made where missing; its fingerprint is printed")
	c.Flags().StringVar(&o.live, "live", env("DUSKYHARBOR_LIVE", ""),
		"UDP address that moving pictures are sent from, one port for all; empty: as --listen; off: none (or DUSKYHARBOR_LIVE)")
	return c
}

// moving is the UDP address of moving pictures, empty for none.
func (o serveOptions) moving() string {
	switch o.live {
	case "":
		return o.listen
	case "off":
		return ""
	}
	return o.live
}

// proxiesFrom reads addresses and prefixes of trusted proxies.
func proxiesFrom(all []string) (out []netip.Prefix, err error) {
	for _, text := range all {
		p, err := netip.ParsePrefix(strings.TrimSpace(text))
		if a, aerr := netip.ParseAddr(strings.TrimSpace(text)); aerr == nil {
			p, err = netip.PrefixFrom(a, a.BitLen()), nil
		}
		if err != nil {
			return nil, fmt.Errorf("--trusted-proxy is an address or a prefix as 192.168.1.0/24, not %q", text)
		}
		out = append(out, p)
	}
	return out, nil
}

// serve works until ctx ends. Where nobody can sign in yet, the code that the first person
// types is written to out.
func serve(ctx context.Context, o serveOptions, out io.Writer) error {
	log := slog.New(slog.NewTextHandler(os.Stderr, nil))
	slog.SetDefault(log)
	app.BoundMemory()
	tlsConfig, fingerprint, err := certificate(o)
	if err != nil {
		return err
	}
	end, gone, err := o.keep(ctx)
	if err != nil {
		return err
	}
	defer end()
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	var ended atomic.Bool
	go func() {
		select {
		case <-gone:
			ended.Store(true)
			cancel()
		case <-ctx.Done():
		}
	}()
	dsn, key, listen, hosts := o.dsn, o.key, o.listen, o.hosts
	st, v, err := open(ctx, dsn, key)
	if err != nil {
		return err
	}
	defer st.Close()
	if err := st.Migrate(ctx); err != nil {
		return err
	}
	dialer := &dial.Dialer{Own: dial.ParseOwn(listen, databaseAt(dsn))}
	if o.within != "" {
		if dialer.Within, err = netip.ParsePrefix(o.within); err != nil {
			return fmt.Errorf("--dial-within is a prefix as 192.168.0.0/16, not %q", o.within)
		}
	}
	proxies, err := proxiesFrom(o.proxies)
	if err != nil {
		return err
	}
	office, err := app.New(st, v, dialer, app.Options{Options: engine.Options{Log: log}, Live: o.moving(), Gather: true})
	if err != nil {
		return err
	}
	if err := office.Start(ctx); err != nil {
		return err
	}
	defer func() {
		ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), 10*time.Second)
		defer cancel()
		if err := office.Stop(ctx); err != nil {
			log.Warn("work didn't end in time", "err", err)
		}
	}()
	pages, err := office.Pages(v, shell.Options{Listen: listen, Hosts: hosts, Secure: tlsConfig != nil || len(proxies) > 0,
		Proxies: proxies, Log: log})
	if err != nil {
		return err
	}
	defer pages.Close()
	l, err := (&net.ListenConfig{}).Listen(ctx, "tcp", listen)
	if err != nil {
		return fmt.Errorf("the pages can't be served at %s: %w", listen, err)
	}
	srv := &http.Server{Handler: pages.Handler(), ReadHeaderTimeout: 10 * time.Second, ReadTimeout: 30 * time.Second,
		WriteTimeout: 60 * time.Second, IdleTimeout: 2 * time.Minute, MaxHeaderBytes: 64 << 10,
		BaseContext: func(net.Listener) context.Context { return ctx }}
	go func() {
		<-ctx.Done()
		end, cancel := context.WithTimeout(context.WithoutCancel(ctx), 5*time.Second)
		defer cancel()
		_ = srv.Shutdown(end)
	}()
	scheme := "http://"
	if tlsConfig != nil {
		l, scheme = tls.NewListener(l, tlsConfig), "https://"
	}
	log.Info("serving", "address", scheme+l.Addr().String())
	if err := firstCode(ctx, st, out, scheme+l.Addr().String()); err != nil {
		return err
	}
	if fingerprint != "" {
		log.Info("the certificate is our own: compare its SHA-256 fingerprint with the browser's", "sha256", fingerprint)
	}
	if err := srv.Serve(l); !errors.Is(err, http.ErrServerClosed) {
		return err
	}
	if ended.Load() {
		return errors.New("the database ended; start the server again, it keeps its data")
	}
	return nil
}

// keep starts a database in the data folder where none was given, and keeps the key there.
// end lets both go; gone is closed when that database ended by itself.
func (o *serveOptions) keep(ctx context.Context) (end func(), gone <-chan struct{}, err error) {
	if o.dsn != "" || o.data == "" {
		return func() {}, nil, nil
	}
	data, err := filepath.Abs(o.data)
	if err != nil {
		return nil, nil, err
	}
	release, err := pgserver.Hold(data)
	if err != nil {
		return nil, nil, err
	}
	// It ends by Stop alone, after what works with it: not with ctx.
	place := pgserver.Place(data)
	if filepath.Dir(place) != data {
		slog.Info("the folder is closed to the postgres user: the database lies elsewhere", "at", place)
	}
	pg, err := pgserver.Start(context.WithoutCancel(ctx), pgserver.Options{Dir: place})
	if err != nil {
		release()
		return nil, nil, err
	}
	o.dsn, o.key = pg.DSN, cmp.Or(o.key, filepath.Join(data, "vault.key"))
	return func() { pg.Stop(); release() }, pg.Done(), nil
}

// firstCode makes the code that the first person types and writes it to out, while nobody
// can sign in.
func firstCode(ctx context.Context, st *store.Store, out io.Writer, url string) error {
	if yes, err := st.Untouched(ctx); err != nil || !yes {
		return err
	}
	code, hash := people.NewCode()
	if err := st.KeepFirstCode(ctx, hash); err != nil {
		return err
	}
	_, err := fmt.Fprintf(out, "Nobody can sign in yet. Open %s/start and type this code, once:\n\n    %s\n\n", url, code)
	return err
}

// databaseAt is where the database listens, so that no device can send us there.
func databaseAt(dsn string) string {
	cfg, err := pgxpool.ParseConfig(dsn)
	if err != nil {
		return ""
	}
	return net.JoinHostPort(cfg.ConnConfig.Host, fmt.Sprint(cfg.ConnConfig.Port))
}

func open(ctx context.Context, dsn, key string) (*store.Store, *vault.Vault, error) {
	if dsn == "" || key == "" {
		return nil, nil, errors.New("give a folder with --data, or an address with --dsn and a file with --key")
	}
	v, err := vault.Load(key)
	if err != nil {
		return nil, nil, err
	}
	st, err := store.Open(ctx, dsn)
	return st, v, err
}

func migrateCommand() *cobra.Command {
	var dsn string
	c := &cobra.Command{Use: "migrate", Short: "Bring the database forward", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			st, err := store.Open(cmd.Context(), dsn)
			if err != nil {
				return err
			}
			defer st.Close()
			return st.Migrate(cmd.Context())
		}}
	dsnFlag(c, &dsn)
	return c
}

func userCommand() *cobra.Command {
	var dsn, name, site, role string
	c := &cobra.Command{Use: "user LOGIN", Short: "Add a person, or give one a new password, read from standard input",
		Args: cobra.ExactArgs(1), RunE: func(cmd *cobra.Command, args []string) error {
			line, err := bufio.NewReader(cmd.InOrStdin()).ReadString('\n')
			if err != nil && line == "" {
				return errors.New("give the password on standard input, one line")
			}
			hash, err := people.Hash(strings.TrimRight(line, "\r\n"))
			if err != nil {
				return err
			}
			st, err := store.Open(cmd.Context(), dsn)
			if err != nil {
				return err
			}
			defer st.Close()
			id, err := st.AddPerson(cmd.Context(), args[0], name, hash)
			if err != nil || site == "" {
				return err
			}
			s, err := st.SiteNamed(cmd.Context(), site)
			if err != nil {
				return fmt.Errorf("site %q: %w", site, err)
			}
			return st.AddMember(cmd.Context(), s.ID, id, people.Role(role))
		}}
	dsnFlag(c, &dsn)
	c.Flags().StringVar(&name, "name", "", "the person's name")
	c.Flags().StringVar(&site, "site", "", "a site to add the person to")
	c.Flags().StringVar(&role, "role", "technician", "lead, technician or viewer")
	return c
}
