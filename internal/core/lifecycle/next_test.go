package lifecycle

import (
	"errors"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"yardbench/internal/core/definition"
)

// may tells whether anybody may make a move.
func may(from, to Phase) bool { return MayBy(from, to, true) || MayBy(from, to, false) }

// yardModel is a yard and its records as a plain model: what an action does
// when it succeeds, and what a person or a fault may do in between.
type yardModel struct {
	s    State
	o    Observed
	runs map[string]int // how often each set-up moment ran, by body
}

func newModel(setUp ...definition.Moment) *yardModel {
	return &yardModel{s: State{Phase: Waiting, Wanted: WantReady, Body: 1, Volume: 1, SetUp: setUp, Over: map[definition.Moment]bool{}},
		o: Observed{Volumes: map[int]bool{}, Bodies: map[int]Body{}}, runs: map[string]int{}}
}

func (m *yardModel) do(t *testing.T, mv Move) {
	t.Helper()
	if mv.Enter != m.s.Phase {
		if !may(m.s.Phase, mv.Enter) {
			t.Fatalf("a move from %s to %s is not allowed", m.s.Phase, mv.Enter)
		}
		if m.s.Phase == Ready && mv.Enter == Stopped {
			m.s.Wanted = WantStopped
		}
		m.s.Phase = mv.Enter
	}
	switch b := m.s.Target(); mv.Action {
	case MakeImage:
		m.s.HasImage = true
	case MakeNetwork:
		m.o.Network = true
	case MakeVolume:
		m.o.Volumes[m.s.TargetVolume()] = true
	case MakeBody:
		if !m.o.Network || !m.s.HasImage || !m.o.Volumes[m.s.TargetVolume()] {
			t.Fatal("a body is made before what it needs")
		}
		m.o.Bodies[b] = Created
	case StartBody:
		m.o.Bodies[b] = Running
	case AwaitSteward:
		m.o.Steward = true
	case Clone:
		m.s.Seeded = true
	case SwapBodies:
		if m.o.Bodies[b] != Running || !m.o.Steward || !m.s.Seeded {
			t.Fatal("bodies are swapped before the new one can be used")
		}
		delete(m.o.Bodies, m.s.Body)
		m.s.Body, m.s.NextBody = m.s.NextBody, 0
		if m.s.NextVolume > 0 {
			delete(m.o.Volumes, m.s.Volume)
			m.s.Volume, m.s.NextVolume = m.s.NextVolume, 0
		}
		m.s.Over = map[definition.Moment]bool{}
	case RunSetUp:
		m.runs[string(mv.Moment)+string(rune('0'+b))]++
		m.s.Over[mv.Moment] = true
	case StopBodies:
		if m.s.NextBody > 0 {
			delete(m.o.Bodies, m.s.NextBody)
			delete(m.o.Volumes, m.s.NextVolume)
			m.s.NextBody, m.s.NextVolume, m.s.HasImage = 0, 0, true
		}
		for n := range m.o.Bodies {
			m.o.Bodies[n] = Ended
		}
		m.o.Steward = false
	case RemoveAll:
		m.o = Observed{Volumes: map[int]bool{}, Bodies: map[int]Body{}}
	}
}

// settle does moves until there is none, or so many that there is no end.
func (m *yardModel) settle(t *testing.T) (actions []string) {
	t.Helper()
	for range 60 {
		mv := Next(m.s, m.o)
		if mv.Idle() {
			return actions
		}
		m.do(t, mv)
		actions = append(actions, string(mv.Action))
	}
	t.Fatalf("no end: %v", actions)
	return nil
}

func TestALifeFromLaunchToRemoval(t *testing.T) {
	m := newModel(definition.OnCreate, definition.PostStart)
	steps := []struct {
		ask   func()
		want  string
		phase Phase
	}{
		{func() {}, "image network volume container start steward clone set-up set-up ", Ready},
		{func() { m.s.Wanted = WantStopped }, "stop ", Stopped},
		{func() { m.s.Wanted, m.s.Phase, m.s.Over[definition.PostStart] = WantReady, Waiting, false }, "start steward set-up ", Ready},
		{func() { m.s.NextBody, m.s.HasImage, m.o.Steward = 2, false, false }, "image container start steward swap set-up set-up", Ready},
		{func() { m.s.NextBody, m.s.NextVolume, m.s.Seeded, m.o.Steward = 3, 2, false, false }, "volume container start steward clone swap set-up set-up", Ready},
		{func() { m.o.Bodies[3] = Ended; m.o.Steward = false }, "", Stopped},
		{func() { m.s.Wanted = WantRemoved }, "remove ", Removed},
		{func() { m.s.Wanted = WantReady }, "", Removed},
	}
	for i, s := range steps {
		s.ask()
		if got := strings.Join(m.settle(t), " "); strings.TrimSpace(got) != strings.TrimSpace(s.want) || m.s.Phase != s.phase {
			t.Errorf("step %d: did %q and is %s; wanted %q and %s", i+1, got, m.s.Phase, s.want, s.phase)
		}
	}
}

