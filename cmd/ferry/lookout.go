package main

import (
	"context"

	"github.com/spf13/cobra"

	"ferry/internal/bench"
	"ferry/internal/core/site"
	"ferry/internal/field"
	"ferry/internal/lookout"
	"ferry/internal/store"
	"ferry/internal/vault"
)

// allowPrograms adds the flag by which programs are allowed.
func allowPrograms(c *cobra.Command, programs *map[string]string) {
	c.Flags().StringToStringVar(programs, "program", nil,
		"NAME=PATH of a program that lookouts may run, with what they say on its standard input")
}

// lookOut begins to look out for what the site says.
func lookOut(ctx context.Context, st *store.Store, engine *field.Engine, b *bench.Bench, kept vault.Vault,
	programs map[string]string) (*lookout.Keeper, *lookout.Teller, func() error, error) {
	teller := lookout.NewTeller(lookout.Ways{Engine: engine, Kept: kept.Get, Programs: programs, Authority: b.Authority,
		Catcher: func() (lookout.Catching, error) { return b.Catcher() }},
		func(id string) *site.Outlet { return engine.Site().Outlet(id) })
	keeper, err := lookout.Keep(ctx, engine, st, teller)
	if err != nil {
		return nil, nil, nil, err
	}
	ctx, stop := context.WithCancel(context.WithoutCancel(ctx))
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		keeper.Run(ctx)
	}()
	return keeper, teller, func() error {
		stop()
		<-ended
		return teller.Close()
	}, nil
}
