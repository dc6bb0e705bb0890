package record

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"io"
	"net"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"yardbench/internal/core/cast"
	"yardbench/internal/core/rules"
	"yardbench/internal/steward"
	"yardbench/internal/steward/outside"
	"yardbench/internal/store"
	"yardbench/internal/store/blank"
)

// terminal stands in for one in a workspace, and for the link to its steward.
type terminal struct {
	mu      sync.Mutex
	life    string
	printed []byte
	size    steward.Size
	over    bool
	on      []*steward.Conn
	asked   []steward.Request
	away    bool
}

func (x *terminal) Ask(_ context.Context, _ string, r steward.Request) (*steward.Conn, error) {
	x.mu.Lock()
	defer x.mu.Unlock()
	x.asked = append(x.asked, r)
	switch {
	case x.away:
		return nil, outside.ErrAway
	case x.over || r.Life != "" && r.Life != x.life:
		return nil, outside.Refused("the terminal has ended")
	}
	ours, theirs := net.Pipe()
	c := &steward.Conn{Stream: theirs}
	from := r.From
	if r.Life == "" {
		from = int64(len(x.printed))
	}
	missed := append([]byte(nil), x.printed[from:]...)
	x.on = append(x.on, c)
	go func() {
		x.mu.Lock()
		defer x.mu.Unlock()
		_ = c.SendJSON(steward.Placed, steward.Place{Life: x.life, At: from}) // whoever records may have gone, here and below
		_ = c.SendJSON(steward.Resize, x.size)
		if len(missed) > 0 {
			_ = c.SendFrame(steward.Output, missed)
		}
	}()
	return &steward.Conn{Stream: ours}, nil
}

func (x *terminal) prints(p []byte) {
	x.mu.Lock()
	defer x.mu.Unlock()
	x.printed = append(x.printed, p...)
	for _, c := range x.on {
		_ = c.SendFrame(steward.Output, p)
	}
}

func (x *terminal) breaks() {
	x.mu.Lock()
	defer x.mu.Unlock()
	for _, c := range x.on {
		c.Stream.Close()
	}
	x.on = nil
}

// house is a service that records, as often as it is started.
type house struct {
	t     *testing.T
	st    *store.Store
	dir   string
	term  *terminal
	rules rules.Terminals
	mu    sync.Mutex
	marks []bool
	w     store.Workspace
	most  int64
}

func newHouse(t *testing.T) *house {
	t.Helper()
	dir := t.TempDir()
	st := blank.Open(t, filepath.Join(dir, "a.db"), time.Now)
	h := &house{t: t, st: st, dir: filepath.Join(dir, "recordings"), term: &terminal{life: "a", size: steward.Size{Columns: 80, Rows: 24}}, rules: rules.Terminals{Recording: rules.RecordAsked, RecordingsMost: time.Hour}}
	h.w = store.Workspace{ID: "w", OwnerID: "p", Name: "quay", RepositoryID: "r", Phase: "ready", Wanted: "ready", Body: 1, Volume: 1, StewardToken: []byte{1}, PortKey: "k3v9x2abcd"}
	h.write(func(tx *store.Tx) error {
		if err := tx.AddPerson(t.Context(), store.Person{ID: "p", Name: "ingrid", Role: "developer", Email: "i@skerryline.example"}); err != nil {
			return err
		}
		if err := tx.AddRepository(t.Context(), store.Repository{ID: "r", Name: "tide-board"}); err != nil {
			return err
		}
		return tx.AddWorkspace(t.Context(), &h.w)
	})
	return h
}

func (h *house) write(do func(tx *store.Tx) error) {
	h.t.Helper()
	if err := h.st.Write(h.t.Context(), do); err != nil {
		h.t.Fatal(err)
	}
}

