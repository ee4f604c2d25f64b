package main

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"duskyharbor/internal/people"
	"duskyharbor/internal/pgserver"
	"duskyharbor/internal/store"
	"duskyharbor/internal/vault"
)

// within opens the database for one command.
func within(ctx context.Context, dsn string, f func(*store.Store) error) error {
	if dsn == "" {
		return errors.New("--dsn is needed (or DUSKYHARBOR_DSN)")
	}
	st, err := store.Open(ctx, dsn)
	if err != nil {
		return err
	}
	defer st.Close()
	return f(st)
}

func dsnFlag(c *cobra.Command, dsn *string) {
	c.Flags().StringVar(dsn, "dsn", env("DUSKYHARBOR_DSN", ""), "PostgreSQL address (or DUSKYHARBOR_DSN)")
	c.Flags().Lookup("dsn").DefValue = "" // what the environment holds may have a password in it: --help doesn't print it
}

func tokenCommand() *cobra.Command {
	c := &cobra.Command{Use: "token", Short: "Tokens of programs"}
	var dsn, site, name string
	var scopes []string
	var days int
	create := &cobra.Command{Use: "create", Short: "Make a token of a site and print it, once", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			list, err := people.ParseScopes(scopes)
			if err != nil {
				return err
			}
			if name == "" || len(name) > 64 || site == "" || days < 1 || days > 3650 {
				return errors.New("--site, --name (at most 64 characters) and --days (1 to 3650) are needed")
			}
			return within(cmd.Context(), dsn, func(st *store.Store) error {
				s, err := st.SiteNamed(cmd.Context(), site)
				if err != nil {
					return fmt.Errorf("site %q: %w", site, err)
				}
				token, hash := people.NewToken()
				until := time.Now().Add(time.Duration(days) * 24 * time.Hour)
				if _, err := st.AddToken(cmd.Context(), s.ID, 0, name, list, hash, &until); err != nil {
					return err
				}
				if err := st.Audit(cmd.Context(), store.AuditEntry{Site: s.ID, Act: "made a token at the command line",
					Detail: name + ": " + strings.Join(list, ", ")}); err != nil {
					return err
				}
				_, err = fmt.Fprintln(cmd.OutOrStdout(), token)
				return err
			})
		}}
	dsnFlag(create, &dsn)
	create.Flags().StringVar(&site, "site", "", "the site's name")
	create.Flags().StringVar(&name, "name", "", "what the program is called")
	create.Flags().StringSliceVar(&scopes, "scope", []string{"read"}, "read, run, apply, setup")
	create.Flags().IntVar(&days, "days", 90, "days until it ends")
	c.AddCommand(create)
	return c
}

func vaultCommand() *cobra.Command {
	c := &cobra.Command{Use: "vault", Short: "The vault's key"}
	var dsn, key string
	rotate := &cobra.Command{Use: "rotate", Short: "Seal everything with a new key and forget the old one; running servers go on", Args: cobra.NoArgs, RunE: func(cmd *cobra.Command, _ []string) error {
		if key == "" {
			return errors.New("--key is needed (or DUSKYHARBOR_KEY)")
		}
		return within(cmd.Context(), dsn, func(st *store.Store) error {
			n := 0
			reseal := func(old, next *vault.Vault) (err error) {
				n, err = st.Reseal(cmd.Context(), func(sealed []byte, place string) ([]byte, error) {
					plain, err := old.Open(sealed, place)
					if err != nil {
						return nil, fmt.Errorf("%s: %w", place, err)
					}
					return next.Seal(plain, place)
				})
				return err
			}
			err := st.WhileNoneSeals(cmd.Context(), func() error { return vault.Rotate(key, reseal) })
			if err != nil {
				return err
			}
			_, err = fmt.Fprintf(cmd.OutOrStdout(), "%d secrets are sealed with a new key\n", n)
			return err
		})
	}}
	dsnFlag(rotate, &dsn)
	rotate.Flags().StringVar(&key, "key", env("DUSKYHARBOR_KEY", ""), "key file of the vault (or DUSKYHARBOR_KEY)")
	c.AddCommand(rotate)
	return c
}

func backupCommand() *cobra.Command {
	var dsn string
	c := &cobra.Command{Use: "backup FILE", Short: "Write all that the database holds to a file; the vault's key isn't in it", Args: cobra.ExactArgs(1), RunE: func(cmd *cobra.Command, args []string) error {
		if dsn == "" {
			return errors.New("--dsn is needed (or DUSKYHARBOR_DSN)")
		}
		if err := pgserver.Dump(cmd.Context(), dsn, args[0]); err != nil {
			return err
		}
		_, err := fmt.Fprintf(cmd.OutOrStdout(), "%s holds the database as it stood when this began. Keep the vault's key file beside it, apart: without it no password opens.\n", args[0])
		return err
	}}
	dsnFlag(c, &dsn)
	return c
}

func restoreCommand() *cobra.Command {
	var dsn string
	c := &cobra.Command{Use: "restore FILE", Short: "Put a back-up into an empty database", Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			err := within(cmd.Context(), dsn, func(st *store.Store) error {
				empty, err := st.Empty(cmd.Context())
				if err == nil && !empty {
					return errors.New("that database isn't empty: make a new one, nothing is overwritten")
				}
				return err
			})
			if err != nil {
				return err
			}
			if err := pgserver.Restore(cmd.Context(), dsn, args[0]); err != nil {
				return err
			}
			// A back-up of an older version is brought forward at once.
			return within(cmd.Context(), dsn, func(st *store.Store) error {
				if err := st.Migrate(cmd.Context()); err != nil {
					return err
				}
				return st.AfterRestore(cmd.Context())
			})
		}}
	dsnFlag(c, &dsn)
	return c
}
