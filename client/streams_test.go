package client

import (
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