func (h *house) start() (r *Recorder, kill func()) {
	h.t.Helper()
	ctx, cancel := context.WithCancel(h.t.Context())
	r = &Recorder{Dir: h.dir, Store: h.st, Hub: h.term, Now: time.Now, Every: 50 * time.Millisecond, Most: h.most,
		Rules: func(context.Context) (rules.Rules, error) {
			h.mu.Lock()
			defer h.mu.Unlock()
			return rules.Rules{Terminals: h.rules}, nil
		},
		Told: func(_, _ string, on bool) {
			h.mu.Lock()
			defer h.mu.Unlock()
			h.marks = append(h.marks, on)
		}}
	if err := r.Run(ctx); err != nil {
		h.t.Fatal(err)
	}
	return r, func() { cancel(); h.term.breaks(); r.Wait() }
}

// shows is what a recording shows, and its marks.
func (h *house) shows(r *Recorder, rec store.Recording) (out string, marks []string) {
	h.t.Helper()
	f, err := r.Open(rec)
	if err != nil {
		return "", nil
	}
	defer f.Close()
	p, err := io.ReadAll(f)
	if err != nil || len(p) == 0 {
		return "", nil
	}
	_, err = cast.Read(bytes.NewReader(p), func(e cast.Event) error {
		switch e.Kind {
		case cast.Output:
			out += e.Text
		case cast.Mark:
			marks = append(marks, e.Text)
		}
		return nil
	})
	if err != nil {
		h.t.Fatalf("it is no recording: %v", err)
	}
	return out, marks
}

func (h *house) until(what string, is func() bool) {
	h.t.Helper()
	for end := time.Now().Add(30 * time.Second); !is(); time.Sleep(5 * time.Millisecond) {
		if time.Now().After(end) {
			h.t.Fatalf("never: %s", what)
		}
	}
}

// What is printed from its beginning on is recorded, once, whatever breaks meanwhile:
// the link, the service, a character in two.
func TestRecording(t *testing.T) {
	h := newHouse(t)
	h.term.prints([]byte("before\r\n"))
	r, kill := h.start()
	rec, err := r.Begin(t.Context(), h.w, "main", true, "p")
	if err != nil {
		t.Fatal(err)
	}
	if again, err := r.Begin(t.Context(), h.w, "main", true, "p"); err != nil || again.ID != rec.ID {
		t.Errorf("begun twice it is %+v, %v", again, err)
	}
	h.until("it looks, and notes that", func() bool {
		got, err := h.st.Read().Recording(t.Context(), rec.ID)
		return err == nil && got.Life == "a"
	})
	want := ""
	says := func(text string) { h.term.prints([]byte(text)); want += text }
	has := func(r *Recorder) func() bool { return func() bool { out, _ := h.shows(r, rec); return out == want } }
	says("high æ w")
	h.until("it", has(r))
	h.term.prints([]byte("\xc3"))
	h.term.breaks()
	h.term.prints([]byte("\xa6ter\r\n"))
	want += "æter\r\n"
	h.until("what came while the link was broken", has(r))
	// The service is killed at any moment; what is written beyond what was noted is
	// written again.
	for range 3 {
		h.term.prints([]byte("\xe2\x82"))
		kill()
		says("")
		h.term.prints([]byte("\xac and on "))
		want += "€ and on "
		r, kill = h.start()
		h.until("what came while the service was away", has(r))
		if !r.On("w", "main") {
			t.Fatal("it does not go on")
		}
	}
	// It ends with the terminal.
	h.term.mu.Lock()
	h.term.over = true
	h.term.mu.Unlock()
	h.term.breaks()
	h.until("its end", func() bool { return !r.On("w", "main") })
	got, err := h.st.Read().Recording(t.Context(), rec.ID)
	if err != nil || got.EndedAt == nil || got.Why != "the terminal has ended" || got.Place != int64(len(h.term.printed)) {
		t.Errorf("it ends as %+v, %v", got, err)
	}
	if out, marks := h.shows(r, rec); out != want || len(marks) != 0 {
		t.Errorf("it shows %q %q, not %q", out, marks, want)
	}
	h.mu.Lock()
	if n := len(h.marks); n == 0 || h.marks[n-1] {
		t.Errorf("its mark is told as %v", h.marks)
	}
	h.mu.Unlock()
	if err := r.Remove(t.Context(), got, func(*store.Tx) error { return nil }); err != nil {
		t.Error(err)
	}
	if _, err := r.Open(got); err == nil {
		t.Error("removed, its file is there")
	}
	kill()
}

