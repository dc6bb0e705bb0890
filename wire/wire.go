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
	Type   string         `json:"type,omitempty" doc:"Which kind of problem: a URI of the form urn:yardbench:problem:KIND"`
	Title  string         `json:"title"`
	Status int            `json:"status"`
	Detail string         `json:"detail,omitempty" doc:"What happened, naming the thing"`
	Next   string         `json:"next,omitempty" doc:"What to do about it"`
	Errors []FieldProblem `json:"errors,omitempty"`
	Now    any            `json:"now,omitempty" doc:"With 412: how the thing stands now"`
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
	Field  string `json:"field"`
	Detail string `json:"detail"`
}

func (p *Problem) Error() string {
	s := p.Detail
	if s == "" {
		s = p.Title
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
