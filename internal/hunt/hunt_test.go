package hunt

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"io"
	"log/slog"
	"net/netip"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"
	"testing/cryptotest"
	"testing/synctest"
	"time"

	"yardbench/internal/core/policy"
	"yardbench/internal/house"
	"yardbench/internal/live"
	"yardbench/internal/reconcile"
	"yardbench/internal/service"
	"yardbench/internal/session"
	"yardbench/internal/store"
	"yardbench/internal/vault"
	"yardbench/internal/yard"
	"yardbench/internal/yard/sim"
	"yardbench/wire"
)

// seeds is how many stories TestHunt tries: 300 in make test, as many as
// HUNT_SEEDS says in make soak, from HUNT_FIRST on.
func seeds() (first, n uint64) {
	number := func(name string, usual uint64) uint64 {
		if v, err := strconv.ParseUint(os.Getenv(name), 10, 64); err == nil {
			return v
		}
		return usual
	}
	return number("HUNT_FIRST", 1), number("HUNT_SEEDS", 300)
}

// found are seeds that once found a fault of ours: a keeper that gave up when
// it could not write (3), a prebuild whose yard could not be looked at and was
// never removed (221), a look that was due by a clock that was set back (278),
// a container that was taken on after it had been let go (5145).
var found = []uint64{3, 221, 278, 5145}

// Random people, a yard that answers late, falsely or not at all, a disk that
// is full, a clock that jumps, and a service that is killed anywhere: nothing
// is lost, doubled or left behind. The same seed is the same story.
func TestHunt(t *testing.T) {
	first, n := seeds()
	for seed := first; seed < first+n; seed++ {
		one(t, seed, fault{})
		if t.Failed() {
			t.Fatalf("seed %d: look at it again with HUNT_FIRST=%d HUNT_SEEDS=1", seed, seed)
		}
	}
	for _, seed := range found {
		one(t, seed, fault{})
	}
}

// The same seed twice is the same to the last step.
func TestSameStory(t *testing.T) {
	for seed := uint64(1); seed <= 6; seed++ {
		a, _, la := story(t, seed, fault{})
		b, _, lb := story(t, seed, fault{})
		if a != b {
			at := 0
			for at < min(len(la), len(lb)) && la[at] == lb[at] {
				at++
			}
			from := max(0, at-5)
			t.Fatalf("seed %d is two stories, %s and %s; they part after\n%s\n--- one\n%s\n--- other\n%s", seed, a, b, strings.Join(la[from:at], "\n"), strings.Join(la[at:min(at+5, len(la))], "\n"), strings.Join(lb[at:min(at+5, len(lb))], "\n"))
		}
	}
}

func one(t *testing.T, seed uint64, broken fault) {
	t.Helper()
	hash, wrong, lines := story(t, seed, broken)
	if len(wrong) > 0 {
		t.Errorf("seed %d (story %s):\n%s\n--- its last steps\n%s", seed, hash, strings.Join(wrong, "\n"), strings.Join(lines, "\n"))
	}
}

// ground is what every story begins with: the records of a house with its
// people and repositories, and the keys.
var ground struct {
	once     sync.Once
	dir      string
	database []byte
	vault    *vault.Vault
}

const document = `organisation: Skerry Line
currency: EUR
time_zone: Europe/Oslo
sizes: {small: {cores: 1, memory: 1 GiB, disk: 10 GiB}}
usual_size: small
limits:
  person: {existing: 3, running: 2}
idle: {quiet_after: 2 min, rest_after: 10 min, rest_after_most: 10 h, warn_before: 1 min, cpu_floor: 0.1, hold_most: 12 h}
retention: {stopped_most: 1 days}
rates: {running_hour: {small: 0.06}, storage_gib_month: 0.09, prebuild_minute: 0.004}
images: {usual: {otherwise: "skerryline/base:1"}}
`

