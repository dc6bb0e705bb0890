package access

import (
	"fmt"
	"html"
	"log/slog"
	"net/http"
	"strconv"
	"strings"
	"time"

	"yardbench/internal/core/lifecycle"
	"yardbench/internal/service"
	"yardbench/wire"
)

// waits says why a port does not answer, to whoever visits it. A workspace that is
// stopped is started by its owner's visit; a page that may come to something looks
// again by itself.
func (p *Ports) waits(w http.ResponseWriter, r *http.Request, problem *wire.Problem) {
	v, ok := r.Context().Value(goalKey{}).(service.Visit)
	if !ok || r.Context().Err() != nil { // whoever asked has gone
		page(w, r, problem)
		return
	}
	v = p.Service.Ports.Now(r.Context(), v)
	if v.Stranger && !v.Wakes { // how the workspace is, is nothing to them
		w.Header().Set("Retry-After", "30")
		page(w, r, &wire.Problem{Status: http.StatusServiceUnavailable, Detail: "nothing answers here now", Next: "ask whoever showed you this address"})
		return
	}
	// A browser says so of a visit that somebody made (Fetch Metadata, 2.4).
	on, err := p.Service.Ports.Knock(r.Context(), v, r.Header.Get("Sec-Fetch-Mode") == "navigate" && r.Header.Get("Sec-Fetch-User") == "?1")
	again := 0
	switch told := wire.ProblemOf(err); {
	case told != nil && v.Stranger:
		problem = &wire.Problem{Status: http.StatusServiceUnavailable, Detail: "nothing answers here now", Next: "ask whoever showed you this address"}
	case told != nil:
		problem = told
	case err != nil:
		slog.Error("wake a workspace by a port", "error", err)
	case on && v.Workspace.Phase != lifecycle.Ready:
		again = 1
		problem = &wire.Problem{Status: http.StatusServiceUnavailable, Detail: v.Workspace.Name + " is being started", Next: "this page comes when it is ready"}
		if v.Stranger {
			problem.Detail = "what you came for is being started"
		}
		if sheet, err := p.Service.Ports.Coming(r.Context(), v); err == nil {
			problem.Next += steps(sheet)
		}
	case on:
		again = 3
		if others, err := p.Service.Ports.Listening(r.Context(), v); err == nil && len(others) > 0 {
			problem.Next = strings.TrimSpace(problem.Next + "\nwhat listens: " + strings.Join(others, "\n"))
		}
		problem.Next = strings.TrimSpace(problem.Next + "\nthis page looks again by itself")
	}
	if again > 0 {
		w.Header().Set("Retry-After", strconv.Itoa(again))
		if r.Method == http.MethodGet {
			w.Header().Set("Refresh", strconv.Itoa(again))
		}
	}
	page(w, r, problem)
}

// steps are those of a launch sheet, a line each, without their parts.
func steps(s wire.Sheet) string {
	var b strings.Builder
	for _, st := range s.Steps {
		if st.Parent != 0 {
			continue
		}
		mark, until := "now", time.Now()
		if st.EndedAt != nil {
			mark, until = st.Outcome, *st.EndedAt
		}
		fmt.Fprintf(&b, "\n%s: %s, %.1f s", st.Title, mark, until.Sub(st.StartedAt).Seconds())
	}
	if b.Len() == 0 {
		return ""
	}
	return "\n" + b.String()
}

// page says a problem to who visits a port: a page for people, else plain text.
func page(w http.ResponseWriter, r *http.Request, p *wire.Problem) {
	w.Header().Set("Cache-Control", "no-store")
	w.Header().Set("Content-Security-Policy", "default-src 'none'; style-src 'unsafe-inline'")
	if !strings.Contains(r.Header.Get("Accept"), "text/html") {
		w.Header().Set("Content-Type", "text/plain; charset=utf-8")
		w.WriteHeader(p.Status)
		fmt.Fprintf(w, "%s\n%s\n", p.Detail, p.Next)
		return
	}
	sheet(w, p.Status, fmt.Sprintf(`<p style="border-top:3px solid #c8501e;padding-top:1em;font-weight:650">%s</p><p style="white-space:pre-wrap">%s</p>`, html.EscapeString(p.Detail), html.EscapeString(p.Next)))
}

// askToOpen asks whether a link is to be opened, which counts.
func askToOpen(w http.ResponseWriter, r *http.Request, left int) {
	w.Header().Set("Cache-Control", "no-store")
	w.Header().Set("Content-Security-Policy", "default-src 'none'; style-src 'unsafe-inline'; form-action 'self'; frame-ancestors 'none'")
	times := "once more"
	if left > 1 {
		times = strconv.Itoa(left) + " times more"
	}
	sheet(w, http.StatusOK, fmt.Sprintf(`<p style="border-top:3px solid #1f6f78;padding-top:1em;font-weight:650">Somebody shows you a page</p>
<p>This link can be opened %s.</p>
<form method="post" action="%s"><button autofocus style="font:inherit;padding:.4em 1.2em;color:#fff;background:#1f6f78;border:0;border-radius:4px">Open it</button></form>`, times, html.EscapeString(r.URL.RequestURI())))
}

func sheet(w http.ResponseWriter, status int, body string) {
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	w.WriteHeader(status)
	fmt.Fprintf(w, `<!doctype html><title>Yard Bench</title><meta name="viewport" content="width=device-width">
<body style="margin:15vh auto;max-width:34em;padding:0 1em;font:16px/1.5 system-ui,sans-serif;background:#f7f5f0;color:#14293d">
%s`, body)
}
