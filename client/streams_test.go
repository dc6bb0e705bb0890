package client

import (
	"fmt"
	"net/http"
	"net/http/httptest"
	"sync/atomic"
	"testing"
	"time"

	"github.com/gorilla/websocket"

	"yardbench/wire"
)

// A link that is dead is noticed; one on which nothing is said but that somebody is
// there is not taken for dead, nor one whose taker is slow.
func TestDeadLinks(t *testing.T) {
	var pings atomic.Bool
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		ws, err := (&websocket.Upgrader{}).Upgrade(w, r, nil)
		if err != nil {
			t.Error(err)
			return
		}
		defer ws.Close()
		_ = ws.WriteMessage(websocket.BinaryMessage, []byte("ohello"))
		_ = ws.WriteMessage(websocket.BinaryMessage, []byte("oagain"))
		for range 40 {
			if pings.Load() && ws.WriteControl(websocket.PingMessage, nil, time.Now().Add(time.Second)) != nil {
				return
			}
			time.Sleep(50 * time.Millisecond)
		}
		_ = ws.WriteMessage(websocket.BinaryMessage, []byte("olast"))
		_, _, _ = ws.ReadMessage() // until the other end goes
	}))
	defer server.Close()
	c, err := New(server.URL, "")
	if err != nil {
		t.Fatal(err)
	}
	c.silence = 300 * time.Millisecond
	for _, alive := range []bool{true, false} {
		pings.Store(alive)
		s, err := c.Workspaces.Open(t.Context(), "w", wire.Run{})
		if err != nil {
			t.Fatal(err)
		}
		var said []string
		began := time.Now()
		for {
			_, p, err := s.Receive()
			if err != nil {
				break
			}
			if said = append(said, string(p)); len(said) == 1 {
				time.Sleep(2 * c.silence) // a slow taker
			}
			if string(p) == "last" {
				break
			}
		}
		s.Close()
		want := map[bool]int{true: 3, false: 2}[alive]
		if took := time.Since(began); len(said) != want || took > 5*time.Second || !alive && took > 1500*time.Millisecond {
			t.Errorf("with pings %v it hears %q, and ends after %s", alive, said, took)
		}
	}
}

// A helper of an older release does not count what a command takes: all of the input gets
// there, without being kept to be sent again. One that counts is not sent more ahead than
// could be, and nothing waits for it when the session ends.
func TestInputOfACommand(t *testing.T) {
	const all = 5 << 20
	for name, counts := range map[string]bool{"it counts": true, "it does not": false} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			var got atomic.Int64
			var stuck atomic.Bool
			server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
				ws, err := (&websocket.Upgrader{}).Upgrade(w, r, nil)
				if err != nil {
					t.Error(err)
					return
				}
				defer ws.Close()
				_, _, _ = ws.ReadMessage() // what is to be run
				if counts {
					_ = ws.WriteMessage(websocket.BinaryMessage, []byte(`q{"life":"l","at":0,"taken":0}`))
				}
				for {
					_, m, err := ws.ReadMessage()
					if err != nil {
						return
					}
					if m[0] == 'c' {
						_ = ws.WriteMessage(websocket.BinaryMessage, []byte(`x{"code":0}`))
					} else if n := got.Add(int64(len(m) - 1)); counts && !stuck.Load() {
						_ = ws.WriteMessage(websocket.BinaryMessage, fmt.Appendf(nil, "k%d", n))
					}
				}
			}))
			defer server.Close()
			c, err := New(server.URL, "")
			if err != nil {
				t.Fatal(err)
			}
			open := func() *Session {
				s, err := c.Workspaces.Open(t.Context(), "w", wire.Run{Argv: []string{"cat"}})
				if err != nil {
					t.Fatal(err)
				}
				return s
			}
			send := func(s *Session) error {
				for range all / (32 << 10) {
					if err := s.Send('i', make([]byte, 32<<10)); err != nil {
						return err
					}
				}
				return s.Send('c', nil)
			}
			s := open()
			sent := make(chan error, 1)
			go func() { sent <- send(s) }()
			for {
				kind, _, err := s.Receive()
				if err != nil {
					t.Fatal(err)
				}
				if kind == 'x' {
					break
				}
			}
			if err := <-sent; err != nil || got.Load() != all {
				t.Errorf("%d bytes got there: %v", got.Load(), err)
			}
			s.Close()
			if !counts {
				return
			}
			stuck.Store(true)
			got.Store(0)
			s = open()
			go func() { sent <- send(s) }()
			go func() {
				for {
					if _, _, err := s.Receive(); err != nil {
						return
					}
				}
			}()
			time.Sleep(200 * time.Millisecond)
			if n := got.Load(); n > typedAhead {
				t.Errorf("%d bytes are sent ahead of what is taken", n)
			}
			s.Close()
			select {
			case err := <-sent:
				if err == nil {
					t.Error("all of it is said to be sent")
				}
			case <-time.After(10 * time.Second):
				t.Error("a session that has ended still waits")
			}
		})
	}
}
