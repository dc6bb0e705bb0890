// Package wire holds what both ends of the HTTP door say to each other: plain
// values with their JSON names. It touches nothing.
//
// Times are UTC in RFC 3339; names ending in _ms are milliseconds.
package wire

import (
	"net/http"
	"strconv"
)

// Problem is an answer that something was not done (RFC 9457), with what to
// do next as an extension.
type Problem struct {
	Type         string         `json:"type,omitempty" doc:"Which kind of problem: a URI of the form urn:yardbench:problem:KIND"`
	Title        string         `json:"title"`
	Status       int            `json:"status"`
	Detail       string         `json:"detail,omitempty" doc:"What happened, naming the thing"`
	Next         string         `json:"next,omitempty" doc:"What to do about it"`
	Errors       []FieldProblem `json:"errors,omitempty"`
	Actions      []Action       `json:"actions,omitempty" doc:"What may be done about it, the most useful first"`
	Limits       []LimitLine    `json:"limits,omitempty" doc:"With over-limit: those that it would go over"`
	RulesVersion int            `json:"rules_version,omitempty" doc:"The version of the house rules that it stands on"`
	Workspace    string         `json:"workspace,omitempty" doc:"The one that it is about, as NAME.OWNER"`
	Request      string         `json:"request,omitempty" doc:"Of a failure: what the service's log knows it by"`
	Output       string         `json:"output,omitempty" doc:"What a program said of it: git, a hook, the git host"`
	Now          any            `json:"now,omitempty" doc:"With 412: how the thing stands now"`
	// RetryAfterS is what stands in the header Retry-After; 0 is none, or with
	// 429 and 503 the usual.
	RetryAfterS int `json:"-"`
}

// usualRetryS is when to ask again where nobody knows better, in seconds.
const usualRetryS = 5

// GetHeaders are the header fields of the answer that a problem is.
func (p *Problem) GetHeaders() http.Header {
	h := http.Header{}
	after := p.RetryAfterS
	if after == 0 && (p.Status == http.StatusTooManyRequests || p.Status == http.StatusServiceUnavailable) {
		after = usualRetryS
	}
	if after > 0 {
		h.Set("Retry-After", strconv.Itoa(after))
	}
	return h
}

// FieldProblem is what is wrong with one field of a request.
type FieldProblem struct {
	Field  string `json:"field" doc:"A JSON Pointer (RFC 6901) into the body, the name of a parameter, or a place in a file"`
	Detail string `json:"detail"`
}

// Action is something that may be done about a problem.
type Action struct {
	Rel     string   `json:"rel" doc:"The operationId of what may be done, in the description of the door"`
	Subject string   `json:"subject,omitempty" doc:"What it is done to: what stands in its path"`
	With    []string `json:"with,omitempty" doc:"Parameters or members that are to be true"`
}

func (p *Problem) Error() string {
	s := p.Detail
	if s == "" {
		s = p.Title
	}
	for _, l := range p.Limits {
		s += "; " + l.Kind + ", " + l.Whose + ": " + l.Text
	}
	for _, e := range p.Errors {
		s += "; " + e.Field + ": " + e.Detail
	}
	if p.Next != "" {
		s += "\n" + p.Next
	}
	return s
}

// GetStatus is the HTTP status.
func (p *Problem) GetStatus() int { return p.Status }

// ContentType is the media type problems travel under (RFC 9457, 3).
func (p *Problem) ContentType(string) string { return "application/problem+json" }