func lay(t *testing.T) {
	cryptotest.SetGlobalRandom(t, 1)
	dir, err := os.MkdirTemp(memory(), "ybh")
	if err != nil {
		t.Fatal(err)
	}
	ground.dir = dir
	file := filepath.Join(dir, "ground.db")
	st, err := store.Open(t.Context(), file, time.Now)
	if err != nil {
		t.Fatal(err)
	}
	if ground.vault, err = vault.Open(filepath.Join(dir, "key.json"), nil); err != nil {
		t.Fatal(err)
	}
	k := reconcile.New(t.Context(), reconcile.Rooms{Store: st, Vault: ground.vault, Bus: &live.Bus{}, Mirrors: trees{}, Now: time.Now, House: &house.Book{}, Sessions: &session.Sessions{Store: st, Vault: ground.vault, PortForm: "http://*.ports.localhost:7080", House: &house.Book{}, Now: time.Now}})
	s := service.New(service.Rooms{Store: st, Vault: ground.vault, Bus: k.Bus, Mirrors: trees{}, Keeper: k, House: k.House, Sessions: k.Sessions, Address: "http://127.0.0.1:7080"})
	check := func(err error) {
		t.Helper()
		if err != nil {
			t.Fatal(err)
		}
	}
	check(s.HouseRules.FirstRules(t.Context(), document))
	for _, name := range append(people, "astrid") {
		role := policy.Developer
		if name == "astrid" {
			role = policy.Operator
		}
		check(s.People.AddPerson(t.Context(), store.Person{Name: name, FullName: name, Email: name + "@skerryline.example", Role: role, PasswordHash: "none"}))
	}
	operator, err := st.Read().PersonByName(t.Context(), "astrid")
	check(err)
	for _, name := range repositories {
		_, err := s.Repositories.AddRepository(t.Context(), service.Actor{Person: operator}, wire.NewRepository{URL: "http://git.skerryline.example/" + name + ".git"})
		check(err)
	}
	check(st.Close())
	ground.database, err = os.ReadFile(file)
	check(err)
}

// memory is a folder in memory, where there is one: thousands of synced
// commits need no disk here.
func memory() string {
	if i, err := os.Stat("/dev/shm"); err == nil && i.IsDir() {
		return "/dev/shm"
	}
	return ""
}

func TestMain(m *testing.M) {
	if os.Getenv("HUNT_SEEDS") != "1" { // one story is told with all that the service says
		slog.SetDefault(slog.New(slog.NewTextHandler(io.Discard, nil)))
	}
	code := m.Run()
	if ground.dir != "" {
		_ = os.RemoveAll(ground.dir) // what is left is in memory only
	}
	os.Exit(code)
}

var (
	people       = []string{"ingrid", "mats", "marit"}
	repositories = []string{"berth-planner", "tide-board"}
)

// teller tells one story.
type teller struct {
	*world
	t        *testing.T
	dir      string
	life     *life
	store    *store.Store
	keeper   *reconcile.Keeper
	second   *reconcile.Keeper // at work only where that is the fault
	service  *service.Service
	rooms    service.Rooms
	end      context.CancelFunc
	actors   []service.Actor
	asking   sync.WaitGroup
	accepted map[string]bool // launches that were answered
	plan     bool
	others   bool // there are containers that strangers started
}

// story tells the story of a seed, and what is wrong in it.
func story(t *testing.T, seed uint64, broken fault) (hash string, wrong, lines []string) {
	t.Helper()
	ground.once.Do(func() { lay(t) })
	if ground.database == nil {
		t.Fatal("there is no ground")
	}
	cryptotest.SetGlobalRandom(t, seed)
	dir, err := os.MkdirTemp(ground.dir, "s")
	if err != nil {
		t.Fatal(err)
	}
	defer os.RemoveAll(dir)
	if err := os.WriteFile(filepath.Join(dir, "yardbench.db"), ground.database, 0o600); err != nil {
		t.Fatal(err)
	}
	synctest.Test(t, func(t *testing.T) {
		w := &world{file: filepath.Join(dir, "yardbench.db"), rng: source(seed), faults: true, broken: broken, trace: sha256.New(), names: map[string]string{}}
		others := seed%5 == 0
		var strangers []yard.Other
		for n := 0; others && n < 3; n++ {
			strangers = append(strangers, yard.Other{ID: strings.Repeat(strconv.Itoa(n), 20), Name: "o" + strconv.Itoa(n), Image: "skerryline/base:1", Arch: runtime.GOARCH, Folder: "/"})
		}
		y, err := sim.New("hunt", nil, sim.Options{Others: strangers, Images: map[string]yard.Image{"skerryline/base:1": {Digest: "sha256:0123", Arch: runtime.GOARCH}},
			Addresses: netip.MustParsePrefix("10.213.0.0/16"), Times: map[string]time.Duration{sim.Command: 300 * time.Millisecond}, Seed: seed})
		if err != nil {
			t.Fatal(err)
		}
		w.yard = y
		r := &teller{world: w, t: t, dir: dir, accepted: map[string]bool{}, others: others}
		r.start()
		r.tell()
		r.ending()
		y.Close()
		hash, wrong, lines = hex.EncodeToString(w.trace.Sum(nil))[:16], w.wrong, w.lines
	})
	return hash, wrong, lines
}

