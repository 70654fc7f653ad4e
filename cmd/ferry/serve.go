package main

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"runtime/debug"
	"slices"
	"strings"
	"sync/atomic"
	"syscall"
	"time"

	"github.com/gofiber/fiber/v3"
	"github.com/spf13/cobra"

	"ferry/internal/accounts"
	"ferry/internal/api"
	"ferry/internal/bench"
	"ferry/internal/core/protocol"
	"ferry/internal/core/site"
	"ferry/internal/field"
	"ferry/internal/lookout"
	"ferry/internal/recording"
	"ferry/internal/relay"
	"ferry/internal/sites"
	"ferry/internal/store"
	"ferry/internal/strips"
	"ferry/internal/vault"
)

const defaultListen = "127.0.0.1:8642"

func serveCommand() *cobra.Command {
	return serving("serve", "Serve the application in the browser", "ferry-data", newSite)
}

func newSite(vault.Vault) (*site.Site, error) { return site.New("New site"), nil }

func demoCommand() *cobra.Command {
	return serving("demo", "Serve the demo site with its simulated devices", "demo-data",
		func(kept vault.Vault) (*site.Site, error) {
			for name, content := range bench.DemoFiles() {
				if err := kept.Put(protocol.File, name, content); err != nil {
					return nil, err
				}
			}
			return bench.Demo(), nil
		})
}

// beginning makes what a folder holds at first, with the files that it names.
type beginning func(vault.Vault) (*site.Site, error)

// reach says how the application is reached.
type reach struct {
	listen     string
	dir        string
	passphrase string // of the first user
	tls        bool
	cert, key  string
	hosts      []string
	programs   map[string]string // that lookouts may run, by name
}

func serving(use, short, data string, first beginning) *cobra.Command {
	c := &cobra.Command{Use: use, Short: short, Args: cobra.NoArgs}
	var r reach
	c.Flags().StringVar(&r.listen, "listen", defaultListen, "address to listen on")
	c.Flags().StringVar(&r.dir, "data", data, "folder for the site, its journal and its samples")
	c.Flags().BoolVar(&r.tls, "tls", false,
		"have people sign in, over TLS, on loopback too; any other address always does")
	c.Flags().StringVar(&r.cert, "cert", "", "file with the certificate, in PEM; without one, Ferry makes its own")
	c.Flags().StringVar(&r.key, "key", "", "file with the key of the certificate, in PEM")
	c.Flags().StringSliceVar(&r.hosts, "host", nil, "further name or address by which browsers reach it")
	allowPrograms(c, &r.programs)
	secret := c.Flags().String("passphrase-file", "",
		"file with the passphrase of the first user, who is called "+firstUser+"; as --tls")
	c.RunE = func(c *cobra.Command, _ []string) (err error) {
		if os.Getenv("GOGC") == "" {
			// A large site is mostly what stays; less room for what comes and
			// goes is enough.
			debug.SetGCPercent(30)
		}
		if r.passphrase, err = readPassphrase(*secret); err != nil {
			return err
		}
		host, _, err := net.SplitHostPort(r.listen)
		if err != nil {
			return fmt.Errorf("--listen %s: write host and port, such as %s", r.listen, defaultListen)
		}
		if ip := net.ParseIP(host); host != "localhost" && (ip == nil || !ip.IsLoopback()) {
			r.tls = true
		}
		if r.passphrase != "" || r.cert != "" {
			r.tls = true
		}
		if (r.cert == "") != (r.key == "") {
			return errors.New("give --cert and --key together")
		}
		return serve(c, &r, first)
	}
	return c
}

// firstUser is who is signed in with the passphrase of --passphrase-file.
const firstUser = "ferry"

func readPassphrase(path string) (string, error) {
	if path == "" {
		return "", nil
	}
	data, err := os.ReadFile(path)
	if err != nil {
		return "", fmt.Errorf("--passphrase-file: %w", err)
	}
	passphrase := strings.TrimRight(string(data), "\r\n")
	if err := accounts.CheckPassphrase(passphrase); err != nil {
		return "", fmt.Errorf("--passphrase-file: %w", err)
	}
	return passphrase, nil
}

// people opens the users of a Ferry that asks who is there. There must be one
// before anything listens.
func (r *reach) people() (*accounts.Accounts, error) {
	users, err := accounts.Open(r.dir)
	if err != nil || len(users.Users()) > 0 {
		return users, err
	}
	if r.passphrase == "" {
		return nil, fmt.Errorf("nobody may sign in yet: add the first user with ferry user add NAME --role plant "+
			"--data %s, or give a --passphrase-file", r.dir)
	}
	if err := os.MkdirAll(r.dir, 0o755); err != nil {
		return nil, err
	}
	return users, users.Put(firstUser, accounts.Plant, r.passphrase)
}

