package api

import (
	"encoding/json"
	"fmt"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/gorilla/websocket"

	"yardbench/internal/core/bench"
	"yardbench/internal/steward"
	"yardbench/wire"
)

// speaking is a program that is spoken with: we hold the editor's end, and are the
// steward that runs it.
func speaking(t *testing.T) (ws *websocket.Conn, inside *steward.Conn, over <-chan struct{}) {
	t.Helper()
	ws, inside, over = between(t, func(s *socket, r *http.Request, conn *steward.Conn) {
		if p := s.converse(r.Context(), conn); p != nil {
			s.refuse(p)
		}
	})
	_ = ws.SetReadDeadline(time.Now().Add(20 * time.Second)) // a failure shows at the read
	return ws, inside, over
}

func prints(t *testing.T, c *steward.Conn, k steward.FrameKind, text string) {
	t.Helper()
	if err := c.SendFrame(k, []byte(text)); err != nil {
		t.Error(err)
	}
}

// lastWord is the problem with which a conversation ends.
func lastWord(t *testing.T, ws *websocket.Conn) (p wire.Problem) {
	t.Helper()
	for {
		kind, body, err := ws.ReadMessage()
		if err != nil {
			t.Fatalf("it ends without a word: %v", err)
		}
		if kind == websocket.BinaryMessage {
			if body[0] != 'p' || json.Unmarshal(body[1:], &p) != nil {
				t.Fatalf("its last word is %q", body)
			}
			return p
		}
	}
}

// A message goes with its head one way and without it the other, in whatever pieces it
// comes; what a program says beside its messages is none.
func TestSpoken(t *testing.T) {
	t.Parallel()
	ws, inside, over := speaking(t)
	go func() {
		for _, m := range []string{`{"id":1}`, `{"id":"ö"}`} {
			_ = ws.WriteMessage(websocket.TextMessage, []byte(m)) // a failure shows at the other end
			_ = ws.WriteMessage(websocket.BinaryMessage, []byte("iquit"))
		}
	}()
	var heard string
	for !strings.HasSuffix(heard, `"ö"}`) {
		k, p, err := inside.ReceiveFrame()
		if err != nil || k != steward.Input {
			t.Fatalf("the program is sent %c %q, %v", k, p, err)
		}
		heard += string(p)
	}
	if want := bench.Head(8) + `{"id":1}` + bench.Head(11) + `{"id":"ö"}`; heard != want {
		t.Errorf("the program hears %q, not %q", heard, want)
	}
	go func() {
		text := bench.Head(2) + "{}" + bench.Head(6) + `{"a":}`
		prints(t, inside, steward.Errors, "warming up\n")
		for i := range text {
			prints(t, inside, steward.Output, text[i:i+1])
		}
		prints(t, inside, steward.Ended, `{"code":0}`)
	}()
	for _, want := range []string{"{}", `{"a":}`} {
		if kind, p, err := ws.ReadMessage(); err != nil || kind != websocket.TextMessage || string(p) != want {
			t.Errorf("the editor hears %d %q, %v, not %q", kind, p, err, want)
		}
	}
	if p := lastWord(t, ws); !strings.HasSuffix(p.Type, ":program-ended") || p.Detail != "the program ended with 0: warming up" {
		t.Errorf("it ends with %+v", p)
	}
	<-over
}

// However a program ends, whoever speaks with it is told why.
func TestSpokenEnds(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct {
		end          func(*steward.Conn)
		kind, detail string
	}{
		"it is not there": {func(c *steward.Conn) { prints(t, c, steward.Ended, `{"code":127}`) }, "not-found", "no program for this is in the workspace"},
		"it cannot begin": {func(c *steward.Conn) {
			prints(t, c, steward.Errors, "\x1b[31mno module\x1b[0m named tides\n\n")
			prints(t, c, steward.Ended, `{"code":127}`)
		}, "program-ended", "no module"},
		"in a message": {func(c *steward.Conn) {
			prints(t, c, steward.Output, bench.Head(50)+"{")
			prints(t, c, steward.Ended, `{"code":137}`)
		}, "program-ended", "the program ended with 137"},
		"with the workspace": {func(c *steward.Conn) { c.Stream.Close() }, "steward-away", "the workspace went away"},
		"it chats":           {func(c *steward.Conn) { prints(t, c, steward.Output, "Starting the server, please wait\n") }, "program-ended", "no message of the protocol"},
		"it boasts":          {func(c *steward.Conn) { prints(t, c, steward.Output, "Content-Length: 99999999999\r\n\r\n") }, "program-ended", "no message of the protocol"},
	} {
		ws, inside, over := speaking(t)
		go c.end(inside)
		if p := lastWord(t, ws); !strings.HasSuffix(p.Type, ":"+c.kind) || !strings.Contains(p.Detail, c.detail) || strings.ContainsRune(p.Detail, '\x1b') {
			t.Errorf("%s: it ends with %+v", name, p)
		}
		<-over
	}
	ws, inside, over := speaking(t)
	ws.Close()
	select {
	case <-over:
	case <-time.After(10 * time.Second):
		t.Error("an editor that has gone is waited for")
	}
	if _, _, err := inside.ReceiveFrame(); err == nil {
		t.Error("its program goes on")
	}
}

// A program that floods is held to what an editor can take.
func TestSpokenFlood(t *testing.T) {
	t.Parallel()
	ws, inside, _ := speaking(t)
	go func() {
		for n := 0; ; n++ {
			m := fmt.Sprintf(`{"n":%d}`, n)
			if inside.SendFrame(steward.Output, []byte(bench.Head(len(m))+m)) != nil {
				return
			}
		}
	}()
	began, messages := time.Now(), 0
	for time.Since(began) < 2500*time.Millisecond {
		if _, _, err := ws.ReadMessage(); err != nil {
			t.Fatal(err)
		}
		messages++
	}
	if most := 4 * (chatterMessages + 1); messages < chatterMessages || messages > most {
		t.Errorf("within 2.5 s it said %d messages, at most %d are let through", messages, most)
	}
}