// start begins a life of the service.
func (r *teller) start() {
	ctx, cancel := context.WithCancel(context.Background())
	r.end = cancel
	r.life = &life{world: r.world, keeping: map[string]int{}, opened: map[string]bool{}, connected: map[string]chan struct{}{}}
	st, err := store.Open(ctx, filepath.Join(r.dir, "yardbench.db"), r.now)
	if err != nil {
		r.t.Fatal(err)
	}
	if r.actors == nil {
		for _, name := range append(slices.Clone(people), "astrid") {
			p, err := st.Read().PersonByName(ctx, name)
			if err != nil {
				r.t.Fatal(err)
			}
			r.actors = append(r.actors, service.Actor{Person: p})
		}
	}
	st.Hook(store.Hooks{Around: r.life.around, Group: r.life.group, Statement: r.life.statement})
	bus := &live.Bus{}
	r.store = st
	r.keeper = reconcile.New(ctx, reconcile.Rooms{Store: st, Yard: &theYard{r.yard, r.life}, Hub: r.life, Mirrors: trees{}, Vault: ground.vault, Bus: bus, DataDir: r.dir, Installation: "hunt", Now: r.now, House: &house.Book{}, Sessions: &session.Sessions{Store: st, Vault: ground.vault, PortForm: "http://*.ports.localhost:7080", House: &house.Book{}, Now: time.Now}})
	r.rooms = service.Rooms{Store: st, Keeper: r.keeper, Yard: r.keeper.Yard, Installation: r.keeper.Installation, House: r.keeper.House, Sessions: r.keeper.Sessions, Hub: r.life, Mirrors: trees{}, Vault: ground.vault, Bus: bus, Address: "http://127.0.0.1:7080", Now: r.now}
	r.service = service.New(r.rooms)
	r.life.changed = r.keeper.Followers.StewardChanged
	r.note("the service starts")
	l, s, k := r.life, r.service, r.keeper
	r.second = reconcile.New(ctx, reconcile.Rooms{Store: st, Yard: k.Yard, Hub: r.life, Mirrors: trees{}, Vault: ground.vault, Bus: bus, DataDir: r.dir, Installation: "hunt", Now: r.now, House: &house.Book{}, Sessions: &session.Sessions{Store: st, Vault: ground.vault, House: &house.Book{}, Now: time.Now}})
	r.asking.Go(func() {
		err := s.Prebuilds.Schedule(ctx)
		if err == nil {
			err = k.Run()
		}
		if r.broken.twoKeepers && err == nil {
			err = r.second.Run()
		}
		if err != nil && !l.over {
			r.problem("the service does not start: %v", err)
		}
	})
	synctest.Wait()
}

// kill ends the life as a power switch would: what waits at a gate is never
// done, or, in the yard, done without anybody who hears of it. A group that the
// writer is at is written, or it is not, and nobody hears of it either way.
func (r *teller) kill() {
	r.note("the service is killed")
	l := r.life
	waiting := l.gates()
	l.mu.Lock()
	l.over, l.waiting, l.undone = true, nil, r.chance(500)
	l.mu.Unlock()
	answer := func(group bool) {
		for _, g := range waiting {
			if (g.what == "group") == group {
				g.answer <- dead
			}
		}
		synctest.Wait()
	}
	answer(true)
	r.end()
	synctest.Wait() // whether it was in time for this one or that one is nobody's luck
	answer(false)
	l.mu.Lock()
	for link, gone := range l.connected {
		close(gone)
		delete(l.connected, link)
	}
	l.mu.Unlock()
	r.asking.Wait()
	r.keeper.Wait()
	r.second.Wait()
	time.Sleep(time.Minute) // alarms that were due end, too
	synctest.Wait()
	if err := r.store.Close(); err != nil {
		r.t.Fatal(err)
	}
}

