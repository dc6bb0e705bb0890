package api

import (
	"net/http"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"yardbench/internal/service"
	"yardbench/wire"
)

// taggedOut is the answer of a thing that several people change, and which state
// of it this is (RFC 9110, 8.8.3).
type taggedOut[T any] struct {
	ETag string `header:"ETag" doc:"Another one where people have changed it: give it as If-Match with a change"`
	Body T
}

func tagOf(v any) string {
	if t, ok := v.(service.Tagged); ok {
		return `"` + t.Tag() + `"`
	}
	return "" // the header is left out
}

// matching says of an operation that changes a thing that it takes If-Match
// (RFC 9110, 13.1.1).
func matching(o huma.Operation) huma.Operation {
	most := 1000
	o.Parameters = append(o.Parameters, &huma.Param{Name: "If-Match", In: "header", Description: "The ETag that it had when you looked: where it is another now, nothing is changed, and the answer is 412 with how it stands", Schema: &huma.Schema{Type: huma.TypeString, MaxLength: &most}})
	o.Errors = append(o.Errors, http.StatusPreconditionFailed)
	return o
}

// matchTags reads If-Match: strong tags, or a star.
func matchTags(header string) (tags []string, bad *wire.Problem) {
	if header = strings.TrimSpace(header); header == "" {
		return nil, nil
	}
	if header == service.AnyTag {
		return []string{header}, nil
	}
	for t := range strings.SplitSeq(header, ",") {
		t = strings.TrimSpace(t)
		inner, opened := strings.CutPrefix(t, `"`)
		inner, closed := strings.CutSuffix(inner, `"`)
		if !opened || !closed || inner == "" || strings.Contains(inner, `"`) || len(header) > 1000 {
			return nil, &wire.Problem{Type: "urn:yardbench:problem:unfit-match", Title: http.StatusText(http.StatusUnprocessableEntity), Status: http.StatusUnprocessableEntity,
				Detail: "If-Match holds what is no strong tag", Next: "give the ETag as it was answered, with its quotation marks, or a star"}
		}
		tags = append(tags, inner)
	}
	return tags, nil
}
