// Package serve puts the rooms together into the running service. It is the
// only place that knows them all.
package serve

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"syscall"
	"time"

	"yardbench/internal/access"
	"yardbench/internal/api"
	"yardbench/internal/backup"
	"yardbench/internal/core/rules"
	"yardbench/internal/feature"
	"yardbench/internal/house"
	"yardbench/internal/live"
	"yardbench/internal/metrics"
	"yardbench/internal/reconcile"
	"yardbench/internal/repo"
	"yardbench/internal/service"
	"yardbench/internal/session"
	"yardbench/internal/ssh"
	"yardbench/internal/steward/carried"
	"yardbench/internal/steward/outside"
	"yardbench/internal/store"
	"yardbench/internal/yard"
	"yardbench/internal/yard/engine"
	"yardbench/internal/yard/sim"
)

// Config is what the service is started with.
type Config struct {
	DataDir   string       // records, keys, mirrors, logs
	Listen    string       // host:port of the HTTP door
	Engine    string       // the container engine's address
	Addresses netip.Prefix // the range workspaces' networks are cut from
	// Address is the console's address as people reach it; default: where it listens.
	Address string
	// PortForm is the address of workspaces' ports, with a * for the name of
	// one; default: http://*.ports.localhost with the door's port.
	PortForm string
	// Rules is the house rules that a new service starts with.
	Rules string
	Now   func() time.Time
	// BoundDisks gives each workspace a disk of its size that cannot grow; see
	// engine.Disks for what it wants. Without it disks are measured.
	BoundDisks bool
	// ChangesPerHour bounds what one person changes, a tenth of it at once; 0 does
	// not.
	ChangesPerHour int
	// ErrandLease is how long a workspace for one command stays without a word; 0 is
	// the usual.
	ErrandLease time.Duration
	// BoundTogether bounds a workspace's containers all together; see
	// engine.Shares for what it wants. Without it each has the workspace's size.
	BoundTogether bool
	// BoundBuilds bounds all builds together by the house rules' size for one; the
	// engine lays them in engine.BuildsGroup. It wants BoundTogether.
	BoundBuilds bool
	// SSHListen is where the door of SSH listens; "" is nowhere, and people come by
	// SSH over the HTTP door alone. SSHAddress is where they reach it, host and port;
	// "" is where it listens.
	SSHListen, SSHAddress string
	// MetricsListen is where what is counted can be asked for, without a sign-in; "" is
	// nowhere.
	MetricsListen string
	// TLSCertificates and TLSKeys are files, in pairs, by which the HTTP door speaks TLS
	// itself; they are read anew when they change.
	TLSCertificates, TLSKeys []string
	// Proxies are those in front of the door; see api.Config.
	Proxies []string
	// KeyService is a command that guards the key file; "" is none.
	KeyService string
	// Trail is a folder at a second place that follows the records; "" is none. The file
	// TrailPassphrase has what seals the keys there; "" leaves them out.
	Trail, TrailPassphrase string
	// TakeOver keeps the yard although another service with the same records, or
	// newer records of this one, kept it last.
	TakeOver bool
	// What begins with Sim is for a simulated yard; see sim.Options.
	SimTimes  map[string]time.Duration
	SimFaults int
	SimSeed   uint64
	SimOthers []yard.Other
	Console   fs.FS
	// Log is the service's log, see [Log]; nil is what there is by default.
	Log *slog.Logger
	// Prepare, if set, is called before the door opens.
	Prepare func(ctx context.Context, s *service.Service, rooms service.Rooms) error
	// Ready, if set, is called with the door's address once it is open.
	Ready func(address string)
}