// certificate returns what browsers are shown, and how to show it.
func (r *reach) certificate() (*tls.Config, *accounts.Certificate, error) {
	pair, shown, err := tls.Certificate{}, accounts.Certificate{}, error(nil)
	if r.cert != "" {
		pair, shown, err = accounts.LoadCertificate(r.cert, r.key)
	} else {
		pair, shown, err = accounts.OwnCertificate(r.dir, r.reachedBy())
	}
	return &tls.Config{Certificates: []tls.Certificate{pair}, MinVersion: tls.VersionTLS12}, &shown, err
}

// relayCertificate is what relays show callers over TLS: that of Ferry.
func (r *reach) relayCertificate() (tls.Certificate, error) {
	if r.cert != "" {
		pair, _, err := accounts.LoadCertificate(r.cert, r.key)
		return pair, err
	}
	pair, _, err := accounts.OwnCertificate(r.dir, r.reachedBy())
	return pair, err
}

// reachedBy lists the names and addresses by which browsers reach this machine.
func (r *reach) reachedBy() []string {
	hosts := []string{"localhost", "127.0.0.1", "::1"}
	if host, _, err := net.SplitHostPort(r.listen); err == nil {
		if ip := net.ParseIP(host); host != "" && (ip == nil || !ip.IsUnspecified()) {
			hosts = append(hosts, host)
		} else if name, err := os.Hostname(); err == nil { // every address of the machine
			hosts = append(hosts, name)
			if addrs, err := net.InterfaceAddrs(); err == nil {
				for _, a := range addrs {
					if ip, ok := a.(*net.IPNet); ok && !ip.IP.IsLinkLocalUnicast() {
						hosts = append(hosts, ip.IP.String())
					}
				}
			}
		}
	}
	hosts = append(hosts, r.hosts...)
	slices.Sort(hosts)
	return slices.Compact(hosts)
}

// serve serves the site that is open, and after it the one that is opened next.
func serve(c *cobra.Command, r *reach, first beginning) (err error) {
	hosts, secured, scheme := r.reachedBy(), (*tls.Config)(nil), "http"
	var users *accounts.Accounts
	var certificate *accounts.Certificate
	if r.tls { // before anything is reachable
		scheme = "https"
		if users, err = r.people(); err != nil {
			return err
		}
		if secured, certificate, err = r.certificate(); err != nil {
			return err
		}
	}
	listener, err := net.Listen("tcp", r.listen)
	if errors.Is(err, syscall.EADDRINUSE) {
		return fmt.Errorf("%s is in use, perhaps by another Ferry: close it, or choose another port, such as "+
			"--listen 127.0.0.1:8643", r.listen)
	}
	if err != nil {
		return fmt.Errorf("cannot listen on %s: %w", r.listen, err)
	}
	defer listener.Close()
	release, err := lockFolder(r.dir)
	if err != nil {
		return err
	}
	defer release()
	shelf, err := sites.Read(r.dir)
	if err != nil {
		return fmt.Errorf("the sites of %s: %w", r.dir, err)
	}
	door := newEntrance(listener)
	for said := false; ; said = true {
		server := &api.Server{RelayCertificate: r.relayCertificate, Hosts: hosts, Accounts: users, Certificate: certificate,
			Sites: shelf}
		id, dir := shelf.Open()
		content := first
		if id != "" {
			content = newSite
		}
		again, err := serveSite(c, server, dir, content, door.next(secured), r.programs, func(now *site.Site) {
			if said {
				return
			}
			fmt.Fprintf(c.OutOrStdout(), "Ferry shows %s at %s://%s\n", now.Name, scheme, listener.Addr())
			if certificate != nil {
				fmt.Fprintf(c.OutOrStdout(), "Its certificate has the fingerprint %s\n", certificate.Fingerprint)
			}
		})
		if err == nil && again {
			continue
		}
		if err != nil && id != "" && c.Context().Err() == nil {
			// A site that does not open does not keep the others closed.
			fmt.Fprintln(c.ErrOrStderr(), "ferry:", err)
			if err := shelf.Choose("", ""); err != nil {
				return err
			}
			continue
		}
		return err
	}
}