func (r *teller) chance(of1000 int) bool { return r.rng.IntN(1000) < of1000 }

// tell is the story's middle, with all that can go wrong.
func (r *teller) tell() {
	kills := 0
	for range 160 {
		gates := r.life.gates()
		switch n := r.rng.IntN(1000); {
		case len(gates) > 0 && n < 720:
			g := gates[r.rng.IntN(len(gates))]
			if g.what == "group" && !r.chance(200) { // held up, it grows
				g = gates[r.rng.IntN(len(gates))]
			}
			r.life.release(g, r.verdict(g))
		case n < 820:
			r.ask()
		case n < 900:
			r.links()
		case n < 910:
			r.endBody()
		case n < 925:
			r.doLate()
		case n < 940 && kills < 6:
			kills++
			r.kill()
			r.doLate()
			r.start()
		case n < 950:
			r.mu.Lock()
			r.offset += time.Duration(r.rng.IntN(7200)-3000) * time.Second
			r.mu.Unlock()
			r.note("the clock jumps")
		default:
			d := time.Duration(1+r.rng.IntN(50)) * 100 * time.Millisecond
			if r.chance(100) {
				d *= 60
			}
			time.Sleep(d)
			synctest.Wait()
		}
	}
}

// verdict decides how a gate is passed.
func (r *teller) verdict(g *gate) verdict {
	if !r.faults || strings.HasSuffix(g.what, "answer") || g.what == "committed" {
		return goOn
	}
	n := r.rng.IntN(1000)
	switch {
	case g.what == "group":
	case g.what == "commit":
		switch {
		case n < 8:
			return full
		case n < 25, n < 150 && r.life.held():
			return torn
		}
	case n < 25:
		return lost
	case n < 50:
		return lostDone
	case n < 58 && !strings.HasPrefix(g.what, "observe") && !strings.HasPrefix(g.what, "remove") && !strings.HasPrefix(g.what, "list"):
		return refused
	}
	return goOn
}

// ask has somebody ask for something. Refusals are no news.
func (r *teller) ask() {
	r.fleet(r.service) // what is kept of it is brought up again and again
	i := r.rng.IntN(len(people))
	owner, actor := people[i], r.actors[i]
	if r.chance(150) {
		actor = r.actors[len(people)]
	}
	name := "w" + strconv.Itoa(r.rng.IntN(3))
	ref := name + "." + owner
	s, l := r.service, r.life
	ctx, cancel := context.WithTimeout(context.Background(), 20*time.Second)
	ask := func(what string, do func() error) {
		r.note("%s asks: %s %s", actor.Name, what, ref)
		r.asking.Go(func() {
			defer cancel()
			if err := do(); errors.Is(err, errDead) && !l.over {
				r.problem("%s is told that the service is dead: %v", actor.Name, err)
			}
		})
		synctest.Wait()
	}
	switch n := r.rng.IntN(100); {
	case r.others && n < 18:
		in, of := wire.Adopt{Owner: owner, Repository: repositories[0], Name: name, Size: "small"}, "o"+strconv.Itoa(r.rng.IntN(3))
		ask("adopt "+of+" as", func() error {
			view, err := s.Adoptions.Adopt(ctx, r.actors[len(people)], of, in)
			if err == nil {
				r.mu.Lock()
				r.accepted[view.ID] = true
				r.mu.Unlock()
			}
			return err
		})
	case r.others && n < 26:
		ask("let go", func() error { _, err := s.Adoptions.LetGo(ctx, r.actors[len(people)], ref); return err })
	case n < 40:
		in := wire.Launch{Repository: repositories[r.rng.IntN(len(repositories))], Name: name}
		actor := r.actors[i]
		ask("launch", func() error {
			view, err := s.Launches.Launch(ctx, actor, in)
			if err == nil {
				r.mu.Lock()
				r.accepted[view.ID] = true
				r.mu.Unlock()
			}
			return err
		})
	case n < 52:
		ask("stop", func() error { _, err := s.Workspaces.Stop(ctx, actor, ref); return err })
	case n < 66:
		ask("start", func() error { _, err := s.Workspaces.Start(ctx, actor, ref); return err })
	case n < 78:
		in := wire.Rebuild{NewFiles: r.chance(500), Discard: true}
		ask("rebuild", func() error { _, err := s.Workspaces.Rebuild(ctx, actor, ref, in); return err })
	case n < 90:
		discard := r.chance(600)
		ask("remove", func() error { _, err := s.Workspaces.Remove(ctx, actor, ref, discard); return err })
	case n < 95:
		ask("hold", func() error {
			_, err := s.Workspaces.Hold(ctx, actor, ref, wire.Hold{Seconds: 600, Why: "a test"})
			return err
		})
	default:
		operator := r.actors[len(people)]
		put := !r.plan
		r.plan = true
		ask("prebuild", func() error {
			if put {
				if _, err := s.Prebuilds.PutPlan(ctx, operator, "tide-board", wire.PutPlan{}); err != nil {
					return err
				}
			}
			_, err := s.Prebuilds.RunPlan(ctx, operator, "tide-board", "main")
			return err
		})
	}
}

