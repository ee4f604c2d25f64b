// Command duskyharbor enrols cameras of many makes into recorders and video
// management systems.
package main

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/signal"
	"syscall"

	"github.com/spf13/cobra"
)

func main() {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	root := &cobra.Command{Use: "duskyharbor", Short: "Enrol cameras into recorders, from found to proven",
		SilenceUsage: true, SilenceErrors: true}
	root.AddCommand(serveCommand(), standinsCommand(), demoCommand(), resetCommand(), migrateCommand(), userCommand(),
		tokenCommand(), vaultCommand(), backupCommand(), restoreCommand())
	if err := root.ExecuteContext(ctx); err != nil && !errors.Is(err, context.Canceled) {
		fmt.Fprintln(os.Stderr, "duskyharbor:", err)
		os.Exit(1)
	}
}

// env is an environment variable, or otherwise.
func env(name, otherwise string) string {
	if v := os.Getenv(name); v != "" {
		return v
	}
	return otherwise
}
