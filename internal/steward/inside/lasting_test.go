package inside

import (
	"bytes"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"strconv"
	"strings"
	"testing"
	"time"

	"yardbench/internal/steward"
)

// comer is somebody whose connection breaks, and who comes back to their command.
type comer struct {
	t       *testing.T
	p       pair
	process steward.Process
	label   string
	place   steward.Place
	input   []byte // all of it
	ends    bool   // no more comes after it
	out     map[steward.FrameKind]*bytes.Buffer
	placed  int // how often they were told where they are
}

func newComer(t *testing.T, p pair, label, script string, input []byte) *comer {
	process := shell(script)
	process.Folder = p.folder
	return &comer{t: t, p: p, process: process, label: label, input: input, ends: true, out: map[steward.FrameKind]*bytes.Buffer{steward.Output: {}, steward.Errors: {}}}
}

// come connects, and goes on until the command has ended or most bytes came; most below 0
// is no bound. What is on its way then is lost with the connection.
func (c *comer) come(most int) (x steward.Exit, over bool) {
	c.t.Helper()
	conn := c.p.ask(c.t, steward.Request{Kind: steward.Run, ID: c.label, Typist: "t", Life: c.place.Life, From: c.place.At, Process: c.process})
	defer conn.Stream.Close()
	for got := 0; most < 0 || got < most; {
		k, p, err := conn.ReceiveFrame()
		if err != nil {
			c.t.Fatalf("%s: %v", c.label, err)
		}
		switch k {
		case steward.Placed:
			c.placed++
			var now steward.Place
			if err := json.Unmarshal(p, &now); err != nil || c.place.Life != "" && (now.Life != c.place.Life || now.At != c.place.At) {
				c.t.Fatalf("%s: placed at %s, at %+v before: %v", c.label, p, c.place, err)
			}
			c.place = now
			go func() { // what was not taken, again
				for rest := c.input[now.Taken:]; len(rest) > 0; {
					n := min(len(rest), 8<<10)
					if conn.SendFrame(steward.Input, rest[:n]) != nil {
						return
					}
					rest = rest[n:]
				}
				if c.ends {
					_ = conn.SendFrame(steward.NoMore, nil) // a broken one is come back to
				}
			}()
		case steward.Output, steward.Errors:
			c.out[k].Write(p)
			c.place.At += int64(len(p))
			got += len(p)
		case steward.Taken:
			if n, err := strconv.Atoi(string(p)); err != nil || n > len(c.input) {
				c.t.Fatalf("%s: %s bytes of %d were taken: %v", c.label, p, len(c.input), err)
			}
		case steward.Ended:
			if err := json.Unmarshal(p, &x); err != nil {
				c.t.Fatal(err)
			}
			return x, true
		}
	}
	return x, false
}

// However often a connection breaks, input and output of a command are whole and in order,
// and its exit is told, though it ended meanwhile.
func TestARunOutlastsItsConnection(t *testing.T) {
	p := newPair(t, nil)
	seed := uint64(time.Now().UnixNano())
	t.Logf("seed %d", seed)
	rnd := rand.New(rand.NewPCG(seed, 1))
	input := make([]byte, 700<<10)
	for i := range input {
		input[i] = byte(rnd.Uint32())
	}
	cat := newComer(t, p, "run-cat", "cat; exit 7", input)
	var x steward.Exit
	for over := false; !over; {
		x, over = cat.come(1 + rnd.IntN(100<<10))
	}
	if x.Code != 7 || !bytes.Equal(cat.out[steward.Output].Bytes(), input) || cat.placed < 3 {
		t.Errorf("after %d connections %d bytes of %d came, ended with %+v", cat.placed, cat.out[steward.Output].Len(), len(input), x)
	}
	both := newComer(t, p, "run-both", "i=0; while [ $i -lt 2000 ]; do echo out $i; echo err $i >&2; i=$((i+1)); done; exit 3", nil)
	for over := false; !over; {
		x, over = both.come(1 + rnd.IntN(4<<10))
	}
	var out, errs strings.Builder
	for i := range 2000 {
		fmt.Fprintf(&out, "out %d\n", i)
		fmt.Fprintf(&errs, "err %d\n", i)
	}
	if x.Code != 3 || both.out[steward.Output].String() != out.String() || both.out[steward.Errors].String() != errs.String() || both.placed < 3 {
		t.Errorf("after %d connections %d and %d bytes came, ended with %+v", both.placed, both.out[steward.Output].Len(), both.out[steward.Errors].Len(), x)
	}
	quick := newComer(t, p, "run-quick", "printf abc; sleep 0.2; printf def; exit 4", nil)
	if _, over := quick.come(3); over {
		t.Fatal("it ended at once")
	}
	waitFor(t, "it to end while nobody is there", func() bool {
		p.server.mu.Lock()
		defer p.server.mu.Unlock()
		return len(p.server.procs) == 0
	})
	if x, _ := quick.come(-1); x.Code != 4 || quick.out[steward.Output].String() != "abcdef" {
		t.Errorf("it printed %q and ended with %+v", quick.out[steward.Output], x)
	}
	if _, err := p.hub.Ask(t.Context(), id, steward.Request{Kind: steward.Run, ID: "run-quick", Typist: "t", Life: "another", Process: quick.process}); err == nil || !strings.Contains(err.Error(), "the command has ended") {
		t.Errorf("with the life of another it is come back to: %v", err)
	}
	if _, err := p.hub.Ask(t.Context(), id, steward.Request{Kind: steward.Run, ID: "run-quick", Typist: "t", Process: quick.process}); err == nil || !strings.Contains(err.Error(), "begun already") {
		t.Errorf("it is begun twice: %v", err)
	}
	none := newComer(t, p, "run-none", "", nil)
	none.process.Argv = []string{"no-such"}
	if x, _ := none.come(-1); x.Code != 127 || x.Problem == "" {
		t.Errorf("what there is not ended with %+v", x)
	}
	for i := range 2 * maxEnded { // no more is kept than so much
		if _, over := newComer(t, p, fmt.Sprint("run-", i), "echo", nil).come(-1); !over {
			t.Fatal("it did not end")
		}
	}
	waitFor(t, "the old ones to be forgotten", func() bool {
		p.server.lasting.mu.Lock()
		defer p.server.lasting.mu.Unlock()
		return len(p.server.lasting.all) <= maxEnded && len(p.server.lasting.ended) <= maxEnded
	})
}