// Run runs the service until ctx ends.
func Run(ctx context.Context, c Config) error {
	ctx, end := context.WithCancelCause(ctx)
	cancel := func() { end(nil) }
	defer cancel()
	_ = syscall.Setrlimit(syscall.RLIMIT_CORE, &syscall.Rlimit{}) // secrets are in memory; only lowered: never refused
	dir, err := filepath.Abs(c.DataDir)
	if err != nil {
		return err
	}
	if len(dir) > 60 {
		return fmt.Errorf("the data directory's path is too long for the sockets in it (%d characters, at most 60): %s", len(dir), dir)
	}
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return fmt.Errorf("data directory: %w", err)
	}
	lock, err := os.OpenFile(filepath.Join(dir, "lock"), os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return fmt.Errorf("data directory: %w", err)
	}
	defer lock.Close()
	if err := syscall.Flock(int(lock.Fd()), syscall.LOCK_EX|syscall.LOCK_NB); err != nil {
		return fmt.Errorf("another service is using %s; stop it, or give another --data", dir)
	}
	listener, err := net.Listen("tcp", c.Listen)
	if err != nil {
		return fmt.Errorf("cannot listen on %s: %w; stop what uses it, or give another --listen", c.Listen, err)
	}
	defer listener.Close()
	var shellListener net.Listener
	if c.SSHListen != "" {
		if shellListener, err = net.Listen("tcp", c.SSHListen); err != nil {
			return fmt.Errorf("cannot listen on %s: %w; stop what uses it, or give another --ssh-listen; without one people come by SSH over the HTTP door", c.SSHListen, err)
		}
		defer shellListener.Close()
	}
	var metricsListener net.Listener
	if c.MetricsListen != "" {
		if metricsListener, err = net.Listen("tcp", c.MetricsListen); err != nil {
			return fmt.Errorf("cannot listen on %s: %w; stop what uses it, or give another --metrics-listen", c.MetricsListen, err)
		}
		defer metricsListener.Close()
	}
	leftover, _ := filepath.Glob(filepath.Join(dir, "build-*")) // the pattern is sound
	for _, d := range leftover {
		if err := os.RemoveAll(d); err != nil {
			return err
		}
	}
	if c.Now == nil {
		c.Now = time.Now
	}
	if c.Rules == "" {
		c.Rules = rules.First
	}
	var certs *certificates
	if len(c.TLSCertificates)+len(c.TLSKeys) > 0 {
		if certs, err = newCertificates(c.TLSCertificates, c.TLSKeys); err != nil {
			return err
		}
	}
	warnings, err := c.settle(listener.Addr().String())
	if err != nil {
		return err
	}
	for _, w := range warnings {
		slog.Warn(w)
	}
	st, err := store.Open(ctx, filepath.Join(dir, "yardbench.db"), c.Now)
	if err != nil {
		return err
	}
	defer st.Close()
	defer named(c.Log, st)()
	counted := metrics.New()
	st.Watch(counted.Watching())
	installation, err := installationID(ctx, st)
	if err != nil {
		return err
	}
	v, journalKey, err := openKeys(ctx, st, filepath.Join(dir, "keys"), c.KeyService)
	if err != nil {
		return err
	}
	trailBehind, endTrail, err := c.follow(ctx, st, dir)
	if err != nil {
		return err
	}
	defer endTrail()
	var disks *engine.Disks
	if c.BoundDisks {
		if disks, err = engine.NewDisks(filepath.Join(dir, "disks")); err != nil {
			return err
		}
	}
	var shares *engine.Shares
	if c.BoundTogether {
		if shares, err = engine.NewShares("/sys/fs/cgroup"); err != nil {
			return err
		}
		shares.Builds = c.BoundBuilds
	} else if c.BoundBuilds {
		return errors.New("--bound-builds wants --bound-together: workspaces would lie in the group of the builds")
	}
	bus := &live.Bus{}
	st.OnJournal(func() { bus.Publish("") })
	hub := outside.NewHub(filepath.Join(dir, "links"))
	defer hub.Shut()
	yd, err := theYard(c, dir, installation, hub.Folder, disks, shares)
	if err != nil {
		return err
	}
	defer yd.Close()
	var stewards reconcile.Stewards = hub
	simulated, isSimulated := yd.(*sim.Yard)
	if isSimulated {
		stewards = simulated.Links()
	}
	mirrors := repo.NewMirrors(filepath.Join(dir, "mirrors"))
	book := &house.Book{Now: c.Now}
	on := reconcile.Rooms{Store: st, Yard: yd, Hub: stewards, Mirrors: mirrors, Features: feature.NewKept(filepath.Join(dir, "features")), Vault: v, Bus: bus, DataDir: dir, Installation: installation, Now: c.Now, House: book, Sessions: &session.Sessions{Store: st, Vault: v, PortForm: c.PortForm, House: book, Now: c.Now}}
	if claimer, ok := yd.(yard.Claimer); ok {
		holder, err := holderOf(dir)
		if err != nil {
			return err
		}
		c := &claim{yard: claimer, store: st, holder: holder, where: hostAnd(dir), takeOver: c.TakeOver}
		on.Hold, on.SetBack, on.Looked = c.hold, func(ctx context.Context) (bool, error) { return setBack(ctx, st) }, func(ctx context.Context) error { return looked(ctx, st) }
		first, cancel := context.WithTimeout(ctx, 10*time.Second)
		err = c.hold(first)
		if cancel(); errors.Is(err, yard.ErrClaimed) {
			return err
		}
		if err != nil { // it is asked again before anything is done in it
			slog.Warn("whether the yard is ours to keep cannot be told yet", "error", err)
		}
		go c.watch(ctx, end)
	}
	k := reconcile.New(ctx, on)
	if hub.Changed = k.Followers.StewardChanged; isSimulated {
		simulated.Links().Changed = k.Followers.StewardChanged
	}
	hub.Serve = k.Sessions.Serve
	rooms := service.Rooms{ChangesPerHour: c.ChangesPerHour, ErrandLease: c.ErrandLease, JournalKey: journalKey, Simulated: isSimulated, Store: st, Keeper: k, Yard: k.Yard, KeyFiles: []string{filepath.Join(dir, "keys", "sealing.json"), filepath.Join(dir, "keys", "journal.pem")}, Installation: k.Installation, House: k.House, Sessions: k.Sessions, Hub: stewards, Recordings: filepath.Join(dir, "recordings"), LastBackup: func() (time.Time, error) { return backup.Last(dir) }, TrailBehind: trailBehind, Mirrors: mirrors, Vault: v, Bus: bus, Address: strings.TrimRight(c.Address, "/"), Now: c.Now}
	if certs != nil {
		rooms.CertificateEnds = certs.ends
	}
	host, people, err := sshKeys(filepath.Join(dir, "keys"))
	if err != nil {
		return err
	}
	rooms.SSH = service.SSH{Host: host, People: people, Address: c.SSHAddress}
	if shellListener != nil && c.SSHAddress == "" {
		rooms.SSH.Address = shellListener.Addr().String()
	}
	s := service.New(rooms)
	if err := s.HouseRules.FirstRules(ctx, c.Rules); err != nil {
		return err
	}
	if c.Prepare != nil {
		if err := c.Prepare(ctx, s, rooms); err != nil {
			return err
		}
	}
	if err := s.Prebuilds.Schedule(ctx); err != nil {
		return err
	}
	if err := k.Run(); err != nil {
		return err
	}
	if err := s.SignIns.Remind(ctx); err != nil {
		return err
	}
	if err := s.Guests.Began(ctx); err != nil {
		return err
	}
	go s.GitHosts.Run(ctx)
	go s.Sealing.Run(ctx)
	go s.Health.Run(ctx)
	if err := s.Operations.Run(ctx); err != nil {
		return err
	}
	if err := s.Webhooks.StartWebhooks(ctx); err != nil {
		return err
	}
	if err := s.Recordings.Run(ctx); err != nil {
		return err
	}
	shells, err := ssh.New(ctx, s, host)
	if err != nil {
		return err
	}
	if shellListener != nil {
		go func() {
			if err := shells.Serve(shellListener); err != nil {
				slog.Error("the door of SSH", "error", err)
			}
		}()
	}
	if metricsListener != nil {
		figures, err := counted.Handler(metrics.Of{Figures: s.Figures, Store: st, LastBackup: rooms.LastBackup, TrailBehind: trailBehind, CertificateEnds: rooms.CertificateEnds})
		if err != nil {
			return err
		}
		mux := http.NewServeMux()
		mux.Handle("GET /metrics", figures)
		mux.HandleFunc("GET /live", api.Live)
		mux.HandleFunc("GET /ready", api.Ready(s.Health))
		watched := api.Server(mux)
		defer watched.Close()
		go func() {
			if err := watched.Serve(metricsListener); !errors.Is(err, http.ErrServerClosed) {
				slog.Error("the door of metrics", "error", err)
			}
		}()
	}
	server := api.Server(access.NewPorts(s, api.New(ctx, s, api.Config{Shells: shells.Take, Console: c.Console, Address: rooms.Address, Secure: strings.HasPrefix(rooms.Address, "https://"), Proxies: c.Proxies, Frames: s.Ports.Doors().Frames()}).Handler()))
	served := make(chan error, 1)
	go func() {
		if certs == nil {
			served <- server.Serve(listener)
			return
		}
		server.TLSConfig = certs.config()
		served <- server.ServeTLS(listener, "", "") // it has them already
	}()
	began, err := s.Journal.Began(ctx, c.Engine)
	if err != nil {
		return err
	}
	slog.Info("the service has started", "version", began.Version, "at", listener.Addr().String(), "data", dir, "yard", c.Engine, "installation", installation, "goes_on_with", began.GoesOnWith)
	if c.Ready != nil {
		at := "http://" + listener.Addr().String()
		if certs != nil {
			at = rooms.Address // which is what the certificate is for
		}
		c.Ready(at)
	}
	select {
	case err = <-served:
	case <-ctx.Done():
		why := "it was told to"
		if errors.Is(context.Cause(ctx), yard.ErrClaimed) {
			why = "another service has taken the yard over"
		}
		slog.Info("the service stops: what runs in workspaces goes on", "why", why)
		if err := s.Journal.Ends(why); err != nil {
			slog.Warn("the end of the service is not in the journal", "error", err)
		}
		end, cancelEnd := context.WithTimeout(context.Background(), 5*time.Second)
		defer cancelEnd()
		if err = server.Shutdown(end); errors.Is(err, context.DeadlineExceeded) {
			err = server.Close() // a terminal was open: it lives on in its workspace
		}
	}
	if cause := context.Cause(ctx); errors.Is(cause, yard.ErrClaimed) {
		err = cause
	}
	cancel()
	s.Operations.Wait()
	s.Recordings.Wait()
	k.Wait()
	slog.Info("the service has stopped")
	return err
}

