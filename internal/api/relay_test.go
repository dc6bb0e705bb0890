package api

import (
	"bytes"
	"net"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/gorilla/websocket"

	"yardbench/internal/steward"
)

// relaying is a relay between a WebSocket that we hold and a steward that we are.
func relaying(t testing.TB, acknowledges bool) (ws *websocket.Conn, inside *steward.Conn, over <-chan struct{}) {
	t.Helper()
	return between(t, func(s *socket, r *http.Request, conn *steward.Conn) {
		s.relay(r.Context().Done(), conn, acknowledges, false)
	})
}

// between is something that stands between a WebSocket that we hold and a steward that
// we are.
func between(t testing.TB, stand func(*socket, *http.Request, *steward.Conn)) (ws *websocket.Conn, inside *steward.Conn, over <-chan struct{}) {
	t.Helper()
	ours, theirs := net.Pipe()
	ended := make(chan struct{})
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		defer close(ended)
		conn, err := upgrader.Upgrade(w, r, nil)
		if err != nil {
			t.Error(err)
			return
		}
		defer conn.Close()
		conn.SetReadLimit(maxBody)
		stand(&socket{ws: conn}, r, &steward.Conn{Stream: theirs})
		theirs.Close()
	}))
	t.Cleanup(server.Close)
	ws, _, err := websocket.DefaultDialer.Dial("ws"+strings.TrimPrefix(server.URL, "http"), nil)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { ws.Close(); ours.Close() })
	return ws, &steward.Conn{Stream: ours}, ended
}

// Whatever comes over a terminal's WebSocket: the steward hears of it what somebody
// may type, close or resize, to the letter and in its order, and nothing else; and
// the relay ends with its connection.
func FuzzTerminalMessages(f *testing.F) {
	f.Add([]byte("iecho\x00r{\"columns\":80}\x00c\x00a12\x00a-9223372036854775808\x00a9223372036854775807"))
	f.Add([]byte("\x00\x00o\x00x{}\x00p\x00i"))
	f.Add([]byte("a\x00A\x00i\xff\xfe\x00e"))
	f.Fuzz(func(t *testing.T, data []byte) {
		if len(data) > 4096 {
			return
		}
		messages := bytes.Split(data, []byte{0})
		if len(messages) > 50 {
			return
		}
		ws, inside, over := relaying(t, len(data)%2 == 0)
		heard := make(chan string, 100)
		go func() {
			defer close(heard)
			for {
				k, p, err := inside.ReceiveFrame()
				if err != nil {
					return
				}
				heard <- string(k) + string(p)
			}
		}()
		var want []string
		for i, m := range messages {
			kind := websocket.BinaryMessage
			if i%7 == 6 {
				kind = websocket.TextMessage // none of ours: it is passed over
			}
			if err := ws.WriteMessage(kind, m); err != nil {
				t.Fatal(err)
			}
			if kind == websocket.BinaryMessage && len(m) > 0 && strings.ContainsRune("icr", rune(m[0])) {
				want = append(want, string(m))
			}
		}
		for _, w := range want {
			select {
			case got := <-heard:
				if got != w {
					t.Fatalf("the steward hears %q, not %q", got, w)
				}
			case <-time.After(10 * time.Second):
				t.Fatalf("the steward does not hear %q", w)
			}
		}
		ws.Close()
		select {
		case <-over:
		case <-time.After(10 * time.Second):
			t.Fatal("the relay does not end")
		}
		inside.Stream.Close()
		for got := range heard {
			t.Fatalf("the steward hears %q besides", got)
		}
	})
}

// Output waits for who acknowledges it, whatever numbers they give, and a window of
// it is on its way at most.
func TestOutputWaitsForItsReader(t *testing.T) {
	ws, inside, _ := relaying(t, true)
	sent := make(chan int, 1000)
	go func() {
		block := bytes.Repeat([]byte("x"), 64<<10)
		for i := range 100 {
			if inside.SendFrame(steward.Output, block) != nil {
				return
			}
			sent <- i
		}
	}()
	receive := func(n int) {
		t.Helper()
		for range n {
			_ = ws.SetReadDeadline(time.Now().Add(10 * time.Second)) // a failure shows at the read
			if _, m, err := ws.ReadMessage(); err != nil || len(m) != 64<<10+1 {
				t.Fatalf("%d bytes, %v", len(m), err)
			}
		}
	}
	receive(8)
	time.Sleep(100 * time.Millisecond)
	if n := len(sent); n > 10 {
		t.Errorf("%d blocks are on their way to somebody who has taken none in", n)
	}
	for _, n := range []string{"-1", "rubbish", "", "99999999999999999999"} { // they make no room
		if err := ws.WriteMessage(websocket.BinaryMessage, []byte("a"+n)); err != nil {
			t.Fatal(err)
		}
	}
	time.Sleep(100 * time.Millisecond)
	if n := len(sent); n > 10 {
		t.Errorf("%d blocks came by numbers that are none", n)
	}
	if err := ws.WriteMessage(websocket.BinaryMessage, []byte("a131072")); err != nil {
		t.Fatal(err)
	}
	receive(2)
}

// What ends while somebody still types has its output and its exit code come to them.
func TestTheEndComesWhileSomebodyTypes(t *testing.T) {
	ws, inside, _ := relaying(t, false)
	go func() {
		_, _, _ = inside.ReceiveFrame() // it takes the first of what is typed, and ends
		_ = inside.SendFrame(steward.Output, []byte("out"))
		_ = inside.SendJSON(steward.Ended, steward.Exit{Code: 3})
		inside.Stream.Close()
	}()
	go func() {
		for ws.WriteMessage(websocket.BinaryMessage, []byte("iy")) == nil {
		}
	}()
	var all string
	for {
		_ = ws.SetReadDeadline(time.Now().Add(10 * time.Second)) // a failure shows at the read
		_, m, err := ws.ReadMessage()
		if err != nil {
			break
		}
		all += string(m)
	}
	if !strings.Contains(all, "oout") || !strings.Contains(all, `"code":3`) {
		t.Errorf("there came %q", all)
	}
}
