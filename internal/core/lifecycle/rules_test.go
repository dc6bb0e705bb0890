package lifecycle

import (
	"strings"
	"testing"
	"time"

	"yardbench/internal/core/definition"
)

// What comes next, each rule once, where one thing decides.
func TestNextRuleByRule(t *testing.T) {
	whole := func() Observed {
		return Observed{Network: true, Volumes: map[int]bool{1: true, 2: true}, Bodies: map[int]Body{1: Running, 2: Running}, Steward: true}
	}
	ready := State{Phase: Ready, Wanted: WantReady, Body: 1, Volume: 1, HasImage: true, Seeded: true}
	starting := ready
	starting.Phase = Starting
	with := func(s State, change func(*State)) State { change(&s); return s }
	seen := func(change func(*Observed)) Observed { o := whole(); change(&o); return o }
	adopted := with(ready, func(s *State) { s.Adopted = true })
	for name, c := range map[string]struct {
		s    State
		o    Observed
		want Move
	}{
		"removed is the end":                            {State{Phase: Removed, Wanted: WantRemoved}, whole(), Move{}},
		"failed waits for somebody":                     {State{Phase: Failed, Wanted: WantRemoved}, whole(), Move{}},
		"removal takes all":                             {with(ready, func(s *State) { s.Wanted = WantRemoved }), whole(), Move{Enter: Removing, Action: RemoveAll}},
		"with nothing there it begins all the same":     {with(ready, func(s *State) { s.Wanted = WantRemoved }), Observed{}, Move{Enter: Removing, Action: RemoveAll}},
		"nothing is left":                               {State{Phase: Removing, Wanted: WantRemoved}, Observed{Bodies: map[int]Body{1: Absent}, Volumes: map[int]bool{1: false}}, Move{Enter: Removed}},
		"a network is left":                             {State{Phase: Removing, Wanted: WantRemoved}, Observed{Network: true}, Move{Enter: Removing, Action: RemoveAll}},
		"named volumes are left":                        {State{Phase: Removing, Wanted: WantRemoved}, Observed{Named: true}, Move{Enter: Removing, Action: RemoveAll}},
		"a volume is left":                              {State{Phase: Removing, Wanted: WantRemoved}, Observed{Volumes: map[int]bool{3: true}}, Move{Enter: Removing, Action: RemoveAll}},
		"an ended body is left":                         {State{Phase: Removing, Wanted: WantRemoved}, Observed{Bodies: map[int]Body{1: Ended}}, Move{Enter: Removing, Action: RemoveAll}},
		"stopped and to stay so":                        {State{Phase: Stopped, Wanted: WantStopped, Body: 1}, Observed{Bodies: map[int]Body{1: Ended}}, Move{}},
		"a stop ends what runs":                         {with(ready, func(s *State) { s.Wanted = WantStopped }), whole(), Move{Enter: Stopping, Action: StopBodies}},
		"a stop is over":                                {with(ready, func(s *State) { s.Phase, s.Wanted = Stopping, WantStopped }), Observed{Bodies: map[int]Body{1: Ended}}, Move{Enter: Stopped}},
		"a stop is not over while it runs":              {with(ready, func(s *State) { s.Phase, s.Wanted = Stopping, WantStopped }), whole(), Move{Enter: Stopping, Action: StopBodies}},
		"a stop gives a rebuild up first":               {with(ready, func(s *State) { s.Phase, s.Wanted, s.NextBody = Stopping, WantStopped, 2 }), Observed{Bodies: map[int]Body{1: Ended}}, Move{Enter: Stopping, Action: StopBodies}},
		"what was ready is stopped first":               {with(ready, func(s *State) { s.Wanted = WantStopped }), Observed{Bodies: map[int]Body{1: Ended}}, Move{Enter: Stopping, Action: StopBodies}},
		"it ended behind our back":                      {ready, seen(func(o *Observed) { o.Bodies[1] = Ended }), Move{Enter: Stopped}},
		"beside a rebuild that is no stop":              {with(ready, func(s *State) { s.NextBody = 2 }), seen(func(o *Observed) { o.Bodies[1] = Ended }), Move{Enter: Starting, Action: SwapBodies}},
		"ready and well":                                {ready, whole(), Move{}},
		"no image":                                      {with(starting, func(s *State) { s.HasImage = false }), whole(), Move{Enter: Preparing, Action: MakeImage}},
		"no network":                                    {starting, seen(func(o *Observed) { o.Network = false }), Move{Enter: Starting, Action: MakeNetwork}},
		"a network that is gone":                        {ready, seen(func(o *Observed) { o.Network = false }), Move{Enter: Starting, Action: MakeNetwork}},
		"no volume":                                     {starting, seen(func(o *Observed) { o.Volumes[1] = false }), Move{Enter: Starting, Action: MakeVolume}},
		"a volume of the rebuild":                       {with(ready, func(s *State) { s.NextBody, s.NextVolume = 2, 3 }), whole(), Move{Enter: Ready, Action: MakeVolume}},
		"no body":                                       {starting, seen(func(o *Observed) { delete(o.Bodies, 1) }), Move{Enter: Starting, Action: MakeBody}},
		"a body that is made":                           {starting, seen(func(o *Observed) { o.Bodies[1] = Created }), Move{Enter: Starting, Action: StartBody}},
		"a steward that has not called":                 {starting, seen(func(o *Observed) { o.Steward = false }), Move{Enter: Starting, Action: AwaitSteward}},
		"one that is away calls again":                  {ready, seen(func(o *Observed) { o.Steward = false }), Move{}},
		"a rebuild's is waited for beside what is used": {with(ready, func(s *State) { s.NextBody = 2 }), seen(func(o *Observed) { o.Steward = false }), Move{Enter: Ready, Action: AwaitSteward}},
		"no clone":                                      {with(starting, func(s *State) { s.Seeded = false }), whole(), Move{Enter: Starting, Action: Clone}},
		"a rebuild takes over":                          {with(ready, func(s *State) { s.NextBody = 2 }), whole(), Move{Enter: Ready, Action: SwapBodies}},
		"one whose old body has ended":                  {with(starting, func(s *State) { s.NextBody = 2 }), whole(), Move{Enter: Starting, Action: SwapBodies}},
		"one that never had a body":                     {State{Phase: Ready, Wanted: WantReady, NextBody: 2, Volume: 1, HasImage: true, Seeded: true}, seen(func(o *Observed) { o.Bodies[0] = Running }), Move{Enter: Starting, Action: SwapBodies}},
		"taken on and well":                             {adopted, whole(), Move{}},
		"taken on, its steward away":                    {adopted, seen(func(o *Observed) { o.Steward = false }), Move{}},
		"taken on and ended":                            {with(adopted, func(s *State) { s.Phase = Starting }), seen(func(o *Observed) { o.Bodies[1] = Ended }), Move{Enter: Starting, Action: StartBody}},
		"taken on, to be reached":                       {with(adopted, func(s *State) { s.Phase = Starting }), seen(func(o *Observed) { o.Steward = false }), Move{Enter: Starting, Action: AwaitSteward}},
		"taken on and reached":                          {with(adopted, func(s *State) { s.Phase = Starting }), whole(), Move{Enter: Ready}},
		"started again by others":                       {with(adopted, func(s *State) { s.Phase, s.Wanted = Stopped, WantStopped }), whole(), Move{Enter: Ready}},
		"ours is not, by being seen to run":             {State{Phase: Stopped, Wanted: WantStopped, Body: 1}, whole(), Move{}},
		"taken on and stopped, and to stay so":          {with(adopted, func(s *State) { s.Phase, s.Wanted = Stopped, WantStopped }), seen(func(o *Observed) { o.Bodies[1] = Ended }), Move{}},
	} {
		if got := Next(c.s, c.o); got != c.want {
			t.Errorf("%s: %+v, not %+v", name, got, c.want)
		}
	}
}