// From any state, with people changing their minds and faults taking things
// away in the middle, the workspace always comes to what was asked last, by
// allowed moves, and no body's set-up runs twice.
func TestItAlwaysSettles(t *testing.T) {
	for seed := range uint64(3000) {
		r := rand.New(rand.NewPCG(seed, 1))
		m := newModel(definition.OnCreate, definition.PostCreate)
		for range r.IntN(40) {
			mv := Next(m.s, m.o)
			switch r.IntN(9) {
			case 0:
				if Permit(Stop, m.s.Phase, false) == nil && m.s.Phase != Stopped {
					m.s.Wanted, m.s.Phase = WantStopped, Stopping
				}
			case 1:
				if Permit(Start, m.s.Phase, false) == nil && m.s.Phase != Ready {
					m.s.Wanted, m.s.Phase = WantReady, Waiting
				}
			case 2:
				if Permit(Rebuild, m.s.Phase, false) == nil && m.s.NextBody == 0 {
					m.s.NextBody, m.s.HasImage, m.o.Steward = m.s.Body+1, false, false
					if m.s.Phase != Ready {
						m.s.Wanted, m.s.Phase = WantReady, Waiting
					}
				}
			case 3:
				for n := range m.o.Bodies { // the engine's machine restarts
					m.o.Bodies[n] = Ended
				}
				m.o.Steward = false
			case 4:
				if may(m.s.Phase, Failed) && m.s.NextBody == 0 && m.s.Phase != Ready {
					m.s.Phase = Failed
				}
			default:
				if !mv.Idle() {
					m.do(t, mv)
				}
			}
		}
		m.settle(t)
		want := Phase(m.s.Wanted)
		if m.s.Phase != Failed && m.s.Phase != want {
			t.Fatalf("seed %d: %s is wanted and it settled as %s", seed, want, m.s.Phase)
		}
		for what, n := range m.runs {
			if n > 1 {
				t.Fatalf("seed %d: %s ran %d times in one body", seed, what, n)
			}
		}
		if len(m.o.Bodies) > 1 && m.s.Phase == Ready {
			t.Fatalf("seed %d: two bodies stay: %v", seed, m.o.Bodies)
		}
		m.s.Wanted = WantRemoved
		if m.s.Phase == Failed {
			m.s.Phase = Removing
		}
		if m.settle(t); m.s.Phase != Removed || !nothingLeft(m.o) {
			t.Fatalf("seed %d: removed, it is %s with %+v", seed, m.s.Phase, m.o)
		}
	}
}

// A prebuild goes through what a launch does, is kept instead of becoming
// ready, and goes when that is done, also after the machine was restarted in
// the middle.
func TestAPrebuildIsKeptAndGoes(t *testing.T) {
	for cut := range 12 {
		m := newModel(definition.OnCreate)
		m.s.Prebuild = true
		var did []string
		for n := 0; len(did) < 60; n++ {
			if n == cut {
				for b := range m.o.Bodies {
					m.o.Bodies[b] = Ended
				}
				m.o.Steward = false
			}
			mv := Next(m.s, m.o)
			if mv.Enter == Ready {
				t.Fatalf("cut at %d it becomes ready after %v", cut, did)
			}
			if mv.Action == KeepImage {
				if !m.s.Seeded || !m.s.Over[definition.OnCreate] || m.o.Bodies[1] != Running {
					t.Fatalf("cut at %d it is kept half-made: %+v %+v", cut, m.s, m.o)
				}
				did = append(did, "keep")
				m.s.Wanted = WantRemoved
				break
			}
			m.do(t, mv)
			did = append(did, string(mv.Action))
		}
		if m.settle(t); m.s.Phase != Removed || did[len(did)-1] != "keep" {
			t.Errorf("cut at %d it is %s after %v", cut, m.s.Phase, did)
		}
	}
}

