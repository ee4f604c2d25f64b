package main

import (
	"context"
	"encoding/json"
	"fmt"
	"os"

	"github.com/spf13/cobra"

	"duskyharbor/internal/demo"
)

func demoCommand() *cobra.Command {
	var o demo.Options
	var net string
	c := &cobra.Command{Use: "demo", Short: "Run database, stand-ins and server with the demo harbour",
		Args: cobra.NoArgs, RunE: func(cmd *cobra.Command, _ []string) error {
			self, err := os.Executable()
			if err != nil {
				return err
			}
			o.Program, o.Net = self, demo.Net(net)
			return demo.Run(cmd.Context(), o, os.Stdout)
		}}
	c.Flags().StringVar(&o.Data, "data", env("DUSKYHARBOR_DATA", ".data"), "folder that keeps everything")
	c.Flags().StringVar(&o.Listen, "listen", env("DUSKYHARBOR_LISTEN", "127.0.0.1:8420"), "listen address")
	c.Flags().StringVar(&net, "net", env("DUSKYHARBOR_NET", "127.40"), "first two octets of the stand-ins' loopback networks")
	c.Flags().IntVar(&o.Bulk, "bulk", 0, "so many cameras more, for load, at most 3000")
	c.Flags().BoolVar(&o.JSON, "json", false, "print one line of JSON when ready")
	return c
}

func resetCommand() *cobra.Command {
	var data string
	c := &cobra.Command{Use: "demo-reset", Short: "Forget all that a demo kept", Args: cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error { return demo.Reset(data) }}
	c.Flags().StringVar(&data, "data", env("DUSKYHARBOR_DATA", ".data"), "folder that keeps everything")
	return c
}

func standinsCommand() *cobra.Command {
	var net, data string
	var asJSON bool
	var bulk int
	c := &cobra.Command{Use: "standins", Short: "Run the stand-in cameras and recorders alone", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			return standins(cmd.Context(), demo.Net(net), data, bulk, asJSON)
		}}
	c.Flags().StringVar(&net, "net", env("DUSKYHARBOR_NET", "127.40"), "first two octets of their loopback networks")
	c.Flags().StringVar(&data, "data", "", "folder that keeps their state; none where empty")
	c.Flags().IntVar(&bulk, "bulk", 0, "so many cameras more, for load, at most 3000")
	c.Flags().BoolVar(&asJSON, "json", false, "print one line of JSON a device")
	return c
}

func standins(ctx context.Context, n demo.Net, data string, bulk int, asJSON bool) error {
	if err := n.Check(); err != nil {
		return err
	}
	if bulk < 0 || bulk > demo.BulkMost {
		return fmt.Errorf("--bulk is a number from 0 to %d", demo.BulkMost)
	}
	secrets, state := demo.NewSecrets(), ""
	if data != "" {
		var err error
		if secrets, err = demo.LoadSecrets(data); err != nil {
			return err
		}
		state = data + "/standins"
	}
	fleet, err := demo.StartFleet(ctx, n, secrets, state, bulk)
	if err != nil {
		return err
	}
	defer fleet.Close()
	for _, f := range fleet.Failed {
		fmt.Fprintf(os.Stderr, "%s can't start: %s\n", f.Place, f.Why)
	}
	if err := fleet.Cables(ctx, n); err != nil {
		fmt.Fprintf(os.Stderr, "cameras can't be unplugged: %v\n", err)
	}
	if data != "" {
		if err := demo.TellFleet(data, fleet); err != nil {
			return err
		}
	}
	out := json.NewEncoder(os.Stdout)
	for _, d := range demo.Describe(n, secrets, bulk) {
		if !asJSON {
			fmt.Printf("%-9s %-18s %s %s at %s\n", d.Kind, d.Place, d.Make, d.Model, d.Address)
			continue
		}
		if err := out.Encode(d); err != nil {
			return err
		}
	}
	if asJSON {
		if err := out.Encode(map[string]bool{"ready": true}); err != nil {
			return err
		}
	}
	<-ctx.Done()
	return nil
}