func TestTargetsAndSettled(t *testing.T) {
	for _, c := range []struct {
		s            State
		body, volume int
	}{{State{}, 0, 0}, {State{Body: 3, Volume: 2}, 3, 2}, {State{Body: 3, NextBody: 4, Volume: 2}, 4, 2}, {State{Body: 3, NextBody: 4, Volume: 2, NextVolume: 5}, 4, 5}} {
		if c.s.Target() != c.body || c.s.TargetVolume() != c.volume {
			t.Errorf("of %+v the target is body %d, volume %d", c.s, c.s.Target(), c.s.TargetVolume())
		}
	}
	for _, p := range Phases {
		if want := strings.Contains("ready stopped removed failed", string(p)); p.Settled() != want {
			t.Errorf("that %s is settled is %v", p, !want)
		}
	}
	if got := Waiting.Next(); len(got) == 0 || strings.Contains(strings.Join(strs(got), " "), "waiting") || len(Removed.Next()) != 0 {
		t.Errorf("after waiting come %v, after removed %v", got, Removed.Next())
	}
}

func strs(ps []Phase) (out []string) {
	for _, p := range ps {
		out = append(out, string(p))
	}
	return out
}

// A refusal says why, and what is possible instead.
func TestRefusalsSayWhy(t *testing.T) {
	for _, c := range []struct {
		e    NotNow
		says []string
		not  string
	}{
		{NotNow{Rebuild, Ready, true}, []string{"made by others", "possible now: use"}, "while"},
		{NotNow{Use, Stopped, true}, []string{"while the workspace is stopped"}, "made by others"},
		{NotNow{LetGo, Ready, false}, []string{"not taken on", "possible now:"}, "while"},
		{NotNow{Use, Removed, false}, []string{"the workspace is removed"}, "possible now"},
		{NotNow{Use, Stopped, false}, []string{"use is not possible while the workspace is stopped; possible now: start"}, "made by"},
	} {
		text := c.e.Error()
		for _, s := range c.says {
			if !strings.Contains(text, s) {
				t.Errorf("%+v says %q, nothing of %q", c.e, text, s)
			}
		}
		if strings.Contains(text, c.not) {
			t.Errorf("%+v says %q", c.e, text)
		}
	}
}