// running lists the links of bodies that run, in order.
func (r *teller) running() (out []string) {
	ids, _ := r.yard.Workspaces(context.Background()) // never fails without faults of its own
	for _, id := range ids {
		o, _ := r.yard.Observe(context.Background(), id)
		for n, b := range o.Bodies {
			if b == "running" {
				out = append(out, id+"-b"+strconv.Itoa(n))
			}
		}
	}
	slices.Sort(out)
	return out
}

// links has one steward connect that is not, or, rarely, go away.
func (r *teller) links() {
	running := r.running()
	var away []string
	for _, link := range running {
		if !r.life.Connected(link) {
			away = append(away, link)
		}
	}
	if len(away) == 0 || r.faults && r.chance(100) {
		if len(running) > 0 && r.faults && r.chance(300) {
			r.linked(running[r.rng.IntN(len(running))], false)
		}
		return
	}
	r.linked(away[r.rng.IntN(len(away))], true)
}

func (r *teller) linked(link string, up bool) bool {
	id, n := bodyOf(link)
	if r.life.link(link, up) {
		r.note("the steward of %s-b%d comes or goes: %v", r.name(id), n, up)
		r.life.changed(link)
		synctest.Wait()
		return true
	}
	return false
}

// endBody ends a body behind everybody's back, or something in it.
func (r *teller) endBody() {
	if running := r.running(); len(running) > 0 {
		id, n := bodyOf(running[r.rng.IntN(len(running))])
		if r.chance(300) {
			r.note("something in %s-b%d is out of memory", r.name(id), n)
			r.yard.Starve(id)
			synctest.Wait()
			return
		}
		if r.chance(100) {
			r.note("%s-b%d writes the yard's disk full", r.name(id), n)
			r.yard.Sprawl(id)
			synctest.Wait()
			return
		}
		r.note("%s-b%d ends by itself", r.name(id), n)
		r.yard.Kill(id, n, "exit code 137, out of memory")
		r.gone()
		synctest.Wait()
	}
}

// gone takes the links of bodies that do not run any more away.
func (r *teller) gone() {
	running := r.running()
	r.life.mu.Lock()
	var off []string
	for link := range r.life.connected {
		if !slices.Contains(running, link) {
			off = append(off, link)
		}
	}
	r.life.mu.Unlock()
	slices.Sort(off)
	for _, link := range off {
		r.linked(link, false)
	}
}

// doLate has the yard do, or forget, what it was asked and nobody waits for.
func (r *teller) doLate() {
	r.mu.Lock()
	late := r.late
	r.late = nil
	r.mu.Unlock()
	for _, do := range late {
		if r.chance(500) {
			r.note("the yard does late what it was asked")
			do()
		}
	}
	synctest.Wait()
}