// A terminal that floods is left out in part, which is marked; other house rules, and
// age, end what stood on them.
func TestBoundsOfRecordings(t *testing.T) {
	h := newHouse(t)
	h.rules.Recording = rules.RecordAlways
	r, kill := h.start()
	defer kill()
	rec, err := r.Begin(t.Context(), h.w, "main", false, "service")
	if err != nil {
		t.Fatal(err)
	}
	h.until("it looks", func() bool { return r.Progress(rec).Life == "a" })
	for range 2 * burst / (64 << 10) {
		h.term.prints(bytes.Repeat([]byte("x"), 64<<10))
	}
	time.Sleep(time.Second)
	h.term.prints([]byte("after"))
	h.until("what is after", func() bool { out, _ := h.shows(r, rec); return strings.HasSuffix(out, "after") })
	out, marks := h.shows(r, rec)
	if len(out) > burst+4*perSecond || len(marks) == 0 || !strings.Contains(marks[0], "left out") {
		t.Errorf("of %d bytes it has %d, marked %q", 2*burst, len(out), marks)
	}
	h.mu.Lock()
	h.rules.Recording = rules.RecordAsked
	h.mu.Unlock()
	h.until("its end by the house rules", func() bool { return !r.On("w", "main") })
	if got, err := h.st.Read().Recording(t.Context(), rec.ID); err != nil || got.EndedAt == nil || !strings.Contains(got.Why, "house rules") {
		t.Errorf("it ends as %+v, %v", got, err)
	}
	h.mu.Lock()
	h.rules.RecordingsMost = time.Nanosecond
	h.mu.Unlock()
	h.until("it is too old", func() bool {
		_, err := h.st.Read().Recording(t.Context(), rec.ID)
		return errors.Is(err, store.ErrNotFound)
	})
	if _, err := r.Open(rec); err == nil {
		t.Error("what is too old is there")
	}
}

// One of the house rules that is as long as one may be is gone on with in another,
// and nothing is lost between the two.
func TestRecordingInParts(t *testing.T) {
	h := newHouse(t)
	h.rules.Recording, h.most = rules.RecordAlways, 4000
	r, kill := h.start()
	defer kill()
	rec, err := r.Begin(t.Context(), h.w, "main", false, "service")
	if err != nil {
		t.Fatal(err)
	}
	h.until("it looks", func() bool { return r.Progress(rec).Life == "a" })
	for i := range 100 {
		h.term.prints(bytes.Repeat([]byte{byte('a' + i%26)}, 100))
	}
	h.until("all of it", func() bool {
		all, err := h.st.Read().RecordingsOf(t.Context(), "w")
		if err != nil {
			t.Fatal(err)
		}
		got := ""
		for _, x := range all {
			out, _ := h.shows(r, x)
			got += out
		}
		h.term.mu.Lock()
		defer h.term.mu.Unlock()
		return len(all) > 2 && got == string(h.term.printed)
	})
}

// A helper that lies breaks its own recording alone.
func TestHostileTerminal(t *testing.T) {
	for _, frames := range [][]byte{[]byte(`{"life":"` + strings.Repeat("x", 100) + `"}`), []byte(`{"life":"a","at":-1}`), []byte(`x`)} {
		tk := &task{r: &Recorder{Now: time.Now}}
		if why := tk.frame(steward.Placed, frames); why == "" {
			t.Errorf("%.40q is taken", frames)
		}
	}
	size, _ := json.Marshal(steward.Size{Columns: 1 << 30, Rows: 1})
	if why := (&task{r: &Recorder{}}).frame(steward.Resize, size); why == "" {
		t.Error("an absurd size is taken")
	}
}