// A hint comes where a step takes three seconds and two fifths of the whole, of
// the step that took longest and was not there already.
func TestHintsToTheSecond(t *testing.T) {
	clone := func(took time.Duration) Spent { return Spent{Key: string(Clone), Title: "Clone", Took: took} }
	rest := func(took time.Duration) Spent { return Spent{Key: "network", Title: "Network", Took: took} }
	for name, c := range map[string]struct {
		steps             []Spent
		prepared, planned bool
		says              string // "" is no hint
	}{
		"nothing":                   {nil, false, false, ""},
		"long enough":               {[]Spent{clone(3 * time.Second)}, false, false, "Clone took 3s of 3s: the repository is large"},
		"too short":                 {[]Spent{clone(3*time.Second - 1)}, false, false, ""},
		"two fifths":                {[]Spent{clone(4 * time.Second), rest(3 * time.Second), rest(3 * time.Second)}, false, false, "Clone took 4s of 10s"},
		"less than that":            {[]Spent{clone(4 * time.Second), rest(3 * time.Second), rest(3*time.Second + 1)}, false, false, ""},
		"rounded":                   {[]Spent{clone(4340 * time.Millisecond), rest(1100 * time.Millisecond)}, false, false, "Clone took 4.3s of 5.4s:"},
		"the longest, not the last": {[]Spent{clone(9 * time.Second), {Key: "set-up/onCreateCommand", Title: "onCreateCommand", Took: 8 * time.Second}}, false, false, "Clone took 9s"},
		"of two the first":          {[]Spent{clone(9 * time.Second), {Key: "image", Title: "Image", Took: 9 * time.Second}}, false, false, "Clone took 9s"},
		"not what was there":        {[]Spent{{Key: "image", Title: "Image", Took: 9 * time.Second, Cached: true}, clone(8 * time.Second)}, false, false, "Clone took 8s of 17s"},
		"an image":                  {[]Spent{{Key: "image", Title: "Image", Took: 9 * time.Second}}, false, false, "a prebuild plan would"},
		"an image, with a plan":     {[]Spent{{Key: "image", Title: "Image", Took: 9 * time.Second}}, false, true, "no prepared image served"},
		"a prepared image":          {[]Spent{{Key: "image", Title: "Image", Took: 9 * time.Second}}, true, true, ""},
		"set-up":                    {[]Spent{{Key: "set-up/onCreateCommand", Title: "onCreateCommand", Took: 9 * time.Second}}, false, false, "a prebuild plan would"},
		"set-up, prepared":          {[]Spent{{Key: "set-up/onCreateCommand", Title: "onCreateCommand", Took: 9 * time.Second}}, true, false, ""},
		"set-up for the person":     {[]Spent{{Key: "set-up/postCreateCommand", Title: "postCreateCommand", Took: 9 * time.Second}}, true, true, "could move to onCreateCommand"},
		"services":                  {[]Spent{{Key: "set-up/" + string(definition.Services), Title: "services", Took: 9 * time.Second}}, false, false, "slow to be well"},
		"something else":            {[]Spent{rest(9 * time.Second)}, false, false, ""},
	} {
		got := Hint(c.steps, c.prepared, c.planned)
		if (c.says == "") != (got == "") || !strings.Contains(got, c.says) {
			t.Errorf("%s: %q", name, got)
		}
	}
}

func TestTypicalTimes(t *testing.T) {
	upTo := func(n int) (out []time.Duration) {
		for i := range n {
			out = append(out, time.Duration(i+1))
		}
		return out
	}
	for n, want := range map[int][2]time.Duration{0: {0, 0}, 1: {1, 1}, 2: {2, 2}, 3: {2, 3}, 19: {10, 19}, 20: {11, 20}, 50: {26, 48}, 100: {51, 96}} {
		if usual, slow := Typical(upTo(n)); usual != want[0] || slow != want[1] {
			t.Errorf("of %d it is %d, slow %d", n, usual, slow)
		}
	}
}
