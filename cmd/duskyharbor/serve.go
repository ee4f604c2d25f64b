package main

import (
	"bufio"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"os"
	"runtime/debug"
	"strings"
	"time"

	"github.com/jackc/pgx/v5/pgxpool"
	"github.com/spf13/cobra"

	"duskyharbor/internal/app"
	"duskyharbor/internal/device/dial"
	"duskyharbor/internal/engine"
	"duskyharbor/internal/people"
	"duskyharbor/internal/store"
	"duskyharbor/internal/vault"
	"duskyharbor/internal/web/shell"
)

// serveOptions are serve's flags.
type serveOptions struct {
	dsn, key, listen string
	hosts            []string
	cert, certKey    string // TLS with a certificate that was given
	selfSigned       string // TLS with one of our own, kept in this folder
}

func serveCommand() *cobra.Command {
	var o serveOptions
	c := &cobra.Command{Use: "serve", Short: "Serve the pages and do the work", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error { return serve(cmd.Context(), o) }}
	c.Flags().StringVar(&o.dsn, "dsn", env("DUSKYHARBOR_DSN", ""), "PostgreSQL address (or DUSKYHARBOR_DSN)")
	c.Flags().StringVar(&o.key, "key", env("DUSKYHARBOR_KEY", ""), "key file of the vault, made where missing (or DUSKYHARBOR_KEY)")
	c.Flags().StringVar(&o.listen, "listen", env("DUSKYHARBOR_LISTEN", "127.0.0.1:8420"), "listen address (or DUSKYHARBOR_LISTEN)")
	c.Flags().StringSliceVar(&o.hosts, "host", strings.FieldsFunc(env("DUSKYHARBOR_HOSTS",
		""), func(r rune) bool { return r == ',' }), "further host names this server is called by (or DUSKYHARBOR_HOSTS)")
	c.Flags().StringVar(&o.cert, "tls-cert", env("DUSKYHARBOR_TLS_CERT", ""),
		"certificate chain in PEM; with --tls-key the pages are served over TLS")
	c.Flags().StringVar(&o.certKey, "tls-key", env("DUSKYHARBOR_TLS_KEY", ""), "its private key in PEM")
	c.Flags().StringVar(&o.selfSigned, "tls-self-signed", env("DUSKYHARBOR_TLS_SELF_SIGNED", ""),
		"folder that keeps a certificate of our own, made where missing; its fingerprint is printed")
	return c
}

func serve(ctx context.Context, o serveOptions) error {
	dsn, key, listen, hosts := o.dsn, o.key, o.listen, o.hosts
	log := slog.New(slog.NewTextHandler(os.Stderr, nil))
	slog.SetDefault(log)
	if os.Getenv("GOGC") == "" {
		debug.SetGCPercent(400) // the heap is small: pages are answered sooner for some tens of MB
	}
	tlsConfig, fingerprint, err := certificate(o)
	if err != nil {
		return err
	}
	st, v, err := open(ctx, dsn, key)
	if err != nil {
		return err
	}
	defer st.Close()
	if err := st.Migrate(ctx); err != nil {
		return err
	}
	own := dial.ParseOwn(listen, databaseAt(dsn))
	office, err := app.New(st, v, &dial.Dialer{Own: own}, app.Options{Options: engine.Options{Log: log}})
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
	pages, err := office.Pages(v, shell.Options{Listen: listen, Hosts: hosts, Secure: tlsConfig != nil, Log: log})
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
	if fingerprint != "" {
		log.Info("the certificate is our own: compare its SHA-256 fingerprint with the browser's", "sha256", fingerprint)
	}
	if err := srv.Serve(l); !errors.Is(err, http.ErrServerClosed) {
		return err
	}
	return nil
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
		return nil, nil, errors.New("--dsn and --key are needed (or DUSKYHARBOR_DSN and DUSKYHARBOR_KEY)")
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
	c.Flags().StringVar(&dsn, "dsn", env("DUSKYHARBOR_DSN", ""), "PostgreSQL address (or DUSKYHARBOR_DSN)")
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
	c.Flags().StringVar(&dsn, "dsn", env("DUSKYHARBOR_DSN", ""), "PostgreSQL address (or DUSKYHARBOR_DSN)")
	c.Flags().StringVar(&name, "name", "", "the person's name")
	c.Flags().StringVar(&site, "site", "", "a site to add the person to")
	c.Flags().StringVar(&role, "role", "technician", "lead, technician or viewer")
	return c
}