// local tells whether an address is of the machine itself.
func local(address string) bool {
	u, err := url.Parse(address)
	return err == nil && (u.Hostname() == "localhost" || strings.HasSuffix(u.Hostname(), ".localhost") || net.ParseIP(u.Hostname()).IsLoopback())
}

// hostAnd is a folder with the machine it is on, for people.
func hostAnd(dir string) string {
	name, err := os.Hostname()
	if err != nil {
		return dir
	}
	return name + ":" + dir
}

// closingYard is a yard that is let go at the end.
type closingYard interface {
	yard.Yard
	Close() error
}

// theYard is the yard at c.Engine: a simulated one where it begins with sim:,
// followed by the names of the images it has, else a container engine.
func theYard(c Config, dir, installation string, links func(link string) string, disks *engine.Disks, shares *engine.Shares) (closingYard, error) {
	names, simulated := strings.CutPrefix(c.Engine, SimulatedYard)
	if !simulated {
		return engine.New(engine.Config{Host: c.Engine, Installation: installation, Addresses: c.Addresses, Disks: disks, Shares: shares,
			Steward: func(arch string) (string, error) { return carried.Unpack(filepath.Join(dir, "steward"), arch) },
			Link:    func(workspace string, number int) string { return links(outside.Link(workspace, number)) }})
	}
	images := map[string]yard.Image{}
	for _, name := range strings.Split(names, ",") {
		if name != "" {
			sum := sha256.Sum256([]byte(name))
			images[name] = yard.Image{Digest: "sha256:" + hex.EncodeToString(sum[:]), Arch: runtime.GOARCH}
		}
	}
	times := sim.Usual
	if c.SimTimes != nil {
		times = c.SimTimes
	}
	return sim.New(installation, nil, sim.Options{Dir: filepath.Join(dir, "simulated-yard"), Images: images, Addresses: c.Addresses, Times: times, Others: c.SimOthers, Faults: c.SimFaults, Seed: c.SimSeed})
}

// SimulatedYard begins the address of a simulated yard.
const SimulatedYard = "sim:"

// installationID is what everything of this service in a yard is marked with.
func installationID(ctx context.Context, st *store.Store) (id string, err error) {
	err = st.Write(ctx, func(tx *store.Tx) error {
		if id, err = tx.Meta(ctx, "installation"); err != nil || id != "" {
			return err
		}
		id = store.NewID()[:10]
		return tx.SetMeta(ctx, "installation", id)
	})
	return id, err
}
