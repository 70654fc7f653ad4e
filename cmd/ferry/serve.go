package main

import (
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"syscall"
	"time"

	"github.com/gofiber/fiber/v3"
	"github.com/spf13/cobra"

	"ferry/internal/api"
	"ferry/internal/bench"
	"ferry/internal/core/site"
	"ferry/internal/field"
	"ferry/internal/store"
)

const defaultListen = "127.0.0.1:8642"

func serveCommand() *cobra.Command {
	return serving("serve", "Serve the application in the browser", "ferry-data", func() *site.Site {
		return &site.Site{Format: site.Format, Version: site.Version, Name: "New site", Lines: []site.Line{}, Devices: []site.Device{}, Links: []site.Link{}, Crossings: []site.Crossing{}}
	})
}

func demoCommand() *cobra.Command {
	return serving("demo", "Serve the demo site with its simulated devices", "demo-data", bench.Demo)
}

func serving(use, short, data string, first func() *site.Site) *cobra.Command {
	c := &cobra.Command{Use: use, Short: short, Args: cobra.NoArgs}
	listen := c.Flags().String("listen", defaultListen, "address to listen on")
	dir := c.Flags().String("data", data, "folder for the site, its journal and its samples")
	secret := c.Flags().String("passphrase-file", "", "file with the passphrase that browsers have to give; needed for any address but loopback")
	c.RunE = func(c *cobra.Command, _ []string) error {
		passphrase, err := readPassphrase(*secret)
		if err != nil {
			return err
		}
		host, _, err := net.SplitHostPort(*listen)
		if err != nil {
			return fmt.Errorf("--listen %s: write host and port, such as %s", *listen, defaultListen)
		}
		if ip := net.ParseIP(host); passphrase == "" && host != "localhost" && (ip == nil || !ip.IsLoopback()) {
			return fmt.Errorf("--listen %s reaches beyond this machine: give a --passphrase-file first", *listen)
		}
		return serve(c, *listen, *dir, passphrase, first)
	}
	return c
}

func readPassphrase(path string) (string, error) {
	if path == "" {
		return "", nil
	}
	data, err := os.ReadFile(path)
	if err != nil {
		return "", fmt.Errorf("--passphrase-file: %w", err)
	}
	for len(data) > 0 && (data[len(data)-1] == '\n' || data[len(data)-1] == '\r') {
		data = data[:len(data)-1]
	}
	if len(data) < 8 {
		return "", errors.New("--passphrase-file: the passphrase needs at least 8 characters")
	}
	return string(data), nil
}

func serve(c *cobra.Command, listen, dir, passphrase string, first func() *site.Site) (err error) {
	ctx := c.Context()
	listener, err := net.Listen("tcp", listen)
	if errors.Is(err, syscall.EADDRINUSE) {
		return fmt.Errorf("%s is in use, perhaps by another Ferry: close it, or choose another port, such as --listen 127.0.0.1:8643", listen)
	}
	if err != nil {
		return fmt.Errorf("cannot listen on %s: %w", listen, err)
	}
	defer listener.Close()
	release, err := lockFolder(dir)
	if err != nil {
		return err
	}
	defer release()
	st, err := store.Open(ctx, dir, first)
	if err != nil {
		return fmt.Errorf("cannot open the data folder %s: %w", dir, err)
	}
	defer func() { err = errors.Join(err, st.Close()) }()
	now, _ := st.Site()
	b := bench.New()
	defer func() { err = errors.Join(err, b.Close()) }()
	if err := b.Sync(now); err != nil {
		return fmt.Errorf("cannot start the simulated devices: %w", err)
	}
	engine := field.NewEngine(now, b)
	defer engine.Close()
	earlier, err := st.Outages(ctx, recalled)
	if err != nil {
		return err
	}
	outages := make([]field.Outage, len(earlier))
	for i, o := range earlier {
		outages[i] = field.Outage(o)
	}
	engine.Hub.Recall(outages)
	samplesCtx, stopSamples := context.WithCancel(ctx)
	saved := make(chan struct{})
	go func() {
		defer close(saved)
		saveSamples(samplesCtx, c, st, engine.Hub)
	}()
	defer func() { stopSamples(); <-saved }()
	app := (&api.Server{Store: st, Engine: engine, Bench: b, Passphrase: passphrase}).App()
	fmt.Fprintf(c.OutOrStdout(), "Ferry shows %s at http://%s\n", now.Name, listener.Addr())
	ended := make(chan error, 1)
	go func() {
		ended <- app.Listener(listener, fiber.ListenConfig{DisableStartupMessage: true})
	}()
	select {
	case err := <-ended:
		return err
	case <-ctx.Done():
	}
	// Open event streams never end by themselves: do not wait for them long.
	_ = app.ShutdownWithTimeout(500 * time.Millisecond)
	return nil
}

// lockFolder keeps two Ferrys from writing one folder.
func lockFolder(dir string) (release func(), err error) {
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return nil, err
	}
	f, err := os.OpenFile(filepath.Join(dir, "lock"), os.O_CREATE|os.O_RDWR, 0o644)
	if err != nil {
		return nil, err
	}
	if err := syscall.Flock(int(f.Fd()), syscall.LOCK_EX|syscall.LOCK_NB); err != nil {
		return nil, errors.Join(fmt.Errorf("the folder %s is in use by another Ferry: close it, or choose another with --data", dir), f.Close())
	}
	return func() { _ = f.Close() }, nil // the lock goes with the file
}

// recalled is how many outages of earlier runs are shown.
const recalled = 500

// saveSamples moves samples and outages from the hub to the disk once a second.
func saveSamples(ctx context.Context, c *cobra.Command, st *store.Store, hub *field.Hub) {
	ticker := time.NewTicker(time.Second)
	defer ticker.Stop()
	failing := false
	for {
		select {
		case <-ctx.Done():
			return
		case <-ticker.C:
		}
		taken := hub.DrainSamples()
		list := make([]store.Sample, len(taken))
		for i, s := range taken {
			list[i] = store.Sample(s)
		}
		outages := []store.Outage{}
		for _, o := range hub.DrainOutages() {
			outages = append(outages, store.Outage(o))
		}
		err := errors.Join(st.AddSamples(ctx, list), st.KeepOutages(ctx, outages))
		if err != nil && ctx.Err() == nil && !failing {
			fmt.Fprintln(c.ErrOrStderr(), "ferry: samples and outages are not being kept:", err)
		}
		failing = err != nil
	}
}
