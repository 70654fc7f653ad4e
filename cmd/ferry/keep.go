package main

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/spf13/cobra"

	"ferry/internal/field"
	"ferry/internal/store"
)

// keep moves samples and outages from the hub to the disk once a second, and
// brings the journal of what crossings write up to date. What cannot be kept is
// tried again. Once a day it sees to a copy of the site.
func keep(ctx context.Context, c *cobra.Command, st *store.Store, engine *field.Engine) {
	ticker := time.NewTicker(time.Second)
	defer ticker.Stop()
	failing := false
	for last := false; !last; {
		select {
		case <-ctx.Done():
			last = true // what came since the last second
		case <-ticker.C:
		}
		err := errors.Join(keepSeen(context.WithoutCancel(ctx), st, engine.Hub),
			engine.KeepCrossings(context.WithoutCancel(ctx)), keepWear(context.WithoutCancel(ctx), st, engine),
			st.KeepCopy(ctx))
		if err != nil && ctx.Err() == nil && !failing {
			fmt.Fprintln(c.ErrOrStderr(), "ferry: samples, outages or writes are not being kept:", err)
		}
		failing = err != nil
	}
}

// keepWear keeps how often targets were written today.
func keepWear(ctx context.Context, st *store.Store, engine *field.Engine) error {
	worn := engine.DrainWorn()
	list := make([]store.Wear, len(worn))
	for i, w := range worn {
		list[i] = store.Wear(w)
	}
	err := st.KeepWear(ctx, list)
	if err != nil {
		engine.AgainWorn(worn)
	}
	return err
}

// recallWear brings back how often targets were written earlier today.
func recallWear(ctx context.Context, st *store.Store, engine *field.Engine) error {
	list, err := st.WearOf(ctx, time.Now().Format(time.DateOnly))
	if err != nil {
		return err
	}
	worn := make([]field.Worn, len(list))
	for i, w := range list {
		worn[i] = field.Worn(w)
	}
	engine.RecallWorn(worn)
	return nil
}

func keepSeen(ctx context.Context, st *store.Store, hub *field.Hub) error {
	taken, outages := hub.DrainSamples(), hub.DrainOutages()
	list := make([]store.Sample, len(taken))
	for i, s := range taken {
		list[i] = store.Sample(s)
	}
	if err := st.AddSamples(ctx, list); err != nil {
		hub.PutBack(taken, outages)
		return err
	}
	kept := make([]store.Outage, len(outages))
	for i, o := range outages {
		kept[i] = store.Outage(o)
	}
	if err := st.KeepOutages(ctx, kept); err != nil {
		hub.PutBack(nil, outages)
		return err
	}
	return nil
}
