package test

import (
	"bytes"
	"context"
	"encoding/binary"
	"io"
	"net"
	"net/http"
	"strings"
	"testing"
	"time"

	"yardbench/internal/core/rules"
	"yardbench/wire"
)

// putRules puts other house rules in force: those a service begins with, and more.
func (w *world) putRules(add string) {
	w.t.Helper()
	astrid := w.client("astrid")
	now, err := astrid.Rules.Show(w.t.Context(), 0)
	if err == nil {
		_, err = astrid.Rules.Put(w.t.Context(), wire.RulesText{Document: rules.First + add, Reason: "a trial"}, now.Version)
	}
	if err != nil {
		w.t.Fatal(err)
	}
}

// A program of the demo that speaks gRPC is reached through its port's address, by
// people who are not signed in while it is public, and by nobody after that.
func TestHeightsByGRPC(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.putRules("\nports: {public_most: 1 h, look_links_most: 1 h}\n")
	w.must(w.as("ingrid", "", "launch", "tide-board", "--name", "quay"), 0, "is ready")
	inside := watch(t, w.client("ingrid"), "quay", wire.Run{Columns: 80, Rows: 24})
	inside.types("make serve\n")
	inside.until("the board", func(out, _ string) bool { return strings.Contains(out, "the heights on 8001") })
	w.must(w.as("ingrid", "", "port", "share", "quay", "8001", "--public"), 0, "anybody at all, until")
	port, err := w.client("ingrid").Ports.Show(t.Context(), "quay", 8001)
	if err != nil {
		t.Fatal(err)
	}
	second := &http.Protocols{}
	second.SetUnencryptedHTTP2(true)
	c := &http.Client{Timeout: slack * 20 * time.Second, Transport: &http.Transport{Protocols: second, DialContext: func(ctx context.Context, network, _ string) (net.Conn, error) {
		return (&net.Dialer{}).DialContext(ctx, network, strings.TrimPrefix(w.address, "http://"))
	}}}
	// One call by hand: a message is its length behind a zero byte (gRPC over HTTP/2).
	at := func(station string) (lines []string, status string, code int) {
		t.Helper()
		body := append(binary.BigEndian.AppendUint32([]byte{0}, uint32(len(station))), station...)
		r, err := http.NewRequestWithContext(t.Context(), http.MethodPost, port.Address+"/tides.Heights/At", bytes.NewReader(body))
		if err != nil {
			t.Fatal(err)
		}
		r.Header.Set("Content-Type", "application/grpc")
		r.Header.Set("TE", "trailers")
		res, err := c.Do(r)
		if err != nil {
			t.Fatal(err)
		}
		defer res.Body.Close()
		for res.Header.Get("Content-Type") == "application/grpc" {
			var head [5]byte
			if _, err := io.ReadFull(res.Body, head[:]); err != nil {
				break
			}
			text := make([]byte, binary.BigEndian.Uint32(head[1:]))
			if _, err := io.ReadFull(res.Body, text); err != nil {
				t.Fatal(err)
			}
			lines = append(lines, string(text))
		}
		return lines, res.Trailer.Get("Grpc-Status"), res.StatusCode
	}
	lines, status, _ := at("Ytre Skjer")
	for end := time.Now().Add(slack * 10 * time.Second); len(lines) == 0 && time.Now().Before(end); time.Sleep(200 * time.Millisecond) {
		lines, status, _ = at("Ytre Skjer")
	}
	if len(lines) != 24 || !strings.HasPrefix(lines[3], "03:00 ") || !strings.HasSuffix(lines[3], " cm") || status != "0" {
		t.Errorf("it says %q, and ends with %q", lines, status)
	}
	w.must(w.as("ingrid", "", "port", "keep-private", "quay", "8001"), 0, "only you")
	if lines, _, code := at("Ytre Skjer"); len(lines) != 0 || code != http.StatusUnauthorized {
		t.Errorf("private again it says %q, %d", lines, code)
	}

	// By a look link somebody sees the board, and what it is counted; other house rules
	// end that.
	made, err := w.client("ingrid").Ports.AddLookLink(t.Context(), "quay", wire.NewLookLink{Port: 8000})
	if err != nil {
		t.Fatal(err)
	}
	plain := &http.Client{Timeout: slack * 20 * time.Second, Transport: &http.Transport{DialContext: c.Transport.(*http.Transport).DialContext}, CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	get := func(address, cookie string) (*http.Response, string) {
		t.Helper()
		r, err := http.NewRequestWithContext(t.Context(), http.MethodGet, address, nil)
		if err != nil {
			t.Fatal(err)
		}
		r.Header.Set("Cookie", cookie)
		res, err := plain.Do(r)
		if err != nil {
			t.Fatal(err)
		}
		defer res.Body.Close()
		text, err := io.ReadAll(res.Body)
		if err != nil {
			t.Fatal(err)
		}
		return res, string(text)
	}
	res, _ := get(made.Address, "")
	if len(res.Cookies()) != 1 {
		t.Fatalf("the link is answered %d", res.StatusCode)
	}
	cookie := res.Cookies()[0].Name + "=" + res.Cookies()[0].Value
	page, _, _ := strings.Cut(made.Address, "/.yardbench")
	if _, text := get(page+"/", cookie); !strings.Contains(text, "Ytre Skjer") {
		t.Errorf("by the link they see %.300s", text)
	}
	w.must(w.as("ingrid", "", "look-link", "list", "quay"), 0, "8000", "1", "today")
	w.putRules("")
	if res, text := get(page+"/", cookie); res.StatusCode != http.StatusNotFound {
		t.Errorf("closed by the house rules they see %d %.300s", res.StatusCode, text)
	}
}