// What nobody comes back to ends after a while, what prints much meanwhile waits, and what
// is not wanted any more ends at once, also where it leaves its input unread.
func TestARunThatNobodyComesBackTo(t *testing.T) {
	p := newPair(t, nil)
	runs := func() int {
		p.server.mu.Lock()
		defer p.server.mu.Unlock()
		return len(p.server.procs)
	}
	deaf := newComer(t, p, "run-deaf", "echo begun; exec sleep 600", make([]byte, 3<<20))
	conn := p.ask(t, steward.Request{Kind: steward.Run, ID: deaf.label, Typist: "t", Process: deaf.process})
	for sent := 0; sent < len(deaf.input); sent += 64 << 10 {
		if err := conn.SendFrame(steward.Input, deaf.input[sent:sent+64<<10]); err != nil {
			t.Fatal(err)
		}
	}
	waitFor(t, "it to run", func() bool { return runs() == 1 })
	if err := conn.SendFrame(steward.Leave, nil); err != nil {
		t.Fatal(err)
	}
	waitFor(t, "it to end by a word", func() bool { return runs() == 0 })
	goesOn := func(alone time.Duration) {
		p.server.lasting.mu.Lock()
		defer p.server.lasting.mu.Unlock()
		p.server.lasting.alone = alone
	}
	goesOn(300 * time.Millisecond)
	if _, over := newComer(t, p, "run-left", "echo begun; exec sleep 600", nil).come(1); over {
		t.Fatal("it ended at once")
	}
	waitFor(t, "it to end without a word", func() bool { return runs() == 0 })
	goesOn(time.Minute)
	loud := newComer(t, p, "run-loud", "i=0; while [ $i -lt 1000000 ]; do printf '%08d................................................\\n' $i; i=$((i+1)); done", nil)
	if _, over := loud.come(1); over {
		t.Fatal("it ended at once")
	}
	p.server.lasting.mu.Lock()
	l := p.server.lasting.all["run-loud"]
	p.server.lasting.mu.Unlock()
	ahead := func() int64 {
		l.mu.Lock()
		defer l.mu.Unlock()
		return l.ahead
	}
	waitFor(t, "it to have printed what is kept", func() bool { return ahead() >= partedOutput })
	time.Sleep(100 * time.Millisecond)
	if n := ahead(); n > partedOutput+1<<20 {
		t.Errorf("it printed %d bytes while nobody was there", n)
	}
	for range 3 {
		loud.come(3 << 20)
	}
	for i, line := range bytes.Split(loud.out[steward.Output].Bytes(), []byte("\n")) {
		if len(line) == 56 && !bytes.HasPrefix(line, fmt.Appendf(nil, "%08d", i)) {
			t.Fatalf("line %d is %s", i, line)
		}
	}
	l.giveUp()
	waitFor(t, "it to end", func() bool { return runs() == 0 })
}

// What was printed is whole however slowly it is taken, also where the command has ended
// meanwhile; a child that it left behind holds nobody up.
func TestOutputIsWholeHoweverSlow(t *testing.T) {
	p := newPair(t, nil)
	const all = 3_000_000
	for name, r := range map[string]steward.Request{"with its connection": {}, "one that outlasts it": {ID: "run-slow", Typist: "t"}} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			r.Kind, r.Process = steward.Run, shell(fmt.Sprintf("head -c %d /dev/zero; sleep 600 & exit 5", all))
			c := p.ask(t, r)
			got, slept := 0, false
			for {
				k, part, err := c.ReceiveFrame()
				if err != nil {
					t.Fatal(err)
				}
				switch k {
				case steward.Output:
					if got += len(part); got > all-1_250_000 && !slept { // the rest is on its way, and the command over
						time.Sleep(2 * heldMost)
						slept = true
					}
				case steward.Ended:
					if string(part) != `{"code":5}` || got != all || !slept {
						t.Errorf("it ended with %s after %d bytes of %d", part, got, all)
					}
					return
				}
			}
		})
	}
}