func TestWhatIsPossibleNow(t *testing.T) {
	err := Permit(Rebuild, Starting, false)
	var now NotNow
	if !errors.As(err, &now) || !strings.Contains(err.Error(), "possible now: stop, remove") {
		t.Errorf("a rebuild while starting is answered %v", err)
	}
	for _, p := range Phases {
		if p == Removed || p == Removing {
			continue
		}
		if err := Permit(Remove, p, false); err != nil {
			t.Errorf("a %s workspace cannot be got rid of: %v", p, err)
		}
	}
}

// A container that was taken on is started, stopped and let go; it is never
// made, rebuilt or removed.
func TestAnAdoptedLife(t *testing.T) {
	m := newModel(definition.OnCreate)
	m.s.Adopted, m.s.SetUp = true, nil
	m.o.Bodies[1] = Running
	steps := []struct {
		ask   func()
		want  string
		phase Phase
	}{
		{func() {}, "steward", Ready},
		{func() { m.o.Steward = false }, "", Ready}, // it is asked for beside
		{func() { m.o.Bodies[1] = Ended }, "", Stopped},
		{func() { m.s.Wanted, m.s.Phase = WantReady, Waiting }, "start steward", Ready},
		{func() { m.s.Wanted = WantStopped }, "stop", Stopped},
		{func() { m.s.Wanted = WantRemoved }, "remove", Removed},
	}
	for i, s := range steps {
		s.ask()
		if got := strings.TrimSpace(strings.Join(m.settle(t), " ")); got != s.want || m.s.Phase != s.phase {
			t.Errorf("step %d: did %q and is %s; wanted %q and %s", i+1, got, m.s.Phase, s.want, s.phase)
		}
	}
	for _, p := range Phases {
		if Permit(Rebuild, p, true) == nil || Permit(Remove, p, true) == nil || Permit(LetGo, p, false) == nil {
			t.Errorf("%s: an adopted one is rebuilt or removed, or one of ours is let go", p)
		}
	}
	if err := Permit(Remove, Ready, true); !strings.Contains(err.Error(), "made by others") || !strings.HasSuffix(err.Error(), "use, start, stop, let go") {
		t.Errorf("a removal is answered %v", err)
	}
	if err := Permit(LetGo, Ready, false); !strings.Contains(err.Error(), "not taken on") {
		t.Errorf("letting one of ours go is answered %v", err)
	}
	if err := Permit(Use, Stopped, true); !strings.Contains(err.Error(), "while the workspace is stopped; possible now: start, stop, let go") {
		t.Errorf("a use at rest is answered %v", err)
	}
}

// After the moment that is waited for it may be used, while the others go on.
func TestWaitFor(t *testing.T) {
	moments := []definition.Moment{definition.Services, definition.OnCreate, definition.PostCreate, definition.PostStart}
	for wait, want := range map[definition.Moment]string{"": "services onCreateCommand postCreateCommand postStartCommand ready", definition.OnCreate: "services onCreateCommand ready postCreateCommand postStartCommand",
		definition.UpdateContent: "services onCreateCommand ready postCreateCommand postStartCommand", definition.PostStart: "services onCreateCommand postCreateCommand postStartCommand ready"} {
		for _, prebuild := range []bool{false, true} {
			m := newModel(moments...)
			m.s.WaitFor, m.s.Prebuild = wait, prebuild
			var got []string
			for range 40 {
				mv := Next(m.s, m.o)
				if mv.Idle() || mv.Action == KeepImage {
					break
				}
				if mv.Enter == Ready && m.s.Phase != Ready {
					got = append(got, "ready")
					if over := len(got) > len(moments); mv.Action == "" && mv.GoesOn == over {
						t.Errorf("waiting for %q it goes on: %v after %v", wait, mv.GoesOn, got)
					}
				}
				if mv.Action == RunSetUp {
					got = append(got, string(mv.Moment))
				}
				m.do(t, mv)
			}
			if prebuild {
				want = strings.TrimSpace(strings.ReplaceAll(" "+want, " ready", "")) // nobody uses it
			}
			if strings.Join(got, " ") != want {
				t.Errorf("waiting for %q, prebuild %v, it goes %v", wait, prebuild, got)
			}
		}
	}
}