// serveSite serves one site until Ferry ends, or another is to be opened.
func serveSite(c *cobra.Command, server *api.Server, dir string, first beginning, listener net.Listener,
	programs map[string]string, ready func(*site.Site)) (again bool, err error) {
	ctx, next := context.WithCancel(c.Context())
	defer next()
	var asked atomic.Bool
	server.Again = func() {
		asked.Store(true)
		time.AfterFunc(100*time.Millisecond, next) // once that is answered
	}
	opened, err := openSite(ctx, c, dir, first, programs)
	if err != nil {
		return false, err
	}
	defer func() { err = errors.Join(err, opened.close()) }()
	server.Store, server.Notices, server.Vault = opened.store, opened.store.Notices(), opened.vault
	server.Engine, server.Bench, server.Recordings = opened.engine, opened.bench, opened.recordings
	server.Strips = opened.strips
	server.Relays, server.Lookouts, server.Teller = opened.relays, opened.lookouts, opened.teller
	app := server.App()
	now, _ := opened.store.Site()
	ready(now)
	ended := make(chan error, 1)
	go func() {
		ended <- app.Listener(listener, fiber.ListenConfig{DisableStartupMessage: true})
	}()
	select {
	case err := <-ended:
		return false, err
	case <-ctx.Done():
	}
	// Open event streams never end by themselves: do not wait for them long.
	_ = app.ShutdownWithTimeout(500 * time.Millisecond)
	return asked.Load() && c.Context().Err() == nil, nil
}

// running is a site that is open: kept on the disk, with its engine and its bench.
type running struct {
	store  *store.Store
	engine *field.Engine
	bench  *bench.Bench
	vault  vault.Vault
	// recordings are those of traffic that the site keeps.
	recordings *recording.Shelf
	strips     *strips.Recorder
	relays     *relay.Set
	lookouts   *lookout.Keeper
	teller     *lookout.Teller
	close      func() error // ends all of it, with what is still to be kept
}

// openSite opens the site of a folder.
func openSite(ctx context.Context, c *cobra.Command, dir string, first beginning,
	programs map[string]string) (_ *running, err error) {
	var ends []func() error // the last first
	end := func() (err error) {
		for _, each := range slices.Backward(ends) {
			err = errors.Join(err, each())
		}
		return err
	}
	defer func() {
		if err != nil {
			err = errors.Join(err, end())
		}
	}()
	var failed error
	kept := vault.In(dir)
	st, err := store.Open(ctx, dir, func() (s *site.Site) {
		if s, failed = first(kept); failed != nil {
			s = site.New("New site")
		}
		return s
	})
	if err == nil && failed != nil {
		err = errors.Join(failed, st.Close())
	}
	if err != nil {
		return nil, fmt.Errorf("cannot open the data folder %s: %w", dir, err)
	}
	ends = append(ends, st.Close)
	for _, notice := range st.Notices() {
		fmt.Fprintln(c.ErrOrStderr(), "ferry:", notice)
	}
	journal := api.WriteJournal{Store: st}
	if err := journal.Settle(ctx); err != nil {
		return nil, fmt.Errorf("the journal of writes in %s: %w", dir, err)
	}
	now, seq := st.Site()
	b := bench.New()
	ends = append(ends, b.Close)
	if err := b.Sync(now); err != nil {
		return nil, fmt.Errorf("cannot start the simulated devices: %w", err)
	}
	engine := field.NewEngine(now, b)
	engine.Journal, engine.Kept = journal, kept.Get
	engine.Update(now, seq)
	earlier, err := st.Outages(ctx, recalled)
	if err == nil {
		err = recallWear(ctx, st, engine)
	}
	if err != nil {
		engine.Close()
		return nil, err
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
		keep(samplesCtx, c, st, engine)
	}()
	ends = append(ends, func() error { engine.Close(); return nil },
		func() error { stopSamples(); <-saved; return nil })
	recordings, err := recording.OpenShelf(filepath.Join(dir, "recordings"))
	if err != nil {
		return nil, fmt.Errorf("the recordings of %s: %w", dir, err)
	}
	relays := &relay.Set{}
	ends = append(ends, func() error { recordings.Close(); return nil }, relays.Close)
	recorder, err := strips.Open(ctx, engine, st)
	if err != nil {
		return nil, err
	}
	recorderCtx, stopRecorder := context.WithCancel(ctx)
	written := make(chan struct{})
	go func() {
		defer close(written)
		recorder.Run(recorderCtx)
	}()
	ends = append(ends, func() error { stopRecorder(); <-written; return nil })
	lookouts, teller, endLookouts, err := lookOut(ctx, st, engine, b, kept, programs)
	if err != nil {
		return nil, fmt.Errorf("the lookouts of %s: %w", dir, err)
	}
	ends = append(ends, endLookouts)
	return &running{st, engine, b, kept, recordings, recorder, relays, lookouts, teller, end}, nil
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
	if err := lockFile(f); err != nil {
		return nil, errors.Join(fmt.Errorf("the folder %s is in use by another Ferry: close it, or choose another "+
			"with --data", dir), f.Close())
	}
	return func() { _ = f.Close() }, nil // the lock goes with the file
}

// recalled is how many outages of earlier runs are shown.
const recalled = 500
