package inside

import (
	"bytes"
	"encoding/json"
	"math/rand/v2"
	"strconv"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"yardbench/internal/steward"
)

// The newest is kept, byte for byte, and no more than there is room for.
func TestScrollback(t *testing.T) {
	var room atomic.Int64
	room.Store(scrollbackRoom)
	b, err := newScrollback(t.TempDir(), &room)
	if err != nil {
		t.Fatal(err)
	}
	random := rand.New(rand.NewPCG(1, 2))
	var all []byte
	for range 400 {
		p := make([]byte, random.IntN(64<<10))
		for i := range p {
			p[i] = byte(random.Uint32())
		}
		b.add(p)
		all = append(all, p...)
	}
	if b.next != int64(len(all)) || b.first != b.next-scrollbackBytes || scrollbackRoom-room.Load() != scrollbackBytes {
		t.Fatalf("it holds %d to %d of %d, and takes %d", b.first, b.next, len(all), scrollbackRoom-room.Load())
	}
	var got []byte
	buf := make([]byte, 100_000)
	for at := b.first; at < b.next; {
		n, err := b.read(buf, at)
		if err != nil {
			t.Fatal(err)
		}
		got = append(got, buf[:n]...)
		at += int64(n)
	}
	if !bytes.Equal(got, all[b.first:]) {
		t.Error("it is not what was printed")
	}
	if _, err := b.read(buf, b.first-1); err == nil {
		t.Error("what was forgotten is read")
	}
	room.Store(100)
	c, err := newScrollback(t.TempDir(), &room)
	if err != nil {
		t.Fatal(err)
	}
	c.add(make([]byte, 60))
	c.add(make([]byte, 60))
	if c.first != 120 || c.next != 120 || room.Load() != 100 {
		t.Errorf("without room it holds %d to %d, and %d is free", c.first, c.next, room.Load())
	}
}

// seat is somebody who looks at a terminal and comes back to it.
type seat struct {
	t     *testing.T
	c     *steward.Conn
	place steward.Place
	out   bytes.Buffer
}

// sit asks for a terminal, as one who counts.
func (p *pair) sit(t *testing.T, r steward.Request) *seat {
	t.Helper()
	r.Kind, r.ID, r.Typist, r.Columns, r.Rows = steward.Terminal, "main", "me", 80, 24
	if r.Process.Argv == nil {
		r.Process = steward.Process{Argv: []string{"/bin/sh"}, Folder: p.folder}
	}
	s := &seat{t: t, c: p.ask(t, r)}
	s.until("a place", func() bool { return s.place.Life != "" })
	return s
}

// until takes frames until something holds.
func (s *seat) until(what string, is func() bool) {
	s.t.Helper()
	late := time.AfterFunc(30*time.Second, func() { s.c.Stream.Close() })
	defer late.Stop()
	for !is() {
		k, p, err := s.c.ReceiveFrame()
		if err != nil {
			s.t.Fatalf("%s: %v; last %.300q", what, err, s.out.String()[max(0, s.out.Len()-300):])
		}
		switch k {
		case steward.Placed:
			if err := json.Unmarshal(p, &s.place); err != nil {
				s.t.Fatal(err)
			}
		case steward.Output:
			s.out.Write(p)
			s.place.At += int64(len(p))
		case steward.Taken:
			if s.place.Taken, err = strconv.ParseInt(string(p), 10, 64); err != nil {
				s.t.Fatal(err)
			}
		}
	}
}

func (s *seat) types(text string) {
	s.t.Helper()
	if err := s.c.SendFrame(steward.Input, []byte(text)); err != nil {
		s.t.Fatal(err)
	}
}

// Whoever comes back to a terminal gets what they missed, once, and knows what of
// their typing was taken.
func TestComingBackToATerminal(t *testing.T) {
	p := newPair(t, nil)
	s := p.sit(t, steward.Request{})
	s.types("stty -echo; PS1=; echo ready-$((40+2))\n")
	s.until("ready", func() bool { return strings.Contains(s.out.String(), "ready-42") })
	typed := s.place.Taken
	for range 20 {
		s.types("seq 1 20000; echo end-$((1+1))\n")
		want := s.out.Len() + 1000 // somewhere in the middle
		s.until("some of it", func() bool { return s.out.Len() > want })
		s.c.Stream.Close()
		back := p.sit(t, steward.Request{Life: s.place.Life, From: s.place.At})
		if back.place.At != s.place.At || back.place.Taken != typed+31 {
			t.Fatalf("it goes on at %d, not %d; %d of the input was taken", back.place.At, s.place.At, back.place.Taken)
		}
		typed = back.place.Taken
		back.out, s = s.out, back
		s.until("the end", func() bool { return bytes.HasSuffix(s.out.Bytes(), []byte("end-2\r\n")) })
		one := strings.ReplaceAll(s.out.String(), "\r", "")
		one = one[strings.Index(one, "ready-42\n")+9:]
		var want2 strings.Builder
		for i := 1; i <= 20000; i++ {
			want2.WriteString(strconv.Itoa(i) + "\n")
		}
		if got := strings.TrimSuffix(one, "end-2\n"); got != want2.String() {
			t.Fatalf("of %d bytes %d came", want2.Len(), len(got))
		}
		s.out.Reset()
		s.out.WriteString("ready-42\r\n")
	}
	// Of more than is kept the newest comes, and where it begins is said.
	s.types("head -c 20000000 /dev/zero | tr '\\0' x; echo; echo end-$((1+2))\n")
	s.until("the end", func() bool { return bytes.HasSuffix(s.out.Bytes(), []byte("end-3\r\n")) })
	fresh := p.sit(t, steward.Request{})
	first := fresh.place.At
	fresh.until("all that is kept", func() bool { return fresh.place.At == s.place.At })
	if fresh.out.Len() != scrollbackBytes || first != s.place.At-scrollbackBytes {
		t.Errorf("of 20 MB %d come, from %d on of %d", fresh.out.Len(), first, s.place.At)
	}
	// One that has ended is not opened anew for who comes back.
	s.types("exit\n")
	for { // its end
		if k, _, err := fresh.c.ReceiveFrame(); err != nil || k == steward.Ended {
			break
		}
	}
	for range 100 {
		if _, err := p.hub.Ask(t.Context(), id, steward.Request{Kind: steward.Terminal, ID: "main", Life: s.place.Life, Typist: "me", Process: shell("true")}); err != nil {
			if !strings.Contains(err.Error(), "has ended") {
				t.Errorf("coming back to it is %v", err)
			}
			return
		}
		time.Sleep(20 * time.Millisecond)
	}
	t.Error("what has ended is opened anew")
}