// Somebody's own files come last, and hold nobody up: the workspace is ready before
// them, whatever it waits for.
func TestOwnFilesHoldNobodyUp(t *testing.T) {
	for _, wait := range []definition.Moment{"", definition.PostCreate, definition.PostStart} {
		m := newModel(definition.PostCreate, definition.PostStart, definition.Personal)
		m.s.WaitFor = wait
		at := map[string]int{}
		for n := 1; n < 40; n++ {
			mv := Next(m.s, m.o)
			if mv.Idle() {
				break
			}
			if mv.Enter == Ready && m.s.Phase != Ready {
				if at["ready"] = n; !mv.GoesOn {
					t.Errorf("waiting for %q its sheet ends before they come", wait)
				}
			}
			if mv.Action == RunSetUp {
				at[string(mv.Moment)] = n
			}
			m.do(t, mv)
		}
		if at["ready"] == 0 || at[string(definition.Personal)] < at["ready"] || at[string(definition.Personal)] < at[string(definition.PostStart)] || m.s.Phase != Ready {
			t.Errorf("waiting for %q it goes %v and is %s", wait, at, m.s.Phase)
		}
	}
}

// The table is whole: every phase can be left for good, each move stands once,
// and who may make it is held.
func TestTable(t *testing.T) {
	seen := map[string]bool{}
	for _, a := range Table {
		key := string(a.From) + " " + string(a.To)
		if seen[key] || len(a.By) == 0 || a.Cause == "" || a.From == a.To {
			t.Errorf("the move %s stands twice, or says too little", key)
		}
		seen[key] = true
		if !may(a.From, a.To) || !MayBy(a.From, a.To, a.By[0] == ByPerson) {
			t.Errorf("the move %s is in the table and not allowed", key)
		}
	}
	for _, p := range Phases {
		// Whatever a workspace is in, there is a way to removed.
		reached, next := map[Phase]bool{p: true}, []Phase{p}
		for len(next) > 0 {
			for _, n := range next[0].Next() {
				if !reached[n] {
					reached[n] = true
					next = append(next, n)
				}
			}
			next = next[1:]
		}
		if !reached[Removed] {
			t.Errorf("there is no way from %s to removed", p)
		}
		if about[p] == "" {
			t.Errorf("nothing says what %s means", p)
		}
	}
	for _, c := range []struct {
		from, to Phase
		person   bool
	}{{Starting, Ready, true}, {Stopped, Waiting, false}, {Removed, Waiting, true}, {Ready, Removed, false}, {Stopping, Ready, false}} {
		if MayBy(c.from, c.to, c.person) {
			t.Errorf("from %s to %s may be gone by a person: %v", c.from, c.to, c.person)
		}
	}
	if doc := Document(); !strings.Contains(doc, "| `stopped` | `waiting` | a person | start, rebuild |") || !strings.Contains(doc, "  ready --> stopping\n") || !strings.Contains(doc, "| `rebuild due` |") {
		t.Errorf("the document is\n%s", doc)
	}
}

func TestHint(t *testing.T) {
	step := func(key string, took time.Duration) Spent { return Spent{Key: key, Title: key, Took: took} }
	short := step("network", 100*time.Millisecond)
	for _, c := range []struct {
		what              string
		steps             []Spent
		prepared, planned bool
		says              string
	}{
		{"nothing takes long", []Spent{short, step("image", 2*time.Second)}, false, false, ""},
		{"all take as long", []Spent{step("image", 4*time.Second), step("clone", 4*time.Second), step("start", 4*time.Second)}, false, false, ""},
		{"an image without a plan", []Spent{short, step("image", 40*time.Second)}, false, false, "a prebuild plan would have it done ahead"},
		{"an image with a plan", []Spent{short, step("image", 40*time.Second)}, false, true, "no prepared image served"},
		{"an image from the cache", []Spent{short, {Key: "image", Took: time.Minute, Cached: true}}, false, false, ""},
		{"set-up before the person", []Spent{short, step("set-up/onCreateCommand", 9*time.Second)}, false, false, "prebuild plan"},
		{"set-up of the person", []Spent{short, step("set-up/postCreateCommand", 9*time.Second)}, true, true, "could move to onCreateCommand"},
		{"a slow service", []Spent{short, step("set-up/services", 9*time.Second)}, true, true, "healthcheck"},
		{"a large clone", []Spent{short, step("clone", 9*time.Second)}, false, false, "a prepared image brings its files along"},
	} {
		if got := Hint(c.steps, c.prepared, c.planned); (got == "") != (c.says == "") || !strings.Contains(got, c.says) {
			t.Errorf("%s is told as %q", c.what, got)
		}
	}
}
